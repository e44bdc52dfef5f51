//! The book of health: what each check has concluded, and what of it is not stored yet.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use jiff::Timestamp;

use crate::desired::{CheckId, Desired, HostnameId};
use crate::health::{CheckRecord, CheckResult, HistoryEntry, Incident, Measured, Slot, Verdict, verdict_of};

/// The most incidents of one check that wait to be stored.
const MOST_PENDING: usize = 64;

/// Returns the checks that some others are made of, with themselves.
pub fn with_members(desired: &Desired, ids: impl IntoIterator<Item = CheckId>) -> BTreeSet<CheckId> {
    let mut all = BTreeSet::new();
    let mut left: Vec<CheckId> = ids.into_iter().collect();
    while let Some(id) = left.pop() {
        if all.insert(id) {
            left.extend(desired.check(id).combination().map_or(&[][..], |combination| &combination.of));
        }
    }
    all
}

/// Returns the checks that judge the endpoints of a hostname, with all that those are made of.
pub fn judging(desired: &Desired, id: HostnameId) -> BTreeSet<CheckId> {
    let members = &desired.hostname(id).placement.members;
    with_members(desired, members.iter().filter_map(|member| member.check))
}

/// That a verdict has changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct VerdictChange {
    /// The check.
    pub check: CheckId,
    /// What it was.
    pub from: Verdict,
    /// What it is.
    pub to: Verdict,
}

/// What each check has concluded, and what of it is not stored yet.
#[derive(Debug, Default)]
pub struct Book {
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
    pub fn with(records: HashMap<CheckId, CheckRecord>) -> Book {
        Book { records, ..Book::default() }
    }

    /// Returns what was concluded.
    pub fn records(&self) -> &HashMap<CheckId, CheckRecord> {
        &self.records
    }

    /// Returns what was concluded.
    pub fn into_records(self) -> HashMap<CheckId, CheckRecord> {
        self.records
    }

    /// Returns the verdict of a check.
    pub fn verdict(&self, id: CheckId) -> Verdict {
        self.records.get(&id).map_or(Verdict::Unknown, |record| record.verdict)
    }

    /// Says whether anything is not stored yet.
    pub fn is_unsaved(&self) -> bool {
        !self.unsaved.is_empty()
    }

    /// Takes the results of one round of a check. Returns the verdicts that have changed: its own, and those
    /// of combinations.
    pub fn record(
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
        self.current.insert(id);
        let has_changed = record.record(at, &own, &desired.check(id).terms);
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
    pub fn current_combinations(&self, desired: &Desired, id: CheckId) -> Vec<CheckId> {
        let combinations = desired.check_ids().filter(|id| desired.check(*id).combination().is_some());
        let is_current = |combination: &CheckId| {
            let members = with_members(desired, [*combination]);
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

    /// Takes out what is not stored yet, so that results can be recorded while it is stored.
    pub fn take_unstored(&mut self, desired: &Desired) -> Unstored {
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
    pub fn put_back(&mut self, unstored: Unstored) {
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
#[derive(Debug, Clone, PartialEq)]
pub struct Unstored {
    /// By check.
    pub checks: Vec<UnstoredCheck>,
    /// Whether it is stored by now.
    pub is_stored: bool,
}

/// What of one check is to be stored.
#[derive(Debug, Clone, PartialEq)]
pub struct UnstoredCheck {
    /// The check.
    pub id: CheckId,
    /// Its name in the manifest.
    pub name: String,
    /// What it has concluded.
    pub record: CheckRecord,
    /// Slots that are over.
    pub ended: Vec<Slot>,
    /// The slot of now, where it has results.
    pub current: Option<Slot>,
    /// What happened.
    pub incidents: Vec<HistoryEntry>,
    /// Whether its first slot may have results of an earlier process, which are not in it yet.
    pub is_resumed: bool,
    /// Those results, once they were read.
    pub earlier: Option<Slot>,
}
