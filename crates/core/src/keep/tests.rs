//! The machine, by tables of what arrives when: no clock, no state and no peer.

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use super::*;
use crate::desired::{EndpointId, HostnameId, resolved};
use crate::endpoints::endpoint::{Deployment, EndpointInfo, EndpointKind};
use crate::health::{CheckFailure, CheckResult, Measured, Phases};
use crate::judging::facts::{
    AliasView, BindingView, EndpointView, Fact, HeldCertificate, HostnameKnowledge, ServedView, ServerRecords,
    Unreachable, Written,
};
use crate::judging::findings::{Finding, ZoneCause};
use crate::values::{Fingerprint, Ttl};
use crate::zones::records::{RecordData, RecordSet};

const MANIFEST: &str = r#"
manifest = 1
[keep]
look_every = "10m"
[authority.main]
directory = "https://authority.example/directory"
agree_to_terms = true
[zone."larkfield.example"]
driver = "rfc2136"
servers = ["127.0.0.3:53"]
tsig = { name = "pindrel", secret = "env:SECRET" }
[endpoint.north]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:TOKEN"
[endpoint.south]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:TOKEN"
[hostname."tonight.larkfield.example"]
endpoints = ["north", "south"]
policy = "standby"
ttl = "30s"
health = { path = "/ready", every = "10s", timeout = "2s", down_after = 2, up_after = 1 }
[hostname."api.larkfield.example"]
endpoint = "north"
"#;

const TONIGHT: HostnameId = HostnameId(0);
const NORTH: EndpointId = EndpointId(0);
const SOUTH: EndpointId = EndpointId(1);

fn address(endpoint: EndpointId) -> IpAddr {
    [IpAddr::from([192, 0, 2, 21]), IpAddr::from([192, 0, 2, 22])][endpoint.0 as usize]
}

fn alias(endpoint: EndpointId) -> Vec<RecordSet> {
    let target = ["gw-1.edge.test", "gw-2.edge.test"][endpoint.0 as usize];
    RecordSet::group([(Ttl::try_from(30).unwrap(), RecordData::Cname(target.parse().unwrap()))])
}

/// The machine with a clock, and what it asked for that was not answered yet.
struct Bench {
    keep: Keep,
    now: Now,
    probes: HashMap<CheckId, u64>,
    switches: Vec<SwitchOrder>,
    passes: Vec<PassOrder>,
    questions: Vec<(u64, Question)>,
    news: Vec<News>,
}

impl Bench {
    fn new() -> Bench {
        let desired = Arc::new(resolved(MANIFEST));
        let now = Now { wall: Timestamp::from_second(1_800_000_000).unwrap(), elapsed: Duration::ZERO };
        let claimed = desired.check_ids().collect();
        let known = Bench::known(&desired, NORTH, now);
        let keep = Keep::new(LoadedManifest { desired, known, claimed }, now);
        let mut bench = Bench {
            keep,
            now,
            probes: HashMap::new(),
            switches: Vec::new(),
            passes: Vec::new(),
            questions: Vec::new(),
            news: Vec::new(),
        };
        bench.handle(Event::Tick);
        bench
    }

    /// A hostname that is bound at both endpoints and leads to one of them.
    fn known(desired: &Desired, led: EndpointId, now: Now) -> Knowledge {
        let tonight = desired.hostname_named(&"tonight.larkfield.example".parse().unwrap()).unwrap();
        let seen = now.wall;
        let sha256 = Fingerprint::of(b"leaf");
        let mut known = Knowledge::default();
        let mut own = HostnameKnowledge::default();
        for id in [NORTH, SOUTH] {
            let name = format!("gw-{}.edge.test", id.0 + 1);
            let info = EndpointInfo {
                default_name: Some(name.parse().unwrap()),
                ..EndpointInfo::plain(&name, EndpointKind::Gateway, "north", vec![address(id)])
            };
            known.endpoints.insert(id, Fact { seen, value: EndpointView::Listed(Box::new(info)) });
            let binding = BindingView::Present {
                binding: desired.hostname(tonight).binding(desired, id, Some(sha256)),
                deployment: Deployment::Deployed,
                reply: None,
                lacking: Vec::new(),
                served: ServedView::certificate(sha256),
            };
            own.facts.bindings.insert(desired.endpoint(id).key(), Fact { seen, value: binding });
        }
        let day = |days: i64| seen.checked_add(SignedDuration::from_hours(24 * days)).unwrap();
        let name = desired.hostname(tonight).hostname.clone();
        let held = HeldCertificate::issued(sha256, name, day(-10)..day(80));
        known.certificates.insert(desired.hostname(tonight).certificate, Some(held));
        let server = "127.0.0.3:53".parse().unwrap();
        let gives = AliasView::of(vec![ServerRecords { server, gives: Ok(alias(led)) }]);
        own.facts.alias = Some(Fact { seen, value: gives });
        own.ownership.alias = Written { made: Some(alias(led)), ..Written::default() };
        known.hostnames.insert(tonight, own);
        known
    }

    fn handle(&mut self, event: Event) {
        for action in self.keep.handle(event, self.now) {
            match action {
                Action::Probe { check, round } => drop(self.probes.insert(check, round)),
                Action::AbandonProbes => self.probes.clear(),
                Action::Switch(order) => self.switches.push(*order),
                Action::Pass(order) => self.passes.push(order),
                Action::Ask { generation, question } => self.questions.push((generation, question)),
                Action::Tell(news) => self.news.push(news),
                Action::RenewDrivers => {}
            }
        }
    }

    /// Answers what was asked, as a state does that has nothing new to say.
    fn answer(&mut self) {
        for (generation, question) in std::mem::take(&mut self.questions) {
            let answer = match question {
                Question::Recall(ids) => Answer::Recalled { ids, said: Vec::new() },
                Question::Drained => Answer::Drained(Some(HashMap::new())),
                Question::Due(_) => Answer::Due(Some(Vec::new())),
                Question::Postpone(_) => Answer::Postponed(Vec::new()),
                Question::Claim(ids) => Answer::Claimed(Some(ids.into_iter().collect())),
                Question::Store(unstored) => Answer::Stored(Unstored { is_stored: true, ..unstored }),
                Question::Thin => Answer::Thinned,
                Question::Load(_) => continue,
            };
            self.handle(Event::Answered { generation, answer });
        }
    }

    fn pass(&mut self, time: Duration) {
        self.now.elapsed += time;
        self.now.wall = self.now.wall.checked_add(SignedDuration::try_from(time).unwrap()).unwrap();
        self.handle(Event::Tick);
    }

    /// Makes the checks that are asked for, of which those of some endpoints fail.
    fn check(&mut self, failing: &[EndpointId]) {
        let mut probes: Vec<(CheckId, u64)> = self.probes.drain().collect();
        probes.sort_unstable();
        for (check, round) in probes {
            let endpoint = self.keep.desired().check(check).endpoint().unwrap();
            let result = match failing.contains(&endpoint) {
                true => CheckResult::Failed(CheckFailure::NotConnected { why: Unreachable::Refused }),
                false => CheckResult::Passed,
            };
            let results = Some(vec![(address(endpoint).to_string(), Measured { phases: Phases::default(), result })]);
            self.handle(Event::CheckMade { check, round, results });
        }
    }

    /// Runs on for some seconds, a second at a time, answering all that is asked but switches and passes.
    fn run(&mut self, seconds: u64, failing: &[EndpointId]) {
        for _ in 0..seconds {
            self.pass(Duration::from_secs(1));
            self.check(failing);
            self.answer();
        }
    }

    fn end_pass(&mut self, outcome: Result<PassSeen, String>) {
        let order = self.passes.remove(0);
        self.handle(Event::PassEnded(Box::new(PassReport { order, outcome })));
    }

    /// Ends the switch under way; one that comes about is known from then on.
    fn end_switch(&mut self, outcome: Result<(), Finding>) {
        let order = self.switches.remove(0);
        let led = if outcome.is_ok() { order.to[0] } else { order.from[0] };
        let known = Bench::known(&order.desired, led, self.now).hostnames.remove(&TONIGHT);
        let (primary, ended) = (None, self.now.wall);
        self.handle(Event::SwitchEnded(Box::new(SwitchReport { order, primary, ended, outcome, behind: None, known })));
    }
}

fn silent() -> Finding {
    let why = Unreachable::Closed;
    Finding::zone(
        &"larkfield.example".parse().unwrap(),
        ZoneCause::ServersSilent { silent: vec![("127.0.0.3:53".parse().unwrap(), why)], is_stale_glue: false },
    )
}

#[test]
fn a_failed_endpoint_is_left_whatever_else_is_under_way_and_again_until_that_succeeds() {
    // What the pass under way does, and what the state does not answer, must not matter.
    for (pass_ends, is_state_silent) in [(true, false), (false, false), (false, true), (true, true)] {
        let mut bench = Bench::new();
        if pass_ends {
            bench.end_pass(Ok(PassSeen::default()));
        }
        bench.run(20, &[]);
        assert!(bench.switches.is_empty(), "all is well");
        if is_state_silent {
            // The driver gives every question up in time, with nothing learnt.
            for _ in 0..40 {
                bench.pass(Duration::from_secs(1));
                bench.check(&[NORTH]);
                for (generation, question) in std::mem::take(&mut bench.questions) {
                    let answer = match question {
                        Question::Recall(ids) => Answer::Recalled { ids, said: Vec::new() },
                        Question::Store(unstored) => Answer::Stored(unstored),
                        Question::Postpone(rows) => Answer::Postponed(rows),
                        Question::Drained => Answer::Drained(None),
                        Question::Due(_) => Answer::Due(None),
                        Question::Claim(_) => Answer::Claimed(None),
                        Question::Thin => Answer::Thinned,
                        Question::Load(_) => continue,
                    };
                    bench.handle(Event::Answered { generation, answer });
                }
            }
        } else {
            bench.run(40, &[NORTH]);
        }
        let case = format!("pass ends {pass_ends}, state silent {is_state_silent}");
        let order = bench.switches.first().unwrap_or_else(|| panic!("no switch: {case}"));
        assert_eq!((&order.from[..], &order.to[..]), (&[NORTH][..], &[SOUTH][..]), "{case}");
        assert_eq!(bench.switches.len(), 1, "never two at a time: {case}");

        // It fails again and again: 1, 2, 4 … 60 s after each failure it is tried once more, and told once.
        let mut pauses = Vec::new();
        for _ in 0..9 {
            bench.end_switch(Err(silent()));
            let failed = bench.now.elapsed;
            while bench.switches.is_empty() {
                bench.run(1, &[NORTH]);
            }
            pauses.push((bench.now.elapsed - failed).as_secs());
        }
        assert_eq!(pauses, [1, 2, 4, 8, 16, 32, 60, 60, 60], "{case}");
        let told = |news: &&News| matches!(news, News::InTheWay { .. });
        assert_eq!(bench.news.iter().filter(told).count(), 1, "{case}");
        bench.end_switch(Ok(()));
        bench.run(120, &[NORTH]);
        assert!(bench.switches.is_empty(), "it is where it should be: {case}");
        assert_eq!(bench.keep.summary().switches, 1);
    }
}

#[test]
fn what_ends_by_a_fault_is_scheduled_again() {
    let mut bench = Bench::new();
    // A check without a result, ten times.
    for _ in 0..10 {
        while bench.probes.is_empty() {
            bench.pass(Duration::from_secs(1));
            bench.answer();
        }
        let probes: Vec<_> = bench.probes.drain().collect();
        for (check, round) in probes {
            bench.handle(Event::CheckMade { check, round, results: None });
        }
    }
    assert_eq!(bench.keep.summary().checks, 0);
    // A pass that could not be made, then one more.
    bench.end_pass(Err("the disk is full".into()));
    assert!(matches!(bench.news.last(), Some(News::Note(says)) if says.contains("the disk is full")));
    let rows = bench.questions.iter().find_map(|(_, question)| match question {
        Question::Postpone(rows) => Some(rows.clone()),
        _ => None,
    });
    let rows = rows.unwrap();
    assert_eq!(rows.len(), 2, "{rows:?}");
    assert!(rows.iter().all(|row| row.failures == 1 && row.next > bench.now.wall), "{rows:?}");
    // The switch of a hostname that ends by a fault.
    bench.run(60, &[NORTH]);
    bench.end_switch(Err(silent()));
    bench.run(5, &[NORTH]);
    assert_eq!(bench.switches.len(), 1);
}

#[test]
fn what_is_not_as_it_should_be_is_looked_at_again_by_its_kind() {
    let hour = SignedDuration::from_hours(1);
    let tonight = Subject::Hostname(TONIGHT);
    // What a pass sees, how often before; the least and the most until the next look, and how often by then.
    for (stuck, failures, least, most, then) in [
        (None, 4, 599, 600, 0),
        (Some(None), 0, 48, 72, 1),
        (Some(None), 3, 384, 576, 4),
        (Some(Some(hour)), 9, 3_599, 3_600, 10),
        (Some(Some(-hour)), 0, 1, 1, 1),
    ] {
        let mut bench = Bench::new();
        bench.end_pass(Ok(PassSeen::default()));
        bench.run(700, &[]);
        let generation = bench.keep.board.generation;
        let due = DueSubject { subject: tonight, next: bench.now.wall, failures };
        bench.handle(Event::Answered { generation, answer: Answer::Due(Some(vec![due])) });
        assert_eq!(bench.passes.len(), 1);
        assert_eq!((&bench.passes[0].hostnames[..], bench.passes[0].is_whole), (&[TONIGHT][..], false));
        let mut seen = PassSeen::default();
        if let Some(named) = stuck {
            let at = named.map(|after: SignedDuration| bench.now.wall.checked_add(after).unwrap());
            seen.stuck.insert("tonight.larkfield.example".parse().unwrap(), at);
        }
        bench.questions.clear();
        bench.end_pass(Ok(seen));
        let rows = bench.questions.iter().find_map(|(_, question)| match question {
            Question::Postpone(rows) => Some(rows.clone()),
            _ => None,
        });
        let row = rows.unwrap().pop().unwrap();
        let pause = row.next.duration_since(bench.now.wall).as_secs();
        assert!((least..=most).contains(&pause) && row.failures == then, "{stuck:?} {failures}: {pause} {row:?}");
    }
}

/// What fails is asked for when it is due, not with the next look at what others may have found out.
#[test]
fn what_is_due_after_a_failure_is_asked_for_at_that_time() {
    let mut bench = Bench::new();
    let mut seen = PassSeen::default();
    seen.stuck.insert("tonight.larkfield.example".parse().unwrap(), None);
    bench.end_pass(Ok(seen));
    let rows = bench.questions.iter().find_map(|(_, question)| match question {
        Question::Postpone(rows) => rows.iter().find(|row| row.failures == 1).cloned(),
        _ => None,
    });
    let due = rows.unwrap().next;
    bench.answer();
    let is_asked = |bench: &Bench| bench.questions.iter().any(|(_, question)| question.topic() == Topic::Due);
    let mut asked = Vec::new();
    while bench.now.wall.duration_since(due).as_secs() < 3 {
        bench.pass(Duration::from_secs(1));
        if is_asked(&bench) && bench.now.wall >= due {
            asked.push(bench.now.wall);
        }
        bench.answer();
    }
    assert_eq!(asked.len(), 1, "{asked:?} of {due}");
}

#[test]
fn what_cannot_be_stored_is_stored_later_and_a_newer_time_takes_its_place() {
    let mut bench = Bench::new();
    bench.end_pass(Ok(PassSeen::default()));
    let postponed = |bench: &mut Bench| {
        let at = bench.questions.iter().position(|(_, question)| question.topic() == Topic::Postpone);
        let (_, question) = bench.questions.remove(at.unwrap());
        let Question::Postpone(rows) = question else { panic!("{question:?}") };
        rows
    };
    let rows = postponed(&mut bench);
    let generation = bench.keep.board.generation;
    // While the state is away a hostname is looked at again.
    let due = DueSubject { failures: 0, ..rows[0].clone() };
    bench.handle(Event::Answered { generation, answer: Answer::Due(Some(vec![due])) });
    bench.pass(Duration::from_secs(5));
    bench.end_pass(Ok(PassSeen::default()));
    bench.handle(Event::Answered { generation, answer: Answer::Postponed(rows.clone()) });
    let again = postponed(&mut bench);
    assert_eq!(again.len(), 2, "none is lost");
    assert!(again[0].subject == rows[0].subject && again[0].next > rows[0].next, "{again:?} {rows:?}");
    assert_eq!(again[1], rows[1]);
}

#[test]
fn checks_of_another_process_are_not_made_here_until_that_ends() {
    let mut bench = Bench::new();
    let generation = bench.keep.board.generation;
    let own: HashSet<CheckId> = [CheckId(0)].into();
    bench.handle(Event::Answered { generation, answer: Answer::Claimed(Some(own)) });
    let says = |bench: &Bench| match bench.news.last() {
        Some(News::Note(says)) => says.clone(),
        other => panic!("{other:?}"),
    };
    assert!(says(&bench).contains("another process makes 1 of the 2 checks"));
    bench.probes.clear();
    for _ in 0..30 {
        bench.pass(Duration::from_secs(1));
        bench.questions.retain(|(_, question)| question.topic() != Topic::Claim);
        assert!(!bench.probes.contains_key(&CheckId(1)), "it is not this process's");
        bench.check(&[]);
        bench.answer();
    }
    // Nothing is said while the state is away, and both are made once it says so.
    bench.handle(Event::Answered { generation, answer: Answer::Claimed(None) });
    bench.handle(Event::Answered { generation, answer: Answer::Claimed(Some([CheckId(0), CheckId(1)].into())) });
    assert!(says(&bench).contains("all checks are made by this process now"));
    let made = bench.keep.summary().checks;
    bench.run(20, &[]);
    assert_eq!(bench.keep.summary().checks - made, 4);
}

#[test]
fn a_changed_manifest_keeps_what_was_concluded_and_a_switch_under_way() {
    let mut bench = Bench::new();
    bench.run(60, &[NORTH]);
    assert_eq!(bench.switches.len(), 1);
    let next = Arc::new(resolved(&MANIFEST.replace(
        "[hostname.\"tonight",
        "[hostname.\"early.larkfield.example\"]\nendpoint = \"south\"\n[hostname.\"tonight",
    )));
    bench.questions.clear();
    bench.handle(Event::ManifestChanged(next.clone()));
    assert_eq!(bench.questions.len(), 1, "it is loaded once: {:?}", bench.questions);
    bench.handle(Event::ManifestChanged(next.clone()));
    assert_eq!(bench.questions.len(), 1);
    let tonight = next.hostname_named(&"tonight.larkfield.example".parse().unwrap()).unwrap();
    assert_ne!(tonight, TONIGHT, "it has another number by now");
    let known = Bench::known(&next, NORTH, bench.now);
    let claimed = next.check_ids().collect();
    bench.handle(Event::ManifestLoaded(Ok(Box::new(LoadedManifest { desired: next.clone(), known, claimed }))));
    assert_eq!(bench.passes.last().map(|order| order.is_whole), Some(true));
    // The same endpoint fails on: nothing is switched beside the switch under way, and it is tried again once that fails.
    bench.run(60, &[NORTH]);
    assert_eq!(bench.switches.len(), 1);
    bench.end_switch(Err(silent()));
    bench.run(3, &[NORTH]);
    assert_eq!(bench.switches.len(), 1);
    assert_eq!(bench.switches[0].id, tonight);
    assert!(Arc::ptr_eq(&bench.switches[0].desired, &next));
}

#[test]
fn servers_that_do_not_answer_are_no_reason_to_write_what_stands_there() {
    let mut bench = Bench::new();
    bench.run(20, &[]);
    bench.end_pass(Ok(PassSeen::default()));
    let at = bench.questions.iter().position(|(_, question)| question.topic() == Topic::Recall).unwrap();
    let (generation, question) = bench.questions.remove(at);
    let Question::Recall(ids) = question else { panic!("{question:?}") };
    bench.pass(Duration::from_secs(1));
    let mut own = Bench::known(&bench.keep.desired().clone(), NORTH, bench.now).hostnames.remove(&TONIGHT).unwrap();
    let server = "127.0.0.3:53".parse().unwrap();
    let silent = AliasView::of(vec![ServerRecords { server, gives: Err(Unreachable::TimedOut { after_ms: 5_000 }) }]);
    own.facts.alias = Some(Fact { seen: bench.now.wall, value: silent });
    let said = vec![Recalled { id: TONIGHT, own: Some(own), certificate: None, endpoints: Vec::new() }];
    bench.handle(Event::Answered { generation, answer: Answer::Recalled { ids, said } });
    bench.run(60, &[]);
    assert!(bench.switches.is_empty(), "{:?}", bench.switches);
}
