//! The ledger: what was spent at each authority, what it said of its limits, and which
//! set-ups are proven.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::certificates::budget::{Limit, Per, Spending};

use crate::StateError;

/// One spending.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpendingRow {
    /// The directory URL.
    pub authority: String,
    /// What was spent.
    pub of: Spending,
    /// For what it counts.
    pub per: Per,
    /// The name, domain or set of names.
    pub subject: String,
    /// When.
    pub at: Timestamp,
    /// The order that it belongs to.
    pub order: i64,
}

/// A limit that a spending must not pass, and what it counts for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LimitCheck {
    /// The limit.
    pub limit: Limit,
    /// The name, domain or set of names; empty for the account.
    pub subject: String,
}

/// Why a spending was refused: a limit would be passed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The limit, and what it counts for.
    pub check: LimitCheck,
    /// How many were spent within its span.
    pub spent: usize,
    /// When one more may be spent.
    pub until: Timestamp,
}

/// Until when an authority takes no order for a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RateLimit {
    /// Until when.
    pub until: Timestamp,
    /// What it said.
    pub says: String,
}

/// What a state knows of spendings.
#[async_trait]
pub trait Ledger {
    /// Checks limits at an authority and records what is about to be spent there, in one
    /// transaction: two that spend at once cannot both take the last place. A `renewal` may use
    /// the reserves.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn spend(
        &self,
        authority: &str,
        rows: &[SpendingRow],
        checks: &[LimitCheck],
        renewal: bool,
        now: Timestamp,
    ) -> Result<Result<(), Refusal>, StateError>;
    /// Takes back what an order would have spent but did not.
    async fn unspend(&self, order: i64, of: Spending) -> Result<(), StateError>;
    /// Returns when something was spent for a subject since a time.
    async fn spent(
        &self,
        authority: &str,
        of: Spending,
        per: Per,
        subject: &str,
        since: Timestamp,
    ) -> Result<Vec<Timestamp>, StateError>;

    /// Returns what an authority said last of a certificate.
    async fn rate_limit(&self, authority: &str, certificate: &str) -> Result<Option<RateLimit>, StateError>;
    /// Forgets what an authority said of its certificates and of the account; returns how many
    /// that were.
    async fn lift_rate_limits(&self, authority: &str) -> Result<u64, StateError>;
    /// Stores what an authority said of a certificate; with no name, of all of the account.
    async fn persist_rate_limit(&self, authority: &str, certificate: &str, limit: &RateLimit)
    -> Result<(), StateError>;

    /// Says whether a set-up is proven.
    async fn is_rehearsed(&self, set_up: &str) -> Result<bool, StateError>;
    /// Stores that set-ups are proven.
    async fn persist_rehearsed(&self, set_ups: &[String], at: Timestamp) -> Result<(), StateError>;
}
