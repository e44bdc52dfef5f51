//! What clients get through each resolver.

use std::net::{IpAddr, SocketAddr};

use futures::future::join_all;
use pindrel_core::desired::{CertificateId, HostnameId};
use pindrel_core::endpoint::EndpointInfo;
use pindrel_core::facts::{
    AnswerView, BodyView, ClientOutcome, Fact, Origin, ResolverAnswer, Unreachable, Unresolved, Untrusted,
};
use pindrel_core::name::DnsName;
use pindrel_core::values::is_link_local;
use pindrel_dns::lookup::Resolved;
use pindrel_probe::ProbeError;

use crate::drivers::{Trusted, trusted_elsewhere, trusted_of_authority};
use crate::run::Engine;

/// The most addresses of one name that are connected to.
const MOST_ADDRESSES: usize = 8;

impl Engine {
    pub(crate) async fn observe_answer(&self, id: HostnameId) -> Fact<AnswerView> {
        let resolvers = self.resolvers(self.desired.hostname(id).zone);
        let through = join_all(resolvers.into_iter().map(|resolver| async move {
            ResolverAnswer { resolver, outcome: self.probe_through(id, resolver).await }
        }));
        let value = AnswerView { through: through.await };
        Fact { seen: self.clock.now(), value }
    }

    /// Does what a client does that uses this resolver.
    async fn probe_through(&self, id: HostnameId, resolver: SocketAddr) -> ClientOutcome {
        let wanted = self.desired.hostname(id);
        let Ok(name) = wanted.probed_as.as_str().parse::<DnsName>() else {
            return ClientOutcome::Unresolved { why: Unresolved::NoSuchName, for_secs: None };
        };
        let (addresses, for_secs) = match self.drivers.lookups().resolve(resolver, &name).await {
            Resolved::Addresses { addresses, for_secs } => (addresses, for_secs),
            Resolved::Nothing { why, for_secs } => return ClientOutcome::Unresolved { why, for_secs },
        };
        let endpoint = self.endpoint_info(wanted.endpoint);
        if let Some(address) = addresses.iter().copied().find(|address| is_link_local(*address))
            && !self.desired.endpoint(wanted.endpoint).is_static()
        {
            return ClientOutcome::Elsewhere { address, for_secs };
        }
        if let Some(endpoint) = &endpoint
            && let Some(address) = self.elsewhere(&addresses, endpoint, resolver).await
        {
            return ClientOutcome::Elsewhere { address, for_secs };
        }
        let port = endpoint.map_or(443, |endpoint| endpoint.port);
        let trusted = self.trusted(wanted.certificate).await;
        let mut outcome = ClientOutcome::Unresolved { why: Unresolved::NoAddress, for_secs: None };
        for address in addresses.into_iter().take(MOST_ADDRESSES) {
            outcome = self.probe_at(id, SocketAddr::new(address, port), &trusted).await;
            if !self.is_as_expected(id, &outcome) {
                break;
            }
        }
        outcome
    }

    /// Returns the first of some addresses that is not an endpoint's: neither listed nor what its
    /// default name resolves to.
    async fn elsewhere(&self, addresses: &[IpAddr], endpoint: &EndpointInfo, resolver: SocketAddr) -> Option<IpAddr> {
        let other = addresses.iter().find(|address| !endpoint.addresses.contains(address)).copied()?;
        let Some(default_name) = &endpoint.default_name else { return Some(other) };
        match self.drivers.lookups().resolve(resolver, default_name).await {
            Resolved::Addresses { addresses: own, .. } => addresses
                .iter()
                .find(|address| !endpoint.addresses.contains(address) && !own.contains(address))
                .copied(),
            // Without any address of its own there is nothing to compare with.
            Resolved::Nothing { .. } => (!endpoint.addresses.is_empty()).then_some(other),
        }
    }

    /// Says whether a client is answered at all, with the certificate that is held.
    fn is_as_expected(&self, id: HostnameId, outcome: &ClientOutcome) -> bool {
        let held = self.held_certificate(self.desired.hostname(id).certificate).map(|held| held.sha256);
        matches!(outcome, ClientOutcome::Answered { sha256, .. } if held.is_none_or(|held| held == *sha256))
    }

    /// Does what a client does at one address.
    async fn probe_at(&self, id: HostnameId, address: SocketAddr, trusted: &Result<Trusted, String>) -> ClientOutcome {
        let wanted = self.desired.hostname(id);
        let trusted = match trusted {
            Ok(trusted) => trusted,
            Err(detail) => {
                let why = Untrusted::NoRoots { detail: detail.clone() };
                return ClientOutcome::Unverified { address, sha256: None, why };
            }
        };
        let asked = self.drivers.probe().request(trusted, address, &wanted.probed_as, &wanted.expect.path).await;
        match asked {
            Ok(answered) => ClientOutcome::Answered {
                address,
                sha256: answered.sha256,
                status: answered.status,
                location: answered.location,
                body: wanted.expect.body.as_ref().map(|text| BodyView::look(&answered.body, text)),
            },
            Err(ProbeError::NotConnected(why)) => ClientOutcome::NotConnected { address, why },
            Err(ProbeError::Unverified { sha256, why }) => ClientOutcome::Unverified { address, sha256, why },
            Err(ProbeError::NoAnswer { sha256, why }) => ClientOutcome::NoAnswer { address, sha256, why },
            Err(other) => {
                ClientOutcome::NotConnected { address, why: Unreachable::Other { detail: other.to_string() } }
            }
        }
    }

    /// What a client of a certificate trusts: the roots of whoever issued it.
    async fn trusted(&self, id: CertificateId) -> Result<Trusted, String> {
        let wanted = self.desired.certificate(id);
        // One that was issued elsewhere before the authority issues is trusted as it was then.
        match (self.held_certificate(id).map(|held| held.origin), wanted.authority) {
            (Some(Origin::SelfSigned), _) => {
                let row = self.state.certificate(&wanted.name).await.map_err(|error| error.to_string())?;
                Ok(Trusted::Itself(row.map_or_else(String::new, |row| row.chain)))
            }
            (Some(Origin::Authority) | None, Some(authority)) => {
                Ok(trusted_of_authority(self.desired.authority(authority)))
            }
            _ => Ok(trusted_elsewhere(&wanted.terms)),
        }
    }
}
