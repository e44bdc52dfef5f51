//! Several endpoints: which are given, what happens when one fails, and what is never done.

use std::net::IpAddr;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::health::Verdict;
use pindrel_core::zones::records::RecordData;
use pindrel_engine::Event;
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Keeping, Pace, Setting};
use proptest::prelude::*;

pub(crate) const TONIGHT: &str = "tonight.larkfield.example";
/// A hostname on two endpoints, the checks of which see a failure within 32 s: 3 × 10 s and the timeout.
pub(crate) const STANDBY: &str = "
[hostname.\"tonight.larkfield.example\"]
endpoints = [\"catalogue\", \"plates\"]
policy = \"standby\"
back_after = \"2m\"
ttl = \"30s\"
health = { path = \"/ready\", every = \"10s\", timeout = \"2s\", down_after = 3, up_after = 2 }
";
pub(crate) const SEEN_WITHIN: Duration = Duration::from_secs(32);
/// From one check to the next.
const EVERY: Duration = Duration::from_secs(10);
/// How long an update takes until it is on every server of the world in memory, and a little.
pub(crate) const PUBLISHED_WITHIN: Duration = Duration::from_secs(2);
pub(crate) const TTL: Duration = Duration::from_secs(30);
/// The addresses of the two endpoints.
pub(crate) const FIRST: &str = "192.0.2.21";
pub(crate) const SECOND: &str = "192.0.2.22";

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

pub(crate) fn die(setting: &Setting, address: &str) {
    setting.break_or_mend(|faults| faults.dead.extend([ip(address)]));
}

pub(crate) fn live(setting: &Setting, address: &str) {
    setting.break_or_mend(|faults| {
        faults.dead.remove(&ip(address));
    });
}

/// Which endpoint the alias leads to: 1 or 2.
pub(crate) fn given(setting: &Setting) -> u8 {
    match &setting.aliases(TONIGHT)[..] {
        [RecordData::Cname(target)] if target.as_str().starts_with("catalogue.") => 1,
        [RecordData::Cname(target)] if target.as_str().starts_with("plates.") => 2,
        other => panic!("{other:?}"),
    }
}

/// Waits until the alias leads to an endpoint; returns how long that took.
pub(crate) async fn until_given(setting: &Setting, wanted: u8, at_most: Duration) -> Duration {
    let step = Duration::from_millis(100);
    let mut waited = Duration::ZERO;
    while given(setting) != wanted {
        assert!(waited < at_most, "not {wanted} within {at_most:?}: {:#?}", setting.recorder.take());
        setting.pass(step).await;
        waited += step;
    }
    waited
}

fn switches(events: &[Event]) -> Vec<(String, String)> {
    let switch = |event: &Event| match event {
        Event::Switched { from, to, .. } => Some((from.join(" "), to.join(" "))),
        _ => None,
    };
    events.iter().filter_map(switch).collect()
}

/// A setting in which the hostname is held at the first endpoint, and has been for a while.
pub(crate) async fn settled(manifest: &str) -> Setting {
    let setting = Setting::new(Pace::default(), manifest);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:#?}", setting.recorder.take());
    setting
}

/// The same, kept for a minute: every check has a verdict.
pub(crate) async fn kept(manifest: &str) -> (Setting, Keeping) {
    let setting = settled(manifest).await;
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(60)).await;
    (setting, keeping)
}

#[tokio::test(start_paused = true)]
async fn both_endpoints_are_ready_before_either_may_be_given_and_a_settle_decides_by_fresh_checks() {
    let setting = settled(STANDBY).await;
    let bound = |endpoint| setting.binding(endpoint, TONIGHT);
    assert!(bound("catalogue").is_some() && bound("plates").is_some());
    assert_eq!((given(&setting), setting.settle().await.planned), (1, 0));
    // A renewal reaches both.
    setting.certificates_live(pindrel_testkit::memory::Life(Duration::from_secs(90 * 86_400)));
    setting.pass(Duration::from_secs(62 * 86_400)).await;
    let before = bound("plates");
    setting.settle().await;
    assert!(bound("plates") != before && bound("plates") == bound("catalogue"));
    // An outage that ends sooner than checks prove it changes nothing; nor does a plan wait for the proof.
    die(&setting, FIRST);
    let begun = setting.now();
    setting.plan().await;
    assert!(setting.now().duration_since(begun) < SignedDuration::from_secs(1));
    let (_, ()) = futures::join!(setting.settle(), async {
        setting.pass(Duration::from_millis(600)).await;
        live(&setting, FIRST);
    });
    assert_eq!((given(&setting), switches(&setting.recorder.take())), (1, vec![]));
    // One run is enough to leave one that is dead, and to come back, and takes the same proof as `keep`.
    setting.pass(EVERY).await;
    die(&setting, FIRST);
    let begun = setting.now();
    let summary = setting.settle().await;
    assert_eq!(given(&setting), 2, "{summary:?}");
    assert!(setting.now().duration_since(begun) >= (2 * EVERY).try_into().unwrap(), "three failures in a row");
    assert_eq!(setting.status().await.hostnames[0].health, Verdict::Up);
    live(&setting, FIRST);
    setting.pass(EVERY).await;
    setting.settle().await;
    assert_eq!(given(&setting), 2, "not for long enough");
    setting.pass(Duration::from_secs(125)).await;
    setting.settle().await;
    assert_eq!(given(&setting), 1, "it worked then, and it works now");
    setting.pass(TTL).await;
    die(&setting, FIRST);
    setting.settle().await;
    assert_eq!(given(&setting), 2);
    // With none alive the last answer stays.
    for address in [FIRST, SECOND] {
        die(&setting, address);
    }
    setting.pass(EVERY).await;
    let changes = setting.change_counts().0;
    setting.settle().await;
    assert_eq!((given(&setting), setting.change_counts().0), (2, changes));
    assert_eq!(setting.status().await.hostnames[0].health, Verdict::Down);
    // Nobody looks for hours: what was concluded is believed no longer.
    setting.pass(Duration::from_secs(5 * 3_600)).await;
    let row = setting.status().await.hostnames.remove(0);
    assert_eq!((row.health, row.given.unwrap().endpoints), (Verdict::Unknown, vec!["plates".to_owned()]));
    let checks = setting.engine().await.health.list().await.unwrap();
    assert!(checks.iter().all(|check| check.is_stale && check.verdict() == Verdict::Unknown), "{checks:?}");
}

#[tokio::test(start_paused = true)]
async fn a_failure_is_left_within_the_computed_time_and_traffic_returns_once_it_has_worked_for_long_enough() {
    let (setting, keeping) = kept(STANDBY).await;
    assert_eq!(given(&setting), 1);
    setting.recorder.take();
    for round in 0..3 {
        setting.recorder.take();
        let failed = setting.now();
        die(&setting, FIRST);
        let took = until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
        assert!(took >= Duration::from_secs(20), "round {round}: three failures take 20 s, not {took:?}");
        setting.pass(PUBLISHED_WITHIN).await;
        let events = setting.recorder.take();
        let told = events.iter().find_map(|event| match event {
            Event::Switched { seen, decided, primary, everywhere, until, .. } => {
                Some((seen.unwrap(), *decided, primary.unwrap(), *everywhere, until.unwrap()))
            }
            _ => None,
        });
        let (seen, decided, primary, everywhere, until) = told.unwrap_or_else(|| panic!("{events:#?}"));
        assert!(failed <= seen && seen <= decided && decided <= primary && primary <= everywhere, "{events:#?}");
        let caches = until.duration_since(everywhere);
        assert!(caches >= SignedDuration::from_secs(30) && caches <= SignedDuration::from_secs(32), "{caches}");
        live(&setting, FIRST);
        let back = until_given(&setting, 1, Duration::from_secs(120 + 20 + 5)).await;
        assert!(back >= Duration::from_secs(120), "round {round}: back after {back:?}");
        setting.pass(TTL).await;
    }
    assert_eq!(switches(&setting.recorder.take()).len(), 1, "the last return, and nothing else");
    let summary = keeping.stop().await;
    assert_eq!(summary.switches, 6);
    assert!(summary.lateness.is_some_and(|(_, _, latest)| latest < Duration::from_secs(1)), "{summary:?}");
}

#[tokio::test(start_paused = true)]
async fn what_stands_in_the_way_of_a_switch_is_told_once_and_not_fought() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.recorder.take();
    let stuck = |events: &[Event]| -> Vec<String> {
        let says = |event: &Event| match event {
            Event::Stuck { finding, .. } => Some(finding.says()),
            _ => None,
        };
        events.iter().filter_map(says).collect()
    };
    // The zone refuses the update, and takes it later.
    setting.break_or_mend(|faults| faults.refuses_updates = true);
    die(&setting, FIRST);
    setting.pass(Duration::from_secs(240)).await;
    let told = stuck(&setting.recorder.take());
    assert_eq!(told.iter().filter(|says| says.contains("REFUSED")).count(), 1, "{told:?}");
    assert_eq!(given(&setting), 1);
    setting.break_or_mend(|faults| faults.refuses_updates = false);
    until_given(&setting, 2, Duration::from_secs(61)).await;
    live(&setting, FIRST);
    until_given(&setting, 1, Duration::from_secs(200)).await;
    setting.pass(TTL).await;
    setting.recorder.take();

    // Somebody else's records are in its place: they stay.
    setting.remove_aliases(TONIGHT);
    setting.foreign_record(TONIGHT, RecordData::A("192.0.2.99".parse().unwrap()));
    die(&setting, FIRST);
    let changes = setting.change_counts().0;
    setting.pass(Duration::from_secs(240)).await;
    assert_eq!(setting.change_counts().0, changes, "{:#?}", setting.recorder.take());
    assert_eq!(setting.aliases(TONIGHT), [RecordData::A("192.0.2.99".parse().unwrap())]);
    let told = stuck(&setting.recorder.take());
    assert!(told.iter().any(|says| says.contains("did not create")), "{told:?}");
    keeping.stop().await;
}

#[tokio::test(start_paused = true)]
async fn a_secondary_that_lags_is_told_and_the_primary_is_changed_once() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.recorder.take();
    let changes = setting.change_counts().0;
    setting.break_or_mend(|faults| faults.frozen = true);
    die(&setting, FIRST);
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    setting.pass(Duration::from_secs(180)).await;
    let events = setting.recorder.take();
    assert!(switches(&events).is_empty(), "it is not on every server: {events:#?}");
    let is_told = |event: &Event| matches!(event, Event::Stuck { finding, .. } if finding.says().contains("has still not propagated"));
    assert_eq!(events.iter().filter(|event| is_told(event)).count(), 1, "{events:#?}");
    setting.break_or_mend(|faults| faults.frozen = false);
    setting.pass(Duration::from_secs(90)).await;
    assert_eq!(switches(&setting.recorder.take()).len(), 1);
    assert_eq!(setting.change_counts().0, changes + 1);
    keeping.stop().await;
}

#[tokio::test(start_paused = true)]
async fn a_person_takes_an_endpoint_out_and_gives_it_back() {
    let setting = settled(STANDBY).await;
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(400)).await;
    let engine = setting.engine().await;
    let until = setting.now().checked_add(SignedDuration::from_secs(300)).unwrap();
    engine.health.hold_endpoint("catalogue", Some(until), "new disks").await.unwrap();
    until_given(&setting, 2, Duration::from_secs(15)).await;
    setting.pass(Duration::from_secs(200)).await;
    assert_eq!((given(&setting), engine.health.endpoint_holds().await.unwrap().len()), (2, 1));
    // It comes back by itself when the time is over: it was watched all the while.
    until_given(&setting, 1, Duration::from_secs(115)).await;
    assert!(setting.now() >= until && engine.health.endpoint_holds().await.unwrap().is_empty());
    engine.health.hold_endpoint("catalogue", None, "again").await.unwrap();
    setting.pass(Duration::from_secs(60)).await;
    assert_eq!(given(&setting), 2);
    assert!(engine.health.release_endpoint("catalogue").await.unwrap());
    until_given(&setting, 1, Duration::from_secs(45)).await;
    assert!(engine.health.hold_endpoint("nowhere", None, "typo").await.unwrap_err().remedy().contains("catalogue"));
    keeping.stop().await;
}

#[tokio::test(start_paused = true)]
async fn a_split_gives_the_addresses_of_those_that_work() {
    let split = STANDBY.replace("standby", "split");
    let setting = settled(&split).await;
    setting.change_endpoint("catalogue", |info| info.addresses.push("192.0.2.31".parse().unwrap()));
    let addresses = |setting: &Setting| -> Vec<String> {
        let address = |data: &RecordData| match data {
            RecordData::A(address) => address.to_string(),
            other => panic!("{other:?}"),
        };
        let mut all: Vec<String> = setting.aliases(TONIGHT).iter().map(address).collect();
        all.sort();
        all
    };
    assert_eq!(addresses(&setting), [FIRST, SECOND]);
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(90)).await;
    assert_eq!(addresses(&setting), [FIRST, SECOND, "192.0.2.31"], "what the platform lists is followed");
    // One dead address of an endpoint that works otherwise.
    die(&setting, FIRST);
    setting.pass(SEEN_WITHIN + TTL).await;
    assert_eq!(addresses(&setting), [SECOND, "192.0.2.31"]);
    die(&setting, "192.0.2.31");
    setting.pass(SEEN_WITHIN + TTL).await;
    assert_eq!(addresses(&setting), [SECOND]);
    die(&setting, SECOND);
    setting.pass(SEEN_WITHIN + TTL).await;
    assert_eq!(addresses(&setting), [SECOND], "the last answer stays");
    live(&setting, FIRST);
    setting.pass(Duration::from_secs(20) + TTL).await;
    assert_eq!(addresses(&setting), [FIRST], "what works steps in at once");
    keeping.stop().await;
}

#[tokio::test(start_paused = true)]
async fn a_dependency_that_fails_moves_only_whom_it_judges() {
    let judged = format!(
        "{}judged_by = \"queue\"\n[health.queue-store]\ntcp = \"192.0.2.77:5432\"\nevery = \"10s\"\ntimeout = \"2s\"\n\
         [health.north]\nof = [\"queue-first\", \"queue-store\"]\n[health.queue]\nof = [\"north\"]\n\
         [health.queue-first]\nurl = \"https://tonight.larkfield.example/\"\n",
        STANDBY.replace("health = {", "# {")
    );
    // A combination of no endpoint's own check judges all alike, which a standby cannot use.
    let mut problems = pindrel_core::manifest::Diagnostics::default();
    let setting = Setting::new(Pace::default(), &judged);
    let read = pindrel_core::manifest::read(&setting.manifest(), &mut problems);
    pindrel_core::desired::resolve(read, &mut problems);
    let says: Vec<String> = problems.into_sorted().into_iter().map(|problem| problem.message).collect();
    assert!(says.iter().any(|says| says.contains("judges all endpoints of")), "{says:?}");

    let health = "health = { url = \"https://tonight.larkfield.example/ready\", every = \"10s\", timeout = \"2s\", down_after = 3 }";
    let names = format!(
        "{}judged_by = \"queue\"\n[health.store]\ntcp = \"192.0.2.77:5432\"\nevery = \"10s\"\ntimeout = \"2s\"\n\
         [health.queue]\nof = [\"north\", \"store\"]\n\
         [endpoint.north]\nid = \"catalogue\"\nkind = \"gateway\"\ndriver = \"http\"\nurl = \"https://platform.test\"\n\
         token = \"env:TOKEN\"\n{health}\n",
        STANDBY.replace("health = {", "# {").replace("\"catalogue\"", "\"north\"")
    );
    let (setting, keeping) = kept(&names).await;
    assert_eq!(given(&setting), 1);
    setting.break_or_mend(|faults| faults.dead.extend([ip("192.0.2.77")]));
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    let list = setting.engine().await.health.list().await.unwrap();
    let verdicts: Vec<(&str, Verdict)> =
        list.iter().map(|report| (report.check.name.as_str(), report.record.verdict)).collect();
    assert_eq!(verdicts, [("north", Verdict::Up), ("store", Verdict::Down), ("queue", Verdict::Down)]);
    keeping.stop().await;
}

#[tokio::test(start_paused = true)]
async fn what_cannot_be_reached_from_here_stays_unknown_and_moves_nothing() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.break_or_mend(|faults| faults.out_of_reach.extend([ip(FIRST), ip(SECOND)]));
    setting.pass(Duration::from_secs(120)).await;
    let list = setting.engine().await.health.list().await.unwrap();
    assert!(list.iter().all(|report| report.record.verdict == Verdict::Unknown));
    assert!(list.iter().all(|report| report.record.impossible().is_some()));
    assert_eq!(given(&setting), 1, "this machine's own trouble");
    keeping.stop().await;
}

/// Killed at random while endpoints fail and come back: no failover is lost, and none is done twice.
#[tokio::test(start_paused = true)]
async fn whoever_is_killed_is_followed_by_one_who_does_what_is_left() {
    for seed in 0..8 {
        let setting = settled(STANDBY).await;
        let (mut wanted, mut changes) = (1, setting.change_counts().0);
        for round in 0..6 {
            let keeping = setting.keep();
            setting.pass(Duration::from_secs(40) + Duration::from_millis(dice(seed, round) % 20_000)).await;
            match wanted {
                1 => die(&setting, FIRST),
                _ => live(&setting, FIRST),
            }
            wanted = 3 - wanted;
            // Somewhere between the failure and the end of the switch.
            setting.pass(Duration::from_millis(18_000 + dice(seed, 100 + round) % 15_000)).await;
            keeping.kill().await;
            let next = setting.keep();
            until_given(&setting, wanted, Duration::from_secs(200)).await;
            setting.pass(Duration::from_secs(40)).await;
            next.stop().await;
            changes += 1;
            assert_eq!((given(&setting), setting.change_counts().0), (wanted, changes), "seed {seed}, round {round}");
        }
    }
}

#[tokio::test(start_paused = true)]
async fn a_changed_manifest_is_taken_up_and_what_it_no_longer_names_is_left() {
    let (mut setting, keeping) = kept(STANDBY).await;
    setting.names = STANDBY.replace("[\"catalogue\", \"plates\"]", "[\"plates\", \"catalogue\"]");
    keeping.replace(&setting).await;
    until_given(&setting, 2, Duration::from_secs(150)).await;
    setting.names = format!("{STANDBY}[hostname.\"new.larkfield.example\"]\nendpoint = \"plates\"\n");
    keeping.replace(&setting).await;
    setting.pass(Duration::from_secs(60)).await;
    assert!(setting.client_gets("new.larkfield.example").await.is_some(), "{:#?}", setting.recorder.take());
    keeping.stop().await;
}

/// A platform whose interface does not answer still serves: what it listed before is enough to fail over.
#[tokio::test(start_paused = true)]
async fn a_platform_that_does_not_answer_stops_no_failover() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.break_or_mend(|faults| faults.platform_down = true);
    // Long enough for it to be looked at, and found silent.
    setting.pass(Duration::from_secs(2 * 3_600)).await;
    die(&setting, FIRST);
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    live(&setting, FIRST);
    until_given(&setting, 1, Duration::from_secs(150)).await;
    keeping.stop().await;
    // A new process knows it too, out of the state.
    let next = setting.keep();
    setting.pass(Duration::from_secs(60)).await;
    die(&setting, FIRST);
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    next.stop().await;
}

/// Where an alias is addresses, those that are down are left out, also of a single endpoint.
#[tokio::test(start_paused = true)]
async fn an_apex_gives_the_addresses_that_work() {
    let apex = "[hostname.\"larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"30s\"\n\
                health = { path = \"/\", every = \"10s\", timeout = \"2s\", down_after = 3 }\n";
    let setting = Setting::new(Pace::default(), apex);
    setting.change_endpoint("catalogue", |info| info.addresses.push("192.0.2.31".parse().unwrap()));
    assert_eq!(setting.settle().await.held, 1, "{:#?}", setting.recorder.take());
    let given = |setting: &Setting| setting.aliases("larkfield.example").len();
    assert_eq!(given(&setting), 2);
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(60)).await;
    die(&setting, "192.0.2.31");
    setting.pass(SEEN_WITHIN + PUBLISHED_WITHIN).await;
    assert_eq!(setting.aliases("larkfield.example"), [RecordData::A(FIRST.parse().unwrap())]);
    // A settle beside it agrees, and changes nothing.
    let changes = setting.change_counts().0;
    let summary = setting.settle().await;
    assert_eq!(
        (summary.held, summary.failed, setting.change_counts().0),
        (0, 0, changes),
        "{:#?}",
        setting.recorder.take()
    );
    assert_eq!(given(&setting), 1);
    assert!(summary.seconds < 5.0, "it waits for nothing that its checks already know: {}", summary.seconds);
    // The last one is never taken away.
    die(&setting, FIRST);
    setting.pass(Duration::from_secs(90)).await;
    assert_eq!(given(&setting), 1);
    for address in [FIRST, "192.0.2.31"] {
        live(&setting, address);
    }
    setting.pass(Duration::from_secs(20) + TTL).await;
    assert_eq!(given(&setting), 2);
    keeping.stop().await;
}

/// Every hostname is looked at within the time that the manifest says, a few at a time; and what is idle is idle.
#[tokio::test(start_paused = true)]
async fn every_hostname_is_looked_at_in_its_turn_and_nothing_is_polled() {
    let names = format!("[keep]\nlook_every = \"30m\"\n{}", crate::several(24));
    let setting = Setting::new(Pace::default(), &names);
    setting.settle().await;
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(60)).await;
    let (mut requests, mut most) = (setting.change_counts().1, 0);
    for _ in 0..60 {
        setting.pass(Duration::from_secs(60)).await;
        let now = setting.change_counts().1;
        most = most.max(now - requests);
        requests = now;
    }
    assert!(most <= 8, "{most} requests of the platform within a minute");
    // A binding that goes is seen and put back within that time, without anybody asking.
    setting.remove_binding("plates", "survey-7.larkfield.example");
    setting.pass(Duration::from_secs(31 * 60)).await;
    assert!(setting.binding("plates", "survey-7.larkfield.example").is_some(), "{:#?}", setting.recorder.take());
    let summary = keeping.stop().await;
    assert_eq!((summary.checks, summary.switches), (0, 0));
    assert!((70..90).contains(&summary.passes), "{summary:?}");
}

/// What fails is tried again after pauses that grow, and at the time that a peer has named.
#[tokio::test(start_paused = true)]
async fn what_fails_is_tried_again_later_each_time_and_what_waits_in_its_time() {
    let setting = Setting::new(Pace::default(), &format!("[keep]\nlook_every = \"1d\"\n{}", crate::ONE));
    setting.break_or_mend(|faults| faults.authority.invalid.extend([crate::API.into()]));
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(10 * 3_600)).await;
    let tries: Vec<Timestamp> = setting.orders().iter().map(|(at, _)| *at).collect();
    let pauses: Vec<i64> = tries.windows(2).map(|pair| pair[1].duration_since(pair[0]).as_secs()).collect();
    assert!((6..12).contains(&tries.len()), "{pauses:?}");
    assert!(pauses[0] >= 45 && pauses.windows(2).all(|pair| pair[1] * 10 >= pair[0] * 11), "{pauses:?}");
    setting.break_or_mend(|faults| faults.authority.invalid.clear());
    setting.pass(Duration::from_secs(8 * 3_600)).await;
    assert!(setting.client_gets(crate::API).await.is_some(), "{:#?}", setting.recorder.take());

    let other = Setting::new(Pace::default(), crate::ONE);
    let until = other.now().checked_add(SignedDuration::from_secs(1_800)).unwrap();
    other.break_or_mend(|faults| faults.authority.limited_until = Some(until));
    let running = other.keep();
    other.pass(Duration::from_secs(1_700)).await;
    let asked = other.authority_counts().0;
    assert!(other.client_gets(crate::API).await.is_none() && asked < 12, "{asked} requests");
    other.pass(Duration::from_secs(200)).await;
    assert!(other.client_gets(crate::API).await.is_some(), "{:#?}", other.recorder.take());
    running.stop().await;
    keeping.stop().await;
}

/// After a lost state both bindings and the alias are found, and taken over where they are right.
#[tokio::test(start_paused = true)]
async fn a_lost_state_loses_no_endpoint() {
    let setting = settled(STANDBY).await;
    let setting = setting.with_lost_state();
    let engine = setting.engine().await;
    let scope: Vec<_> = engine.desired().hostname_ids().collect();
    let found = engine.adoption.candidates(&scope).await.unwrap();
    let present: Vec<&str> = found.iter().map(|candidate| candidate.present.as_str()).collect();
    assert_eq!(found.len(), 3, "{present:?}");
    assert!(found.iter().all(pindrel_engine::Candidate::is_proven), "{present:?}");
    engine.adoption.adopt(&found).await.unwrap();
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:#?}", setting.recorder.take());
    assert_eq!(setting.binding("plates", TONIGHT), setting.binding("catalogue", TONIGHT), "the new certificate");
}

/// An endpoint that the manifest no longer names is left as in a move, and one that it names anew is made ready
/// before anything leads there.
#[tokio::test(start_paused = true)]
async fn endpoints_come_and_go_in_the_safe_order() {
    let mut setting = settled(&STANDBY.replace("[\"catalogue\", \"plates\"]", "[\"catalogue\"]")).await;
    assert!(setting.binding("plates", TONIGHT).is_none());
    setting.names = STANDBY.replace("[\"catalogue\", \"plates\"]", "[\"plates\", \"catalogue\"]");
    let plan = setting.plan().await;
    let actions: Vec<&str> = plan.steps.iter().map(|step| step.action).collect();
    assert_eq!(actions, ["store", "bind", "connect"], "its checks alone give it then: {:#?}", plan.steps);
    assert_eq!(setting.settle().await.held, 1);
    setting.pass(Duration::from_secs(600)).await;
    // What is there works, and is left only for what has been up long enough.
    let wanted = setting.settle().await;
    assert_eq!((wanted.held, given(&setting)), (1, 2), "{:#?}", setting.recorder.take());
    assert!(setting.binding("catalogue", TONIGHT).is_some(), "it may be given at any moment");
    setting.names = STANDBY.replace("[\"catalogue\", \"plates\"]", "[\"catalogue\"]");
    for _ in 0..3 {
        setting.settle().await;
        setting.pass(Duration::from_secs(70)).await;
    }
    assert_eq!(given(&setting), 1);
    assert!(setting.binding("plates", TONIGHT).is_none(), "{:#?}", setting.recorder.take());
    // And the whole hostname goes from both.
    setting.names = STANDBY.to_owned();
    setting.settle().await;
    setting.names = crate::ONE.to_owned();
    setting.settle().await;
    setting.retire(&[TONIGHT], Duration::from_secs(3_600)).await;
    let left = ["catalogue", "plates"].map(|endpoint| setting.binding(endpoint, TONIGHT).is_some());
    assert_eq!((left, setting.aliases(TONIGHT).len()), ([false, false], 0));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever fails and comes back, and when: the alias follows within the computed time where one works, and
    /// changes at most once in its TTL.
    #[test]
    fn an_alias_leads_to_what_works_within_the_computed_time(
        changes in prop::collection::vec((any::<bool>(), any::<bool>(), 5_u64..120), 1..12),
        lost in 0_u64..15,
    ) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
        let outcome: Result<(), TestCaseError> = runtime.block_on(async {
            let (setting, keeping) = kept(STANDBY).await;
            setting.break_or_mend(|faults| faults.lost_percent = lost);
            let mut last: Option<(u8, Timestamp)> = None;
            for (first, second, secs) in changes {
                for (address, is_up) in [(FIRST, first), (SECOND, second)] {
                    if is_up { live(&setting, address) } else { die(&setting, address) }
                }
                let mut wrong_for = Duration::ZERO;
                for _ in 0..secs * 4 {
                    setting.pass(Duration::from_millis(250)).await;
                    let (now, at) = (given(&setting), setting.now());
                    if let Some((before, changed)) = last.filter(|(before, _)| *before != now) {
                        let since = at.duration_since(changed);
                        prop_assert!(since >= SignedDuration::from_secs(29), "{before} to {now} after {since}");
                        last = Some((now, at));
                    }
                    last = last.or(Some((now, at.checked_sub(SignedDuration::from_hours(1)).unwrap())));
                    let works = if now == 1 { first } else { second };
                    let other = if now == 1 { second } else { first };
                    wrong_for = if !works && other { wrong_for + Duration::from_millis(250) } else { Duration::ZERO };
                    // The other one has to be seen to work too, and a change waits for the TTL of the last.
                    let bound = SEEN_WITHIN + PUBLISHED_WITHIN + TTL;
                    prop_assert!(lost > 0 || wrong_for <= bound, "{now} for {wrong_for:?}");
                }
            }
            keeping.stop().await;
            Ok(())
        });
        outcome?;
    }
}
