//! Accounts and rehearsals.

use pindrel_core::desired::AuthorityId;
use pindrel_core::judging::findings::Code;
use pindrel_engine::{Aim, Registration, Scope};
use pindrel_testkit::memory::{DIRECTORY, Faults, Pace, Setting};

use crate::{API, ONE, several};

const MAIN: AuthorityId = AuthorityId(0);

#[tokio::test(start_paused = true)]
async fn an_account_is_opened_once_and_its_key_never_replaced() {
    let setting = Setting::new(Pace::default(), &several(3));
    let opened = setting.engine().await.accounts.open(MAIN, Registration::default()).await.unwrap();
    setting.settle().await;
    let again = setting.engine().await.accounts.open(MAIN, Registration::default()).await.unwrap();
    assert_eq!((setting.accounts(), opened.url), (1, again.url));

    // One that says so opens no other; its key comes out only as text that is meant for it.
    let engine = setting.engine().await;
    let pem = engine.accounts.export_key(MAIN, false).await.unwrap();
    let jwk = engine.accounts.export_key(MAIN, true).await.unwrap();
    let [pem, jwk] = [pem, jwk].map(|text| secrecy::ExposeSecret::expose_secret(&text).to_owned());
    assert!(pem.contains("PRIVATE KEY") && jwk.contains("\"kty\""));
    assert!(!format!("{:?}", engine.accounts.reports(&[MAIN]).await.unwrap()).contains("PRIVATE"));
    let refused = engine.accounts.change_key(MAIN, None).await.unwrap_err();
    assert!(refused.says().contains("key changes"), "{refused:?}");
    assert_eq!(setting.settle().await.planned, 0, "a refused change of the key changes nothing");
}

#[tokio::test(start_paused = true)]
async fn an_account_is_found_again_by_a_key_that_is_moved_to_another_state() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let pem = setting.engine().await.accounts.export_key(MAIN, false).await.unwrap();
    let setting = setting.with_lost_state();
    let key = pindrel_engine::AccountKey::from_text(&pem).unwrap();
    let how = Registration { key: Some(key), ..Registration::default() };
    setting.engine().await.accounts.open(MAIN, how).await.unwrap();
    assert_eq!(setting.accounts(), 1, "no other account was opened");
}

fn rehearsed(names: &str) -> Setting {
    let practice = format!("[authority.practice]\ndirectory = \"{DIRECTORY}-practice\"\nagree_to_terms = true\n");
    let mut setting = Setting::new(Pace::default(), &(practice + names));
    setting.authority = "rehearsal = \"practice\"".into();
    setting
}

#[tokio::test(start_paused = true)]
async fn a_set_up_is_rehearsed_once_before_the_first_order_of_all_that_share_it() {
    let setting = rehearsed(&several(4));
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (4, 0), "{:?}", setting.recorder.take());
    // Both endpoints are of one zone and one set-up: one rehearsal, then the four orders.
    assert_eq!(setting.authority_counts().2, 5);
    assert_eq!(setting.orders()[0].1.len(), 1);
    assert_eq!(setting.challenge_records(), 0);
}

#[tokio::test(start_paused = true)]
async fn a_rehearsal_that_fails_keeps_every_order_back_and_changes_nothing() {
    let setting = rehearsed(ONE);
    setting.break_or_mend(|faults| faults.authority.invalid.extend([API.to_owned()]));
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 1));
    assert_eq!((setting.authority_counts().1, setting.authority_counts().2), (0, 1), "one rehearsal, no order");
    let attempt = setting.status().await.hostnames[0].last_attempt.clone().unwrap();
    assert_eq!(attempt.action, "rehearse");
    assert_eq!(attempt.finding.unwrap().code(), Code::ValidationFailed);

    setting.break_or_mend(|faults| *faults = Faults::default());
    let engine = setting.engine().await;
    let scope = Scope::all(engine.desired());
    let alone = engine.settle(&scope, Aim::Rehearse).await.unwrap();
    assert_eq!((alone.failed, setting.aliases(API).len()), (0, 0), "a rehearsal alone binds and points nothing");
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
}

#[tokio::test(start_paused = true)]
async fn an_account_that_the_authority_no_longer_knows_is_opened_anew_when_asked_to() {
    let mut setting = Setting::new(Pace::default(), &several(1));
    setting.settle().await;
    setting.forget_accounts();
    setting.names = several(2);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 1), "{:?}", setting.recorder.take());
    let finding = setting.status().await.hostnames[1].last_attempt.clone().unwrap().finding.unwrap();
    assert_eq!(finding.code(), Code::AccountMissing, "{finding:?}");
    assert!(finding.remedy().contains("pindrel account register"), "{finding:?}");
    setting.engine().await.accounts.open(MAIN, Registration::default()).await.unwrap();
    assert_eq!(setting.settle().await.held, 2, "{:?}", setting.recorder.take());
    assert_eq!(setting.accounts(), 1);
}
