//! Zones: their delegation and their servers.

use std::collections::BTreeSet;
use std::net::SocketAddr;

use pindrel_core::desired::ZoneId;
use pindrel_core::judging::facts::Fact;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::propagation::ServerAnswer;
use pindrel_core::zones::records::{RecordData, RecordSet, RecordType};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::spread::Watched;

use crate::failure::EngineError;
use crate::run::Engine;

impl Engine {
    pub(crate) async fn look_at_zone(&self, id: ZoneId) -> Result<(), EngineError> {
        let zone = self.desired.zone(id);
        let value = self.drivers.lookups().zone(zone, &self.resolvers(id)).await;
        let mut fact = Fact { seen: self.clock.now(), value };
        if zone.marker {
            // Its servers may be known by this look alone.
            self.known().zones.insert(id, fact.clone());
            fact.value.marker = self.marker_of(id).await;
        }
        self.state.persist_zone(&zone.name, &fact).await?;
        self.known().zones.insert(id, fact);
        Ok(())
    }

    /// Loads from the state, once a run, what was seen of a zone.
    pub(crate) async fn load_zone(&self, id: ZoneId) -> Result<(), EngineError> {
        let known = self.known().zones.contains_key(&id);
        if !known && let Some(fact) = self.state.zone(&self.desired.zone(id).name).await? {
            self.known().zones.insert(id, fact);
        }
        Ok(())
    }

    /// Makes sure that a zone has been looked at in this run.
    pub(crate) async fn know_zone(&self, id: ZoneId) -> Result<(), EngineError> {
        let known = self.known().zones.contains_key(&id);
        if known { Ok(()) } else { self.look_at_zone(id).await }
    }

    /// Makes sure that the servers of every zone are known, where the manifest names none.
    pub(crate) async fn know_zones(&self) -> Result<(), EngineError> {
        for (zone, id) in self.desired.zones.iter().zip(0u32..).filter(|(zone, _)| zone.servers.is_empty()) {
            tracing::debug!(zone = %zone.name, "looking for its servers");
            self.know_zone(ZoneId(id)).await?;
        }
        Ok(())
    }

    /// The authoritative servers of a zone: those that the manifest names, and those that it is delegated to.
    pub(crate) fn zone_servers(&self, id: ZoneId) -> Vec<SocketAddr> {
        let mut servers = self.desired.zone(id).servers.clone();
        if let Some(fact) = self.zone_fact(id) {
            let found = fact.value.servers_in_reach().map(|server| server.server);
            let others: Vec<SocketAddr> = found.filter(|server| !servers.contains(server)).collect();
            servers.extend(others);
        }
        servers
    }

    /// The texts at a name of a zone, as the server says that takes changes; `None` where it does not say.
    pub(crate) async fn texts_at(&self, id: ZoneId, owner: &DnsName) -> Option<BTreeSet<String>> {
        let first = self.zone_servers(id).into_iter().next()?;
        let (zone, watched) = (&self.desired.zone(id).name, Watched::Type(RecordType::Txt));
        let answer = self.drivers.lookups().watch_server(first, zone, owner, watched).await;
        let ServerAnswer::Gives { sets, .. } = answer else { return None };
        let texts = sets.iter().flat_map(RecordSet::data).filter_map(|data| match data {
            RecordData::Txt(text) => Some(text.clone()),
            _ => None,
        });
        Some(texts.collect())
    }

    /// The resolvers where public answers for a zone are looked up.
    pub(crate) fn resolvers(&self, id: ZoneId) -> Vec<ResolverAddress> {
        let zone = self.desired.zone(id);
        if zone.resolvers.is_empty() {
            return self.drivers.lookups().system_resolvers();
        }
        zone.resolvers.iter().map(|resolver| resolver.clone().with_roots(zone.resolver_roots.as_ref())).collect()
    }
}
