//! The journal: steps begun and ended, and the last attempt at each piece of work.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::judging::findings::Finding;

use crate::StateError;

/// Which moment of a step an entry records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// It is about to begin.
    Begun,
    /// It is done.
    Done,
    /// It is put off: what it waits for takes longer than the run.
    Waiting,
    /// It failed.
    Failed,
}

impl Moment {
    /// All moments.
    pub const ALL: [Moment; 4] = [Moment::Begun, Moment::Done, Moment::Waiting, Moment::Failed];

    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Moment::Begun => "begun",
            Moment::Done => "done",
            Moment::Waiting => "waiting",
            Moment::Failed => "failed",
        }
    }
}

/// One entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// When.
    pub at: Timestamp,
    /// The moment.
    pub moment: Moment,
    /// What is done, as in `store` or `order-ask`.
    pub action: String,
    /// What it is done to: a hostname, a certificate's name or a directory URL.
    pub subject: String,
    /// More about it; never a secret.
    pub detail: String,
}

/// Which entries of the journal are asked for. What is `None` is not asked about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct JournalFilter {
    /// Only those since this time.
    pub since: Option<Timestamp>,
    /// Only those of this action.
    pub action: Option<String>,
    /// Only those about this subject.
    pub subject: Option<String>,
    /// Only those of this moment.
    pub moment: Option<Moment>,
    /// The newest so many.
    pub most: u32,
}

/// How an attempt at a piece of work ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AttemptEnd {
    /// It is done.
    Done,
    /// It goes on with a later run.
    Waiting,
    /// It failed.
    Failed,
}

impl AttemptEnd {
    pub(crate) const ALL: [AttemptEnd; 3] = [AttemptEnd::Done, AttemptEnd::Waiting, AttemptEnd::Failed];

    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            AttemptEnd::Done => "done",
            AttemptEnd::Waiting => "waiting",
            AttemptEnd::Failed => "failed",
        }
    }
}

/// The last attempt at one piece of work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Attempt {
    /// The piece of work, as in `store edge catalogue`.
    pub work: String,
    /// What was done.
    pub action: String,
    /// When it ended.
    pub at: Timestamp,
    /// How it ended.
    pub ended: AttemptEnd,
    /// What went wrong, or what is waited for.
    pub finding: Option<Finding>,
    /// When the next attempt is worth making, where that is known.
    pub next: Option<Timestamp>,
}

/// What is forgotten when a state is pruned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PruneRule {
    /// Journal entries, runs, ended orders, successful attempts, rate limits and agenda entries from before this time.
    pub before: Timestamp,
    /// Spendings before this time: no limit looks back further.
    pub spent_before: Timestamp,
    /// The keys of certificates that another has replaced before this time, or that have expired before
    /// `now`; the certificates themselves once they have expired before `before`.
    pub replaced_before: Timestamp,
    /// The present.
    pub now: Timestamp,
    /// The most entries of the journal that stay.
    pub most_entries: u32,
}

/// The journal and what it says of the last attempts.
#[async_trait]
pub trait Journal {
    /// Appends to the journal; where a step ends, with the attempt that it was, in the same
    /// transaction.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn journal(&self, entry: &Entry, attempt: Option<&Attempt>) -> Result<(), StateError>;
    /// Returns entries of the journal, the oldest first.
    async fn journal_entries(&self, filter: &JournalFilter) -> Result<Vec<Entry>, StateError>;
    /// Returns the last attempts at some pieces of work, in no particular order.
    async fn attempts(&self, works: &[String]) -> Result<Vec<Attempt>, StateError>;
    /// Forgets what is old; returns how many rows went. Never an order that is open, or whose
    /// challenge records may still be in a zone, nor the last order of a certificate.
    async fn prune(&self, rule: &PruneRule) -> Result<u64, StateError>;
}
