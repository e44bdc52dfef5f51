//! What is looked at when: passes over what is due, and what is tried again after it was not as it should be.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use super::board::Board;
use super::schedule::Task;
use super::switching::Switches;
use super::{Action, DueSubject, News, Now, PassOrder, PassReport, PassSeen, Question, RetryDelay, Subject, Topic};
use crate::desired::{CertificateId, Desired, HostnameId};

/// How often every hostname is looked at, where the manifest does not say.
const LOOK_EVERY: Duration = Duration::from_secs(3_600);
/// The same for certificates that no hostname uses: nobody but Pindrel changes them, and their authorities are asked for
/// advice at that pace (RFC 9773 §4.3.2).
const CERTIFICATES_EVERY: Duration = Duration::from_secs(6 * 3_600);
/// In how many parts the hostnames are looked at.
const PARTS: u32 = 60;
/// The longest time until it is seen what others have found to be due.
const DUE_EVERY: Duration = Duration::from_secs(600);
/// The most hostnames of one pass, so that none waits long for the next.
const MOST_AT_ONCE: usize = 5_000;
/// How long after something could not be looked at it is tried again.
const PASS_AGAIN: Duration = Duration::from_secs(60);

/// What is being looked at, and what is to be stored of when that is due next.
#[derive(Debug, Default)]
pub(super) struct Agenda {
    /// Whether a pass is under way.
    is_passing: bool,
    /// How often in a row what is being looked at was not as it should be.
    failures: HashMap<Subject, u32>,
    /// The subjects that were looked at by this process already.
    is_known: HashSet<Subject>,
    /// When what was not as it should be is due, in whole seconds of the clock that nobody sets.
    wakes: BTreeSet<u64>,
    /// When some are due next, which is not stored yet.
    next: HashMap<Subject, DueSubject>,
}

impl Agenda {
    /// Keeps what could not be stored, unless it is out of date.
    pub(super) fn keep(&mut self, left: Vec<DueSubject>) {
        for due in left {
            self.next.entry(due.subject).or_insert(due);
        }
    }

    /// How long it takes at most until it is seen what is due.
    pub(super) fn look_pace(board: &Board) -> Duration {
        let count = u32::try_from(board.desired.hostnames.len()).unwrap_or(u32::MAX);
        (look_every(&board.desired) / count.clamp(1, PARTS)).clamp(Duration::from_secs(1), DUE_EVERY)
    }

    /// Asks what is due, unless a pass is under way: it is asked again when that has ended.
    pub(super) fn read_due(&mut self, board: &mut Board, now: Now) {
        board.later(now, Agenda::look_pace(board), Task::Due);
        self.wakes = self.wakes.split_off(&(now.elapsed.as_secs() + 1));
        if let Some(wake) = self.wakes.first() {
            board.schedule.add(Duration::from_secs(*wake), Task::Due);
        }
        if !self.is_passing {
            board.ask(Question::Due(MOST_AT_ONCE));
        }
    }

    /// Begins a pass over all of the manifest.
    pub(super) fn begin_whole_pass(&mut self, board: &mut Board) {
        let hostnames = board.desired.hostname_ids().collect();
        self.begin_pass(board, hostnames, board.desired.unused_certificates(), true);
    }

    /// Begins a pass over what is due.
    pub(super) fn take_due(&mut self, board: &mut Board, due: Vec<DueSubject>, switches: &Switches, now: Now) {
        if self.is_passing {
            // It comes due again.
            return;
        }
        let mut hostnames: BTreeSet<HostnameId> = BTreeSet::new();
        let mut certificates: BTreeSet<CertificateId> = BTreeSet::new();
        let mut postponed = Vec::new();
        for DueSubject { subject, failures, .. } in due {
            self.failures.insert(subject, failures);
            match subject {
                Subject::Hostname(id) if switches.is_switching(board, id) => {
                    postponed.push(DueSubject { subject, next: after(now, PASS_AGAIN), failures });
                }
                Subject::Hostname(id) => drop(hostnames.insert(id)),
                Subject::Certificate(id) => drop(certificates.insert(id)),
            }
        }
        self.keep(postponed);
        if !hostnames.is_empty() || !certificates.is_empty() {
            self.begin_pass(board, hostnames.into_iter().collect(), certificates.into_iter().collect(), false);
        }
    }

    fn begin_pass(
        &mut self,
        board: &mut Board,
        hostnames: Vec<HostnameId>,
        certificates: Vec<CertificateId>,
        is_whole: bool,
    ) {
        self.is_passing = true;
        let (generation, verdicts) = (board.generation, board.known.verdicts.clone());
        board.actions.push(Action::Pass(PassOrder { generation, hostnames, certificates, is_whole, verdicts }));
    }

    /// Takes note of how a pass ended: what is not as it should be is tried again.
    pub(super) fn pass_ended(
        &mut self,
        board: &mut Board,
        report: PassReport,
        followers: &BTreeSet<HostnameId>,
        now: Now,
    ) {
        let PassReport { order, outcome } = report;
        if order.generation != board.generation {
            return;
        }
        self.is_passing = false;
        let subjects = order.hostnames.iter().map(|id| Subject::Hostname(*id));
        let subjects: Vec<Subject> =
            subjects.chain(order.certificates.iter().map(|id| Subject::Certificate(*id))).collect();
        let seen = match outcome {
            Ok(seen) => seen,
            Err(why) => {
                board.tell(News::Note(format!("a pass could not be made: {why}")));
                for subject in subjects {
                    let failures = self.failures.remove(&subject).unwrap_or(0).saturating_add(1);
                    self.postpone(board, DueSubject { subject, next: after(now, PASS_AGAIN), failures }, now);
                }
                return;
            }
        };
        board.summary.passes += 1;
        for subject in subjects {
            let failures = self.failures.remove(&subject).unwrap_or(0);
            let due = self.next_look(board, subject, failures, &seen, now);
            self.postpone(board, due, now);
        }
        for (id, fact) in seen.endpoints {
            board.known.endpoints.insert(id, fact);
        }
        // What it knows of hostnames may be older than what switches have done since: the state knows.
        for id in order.hostnames.iter().filter(|id| followers.contains(id)) {
            board.decide(*id);
        }
        if !board.is_asked(Topic::Due) {
            board.later(now, Duration::from_secs(1), Task::Due);
        }
    }

    /// When something is looked at again that a pass has seen.
    fn next_look(&mut self, board: &Board, subject: Subject, failures: u32, seen: &PassSeen, now: Now) -> DueSubject {
        let (name, hostname, certificate, place, places) = match subject {
            Subject::Hostname(id) => {
                let wanted = board.desired.hostname(id);
                (wanted.hostname.as_str(), &wanted.hostname, wanted.certificate, id.0, board.desired.hostnames.len())
            }
            Subject::Certificate(id) => {
                let wanted = board.desired.certificate(id);
                (wanted.name.as_str(), &wanted.names[0], id, id.0, board.desired.certificates.len())
            }
        };
        let is_first = self.is_known.insert(subject);
        let held = seen.certificates.get(&certificate);
        let Some(named) = seen.stuck.get(hostname) else {
            // At first all were looked at together: from then on they come one after the other.
            let share = if is_first { f64::from(place + 1) / places as f64 } else { 1.0 };
            let every = match subject {
                Subject::Hostname(_) => look_every(&board.desired),
                Subject::Certificate(_) => look_every(&board.desired).max(CERTIFICATES_EVERY),
            };
            let look = after(now, every.mul_f64(share).max(Duration::from_secs(1)));
            let renewal = held.map(|held| held.due_at(board.desired.certificate(certificate).terms.renewal));
            let renewal = renewal.map_or(look, |at| at.max(after(now, RetryDelay::RETRY.first)));
            return DueSubject { subject, next: look.min(renewal), failures: 0 };
        };
        let failures = failures.saturating_add(1);
        let is_urgent = held.is_some_and(|held| held.is_near_its_end(now.wall));
        let delay = if is_urgent { RetryDelay::URGENT } else { RetryDelay::RETRY };
        // A time that a peer has named is kept to, and not waited beyond.
        let next = match named {
            Some(at) => (*at).max(after(now, Duration::from_secs(1))),
            None => after(now, delay.spread_after(name, failures)),
        };
        DueSubject { subject, next, failures }
    }

    /// Records when something is due next, and schedules a look at that time.
    fn postpone(&mut self, board: &mut Board, due: DueSubject, now: Now) {
        let pause = Duration::try_from(due.next.duration_since(now.wall)).unwrap_or_default();
        if due.failures > 0 && pause < look_every(&board.desired) {
            // Times are stored in whole seconds.
            let wake = now.elapsed + pause + Duration::from_secs(1);
            self.wakes.insert(wake.as_secs() + 1);
            board.schedule.add(wake, Task::Due);
        }
        self.next.insert(due.subject, due);
    }

    /// Has it stored when things are due next.
    pub(super) fn begin_postponing(&mut self, board: &mut Board) {
        if self.next.is_empty() || board.is_asked(Topic::Postpone) {
            return;
        }
        let mut rows: Vec<DueSubject> = self.next.drain().map(|(_, due)| due).collect();
        rows.sort_unstable_by_key(|due| due.subject);
        board.ask(Question::Postpone(rows));
    }
}

/// Returns how often every hostname of a manifest is looked at.
pub fn look_every(desired: &Desired) -> Duration {
    desired.look_every.unwrap_or(LOOK_EVERY)
}

fn after(now: Now, pause: Duration) -> Timestamp {
    let pause = SignedDuration::try_from(pause).unwrap_or(SignedDuration::MAX);
    now.wall.checked_add(pause).unwrap_or(Timestamp::MAX)
}
