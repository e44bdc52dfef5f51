use jiff::SignedDuration;
use pindrel_core::budget::{Per, Spending};
use pindrel_core::facts::{HeldCertificate, Origin};
use pindrel_core::renewal::RenewalWindow;
use pindrel_core::values::{Fingerprint, KeyKind};

use super::*;
use crate::{CertificateBook as _, CertificateRow, Ledger as _, SpendingRow};

fn at(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap()
}

fn row(name: &str, seed: &[u8], renew_at: i64) -> CertificateRow {
    let held = HeldCertificate {
        sha256: Fingerprint::of(seed),
        names: vec!["api.larkfield.example".parse().unwrap()],
        origin: Origin::Authority,
        authority: "https://authority.example/directory".into(),
        key: Some(KeyKind::EcdsaP256),
        not_before: at(1_000),
        not_after: at(2_000),
        renewal_id: None,
        window: None,
        replace: None,
    };
    let key = SealedBytes { key_id: "k".into(), bytes: vec![1, 2, 3] };
    CertificateRow {
        name: name.into(),
        held,
        chain: "pem".into(),
        key,
        renew_at: at(renew_at),
        kept: at(1_000),
        revoked: None,
        revoking: None,
    }
}

#[test]
fn a_newer_schema_is_refused_and_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    drop(SqliteState::open(&path).unwrap());
    let connection = Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    let error = SqliteState::open(&path).err().unwrap();
    assert!(matches!(error, StateError::Newer { found: 99, .. }), "{error}");
    let version: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
    assert_eq!(version, 99);
}

#[test]
fn a_torn_file_is_an_error_that_names_it_and_is_not_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::write(&path, b"this is no database, and long enough to be taken for one".repeat(100)).unwrap();
    let before = std::fs::read(&path).unwrap();
    let error = SqliteState::open(&path).err().unwrap();
    assert!(error.to_string().contains("state.sqlite"), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

#[test]
fn a_new_certificate_takes_the_place_of_the_old_one_and_ends_its_order() {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("sub/state.sqlite")).unwrap();
    let key = SealedBytes { key_id: "k".into(), bytes: vec![1, 2, 3] };
    let order = OrderRow {
        id: 0,
        certificate: "api".into(),
        authority: "https://authority.example/directory".into(),
        names: vec!["api.larkfield.example".parse().unwrap()],
        url: None,
        phase: OrderPhase::Asked,
        key: key.clone(),
        begun: at(1_000),
        replaces: None,
        says: None,
    };
    let id = state.keep_order(&order).unwrap();
    let open = OrderRow { id, url: Some("https://authority.example/order/1".into()), phase: OrderPhase::Open, ..order };
    assert_eq!(state.keep_order(&open).unwrap(), id);
    assert_eq!(state.open_order("api").unwrap(), Some(open.clone()));
    assert_eq!(state.open_orders().unwrap(), std::slice::from_ref(&open));
    assert!(state.knows_order(&open.authority, open.url.as_deref().unwrap()).unwrap());

    let record = ChallengeRecord { name: "_acme-challenge.api.larkfield.example".parse().unwrap(), text: "t".into() };
    let left = ChallengeRow { zone: "larkfield.example".parse().unwrap(), record };
    state.note_challenge_records(id, std::slice::from_ref(&left)).unwrap();
    assert_eq!(state.standing_challenge_records(None).unwrap(), [], "the order is still open");

    for byte in [b"first", b"again"] {
        let row = row("api", byte, 1_600);
        state.keep_certificate(&row, id).unwrap();
        assert_eq!(state.certificate("api").unwrap(), Some(row));
    }
    assert_eq!((state.open_order("api").unwrap(), state.open_orders().unwrap()), (None, vec![]));
    assert_eq!(state.standing_challenge_records(None).unwrap(), std::slice::from_ref(&left));
    state.forget_challenge_records(&[&left]).unwrap();
    assert_eq!(state.standing_challenge_records(None).unwrap(), []);

    // What comes from elsewhere leaves nothing to go on with.
    let put_off = OrderRow { id: 0, url: None, ..open };
    let id = state.keep_order(&put_off).unwrap();
    state.note_challenge_records(id, std::slice::from_ref(&left)).unwrap();
    state.keep_certificate(&row("api", b"adopted", 1_700), 0).unwrap();
    assert_eq!(state.open_orders().unwrap(), []);
    assert_eq!(state.standing_challenge_records(None).unwrap(), std::slice::from_ref(&left));
}

#[test]
fn only_what_a_look_would_find_again_does_not_wait_for_the_disk() {
    const FULL: i64 = 2;
    let (folder, state) = state();
    let waits = || state.connection().query_row("PRAGMA synchronous", [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(waits(), FULL);
    let entry = |moment| Entry { at: at(1), moment, action: "store", subject: "api".into(), detail: String::new() };
    for moment in [Moment::Begun, Moment::Ended, Moment::Begun, Moment::Failed] {
        state.journal(&entry(moment)).unwrap();
        assert_eq!(waits(), FULL, "the next write waits again");
    }
    {
        let unsynced = state.unsynced("look").unwrap();
        let normal: i64 = unsynced.0.query_row("PRAGMA synchronous", [], |row| row.get(0)).unwrap();
        assert_eq!(normal, 1);
    }
    // Another process sees all of it at once.
    let other = Connection::open(folder.path().join("state.sqlite")).unwrap();
    let moments: String =
        other.query_row("SELECT group_concat(moment, ' ') FROM journal", [], |row| row.get(0)).unwrap();
    assert_eq!(moments, "begun ended begun failed");
    // A write that fails leaves the next one waiting too.
    other.execute("DROP TABLE endpoints", []).unwrap();
    let gone = Fact { seen: at(1), value: EndpointView::Unreachable { why: "gone".into() } };
    assert!(state.keep_endpoint("https://platform.example", "catalogue", &gone).is_err());
    assert_eq!(waits(), FULL);
}

#[test]
fn only_what_there_is_to_do_is_read_and_by_an_index() {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("state.sqlite")).unwrap();
    for (name, renew_at) in [("due", 500), ("later", 5_000), ("asked", 5_000)] {
        state.keep_certificate(&row(name, name.as_bytes(), renew_at), 0).unwrap();
    }
    let mut asked = state.certificate("asked").unwrap().unwrap();
    let look_again = at(900);
    asked.held.window = Some(RenewalWindow { start: at(4_000), end: at(6_000), explanation: None, look_again });
    state.update_certificate(&asked).unwrap();
    assert_eq!(state.certificate("asked").unwrap(), Some(asked));
    assert_eq!(state.certificates_to_see_to(at(800)).unwrap(), ["due"]);
    assert_eq!(state.certificates_to_see_to(at(900)).unwrap(), ["due", "asked"]);
    // A former certificate is nothing to see to.
    state.keep_certificate(&row("due", b"renewed", 5_000), 0).unwrap();
    assert_eq!(state.certificates_to_see_to(at(900)).unwrap(), ["asked"]);
    assert_eq!(state.certificate_history("due").unwrap().len(), 2);

    let plan = |sql: &str, params: &[i64]| {
        let params = rusqlite::params_from_iter(params);
        let explain = format!("EXPLAIN QUERY PLAN {sql}");
        state.connection().query_row(&explain, params, |row| row.get::<_, String>("detail")).unwrap()
    };
    let due = plan(TO_SEE_TO, &[0]);
    assert!(due.contains("USING INDEX next_certificate"), "{due}");
    let open = plan(&format!("SELECT key FROM orders WHERE {OPEN_ORDERS}"), &[]);
    assert!(open.contains("USING INDEX open_order"), "{open}");
}

#[test]
fn a_state_of_version_one_is_brought_further_with_what_it_holds() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    let old = Connection::open(&path).unwrap();
    old.execute_batch(MIGRATIONS[0]).unwrap();
    old.execute_batch(
        "INSERT INTO certificates VALUES (1, 'api', 1, printf('%064d', 1), '[\"api.larkfield.example\"]', 'https://a.example/d', 0, 900, 'pem', 'k', x'00');
         INSERT INTO accounts VALUES ('https://a.example/d', 'k', x'00', 'https://a.example/1', NULL);
         PRAGMA user_version = 1;",
    )
    .unwrap();
    drop(old);
    let state = SqliteState::open(&path).unwrap();
    let row = state.certificate("api").unwrap().unwrap();
    assert_eq!((row.renew_at, row.held.origin, row.held.key), (at(600), Origin::Authority, Some(KeyKind::EcdsaP256)));
    let account = state.account("https://a.example/d").unwrap().unwrap();
    assert_eq!((account.url.as_deref(), account.next_key), (Some("https://a.example/1"), None));
}

#[test]
fn what_is_spent_counts_for_its_subject_and_can_be_taken_back() {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("state.sqlite")).unwrap();
    let authority = "https://authority.example/directory";
    let spend = |subject: &str, seconds: i64, order: i64| SpendingRow {
        authority: authority.into(),
        of: Spending::Certificate,
        per: Per::RegisteredDomain,
        subject: subject.into(),
        at: at(seconds),
        order,
    };
    state
        .spend(&[spend("larkfield.example", 10, 1), spend("other.example", 20, 1), spend("larkfield.example", 30, 2)])
        .unwrap();
    let spent = |since| {
        state.spent(authority, Spending::Certificate, Per::RegisteredDomain, "larkfield.example", at(since)).unwrap()
    };
    assert_eq!((spent(0).len(), spent(10).len()), (2, 1));
    state.unspend(2, Spending::Certificate).unwrap();
    assert_eq!(spent(0), [at(10)]);
    state.forget_spent(at(0).checked_add(SignedDuration::from_secs(15)).unwrap()).unwrap();
    assert_eq!(spent(0), []);
}

fn state() -> (tempfile::TempDir, SqliteState) {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("state.sqlite")).unwrap();
    (folder, state)
}

#[test]
fn an_account_keeps_both_its_keys_until_one_is_taken_away() {
    let (_folder, state) = state();
    let key = |byte: u8| SealedBytes { key_id: format!("k{byte}"), bytes: vec![byte; 4] };
    let mut account = AccountRow {
        authority: "https://authority.example/directory".into(),
        key: key(1),
        url: Some("https://authority.example/account/1".into()),
        orders: None,
        status: AccountStatus::Valid,
        contact: vec!["mailto:tls@larkfield.example".into(), "mailto:night@larkfield.example".into()],
        terms: Some("https://authority.example/terms/1".into()),
        next_key: Some(key(2)),
    };
    for (next_key, status) in
        [(Some(key(2)), AccountStatus::Valid), (None, AccountStatus::Deactivated), (None, AccountStatus::Revoked)]
    {
        (account.next_key, account.status) = (next_key, status);
        state.keep_account(&account).unwrap();
        assert_eq!(state.account(&account.authority).unwrap().as_ref(), Some(&account));
    }
    assert_eq!(state.account("https://other.example/").unwrap(), None);
}

#[test]
fn how_commands_went_and_what_waits_is_kept_for_each_certificate() {
    let (_folder, state) = state();
    let run = |command: &str, ended_well: bool| crate::CommandRun {
        certificate: "edge".into(),
        command: command.into(),
        sha256: Fingerprint::of(b"leaf"),
        at: at(100),
        ended_well,
        says: (!ended_well).then(|| "exit status 1".into()),
    };
    state.keep_command_run(&run("reload", false)).unwrap();
    state.keep_command_run(&run("notify", true)).unwrap();
    state.keep_command_run(&run("reload", true)).unwrap();
    let mut runs = state.command_runs("edge").unwrap();
    runs.sort_by(|one, other| one.command.cmp(&other.command));
    assert_eq!(runs, [run("notify", true), run("reload", true)]);
    assert_eq!(state.command_runs("other").unwrap(), []);

    let request = |second: i64| crate::SigningRequestRow {
        certificate: "edge".into(),
        names: vec!["edge.larkfield.example".parse().unwrap()],
        at: at(second),
        key: SealedBytes { key_id: "k".into(), bytes: vec![7] },
    };
    state.keep_signing_request(&request(1)).unwrap();
    state.keep_signing_request(&request(2)).unwrap();
    assert_eq!(state.signing_request("edge").unwrap(), Some(request(2)));
    state.forget_signing_request("edge").unwrap();
    assert_eq!(state.signing_request("edge").unwrap(), None);
}

#[test]
fn an_authoritys_wish_and_a_proven_set_up_are_remembered() {
    let (_folder, state) = state();
    let hold = |until: i64| crate::Hold { until: at(until), says: "too many orders".into() };
    assert_eq!(state.hold("a", "edge").unwrap(), None);
    state.keep_hold("a", "edge", &hold(10)).unwrap();
    state.keep_hold("a", "edge", &hold(20)).unwrap();
    assert_eq!(state.hold("a", "edge").unwrap(), Some(hold(20)));
    assert_eq!((state.hold("b", "edge").unwrap(), state.hold("a", "other").unwrap()), (None, None));
    assert!(!state.is_rehearsed("main | larkfield.example").unwrap());
    state.keep_rehearsed("main | larkfield.example", at(5)).unwrap();
    assert!(state.is_rehearsed("main | larkfield.example").unwrap());
}

#[test]
fn the_last_order_tells_how_it_ended_and_a_revocation_stays_until_it_is_confirmed() {
    let (_folder, state) = state();
    let mut order = OrderRow {
        id: 0,
        certificate: "edge".into(),
        authority: "a".into(),
        names: vec!["edge.larkfield.example".parse().unwrap()],
        url: None,
        phase: OrderPhase::Asked,
        key: SealedBytes { key_id: "k".into(), bytes: vec![1] },
        begun: at(50),
        replaces: Some("aYhb.AIdl".into()),
        says: None,
    };
    order.id = state.keep_order(&order).unwrap();
    let end = state.last_order("edge").unwrap().unwrap();
    assert_eq!((end.phase, end.at, end.says), (OrderPhase::Asked, at(50), None));
    (order.phase, order.says) = (OrderPhase::Failed, Some("could not validate".into()));
    state.keep_order(&order).unwrap();
    let end = state.last_order("edge").unwrap().unwrap();
    assert_eq!((end.phase, end.says.as_deref()), (OrderPhase::Failed, Some("could not validate")));
    assert_eq!(state.open_order("edge").unwrap(), None);

    let mut kept = row("edge", b"first", 1_600);
    state.keep_certificate(&kept, 0).unwrap();
    kept.revoking = Some(1);
    kept.held.replace = Some("its key was compromised".into());
    state.update_certificate(&kept).unwrap();
    // Another one takes its place, and it is still to be revoked.
    state.keep_certificate(&row("edge", b"second", 1_600), 0).unwrap();
    assert_eq!(state.certificates_to_revoke().unwrap(), [kept.clone()]);
    (kept.revoking, kept.revoked) = (None, Some(at(1_700)));
    state.update_certificate(&kept).unwrap();
    assert_eq!(state.certificates_to_revoke().unwrap(), []);
    assert_eq!(state.certificate_history("edge").unwrap()[1].revoked, Some(at(1_700)));
}

#[test]
fn a_torn_row_is_told_with_its_table_and_not_taken_for_anything() {
    let (folder, state) = state();
    state.keep_certificate(&row("edge", b"first", 1_600), 0).unwrap();
    let other = Connection::open(folder.path().join("state.sqlite")).unwrap();
    for (column, value) in [
        ("names", "'[3]'"),
        ("origin", "'nobody'"),
        ("key_kind", "'dsa'"),
        ("sha256", "'short'"),
        ("renewal_window", "'{}'"),
    ] {
        let good: rusqlite::types::Value =
            other.query_row(&format!("SELECT {column} FROM certificates"), [], |row| row.get(0)).unwrap();
        other.execute(&format!("UPDATE certificates SET {column} = {value}"), []).unwrap();
        let error = state.certificate("edge").unwrap_err();
        assert!(matches!(error, StateError::Torn { table: "certificates", .. }), "{column}: {error}");
        other.execute(&format!("UPDATE certificates SET {column} = ?1"), [good]).unwrap();
    }
    assert!(state.certificate("edge").unwrap().is_some());
}

mod any_certificate {
    use proptest::prelude::*;

    use super::*;

    prop_compose! {
        fn moments()(from in 0i64..4_000_000_000, life in 1i64..40_000_000, due in 0i64..5_000_000_000) -> [Timestamp; 3] {
            [at(from), at(from + life), at(due)]
        }
    }

    prop_compose! {
        fn window()(start in 0i64..4_000_000_000, width in 1i64..9_000_000, again in 0i64..4_000_000_000, why in prop::option::of("https://[ -~]{1,30}")) -> RenewalWindow {
            RenewalWindow { start: at(start), end: at(start + width), explanation: why, look_again: at(again) }
        }
    }

    prop_compose! {
        fn certificate()(
            name in "\\PC{1,30}",
            seed: [u8; 8],
            names in prop::collection::vec("(\\*\\.)?[a-z][a-z0-9]{0,8}\\.larkfield\\.example", 1..4),
            origin in prop::sample::select(vec![Origin::Authority, Origin::Elsewhere, Origin::SelfSigned]),
            key in prop::option::of(prop::sample::select(vec![KeyKind::EcdsaP256, KeyKind::EcdsaP384, KeyKind::Rsa2048])),
            [not_before, not_after, renew_at] in moments(),
            renewal_id in prop::option::of("[a-zA-Z0-9_.-]{1,40}"),
            window in prop::option::of(window()),
            replace in prop::option::of("\\PC{1,40}"),
            chain in "\\PC{0,60}",
            key_bytes in prop::collection::vec(any::<u8>(), 0..40),
        ) -> CertificateRow {
            let authority = if origin == Origin::Authority { "https://authority.example/directory" } else { "" };
            let names = names.iter().map(|name| name.parse().unwrap()).collect();
            let held = HeldCertificate {
                sha256: Fingerprint::of(&seed), names, origin, authority: authority.into(), key,
                not_before, not_after, renewal_id, window, replace,
            };
            let sealed = SealedBytes { key_id: "k".into(), bytes: key_bytes };
            CertificateRow { name, held, chain, key: sealed, renew_at, kept: not_before, revoked: None, revoking: None }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]
        /// Whatever a certificate is, it comes back as it was kept, is changed as a whole,
        /// and is found when there is something to do for it and not a second before.
        #[test]
        fn comes_back_as_it_was_kept(row in certificate(), revoking in prop::option::of(0u8..11)) {
            let (_folder, state) = state();
            state.keep_certificate(&row, 0).unwrap();
            prop_assert_eq!(state.certificate(&row.name).unwrap(), Some(row.clone()));
            let next = row.next_at();
            prop_assert_eq!(state.certificates_to_see_to(next).unwrap(), [row.name.clone()]);
            if let Ok(before) = next.checked_sub(SignedDuration::from_secs(1)) {
                prop_assert!(state.certificates_to_see_to(before).unwrap().is_empty());
            }
            let changed = CertificateRow { revoking, renew_at: at(7), ..row };
            state.update_certificate(&changed).unwrap();
            prop_assert_eq!(state.certificates().unwrap(), [changed.clone()]);
            let waiting = state.certificates_to_revoke().unwrap();
            prop_assert_eq!(waiting, revoking.map(|_| changed).into_iter().collect::<Vec<_>>());
        }
    }
}
