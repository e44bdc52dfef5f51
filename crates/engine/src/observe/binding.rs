//! Bindings: what an endpoint knows of a hostname, and what it serves.

use std::net::SocketAddr;

use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::endpoint::{Deployment, EndpointInfo};
use pindrel_core::facts::{BindingView, Fact, ServedView, Unreachable};
use pindrel_probe::ProbeError;

use crate::run::Engine;

impl Engine {
    /// Looks at a binding with what is served; `None` where the endpoint is not known.
    pub(crate) async fn observe_binding(&self, id: HostnameId, endpoint: EndpointId) -> Option<Fact<BindingView>> {
        let info = self.endpoint_info(endpoint)?;
        let wanted = self.desired.hostname(id);
        if self.desired.endpoint(endpoint).is_static() {
            let value = BindingView::Unmanaged { served: self.see_served(id, &info).await };
            return Some(Fact { seen: self.clock.now(), value });
        }
        let value = match self.drivers.platform(self.desired.endpoint(endpoint)) {
            Err(finding) => BindingView::Unreachable { why: Unreachable::NotAsked { detail: finding.says } },
            Ok(platform) => match platform.binding(&info.id, &wanted.hostname).await {
                Err(error) => BindingView::Unreachable { why: error.into_fact() },
                Ok(None) => BindingView::Absent,
                Ok(Some(bound)) => {
                    let served = match bound.deployment {
                        Deployment::Deployed => self.see_served(id, &info).await,
                        _ => ServedView::NotTried,
                    };
                    BindingView::Present { binding: bound.binding, deployment: bound.deployment, served }
                }
            },
        };
        Some(Fact { seen: self.clock.now(), value })
    }

    /// Connects to every address of the endpoint; the first that serves something else
    /// than the present certificate is what is told.
    async fn see_served(&self, id: HostnameId, endpoint: &EndpointInfo) -> ServedView {
        let wanted = self.desired.hostname(id);
        let present = self.held_certificate(wanted.certificate).map(|held| held.sha256);
        let mut view = ServedView::Failed { address: None, why: Unreachable::NoneKnown };
        for address in &endpoint.addresses {
            let address = SocketAddr::new(*address, endpoint.port);
            match self.drivers.probe().served_certificate(address, &wanted.probed_as).await {
                Ok(sha256) if Some(sha256) == present => view = ServedView::Certificate { sha256 },
                Ok(sha256) => return ServedView::Certificate { sha256 },
                Err(error) => return ServedView::Failed { address: Some(address), why: unreachable(error) },
            }
        }
        view
    }
}

pub(super) fn unreachable(error: ProbeError) -> Unreachable {
    match error {
        ProbeError::NotConnected(why) | ProbeError::NoAnswer { why, .. } => why,
        other => Unreachable::Tls { detail: other.to_string() },
    }
}
