//! Storing what checks have concluded.

use pindrel_core::desired::Desired;
use pindrel_core::health::Slot;
use pindrel_core::keep::{Book, Unstored};
use pindrel_state::{CheckUpdate, State};

use crate::failure::EngineError;

/// Stores what is not stored yet.
pub(crate) async fn flush(book: &mut Book, desired: &Desired, state: &dyn State) -> Result<(), EngineError> {
    let mut unstored = book.take_unstored(desired);
    let stored = store(&mut unstored, state).await;
    book.put_back(unstored);
    stored
}

/// Stores what was taken out of a book: may be dropped at any time, and what was done by then is known.
pub(crate) async fn store(unstored: &mut Unstored, state: &dyn State) -> Result<(), EngineError> {
    for check in unstored.checks.iter_mut().filter(|check| check.is_resumed && check.earlier.is_none()) {
        let Some(first) = check.ended.first_mut().or(check.current.as_mut()) else { continue };
        let stored = state.slots(&check.name, first.begin).await?;
        let stored = stored.into_iter().find(|stored| stored.begin == first.begin);
        let earlier = stored.unwrap_or_else(|| Slot::at(first.begin));
        first.merge(&earlier);
        check.earlier = Some(earlier);
    }
    let updates = unstored.checks.iter().map(|check| CheckUpdate {
        check: check.name.clone(),
        record: check.record.clone(),
        slots: check.ended.iter().chain(&check.current).cloned().collect(),
        incidents: check.incidents.clone(),
    });
    let updates: Vec<CheckUpdate> = updates.collect();
    if !updates.is_empty() {
        state.update_checks(updates).await?;
    }
    unstored.is_stored = true;
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use jiff::Timestamp;
    use pindrel_core::desired::CheckId;
    use pindrel_core::health::{CheckFailure, CheckResult, Incident, Measured, Phases, Verdict};
    use pindrel_core::judging::facts::Unreachable;
    use pindrel_core::keep::VerdictChange;
    use pindrel_core::manifest::{Diagnostics, read};
    use pindrel_state::{HealthBook as _, SqliteState};

    use super::*;

    const CHECKS: &str = r#"
        manifest = 1
        [health.store]
        tcp = "192.0.2.1:1"
        every = "1s"
        timeout = "1s"
        [health.names]
        tcp = "192.0.2.2:1"
        every = "1s"
        timeout = "1s"
        [health.all]
        of = ["store", "names"]"#;
    const STORE: CheckId = CheckId(0);
    const NAMES: CheckId = CheckId(1);
    const ALL: CheckId = CheckId(2);

    fn desired() -> Desired {
        let mut problems = Diagnostics::default();
        let desired = pindrel_core::desired::resolve(read(CHECKS, &mut problems), &mut problems);
        assert!(problems.is_empty(), "{problems:?}");
        desired
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    fn result(kind: u8) -> Vec<(String, Measured)> {
        let failed = |why| CheckResult::Failed(CheckFailure::NotConnected { why });
        let result = match kind {
            0 => CheckResult::Passed,
            1 => failed(Unreachable::Refused),
            2 => failed(Unreachable::TimedOut { after_ms: 5 }),
            _ => CheckResult::Impossible(Unreachable::NoRoute),
        };
        let phases = Phases { connect: Some(Duration::from_millis(4)), ..Phases::default() };
        vec![("192.0.2.1:1".into(), Measured { phases, result })]
    }

    #[tokio::test]
    async fn each_new_way_to_fail_is_an_incident_and_combinations_follow() {
        let (desired, state) = (desired(), SqliteState::in_memory().unwrap());
        let mut book = Book::default();
        let mut told = Vec::new();
        for (n, kind) in [0, 0, 1, 1, 2, 2, 1, 0, 0].into_iter().enumerate() {
            let now = at(n as i64);
            told.extend(book.record(&desired, NAMES, now, &result(0)).into_iter().map(|change| (n, change)));
            told.extend(book.record(&desired, STORE, now, &result(kind)).into_iter().map(|change| (n, change)));
        }
        let change = |check, from, to| VerdictChange { check, from, to };
        use Verdict::{Down, Unknown, Up};
        assert_eq!(
            told,
            [
                (1, change(NAMES, Unknown, Up)),
                (1, change(STORE, Unknown, Up)),
                (1, change(ALL, Unknown, Up)),
                (4, change(STORE, Up, Down)),
                (4, change(ALL, Up, Down)),
                (8, change(STORE, Down, Up)),
                (8, change(ALL, Down, Up)),
            ]
        );
        flush(&mut book, &desired, &state).await.unwrap();
        assert!(!book.is_unsaved());
        let kinds: Vec<&str> = state
            .incidents("store", Timestamp::MIN, 99)
            .await
            .unwrap()
            .iter()
            .map(|entry| match &entry.what {
                Incident::Verdict { to } => to.as_str(),
                Incident::Failure { why, .. } => why.code(),
            })
            .collect();
        let expected = ["unknown", "up", "connection-refused", "connect-timeout", "down", "connection-refused", "up"];
        assert_eq!(kinds, expected);
    }

    #[tokio::test]
    async fn a_process_that_follows_another_goes_on_where_that_ended() {
        let (desired, state) = (desired(), SqliteState::in_memory().unwrap());
        let mut first = Book::default();
        for n in 0..4 {
            first.record(&desired, STORE, at(n), &result(1));
        }
        flush(&mut first, &desired, &state).await.unwrap();
        let records = state.check_records().await.unwrap();
        assert_eq!((records.len(), records[0].1.verdict), (2, Verdict::Down), "the combination is down too");
        let known = records.into_iter().map(|(name, record)| (if name == "store" { STORE } else { ALL }, record));

        let mut next = Book::with(known.collect());
        assert!(next.current_combinations(&desired, STORE).is_empty(), "nothing was seen by this process");
        // What was concluded before stands until as many results disagree as where one process makes them all.
        assert_eq!(next.record(&desired, STORE, at(10), &result(0)), []);
        let change = VerdictChange { check: STORE, from: Verdict::Down, to: Verdict::Up };
        assert_eq!(next.record(&desired, STORE, at(11), &result(0))[0], change);
        next.record(&desired, STORE, at(12), &result(3));
        next.record(&desired, STORE, at(65), &result(0));
        assert!(next.current_combinations(&desired, STORE).is_empty(), "the names were not looked at");
        next.record(&desired, NAMES, at(65), &result(0));
        assert_eq!(next.current_combinations(&desired, STORE), [ALL]);
        flush(&mut next, &desired, &state).await.unwrap();
        next.record(&desired, STORE, at(66), &result(0));
        flush(&mut next, &desired, &state).await.unwrap();
        let slots = state.slots("store", Timestamp::MIN).await.unwrap();
        let counts: Vec<(u32, u32)> = slots.iter().map(|slot| (slot.results, slot.failed)).collect();
        assert_eq!(counts, [(6, 4), (2, 0)], "what could not be tried is no result");
    }
}
