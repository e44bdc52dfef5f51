//! The state in SQL that SQLite and PostgreSQL both understand: written once, run by a
//! [`Database`] that knows how to send a statement and what a value is.

mod accounts;
pub(crate) mod agenda;
pub(crate) mod certificates;
mod claims;
mod health;
mod hostnames;
mod journal;
mod ledger;
pub(crate) mod orders;
mod runs;
mod stores;
pub(crate) mod things;
mod value;

use async_trait::async_trait;
use jiff::Timestamp;
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::claims::Presence;
use crate::{Claim, State, StateError};

pub(crate) use value::values;
pub use value::{Row, Value};

/// How often somebody else may come before a change.
const MOST_CHANGES_AT_ONCE: usize = 100;

/// When a write must be on the disk.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Durability {
    /// Before the call returns.
    Now,
    /// With the next write that waits: until then a power cut may take it.
    Soon,
    /// As soon as that, and not at all where nothing can be written: it can be looked at again.
    Seen,
}

/// One statement with its parameters, `?1` and on.
#[derive(Debug, Clone)]
pub struct Statement {
    pub(crate) sql: &'static str,
    pub(crate) params: Vec<Value>,
    /// What it means, and undoes the whole, where it changes nothing.
    pub(crate) guards: Option<Guard>,
}

/// What it means that a statement changed nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Guard {
    /// The claim of this key is lost.
    Claim(String),
    /// Somebody else has changed this meanwhile.
    Version(String),
}

impl From<Guard> for StateError {
    fn from(guard: Guard) -> StateError {
        match guard {
            Guard::Claim(key) => StateError::Superseded { key },
            Guard::Version(what) => StateError::Contended { what },
        }
    }
}

impl Statement {
    pub(crate) fn new(sql: &'static str, params: Vec<Value>) -> Statement {
        Statement { sql, params, guards: None }
    }

    /// Holds the claim for the transaction, and fails it where there is a newer one.
    pub(crate) fn guard(claim: &Claim) -> Statement {
        let sql = "UPDATE claims SET fence = fence WHERE key = ?1 AND fence = ?2";
        let guards = Some(Guard::Claim(claim.key.clone()));
        Statement { guards, ..Statement::new(sql, values![claim.key.as_str(), claim.fence]) }
    }

    /// Fails the transaction where it changes nothing: somebody else has changed `what` meanwhile.
    pub(crate) fn expecting(self, what: String) -> Statement {
        Statement { guards: Some(Guard::Version(what)), ..self }
    }
}

/// A database that holds a state.
#[async_trait]
pub trait Database: Send + Sync + 'static {
    /// Reads rows.
    async fn query(&self, doing: &'static str, sql: &str, params: Vec<Value>) -> Result<Vec<Row>, StateError>;
    /// Carries statements out in one transaction; returns the rows of the last one and how
    /// many rows all of them changed.
    async fn write(
        &self,
        doing: &'static str,
        durability: Durability,
        statements: Vec<Statement>,
    ) -> Result<(Vec<Row>, u64), StateError>;
    /// Begins a transaction that excludes other writers; dropped without a commit, it is
    /// undone.
    async fn begin(&self, doing: &'static str) -> Result<Box<dyn Session>, StateError>;
    /// The time by which leases end: that of the database, where others use it from other machines; else `now`.
    async fn time(&self, now: Timestamp) -> Result<Timestamp, StateError>;
    /// Shows to others from here on that this process lives.
    async fn be_present(&self) -> Result<Presence, StateError>;
    /// Says whether that is still shown.
    async fn is_still_present(&self, presence: &Presence) -> Result<bool, StateError>;
    /// Says whether the process lives that shows this.
    async fn is_present(&self, token: &str) -> Result<bool, StateError>;
    /// See [`State::is_in_place`].
    async fn is_in_place(&self) -> Result<bool, StateError>;
}

/// A transaction in which what is written depends on what is read.
#[async_trait]
pub trait Session: Send {
    async fn query(&mut self, sql: &'static str, params: Vec<Value>) -> Result<Vec<Row>, StateError>;
    /// Returns how many rows were changed.
    async fn execute(&mut self, statements: Vec<Statement>) -> Result<u64, StateError>;
    async fn commit(self: Box<Self>) -> Result<(), StateError>;
}

/// The state in a database.
#[derive(Debug)]
pub struct SqlState<D> {
    pub(crate) database: D,
}

impl<D: Database> SqlState<D> {
    async fn one(&self, doing: &'static str, sql: &str, params: Vec<Value>) -> Result<Option<Row>, StateError> {
        Ok(self.database.query(doing, sql, params).await?.pop())
    }

    async fn execute(
        &self,
        doing: &'static str,
        durability: Durability,
        sql: &'static str,
        params: Vec<Value>,
    ) -> Result<(), StateError> {
        self.database.write(doing, durability, vec![Statement::new(sql, params)]).await.map(drop)
    }
}

#[async_trait]
impl<D: Database> State for SqlState<D> {
    async fn is_in_place(&self) -> Result<bool, StateError> {
        self.database.is_in_place().await
    }
}

fn read_json<T: DeserializeOwned>(table: &'static str, text: &str) -> Result<T, StateError> {
    serde_json::from_str(text).map_err(|error| StateError::Corrupt { table, why: error.to_string() })
}

fn write_json<T: Serialize>(table: &'static str, value: &T) -> Result<String, StateError> {
    serde_json::to_string(value).map_err(|error| StateError::Corrupt { table, why: error.to_string() })
}
