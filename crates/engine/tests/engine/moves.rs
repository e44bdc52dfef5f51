//! Hostnames that change: another endpoint, other routes, other names, gone from the manifest.

use std::time::Duration;

use pindrel_core::judging::pin::{Pin, PinState};
use pindrel_core::zones::records::RecordData;
use pindrel_engine::{Aim, Event, Scope};
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Faults, Pace, Setting};

use crate::{API, ONE, several};

/// Moves there and back, cut off at any moment, with clients asking in between.
#[tokio::test(start_paused = true)]
async fn a_move_that_is_cut_off_anywhere_is_finished_and_never_refuses_a_client() {
    for seed in 0..24 {
        let mut setting = Setting::new(Pace { deploy: Duration::from_secs(8), ..Pace::default() }, ONE);
        setting.settle().await;
        for round in 0..4 {
            let to = if round % 2 == 0 { "plates" } else { "catalogue" };
            setting.names = ONE.replace("catalogue", to);
            setting.settle_for(Duration::from_millis(dice(seed, round) % 15_000)).await;
            assert!(setting.client_gets(API).await.is_some(), "seed {seed}, round {round}, to {to}");
        }
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (1, 0), "seed {seed}: {:?}", setting.recorder.take());
        assert!(setting.client_gets(API).await.is_some(), "seed {seed}");
        assert_eq!(setting.binding("plates", API), None, "seed {seed}: nothing stays where it was");
        assert_eq!((setting.authority_counts().2, setting.challenge_records()), (1, 0), "seed {seed}");
    }
}

#[tokio::test(start_paused = true)]
async fn a_hostname_does_not_leave_an_endpoint_before_the_next_one_answers() {
    let mut setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let (before, first) = (setting.aliases(API), setting.client_gets(API).await);
    setting.names = ONE.replace("catalogue", "plates");
    for fault in [
        (|faults| faults.refused.extend([API.to_owned()])) as fn(&mut Faults),
        |faults| faults.stuck.extend(["plates".to_owned()]),
        |faults| faults.platform_down = true,
        |faults| faults.refuses_updates = true,
    ] {
        setting.bounds.patience = Duration::from_secs(30);
        setting.break_or_mend(fault);
        assert_eq!(setting.settle().await.held, 0);
        assert_eq!((setting.aliases(API), setting.client_gets(API).await), (before.clone(), first));
        setting.break_or_mend(|faults| *faults = Faults::default());
    }
    setting.bounds.patience = Duration::from_secs(600);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_ne!(setting.aliases(API), before);
}

/// The TTL is lowered and waited out before the alias moves, and the binding that it leaves stays until
/// no cache can lead there; nobody has to wait at a terminal for it.
#[tokio::test(start_paused = true)]
async fn a_move_takes_the_time_that_caches_need_over_several_runs() {
    let long = format!("{ONE}ttl = \"30m\"\n");
    let mut setting = Setting::new(Pace::default(), &long);
    setting.settle().await;
    let (left, ttl) = (setting.now(), |setting: &Setting| setting.alias_ttl(API).unwrap().as_secs());
    setting.names = long.replace("catalogue", "plates");
    let planned: Vec<&str> = setting.plan().await.steps.iter().map(|step| step.action).collect();
    assert_eq!(planned, ["store", "bind", "connect", "lower-ttl", "alias", "answer", "unbind", "raise-ttl"]);
    let leads_to = |setting: &Setting| setting.aliases(API)[0].to_string();
    let first = leads_to(&setting);
    let summary = setting.settle().await;
    assert_eq!((summary.waiting, summary.failed, ttl(&setting)), (1, 0, 60), "{:?}", setting.recorder.take());
    assert_eq!(leads_to(&setting), first, "caches may keep it for half an hour");
    let given = setting.status().await.hostnames[0].given.clone().unwrap();
    let names = |names: &str| vec![names.to_owned()];
    assert_eq!((given.endpoints, given.due), (names("catalogue"), names("plates")), "until the alias moves");
    setting.pass(Duration::from_secs(29 * 60)).await;
    setting.bounds.patience = Duration::from_secs(20);
    setting.settle().await;
    setting.bounds.patience = Duration::from_secs(600);
    assert_eq!(leads_to(&setting), first);
    assert!(setting.binding("plates", API).is_some(), "it is ready");
    setting.pass(Duration::from_secs(60)).await;
    let summary = setting.settle().await;
    assert_ne!(leads_to(&setting), first);
    assert_eq!((summary.held, summary.failed, ttl(&setting)), (1, 0, 1_800), "{:?}", setting.recorder.take());
    assert_eq!(setting.binding("catalogue", API), None);
    assert_eq!(setting.stored("north"), 0, "the copy that nothing uses is gone");
    assert_eq!(setting.stored("south"), 1);
    assert!(setting.now().duration_since(left).as_secs() < 35 * 60);
    assert_eq!(setting.settle().await.planned, 0);
}

/// A TTL that the manifest lowers shortly before a move is waited out as well: caches still have the long one.
#[tokio::test(start_paused = true)]
async fn a_ttl_that_was_lowered_shortly_before_is_waited_out() {
    let long = format!("{ONE}ttl = \"30m\"\n");
    let mut setting = Setting::new(Pace::default(), &long);
    setting.settle().await;
    let first = setting.aliases(API)[0].to_string();
    let short = long.replace("30m", "30s");
    setting.names.clone_from(&short);
    assert_eq!(setting.settle().await.held, 1);
    setting.names = short.replace("catalogue", "plates");
    setting.pass(Duration::from_secs(60)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.waiting, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.aliases(API)[0].to_string(), first, "caches may keep it for half an hour");
    setting.pass(Duration::from_secs(30 * 60)).await;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_ne!(setting.aliases(API)[0].to_string(), first);
}

/// Who cannot wait moves at once, and is told what that costs; the old endpoint stays bound all the same.
#[tokio::test(start_paused = true)]
async fn a_move_can_be_made_at_once_and_says_what_that_costs() {
    let long = format!("{ONE}ttl = \"30m\"\n");
    let mut setting = Setting::new(Pace::default(), &long);
    setting.settle().await;
    let before = setting.aliases(API);
    setting.names = long.replace("catalogue", "plates");
    setting.bounds.skip_ttl_wait = true;
    setting.recorder.take();
    setting.settle().await;
    assert_ne!(setting.aliases(API), before, "{:?}", setting.recorder.take());
    assert!(setting.binding("catalogue", API).is_some(), "caches lead there for half an hour");
    let events = setting.recorder.take();
    let says = |event: &Event| matches!(event, Event::Note { says } if says.contains("moves at once") && says.contains("until 20"));
    assert!(events.iter().any(says), "{events:?}");
    setting.pass(Duration::from_secs(1_900)).await;
    setting.settle().await;
    assert_eq!(setting.binding("catalogue", API), None);
}

/// Taken away at any pace and through any fault, what answers goes in the right order, and all of it.
#[tokio::test(start_paused = true)]
async fn a_hostname_is_retired_from_the_outside_in_whatever_interrupts_it() {
    for seed in 0..24 {
        let mut setting = Setting::new(Pace { deploy: Duration::from_secs(8), ..Pace::default() }, &several(2));
        setting.settle().await;
        let gone = "survey-1.larkfield.example";
        setting.names = several(1);
        setting.retire(&[gone], Duration::from_millis(dice(seed, 0) % 80_000)).await;
        for round in 1..4 {
            setting.break_or_mend(|faults| faults.platform_down = dice(seed, round).is_multiple_of(3));
            setting.break_or_mend(|faults| faults.refuses_updates = dice(seed, round).is_multiple_of(4));
            setting.settle_for(Duration::from_millis(dice(seed, round + 10) % 40_000)).await;
            let (aliases, bound) = (setting.aliases(gone).len(), setting.binding("plates", gone).is_some());
            assert!(bound || aliases == 0, "seed {seed}, round {round}: an alias without its binding");
            assert_eq!(setting.client_gets(gone).await.is_some(), setting.resolves(gone).await, "seed {seed}");
        }
        setting.break_or_mend(|faults| *faults = Faults::default());
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed, summary.leftovers), (1, 0, 0), "{:?}", setting.recorder.take());
        assert!(setting.aliases(gone).is_empty() && setting.binding("plates", gone).is_none(), "seed {seed}");
        assert_eq!((setting.stored("north"), setting.stored("south")), (1, 0), "seed {seed}");
        assert_eq!(setting.settle().await.planned, 0, "seed {seed}");
    }
}

#[tokio::test(start_paused = true)]
async fn only_what_pindrel_made_is_retired_and_what_it_cannot_reach_is_a_persons_task() {
    let mut setting = Setting::new(Pace::default(), &several(2));
    setting.settle().await;
    let gone = "survey-1.larkfield.example";
    // Somebody else has made the name their own meanwhile.
    setting.remove_aliases(gone);
    setting.foreign_record(gone, RecordData::A(std::net::Ipv4Addr::new(198, 51, 100, 7)));
    setting.names = several(1);
    let long = Duration::from_secs(3_600);
    setting.retire(&[gone], long).await;
    assert_eq!(setting.aliases(gone).len(), 1, "it stays");
    setting.pass(long).await;
    setting.settle().await;
    assert_eq!((setting.binding("plates", gone), setting.settle().await.leftovers), (None, 0));
}

#[tokio::test(start_paused = true)]
async fn aliases_are_held_back_until_a_person_has_looked() {
    let setting = Setting::new(Pace::default(), &several(2));
    let engine = setting.engine().await;
    let summary = engine.settle(&Scope::all(engine.desired()), Aim::HoldAliases).await.unwrap();
    assert_eq!((summary.held, summary.failed), (0, 0), "{:?}", setting.recorder.take());
    for (number, endpoint) in ["catalogue", "plates"].into_iter().enumerate() {
        let hostname = format!("survey-{number}.larkfield.example");
        assert!(setting.aliases(&hostname).is_empty() && setting.binding(endpoint, &hostname).is_some());
    }
    let plan = engine.plan(&Scope::all(engine.desired()), Aim::HoldAliases).await.unwrap();
    let finding = &plan.stuck[0].findings[0];
    let curl = "curl --resolve survey-0.larkfield.example:443:192.0.2.21 https://survey-0.larkfield.example/";
    assert!(plan.steps.is_empty() && finding.remedy().contains(curl), "{finding:?}");
    assert_eq!(setting.settle().await.held, 2);
    // What leads there already is not held back.
    let engine = setting.engine().await;
    assert_eq!(engine.settle(&Scope::all(engine.desired()), Aim::HoldAliases).await.unwrap().held, 2);
}

#[tokio::test(start_paused = true)]
async fn changed_routes_are_bound_without_another_certificate() {
    let routes = |prefix: &str| {
        format!("{ONE}routes = [{{ prefix = \"{prefix}\", service = \"catalogue\", release = \"live\" }}]\n")
    };
    let mut setting = Setting::new(Pace::default(), &routes("/v1"));
    setting.settle().await;
    let binding = setting.binding("catalogue", API).unwrap();
    setting.names = routes("/v2");
    let planned = setting.plan().await;
    let actions: Vec<&str> = planned.steps.iter().map(|step| step.action).collect();
    assert!(actions.contains(&"bind") && !actions.contains(&"issue") && !actions.contains(&"alias"), "{actions:?}");
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    let changed = setting.binding("catalogue", API).unwrap();
    assert_eq!((changed.certificate, setting.authority_counts().2), (binding.certificate, 1));
    assert_ne!(changed.routes, binding.routes);
}

#[tokio::test(start_paused = true)]
async fn more_names_in_a_certificate_replace_it_and_serve_the_old_name_meanwhile() {
    let names = |more: &str| format!("{ONE}certificate = \"own\"\n[certificate.own]\nnames = [\"{API}\"{more}]\n");
    let mut setting = Setting::new(Pace::default(), &names(""));
    setting.settle().await;
    let first = setting.client_gets(API).await;
    setting.names = names(", \"b.larkfield.example\"");
    setting.break_or_mend(|faults| faults.authority.invalid.extend(["b.larkfield.example".to_owned()]));
    assert_eq!(setting.settle().await.held, 0);
    assert_eq!(setting.client_gets(API).await, first, "the one that there is still answers");
    setting.break_or_mend(|faults| *faults = Faults::default());
    setting.pass(Duration::from_secs(3600)).await;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_ne!(setting.client_gets(API).await, first);
}

#[tokio::test(start_paused = true)]
async fn a_run_about_one_hostname_touches_no_other() {
    let setting = Setting::new(Pace::default(), &several(5));
    let engine = setting.engine().await;
    let only: Vec<_> = engine.desired().hostname_ids().skip(2).take(1).collect();
    let scope = Scope { hostnames: only, ..Scope::default() };
    let summary = engine.settle(&scope, Aim::Hold).await.unwrap();
    assert_eq!((summary.held, summary.total, setting.authority_counts().2), (1, 1, 1));
    for n in 0..5 {
        let answered = setting.client_gets(&format!("survey-{n}.larkfield.example")).await.is_some();
        assert_eq!(answered, n == 2, "{n}");
    }
}

#[tokio::test(start_paused = true)]
async fn what_no_longer_is_in_the_manifest_is_left_alone_and_its_order_abandoned() {
    let mut setting = Setting::new(Pace::default(), &several(2));
    setting.bounds.patience = Duration::from_secs(5);
    setting.break_or_mend(|faults| faults.frozen = true);
    setting.settle().await;
    setting.break_or_mend(|faults| faults.frozen = false);
    setting.names = several(1);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_eq!(setting.challenge_records(), 0, "nothing is left of the order that nobody wants");
    assert!(setting.state.open_orders().await.unwrap().is_empty());
    assert!(setting.aliases("survey-1.larkfield.example").is_empty());
}

#[tokio::test(start_paused = true)]
async fn an_endpoint_that_does_not_exist_is_a_persons_task_and_no_certificate_is_ordered_for_it() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.without_endpoints();
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{:?}", setting.recorder.take());
    let pins = &setting.status().await.hostnames[0].pins;
    assert_eq!((pins.get(Pin::Binding).state, pins.get(Pin::Certificate).state), (PinState::Blocked, PinState::Loose));
    assert_eq!(setting.authority_counts().2, 0);
    assert!(setting.aliases(API).is_empty());
}
