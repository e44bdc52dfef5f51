//! The book of health: what each check has concluded, and what of it is not stored yet.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use jiff::Timestamp;
use pindrel_core::desired::{CheckId, Desired};
use pindrel_core::health::{CheckRecord, CheckResult, HistoryEntry, Incident, Measured, Slot, Verdict, verdict_of};
use pindrel_state::{CheckUpdate, State};

use crate::failure::EngineError;

/// The most incidents of one check that wait to be stored.
const MOST_PENDING: usize = 64;

/// That a verdict has changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct VerdictChange {
    /// The check.
    pub(crate) check: CheckId,
    /// What it was.
    pub(crate) from: Verdict,
    /// What it is.
    pub(crate) to: Verdict,
}

/// What each check has concluded, and what of it is not stored yet.
#[derive(Debug, Default)]
pub(crate) struct Book {
    records: HashMap<CheckId, CheckRecord>,
    slots: HashMap<CheckId, Slot>,
    /// Slots that are over and not stored yet.
    ended: BTreeMap<CheckId, Vec<Slot>>,
    incidents: BTreeMap<CheckId, Vec<HistoryEntry>>,
    unsaved: BTreeSet<CheckId>,
    /// The checks whose slot may have results of an earlier process, which are not in it yet.
    resumed: BTreeSet<CheckId>,
    /// The checks that have a result of this process.
    current: BTreeSet<CheckId>,
}

impl Book {
    /// Goes on with what was concluded before.
    pub(crate) fn with(records: HashMap<CheckId, CheckRecord>) -> Book {
        Book { records, ..Book::default() }
    }

    /// Returns what was concluded.
    pub(crate) fn records(&self) -> &HashMap<CheckId, CheckRecord> {
        &self.records
    }

    /// Returns what was concluded.
    pub(crate) fn into_records(self) -> HashMap<CheckId, CheckRecord> {
        self.records
    }

    /// Returns the verdict of a check.
    pub(crate) fn verdict(&self, id: CheckId) -> Verdict {
        self.records.get(&id).map_or(Verdict::Unknown, |record| record.verdict)
    }

    /// Says whether anything is not stored yet.
    pub(crate) fn is_unsaved(&self) -> bool {
        !self.unsaved.is_empty()
    }

    /// Takes the results of one round of a check. Returns the verdicts that have changed: its own, and those
    /// of combinations.
    pub(crate) fn record(
        &mut self,
        desired: &Desired,
        id: CheckId,
        at: Timestamp,
        results: &[(String, Measured)],
    ) -> Vec<VerdictChange> {
        let own: Vec<(String, CheckResult)> =
            results.iter().map(|(address, measured)| (address.clone(), measured.result.clone())).collect();
        self.note_incidents(id, at, &own);
        let from = self.verdict(id);
        let record = self.records.entry(id).or_default();
        if self.current.insert(id) {
            // What was concluded before does not outlive a result that disagrees.
            record.tracks.retain(|address, track| {
                let now = own.iter().find(|(own, _)| own == address).map(|(_, result)| result);
                !matches!(
                    (track.verdict, now),
                    (Verdict::Up, Some(CheckResult::Failed(_))) | (Verdict::Down, Some(CheckResult::Passed))
                )
            });
        }
        let has_changed = record.record(at, &own, desired.check(id).terms.thresholds);
        let to = record.verdict;
        let mut changes = Vec::new();
        if has_changed {
            self.note(id, HistoryEntry { at, what: Incident::Verdict { to } });
            if from != to {
                changes.push(VerdictChange { check: id, from, to });
            }
        }
        self.count(id, at, results);
        self.unsaved.insert(id);
        if has_changed {
            changes.extend(self.combine(desired, at));
        }
        changes
    }

    /// Returns the combinations that a check is part of and of which everything has a result of this process.
    pub(crate) fn current_combinations(&self, desired: &Desired, id: CheckId) -> Vec<CheckId> {
        let combinations = desired.check_ids().filter(|id| desired.check(*id).combination().is_some());
        let is_current = |combination: &CheckId| {
            let members = super::with_members(desired, [*combination]);
            let mut leaves = members.iter().filter(|id| desired.check(**id).combination().is_none());
            members.contains(&id) && leaves.all(|leaf| self.current.contains(leaf))
        };
        combinations.filter(is_current).collect()
    }

    /// Concludes for combinations.
    fn combine(&mut self, desired: &Desired, at: Timestamp) -> Vec<VerdictChange> {
        let mut changes = Vec::new();
        for id in desired.check_ids().filter(|id| desired.check(*id).combination().is_some()) {
            let to = verdict_of(&desired.checks, id, &|member| self.verdict(member));
            let from = self.verdict(id);
            if self.records.entry(id).or_default().conclude(to, at) {
                self.note(id, HistoryEntry { at, what: Incident::Verdict { to } });
                self.unsaved.insert(id);
                if from != to {
                    changes.push(VerdictChange { check: id, from, to });
                }
            }
        }
        changes
    }

    /// Notes where something begins to fail, or to fail in another way.
    fn note_incidents(&mut self, id: CheckId, at: Timestamp, results: &[(String, CheckResult)]) {
        for (address, result) in results {
            let CheckResult::Failed(why) = result else { continue };
            let track = self.records.get(&id).and_then(|record| record.tracks.get(address));
            let before = track.filter(|track| track.failed > 0).and_then(|track| track.last_failure.as_ref());
            if before.is_none_or(|before| before.why.code() != why.code()) {
                let what = Incident::Failure { address: address.clone(), why: why.clone() };
                self.note(id, HistoryEntry { at, what });
            }
        }
    }

    fn note(&mut self, id: CheckId, entry: HistoryEntry) {
        let pending = self.incidents.entry(id).or_default();
        if pending.len() < MOST_PENDING {
            pending.push(entry);
        }
    }

    /// Counts results, and how long those took that passed.
    fn count(&mut self, id: CheckId, at: Timestamp, results: &[(String, Measured)]) {
        let slot = self.slots.entry(id).or_insert_with(|| {
            self.resumed.insert(id);
            Slot::at(at)
        });
        if !slot.covers(at) {
            let ended = std::mem::replace(slot, Slot::at(at));
            // What could never be stored is not kept for ever.
            let waiting = self.ended.entry(id).or_default();
            if waiting.len() < MOST_PENDING {
                waiting.push(ended);
            }
        }
        for (_, measured) in results {
            match measured.result {
                CheckResult::Passed => slot.record(Some(measured.phases.total())),
                CheckResult::Failed(_) => slot.record(None),
                CheckResult::Impossible(_) => {}
            }
        }
    }

    /// Stores what is not stored yet.
    pub(crate) async fn flush(&mut self, desired: &Desired, state: &dyn State) -> Result<(), EngineError> {
        let mut unstored = self.take_unstored(desired);
        let stored = unstored.store(state).await;
        self.put_back(unstored);
        stored
    }

    /// Takes out what is not stored yet, so that results can be recorded while it is stored.
    pub(crate) fn take_unstored(&mut self, desired: &Desired) -> Unstored {
        let checks = std::mem::take(&mut self.unsaved).into_iter().filter_map(|id| {
            let record = self.records.get(&id)?.clone();
            let ended = self.ended.remove(&id).unwrap_or_default();
            let current = self.slots.get(&id).filter(|slot| slot.results > 0).cloned();
            let is_resumed = self.resumed.remove(&id);
            let incidents = self.incidents.remove(&id).unwrap_or_default();
            let name = desired.check(id).name.clone();
            Some(UnstoredCheck { id, name, record, ended, current, incidents, is_resumed, earlier: None })
        });
        Unstored { checks: checks.collect(), is_stored: false }
    }

    /// Takes back what could not be stored, and what an earlier process had counted within the same minute.
    pub(crate) fn put_back(&mut self, unstored: Unstored) {
        let Unstored { checks, is_stored } = unstored;
        for UnstoredCheck { id, ended, incidents, is_resumed, earlier, .. } in checks {
            if let Some(earlier) = &earlier {
                let since = self.ended.get_mut(&id).into_iter().flatten().chain(self.slots.get_mut(&id));
                since.filter(|slot| slot.begin == earlier.begin).for_each(|slot| slot.merge(earlier));
            }
            if is_stored {
                continue;
            }
            self.unsaved.insert(id);
            if is_resumed && earlier.is_none() {
                self.resumed.insert(id);
            }
            put_before(&mut self.ended, id, ended);
            put_before(&mut self.incidents, id, incidents);
        }
    }
}

/// Puts what waited before in front of what has come since; what could never be stored is not kept for ever.
fn put_before<T>(waiting: &mut BTreeMap<CheckId, Vec<T>>, id: CheckId, mut before: Vec<T>) {
    before.extend(waiting.remove(&id).unwrap_or_default());
    before.truncate(MOST_PENDING);
    if !before.is_empty() {
        waiting.insert(id, before);
    }
}

/// What was taken out of a book to be stored.
#[derive(Debug)]
pub(crate) struct Unstored {
    checks: Vec<UnstoredCheck>,
    is_stored: bool,
}

#[derive(Debug)]
struct UnstoredCheck {
    id: CheckId,
    name: String,
    record: CheckRecord,
    ended: Vec<Slot>,
    current: Option<Slot>,
    incidents: Vec<HistoryEntry>,
    /// Whether its first slot may have results of an earlier process, which are not in it yet.
    is_resumed: bool,
    /// Those results, once they were read.
    earlier: Option<Slot>,
}

impl Unstored {
    /// Stores it: may be dropped at any time, and what was done by then is known.
    pub(crate) async fn store(&mut self, state: &dyn State) -> Result<(), EngineError> {
        for check in self.checks.iter_mut().filter(|check| check.is_resumed && check.earlier.is_none()) {
            let Some(first) = check.ended.first_mut().or(check.current.as_mut()) else { continue };
            let stored = state.slots(&check.name, first.begin).await?;
            let stored = stored.into_iter().find(|stored| stored.begin == first.begin);
            let earlier = stored.unwrap_or_else(|| Slot::at(first.begin));
            first.merge(&earlier);
            check.earlier = Some(earlier);
        }
        let updates = self.checks.iter().map(|check| CheckUpdate {
            check: check.name.clone(),
            record: check.record.clone(),
            slots: check.ended.iter().chain(&check.current).cloned().collect(),
            incidents: check.incidents.clone(),
        });
        let updates: Vec<CheckUpdate> = updates.collect();
        if !updates.is_empty() {
            state.update_checks(updates).await?;
        }
        self.is_stored = true;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use pindrel_core::facts::Unreachable;
    use pindrel_core::health::{CheckFailure, Phases};
    use pindrel_core::manifest::{Diagnostics, read};
    use pindrel_state::{HealthBook as _, SqliteState};

    use super::*;

    const CHECKS: &str = "manifest = 1\n[health.store]\ntcp = \"192.0.2.1:1\"\n[health.names]\ntcp = \"192.0.2.2:1\"\n\
                          [health.all]\nof = [\"store\", \"names\"]\n";
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
        book.flush(&desired, &state).await.unwrap();
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
    async fn a_process_that_follows_another_goes_on_in_the_same_minute_and_believes_only_what_it_sees() {
        let (desired, state) = (desired(), SqliteState::in_memory().unwrap());
        let mut first = Book::default();
        for n in 0..4 {
            first.record(&desired, STORE, at(n), &result(1));
        }
        first.flush(&desired, &state).await.unwrap();
        let records = state.check_records().await.unwrap();
        assert_eq!((records.len(), records[0].1.verdict), (2, Verdict::Down), "the combination is down too");
        let known = records.into_iter().map(|(name, record)| (if name == "store" { STORE } else { ALL }, record));

        let mut next = Book::with(known.collect());
        assert!(next.current_combinations(&desired, STORE).is_empty(), "nothing was seen by this process");
        // One result that disagrees: what was concluded before is worth nothing any longer.
        let changes = next.record(&desired, STORE, at(10), &result(0));
        let change = VerdictChange { check: STORE, from: Verdict::Down, to: Verdict::Unknown };
        assert_eq!(changes[0], change);
        next.record(&desired, STORE, at(11), &result(3));
        next.record(&desired, STORE, at(65), &result(0));
        assert!(next.current_combinations(&desired, STORE).is_empty(), "the names were not looked at");
        next.record(&desired, NAMES, at(65), &result(0));
        assert_eq!(next.current_combinations(&desired, STORE), [ALL]);
        next.flush(&desired, &state).await.unwrap();
        next.record(&desired, STORE, at(66), &result(0));
        next.flush(&desired, &state).await.unwrap();
        let slots = state.slots("store", Timestamp::MIN).await.unwrap();
        let counts: Vec<(u32, u32)> = slots.iter().map(|slot| (slot.results, slot.failed)).collect();
        assert_eq!(counts, [(5, 4), (2, 0)], "what could not be tried is no result");
    }
}
