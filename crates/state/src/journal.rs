//! The journal: steps begun and ended.

use jiff::Timestamp;

/// Which moment of a step an entry records.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// It is about to begin.
    Begun,
    /// It ended well.
    Ended,
    /// It failed.
    Failed,
}

impl Moment {
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            Moment::Begun => "begun",
            Moment::Ended => "ended",
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
    pub action: &'static str,
    /// What it is done to: a hostname or a certificate's name.
    pub subject: String,
    /// More about it; never a secret.
    pub detail: String,
}
