//! What was seen of hostnames, zones and endpoints, and what Pindrel wrote for them.

use async_trait::async_trait;
use pindrel_core::judging::facts::{
    EndpointKey, EndpointView, Fact, HostnameFacts, HostnameKnowledge, Ownership, ZoneView,
};
use pindrel_core::names::name::{DnsName, Hostname};

use crate::{Claim, StateError};

/// What the next run needs of a hostname to know that nothing is due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameSummary {
    /// The hostname.
    pub hostname: String,
    /// The digest of what was wanted when it was last judged.
    pub wanted: u64,
    /// Whether all five pins were held then.
    pub held: bool,
    /// The time of the oldest fact behind that, in seconds since 1970.
    pub seen_secs: i64,
    /// When its certificate is due, in seconds since 1970.
    pub due_secs: i64,
}

/// All that is known of a hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameRow {
    /// The hostname.
    pub hostname: Hostname,
    /// The digest of what is wanted.
    pub wanted: u64,
    /// Whether all five pins are held.
    pub held: bool,
    /// The time of the oldest fact, in seconds since 1970.
    pub seen_secs: i64,
    /// When its certificate is due, in seconds since 1970.
    pub due_secs: i64,
    /// What was seen.
    pub facts: HostnameFacts,
    /// What Pindrel wrote.
    pub ownership: Ownership,
}

impl HostnameRow {
    /// Returns what is known of the hostname itself.
    pub fn into_known(self) -> HostnameKnowledge {
        HostnameKnowledge { facts: self.facts, ownership: self.ownership }
    }
}

/// A change of what Pindrel wrote for a hostname; made once more where somebody else came before.
pub type OwnershipChange<'c> = dyn for<'o> Fn(&'o mut Ownership) + Sync + 'c;

/// Hostnames, zones and endpoints.
#[async_trait]
pub trait Hostnames {
    /// Returns the summaries of hostnames in their order, at most `most` of those after
    /// `after`; the last page is shorter.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn hostname_summaries(&self, after: &str, most: usize) -> Result<Vec<HostnameSummary>, StateError>;
    /// Returns what is known of one hostname.
    async fn hostname(&self, hostname: &Hostname) -> Result<Option<HostnameRow>, StateError>;
    /// Stores what is known of hostnames, in one transaction, but for what Pindrel wrote:
    /// that is stored by [`Hostnames::change_ownership`] alone, so that a run which only
    /// looks cannot undo it. A fact that is stored and was seen later stays.
    async fn persist_hostnames(&self, rows: Vec<HostnameRow>) -> Result<(), StateError>;
    /// Changes what Pindrel wrote, or is about to write, for a hostname: `change` is made to what is stored at that
    /// moment, and once more where somebody else changed one of the same things meanwhile. Only the things that change
    /// are written. Returns what is stored now. Nothing is ever written from a copy that was read before.
    ///
    /// # Errors
    /// [`StateError`]; [`StateError::Superseded`] where somebody else has the claim by now.
    async fn change_ownership(
        &self,
        claim: &Claim,
        hostname: &Hostname,
        change: &OwnershipChange<'_>,
    ) -> Result<Ownership, StateError>;

    /// Forgets a hostname: what was seen of it, and what Pindrel wrote for it, where that is still what is `known`. Says
    /// whether it was.
    async fn forget_hostname(&self, hostname: &Hostname, known: &Ownership) -> Result<bool, StateError>;

    /// Returns what Pindrel wrote, or is about to, for those of these hostnames for which it has, in their order.
    async fn owned_among(&self, hostnames: &[Hostname]) -> Result<Vec<(Hostname, Ownership)>, StateError>;
    /// Forgets what was seen of those of these hostnames for which Pindrel wrote nothing.
    async fn forget_unowned(&self, hostnames: &[Hostname]) -> Result<(), StateError>;

    /// Returns what was seen of a zone.
    async fn zone(&self, zone: &DnsName) -> Result<Option<Fact<ZoneView>>, StateError>;
    /// Stores what was seen of a zone, unless what is stored was seen later.
    async fn persist_zone(&self, zone: &DnsName, fact: &Fact<ZoneView>) -> Result<(), StateError>;
    /// Returns what was seen of an endpoint.
    async fn endpoint(&self, key: &EndpointKey) -> Result<Option<Fact<EndpointView>>, StateError>;
    /// Stores what was seen of an endpoint, unless what is stored was seen later.
    async fn persist_endpoint(&self, key: &EndpointKey, fact: &Fact<EndpointView>) -> Result<(), StateError>;
}
