//! What is due, and when: whoever keeps running takes what is due next, whichever process found out that it would be.

use async_trait::async_trait;
use jiff::Timestamp;

use crate::StateError;

/// Something that is to be looked at again at a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueRow {
    /// What, as in `hostname api.larkfield.example` or `certificate stations`.
    pub subject: String,
    /// When.
    pub next: Timestamp,
    /// How often in a row it was not as it should be.
    pub failures: u32,
}

/// What a state knows of what is due.
#[async_trait]
pub trait Agenda {
    /// Returns what is due at `now`, what has been for the longest first, at most so many of those after `after`.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn due(&self, now: Timestamp, after: Option<&DueRow>, most: u32) -> Result<Vec<DueRow>, StateError>;
    /// Takes some of what is due, so that nobody else does before `until`: whoever takes it stores what is next by then.
    /// Returns what nobody else has taken meanwhile.
    async fn take_due(&self, rows: Vec<DueRow>, until: Timestamp) -> Result<Vec<DueRow>, StateError>;
    /// Stores when some are due next.
    async fn persist_due(&self, rows: &[DueRow]) -> Result<(), StateError>;
}
