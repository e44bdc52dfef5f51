//! Platforms that do it otherwise: they ask for records, want the alias first, issue certificates.

use std::time::Duration;

use pindrel_core::endpoints::endpoint::{EndpointInfo, KeepRecord};
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE};

/// What an endpoint does otherwise.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Kind {
    Asks(KeepRecord),
    OwnTargets,
    AliasFirst,
    Issues,
}

const KINDS: [Kind; 5] = [
    Kind::Asks(KeepRecord::UntilDeployed),
    Kind::Asks(KeepRecord::WhileBound),
    Kind::OwnTargets,
    Kind::AliasFirst,
    Kind::Issues,
];

fn make(setting: &Setting, endpoint: &str, kind: Kind) {
    let change = |change: fn(&mut EndpointInfo)| setting.change_endpoint(endpoint, change);
    match kind {
        Kind::Asks(keep) => setting.ask_for_records(endpoint, keep),
        Kind::OwnTargets => change(|info| info.own_targets = true),
        Kind::AliasFirst => change(|info| info.alias_first = true),
        Kind::Issues => {
            change(|info| info.offers.issued_certificates = true);
            setting.ask_for_records(endpoint, KeepRecord::WhileBound);
        }
    }
}

/// The manifest with the hostname at an endpoint, its certificate issued by whom it is there.
fn names(endpoint: &str, kind: Kind) -> String {
    let declared = "[certificate.app]\nnames = [\"api.larkfield.example\"]\nissued_by = \"platform\"\n";
    let at = ONE.replace("catalogue", endpoint);
    if endpoint == "plates" && kind == Kind::Issues { format!("{declared}{at}") } else { at }
}

/// There and back, cut off at any moment; the records that were asked for come and go with the binding.
#[tokio::test(start_paused = true)]
async fn a_hostname_comes_and_goes_whatever_the_platform_wants() {
    for kind in KINDS {
        for seed in 0..6 {
            let mut setting = Setting::new(Pace { deploy: Duration::from_secs(8), ..Pace::default() }, ONE);
            make(&setting, "plates", kind);
            setting.settle().await;
            for (round, to) in ["plates", "catalogue", "plates"].into_iter().enumerate() {
                setting.names = names(to, kind);
                for cut in 0..2 {
                    let after = dice(seed, (round * 2 + cut) as u64) % 20_000;
                    setting.settle_for(Duration::from_millis(after)).await;
                }
                let summary = setting.settle().await;
                let said = || format!("{kind:?}, seed {seed}, to {to}: {:?}", setting.recorder.take());
                assert_eq!((summary.held, summary.failed), (1, 0), "{}", said());
                assert!(setting.client_gets(API).await.is_some(), "{}", said());
                let kept = matches!(kind, Kind::Asks(KeepRecord::WhileBound) | Kind::Issues) && to == "plates";
                // The secondary takes a removal over later.
                setting.pass(Duration::from_secs(2)).await;
                assert_eq!(setting.challenge_records() > 0, kept, "records: {}", said());
            }
            assert_eq!(setting.binding("catalogue", API), None, "{kind:?}, seed {seed}");
            setting.names = String::new();
            setting.retire(&[API], Duration::from_secs(3_600)).await;
            setting.pass(Duration::from_secs(2)).await;
            assert_eq!(
                (setting.binding("plates", API), setting.challenge_records()),
                (None, 0),
                "{kind:?}, seed {seed}"
            );
            assert!(setting.aliases(API).is_empty(), "{kind:?}, seed {seed}");
        }
    }
}

/// Nothing else has to be waited for: a client is answered all the time but where the alias must come first.
#[tokio::test(start_paused = true)]
async fn a_client_is_answered_throughout_a_move_unless_the_alias_must_come_first() {
    for kind in KINDS {
        // Longer than caches keep the alias before.
        let mut setting = Setting::new(Pace { deploy: Duration::from_secs(90), ..Pace::default() }, ONE);
        make(&setting, "plates", kind);
        setting.settle().await;
        setting.names = names("plates", kind);
        let mut refused = 0;
        for _ in 0..60 {
            setting.settle_for(Duration::from_secs(3)).await;
            refused += usize::from(setting.client_gets(API).await.is_none());
        }
        assert_eq!(setting.settle().await.held, 1, "{kind:?}");
        assert_eq!(refused > 0, kind == Kind::AliasFirst, "{kind:?}: {refused} of 60");
    }
}
