//! What Pindrel remembers: accounts, certificates, orders, challenge records, facts
//! and the journal, behind one trait.
//!
//! [`State`] is what the engine needs; [`SqliteState`] keeps it in one file. Secrets
//! come here sealed and leave sealed: no key is ever seen by this crate. All calls
//! are short and may be made from any thread.
//!
//! Whatever is written outlives the process from the moment at which the call returns.
//! It outlives a power cut too, but for what the next run would find out by looking
//! again: what was seen, and that something ended. That is on the disk once anything
//! else is.
//!
//! One process changes a state at a time: [`Lock`] says who.

mod certificates;
mod journal;
mod ledger;
mod lock;
mod rows;
mod sqlite;
mod stop;

pub use certificates::{CertificateBook, CertificateRow, CommandRun, OrderEnd, SigningRequestRow};
pub use journal::{Entry, Moment};
pub use ledger::{Hold, Ledger, SpendingRow};
pub use lock::{Lock, LockError};
pub use rows::{AccountRow, ChallengeRow, HostnameRow, HostnameSummary, OrderPhase, OrderRow, SealedBytes};
pub use sqlite::SqliteState;

use std::path::PathBuf;

use pindrel_core::facts::{EndpointView, Fact, Ownership, ZoneView};
use pindrel_core::name::{DnsName, Hostname};

/// Why the state could not be read or written.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StateError {
    /// The file or its folder cannot be opened or made.
    #[error("the state {path} cannot be opened")]
    Open {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The file was written by a newer Pindrel.
    #[error("the state {path} has schema {found}, which is newer than this Pindrel's {known}")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its schema version.
        found: i64,
        /// The newest version that this program knows.
        known: i64,
    },
    /// A read or a write failed.
    #[error("the state could not {doing}")]
    Failed {
        /// What was being done.
        doing: &'static str,
        /// Why.
        #[source]
        source: rusqlite::Error,
    },
    /// A row holds what no Pindrel writes.
    #[error("a row of {table} in the state is torn: {why}")]
    Torn {
        /// The table.
        table: &'static str,
        /// What is wrong with it.
        why: String,
    },
}

/// What the engine asks of a state.
pub trait State: CertificateBook + Ledger + Send + Sync {
    /// Returns a single value, such as the sealing check.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    fn value(&self, key: &str) -> Result<Option<SealedBytes>, StateError>;
    /// Keeps a single value.
    fn keep_value(&self, key: &str, value: &SealedBytes) -> Result<(), StateError>;

    /// Returns the account at a directory URL.
    fn account(&self, authority: &str) -> Result<Option<AccountRow>, StateError>;
    /// Keeps an account, in the place of an earlier one.
    fn keep_account(&self, row: &AccountRow) -> Result<(), StateError>;

    /// Returns the order of a certificate that has not ended.
    fn open_order(&self, certificate: &str) -> Result<Option<OrderRow>, StateError>;
    /// Returns all orders that have not ended.
    fn open_orders(&self) -> Result<Vec<OrderRow>, StateError>;
    /// Keeps an order; an id of zero makes a new row. Returns the id.
    fn keep_order(&self, row: &OrderRow) -> Result<i64, StateError>;
    /// Says whether the URL of an order at this authority is known already.
    fn knows_order(&self, authority: &str, url: &str) -> Result<bool, StateError>;

    /// Notes records that are about to be put into a zone.
    fn note_challenge_records(&self, order: i64, rows: &[ChallengeRow]) -> Result<(), StateError>;
    /// Returns the records that may still stand in a zone, for one order or for all
    /// orders that have ended.
    fn standing_challenge_records(&self, order: Option<i64>) -> Result<Vec<ChallengeRow>, StateError>;
    /// Notes that records are gone from every server.
    fn forget_challenge_records(&self, rows: &[&ChallengeRow]) -> Result<(), StateError>;

    /// Appends to the journal.
    fn journal(&self, entry: &Entry) -> Result<(), StateError>;

    /// Hands the summary of every hostname to `each`, in no particular order.
    fn hostname_summaries(&self, each: &mut dyn FnMut(HostnameSummary<'_>)) -> Result<(), StateError>;
    /// Returns what is known of one hostname.
    fn hostname(&self, hostname: &Hostname) -> Result<Option<HostnameRow>, StateError>;
    /// Keeps what is known of one hostname, but for what Pindrel made: that is kept by
    /// [`State::keep_ours`] alone, so that a run which only looks cannot undo it.
    fn keep_hostname(&self, row: &HostnameRow) -> Result<(), StateError> {
        self.keep_hostnames(&mut std::iter::once(row.clone()))
    }
    /// Keeps what is known of many hostnames in one transaction.
    fn keep_hostnames(&self, rows: &mut dyn Iterator<Item = HostnameRow>) -> Result<(), StateError>;
    /// Keeps what Pindrel made for a hostname.
    fn keep_ours(&self, hostname: &Hostname, ours: &Ownership) -> Result<(), StateError>;

    /// Returns what was seen of a zone.
    fn zone(&self, zone: &DnsName) -> Result<Option<Fact<ZoneView>>, StateError>;
    /// Keeps what was seen of a zone.
    fn keep_zone(&self, zone: &DnsName, fact: &Fact<ZoneView>) -> Result<(), StateError>;
    /// Returns what was seen of an endpoint, by platform URL and id.
    fn endpoint(&self, url: &str, id: &str) -> Result<Option<Fact<EndpointView>>, StateError>;
    /// Keeps what was seen of an endpoint.
    fn keep_endpoint(&self, url: &str, id: &str, fact: &Fact<EndpointView>) -> Result<(), StateError>;
}
