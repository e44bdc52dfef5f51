//! Several processes at work on one state: each on its own things, none in the way of another.

use std::time::Duration;

use futures::future::join_all;
use pindrel_engine::Event;
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Pace, Setting};

use crate::several;

const API: &str = "survey-0.larkfield.example";

#[tokio::test(start_paused = true)]
async fn runs_at_once_share_the_work_and_none_fails() {
    for seed in 0..12 {
        let setting = Setting::new(Pace::default(), &several(3));
        let processes: Vec<Setting> = (0..1 + seed % 3).map(|_| setting.another_process()).collect();
        let runs = processes.iter().zip(0..).map(async |(process, number)| {
            tokio::time::sleep(Duration::from_millis(dice(seed, number) % 6_000)).await;
            process.settle().await
        });
        let (summary, others) = tokio::join!(setting.settle(), join_all(runs));
        for summary in others.iter().chain([&summary]) {
            let told: Vec<_> = processes.iter().flat_map(|process| process.recorder.take()).collect();
            assert_eq!(
                (summary.held, summary.failed, summary.waiting),
                (3, 0, 0),
                "seed {seed}: {summary:?} {told:#?}"
            );
        }
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
        assert_eq!(setting.authority_counts().1, 3, "seed {seed}: one order for each: {:?}", setting.issued());
        assert_eq!(setting.settle().await.planned, 0, "seed {seed}");
    }
}

#[tokio::test(start_paused = true)]
async fn what_another_process_works_on_is_waited_for_and_named_and_taken_over_when_it_ends() {
    let setting = Setting::new(Pace::default(), &several(1));
    let other = setting.another_process();
    setting.break_or_mend(|faults| faults.frozen = true);
    let first = tokio::spawn(async move { setting.settle().await });
    tokio::time::sleep(Duration::from_secs(30)).await;
    let second = tokio::spawn(async move {
        let summary = other.settle().await;
        (summary, other)
    });
    tokio::time::sleep(Duration::from_secs(30)).await;
    // It is killed: nobody waits for the dead.
    first.abort();
    let _ = first.await;
    let (summary, other) = second.await.unwrap();
    assert_eq!((summary.held, summary.failed), (0, 1), "the name servers are still behind: {summary:?}");
    let told = other.recorder.take();
    let waited = |event: &Event| matches!(event, Event::Waiting { what, .. } if what.contains("working on"));
    assert!(told.iter().any(waited), "{told:?}");
    other.break_or_mend(|faults| faults.frozen = false);
    other.pass(Duration::from_secs(60)).await;
    assert_eq!(other.settle().await.held, 1);
    assert!(other.client_gets(API).await.is_some());
}
