//! What is written into a zone: the marker, challenges that meet at one name, and nothing of what is somebody else's.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use jiff::SignedDuration;
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::zones::records::RecordData;
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE, several};

const MARKER: &str = "_pindrel.larkfield.example";

fn marked() -> Setting {
    let mut setting = Setting::new(Pace::default(), ONE);
    setting.zone = "marker = true".into();
    setting
}

async fn codes(setting: &Setting) -> Vec<Code> {
    let report = setting.status().await;
    report.hostnames[0].pins.findings().map(|finding| finding.code()).collect()
}

#[tokio::test(start_paused = true)]
async fn a_server_that_gives_other_ttls_than_it_is_told_is_left_its_way() {
    let mut setting = Setting::new(Pace::default(), "");
    setting.break_or_mend(|faults| faults.least_ttl = Some("5m".parse().unwrap()));
    let named =
        |ttl: &str| format!("[hostname.\"api.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"{ttl}\"\n");
    for ttl in ["30s", "1m"] {
        setting.names = named(ttl);
        let begun = setting.now();
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (1, 0), "{summary:?}");
        assert!(setting.now().duration_since(begun) < SignedDuration::from_mins(2));
        let changes = setting.change_counts().0;
        assert_eq!((setting.settle().await.planned, setting.change_counts().0), (0, changes));
    }
}

#[tokio::test(start_paused = true)]
async fn a_zone_is_marked_once_whatever_cuts_a_run_off_and_by_one_installation() {
    for seed in 0..20 {
        let setting = marked();
        for throw in 0..3 {
            setting.settle_for(Duration::from_millis(dice(seed, throw) % 4_000)).await;
        }
        assert_eq!(setting.settle().await.held, 1, "seed {seed}: {:?}", setting.recorder.take());
        assert_eq!(setting.texts(MARKER).len(), 1, "seed {seed}");
        assert_eq!(setting.settle().await.planned, 0, "seed {seed}");
    }
    // With another sealing key it is another installation: it is told, keeps its hands off, and works on.
    let first = marked();
    // A marker that settle is to add stops nothing, and another's is a warning.
    let online = async |setting: &Setting| {
        let zone = setting.engine().await.reports.online().await.unwrap().swap_remove(0);
        let codes = |of: &[Finding]| of.iter().map(|finding| finding.code()).collect::<Vec<_>>();
        (codes(&zone.findings), codes(&zone.advice))
    };
    assert_eq!(online(&first).await, (vec![], vec![]));
    first.settle().await;
    let marker = first.texts(MARKER);
    let second = first.with_lost_state();
    assert_eq!(online(&second).await, (vec![], vec![Code::ZoneMarkedByOther]));
    assert_eq!(codes(&second).await.iter().filter(|code| **code == Code::ZoneMarkedByOther).count(), 1);
    second.settle().await;
    assert_eq!(second.texts(MARKER), marker);
    // Somebody takes it away: the next run puts its own there.
    let gone = marker.into_iter().next().unwrap();
    second.somebody_deletes(MARKER, RecordData::Txt(gone.clone()));
    assert!(codes(&second).await.contains(&Code::ZoneUnmarked));
    second.settle().await;
    let own = second.texts(MARKER);
    assert!(own.len() == 1 && own[0] != gone, "{own:?}");
    assert!(!codes(&second).await.contains(&Code::ZoneUnmarked));
}

#[tokio::test(start_paused = true)]
async fn a_zone_that_refuses_the_marker_is_told_and_its_hostname_stays_answered() {
    let mut setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    assert!(setting.client_gets(API).await.is_some());
    setting.zone = "marker = true".into();
    setting.break_or_mend(|faults| faults.refuses_updates = true);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed, setting.texts(MARKER).len()), (0, 0, 0), "{:?}", setting.recorder.take());
    assert!(setting.client_gets(API).await.is_some());
    setting.break_or_mend(|faults| faults.refuses_updates = false);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    // No longer wanted: it stays, since it says nothing of what may be deleted, and nobody is told of it.
    setting.zone = String::new();
    assert_eq!((setting.settle().await.planned, setting.texts(MARKER).len()), (0, 1));
}

/// Orders whose challenges meet at one name put few there at a time, each is validated, and none is left, whatever cuts
/// a run off.
#[tokio::test(start_paused = true)]
async fn challenges_that_meet_at_one_name_come_a_few_at_a_time() {
    const NAMES: usize = 30;
    for seed in 0..6 {
        let setting = Setting::new(Pace::default(), &several(NAMES));
        setting.break_or_mend(|faults| faults.challenges_meet = Some("all.larkfield.example".parse().unwrap()));
        for throw in 0..seed {
            setting.settle_for(Duration::from_millis(dice(seed, throw) % 9_000)).await;
        }
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (NAMES, 0), "seed {seed}: {:?}", setting.recorder.take());
        let most = setting.most_texts();
        assert!((2..=6).contains(&most), "seed {seed}: {most} at once");
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
        assert_eq!(setting.authority_counts().2, NAMES, "seed {seed}: one order each");
    }
}

/// Whatever a manifest wants, and whatever others do in the zone meanwhile: what they made and nobody named stays as
/// they made it, and what Pindrel holds is exactly what is wanted.
#[tokio::test(start_paused = true)]
async fn after_any_edits_the_zone_has_what_is_wanted_and_all_that_is_others() {
    const NAMES: usize = 5;
    let name = |n: usize| format!("survey-{n}.larkfield.example");
    let leads = |endpoint: &str| {
        let site = if endpoint == "catalogue" { "north" } else { "south" };
        RecordData::Cname(format!("{endpoint}.{site}.edge.test").parse().unwrap())
    };
    for seed in 0..25 {
        let mut setting = Setting::new(Pace::default(), "");
        let mut others: BTreeMap<String, RecordData> = BTreeMap::new();
        let mut held: BTreeSet<usize> = BTreeSet::new();
        for round in 0..5 {
            let thrown = dice(seed, round);
            let wanted: Vec<usize> = (0..NAMES).filter(|n| thrown >> n & 1 == 1).collect();
            let endpoint = |n: usize| if thrown >> (8 + n) & 1 == 0 { "catalogue" } else { "plates" };
            setting.names = wanted
                .iter()
                .map(|n| format!("[hostname.\"{}\"]\nendpoint = \"{}\"\n", name(*n), endpoint(*n)))
                .collect();
            // Somebody edits a name: one of the manifest's, or another.
            let edited = (thrown >> 20) as usize % (NAMES + 2);
            let foreign = RecordData::A([192, 0, 2, (thrown >> 24) as u8].into());
            if thrown & 0x1_0000 == 0 {
                setting.somebody_makes(&name(edited), Some(foreign.clone()));
                others.insert(name(edited), foreign);
                held.remove(&edited);
            }
            setting.settle().await;
            for n in &wanted {
                match others.get(&name(*n)) {
                    Some(foreign) => {
                        assert_eq!(
                            setting.aliases(&name(*n)),
                            std::slice::from_ref(foreign),
                            "seed {seed}, round {round}"
                        )
                    }
                    None => {
                        assert_eq!(
                            setting.aliases(&name(*n)),
                            [leads(endpoint(*n))],
                            "seed {seed}, round {round}: {n}"
                        );
                        held.insert(*n);
                    }
                }
            }
            for (owner, foreign) in &others {
                assert_eq!(
                    setting.aliases(owner),
                    std::slice::from_ref(foreign),
                    "seed {seed}, round {round}: {owner}"
                );
            }
        }
        // What the manifest no longer names is taken away by name, and again nothing else.
        setting.names = String::new();
        let all: Vec<String> = (0..NAMES).map(name).collect();
        let all: Vec<&str> = all.iter().map(String::as_str).collect();
        setting.retire(&all, Duration::from_secs(3_600)).await;
        for n in 0..NAMES + 2 {
            let left: Vec<RecordData> = others.get(&name(n)).cloned().into_iter().collect();
            assert_eq!(setting.aliases(&name(n)), left, "seed {seed}: {n}");
        }
    }
}
