//! Zones: their delegation and their servers.

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::sync::Arc;

use pindrel_core::desired::{Zone, ZoneId};
use pindrel_core::judging::facts::{Dependent, Fact, Marker, Unresolved};
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::propagation::ServerAnswer;
use pindrel_core::zones::records::{RecordData, RecordSet, RecordType};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_core::zones::zone_data::NameKey;
use pindrel_dns::ZoneDriver;
use pindrel_dns::lookup::Resolved;
use pindrel_dns::spread::Watched;
use tokio::sync::OnceCell;

use crate::context::Context;
use crate::failure::{EngineError, internal};

/// What leads to the hostnames of a zone; none where the zone cannot be read.
pub(crate) type Dependents = HashMap<NameKey, Vec<Dependent>>;

/// Looks at zones: their delegation, their servers, and what is in them.
pub(crate) struct ZoneObserver {
    pub(crate) context: Arc<Context>,
    /// What leads to the hostnames of each zone, read once a run where somebody else's records stand in the way.
    pub(crate) dependents: tokio::sync::Mutex<HashMap<ZoneId, Arc<OnceCell<Arc<Dependents>>>>>,
    /// Set once the servers of every zone are known.
    pub(crate) all_known: OnceCell<()>,
}

impl ZoneObserver {
    pub(crate) async fn look_at(&self, id: ZoneId) -> Result<(), EngineError> {
        let zone = self.context.desired.zone(id);
        let value = self.context.drivers.lookups().zone(zone, &self.resolvers(id)).await;
        let mut fact = Fact { seen: self.context.clock.now(), value };
        if zone.marker {
            // Its servers may be known by this look alone.
            self.context.known().zones.insert(id, fact.clone());
            fact.value.marker = self.marker_of(id).await;
        }
        self.context.state.persist_zone(&zone.name, &fact).await?;
        self.context.known().zones.insert(id, fact);
        Ok(())
    }

    /// Loads from the state, once a run, what was seen of a zone.
    pub(crate) async fn load(&self, id: ZoneId) -> Result<(), EngineError> {
        let known = self.context.known().zones.contains_key(&id);
        if !known && let Some(fact) = self.context.state.zone(&self.context.desired.zone(id).name).await? {
            self.context.known().zones.insert(id, fact);
        }
        Ok(())
    }

    /// Makes sure that a zone has been looked at in this run.
    pub(crate) async fn know(&self, id: ZoneId) -> Result<(), EngineError> {
        let known = self.context.known().zones.contains_key(&id);
        if known { Ok(()) } else { self.look_at(id).await }
    }

    /// Makes sure, once a run, that the servers of every zone are known.
    pub(crate) async fn know_all(&self) -> Result<(), EngineError> {
        self.all_known.get_or_try_init(|| self.look_for_servers()).await.copied()
    }

    /// Looks for the servers of every zone of which the manifest names none.
    async fn look_for_servers(&self) -> Result<(), EngineError> {
        for (zone, id) in self.context.desired.zones.iter().zip(0u32..).filter(|(zone, _)| zone.servers.is_empty()) {
            tracing::debug!(zone = %zone.name, "looking for its servers");
            self.know(ZoneId(id)).await?;
        }
        Ok(())
    }

    /// Returns a name if a resolver says that it does not exist.
    pub(crate) async fn missing(&self, zone: ZoneId, name: DnsName) -> Option<DnsName> {
        let resolver = self.resolvers(zone).into_iter().next()?;
        let resolved = self.context.drivers.lookups().resolve(&resolver, &name).await;
        matches!(resolved, Resolved::Nothing { why: Unresolved::NoSuchName, .. }).then_some(name)
    }

    /// The authoritative servers of a zone: those that the manifest names, and those that it is delegated to.
    pub(crate) fn servers(&self, id: ZoneId) -> Vec<SocketAddr> {
        let mut servers = self.context.desired.zone(id).servers.clone();
        if let Some(fact) = self.context.zone_fact(id) {
            let found = fact.value.servers_in_reach().map(|server| server.server);
            let others: Vec<SocketAddr> = found.filter(|server| !servers.contains(server)).collect();
            servers.extend(others);
        }
        servers
    }

    /// The texts at a name of a zone, as the server says that takes changes; `None` where it does not say.
    pub(crate) async fn texts_at(&self, id: ZoneId, owner: &DnsName) -> Option<BTreeSet<String>> {
        let first = self.servers(id).into_iter().next()?;
        let (zone, watched) = (&self.context.desired.zone(id).name, Watched::Type(RecordType::Txt));
        let answer = self.context.drivers.lookups().watch_server(first, zone, owner, watched).await;
        let ServerAnswer::Gives { sets, .. } = answer else { return None };
        let texts = sets.iter().flat_map(RecordSet::data).filter_map(|data| match data {
            RecordData::Txt(text) => Some(text.clone()),
            _ => None,
        });
        Some(texts.collect())
    }

    /// The resolvers where public answers for a zone are looked up.
    pub(crate) fn resolvers(&self, id: ZoneId) -> Vec<ResolverAddress> {
        let zone = self.context.desired.zone(id);
        if zone.resolvers.is_empty() {
            return self.context.drivers.lookups().system_resolvers();
        }
        zone.resolvers.iter().map(|resolver| resolver.clone().with_roots(zone.resolver_roots.as_ref())).collect()
    }

    pub(crate) fn marker_text(&self) -> String {
        Zone::marker_text(self.context.vault.id())
    }

    /// Who has marked a zone, as its first server says; `None` where that is not asked for, or it does not say.
    async fn marker_of(&self, id: ZoneId) -> Option<Marker> {
        let zone = self.context.desired.zone(id);
        let owner = zone.marker_owner().filter(|_| zone.marker)?;
        let (texts, own) = (self.texts_at(id, &owner).await?, self.marker_text());
        let others: Vec<String> = texts.iter().filter(|text| **text != own).cloned().collect();
        Some(match (texts.is_empty(), others.is_empty()) {
            (true, _) => Marker::Absent,
            (false, true) => Marker::Own,
            (false, false) => Marker::Others(others),
        })
    }

    pub(crate) async fn driver(
        &self,
        id: ZoneId,
        at: Option<SocketAddr>,
    ) -> Result<std::sync::Arc<dyn ZoneDriver>, Finding> {
        let zone = self.context.desired.zone(id);
        let servers = match at {
            Some(server) => vec![server],
            None if zone.servers.is_empty() => {
                self.know(id).await.map_err(|error| internal(error.to_string()))?;
                self.servers(id)
            }
            None => zone.servers.clone(),
        };
        self.context.drivers.zone(zone, &servers)
    }
}
