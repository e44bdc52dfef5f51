//! Runs that changed something, with what each hostname was like before: what an undoing goes by,
//! and keeps back.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::{HostnameForm, KeptBack};

use crate::StateError;

/// A run that changed something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunRow {
    /// Its number.
    pub id: i64,
    /// When it began.
    pub begun: Timestamp,
    /// When it ended; never where it was stopped.
    pub ended: Option<Timestamp>,
    /// What was typed, as in `settle`.
    pub command: String,
    /// How many hostnames it changed.
    pub changes: u64,
}

/// What a run changed of one hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunChange {
    /// The hostname.
    pub hostname: Hostname,
    /// What it was like.
    pub before: HostnameForm,
    /// What it was like at the end of the run; `None` where that was stopped.
    pub after: Option<HostnameForm>,
}

/// Which manifest a state is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestOrigin {
    /// Where the manifest is: below the folder of the state, else its whole path.
    pub manifest: String,
    /// The file of values that it is used with, where one is named.
    pub values: Option<String>,
}

/// What a state knows of runs.
#[async_trait]
pub trait Runs {
    /// Notes that a run is about to change something; returns its number.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn begin_run(&self, begun: Timestamp, command: &str) -> Result<i64, StateError>;
    /// Notes what a hostname is like before a run changes it; what was noted first stays.
    async fn record_before(&self, run: i64, hostname: &Hostname, before: &HostnameForm) -> Result<(), StateError>;
    /// Notes that a run has ended, and what the hostnames are like that it changed.
    async fn end_run(&self, run: i64, ended: Timestamp, after: &[(Hostname, HostnameForm)]) -> Result<(), StateError>;
    /// Returns the newest runs, the oldest of them first.
    async fn runs(&self, most: u32) -> Result<Vec<RunRow>, StateError>;
    /// Returns what a run changed, by hostname, at most so many.
    async fn run_changes(&self, run: i64, most: u32) -> Result<Vec<RunChange>, StateError>;

    /// Returns which manifest the state is of.
    async fn origin(&self) -> Result<Option<ManifestOrigin>, StateError>;
    /// Stores which manifest the state is of.
    async fn persist_origin(&self, origin: &ManifestOrigin) -> Result<(), StateError>;

    /// Keeps hostnames as they were before a run that is undone, each in the place of what was kept of it.
    async fn keep_back(&self, kept: &[KeptBack]) -> Result<(), StateError>;
    /// Returns what is kept back, by hostname.
    async fn kept_back(&self) -> Result<Vec<KeptBack>, StateError>;
    /// Keeps hostnames back no longer.
    async fn keep_back_no_longer(&self, hostnames: &[Hostname]) -> Result<(), StateError>;
}
