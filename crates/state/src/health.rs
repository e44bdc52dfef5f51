//! What health checks have concluded, how long they took, and what happened to them.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::health::{CheckRecord, HistoryEntry, Slot};
use pindrel_core::judging::facts::EndpointKey;

use crate::StateError;

/// What is new of one check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CheckUpdate {
    /// The check's name in the manifest.
    pub check: String,
    /// What it has concluded.
    pub record: CheckRecord,
    /// Slots, whole: each takes the place of the one that begins at the same time.
    pub slots: Vec<Slot>,
    /// What happened.
    pub incidents: Vec<HistoryEntry>,
}

/// That somebody has taken an endpoint out of answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointHold {
    /// The endpoint.
    pub endpoint: EndpointKey,
    /// Since when.
    pub since: Timestamp,
    /// Until when; until it is released where nobody said.
    pub until: Option<Timestamp>,
    /// Why.
    pub because: String,
}

impl EndpointHold {
    /// Says whether the endpoint is out of answers still.
    pub fn is_in_force(&self, now: Timestamp) -> bool {
        self.until.is_none_or(|until| now < until)
    }
}

/// What a state knows of health.
#[async_trait]
pub trait HealthBook {
    /// Returns what every check has concluded, by its name.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn check_records(&self) -> Result<Vec<(String, CheckRecord)>, StateError>;
    /// Stores what is new of some checks, in one transaction; of incidents the newest
    /// [`MOST_INCIDENTS`](pindrel_core::health::MOST_INCIDENTS) of each check stay.
    async fn update_checks(&self, updates: Vec<CheckUpdate>) -> Result<(), StateError>;
    /// Returns the slots of a check that begin at `since` or later, the oldest first.
    async fn slots(&self, check: &str, since: Timestamp) -> Result<Vec<Slot>, StateError>;
    /// Returns the slots of one length that begin before a time, with the names of their checks, by name and
    /// time, at most so many.
    async fn slots_before(&self, seconds: u32, before: Timestamp, most: u32)
    -> Result<Vec<(String, Slot)>, StateError>;
    /// Puts other slots of a check in the place of some.
    async fn replace_slots(&self, check: &str, old: &[Slot], new: &[Slot]) -> Result<(), StateError>;
    /// Returns what happened to a check since some time, the oldest first, at most the newest so many.
    async fn incidents(&self, check: &str, since: Timestamp, most: u32) -> Result<Vec<HistoryEntry>, StateError>;
    /// Forgets slots and incidents of all checks before a time.
    async fn prune_health(&self, before: Timestamp) -> Result<(), StateError>;
    /// Forgets a check with all that belongs to it.
    async fn forget_check(&self, check: &str) -> Result<(), StateError>;

    /// Returns the endpoints that somebody has taken out of answers, also those whose time is over.
    async fn endpoint_holds(&self) -> Result<Vec<EndpointHold>, StateError>;
    /// Takes an endpoint out of answers.
    async fn hold_endpoint(&self, hold: &EndpointHold) -> Result<(), StateError>;
    /// Gives an endpoint back; says whether it was taken out.
    async fn release_endpoint(&self, endpoint: &EndpointKey) -> Result<bool, StateError>;
}
