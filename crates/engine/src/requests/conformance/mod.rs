//! Trials of the protocols that others implement, for those who do.

mod endpoint;
mod zone;

use serde::Serialize;

/// How one clause of a protocol is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "verdict", rename_all = "kebab-case")]
pub enum Verdict {
    /// As the protocol says.
    Met,
    /// Otherwise.
    NotMet {
        /// What came instead.
        why: String,
    },
    /// Not there at all, and it need not be.
    NotOffered,
}

/// A clause with how it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ClauseReport {
    /// What the protocol says.
    pub clause: &'static str,
    /// How it is kept.
    #[serde(flatten)]
    pub verdict: Verdict,
}
