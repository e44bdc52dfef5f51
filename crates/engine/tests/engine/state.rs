//! What the state keeps from run to run, and what becomes of it when it is damaged or shared.

use std::time::Duration;

use pindrel_core::zones::records::RecordData;
use pindrel_engine::{Adoptable, JournalFilter, LeftoverKind, Moment, RevokeReason};
use pindrel_testkit::memory::{Faults, Pace, Setting};

use crate::{API, ONE, revocation, several};

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
        let revoked = engine.certificates.revoke(&revocation(RevokeReason::Superseded)).await;
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
    let worker = setting.state.enter_worker("test", now, Duration::from_secs(600)).await.unwrap();
    let claim = setting.state.claim(&worker, "damage", now).await.unwrap();
    let pindrel_state::Claimed::Yes(claim) = claim else { panic!("{claim:?}") };
    let mut damaged = order.clone();
    damaged.key.bytes.truncate(9);
    setting.state.persist_order(&claim, &damaged).await.unwrap();
    setting.state.leave(&worker).await.unwrap();

    setting.break_or_mend(|faults| faults.frozen = false);
    setting.pass(Duration::from_secs(60)).await;
    setting.settle().await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!((setting.authority_counts().2, setting.challenge_records()), (2, 0));
}

#[tokio::test(start_paused = true)]
async fn a_lost_state_is_made_anew_while_clients_are_answered() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let (alias, before) = (setting.aliases(API), setting.client_gets(API).await);
    let setting = setting.with_lost_state();
    let (summary, answered) = tokio::join!(setting.settle(), async {
        let mut answered = true;
        for _ in 0..60 {
            answered &= setting.client_gets(API).await.is_some();
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        answered
    });
    assert_eq!((summary.held, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    assert!(answered, "what proves the binding to be the manifest's is that its zone leads there");
    assert_eq!(setting.aliases(API), alias);
    assert_ne!(setting.client_gets(API).await, before, "with a certificate whose key is known");
}

#[tokio::test(start_paused = true)]
async fn after_a_lost_state_what_differs_is_taken_over_by_a_persons_word_only() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let mut setting = setting.with_lost_state();
    let routes = "routes = [{ prefix = \"/v2\", service = \"catalogue\", release = \"live\" }]";
    setting.names = format!("{ONE}{routes}\n");
    let before = setting.binding("catalogue", API);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 0), "{summary:?}");
    assert_eq!(setting.binding("catalogue", API), before, "whoever made it may want it so");

    let engine = setting.engine().await;
    let scope: Vec<_> = engine.desired().hostname_ids().collect();
    let found = engine.adoption.candidates(&scope).await.unwrap();
    let told: Vec<_> =
        found.iter().map(|candidate| (candidate.what, candidate.is_proven(), candidate.differs.is_some())).collect();
    assert_eq!(told, [(Adoptable::Alias, true, false), (Adoptable::Binding, true, true)], "{found:?}");
    engine.adoption.adopt(&found).await.unwrap();
    assert!(engine.adoption.candidates(&scope).await.unwrap().is_empty(), "now they are known");
    drop(engine);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_eq!(setting.binding("catalogue", API).unwrap().routes.len(), 1);
}

#[tokio::test(start_paused = true)]
async fn what_the_manifest_no_longer_names_is_told_until_it_is_gone() {
    let left = "survey-1.larkfield.example";
    let mut setting = Setting::new(Pace::default(), &several(2));
    setting.settle().await;
    setting.names = several(1);
    assert_eq!(setting.plan().await.leftovers.len(), 1, "known before anything is done");
    for _ in 0..2 {
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.total, summary.leftovers), (1, 1, 1), "{summary:?}");
    }
    let everything = [LeftoverKind::Alias, LeftoverKind::Binding, LeftoverKind::Certificate];
    assert_eq!(setting.status().await.leftovers[0].what, everything);

    // A platform that is down proves nothing to be gone.
    setting.remove_aliases(left);
    setting.remove_binding("plates", left);
    setting.pass(Duration::from_secs(60)).await;
    setting.break_or_mend(|faults| faults.platform_down = true);
    assert_eq!(setting.status().await.leftovers[0].what, everything[1..]);
    setting.break_or_mend(|faults| faults.platform_down = false);
    assert_eq!(setting.settle().await.leftovers, 0);
    assert!(setting.state.hostname(&left.parse().unwrap()).await.unwrap().is_none(), "and forgotten");

    // What someone else made there since is theirs.
    setting.names = several(2);
    setting.settle().await;
    setting.names = several(1);
    setting.remove_aliases(left);
    setting.foreign_record(left, RecordData::Cname("parked.larkfield.test".parse().unwrap()));
    setting.pass(Duration::from_secs(60)).await;
    assert_eq!(setting.status().await.leftovers[0].what, everything[1..]);
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
