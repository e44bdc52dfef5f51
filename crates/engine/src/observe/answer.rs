//! What clients get through each resolver.

use std::net::SocketAddr;

use futures::future::join_all;
use pindrel_core::desired::{CertificateId, HostnameId};
use pindrel_core::facts::{
    AnswerView, BodyView, ClientOutcome, Fact, Origin, ResolverAnswer, Unreachable, Unresolved, Untrusted,
};
use pindrel_core::name::DnsName;
use pindrel_dns::lookup::Resolved;
use pindrel_probe::ProbeError;

use crate::drivers::{Trusted, trusted_elsewhere, trusted_of_authority};
use crate::run::Engine;

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
        let addresses = match self.drivers.lookups().resolve(resolver, &name).await {
            Resolved::Addresses(addresses) => addresses,
            Resolved::Nothing { why, for_secs } => return ClientOutcome::Unresolved { why, for_secs },
        };
        let port = self.endpoint_info(wanted.endpoint).map_or(443, |endpoint| endpoint.port);
        let Some(address) = addresses.first().map(|address| SocketAddr::new(*address, port)) else {
            return ClientOutcome::Unresolved { why: Unresolved::NoAddress, for_secs: None };
        };
        let trusted = match self.trusted(wanted.certificate).await {
            Ok(trusted) => trusted,
            Err(detail) => {
                let why = Untrusted::NoRoots { detail };
                return ClientOutcome::Unverified { address, sha256: None, why };
            }
        };
        let asked = self.drivers.probe().request(&trusted, address, &wanted.probed_as, &wanted.expect.path).await;
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
