//! The ledger: what was spent at each authority, what it said of its limits, and which
//! set-ups are proven.

use jiff::Timestamp;
use pindrel_core::budget::{Per, Spending};

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

/// An authority's wish to hear nothing of a certificate for some time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hold {
    /// Until when.
    pub until: Timestamp,
    /// What it said.
    pub says: String,
}

/// What a state knows of spendings.
pub trait Ledger {
    /// Notes spendings.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    fn spend(&self, rows: &[SpendingRow]) -> Result<(), StateError>;
    /// Takes back what an order would have spent but did not.
    fn unspend(&self, order: i64, of: Spending) -> Result<(), StateError>;
    /// Returns when something was spent for a subject since a time.
    fn spent(
        &self,
        authority: &str,
        of: Spending,
        per: Per,
        subject: &str,
        since: Timestamp,
    ) -> Result<Vec<Timestamp>, StateError>;
    /// Forgets what was spent before a time.
    fn forget_spent(&self, before: Timestamp) -> Result<(), StateError>;

    /// Returns what an authority wished for a certificate last.
    fn hold(&self, authority: &str, certificate: &str) -> Result<Option<Hold>, StateError>;
    /// Keeps what an authority wishes for a certificate.
    fn keep_hold(&self, authority: &str, certificate: &str, hold: &Hold) -> Result<(), StateError>;

    /// Says whether a set-up is proven.
    fn is_rehearsed(&self, set_up: &str) -> Result<bool, StateError>;
    /// Keeps that a set-up is proven.
    fn keep_rehearsed(&self, set_up: &str, at: Timestamp) -> Result<(), StateError>;
}
