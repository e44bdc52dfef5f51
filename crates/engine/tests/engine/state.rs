//! What the state keeps from run to run, and what becomes of it when it is damaged or shared.

use std::time::Duration;

use pindrel_core::desired::CertificateId;
use pindrel_core::pin::PinState;
use pindrel_engine::{JournalFilter, Moment, RevocationKey, RevokeReason};
use pindrel_testkit::memory::{Faults, Pace, Setting};

use crate::{API, ONE, dice, several};

const DAY: Duration = Duration::from_secs(86_400);

#[tokio::test(start_paused = true)]
async fn every_entry_of_the_journal_that_begins_ends_and_old_ones_are_pruned() {
    let setting = Setting::new(Pace::default(), &several(3));
    setting.break_or_mend(|faults| faults.authority.invalid.extend(["survey-1.larkfield.example".to_owned()]));
    setting.settle().await;
    let entries = || async {
        let filter = JournalFilter { most: 1_000, ..JournalFilter::default() };
        setting.engine().await.journal_entries(&filter).await.unwrap()
    };
    let all = entries().await;
    let count = |moment: Moment| all.iter().filter(|entry| entry.moment == moment).count();
    assert_eq!(count(Moment::Begun), all.len() - count(Moment::Begun), "{all:#?}");
    assert!(count(Moment::Failed) > 0);

    for _ in 0..4 {
        setting.pass(DAY * 30).await;
        setting.settle().await;
    }
    let kept = entries().await;
    let oldest = kept.iter().map(|entry| entry.at).min().unwrap();
    assert!(setting.now().duration_since(oldest).as_hours() <= 90 * 24, "{oldest}");

    // A clock that is years ahead prunes nothing.
    setting.pass(DAY * 2_000).await;
    setting.settle().await;
    assert!(entries().await.iter().any(|entry| entry.at == oldest));
}

/// What begins at the authority, in the zone or for a person has its end in the journal, whatever
/// stops it.
#[tokio::test(start_paused = true)]
async fn whatever_fails_what_began_has_ended_in_the_journal() {
    let faults: [fn(&mut Faults); 5] = [
        |faults| faults.refuses_updates = true,
        |faults| faults.frozen = true,
        |faults| faults.authority.lose_next_answer = true,
        |faults| faults.authority.down = true,
        |faults| faults.platform_down = true,
    ];
    for (number, fault) in faults.into_iter().enumerate() {
        let mut setting = Setting::new(Pace::default(), ONE);
        setting.bounds.patience = Duration::from_secs(5);
        if number > 2 {
            setting.settle().await;
        }
        setting.break_or_mend(fault);
        setting.settle().await;
        let engine = setting.engine().await;
        let revoked = engine.revoke(CertificateId(0), RevokeReason::Superseded, RevocationKey::Account, true).await;
        let filter = JournalFilter { most: 1_000, ..JournalFilter::default() };
        let entries = engine.journal_entries(&filter).await.unwrap();
        let count = |moment: Moment| entries.iter().filter(|entry| entry.moment == moment).count();
        let began = count(Moment::Begun);
        assert_eq!(began, entries.len() - began, "fault {number}, {revoked:?}: {entries:#?}");
    }
}

#[tokio::test(start_paused = true)]
async fn an_order_whose_key_cannot_be_read_is_abandoned_and_another_is_made() {
    let mut setting = Setting::new(Pace::default(), ONE);
    setting.bounds.patience = Duration::from_secs(5);
    setting.break_or_mend(|faults| faults.frozen = true);
    setting.settle().await;
    let order = setting.state.open_orders().await.unwrap().pop().unwrap();
    let now = setting.now();
    let claim = setting.state.claim("damage", "test", now, Duration::from_secs(600)).await.unwrap();
    let pindrel_state::Claimed::Yes(claim) = claim else { panic!("{claim:?}") };
    let mut damaged = order.clone();
    damaged.key.bytes.truncate(9);
    setting.state.persist_order(&claim, &damaged).await.unwrap();
    setting.state.release_claim(&claim).await.unwrap();

    setting.break_or_mend(|faults| faults.frozen = false);
    setting.pass(Duration::from_secs(60)).await;
    setting.settle().await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!((setting.authority_counts().2, setting.challenge_records()), (2, 0));
}

/// Two runs at once on one state, as where a lock was lost: whoever's claim was taken over
/// writes nothing more, and nothing is done twice to the world's harm.
#[tokio::test(start_paused = true)]
async fn two_runs_at_once_end_with_everything_held_and_nothing_left_behind() {
    for seed in 0..12 {
        let setting = Setting::new(Pace::default(), &several(3));
        let later = async {
            tokio::time::sleep(Duration::from_millis(dice(seed, 0) % 6_000)).await;
            setting.settle().await
        };
        tokio::join!(setting.settle(), later);
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (3, 0), "seed {seed}: {:?}", setting.recorder.take());
        assert_eq!(setting.challenge_records(), 0, "seed {seed}");
        assert!(setting.authority_counts().1 <= 6, "seed {seed}: {:?}", setting.issued());
        assert_eq!(setting.settle().await.planned, 0, "seed {seed}");
    }
}

#[tokio::test(start_paused = true)]
async fn a_lost_state_claims_nothing_that_it_cannot_know_to_be_its_own() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let (alias, binding) = (setting.aliases(API), setting.binding("catalogue", API));
    let setting = setting.with_lost_state();
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{summary:?}");
    assert_eq!((setting.aliases(API), setting.binding("catalogue", API)), (alias, binding));
    let pins = &setting.status().await.hostnames[0].pins;
    assert_eq!((pins.binding.state, pins.alias.state), (PinState::Blocked, PinState::Held));
}

#[tokio::test(start_paused = true)]
async fn facts_are_trusted_for_their_age_and_looked_at_again_after_it() {
    let mut setting = Setting::new(Pace::default(), &several(5));
    setting.settle().await;
    setting.bounds.max_age_secs = 3600;
    let before = setting.change_counts().1;
    assert_eq!(setting.settle().await.held, 5);
    assert_eq!(setting.change_counts().1, before, "what was just seen is not looked at again");
    setting.remove_aliases("survey-2.larkfield.example");
    setting.pass(Duration::from_secs(3601)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.steps), (5, 2), "only what changed is done: {:?}", setting.recorder.take());
}
