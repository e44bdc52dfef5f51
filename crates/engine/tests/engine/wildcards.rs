//! Names that a wildcard answers stay answered while challenge records come and go below them.

use std::time::Duration;

use pindrel_core::judging::findings::Code;
use pindrel_core::zones::records::RecordData;
use pindrel_engine::Event;
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE, several};

const WILDCARD: &str = "*.larkfield.example";

/// A world in which a wildcard, someone else's, leads to the endpoint `plates`.
async fn with_wildcard() -> (Setting, RecordData) {
    let slow = Pace { lag: Duration::from_secs(8), ..Pace::default() };
    let setting = Setting::new(slow, &several(2));
    setting.settle().await;
    let [to_plates] = setting.aliases("survey-1.larkfield.example").try_into().unwrap();
    setting.foreign_record(WILDCARD, to_plates.clone());
    setting.pass(Duration::from_secs(60)).await;
    (setting, to_plates)
}

/// Settles while the resolver is asked for a name all the time, and says whether it always had an address.
async fn settle_asking(setting: &Setting, name: &str) -> (usize, bool) {
    let asking = async {
        let mut answered = true;
        for _ in 0..240 {
            answered &= setting.resolves(name).await;
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        answered
    };
    let (summary, answered) = tokio::join!(setting.settle(), asking);
    (summary.held, answered)
}

#[tokio::test(start_paused = true)]
async fn issuing_takes_no_name_off_the_wildcard_that_answers_it() {
    let (mut setting, to_plates) = with_wildcard().await;
    // Once to an endpoint elsewhere, once to where the wildcard leads anyway.
    for endpoint in ["catalogue", "plates"] {
        let name = format!("live-{endpoint}.larkfield.example");
        assert!(setting.resolves(&name).await, "the wildcard answers it");
        setting.names = format!("{}[hostname.\"{name}\"]\nendpoint = \"{endpoint}\"\n", several(2));
        let (held, answered) = settle_asking(&setting, &name).await;
        assert_eq!((held, answered), (3, true), "{endpoint}: {:?}", setting.recorder.take());
        assert_eq!(setting.aliases(&name).len(), 1, "{endpoint}: it has a record of its own now");
        let engine = setting.engine().await;
        let id = engine.desired().certificate_named(&name).unwrap();
        engine.certificates.request_renewal(&[id]).await.unwrap();
        drop(engine);
        assert_eq!(settle_asking(&setting, &name).await, (3, true), "{endpoint}, renewed");
    }
    assert_eq!(setting.aliases(WILDCARD), [to_plates], "the wildcard is someone else's");
}

#[tokio::test(start_paused = true)]
async fn a_name_without_a_hostname_is_a_persons_task_before_an_order_is_spent_on_it() {
    let (mut setting, _) = with_wildcard().await;
    let name = "mail.larkfield.example";
    let before = setting.authority_counts().1;
    setting.names = format!("{}[certificate.mail]\nnames = [\"{name}\"]\n", several(2));
    assert_eq!(settle_asking(&setting, name).await, (2, true), "{:?}", setting.recorder.take());
    let events = setting.recorder.take();
    let told = |event: &Event| matches!(event, Event::Stuck { finding, .. } if finding.says().contains("*.larkfield.example answers mail"));
    assert!(events.iter().any(told), "{events:?}");
    assert_eq!(setting.authority_counts().1, before, "nothing was issued");
    let report = setting.status().await.certificates[0].clone();
    assert_eq!(report.last_attempt.unwrap().finding.unwrap().code(), Code::ChallengeMisplaced);
}

#[tokio::test(start_paused = true)]
async fn a_name_below_a_wildcard_of_the_manifest_goes_to_an_endpoint_of_its_own() {
    let stations = "[hostname.\"*.stations.larkfield.example\"]\nendpoint = \"catalogue\"\nprobe_as = \"lowell\"\n
        [certificate.stations]\nnames = [\"*.stations.larkfield.example\"]\n";
    let mut setting = Setting::new(Pace::default(), &format!("{ONE}{stations}"));
    assert_eq!(setting.settle().await.held, 2, "{:?}", setting.recorder.take());
    let crest = "crest.stations.larkfield.example";
    setting.names = format!("{ONE}{stations}[hostname.\"{crest}\"]\nendpoint = \"plates\"\n");
    // Its certificate is there already, so that nothing is put below it first.
    assert_eq!(settle_asking(&setting, crest).await, (3, true), "{:?}", setting.recorder.take());
    assert_ne!(setting.aliases(crest), setting.aliases("*.stations.larkfield.example"));
    assert_ne!(setting.aliases(crest), setting.aliases(API));
}
