//! What clients get through each resolver.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use futures::future::join_all;
use pindrel_core::desired::{CertificateId, EndpointId, HostnameId};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::judging::facts::{
    AnswerView, BodyView, ClientOutcome, Fact, Origin, ResolverAnswer, SampleAnswer, SampleOutcome, Unreachable,
    Unresolved, Untrusted,
};
use pindrel_core::judging::pins::Known;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::{Fingerprint, SecretRef, is_link_local_or_metadata};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::lookup::Resolved;
use pindrel_probe::{Answered, ProbeError};

use crate::context::Context;
use crate::drivers::{Trusted, trusted_elsewhere, trusted_of_authority};
use crate::observe::zone::ZoneObserver;

/// The most addresses of one name that are connected to.
const MOST_ADDRESSES: usize = 8;

/// Looks at what clients of a hostname get.
pub(crate) struct AnswerObserver {
    pub(crate) context: Arc<Context>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl AnswerObserver {
    pub(crate) async fn observe(&self, id: HostnameId) -> Fact<AnswerView> {
        let resolvers = self.zones.resolvers(self.context.desired.hostname(id).zone);
        let through = join_all(resolvers.into_iter().map(|resolver| async move {
            let (outcome, without_certificate) = self.probe_through(id, &resolver).await;
            ResolverAnswer { resolver, outcome, without_certificate }
        }));
        let value = AnswerView { through: through.await };
        Fact { seen: self.context.clock.now(), value }
    }

    /// Does what a client does that uses this resolver; where clients must show a certificate, also what one
    /// without gets.
    async fn probe_through(
        &self,
        id: HostnameId,
        resolver: &ResolverAddress,
    ) -> (ClientOutcome, Option<ClientOutcome>) {
        let places = match self.addresses_through(id, resolver).await {
            Ok(found) => found,
            Err(outcome) => return (outcome, None),
        };
        let wanted = self.context.desired.hostname(id);
        let trusted = self.trusted(wanted.certificate).await;
        let identity = wanted.probe_with();
        let (mut outcome, mut bare) = (ClientOutcome::Unresolved { why: Unresolved::NoAddress, for_secs: None }, None);
        for place in places.into_iter().take(MOST_ADDRESSES) {
            outcome = self.probe_at(id, place, &trusted, identity).await;
            if identity.is_some() && bare.is_none() {
                bare = Some(self.probe_at(id, place, &trusted, None).await);
            }
            if !self.is_as_expected(id, &outcome) {
                break;
            }
        }
        (outcome, bare)
    }

    /// Where a client is led that uses this resolver.
    async fn addresses_through(
        &self,
        id: HostnameId,
        resolver: &ResolverAddress,
    ) -> Result<Vec<SocketAddr>, ClientOutcome> {
        let wanted = self.context.desired.hostname(id);
        let Ok(name) = wanted.probed_as.as_str().parse::<DnsName>() else {
            return Err(ClientOutcome::Unresolved { why: Unresolved::NoSuchName, for_secs: None });
        };
        let (addresses, for_secs) = match self.context.drivers.lookups().resolve(resolver, &name).await {
            Resolved::Addresses { addresses, for_secs } => (addresses, for_secs),
            Resolved::Nothing { why, for_secs } => return Err(ClientOutcome::Unresolved { why, for_secs }),
        };
        let led = self.led_to(id);
        // What a resolver keeps of an earlier alias says nothing of where clients are led once it forgets that.
        let is_led_by_name = wanted.points_at_name(&self.context.desired);
        let by_name = led.iter().filter(|(_, _, target)| is_led_by_name && target.is_none());
        let by_name = by_name.flat_map(|(_, info, _)| info.led_to()).filter(|address| !addresses.contains(address));
        let all: Vec<IpAddr> = addresses.iter().chain(by_name).copied().collect();
        if let Some(address) = all.iter().copied().find(|address| is_link_local_or_metadata(*address))
            && !led.iter().any(|(endpoint, ..)| self.context.desired.endpoint(*endpoint).is_static())
        {
            return Err(ClientOutcome::Elsewhere { address, for_secs });
        }
        if !led.is_empty()
            && let Some(address) = self.elsewhere(&addresses, &led, resolver).await
        {
            return Err(ClientOutcome::Elsewhere { address, for_secs });
        }
        let first = led.first().map_or(443, |(_, info, _)| info.port);
        let port = |address: &IpAddr| {
            led.iter().find(|(_, info, _)| info.addresses.contains(address)).map_or(first, |(_, info, _)| info.port)
        };
        Ok(all.into_iter().map(|address| SocketAddr::new(address, port(&address))).collect())
    }

    /// The endpoints that the alias should give, with the name that the hostname has of its own there.
    fn led_to(&self, id: HostnameId) -> Vec<(EndpointId, EndpointInfo, Option<DnsName>)> {
        let knowledge = self.context.known();
        let known = Known::about(&self.context.desired, &knowledge, id);
        let given = known.given().into_iter().map(|endpoint| known.at(endpoint));
        given.filter_map(|known| Some((known.at, known.info()?.clone(), known.target().cloned()))).collect()
    }

    /// Returns the first of some addresses that is none of the endpoints': neither listed nor what a
    /// default name, or the hostname's own target, resolves to.
    async fn elsewhere(
        &self,
        addresses: &[IpAddr],
        led: &[(EndpointId, EndpointInfo, Option<DnsName>)],
        resolver: &ResolverAddress,
    ) -> Option<IpAddr> {
        let is_listed = |address: &IpAddr| led.iter().any(|(_, info, _)| info.addresses.contains(address));
        let other = addresses.iter().find(|address| !is_listed(address)).copied()?;
        let names = led.iter().filter_map(|(_, info, target)| target.as_ref().or(info.default_name.as_ref()));
        let resolved = join_all(names.map(|name| self.context.drivers.lookups().resolve(resolver, name))).await;
        let own: Vec<IpAddr> = resolved
            .into_iter()
            .flat_map(|resolved| match resolved {
                Resolved::Addresses { addresses, .. } => addresses,
                Resolved::Nothing { .. } => Vec::new(),
            })
            .collect();
        if !own.is_empty() {
            return addresses.iter().find(|address| !is_listed(address) && !own.contains(address)).copied();
        }
        // Without any address of its own there is nothing to compare with.
        let is_without = led
            .iter()
            .all(|(_, info, target)| info.addresses.is_empty() && (target.is_some() || info.default_name.is_some()));
        (!is_without).then_some(other)
    }

    /// Says whether a client is answered at all, with the certificate that is held.
    fn is_as_expected(&self, id: HostnameId, outcome: &ClientOutcome) -> bool {
        let current = Known::about(&self.context.desired, &self.context.known(), id).current_certificates();
        matches!(outcome, ClientOutcome::Answered { sha256, .. } if current.is_empty() || current.contains(sha256))
    }

    /// Does what a client does at one address, for each sample request.
    async fn probe_at(
        &self,
        id: HostnameId,
        address: SocketAddr,
        trusted: &Result<Trusted, String>,
        identity: Option<&SecretRef>,
    ) -> ClientOutcome {
        let wanted = self.context.desired.hostname(id);
        let trusted = match trusted {
            Ok(trusted) => trusted,
            Err(detail) => {
                let why = Untrusted::NoRoots { detail: detail.clone() };
                return ClientOutcome::Unverified { address, sha256: None, why };
            }
        };
        let asked =
            self.context.drivers.probe().request(trusted, address, &wanted.probed_as, &wanted.expect, identity).await;
        match asked {
            Ok(answered) => {
                let mut samples = Vec::with_capacity(wanted.samples.len());
                for sample in &wanted.samples {
                    let (_, outcome) = self.sample(id, address, trusted, sample, identity).await;
                    samples.push(SampleAnswer { address, sample: sample.clone(), outcome });
                }
                ClientOutcome::Answered {
                    address,
                    sha256: answered.sha256,
                    status: answered.status,
                    location: answered.location,
                    body: wanted.expect.body.as_ref().map(|text| BodyView::look(&answered.body, text)),
                    samples,
                }
            }
            Err(ProbeError::NotConnected(why)) => ClientOutcome::NotConnected { address, why },
            Err(ProbeError::Unverified { sha256, why }) => ClientOutcome::Unverified { address, sha256, why },
            Err(ProbeError::NoAnswer { sha256, why }) => ClientOutcome::NoAnswer { address, sha256, why },
            Err(other) => {
                ClientOutcome::NotConnected { address, why: Unreachable::Other { detail: other.to_string() } }
            }
        }
    }

    /// Makes one sample request; also returns the certificate that was served, or why none was.
    pub(crate) async fn sample(
        &self,
        id: HostnameId,
        address: SocketAddr,
        trusted: &Trusted,
        sample: &Expectation,
        identity: Option<&SecretRef>,
    ) -> (Result<Fingerprint, Unreachable>, SampleOutcome) {
        let wanted = self.context.desired.hostname(id);
        match self.context.drivers.probe().request(trusted, address, &wanted.probed_as, sample, identity).await {
            Ok(answered) => {
                let body = sample.body.as_ref().map(|text| BodyView::look(&answered.body, text));
                let Answered { sha256, status, location, .. } = answered;
                (Ok(sha256), SampleOutcome::Answered { status, location, body })
            }
            Err(error) => {
                let failed = SampleOutcome::Failed { why: error.to_string() };
                let served = match error {
                    ProbeError::NoAnswer { sha256, .. } | ProbeError::Unverified { sha256: Some(sha256), .. } => {
                        Ok(sha256)
                    }
                    error => Err(unreachable(error)),
                };
                (served, failed)
            }
        }
    }

    /// What a client of a certificate trusts: the roots of whoever issued it.
    pub(crate) async fn trusted(&self, id: CertificateId) -> Result<Trusted, String> {
        let wanted = self.context.desired.certificate(id);
        // One that was issued elsewhere before the authority issues is trusted as it was then.
        match (self.context.held_certificate(id).map(|held| held.origin), wanted.authority) {
            (Some(Origin::SelfSigned), _) => {
                let row = self.context.state.certificate(&wanted.name).await.map_err(|error| error.to_string())?;
                Ok(Trusted::Itself(row.map_or_else(String::new, |row| row.chain)))
            }
            (Some(Origin::Authority) | None, Some(authority)) => {
                Ok(trusted_of_authority(self.context.desired.authority(authority)))
            }
            _ => Ok(trusted_elsewhere(&wanted.terms)),
        }
    }
}

pub(super) fn unreachable(error: ProbeError) -> Unreachable {
    match error {
        ProbeError::NotConnected(why) | ProbeError::NoAnswer { why, .. } => why,
        other => Unreachable::tls(other.to_string()),
    }
}
