//! What Pindrel remembers: accounts, certificates, orders, challenge records, facts,
//! claims and the journal, behind one trait.
//!
//! [`State`] is what the engine needs. It is written once, in portable SQL, over two small
//! databases: [`SqliteState`] keeps it in one file, [`PostgresState`] in a PostgreSQL
//! database. Secrets come here sealed and leave sealed: no key is ever seen by this crate.
//!
//! ```text
//!  State = Values + Accounts + Orders + CertificateBook + Ledger + Hostnames + Journal + Agenda + Claims + Stores
//!          + Runs + HealthBook
//!    └─ sql::SqlState<D> ── D: Database ──┬─ sqlite::Sqlite
//!                                         └─ postgres::Postgres
//! ```
//!
//! Whatever is written outlives the process from the moment at which the call returns.
//! It outlives a power cut too, but for what the next run would find out by looking
//! again: what was seen, and that something ended. That is on the disk once anything
//! else is.
//!
//! Any number of processes work on one state at once: each is a [`Worker`], and claims what it
//! works on. A write that depends on what was read is one transaction, or is refused where
//! that has changed meanwhile, or carries the [`Claim`] that its work was begun under and is
//! refused once that was taken over.

mod accounts;
mod agenda;
mod certificates;
mod claims;
mod health;
mod hostnames;
mod journal;
mod ledger;
mod orders;
mod postgres;
mod runs;
mod sql;
mod sqlite;
mod stop;
mod stores;

pub use accounts::{AccountRow, Accounts, SealedBytes, Values};
pub use agenda::{Agenda, DueRow};
pub use certificates::{
    CertificateBook, CertificateChange, CertificateRow, CommandRun, OrderEnd, Revocation, SigningRequestRow,
};
pub use claims::{Claim, Claimed, Claims, Worker};
pub use health::{CheckUpdate, EndpointHold, HealthBook};
pub use hostnames::{HostnameRow, HostnameSummary, Hostnames, OwnershipChange};
pub use journal::{Attempt, AttemptEnd, Entry, Journal, JournalFilter, Moment, PruneRule};
pub use ledger::{Ledger, LimitCheck, RateLimit, Refusal, SpendingRow};
pub use orders::{ChallengeRow, OrderPhase, OrderRow, Orders};
pub use postgres::{PostgresConfig, PostgresState, PostgresTls};
pub use runs::{ManifestOrigin, RunChange, RunRow, Runs};
pub use sqlite::SqliteState;
pub use stores::{StoredCopy, Stores};

use async_trait::async_trait;

/// Why the state could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StateError {
    /// It cannot be opened or made.
    #[error("the state {place} cannot be opened")]
    Open {
        /// Where it is: a path, or a URL without its password.
        place: String,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// What is at that place is not a state of Pindrel's.
    #[error("{place} is not a state of Pindrel: {why}")]
    Foreign {
        /// Where it is.
        place: String,
        /// What it is instead.
        why: String,
    },
    /// It was written by a newer Pindrel.
    #[error("the state {place} has schema {found}, which is newer than this Pindrel's {known}")]
    Newer {
        /// Where it is.
        place: String,
        /// Its schema version.
        found: i64,
        /// The newest version that this program knows.
        known: i64,
    },
    /// It has an older schema, which whoever only reads leaves as it is: others may still use it.
    #[error("the state {place} has schema {found}, and this Pindrel's is {known}")]
    Older {
        /// Where it is.
        place: String,
        /// Its schema version.
        found: i64,
        /// The version that this program has.
        known: i64,
    },
    /// A read or a write failed.
    #[error("the state could not {doing}")]
    Failed {
        /// What was being done.
        doing: &'static str,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// A row holds what no Pindrel writes.
    #[error("a row of {table} in the state is corrupt: {why}")]
    Corrupt {
        /// The table.
        table: &'static str,
        /// What is wrong with it.
        why: String,
    },
    /// Others kept changing the same thing.
    #[error("{what} is changed by others all the time")]
    Contended {
        /// What was to be changed.
        what: String,
    },
    /// The claim that the write was made under was taken over by another worker.
    #[error("another worker has taken over {key}")]
    Superseded {
        /// What was claimed.
        key: String,
    },
}

/// What a state is opened for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// To read what is there; a database that others share keeps its schema.
    Read,
    /// To change it also.
    Change,
}

/// What the engine asks of a state.
#[async_trait]
pub trait State:
    Values
    + Accounts
    + Orders
    + CertificateBook
    + Ledger
    + Hostnames
    + Journal
    + Agenda
    + Claims
    + Stores
    + Runs
    + HealthBook
    + Send
    + Sync
{
    /// Says whether the state is still where it was opened: a file may be removed or
    /// replaced under a run.
    ///
    /// # Errors
    /// [`StateError`] when that cannot be looked at.
    async fn is_in_place(&self) -> Result<bool, StateError>;
}
