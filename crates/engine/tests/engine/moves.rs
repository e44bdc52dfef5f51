//! Hostnames that change: another endpoint, other routes, other names, gone from the manifest.

use std::time::Duration;

use pindrel_core::pin::{Pin, PinState};
use pindrel_engine::{Aim, Scope};
use pindrel_testkit::memory::{Faults, Pace, Setting};

use crate::{API, ONE, dice, several};

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
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_ne!(setting.aliases(API), before);
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
async fn an_endpoint_that_does_not_exist_is_a_persons_task_and_its_certificate_is_issued() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.without_endpoints();
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{:?}", setting.recorder.take());
    let pins = &setting.status().await.hostnames[0].pins;
    assert_eq!((pins.get(Pin::Binding).state, pins.get(Pin::Certificate).state), (PinState::Blocked, PinState::Held));
    assert!(setting.aliases(API).is_empty());
}
