//! A change on its way: to the secondary, then out of caches, and never told as done before.

use std::time::Duration;

use pindrel_core::desired::HostnameId;
use pindrel_core::zones::propagation::Reached;
use pindrel_core::zones::records::RecordData;
use pindrel_testkit::memory::{PRIMARY, Pace, RESOLVER, SECONDARY, Setting};

use crate::{API, ONE};

const LAG: Duration = Duration::from_secs(9);

fn at_plates() -> RecordData {
    RecordData::Cname("plates.south.edge.test".parse().unwrap())
}

/// A hostname that is held, and is about to lead elsewhere, by somebody else's hand.
async fn moving() -> Setting {
    let mut setting = Setting::new(Pace { lag: LAG, ..Pace::default() }, ONE);
    setting.settle().await;
    assert!(setting.client_gets(API).await.is_some(), "the resolver has it in its cache now");
    setting.names = ONE.replace("catalogue", "plates");
    setting.bounds.patience = Duration::from_secs(30);
    setting
}

/// Watches; returns who was waited for at the end, the states that each went through, and how long it took.
async fn watch(setting: &Setting) -> (Vec<String>, Vec<[&'static str; 3]>, u64) {
    let engine = setting.engine().await;
    let order = engine.zones.watch_of(HostnameId(0)).await.unwrap();
    let begun = setting.now();
    let mut seen: Vec<[&'static str; 3]> = Vec::new();
    let spread = engine.zones.watch(&order, |spread| {
        let states = spread.servers.iter().chain(&spread.resolvers).map(|peer| match peer.reached {
            Reached::NotAsked => "not asked",
            Reached::Has => "has",
            Reached::NotYet { .. } => "not yet",
            Reached::Wrong { .. } => "wrong",
            Reached::Silent { .. } => "silent",
        });
        let states: Vec<&'static str> = states.collect();
        let states = [states[0], states[1], states[2]];
        if seen.last() != Some(&states) {
            seen.push(states);
        }
    });
    let spread = spread.await.unwrap();
    let took = setting.now().duration_since(begun).as_secs();
    let left = spread.waiting_for().into_iter().map(str::to_owned).collect();
    (left, seen, u64::try_from(took).unwrap())
}

#[tokio::test(start_paused = true)]
async fn a_change_is_watched_from_the_first_server_to_the_last_cache() {
    let mut setting = moving().await;
    // Nobody has made it: the resolver is left alone, and it ends with the patience.
    let (left, seen, took) = watch(&setting).await;
    assert_eq!(left, [PRIMARY, SECONDARY, RESOLVER]);
    assert_eq!((seen, took), (vec![["not yet", "not yet", "not asked"]], 30));
    setting.somebody_makes(API, Some(at_plates()));
    setting.bounds.patience = Duration::from_secs(600);
    let (left, seen, took) = watch(&setting).await;
    assert_eq!((left.len(), seen.last()), (0, Some(&["has"; 3])), "{seen:?}");
    assert_eq!(seen[0], ["has", "not yet", "not asked"], "the secondary lags, and the resolver is not asked before it");
    assert!((9..=75).contains(&took), "the lag of 9 s, and the TTL of a minute: {took}");
    // Watched again it is done at once: after the two answers that a resolver must give.
    let (left, _, took) = watch(&setting).await;
    assert!(left.is_empty() && took <= 2, "{took}");
}

#[tokio::test(start_paused = true)]
async fn who_does_not_get_a_change_is_named_when_the_patience_is_over() {
    for (what, faults, expected) in [
        ("a secondary that stands still", true, ["has", "not yet", "not asked"]),
        ("one that is down", false, ["has", "silent", "not asked"]),
    ] {
        let setting = moving().await;
        setting.break_or_mend(|broken| {
            broken.frozen = faults;
            if !faults {
                broken.silent.insert(SECONDARY.parse().unwrap());
            }
        });
        setting.somebody_makes(API, Some(at_plates()));
        let (left, seen, took) = watch(&setting).await;
        assert_eq!(left, [SECONDARY, RESOLVER], "{what}");
        assert_eq!((seen.last(), took), (Some(&expected), 30), "{what}: {seen:?}");
    }
}
