//! Workers and claims: which processes are at work on a state, who works on what, and whether a write is still theirs to
//! make.
//!
//! A worker has a lease, which it renews while it lives, and on which all its claims depend. A worker whose lease has
//! ended, or whose process has, is taken out by whoever wants what it had claimed. Nobody waits for the dead: the
//! operating system, or the database, says at once that a process is gone.

use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;

use crate::StateError;

/// The bits of a fence that number the claims of one worker; those above hold the worker's own number.
const CLAIM_BITS: u32 = 32;

/// A process at work on a state.
#[derive(Debug)]
pub struct Worker {
    pub(crate) id: i64,
    claims: AtomicI64,
    /// Whether another worker was there when it was entered.
    pub(crate) met_others: bool,
    pub(crate) presence: Presence,
}

/// What shows to others that a process lives: it ends with the process.
#[derive(Debug)]
pub struct Presence {
    /// By what others look for it.
    pub(crate) token: String,
    /// What is held until then.
    pub(crate) held: Box<dyn std::any::Any + Send + Sync>,
}

/// What is done when it is asked whether a process lives.
pub(crate) const PRESENCE: &str = "tell which workers live";

/// Whether a process lives cannot be told.
pub(crate) fn presence_unknown(source: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> StateError {
    StateError::Failed { doing: PRESENCE, source: source.into() }
}

impl Worker {
    pub(crate) fn new(id: i64, met_others: bool, presence: Presence) -> Worker {
        Worker { id, claims: AtomicI64::new(0), met_others, presence }
    }

    /// A number that no other claim has or had.
    pub(crate) fn next_fence(&self) -> i64 {
        (self.id << CLAIM_BITS) | self.claims.fetch_add(1, Ordering::Relaxed)
    }
}

/// The right to work on something for as long as the worker's lease lasts. It carries a number of its own: a write under a
/// claim that somebody else has by now is refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// What is claimed: a certificate, a hostname at an endpoint, an account, a check.
    pub key: String,
    /// The number, which is given once.
    pub fence: i64,
    /// Whether another process may have worked on this since the worker was entered: what was read before may be out of
    /// date.
    pub is_shared: bool,
}

/// What came of asking for a claim.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Claimed {
    /// It is granted.
    Yes(Claim),
    /// Another worker has it.
    HeldBy {
        /// The other worker, as in `settle (process 4711)`.
        worker: String,
    },
}

/// Workers and their claims.
#[async_trait]
pub trait Claims {
    /// Enters this process among the workers under a name for messages, with a lease that begins `now`. What workers left
    /// behind that have ended goes.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn enter_worker(&self, name: &str, now: Timestamp, lease: Duration) -> Result<Worker, StateError>;
    /// Renews the lease of a worker; says whether the worker is still one.
    async fn renew_worker(&self, worker: &Worker, now: Timestamp, lease: Duration) -> Result<bool, StateError>;
    /// Takes a worker out, with all its claims.
    async fn leave(&self, worker: &Worker) -> Result<(), StateError>;
    /// Claims `key` for a worker. What another living worker has is not granted, nor what this one has already.
    async fn claim(&self, worker: &Worker, key: &str, now: Timestamp) -> Result<Claimed, StateError>;
    /// Claims those of some keys that no other living worker has, in one transaction; returns what was granted.
    async fn claim_free(&self, worker: &Worker, keys: &[String], now: Timestamp) -> Result<Vec<Claim>, StateError>;
    /// Gives claims back; one that was taken over stays as it is.
    async fn release_claims(&self, claims: &[Claim]) -> Result<(), StateError>;
}
