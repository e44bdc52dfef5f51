//! What every state must do, tried on each kind: a file, memory, and a real PostgreSQL.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use futures::future::join_all;
use jiff::{SignedDuration, Timestamp};
use pindrel_core::certificates::acme::account::AccountStatus;
use pindrel_core::certificates::acme::order::ChallengeRecord;
use pindrel_core::certificates::budget::{Limit, Per, Spending};
use pindrel_core::certificates::renewal::RenewalWindow;
use pindrel_core::endpoints::endpoint::Binding;
use pindrel_core::health::{
    CheckFailure, CheckRecord, CheckResult, CheckTerms, HistoryEntry, Incident, MOST_INCIDENTS, Slot, Thresholds,
};
use pindrel_core::judging::facts::{
    BindingView, EndpointKey, EndpointView, Fact, HeldCertificate, HostnameFacts, OrderedTerms, Origin, Ownership,
    ReplaceReason, Unreachable,
};
use pindrel_core::judging::findings::{AuthorityCause, Finding};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::{HostnameForm, KeptBack};
use pindrel_core::values::{Fingerprint, KeyKind, Ttl};
use pindrel_core::zones::records::{RecordData, RecordSet};
use pindrel_state::{
    Access, AccountRow, Attempt, AttemptEnd, CertificateRow, ChallengeRow, CheckUpdate, Claim, Claimed, CommandRun,
    DueRow, EndpointHold, Entry, HostnameRow, JournalFilter, LimitCheck, ManifestOrigin, Moment, OrderPhase, OrderRow,
    PostgresConfig, PostgresState, PostgresTls, PruneRule, RateLimit, Revocation, SealedBytes, SigningRequestRow,
    SpendingRow, SqliteState, State, StateError, StoredCopy, Values as _, Worker,
};
use pindrel_testkit::RealPostgres;

const AUTHORITY: &str = "https://authority.example/directory";

fn at(seconds: i64) -> Timestamp {
    Timestamp::from_second(seconds).unwrap()
}

/// What leases are measured by is the time of the database.
fn now() -> Timestamp {
    Timestamp::now()
}

const HOUR: Duration = Duration::from_secs(3_600);

fn key(byte: u8) -> SealedBytes {
    SealedBytes { key_id: format!("k{byte}"), bytes: vec![byte, 0, 255] }
}

fn certificate(name: &str, seed: &[u8], renew_at: i64) -> CertificateRow {
    let held = HeldCertificate {
        sha256: Fingerprint::of(seed),
        names: vec!["api.larkfield.example".parse().unwrap()],
        origin: Origin::Authority,
        authority: AUTHORITY.into(),
        key: Some(KeyKind::EcdsaP256),
        not_before: at(1_000),
        not_after: at(2_000),
        renewal_id: None,
        window: None,
        replace: None,
        revoked: None,
        ordered: Some(OrderedTerms { profile: Some("short".into()), chain_root: None }),
    };
    let (name, chain, key) = (name.into(), "pem".into(), key(1));
    CertificateRow {
        name,
        held,
        chain,
        key,
        renew_at: at(renew_at),
        kept: at(1_000),
        revocation: None,
        ask_again: None,
    }
}

fn order(certificate: &str) -> OrderRow {
    OrderRow {
        id: 0,
        certificate: certificate.into(),
        authority: AUTHORITY.into(),
        names: vec!["api.larkfield.example".parse().unwrap()],
        url: None,
        phase: OrderPhase::Asked,
        key: key(2),
        begun: at(1_000),
        ended: None,
        replaces: Some("aYhb.AIdl".into()),
        says: None,
    }
}

async fn claimed(state: &dyn State, key: &str) -> Claim {
    // It lives as long as the test.
    let worker = Box::leak(Box::new(state.enter_worker("the test", now(), HOUR).await.unwrap()));
    claim(state, worker, key).await
}

async fn claim(state: &dyn State, worker: &Worker, key: &str) -> Claim {
    match state.claim(worker, key, now()).await.unwrap() {
        Claimed::Yes(claim) => claim,
        other => panic!("{other:?}"),
    }
}

/// All that is asked of a state; `other` is the same state as another process has it.
async fn conforms(state: &dyn State, other: &dyn State) {
    values_and_accounts(state, other).await;
    orders_and_their_records(state).await;
    certificates(state, other).await;
    copies_in_stores(state, other).await;
    runs(state, other).await;
    health(state, other).await;
    what_is_due(state).await;
    commands_and_requests(state).await;
    hostnames(state, other).await;
    the_ledger(state, other).await;
    workers_and_their_claims(state, other).await;
    the_journal(state).await;
    the_agenda(state, other).await;
    assert!(state.is_in_place().await.unwrap());
}

async fn values_and_accounts(state: &dyn State, other: &dyn State) {
    assert_eq!(state.value("check").await.unwrap(), None);
    // The first one stays, whoever comes second.
    let firsts = tokio::join!(async { state.persist_first_value("check", &key(1)).await.unwrap() }, async {
        other.persist_first_value("check", &key(2)).await.unwrap()
    });
    assert_eq!(firsts.0, firsts.1);
    assert_eq!(state.value("check").await.unwrap(), Some(firsts.0));

    let mut account = AccountRow {
        authority: AUTHORITY.into(),
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
        state.persist_account(&account).await.unwrap();
        assert_eq!(state.account(AUTHORITY).await.unwrap().as_ref(), Some(&account));
    }
    assert_eq!(state.account("https://other.example/").await.unwrap(), None);
}

async fn orders_and_their_records(state: &dyn State) {
    let claim = claimed(state, "certificate api").await;
    let id = state.persist_order(&claim, &order("api")).await.unwrap();
    let open =
        OrderRow { id, url: Some("https://authority.example/order/1".into()), phase: OrderPhase::Open, ..order("api") };
    assert_eq!(state.persist_order(&claim, &open).await.unwrap(), id);
    assert_eq!(state.open_order("api").await.unwrap(), Some(open.clone()));
    assert_eq!(state.open_orders().await.unwrap(), std::slice::from_ref(&open));
    assert!(state.knows_order(AUTHORITY, open.url.as_deref().unwrap()).await.unwrap());

    let record = ChallengeRecord { name: "_acme-challenge.api.larkfield.example".parse().unwrap(), text: "t".into() };
    let left = ChallengeRow { zone: "larkfield.example".parse().unwrap(), record };
    for _twice in 0..2 {
        state.record_challenges(&claim, id, std::slice::from_ref(&left)).await.unwrap();
    }
    assert_eq!(state.challenges(None).await.unwrap(), [], "the order is still open");
    assert_eq!(state.challenges(Some(id)).await.unwrap(), std::slice::from_ref(&left));

    for seed in [b"first", b"again"] {
        let row = certificate("api", seed, 1_600);
        state.persist_certificate(&claim, &row, id).await.unwrap();
        assert_eq!(state.certificate("api").await.unwrap(), Some(row));
    }
    assert_eq!((state.open_order("api").await.unwrap(), state.open_orders().await.unwrap()), (None, vec![]));
    assert_eq!(state.challenges(None).await.unwrap(), std::slice::from_ref(&left));
    state.forget_challenges(std::slice::from_ref(&left)).await.unwrap();
    assert_eq!(state.challenges(None).await.unwrap(), []);

    // What comes from elsewhere leaves nothing to go on with.
    let id = state.persist_order(&claim, &OrderRow { id: 0, url: None, ..open }).await.unwrap();
    state.record_challenges(&claim, id, std::slice::from_ref(&left)).await.unwrap();
    state.persist_certificate(&claim, &certificate("api", b"adopted", 1_700), 0).await.unwrap();
    assert_eq!(state.open_orders().await.unwrap(), []);
    assert_eq!(state.challenges(None).await.unwrap(), std::slice::from_ref(&left));
    state.forget_challenges(&[left]).await.unwrap();

    // How the last order ended.
    let mut failing = order("edge");
    failing.id = state.persist_order(&claim, &failing).await.unwrap();
    let end = state.last_order("edge").await.unwrap().unwrap();
    assert_eq!((end.phase, end.at, end.says), (OrderPhase::Asked, at(1_000), None));
    (failing.phase, failing.says) = (OrderPhase::Failed, Some("could not validate".into()));
    failing.ended = Some(at(1_100));
    state.persist_order(&claim, &failing).await.unwrap();
    let end = state.last_order("edge").await.unwrap().unwrap();
    assert_eq!((end.phase, end.at, end.says.as_deref()), (OrderPhase::Failed, at(1_100), Some("could not validate")));
    assert_eq!(state.open_order("edge").await.unwrap(), None);
}

async fn certificates(state: &dyn State, other: &dyn State) {
    let claim = claimed(state, "certificate edge").await;
    let mut kept = certificate("edge", b"first", 1_600);
    state.persist_certificate(&claim, &kept, 0).await.unwrap();
    let sha256 = kept.held.sha256;
    for replace in [ReplaceReason::Requested(at(1_500)), ReplaceReason::Revoked, ReplaceReason::KeyCompromised] {
        kept.held.replace = Some(replace);
        let change = |row: &mut CertificateRow| row.held.replace = Some(replace);
        let changed = state.change_certificate("edge", sha256, &change).await.unwrap();
        assert_eq!((changed.as_ref(), state.certificate("edge").await.unwrap()), (Some(&kept), changed.clone()));
    }
    kept.revocation = Some(Revocation { reason: 1, by_own_key: true, authority: "https://a.example".into() });
    let revocation = kept.revocation.clone();
    let revoke = |row: &mut CertificateRow| row.revocation = revocation.clone();
    state.change_certificate("edge", sha256, &revoke).await.unwrap();
    // Two that change the same certificate at once: neither undoes what the other does.
    let tally =
        |row: &mut CertificateRow| row.renew_at = row.renew_at.checked_add(SignedDuration::from_secs(1)).unwrap();
    let many = (0..20).map(|n| if n % 2 == 0 { state } else { other });
    join_all(many.map(|state| state.change_certificate("edge", sha256, &tally))).await.into_iter().for_each(
        |changed| {
            assert!(changed.unwrap().is_some());
        },
    );
    kept.renew_at = at(1_620);
    // Another one takes its place, and it is still to be revoked.
    state.persist_certificate(&claim, &certificate("edge", b"second", 1_600), 0).await.unwrap();
    assert_eq!(state.certificates_to_revoke().await.unwrap(), [kept.clone()]);
    let revoked = |row: &mut CertificateRow| (row.revocation, row.held.revoked) = (None, Some(at(1_700)));
    state.change_certificate("edge", sha256, &revoked).await.unwrap();
    assert_eq!(state.change_certificate("edge", Fingerprint::of(b"none"), &revoked).await.unwrap(), None);
    assert_eq!(state.certificates_to_revoke().await.unwrap(), []);
    assert_eq!(state.certificate_history("edge").await.unwrap()[1].held.revoked, Some(at(1_700)));
    let names: Vec<String> = state.certificates().await.unwrap().into_iter().map(|row| row.name).collect();
    assert_eq!(names, ["api", "edge"]);
}

/// A copy may go once it is released or its certificate replaced, and stays known until it is gone.
async fn copies_in_stores(state: &dyn State, other: &dyn State) {
    let copy = |platform: &str, site: &str, seed: &[u8]| StoredCopy {
        platform: format!("https://{platform}.example/"),
        site: site.into(),
        sha256: Fingerprint::of(seed),
        certificate: "edge".into(),
    };
    // Of `edge`, the first was replaced by the second.
    let [old_north, old_south] = ["north", "south"].map(|site| copy("a", site, b"first"));
    let [new_north, elsewhere] = [copy("a", "north", b"second"), copy("b", "north", b"second")];
    for copy in [&old_north, &old_south, &new_north, &elsewhere, &new_north] {
        state.record_copy(copy).await.unwrap();
    }
    let removable = async |since| other.copies_to_remove(at(since)).await.unwrap();
    assert_eq!(removable(0).await, [old_north.clone(), old_south.clone()]);
    // One that could not be removed is not tried again at once.
    state.keep_copy(&old_north, at(1_000)).await.unwrap();
    assert_eq!(removable(1_000).await, std::slice::from_ref(&old_south));
    assert_eq!(removable(1_001).await.len(), 2);
    state.forget_copy(&old_south).await.unwrap();
    state.forget_copy(&old_south).await.unwrap();
    assert_eq!(removable(1_000).await, []);
    // Released, it may go although it is the present one; wanted again, it stays.
    state.release_copy("https://a.example/", "north", new_north.sha256).await.unwrap();
    assert_eq!(removable(1_000).await, std::slice::from_ref(&new_north));
    state.keep_copy(&new_north, at(1_000)).await.unwrap();
    state.release_copy("https://a.example/", "north", new_north.sha256).await.unwrap();
    assert_eq!(removable(1_000).await, std::slice::from_ref(&new_north), "what was in use may go now");
    state.record_copy(&new_north).await.unwrap();
    assert_eq!(removable(1_001).await, [old_north]);
}

/// What was before is kept as it was first, and goes with the run.
async fn health(state: &dyn State, other: &dyn State) {
    let once =
        CheckTerms { thresholds: Thresholds { down_after: 1, up_after: 1, rate: None }, ..CheckTerms::default() };
    let mut record = CheckRecord::default();
    let refused = CheckFailure::NotConnected { why: Unreachable::Refused };
    record.record(at(100), &[("192.0.2.1:443".into(), CheckResult::Failed(refused.clone()))], &once);
    let slot = |begin: i64, results: u32| {
        let mut slot = Slot::at(at(begin));
        (0..results).for_each(|n| slot.record((n % 2 == 0).then(|| Duration::from_millis(7))));
        slot
    };
    let failure = |n: i64| HistoryEntry {
        at: Timestamp::from_millisecond(100_250 + n * 1_000).unwrap(),
        what: Incident::Failure { address: "192.0.2.1:443".into(), why: refused.clone() },
    };
    let update = |check: &str, slots: Vec<Slot>, incidents| CheckUpdate {
        check: check.into(),
        record: record.clone(),
        slots,
        incidents,
    };
    state.update_checks(Vec::new()).await.unwrap();
    let (first, second) = (slot(60, 3), slot(120, 1));
    let updates = vec![
        update("queue", vec![first.clone(), second.clone()], vec![failure(0), failure(1)]),
        update("store", vec![slot(60, 2)], Vec::new()),
    ];
    state.update_checks(updates).await.unwrap();
    // A slot that is written again takes the place of the first.
    let longer = slot(120, 5);
    state.update_checks(vec![update("queue", vec![longer.clone()], vec![failure(2)])]).await.unwrap();
    let records = other.check_records().await.unwrap();
    assert_eq!(records, [("queue".to_owned(), record.clone()), ("store".to_owned(), record.clone())]);
    assert_eq!(other.slots("queue", at(0)).await.unwrap(), [first.clone(), longer.clone()]);
    assert_eq!(other.slots("queue", at(61)).await.unwrap(), std::slice::from_ref(&longer));
    assert_eq!(other.incidents("queue", at(0), 9).await.unwrap(), [failure(0), failure(1), failure(2)]);
    assert_eq!(other.incidents("queue", at(0), 2).await.unwrap(), [failure(1), failure(2)]);
    assert_eq!(other.incidents("queue", at(102), 9).await.unwrap(), [failure(2)]);
    let old = other.slots_before(60, at(100), 9).await.unwrap();
    assert_eq!(old, [("queue".to_owned(), first.clone()), ("store".to_owned(), slot(60, 2))]);
    assert_eq!(other.slots_before(60, at(100), 1).await.unwrap().len(), 1);
    let wide = pindrel_core::health::widen(&[first.clone(), longer.clone()]);
    state.replace_slots("queue", &[first, longer], &wide).await.unwrap();
    assert_eq!(other.slots("queue", at(0)).await.unwrap(), wide);
    state.prune_health(at(60)).await.unwrap();
    assert!(other.slots("queue", at(0)).await.unwrap().is_empty(), "it begins before");
    assert_eq!(other.slots("store", at(0)).await.unwrap(), [slot(60, 2)]);
    let many = (0..MOST_INCIDENTS + 5).map(|n| failure(i64::from(n))).collect();
    state.update_checks(vec![update("queue", Vec::new(), many)]).await.unwrap();
    let kept = other.incidents("queue", at(0), 9_999).await.unwrap();
    assert_eq!((kept.len(), &kept[0]), (MOST_INCIDENTS as usize, &failure(5)), "the newest stay");
    state.prune_health(at(102)).await.unwrap();
    assert_eq!(other.incidents("queue", at(0), 2).await.unwrap().len(), 2);
    state.forget_check("queue").await.unwrap();
    assert_eq!(other.check_records().await.unwrap().len(), 1);
    assert!(other.slots("queue", at(0)).await.unwrap().is_empty());
    assert!(other.incidents("queue", at(0), 9).await.unwrap().is_empty());

    let north = EndpointKey::of_static("queue-north");
    let mut hold = EndpointHold { endpoint: north.clone(), since: at(5), until: None, because: "a disk".into() };
    state.hold_endpoint(&hold).await.unwrap();
    hold.until = Some(at(900));
    state.hold_endpoint(&EndpointHold { since: at(700), ..hold.clone() }).await.unwrap();
    assert_eq!(other.endpoint_holds().await.unwrap(), [hold], "since the first time");
    assert!(state.release_endpoint(&north).await.unwrap() && !state.release_endpoint(&north).await.unwrap());
    assert!(other.endpoint_holds().await.unwrap().is_empty());
}

async fn runs(state: &dyn State, other: &dyn State) {
    let name = |text: &str| -> Hostname { text.parse().unwrap() };
    let form = |seconds: u32| {
        let target = RecordData::Cname("gw.edge.test".parse().unwrap());
        let alias = RecordSet::group([(Ttl::try_from(seconds).unwrap(), target)]);
        HostnameForm { at: Some(EndpointKey::of_static("old")), alias, ..HostnameForm::default() }
    };
    let first = state.begin_run(at(100), "settle").await.unwrap();
    let second = other.begin_run(at(200), "retire").await.unwrap();
    assert_eq!(second, first + 1);
    for (n, hostname) in [(1, "b.larkfield.example"), (2, "a.larkfield.example"), (3, "b.larkfield.example")] {
        state.record_before(first, &name(hostname), &form(n)).await.unwrap();
    }
    assert!(state.record_before(second + 1, &name("a.larkfield.example"), &form(1)).await.is_err(), "no such run");
    state.end_run(first, at(150), &[(name("b.larkfield.example"), form(9))]).await.unwrap();
    let changes = other.run_changes(first, 10).await.unwrap();
    let told: Vec<_> = changes.iter().map(|change| (change.hostname.as_str(), &change.before, &change.after)).collect();
    assert_eq!(told, [("a.larkfield.example", &form(2), &None), ("b.larkfield.example", &form(1), &Some(form(9)))]);
    assert_eq!(other.run_changes(first, 1).await.unwrap().len(), 1);
    let runs = other.runs(1_000).await.unwrap();
    let told: Vec<_> = runs.iter().map(|run| (run.id, run.command.as_str(), run.ended, run.changes)).collect();
    assert_eq!(told, [(first, "settle", Some(at(150)), 2), (second, "retire", None, 0)]);
    assert_eq!(other.runs(1).await.unwrap()[0].id, second, "the newest");

    assert_eq!(state.origin().await.unwrap(), None);
    for values in [None, Some("practice.toml".to_owned())] {
        let origin = ManifestOrigin { manifest: "pindrel.toml".into(), values };
        state.persist_origin(&origin).await.unwrap();
        assert_eq!(other.origin().await.unwrap(), Some(origin));
    }

    let kept =
        |hostname: &str, run, wanted| KeptBack { hostname: name(hostname), run, since: at(300), wanted, form: form(5) };
    let [a, b] = ["a.larkfield.example", "b.larkfield.example"];
    state.keep_back(&[kept(b, first, Some(u64::MAX)), kept(a, first, None)]).await.unwrap();
    state.keep_back(&[kept(b, second, Some(7))]).await.unwrap();
    assert_eq!(other.kept_back().await.unwrap(), [kept(a, first, None), kept(b, second, Some(7))]);
    other.keep_back_no_longer(&[name(a), name("c.larkfield.example")]).await.unwrap();
    assert_eq!(state.kept_back().await.unwrap(), [kept(b, second, Some(7))]);
    state.keep_back_no_longer(&[name(b)]).await.unwrap();
}

async fn what_is_due(state: &dyn State) {
    let claim = claimed(state, "certificate due").await;
    for (name, renew_at) in [("api", 9_000), ("edge", 9_000), ("due", 500), ("later", 5_000), ("asked", 5_000)] {
        state.persist_certificate(&claim, &certificate(name, name.as_bytes(), renew_at), 0).await.unwrap();
    }
    let asked = state.certificate("asked").await.unwrap().unwrap();
    let window = RenewalWindow { start: at(4_000), end: at(6_000), explanation: None, look_again: at(900) };
    let advised = |row: &mut CertificateRow| row.held.window = Some(window.clone());
    let asked = state.change_certificate("asked", asked.held.sha256, &advised).await.unwrap();
    assert_eq!(state.certificate("asked").await.unwrap(), asked);
    assert_eq!(state.due_certificates(at(800)).await.unwrap(), ["due"]);
    assert_eq!(state.due_certificates(at(900)).await.unwrap(), ["due", "asked"]);
    // A past certificate is nothing to do.
    state.persist_certificate(&claim, &certificate("due", b"renewed", 5_000), 0).await.unwrap();
    assert_eq!(state.due_certificates(at(900)).await.unwrap(), ["asked"]);
    assert_eq!(state.certificate_history("due").await.unwrap().len(), 2);
}

async fn commands_and_requests(state: &dyn State) {
    let run = |command: &str, succeeded: bool| CommandRun {
        certificate: "edge".into(),
        command: command.into(),
        sha256: Fingerprint::of(b"leaf"),
        at: at(100),
        succeeded,
        says: (!succeeded).then(|| "exit status 1".into()),
    };
    for run in [run("reload", false), run("notify", true), run("reload", true)] {
        state.persist_command_run(&run).await.unwrap();
    }
    let mut runs = state.command_runs("edge").await.unwrap();
    runs.sort_by(|one, other| one.command.cmp(&other.command));
    assert_eq!(runs, [run("notify", true), run("reload", true)]);
    assert_eq!(state.command_runs("other").await.unwrap(), []);

    let request = |second: i64| SigningRequestRow {
        certificate: "edge".into(),
        names: vec!["edge.larkfield.example".parse().unwrap()],
        at: at(second),
        key: key(7),
    };
    state.persist_signing_request(&request(1)).await.unwrap();
    state.persist_signing_request(&request(2)).await.unwrap();
    assert_eq!(state.signing_request("edge").await.unwrap(), Some(request(2)));
    state.forget_signing_request("edge").await.unwrap();
    assert_eq!(state.signing_request("edge").await.unwrap(), None);
}

async fn hostnames(state: &dyn State, other: &dyn State) {
    let row = |name: &str, wanted: u64| HostnameRow {
        hostname: name.parse().unwrap(),
        wanted,
        held: wanted.is_multiple_of(2),
        seen_secs: 5,
        due_secs: 7,
        facts: HostnameFacts::default(),
        ownership: Ownership::default(),
    };
    let names = ["b.larkfield.example", "a.larkfield.example", "*.a.larkfield.example", "c.larkfield.example"];
    // The digest needs all 64 bits.
    let rows: Vec<HostnameRow> =
        names.iter().zip(u64::MAX - 3..=u64::MAX).map(|(name, wanted)| row(name, wanted)).collect();
    state.persist_hostnames(rows.clone()).await.unwrap();
    // Pages, in an order that both sides of a page agree on.
    let mut paged = Vec::new();
    let mut after = String::new();
    loop {
        let page = state.hostname_summaries(&after, 3).await.unwrap();
        let Some(last) = page.last() else { break };
        after.clone_from(&last.hostname);
        paged.extend(page);
    }
    let read: Vec<(&str, u64)> = paged.iter().map(|summary| (summary.hostname.as_str(), summary.wanted)).collect();
    let max = u64::MAX;
    let [b, a, wildcard, c] = names;
    assert_eq!(read, [(wildcard, max - 1), (a, max - 2), (b, max - 3), (c, max)]);

    // What was seen and what was written do not overwrite each other.
    let claim = claimed(state, "hostname b").await;
    let mut ownership = Ownership::default();
    let target: RecordData = RecordData::Cname("gw-1.edge.test".parse().unwrap());
    ownership.intend_alias(&[], RecordSet::group([(Ttl::MINUTE, target)]));
    let name: Hostname = b.parse().unwrap();
    let intend = |own: &mut Ownership| own.alias = ownership.alias.clone();
    assert_eq!(state.change_ownership(&claim, &name, &intend).await.unwrap(), ownership);
    state.persist_hostnames(vec![rows[0].clone()]).await.unwrap();
    let stored = state.hostname(&name).await.unwrap().unwrap();
    assert_eq!(stored, HostnameRow { ownership: ownership.clone(), ..rows[0].clone() });

    // Each thing has its own row: whoever writes one undoes nothing of another, and works that meet are done both.
    let binding = claimed(state, "binding b").await;
    let places: Vec<EndpointKey> = (0..8).map(|n| EndpointKey::stored(format!("static {n}"))).collect();
    let bind = |place: EndpointKey| move |own: &mut Ownership| own.adopt_binding(place.clone(), Binding::plain(None));
    let changes: Vec<_> = places.iter().map(|place| bind(place.clone())).collect();
    let meeting = changes.iter().zip([state, other].into_iter().cycle());
    join_all(meeting.map(|(change, state)| state.change_ownership(&binding, &name, change)))
        .await
        .into_iter()
        .for_each(|changed| assert!(changed.is_ok(), "{changed:?}"));
    let retire = |own: &mut Ownership| {
        own.retiring = Some(at(9));
        own.binding_gone(&places[0]);
    };
    let whole = other.change_ownership(&claim, &name, &retire).await.unwrap();
    assert_eq!((whole.bindings.len(), &whole.alias, whole.retiring), (7, &ownership.alias, Some(at(9))));
    assert_eq!(state.hostname(&name).await.unwrap().unwrap().ownership, whole);

    // What was seen earlier takes the place of nothing, unless the clock was set back.
    for (seen, stays) in [(5_000, 5_000), (4_999, 5_000), (5_001, 5_001), (1_000, 1_000)] {
        let binding = Fact { seen: at(seen), value: BindingView::Absent };
        let mut seen_row = rows[0].clone();
        seen_row.facts.bindings.insert(places[1].clone(), binding);
        state.persist_hostnames(vec![seen_row]).await.unwrap();
        let stored = state.hostname(&name).await.unwrap().unwrap();
        assert_eq!(stored.facts.bindings[&places[1]].seen, at(stays), "{seen}");
    }

    // Of several at once, that for which something was written stays.
    let all: Vec<Hostname> = names.iter().map(|name| name.parse().unwrap()).collect();
    assert_eq!(state.owned_among(&all).await.unwrap(), [(name.clone(), whole.clone())]);
    state.forget_unowned(&all).await.unwrap();
    let left: Vec<String> =
        state.hostname_summaries("", 9).await.unwrap().into_iter().map(|summary| summary.hostname).collect();
    assert_eq!(left, [b]);
    assert_eq!(state.hostname(&name).await.unwrap().unwrap().ownership, whole);

    // Nothing is forgotten that is not what was known.
    assert!(!state.forget_hostname(&name, &ownership).await.unwrap());
    assert_eq!(state.hostname(&name).await.unwrap().unwrap().ownership, whole);
    assert!(state.forget_hostname(&name, &whole).await.unwrap());
    assert_eq!(other.hostname(&name).await.unwrap(), None);
    assert_eq!(state.hostname(&"none.larkfield.example".parse().unwrap()).await.unwrap(), None);

    let endpoint = EndpointKey::new(&"https://platform.example".parse().unwrap(), "catalogue");
    assert_eq!(state.endpoint(&endpoint).await.unwrap(), None);
    let gone = |seen: i64| Fact {
        seen: at(seen),
        value: EndpointView::Unreachable { why: Unreachable::Refused, before: None },
    };
    for seen in [1, 2] {
        state.persist_endpoint(&endpoint, &gone(seen)).await.unwrap();
    }
    assert_eq!(state.endpoint(&endpoint).await.unwrap(), Some(gone(2)));
}

async fn the_ledger(state: &dyn State, other: &dyn State) {
    let limit = Limit { count: 3, of: Spending::Order, per: Per::RegisteredDomain, within_secs: 100, reserve: 1 };
    let spend = |subject: &str, seconds: i64, order: i64| SpendingRow {
        authority: AUTHORITY.into(),
        of: Spending::Order,
        per: Per::RegisteredDomain,
        subject: subject.into(),
        at: at(seconds),
        order,
    };
    let subject = "larkfield.example";
    let limits = [LimitCheck { limit, subject: subject.into() }];
    state
        .spend(AUTHORITY, &[spend(subject, 10, 1), spend("other.example", 20, 1)], &limits, false, at(20))
        .await
        .unwrap()
        .unwrap();
    // Two that spend at once cannot both take the last place.
    let (one, two) = (&[spend(subject, 30, 2)], &[spend(subject, 30, 3)]);
    let both = tokio::join!(
        state.spend(AUTHORITY, one, &limits, false, at(30)),
        other.spend(AUTHORITY, two, &limits, false, at(30))
    );
    let both = [both.0.unwrap(), both.1.unwrap()];
    let refused: Vec<_> = both.iter().filter_map(|end| end.as_ref().err()).collect();
    assert_eq!(refused.len(), 1, "{both:?}");
    let refused = refused[0];
    assert_eq!((refused.spent, refused.check.subject.as_str(), refused.until), (2, subject, at(110)));
    // The reserve is for renewals.
    assert!(state.spend(AUTHORITY, &[spend(subject, 31, 4)], &limits, true, at(31)).await.unwrap().is_ok());
    assert!(state.spend(AUTHORITY, &[spend(subject, 32, 5)], &limits, true, at(32)).await.unwrap().is_err());
    let spent = |since| state.spent(AUTHORITY, Spending::Order, Per::RegisteredDomain, subject, at(since));
    assert_eq!(spent(0).await.unwrap().len(), 3, "what was refused is not counted");
    assert_eq!(spent(10).await.unwrap().len(), 2);
    state.unspend(4, Spending::Order).await.unwrap();
    assert_eq!(spent(0).await.unwrap().len(), 2);

    let hold = |until: i64| RateLimit { until: at(until), says: "too many orders".into() };
    assert_eq!(state.rate_limit("a", "edge").await.unwrap(), None);
    state.persist_rate_limit("a", "edge", &hold(10)).await.unwrap();
    state.persist_rate_limit("a", "edge", &hold(20)).await.unwrap();
    assert_eq!(state.rate_limit("a", "edge").await.unwrap(), Some(hold(20)));
    assert_eq!(
        (state.rate_limit("b", "edge").await.unwrap(), state.rate_limit("a", "other").await.unwrap()),
        (None, None)
    );
    state.persist_rate_limit("a", "", &hold(30)).await.unwrap();
    assert_eq!((state.lift_rate_limits("b").await.unwrap(), state.lift_rate_limits("a").await.unwrap()), (0, 2));
    assert_eq!(state.rate_limit("a", "edge").await.unwrap(), None);
    assert!(!state.is_rehearsed("main | larkfield.example").await.unwrap());
    state.persist_rehearsed(&["main | larkfield.example".into()], at(5)).await.unwrap();
    assert!(state.is_rehearsed("main | larkfield.example").await.unwrap());
}

async fn workers_and_their_claims(state: &dyn State, other: &dyn State) {
    let lease = Duration::from_secs(3);
    let nothing = |_: &mut Ownership| {};
    let name: Hostname = "www.larkfield.example".parse().unwrap();
    let one = state.enter_worker("settle (process 1)", now(), HOUR).await.unwrap();
    let two = other.enter_worker("keep (process 2)", now(), HOUR).await.unwrap();
    let first = claim(state, &one, "alias www").await;
    assert!(first.is_shared, "another was entered since");
    let held = Claimed::HeldBy { worker: "settle (process 1)".into() };
    assert_eq!(other.claim(&two, "alias www", now()).await.unwrap(), held);
    assert_eq!(state.claim(&one, "alias www", now()).await.unwrap(), held, "nor a second time to the same");

    // A process that ends leaves nothing that others wait for: what it still writes is refused.
    drop(one);
    let second = claim(other, &two, "alias www").await;
    for late in [
        state.change_ownership(&first, &name, &nothing).await.unwrap_err(),
        state.persist_order(&first, &order("late")).await.unwrap_err(),
    ] {
        assert!(matches!(&late, StateError::Superseded { key } if key == "alias www"), "{late}");
    }
    assert_eq!(state.hostname(&name).await.unwrap(), None, "nothing of it is stored");
    assert_eq!(state.open_order("late").await.unwrap(), None);
    other.change_ownership(&second, &name, &nothing).await.unwrap();

    // One that lives and does not say so in time is taken for dead, and hears it.
    let slow = state.enter_worker("slow", now(), lease).await.unwrap();
    let third = claim(state, &slow, "alias api").await;
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    assert!(state.renew_worker(&slow, now(), lease).await.unwrap());
    tokio::time::sleep(Duration::from_millis(1_600)).await;
    let held = Claimed::HeldBy { worker: "slow".into() };
    assert_eq!(other.claim(&two, "alias api", now()).await.unwrap(), held, "its lease was renewed");
    tokio::time::sleep(Duration::from_millis(2_500)).await;
    let fourth = claim(other, &two, "alias api").await;
    assert!(fourth.fence != third.fence && !state.renew_worker(&slow, now(), lease).await.unwrap());

    // Released by the one that has it, not by the one that had it.
    state.release_claims(&[third, first]).await.unwrap();
    let three = state.enter_worker("three", now(), HOUR).await.unwrap();
    let free = ["alias api", "alias new", "alias www"].map(str::to_owned);
    let granted = state.claim_free(&three, &free, now()).await.unwrap();
    assert_eq!(granted.iter().map(|claim| claim.key.as_str()).collect::<Vec<_>>(), ["alias new"]);
    other.release_claims(&[second, fourth]).await.unwrap();
    let granted = state.claim_free(&three, &free, now()).await.unwrap();
    assert_eq!(granted.len(), 2, "those that are free by now");
    state.leave(&three).await.unwrap();
    claim(other, &two, "alias new").await;
    assert!(!state.renew_worker(&three, now(), HOUR).await.unwrap());
}

async fn the_agenda(state: &dyn State, other: &dyn State) {
    let row = |n: i64| DueRow { subject: format!("hostname {}", n % 7), next: at(100 + n / 2), failures: 3 };
    let rows: Vec<DueRow> = (0..7).map(row).collect();
    state.persist_due(&rows).await.unwrap();
    let mut paged = Vec::new();
    while let page = other.due(at(102), paged.last(), 2).await.unwrap()
        && !page.is_empty()
    {
        paged.extend(page);
    }
    assert_eq!(paged, rows[..6], "in their order, and none that is not due");
    // Two that take at once share what there is.
    let (one, two) = tokio::join!(state.take_due(paged.clone(), at(200)), other.take_due(paged.clone(), at(200)));
    let (one, two) = (one.unwrap(), two.unwrap());
    let mut taken: Vec<DueRow> = one.into_iter().chain(two).collect();
    taken.sort_by(|left, right| left.subject.cmp(&right.subject));
    assert_eq!(taken, paged);
    assert_eq!(state.due(at(150), None, 9).await.unwrap(), rows[6..]);
    // What a process took and did not finish is due again.
    assert_eq!(state.due(at(200), None, 9).await.unwrap().len(), 7);
    let next = DueRow { next: at(900), failures: 0, ..rows[0].clone() };
    state.persist_due(std::slice::from_ref(&next)).await.unwrap();
    assert_eq!(other.due(at(900), None, 9).await.unwrap().last(), Some(&next));
}

async fn the_journal(state: &dyn State) {
    let day = |days: i64| at(10_000_000 + days * 86_400);
    let entry = |days: i64, moment, action: &str, subject: &str| Entry {
        at: day(days),
        moment,
        action: action.into(),
        subject: subject.into(),
        detail: format!("day {days}"),
    };
    let attempt = |ended, finding: Option<Finding>| Attempt {
        work: "issue api".into(),
        action: "issue".into(),
        at: day(2),
        ended,
        finding,
        next: Some(day(3)),
    };
    let finding =
        Finding::authority("main", AuthorityCause::RateLimited { until: day(3), said: "too many orders".into() });
    state.journal(&entry(1, Moment::Begun, "issue", "api"), None).await.unwrap();
    let failed = attempt(AttemptEnd::Failed, Some(finding));
    state.journal(&entry(2, Moment::Failed, "issue", "api"), Some(&failed)).await.unwrap();
    state.journal(&entry(3, Moment::Begun, "bind", "www"), None).await.unwrap();
    state.journal(&entry(4, Moment::Waiting, "bind", "www"), None).await.unwrap();
    let works = ["issue api".to_owned(), "bind www".to_owned()];
    assert_eq!(state.attempts(&works).await.unwrap(), [failed]);
    let read = async |filter: JournalFilter| {
        let entries = state.journal_entries(&filter).await.unwrap();
        entries.into_iter().map(|entry| entry.detail).collect::<Vec<_>>()
    };
    let all = JournalFilter { most: 100, ..JournalFilter::default() };
    assert_eq!(read(all.clone()).await, ["day 1", "day 2", "day 3", "day 4"]);
    assert_eq!(read(JournalFilter { most: 2, ..all.clone() }).await, ["day 3", "day 4"], "the newest");
    assert_eq!(read(JournalFilter { since: Some(day(3)), ..all.clone() }).await, ["day 3", "day 4"]);
    let about = |subject: &str| Some(subject.to_owned());
    assert_eq!(read(JournalFilter { subject: about("www"), ..all.clone() }).await, ["day 3", "day 4"]);
    let both = JournalFilter { action: about("issue"), moment: Some(Moment::Failed), ..all.clone() };
    assert_eq!(read(both).await, ["day 2"]);

    // Old orders go, but not the last one of a certificate, and none that is open.
    let claim = claimed(state, "certificate old").await;
    for (phase, ended) in [(OrderPhase::Failed, Some(day(0))), (OrderPhase::Done, Some(day(1)))] {
        state.persist_order(&claim, &OrderRow { phase, ended, ..order("old") }).await.unwrap();
    }
    state.persist_order(&claim, &OrderRow { begun: day(0), ..order("open") }).await.unwrap();
    let replaced_before = Timestamp::MIN;
    let rule = PruneRule { before: day(2), spent_before: at(11), replaced_before, now: day(2), most_entries: 2 };
    assert!(state.prune(&rule).await.unwrap() >= 3);
    assert_eq!(read(all).await, ["day 3", "day 4"]);
    assert_eq!(state.last_order("old").await.unwrap().unwrap().phase, OrderPhase::Done);
    assert!(state.open_order("open").await.unwrap().is_some());
    assert_eq!(state.attempts(&works).await.unwrap().len(), 1, "a failure stays until it is made good");
    state.journal(&entry(5, Moment::Done, "issue", "api"), Some(&attempt(AttemptEnd::Done, None))).await.unwrap();
    let later = PruneRule { before: day(9).checked_add(SignedDuration::from_hours(24)).unwrap(), ..rule };
    state.prune(&later).await.unwrap();
    assert_eq!(state.attempts(&works).await.unwrap(), []);

    // The keys of replaced certificates go once they are old enough, the present one's never.
    let has_keys = async || {
        let history = state.certificate_history("wiped").await.unwrap();
        history.iter().map(|row| !row.key.bytes.is_empty()).collect::<Vec<_>>()
    };
    let claim = claimed(state, "certificate wiped").await;
    for (seed, kept) in [(b"one", day(20)), (b"two", day(21))] {
        let mut row = certificate("wiped", seed, 1_000);
        (row.kept, row.held.not_after) = (kept, day(40));
        state.persist_certificate(&claim, &row, 0).await.unwrap();
    }
    let rule = PruneRule { replaced_before: day(21), now: day(30), ..rule };
    state.prune(&rule).await.unwrap();
    assert_eq!(has_keys().await, [true, true]);
    state.prune(&PruneRule { replaced_before: day(22), ..rule }).await.unwrap();
    assert_eq!(has_keys().await, [true, false]);
    state.prune(&PruneRule { before: day(41), now: day(41), ..rule }).await.unwrap();
    assert_eq!(has_keys().await, [true], "one that expired long ago is forgotten");
}

fn sqlite(path: &Path) -> Arc<dyn State> {
    Arc::new(SqliteState::open(path, Access::Change).unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_conforms() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("sub/state.sqlite");
    let (state, other) = (sqlite(&path), sqlite(&path));
    conforms(&*state, &*other).await;
    std::fs::rename(&path, folder.path().join("elsewhere")).unwrap();
    assert!(!state.is_in_place().await.unwrap());
    drop(sqlite(&path));
    assert!(!state.is_in_place().await.unwrap(), "another file at the same path");
}

#[tokio::test]
async fn memory_conforms() {
    let state = SqliteState::in_memory().unwrap();
    conforms(&state, &state).await;
}

async fn connect(config: PostgresConfig) -> Result<PostgresState, StateError> {
    PostgresState::connect(config, Access::Change).await
}

fn config(server: &RealPostgres, tls: bool) -> PostgresConfig {
    let mut config: tokio_postgres::Config = server.url().parse().unwrap();
    config.password(server.password);
    let roots = || pindrel_keys::roots::from_pem(server.root.as_bytes()).unwrap();
    PostgresConfig {
        place: server.url(),
        config,
        tls: if tls { PostgresTls::Verified(roots()) } else { PostgresTls::Off },
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn postgres_conforms() {
    let Some(mut server) = RealPostgres::start("postgres_conforms").await else { return };
    // Both make the schema at once, and it is made once.
    let (state, other) = tokio::join!(connect(config(&server, true)), connect(config(&server, false)));
    let (state, other) = (state.unwrap(), other.unwrap());
    conforms(&state, &other).await;

    an_older_schema_is_brought_over(&server).await;

    // Without the right root, or with another password, nothing is sent; the password is
    // in no message.
    let mut wrong = config(&server, true);
    wrong.tls = PostgresTls::Verified(pindrel_keys::roots::public());
    let error = connect(wrong).await.unwrap_err();
    let chain = format!("{error}: {:?}", std::error::Error::source(&error));
    assert!(matches!(error, StateError::Open { .. }) && !chain.contains(server.password), "{chain}");
    let mut wrong = config(&server, true);
    wrong.config.password("wrong planted");
    let error = connect(wrong).await.unwrap_err();
    let chain = format!("{error}: {:?}", std::error::Error::source(&error));
    assert!(chain.contains("password authentication failed") && !chain.contains("planted"), "{chain}");

    // A server that goes away is an error, not a hang.
    server.process.kill();
    let begun = std::time::Instant::now();
    assert!(matches!(state.value("check").await.unwrap_err(), StateError::Failed { .. }));
    assert!(begun.elapsed() < Duration::from_secs(30));
}

/// A state that schema 4 wrote in the sandbox. Whoever only reads leaves it to the Pindrels of that version.
async fn an_older_schema_is_brought_over(server: &RealPostgres) {
    let mut old = config(server, false);
    let (client, connection) = old.config.connect(tokio_postgres::NoTls).await.unwrap();
    tokio::spawn(connection);
    client.batch_execute("CREATE DATABASE older").await.unwrap();
    old.config.dbname("older");
    let (client, connection) = old.config.connect(tokio_postgres::NoTls).await.unwrap();
    tokio::spawn(connection);
    client.batch_execute(include_str!("data/postgres-4/state.sql")).await.unwrap();
    let sql = "SELECT hostname, facts, ours FROM pindrel.hostname_facts";
    let before = client.query(sql, &[]).await.unwrap();
    assert_eq!(before.len(), 5);
    let error = PostgresState::connect(old.clone(), Access::Read).await.unwrap_err();
    assert!(matches!(error, StateError::Older { found: 4, .. }), "{error}");
    assert_eq!(client.query(sql, &[]).await.unwrap().len(), 5, "nothing is changed");

    let state: Arc<dyn State> = Arc::new(connect(old.clone()).await.unwrap());
    for row in before {
        let (name, facts, ours): (&str, &str, &str) = (row.get(0), row.get(1), row.get(2));
        let row = state.hostname(&name.parse().unwrap()).await.unwrap().unwrap();
        let ours: Ownership = serde_json::from_str(ours).unwrap();
        assert!(row.held && !ours.is_empty(), "{name}");
        assert_eq!((row.facts, row.ownership), (serde_json::from_str(facts).unwrap(), ours), "{name}");
    }
    assert_eq!((state.certificates().await.unwrap().len(), state.runs(9).await.unwrap().len()), (5, 1));
    assert_eq!(state.begin_run(at(1), "settle").await.unwrap(), 2);
    assert!(PostgresState::connect(old.clone(), Access::Read).await.is_ok());

    // A role that may only read, and create nothing, is enough to look.
    let grants = "CREATE ROLE reader LOGIN PASSWORD 'reads only'; REVOKE ALL ON DATABASE older FROM reader, PUBLIC;
                  GRANT CONNECT ON DATABASE older TO reader; GRANT USAGE ON SCHEMA pindrel TO reader;
                  GRANT SELECT ON ALL TABLES IN SCHEMA pindrel TO reader;";
    client.batch_execute(grants).await.unwrap();
    old.config.user("reader").password("reads only");
    let reader: Arc<dyn State> = Arc::new(PostgresState::connect(old, Access::Read).await.unwrap());
    assert_eq!(reader.certificates().await.unwrap().len(), 5);
}
