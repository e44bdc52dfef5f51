//! Alias records, as every authoritative server gives them.

use pindrel_core::desired::HostnameId;
use pindrel_core::endpoint::EndpointInfo;
use pindrel_core::facts::{AliasView, Fact};

use crate::run::Engine;

impl Engine {
    pub(crate) async fn observe_alias(&self, id: HostnameId) -> Fact<AliasView> {
        let wanted = self.desired.hostname(id);
        let servers = self.zone_servers(wanted.zone);
        let lookups = self.drivers.lookups();
        let value = lookups.alias(&servers, &wanted.hostname.owner(), wanted.is_apex(&self.desired)).await;
        Fact { seen: self.clock.now(), value }
    }

    /// Says whether every server gives the alias that is wanted.
    pub(crate) fn is_aliased(&self, id: HostnameId, view: &AliasView, endpoint: &EndpointInfo) -> bool {
        let wanted = self.desired.hostname(id).alias(&self.desired, endpoint);
        !view.servers.is_empty() && view.lagging(&wanted).next().is_none()
    }
}
