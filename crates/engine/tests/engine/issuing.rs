//! What a run does where nothing is broken.

use std::time::Duration;

use pindrel_core::judging::findings::Code;
use pindrel_engine::{AttemptEnd, Event};
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE, several};

#[tokio::test(start_paused = true)]
async fn new_hostnames_are_held_in_one_run_which_leaves_nothing_behind_and_nothing_to_do() {
    let setting = Setting::new(Pace::default(), &several(20));
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.total, summary.failed), (20, 20, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.challenge_records(), 0);
    for n in 0..20 {
        assert!(setting.client_gets(&format!("survey-{n}.larkfield.example")).await.is_some(), "{n}");
    }
    // The steps of different hostnames run beside each other.
    assert!(summary.seconds < 30.0, "{summary:?}");

    let before = (setting.authority_counts(), setting.change_counts().0);
    let again = setting.settle().await;
    assert_eq!((again.held, again.planned), (20, 0));
    assert_eq!((setting.authority_counts(), setting.change_counts().0), before, "the second run changed something");
}

#[tokio::test(start_paused = true)]
async fn the_alias_comes_after_the_endpoint_serves_the_certificate() {
    let setting = Setting::new(Pace { deploy: Duration::from_secs(40), ..Pace::default() }, ONE);
    setting.settle().await;
    let ended = |event: &Event| match event {
        Event::StepEnded { action, .. } => Some(*action),
        _ => None,
    };
    let order: Vec<&str> = setting.recorder.take().iter().filter_map(ended).collect();
    assert_eq!(order, ["register", "issue", "store", "bind", "connect", "alias", "answer"]);
}

#[tokio::test(start_paused = true)]
async fn a_deployment_that_outlasts_the_patience_is_put_off_and_gone_on_with() {
    let mut setting = Setting::new(Pace { deploy: Duration::from_secs(300), ..Pace::default() }, ONE);
    setting.bounds.patience = Duration::from_secs(60);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.waiting, summary.failed), (0, 1, 0), "{summary:?}");
    let next = setting.recorder.take().into_iter().find_map(|event| match event {
        Event::StepPutOff { action: "bind", next, .. } => Some(next),
        _ => None,
    });
    assert!(next.is_some(), "the wait for the deployment is what is put off");
    assert!(setting.aliases(API).is_empty(), "no traffic goes to what is not deployed");
    let status = setting.status().await;
    let attempt = status.hostnames[0].last_attempt.as_ref().unwrap();
    assert_eq!((attempt.action.as_str(), attempt.ended), ("bind", AttemptEnd::Waiting));

    setting.pass(Duration::from_secs(300)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.authority_counts().2, 1, "one order served both runs");
}

#[tokio::test(start_paused = true)]
async fn what_waits_takes_no_place_from_what_can_go_on() {
    // Far more endpoints deploy slowly than there are places to work in.
    let names = several(120);
    let mut setting = Setting::new(Pace { deploy: Duration::from_secs(120), ..Pace::default() }, &names);
    setting.bounds.at_once = 4;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (120, 0), "{summary:?}");
    assert!(summary.seconds < 200.0, "deployments are waited for together: {summary:?}");
}

#[tokio::test(start_paused = true)]
async fn one_certificate_of_several_names_is_one_order_and_serves_them_all() {
    let names = format!(
        "{}certificate = \"all\"\n[hostname.\"*.plates.larkfield.example\"]\nendpoint = \"plates\"\nprobe_as = \"b\"\ncertificate = \"all\"\n\
         [certificate.all]\nnames = [\"api.larkfield.example\", \"*.plates.larkfield.example\", \"plates.larkfield.example\"]\n",
        ONE
    );
    let setting = Setting::new(Pace::default(), &names);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (2, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.authority_counts().2, 1);
    let (exact, wild) = (setting.client_gets(API).await, setting.client_gets("b.plates.larkfield.example").await);
    assert!(exact.is_some() && exact == wild);
    assert_eq!(setting.challenge_records(), 0);
}

#[tokio::test(start_paused = true)]
async fn a_plan_changes_nothing_and_names_the_steps_that_the_run_then_does() {
    let setting = Setting::new(Pace::default(), &several(3));
    let planned = setting.plan().await;
    assert_eq!((setting.authority_counts().0, setting.change_counts().0), (0, 0));
    let summary = setting.settle().await;
    assert_eq!(planned.steps.len(), summary.steps);
}

#[tokio::test(start_paused = true)]
async fn a_certificate_whose_roots_are_wrong_is_kept_until_they_are_corrected() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.break_or_mend(|faults| faults.no_roots = true);
    for _ in 0..3 {
        assert_eq!(setting.settle().await.failed, 1, "{:?}", setting.recorder.take());
    }
    let attempt = setting.status().await.hostnames[0].last_attempt.clone().unwrap();
    assert_eq!(attempt.finding.unwrap().code(), Code::IssuedUnusable);
    setting.break_or_mend(|faults| faults.no_roots = false);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_eq!(setting.issued().len(), 1, "one certificate was issued in all");
}
