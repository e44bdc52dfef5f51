use pindrel_core::judging::facts::{EndpointKey, Fact, HostnameFacts, Ownership, ReplaceReason, ZoneView};
use rusqlite::Connection;

use super::*;
use crate::sql::{agenda, certificates, orders};
use crate::{
    Accounts as _, CertificateBook as _, HealthBook as _, Hostnames as _, Journal as _, Ledger as _, Runs as _,
    Values as _,
};
use crate::{Entry, JournalFilter, Moment};

fn at(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap()
}

fn state() -> (tempfile::TempDir, SqliteState) {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("state.sqlite"), Access::Change).unwrap();
    (folder, state)
}

#[test]
fn a_newer_schema_is_refused_and_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    drop(SqliteState::open(&path, Access::Change).unwrap());
    let connection = Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    let error = SqliteState::open(&path, Access::Change).err().unwrap();
    assert!(matches!(error, StateError::Newer { found: 99, .. }), "{error}");
    let version: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
    assert_eq!(version, 99);
}

/// Processes that begin at once all find a state, whichever of them makes it.
#[test]
fn several_that_open_a_new_state_at_once_all_can() {
    for round in 0..40 {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("state.sqlite");
        let opened: Vec<Result<(), String>> = std::thread::scope(|scope| {
            let open = || SqliteState::open(&path, Access::Change).map(drop).map_err(|error| format!("{error:?}"));
            let threads: Vec<_> = (0..4).map(|_| scope.spawn(open)).collect();
            threads.into_iter().map(|thread| thread.join().unwrap()).collect()
        });
        assert!(opened.iter().all(Result::is_ok), "round {round}: {opened:?}");
    }
}

#[test]
fn what_is_not_a_state_is_told_as_such_and_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let torn = folder.path().join("torn.sqlite");
    std::fs::write(&torn, b"this is no database, and long enough to be taken for one".repeat(100)).unwrap();
    let foreign = folder.path().join("foreign.sqlite");
    Connection::open(&foreign).unwrap().execute_batch("CREATE TABLE recipes (name TEXT)").unwrap();
    for (path, why) in [(&torn, "not a database"), (&foreign, "made by another program")] {
        let before = std::fs::read(path).unwrap();
        let error = SqliteState::open(path, Access::Change).err().unwrap();
        assert!(matches!(error, StateError::Foreign { .. }), "{error}");
        let says = error.to_string();
        assert!(says.contains(why) && says.contains(&path.display().to_string()), "{says}");
        assert_eq!(std::fs::read(path).unwrap(), before);
    }
    assert!(
        matches!(SqliteState::open(folder.path(), Access::Change).err().unwrap(), StateError::Open { .. }),
        "a folder"
    );
    let fifo = folder.path().join("fifo");
    nix::unistd::mkfifo(&fifo, nix::sys::stat::Mode::S_IRWXU).unwrap();
    assert!(
        matches!(SqliteState::open(&fifo, Access::Change).err().unwrap(), StateError::Open { .. }),
        "and no wait for a writer"
    );
    // A path is a path, also where it looks like the URI of a file with another mode.
    let uri = folder.path().join("file:x?mode=rwc");
    drop(SqliteState::open(&uri, Access::Change).unwrap());
    assert!(uri.is_file());
}

/// A state that schema 2 wrote in the sandbox: four hostnames held, one refused by its
/// endpoint, a renewal that the authority limited, a secondary that was silent.
#[tokio::test]
async fn a_state_of_schema_2_is_brought_over_with_what_it_holds() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/schema-2/state.sqlite"), &path).unwrap();
    let state = SqliteState::open(&path, Access::Change).unwrap();

    // What was written is known by its content from the first run on, wherever it is.
    let platform = EndpointKey::new(&"https://127.47.0.7:9443".parse().unwrap(), "catalogue");
    let api = state.hostname(&"api.larkfield.example".parse().unwrap()).await.unwrap().unwrap();
    let written = api.ownership.bindings.values().next().unwrap().made.clone().unwrap();
    let certificate = state.certificate("api.larkfield.example").await.unwrap().unwrap();
    assert_eq!((written.certificate, written.routes.len()), (Some(certificate.held.sha256), 2));
    assert!(api.ownership.wrote_binding(&platform, &written));
    let mut another = written;
    another.routes.pop();
    assert!(!api.ownership.wrote_binding(&platform, &another), "no longer whatever is there");
    assert!(api.ownership.alias.made.is_some());
    let trial = state.hostname(&"trial.larkfield.example".parse().unwrap()).await.unwrap();
    assert_eq!(trial, None, "nothing was written there");
    // What was seen is looked at again.
    assert!(!api.held && api.facts == Default::default());
    assert_eq!(state.hostname_summaries("", 10).await.unwrap(), []);
    let zone: Option<Fact<ZoneView>> = state.zone(&"larkfield.example".parse().unwrap()).await.unwrap();
    assert_eq!(zone, None);

    let plates = state.certificate("plates.larkfield.example").await.unwrap().unwrap();
    assert!(matches!(plates.held.replace, Some(ReplaceReason::Requested(_))), "{:?}", plates.held.replace);
    let directory = &plates.held.authority;
    assert!(state.account(directory).await.unwrap().unwrap().url.is_some());
    let limit = state.rate_limit(directory, "plates.larkfield.example").await.unwrap().unwrap();
    assert!(limit.says.contains("too many orders"), "{limit:?}");
    let far = Timestamp::MAX.checked_sub(jiff::SignedDuration::from_hours(24)).unwrap();
    assert_eq!(state.due_certificates(far).await.unwrap().len(), 4);
    let last = state.last_order("plates.larkfield.example").await.unwrap().unwrap();
    assert!(last.says.unwrap().contains("rateLimited"));
    assert!(state.value("sealing-check").await.unwrap().is_some());
    let filter = JournalFilter { most: 1_000, moment: Some(Moment::Done), ..JournalFilter::default() };
    assert!(state.journal_entries(&filter).await.unwrap().len() > 40, "what ended is told as done");
    // And a second time nothing changes.
    drop(state);
    let again = SqliteState::open(&path, Access::Change).unwrap();
    assert_eq!(again.hostname(&api.hostname).await.unwrap().unwrap(), api);
}

#[tokio::test]
async fn every_reason_of_schema_2_to_replace_a_certificate_is_understood() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    let old = migrate::at_version(Connection::open(&path).unwrap(), 2);
    for (number, why) in
        [(1, "'it was revoked'"), (2, "'its key was compromised'"), (3, "'a new one was asked for'"), (4, "NULL")]
    {
        let insert = format!(
            "INSERT INTO certificates (name, present, sha256, names, authority, not_before, not_after, chain, key_id, key, replace_why)
             VALUES ('c{number}', 1, printf('%064d', {number}), '[\"api.larkfield.example\"]', 'https://a.example/d', 0, 900, 'pem', 'k', x'00', {why})"
        );
        old.execute_batch(&insert).unwrap();
    }
    drop(old);
    let state = SqliteState::open(&path, Access::Change).unwrap();
    let reasons: Vec<_> = state.certificates().await.unwrap().into_iter().map(|row| row.held.replace).collect();
    assert_eq!(reasons[..2], [Some(ReplaceReason::Revoked), Some(ReplaceReason::KeyCompromised)]);
    assert!(matches!(reasons[2], Some(ReplaceReason::Requested(_))) && reasons[3].is_none());
}

#[tokio::test]
async fn only_what_a_look_would_find_again_does_not_wait_for_the_disk() {
    let (folder, state) = state();
    let waits = async || {
        let connection = state.database.connection.lock().await;
        connection.query_row("PRAGMA synchronous", [], |row| row.get::<_, i64>(0)).unwrap()
    };
    for (moment, synchronous) in [(Moment::Begun, 2), (Moment::Done, 1), (Moment::Begun, 2), (Moment::Failed, 1)] {
        let entry = Entry { at: at(1), moment, action: "store".into(), subject: "api".into(), detail: String::new() };
        state.journal(&entry, None).await.unwrap();
        assert_eq!(waits().await, synchronous, "{moment:?}");
    }
    // Another process sees all of it at once.
    let other = Connection::open(folder.path().join("state.sqlite")).unwrap();
    let moments: String =
        other.query_row("SELECT group_concat(moment, ' ') FROM journal", [], |row| row.get(0)).unwrap();
    assert_eq!(moments, "begun done begun failed");
}

#[tokio::test]
async fn what_there_is_to_do_is_found_by_an_index() {
    let (_folder, state) = state();
    let plan = async |sql: &str, params: &[i64]| {
        let connection = state.database.connection.lock().await;
        let params = rusqlite::params_from_iter(params);
        let explain = format!("EXPLAIN QUERY PLAN {sql}");
        connection.query_row(&explain, params, |row| row.get::<_, String>("detail")).unwrap()
    };
    let due = plan(certificates::DUE, &[0]).await;
    assert!(due.contains("USING INDEX next_certificate"), "{due}");
    let agenda = plan(agenda::DUE, &[0, 0, 0, 9]).await;
    assert!(agenda.contains("USING INDEX agenda_by_time"), "{agenda}");
    let open = plan(&format!("SELECT key FROM orders WHERE {}", orders::OPEN), &[]).await;
    assert!(open.contains("USING INDEX open_order"), "{open}");
}

#[tokio::test]
async fn a_corrupt_row_is_told_with_its_table_and_not_taken_for_anything() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/schema-2/state.sqlite"), &path).unwrap();
    let state = SqliteState::open(&path, Access::Change).unwrap();
    let other = Connection::open(&path).unwrap();
    for (column, value) in [
        ("names", "'[3]'"),
        ("origin", "'nobody'"),
        ("key_kind", "'dsa'"),
        ("sha256", "'short'"),
        ("renewal_window", "'{}'"),
        ("replace_why", "'why not'"),
        ("not_after", "9223372036854775807"),
    ] {
        let good: rusqlite::types::Value = other
            .query_row(&format!("SELECT {column} FROM certificates WHERE name = 'stations'"), [], |row| row.get(0))
            .unwrap();
        let update = |value: &str| format!("UPDATE certificates SET {column} = {value} WHERE name = 'stations'");
        other.execute(&update(value), []).unwrap();
        let error = state.certificate("stations").await.unwrap_err();
        assert!(matches!(error, StateError::Corrupt { table: "certificates", .. }), "{column}: {error}");
        other.execute(&update("?1"), [good]).unwrap();
    }
    assert!(state.certificate("stations").await.unwrap().is_some());
}

/// Whoever asked for a write may be gone before it ends: a transaction is whole or undone, and
/// the connection can be used on.
#[tokio::test]
async fn what_is_given_up_half_way_leaves_no_transaction_open() {
    let (_folder, state) = state();
    for _ in 0..50 {
        let session = state.database.begin("test").await.unwrap();
        drop(session);
        let spending = state.spend("a", &[], &[], false, at(1));
        let _ = tokio::time::timeout(Duration::from_micros(30), spending).await;
    }
    let connection = state.database.connection.lock().await;
    assert!(connection.is_autocommit());
}

/// A state that schema 6 wrote in the sandbox: five hostnames held, one endpoint taken out of answers.
#[tokio::test]
async fn a_state_of_schema_6_is_brought_over_with_each_thing_in_its_row() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/schema-6/state.sqlite"), &path).unwrap();
    let old = Connection::open(&path).unwrap();
    let mut rows = old.prepare("SELECT hostname, facts, ours FROM hostname_facts ORDER BY hostname").unwrap();
    let before: Vec<(String, HostnameFacts, Ownership)> = rows
        .query_map([], |row| Ok((row.get(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?)))
        .unwrap()
        .map(|row| row.unwrap())
        .map(|(name, facts, ours)| (name, serde_json::from_str(&facts).unwrap(), serde_json::from_str(&ours).unwrap()))
        .collect();
    drop(rows);
    drop(old);

    let state = SqliteState::open(&path, Access::Change).unwrap();
    assert_eq!(before.len(), 5);
    for (name, facts, ownership) in before {
        let row = state.hostname(&name.parse().unwrap()).await.unwrap().unwrap();
        assert!(row.held && !ownership.is_empty() && !facts.bindings.is_empty(), "{name}");
        assert_eq!((row.facts, row.ownership), (facts, ownership), "{name}");
    }
    assert_eq!(state.certificates().await.unwrap().len(), 5);
    assert_eq!(state.endpoint_holds().await.unwrap().len(), 1);
    let (runs, changes) = (state.runs(9).await.unwrap(), state.run_changes(1, 9).await.unwrap());
    assert_eq!((runs.len(), runs[0].id, runs[0].changes, changes.len()), (1, 1, 5, 5));
    assert_eq!(state.begin_run(at(1), "settle").await.unwrap(), 2);
}

/// A state that schema 7 wrote in the demo: seven hostnames, eight certificates that serve, six runs.
#[tokio::test]
async fn a_state_of_schema_7_is_brought_over_and_keeps_nothing_back() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::copy(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/schema-7/state.sqlite"), &path).unwrap();
    let state = SqliteState::open(&path, Access::Change).unwrap();
    assert_eq!(state.kept_back().await.unwrap(), []);
    let api = state.hostname(&"api.larkfield.example".parse().unwrap()).await.unwrap().unwrap();
    assert!(!api.ownership.is_empty() && !api.facts.bindings.is_empty());
    assert_eq!((state.certificates().await.unwrap().len(), state.runs(9).await.unwrap().len()), (8, 6));
}
