//! Bindings: what an endpoint knows of a hostname, and what it serves.

use std::net::SocketAddr;

use futures::future::join_all;
use pindrel_core::desired::{EndpointDriver, EndpointId, HostnameId};
use pindrel_core::endpoint::{Deployment, EndpointInfo};
use pindrel_core::facts::{BindingView, Fact, ServedView, Unreachable};
use pindrel_core::name::Hostname;
use pindrel_core::values::is_link_local;
use pindrel_edge::Platform;
use pindrel_probe::ProbeError;

use crate::run::Engine;

/// The most addresses of one endpoint that are connected to.
const MOST_ADDRESSES: usize = 16;

impl Engine {
    /// Looks at a binding with what is served; `None` where the endpoint is not known.
    pub(crate) async fn observe_binding(&self, id: HostnameId, endpoint: EndpointId) -> Option<Fact<BindingView>> {
        let info = self.endpoint_info(endpoint)?;
        let wanted = self.desired.hostname(id);
        if self.desired.endpoint(endpoint).is_static() {
            let value = BindingView::Unmanaged { served: self.see_served(id, &info).await };
            return Some(Fact { seen: self.clock.now(), value });
        }
        let mut value = match self.drivers.platform(self.desired.endpoint(endpoint)) {
            Err(finding) => BindingView::Unreachable { why: Unreachable::NotAsked { detail: finding.says } },
            Ok(platform) => managed(platform.as_ref(), &info.id, &wanted.hostname).await,
        };
        if let BindingView::Present { deployment: Deployment::Deployed, served, .. } = &mut value {
            *served = self.see_served(id, &info).await;
        }
        Some(Fact { seen: self.clock.now(), value })
    }

    /// Connects to every address of the endpoint; the first that serves something else
    /// than the present certificate is what is told.
    async fn see_served(&self, id: HostnameId, endpoint: &EndpointInfo) -> ServedView {
        let wanted = self.desired.hostname(id);
        let present = self.held_certificate(wanted.certificate).map(|held| held.sha256);
        // A platform's word leads to no address that only this machine's own network has.
        let is_named = self.desired.endpoints.iter().any(|own| {
            !matches!(own.driver, EndpointDriver::Http(_) | EndpointDriver::Program(_)) && own.id == endpoint.id
        });
        let looks = endpoint.addresses.iter().take(MOST_ADDRESSES).map(async |address| {
            let place = SocketAddr::new(*address, endpoint.port);
            if is_link_local(*address) && !is_named {
                let detail = "a link-local address, which only the manifest may name".into();
                return (place, Err(Unreachable::NotAsked { detail }));
            }
            let served = self.drivers.probe().served_certificate(place, &wanted.probed_as).await;
            (place, served.map_err(unreachable))
        });
        let looks = join_all(looks).await;
        let served =
            looks.iter().find_map(|(_, served)| served.as_ref().ok().filter(|sha256| Some(**sha256) != present));
        if let Some(other) = served {
            return ServedView::Certificate { sha256: *other };
        }
        // Where this machine lacks an address family, the other one counts.
        let serves = looks.iter().any(|(_, served)| served.is_ok());
        let failed = looks.iter().find_map(|(place, served)| match served {
            Err(why) if !(serves && *why == Unreachable::NoRoute) => Some((*place, why.clone())),
            _ => None,
        });
        match (failed, present) {
            (Some((place, why)), _) => ServedView::Failed { address: Some(place), why },
            (None, Some(sha256)) if serves => ServedView::Certificate { sha256 },
            (None, _) => ServedView::Failed { address: None, why: Unreachable::NoneKnown },
        }
    }
}

/// What a platform says of a binding; nothing is connected to.
pub(crate) async fn managed(platform: &dyn Platform, endpoint: &str, hostname: &Hostname) -> BindingView {
    match platform.binding(endpoint, hostname).await {
        Err(error) => BindingView::Unreachable { why: error.into_fact() },
        Ok(None) => BindingView::Absent,
        Ok(Some(bound)) => {
            BindingView::Present { binding: bound.binding, deployment: bound.deployment, served: ServedView::NotTried }
        }
    }
}

pub(super) fn unreachable(error: ProbeError) -> Unreachable {
    match error {
        ProbeError::NotConnected(why) | ProbeError::NoAnswer { why, .. } => why,
        other => Unreachable::Tls { detail: other.to_string() },
    }
}
