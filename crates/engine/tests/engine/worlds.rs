//! Worlds in which things break and mend at random.

use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::time::Duration;

use futures::future::join_all;
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Faults, PRIMARY, Pace, SECONDARY, Setting};

const NAMES: usize = 4;
/// How many worlds with several processes are tried, unless `PINDREL_WORLDS` says otherwise.
const FEW: u64 = 10;

fn break_something(faults: &mut Faults, thrown: u64) {
    let name = format!("survey-{}.larkfield.example", thrown / 16 % NAMES as u64);
    match thrown % 9 {
        0 => faults.authority.down = true,
        1 => faults.authority.lose_next_answer = true,
        2 => faults.authority.invalid.extend([name]),
        3 => faults.frozen = true,
        4 => faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]),
        5 => faults.silent.extend([PRIMARY.parse::<SocketAddr>().unwrap()]),
        6 => faults.platform_down = true,
        7 => faults.refuses_updates = true,
        _ => faults.refused.extend([name]),
    }
}

/// The manifest with each name at one endpoint or the other.
fn spread(thrown: u64) -> String {
    let at = |n: usize| if thrown >> n & 1 == 0 { "catalogue" } else { "plates" };
    let block = |n| format!("[hostname.\"survey-{n}.larkfield.example\"]\nendpoint = \"{}\"\n", at(n));
    (0..NAMES).map(block).collect()
}

/// Whatever breaks, and wherever names move to: what a client was once given it is given always, every run ends in bounded
/// time, no name has more failed orders than runs, and once all is mended all is held.
#[tokio::test(start_paused = true)]
async fn whatever_breaks_who_was_answered_stays_answered_and_all_is_held_once_it_is_mended() {
    for seed in 0..60 {
        let pace = Pace {
            lag: Duration::from_millis(dice(seed, 1) % 20_000),
            deploy: Duration::from_millis(dice(seed, 2) % 60_000),
            negative: Duration::from_secs(dice(seed, 3) % 60),
            ..Pace::default()
        };
        let mut setting = Setting::new(pace, &spread(dice(seed, 4)));
        let mut answered: HashSet<String> = HashSet::new();
        for round in 0..6 {
            let thrown = dice(seed, 10 + round);
            if thrown & 0x600 == 0 {
                setting.names = spread(dice(seed, 100 + round));
            }
            setting.break_or_mend(|faults| {
                *faults = Faults::default();
                break_something(faults, thrown);
            });
            let summary = if thrown & 0x100 == 0 {
                Some(setting.settle().await)
            } else {
                setting.settle_for(Duration::from_millis(thrown >> 16 & 0xffff)).await;
                None
            };
            let told = setting.recorder.take();
            assert!(summary.is_none_or(|summary| summary.seconds < 1_500.0), "seed {seed}, round {round}: {told:?}");
            let resolver_fails = setting.faults().silent.len() == 2;
            for name in (0..NAMES).map(|n| format!("survey-{n}.larkfield.example")) {
                let gets = setting.client_gets(&name).await.is_some();
                assert!(gets || resolver_fails || !answered.contains(&name), "seed {seed}, round {round}: {name}");
                if gets {
                    answered.insert(name);
                }
            }
            setting.pass(Duration::from_secs(thrown >> 32 & 0xfff)).await;
        }
        setting.break_or_mend(|faults| *faults = Faults::default());
        setting.pass(Duration::from_secs(24 * 3600)).await;
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (NAMES, 0), "seed {seed}: {:?}", setting.recorder.take());
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
    }
}

/// What one process does in a round: it settles, or runs on, and ends by itself or is killed.
async fn act(process: &Setting, thrown: u64) {
    let a_while = Duration::from_millis(thrown >> 16 & 0x3_ffff);
    match thrown % 4 {
        0 => {
            process.settle().await;
        }
        1 => {
            process.settle_for(a_while).await;
        }
        2 => {
            let keeping = process.keep();
            process.pass(a_while).await;
            keeping.stop().await;
        }
        _ => {
            let keeping = process.keep();
            process.pass(a_while).await;
            keeping.kill().await;
        }
    }
    process.recorder.take();
}

/// Several processes at once on one state, in a world that breaks: who was answered stays answered, no certificate is issued
/// twice, no record of others is touched, and once all is mended all is held.
#[tokio::test(start_paused = true)]
async fn several_processes_in_a_breaking_world_lose_nothing_and_do_nothing_twice() {
    let seeds = std::env::var("PINDREL_WORLDS").ok().and_then(|text| text.parse().ok()).unwrap_or(FEW);
    for seed in 0..seeds {
        let pace = Pace {
            lag: Duration::from_millis(dice(seed, 1) % 8_000),
            deploy: Duration::from_millis(dice(seed, 2) % 30_000),
            ..Pace::default()
        };
        let setting = Setting::new(pace, &spread(dice(seed, 4)));
        let processes: Vec<Setting> = (0..2 + seed % 3).map(|_| setting.another_process()).collect();
        let mut answered: HashSet<String> = HashSet::new();
        for round in 0..5 {
            let thrown = dice(seed, 20 + round);
            setting.break_or_mend(|faults| {
                *faults = Faults::default();
                if thrown & 0x300 != 0 {
                    break_something(faults, thrown);
                }
            });
            let acts = processes.iter().zip(0..).map(|(process, n)| act(process, dice(seed, 1_000 + 10 * round + n)));
            join_all(acts).await;
            let resolver_fails = setting.faults().silent.len() == 2;
            for name in (0..NAMES).map(|n| format!("survey-{n}.larkfield.example")) {
                let gets = setting.client_gets(&name).await.is_some();
                assert!(gets || resolver_fails || !answered.contains(&name), "seed {seed}, round {round}: {name}");
                if gets {
                    answered.insert(name);
                }
            }
            setting.pass(Duration::from_secs(thrown >> 32 & 0x3ff)).await;
        }
        setting.break_or_mend(|faults| *faults = Faults::default());
        setting.pass(Duration::from_secs(24 * 3600)).await;
        let summaries = join_all(processes.iter().map(Setting::settle)).await;
        for summary in &summaries {
            assert_eq!((summary.held, summary.failed), (NAMES, 0), "seed {seed}: {summary:?}");
        }
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
        let mut issued: HashMap<String, usize> = HashMap::new();
        for (_, name) in setting.issued() {
            *issued.entry(name.to_string()).or_default() += 1;
        }
        assert!(issued.values().all(|count| *count == 1), "seed {seed}: {issued:?}");
    }
}
