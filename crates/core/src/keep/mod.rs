//! What a process that keeps running does about what happens: a machine without I/O, clock or randomness.
//!
//! ```text
//!   Event ──▶ Keep::handle ──▶ Action
//!     checks made, switches and passes ended,      probe, switch, pass, ask the state, tell
//!     answers of the state, the manifest, time
//! ```
//!
//! It owns what is due when, what checks have concluded, what is decided about aliases, and what is tried again when. The
//! driver in the engine does what it says, each thing beside the others, and reports how that ended: also where it ended
//! by a fault. Nothing here waits for anything, so that a state, a peer or a pass that hangs holds up nothing else. What
//! was wanted and did not come about is tried again, with a growing pause, until it is not wanted any longer.

mod agenda;
mod board;
mod book;
mod checks;
mod event;
mod retry_delay;
mod schedule;
mod switching;
#[cfg(test)]
mod tests;

use std::sync::Arc;
use std::time::Duration;

pub use agenda::look_every;
pub use book::{Book, Unstored, UnstoredCheck, VerdictChange, judging, with_members};
pub use checks::CHECKS_AT_ONCE;
pub use event::{
    Action, Answer, DueSubject, Event, LoadedManifest, News, Now, PassOrder, PassReport, PassSeen, Question, Recalled,
    Subject, SwitchOrder, SwitchReport, Switched, Topic,
};
pub use retry_delay::{RetryDelay, spread};

use agenda::Agenda;
use board::Board;
use checks::Checks;
use schedule::{Schedule, Task};
use switching::Switches;

use crate::desired::{CheckId, Desired};
use crate::health::CheckRecord;
use crate::judging::facts::Knowledge;

/// How long what checks found waits to be stored together; a changed verdict does not.
const STORE_EVERY: Duration = Duration::from_secs(5);
/// How often what is stored is thinned, and what drivers have cached is forgotten.
const THIN_EVERY: Duration = Duration::from_secs(3_600);
/// How often it is tried to take over checks that another process makes, and how often it is seen whether those of this
/// one still are.
const CLAIM_AGAIN: Duration = Duration::from_secs(5);
const CLAIM_EVERY: Duration = Duration::from_secs(600);
/// How long after a manifest could not be loaded that is tried again.
const LOAD_AGAIN: Duration = Duration::from_secs(30);
/// The longest time without anything to do.
const IDLE: Duration = Duration::from_secs(5);

/// What was done.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeepSummary {
    /// How many checks were made.
    pub checks: u64,
    /// How many verdicts changed.
    pub verdicts: u64,
    /// How many aliases were switched.
    pub switches: u64,
    /// How many passes were made.
    pub passes: u64,
    /// How much later than due checks began: the median, the 99th percentile and the most.
    pub lateness: Option<(Duration, Duration, Duration)>,
}

/// The machine.
#[derive(Debug)]
pub struct Keep {
    board: Board,
    checks: Checks,
    switches: Switches,
    agenda: Agenda,
    /// A changed manifest that is not taken up yet.
    next_manifest: Option<Arc<Desired>>,
    is_stopping: bool,
}

impl Keep {
    /// Begins with a manifest and what is known by it; all of it is looked at first.
    pub fn new(loaded: LoadedManifest, now: Now) -> Keep {
        let mut keep = Keep {
            board: Board::new(loaded.desired.clone()),
            checks: Checks::default(),
            switches: Switches::default(),
            agenda: Agenda::default(),
            next_manifest: None,
            is_stopping: false,
        };
        keep.load_manifest(loaded, now);
        keep
    }

    /// Takes note of something, and returns what is to be done about it.
    pub fn handle(&mut self, event: Event, now: Now) -> Vec<Action> {
        let board = &mut self.board;
        match event {
            Event::Tick => {}
            Event::CheckMade { check, round, results } => self.checks.made(board, check, round, results, now),
            Event::SwitchEnded(report) => self.switches.switch_ended(board, *report, now),
            Event::PassEnded(report) => self.agenda.pass_ended(board, *report, &self.checks.followers(), now),
            Event::Answered { generation, answer } => self.answered(generation, answer, now),
            Event::ManifestChanged(desired) => {
                self.next_manifest = Some(desired);
                load_next(board, self.next_manifest.as_ref());
            }
            Event::ManifestLoaded(loaded) => self.manifest_loaded(loaded, now),
            Event::Stop => self.is_stopping = true,
        }
        if self.is_stopping {
            self.checks.store(&mut self.board);
            self.agenda.begin_postponing(&mut self.board);
        } else {
            self.begin_due(now);
        }
        std::mem::take(&mut self.board.actions)
    }

    /// Returns when there is something to do next, at the latest.
    pub fn next_at(&self, now: Now) -> Duration {
        self.board.schedule.next_at().unwrap_or(now.elapsed + IDLE)
    }

    /// Says whether something is being stored, which is waited for before the end.
    pub fn is_storing(&self) -> bool {
        self.board.is_asked(Topic::Store) || self.board.is_asked(Topic::Postpone)
    }

    /// Returns the manifest in force.
    pub fn desired(&self) -> &Arc<Desired> {
        &self.board.desired
    }

    /// Returns what is known.
    pub fn known(&self) -> &Knowledge {
        &self.board.known
    }

    /// Returns what a check has concluded.
    pub fn record(&self, id: CheckId) -> Option<&CheckRecord> {
        self.checks.record(id)
    }

    /// Returns what was done.
    pub fn summary(&self) -> KeepSummary {
        KeepSummary { lateness: self.checks.lateness(), ..self.board.summary.clone() }
    }

    /// Begins all that is due.
    fn begin_due(&mut self, now: Now) {
        let board = &mut self.board;
        while let Some((due, task)) = board.schedule.take_due(now.elapsed) {
            match task {
                Task::Check(id) => self.checks.wait(due, id),
                Task::Decide(id) => board.decide(id),
                Task::Due => self.agenda.read_due(board, now),
                Task::Claim => self.checks.claim(board, now),
                Task::Store => self.checks.store(board),
                Task::Thin => {
                    self.checks.store(board);
                    board.actions.push(Action::RenewDrivers);
                    board.ask(Question::Thin);
                    board.later(now, THIN_EVERY, Task::Thin);
                }
                Task::Load => load_next(board, self.next_manifest.as_ref()),
            }
        }
        self.checks.begin_due(board, now);
        self.switches.begin_recall(board);
        self.agenda.begin_postponing(board);
    }

    fn answered(&mut self, generation: u64, answer: Answer, now: Now) {
        let board = &mut self.board;
        board.asked.remove(&answer.topic());
        if generation != board.generation {
            // What it was about means something else by now.
            return;
        }
        match answer {
            Answer::Recalled { ids, said } => self.switches.recalled(board, ids, said, now),
            Answer::Drained(Some(drained)) => self.checks.drained(board, drained),
            Answer::Due(Some(due)) => self.agenda.take_due(board, due, &self.switches, now),
            Answer::Claimed(Some(claimed)) => self.checks.claimed(board, claimed, now),
            Answer::Postponed(left) => self.agenda.keep(left),
            Answer::Stored(unstored) => self.checks.stored(unstored),
            Answer::Drained(None) | Answer::Due(None) | Answer::Claimed(None) | Answer::Thinned => {}
        }
    }

    fn manifest_loaded(&mut self, loaded: Result<Box<LoadedManifest>, String>, now: Now) {
        self.board.asked.remove(&Topic::Load);
        let is_latest = |loaded: &LoadedManifest| {
            self.next_manifest.as_ref().is_some_and(|next| Arc::ptr_eq(next, &loaded.desired))
        };
        match loaded {
            Ok(loaded) if is_latest(&loaded) => {
                self.next_manifest = None;
                self.checks.store(&mut self.board);
                self.load_manifest(*loaded, now);
            }
            // It has changed again meanwhile.
            Ok(_) => load_next(&mut self.board, self.next_manifest.as_ref()),
            Err(why) => {
                self.board.tell(News::Note(format!("the changed manifest cannot be taken up: {why}")));
                self.board.later(now, LOAD_AGAIN, Task::Load);
            }
        }
    }

    /// Takes a manifest up: what was concluded, what follows what, and when each thing is due.
    fn load_manifest(&mut self, loaded: LoadedManifest, now: Now) {
        let LoadedManifest { desired, known, claimed } = loaded;
        let board = &mut self.board;
        let before = std::mem::replace(&mut board.desired, desired.clone());
        board.known = known;
        board.generation += 1;
        board.actions.extend([Action::AbandonProbes, Action::RenewDrivers]);
        // Numbers of hostnames mean others from now on; a switch under way is known by its hostname.
        board.to_decide.clear();
        board.known.choices.clear();
        board.schedule = Schedule::default();
        // What was asked about the one before is answered to nobody, but for what was to be stored.
        board.asked.retain(|topic| *topic == Topic::Store || *topic == Topic::Thin);
        let concluded = std::mem::take(&mut board.known.verdicts);
        self.checks.begin(&before, &desired, concluded);
        self.agenda = Agenda::default();
        self.checks.claimed(board, claimed, now);
        board.later(now, CLAIM_AGAIN, Task::Claim);
        board.later(now, THIN_EVERY, Task::Thin);
        board.later(now, Agenda::look_pace(board), Task::Due);
        self.agenda.begin_whole_pass(board);
    }
}

/// Loads a changed manifest; the one before holds until that is done.
fn load_next(board: &mut Board, next: Option<&Arc<Desired>>) {
    if let Some(desired) = next {
        board.ask(Question::Load(desired.clone()));
    }
}
