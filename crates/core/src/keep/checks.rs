//! Checks: which of them this process makes, when, and what their results conclude.

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::time::Duration;

use super::board::Board;
use super::schedule::Task;
use super::{
    Action, Book, CLAIM_AGAIN, CLAIM_EVERY, News, Now, Question, STORE_EVERY, Topic, Unstored, VerdictChange, judging,
    spread,
};
use crate::desired::{CheckId, Desired, EndpointId, HostnameId};
use crate::health::{CheckRecord, CheckResult, Latencies, Measured};
use crate::judging::facts::Drained;

/// The most checks under way at once.
pub const CHECKS_AT_ONCE: usize = 256;

/// How often it is seen which endpoints somebody has drained.
const DRAINED_EVERY: Duration = Duration::from_secs(2);

/// The checks of a manifest.
#[derive(Debug, Default)]
pub(super) struct Checks {
    /// Those that this process makes; others may make the rest.
    own: HashSet<CheckId>,
    /// Whether it was told that another process makes some.
    is_told: bool,
    /// Those that are due and wait for a place.
    waiting: VecDeque<(Duration, CheckId)>,
    /// Those under way, with the number that each was asked for with and when it was due.
    under_way: HashMap<CheckId, (u64, Duration)>,
    /// Counts what is asked for.
    round: u64,
    /// The hostnames whose alias follows each check.
    following: HashMap<CheckId, Vec<HostnameId>>,
    /// When it was seen last which endpoints are drained.
    drained_seen: Duration,
    late: Latencies,
    latest: Duration,
    /// What was concluded, and what of it is not stored yet.
    book: Book,
}

impl Checks {
    /// Begins with the checks of another manifest, and what is stored of them. What this process has concluded is newer
    /// than that; it counts once a result of now agrees with it.
    pub(super) fn begin(&mut self, before: &Desired, desired: &Desired, stored: HashMap<CheckId, CheckRecord>) {
        let mut concluded = stored;
        let own: HashMap<&str, &CheckRecord> =
            self.book.records().iter().map(|(id, record)| (before.check(*id).name.as_str(), record)).collect();
        for id in desired.check_ids() {
            if let Some(record) = own.get(desired.check(id).name.as_str()) {
                concluded.insert(id, (*record).clone());
            }
        }
        self.book = Book::with(concluded);
        self.own.clear();
        self.waiting.clear();
        self.under_way.clear();
        self.following.clear();
        self.is_told = false;
        for id in desired.hostname_ids().filter(|id| desired.hostname(*id).follows_checks(desired)) {
            for check in judging(desired, id) {
                self.following.entry(check).or_default().push(id);
            }
        }
    }

    pub(super) fn wait(&mut self, due: Duration, id: CheckId) {
        if self.own.contains(&id) {
            self.waiting.push_back((due, id));
        }
    }

    /// How much later than due checks began: the median, the 99th percentile and the most.
    pub(super) fn lateness(&self) -> Option<(Duration, Duration, Duration)> {
        let (median, most_of) = self.late.quantile(0.5).zip(self.late.quantile(0.99))?;
        Some((median, most_of, self.latest))
    }

    fn following(&self, check: CheckId) -> impl Iterator<Item = HostnameId> + '_ {
        self.following.get(&check).into_iter().flatten().copied()
    }

    /// Asks which checks this process may make.
    pub(super) fn claim(&self, board: &mut Board, now: Now) {
        let pause = if self.is_told { CLAIM_AGAIN } else { CLAIM_EVERY };
        board.later(now, pause, Task::Claim);
        let ids: Vec<CheckId> = board.desired.check_ids().filter(|id| is_made(&board.desired, *id)).collect();
        if !ids.is_empty() {
            board.ask(Question::Claim(ids));
        }
    }

    /// Takes note of which checks are this process's.
    pub(super) fn claimed(&mut self, board: &mut Board, claimed: HashSet<CheckId>, now: Now) {
        let before = std::mem::replace(&mut self.own, claimed);
        for id in self.own.difference(&before) {
            let check = board.desired.check(*id);
            let offset = check.terms.every.mul_f64(spread(&check.name, 0));
            board.later(now, offset, Task::Check(*id));
        }
        let made = board.desired.check_ids().filter(|id| is_made(&board.desired, *id)).count();
        let others = made - self.own.len().min(made);
        if (others > 0) != self.is_told {
            self.is_told = others > 0;
            let says = match others {
                0 => "all checks are made by this process now".to_owned(),
                _ => format!("another process makes {others} of the {made} checks: this one takes over when that ends"),
            };
            board.tell(News::Note(says));
        }
    }

    /// Begins the checks that are due, as far as there is place.
    pub(super) fn begin_due(&mut self, board: &mut Board, now: Now) {
        while self.under_way.len() < CHECKS_AT_ONCE {
            let Some((due, check)) = self.waiting.pop_front() else { break };
            // Never two of one check at a time.
            if self.under_way.contains_key(&check) {
                continue;
            }
            self.round += 1;
            let round = self.round;
            self.under_way.insert(check, (round, due));
            let late = now.elapsed.saturating_sub(due);
            self.late.record(late);
            self.latest = self.latest.max(late);
            board.actions.push(Action::Probe { check, round });
        }
    }

    /// Takes the results of a check, and decides about what follows from them.
    pub(super) fn made(
        &mut self,
        board: &mut Board,
        id: CheckId,
        round: u64,
        results: Option<Vec<(String, Measured)>>,
        now: Now,
    ) {
        let Some((_, due)) = self.under_way.get(&id).copied().filter(|(asked, _)| *asked == round) else {
            return;
        };
        self.under_way.remove(&id);
        let every = board.desired.check(id).terms.every;
        // What was missed while it was late is not made up for.
        let mut next = due + every;
        while next + every <= now.elapsed {
            next += every;
        }
        board.schedule.add(next, Task::Check(id));
        let Some(results) = results else { return };
        board.summary.checks += 1;
        let dead_before = self.dead_addresses(id);
        let changes = self.book.record(&board.desired, id, now.wall, &results);
        for combination in self.book.current_combinations(&board.desired, id) {
            if let Some(record) = self.book.records().get(&combination) {
                let is_first = board.known.verdicts.insert(combination, record.clone()).is_none();
                if is_first {
                    board.tell(News::Checked { check: combination, took: None });
                }
            }
        }
        let is_first = !board.known.verdicts.contains_key(&id);
        if let Some(record) = self.book.records().get(&id) {
            board.known.verdicts.insert(id, record.clone());
            let passed = results.iter().filter(|(_, measured)| measured.result == CheckResult::Passed);
            let took = passed.map(|(_, measured)| measured.phases.total()).min();
            board.tell(News::Checked { check: id, took });
        }
        let mut concerned: BTreeSet<HostnameId> = BTreeSet::new();
        for VerdictChange { check, from, to } in &changes {
            board.summary.verdicts += 1;
            if *check != id {
                board.tell(News::Checked { check: *check, took: None });
            }
            board.tell(News::Verdict { check: *check, from: *from, to: *to });
            concerned.extend(self.following(*check));
        }
        if is_first || self.dead_addresses(id) != dead_before {
            concerned.extend(self.following(id));
        }
        for hostname in concerned {
            board.decide(hostname);
        }
        if changes.is_empty() || board.is_asked(Topic::Store) {
            board.later(now, STORE_EVERY, Task::Store);
        } else {
            self.store(board);
        }
        self.refresh_drained(board, now);
    }

    /// Asks which endpoints are drained, now and then.
    fn refresh_drained(&mut self, board: &mut Board, now: Now) {
        if now.elapsed >= self.drained_seen + DRAINED_EVERY {
            self.drained_seen = now.elapsed;
            board.ask(Question::Drained);
        }
    }

    /// Takes note of which endpoints are drained.
    pub(super) fn drained(&self, board: &mut Board, drained: HashMap<EndpointId, Drained>) {
        if drained != board.known.drained {
            board.known.drained = drained;
            board.to_decide.extend(self.followers());
        }
    }

    /// Stores what checks found, by now.
    pub(super) fn store(&mut self, board: &mut Board) {
        if self.book.is_unsaved() && !board.is_asked(Topic::Store) {
            let unstored = self.book.take_unstored(&board.desired);
            board.ask(Question::Store(unstored));
        }
    }

    pub(super) fn stored(&mut self, unstored: Unstored) {
        self.book.put_back(unstored);
    }

    pub(super) fn record(&self, id: CheckId) -> Option<&CheckRecord> {
        self.book.records().get(&id)
    }

    fn dead_addresses(&self, id: CheckId) -> Vec<String> {
        let record = self.book.records().get(&id);
        record.map_or_else(Vec::new, |record| record.dead_addresses().map(str::to_owned).collect())
    }

    /// The hostnames whose alias follows checks of which this process makes some.
    pub(super) fn followers(&self) -> BTreeSet<HostnameId> {
        let own = self.following.iter().filter(|(check, _)| self.own.contains(check));
        own.flat_map(|(_, hostnames)| hostnames).copied().collect()
    }
}

/// Whether a check looks at something itself.
fn is_made(desired: &Desired, id: CheckId) -> bool {
    desired.check(id).combination().is_none()
}
