//! Accounts at authorities, and single sealed values.

use async_trait::async_trait;
use pindrel_core::certificates::acme::account::AccountStatus;

use crate::StateError;

/// A sealed secret as it lies in a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SealedBytes {
    /// The id of the key that opens it.
    pub key_id: String,
    /// The sealed bytes.
    pub bytes: Vec<u8>,
}

/// Single values, such as the sealing check.
#[async_trait]
pub trait Values {
    /// Returns a single value.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn value(&self, key: &str) -> Result<Option<SealedBytes>, StateError>;
    /// Stores a value unless there is one already; returns the one that is there now.
    async fn persist_first_value(&self, key: &str, value: &SealedBytes) -> Result<SealedBytes, StateError>;
}

/// An account at an authority.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountRow {
    /// The directory URL.
    pub authority: String,
    /// The account key in PKCS#8, sealed.
    pub key: SealedBytes,
    /// The account's URL; `None` until the authority has returned it.
    pub url: Option<String>,
    /// Where its orders are listed, where the authority says so.
    pub orders: Option<String>,
    /// Its state, as the authority said last.
    pub status: AccountStatus,
    /// The contacts that the authority was given.
    pub contact: Vec<String>,
    /// The terms of service that were agreed to.
    pub terms: Option<String>,
    /// The key that a change under way leads to, sealed.
    pub next_key: Option<SealedBytes>,
}

/// Accounts at authorities.
#[async_trait]
pub trait Accounts {
    /// Returns the account at a directory URL.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn account(&self, authority: &str) -> Result<Option<AccountRow>, StateError>;
    /// Stores an account, in the place of an earlier one.
    async fn persist_account(&self, row: &AccountRow) -> Result<(), StateError>;
}
