//! Claims: who works on what, for how long, and whether a write is still theirs to make.

use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;

use crate::StateError;

/// The right to work on something until its lease ends. Its fencing number grows with every
/// claim of the same key: a write that carries an older one is refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// What is claimed: a certificate, a hostname at an endpoint, an account, a zone.
    pub key: String,
    /// The fencing number.
    pub fence: i64,
}

/// What came of asking for a claim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Claimed {
    /// It is granted.
    Yes(Claim),
    /// Another owner has it until then.
    HeldBy {
        /// The other owner.
        owner: String,
        /// When its lease ends.
        until: Timestamp,
    },
}

/// Claims on work.
#[async_trait]
pub trait Claims {
    /// Claims `key` for `owner` from `now` for `lease`. An owner that has it already gets a
    /// new number.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn claim(&self, key: &str, owner: &str, now: Timestamp, lease: Duration) -> Result<Claimed, StateError>;
    /// Prolongs a claim; says whether it is still this one.
    async fn renew_claim(&self, claim: &Claim, now: Timestamp, lease: Duration) -> Result<bool, StateError>;
    /// Gives a claim back; one that was taken over stays as it is.
    async fn release_claim(&self, claim: &Claim) -> Result<(), StateError>;
    /// Ends the leases of all claims but `owner`'s. Only whoever holds the lock of the whole
    /// state may do that: it proves that their owners have ended.
    async fn end_other_claims(&self, owner: &str) -> Result<(), StateError>;
}
