//! What Pindrel did not make it leaves alone, and what it moves is answered all the time.

use std::time::Duration;

use pindrel_core::endpoints::endpoint::{Binding, TlsVersion};
use pindrel_core::judging::findings::Code;
use pindrel_core::judging::pin::PinState;
use pindrel_core::values::Fingerprint;
use pindrel_core::zones::records::RecordData;
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE};

fn parked() -> RecordData {
    RecordData::Cname("parked.larkfield.test".parse().unwrap())
}

#[tokio::test(start_paused = true)]
async fn a_record_of_someone_else_is_left_alone_and_named_until_it_is_gone() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.foreign_record(API, parked());
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{summary:?}");
    assert_eq!(setting.aliases(API), [parked()]);
    let pins = &setting.status().await.hostnames[0].pins;
    assert_eq!((pins.alias.state, pins.binding.state), (PinState::Blocked, PinState::Held));
    assert_eq!(pins.alias.findings[0].code(), Code::AliasDangling, "and what it points at is not there");
}

#[tokio::test(start_paused = true)]
async fn a_binding_of_someone_else_is_left_alone() {
    let setting = Setting::new(Pace::default(), ONE);
    let theirs = Binding::plain(Some(Fingerprint::of(b"theirs")));
    setting.foreign_binding("catalogue", API, &theirs);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{summary:?}");
    assert!(setting.aliases(API).is_empty(), "no traffic goes to what serves another certificate");
    assert_eq!(setting.binding("catalogue", API), Some(theirs));
    assert_eq!(setting.status().await.hostnames[0].pins.binding.state, PinState::Blocked);
}

#[tokio::test(start_paused = true)]
async fn a_drifted_record_of_its_own_is_put_back() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let own = setting.aliases(API);
    setting.remove_aliases(API);
    assert_eq!(setting.settle().await.held, 1);
    assert_eq!(setting.aliases(API), own);
}

#[tokio::test(start_paused = true)]
async fn a_client_is_answered_all_the_time_while_its_hostname_moves_to_another_endpoint() {
    let slow = Pace { deploy: Duration::from_secs(90), lag: Duration::from_secs(20), ..Pace::default() };
    let mut setting = Setting::new(slow, ONE);
    setting.settle().await;
    let before = setting.aliases(API);
    setting.names = ONE.replace("catalogue", "plates");
    let (mut asked, mut refused) = (0, 0);
    let summary = {
        let mut settling = Box::pin(setting.settle());
        loop {
            tokio::select! {
                summary = &mut settling => break summary,
                () = tokio::time::sleep(Duration::from_secs(1)) => {
                    asked += 1;
                    refused += usize::from(setting.client_gets(API).await.is_none());
                }
            }
        }
    };
    assert_eq!((summary.held, summary.failed, refused), (1, 0, 0), "{:?}", setting.recorder.take());
    assert!(asked > 60, "asked only {asked} times");
    assert_ne!(setting.aliases(API), before);
    assert_eq!(setting.authority_counts().2, 1, "the certificate is stored at the other endpoint's site");
}

#[tokio::test(start_paused = true)]
async fn a_binding_that_someone_else_changed_is_theirs_from_then_on() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let mut theirs = setting.binding("catalogue", API).unwrap();
    theirs.minimum_tls = TlsVersion::V1_3;
    setting.foreign_binding("catalogue", API, &theirs);
    setting.pass(Duration::from_secs(10)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.binding("catalogue", API), Some(theirs));
    let report = &setting.status().await.hostnames[0].pins.binding;
    assert_eq!((report.state, report.findings[0].code()), (PinState::Blocked, Code::BindingForeign));
    assert!(setting.client_gets(API).await.is_some(), "clients are answered as before");
}

#[tokio::test(start_paused = true)]
async fn an_equal_binding_of_someone_else_is_used_and_never_claimed() {
    let mut setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let equal = setting.binding("catalogue", API).unwrap();
    setting.foreign_binding("plates", API, &equal);
    setting.pass(Duration::from_secs(10)).await;
    setting.names = ONE.replace("catalogue", "plates");
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());

    // The next certificate would change it: that is for whoever made it.
    let engine = setting.engine().await;
    let id = engine.desired().hostname_ids().next().unwrap();
    engine.certificates.request_renewal(&[engine.desired().hostname(id).certificate]).await.unwrap();
    let summary = setting.settle().await;
    assert_eq!(summary.held, 0, "{:?}", setting.recorder.take());
    assert_eq!(setting.binding("plates", API), Some(equal));
    assert_eq!(setting.status().await.hostnames[0].pins.binding.findings[0].code(), Code::BindingForeign);
}

#[tokio::test(start_paused = true)]
async fn a_record_that_someone_else_puts_in_the_place_of_its_own_is_left_alone() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    setting.remove_aliases(API);
    setting.foreign_record(API, parked());
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.aliases(API), [parked()]);
    // Taken away on purpose, it is in the way no more.
    setting.remove_aliases(API);
    setting.pass(Duration::from_secs(600)).await;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
}
