//! Looking at the world: zones, endpoints, bindings, aliases, answers.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::net::SocketAddr;

use futures::StreamExt as _;
use futures::future::join_all;
use futures::stream;
use jiff::Timestamp;
use pindrel_core::delivery::Undelivered;
use pindrel_core::desired::{CertificateId, EndpointId, HostnameId, ZoneId};
use pindrel_core::endpoint::{Deployment, EndpointInfo};
use pindrel_core::facts::{
    AliasView, AnswerView, BindingView, ClientOutcome, EndpointView, Fact, Origin, ResolverAnswer, ServedView, is_fresh,
};
use pindrel_core::name::DnsName;
use pindrel_core::records::same_data;
use pindrel_dns::discover;
use pindrel_dns::lookup::{self, Resolved};
use pindrel_edge::{EdgeError, Platform};
use pindrel_probe::{ProbeError, Trust, served_certificate};

use crate::error::{EngineError, StepFailure};
use crate::{Engine, Event, Remembered};

/// The most endpoint ids that are shown when one is not found.
const MOST_IDS: usize = 20;

impl Engine {
    /// Looks at every hostname of the scope that is not known to be held by fresh
    /// facts, and returns those. What is known to be held costs one small row.
    pub(crate) async fn survey_open(
        &self,
        scope: &[HostnameId],
        see_to: &HashSet<CertificateId>,
    ) -> Result<Vec<HostnameId>, EngineError> {
        let open = self.open_ones(scope, see_to)?;
        self.listener.on(Event::Looking { hostnames: open.len(), total: scope.len() });
        self.remember(&open)?;
        self.look(&open).await?;
        Ok(open)
    }

    /// Looks at every hostname of the scope whose facts are too old, and remembers all.
    pub(crate) async fn survey_stale(&self, scope: &[HostnameId]) -> Result<(), EngineError> {
        let stale = self.remember(scope)?;
        self.look(&stale).await
    }

    fn open_ones(&self, scope: &[HostnameId], see_to: &HashSet<CertificateId>) -> Result<Vec<HostnameId>, EngineError> {
        let now = Timestamp::now();
        let ids: HashMap<&str, HostnameId> =
            scope.iter().map(|id| (self.desired.hostname(*id).hostname.as_str(), *id)).collect();
        let digests = self.desired.digests();
        let mut settled = vec![false; self.desired.hostnames.len()];
        self.state.hostname_summaries(&mut |summary| {
            let Some(id) = ids.get(summary.hostname) else { return };
            let seen = Timestamp::from_second(summary.seen_secs).unwrap_or(Timestamp::UNIX_EPOCH);
            settled[id.0 as usize] = summary.held
                && now.as_second() < summary.due_secs
                && is_fresh(seen, now, self.max_age_secs)
                && !see_to.contains(&self.desired.hostname(*id).certificate)
                && summary.wanted == digests.of(*id);
        })?;
        Ok(scope.iter().copied().filter(|id| !settled[id.0 as usize]).collect())
    }

    /// Reads from the state what is known of some hostnames; returns those whose facts
    /// are too old, or were judged against another manifest.
    fn remember(&self, ids: &[HostnameId]) -> Result<Vec<HostnameId>, EngineError> {
        let now = Timestamp::now();
        let digests = self.desired.digests();
        let mut stale = Vec::new();
        for id in ids {
            let wanted = self.desired.hostname(*id);
            let row = self.state.hostname(&wanted.hostname)?;
            let fresh = row.as_ref().is_some_and(|row| {
                let seen = Timestamp::from_second(row.seen_secs).unwrap_or(Timestamp::UNIX_EPOCH);
                is_fresh(seen, now, self.max_age_secs) && row.wanted == digests.of(*id)
            });
            if !fresh {
                stale.push(*id);
            }
            let remembered =
                row.map_or_else(Remembered::default, |row| Remembered { facts: row.facts, ours: row.ours });
            self.memory().hostnames.insert(*id, remembered);

            self.remember_certificate(wanted.certificate)?;
            let known = self.memory().zones.contains_key(&wanted.zone);
            if !known && let Some(fact) = self.state.zone(&self.desired.zone(wanted.zone).name)? {
                self.memory().zones.insert(wanted.zone, fact);
            }
            let known = self.memory().endpoints.contains_key(&wanted.endpoint);
            let endpoint = self.desired.endpoint(wanted.endpoint);
            if !known && let Some(fact) = self.state.endpoint(endpoint.url.as_str(), &endpoint.id)? {
                self.memory().endpoints.insert(wanted.endpoint, fact);
            }
        }
        Ok(stale)
    }

    /// Reads from the state, once a run, what is known of a certificate.
    pub(crate) fn remember_certificate(&self, id: CertificateId) -> Result<(), EngineError> {
        let known = self.memory().certificates.contains_key(&id);
        if known {
            return Ok(());
        }
        match self.state.certificate(&self.desired.certificate(id).name)? {
            None => {
                self.memory().certificates.insert(id, None);
            }
            Some(row) => {
                if let Err(failure) = self.take_in(id, row.clone()) {
                    // Whether it is delivered cannot be seen: the step that delivers says why.
                    let undelivered = Undelivered { files: vec![failure.says], ..Undelivered::default() };
                    let mut memory = self.memory();
                    memory.certificates.insert(id, Some(row.held));
                    memory.undelivered.insert(id, undelivered);
                }
            }
        }
        Ok(())
    }

    /// Looks at some hostnames and at all that they share.
    async fn look(&self, ids: &[HostnameId]) -> Result<(), EngineError> {
        let zones: BTreeSet<ZoneId> = ids.iter().map(|id| self.desired.hostname(*id).zone).collect();
        let endpoints: BTreeSet<EndpointId> = ids.iter().map(|id| self.desired.hostname(*id).endpoint).collect();
        let (zones, endpoints) = futures::join!(
            stream::iter(zones).map(|id| self.look_at_zone(id)).buffer_unordered(self.at_once).collect::<Vec<_>>(),
            self.look_at_endpoints(endpoints)
        );
        endpoints?;
        zones.into_iter().collect::<Result<Vec<()>, _>>()?;
        let looks =
            stream::iter(ids.iter().copied()).map(|id| self.look_at_hostname(id)).buffer_unordered(self.at_once);
        looks.collect::<Vec<_>>().await.into_iter().collect()
    }

    pub(crate) async fn look_at_zone(&self, id: ZoneId) -> Result<(), EngineError> {
        let zone = self.desired.zone(id);
        let resolvers = self.world.resolvers(&self.desired, id);
        let value = discover::zone(&zone.name, &zone.servers, &zone.parents, resolvers).await;
        let fact = Fact { seen: Timestamp::now(), value };
        self.state.keep_zone(&zone.name, &fact)?;
        self.memory().zones.insert(id, fact);
        Ok(())
    }

    /// Asks each platform once for its list.
    async fn look_at_endpoints(&self, ids: BTreeSet<EndpointId>) -> Result<(), EngineError> {
        let mut platforms: BTreeMap<String, Vec<EndpointId>> = BTreeMap::new();
        for id in ids {
            let endpoint = self.desired.endpoint(id);
            platforms.entry(format!("{} {}", endpoint.url, endpoint.token)).or_default().push(id);
        }
        let looks = join_all(platforms.into_values().map(|ids| async move {
            let listed = match self.world.platform(&self.desired, ids[0]) {
                Ok(platform) => platform.endpoints().await,
                Err(failure) => Err(EdgeError::Unreachable(failure.says)),
            };
            (ids, listed)
        }));
        for (ids, listed) in looks.await {
            for id in ids {
                let endpoint = self.desired.endpoint(id);
                let fact = Fact { seen: Timestamp::now(), value: endpoint_view(&endpoint.id, &listed) };
                self.state.keep_endpoint(endpoint.url.as_str(), &endpoint.id, &fact)?;
                self.memory().endpoints.insert(id, fact);
            }
        }
        Ok(())
    }

    async fn look_at_hostname(&self, id: HostnameId) -> Result<(), EngineError> {
        let endpoint = self.endpoint_info(id);
        let (binding, alias) = futures::join!(
            async {
                match &endpoint {
                    Some(endpoint) => Some(self.see_binding(id, endpoint).await),
                    None => None,
                }
            },
            self.see_alias(id)
        );
        // A resolver is asked only once every authoritative server gives the alias, or it
        // would keep in mind that there is none.
        let everywhere = endpoint.as_ref().is_some_and(|endpoint| self.is_aliased(id, &alias.value, endpoint));
        let answer = if everywhere { Some(self.see_answer(id).await) } else { None };
        self.note(id, |facts| {
            facts.binding = binding;
            facts.alias = Some(alias);
            facts.answer = answer;
        })?;
        Ok(())
    }

    /// The endpoint of a hostname, where its platform lists it.
    pub(crate) fn endpoint_info(&self, id: HostnameId) -> Option<EndpointInfo> {
        match &self.memory().endpoints.get(&self.desired.hostname(id).endpoint)?.value {
            EndpointView::Listed(info) => Some(info.clone()),
            _ => None,
        }
    }

    pub(crate) fn is_aliased(&self, id: HostnameId, view: &AliasView, endpoint: &EndpointInfo) -> bool {
        let wanted = self.desired.hostname(id).alias(&self.desired, endpoint);
        !view.servers.is_empty()
            && view.servers.iter().all(|server| server.gives.as_ref().is_ok_and(|gives| same_data(gives, &wanted)))
    }

    /// The authoritative servers of a zone.
    pub(crate) fn zone_servers(&self, id: ZoneId) -> Vec<SocketAddr> {
        let memory = self.memory();
        self.world.servers(&self.desired, id, memory.zones.get(&id).map(|fact| &fact.value))
    }

    pub(crate) async fn see_binding(&self, id: HostnameId, endpoint: &EndpointInfo) -> Fact<BindingView> {
        let wanted = self.desired.hostname(id);
        let value = match self.world.platform(&self.desired, wanted.endpoint) {
            Err(failure) => BindingView::Unreachable { why: failure.says },
            Ok(platform) => match platform.binding(&endpoint.id, &wanted.hostname).await {
                Err(error) => BindingView::Unreachable { why: error.to_string() },
                Ok(None) => BindingView::Absent,
                Ok(Some(bound)) => {
                    let served = match bound.deployment {
                        Deployment::Deployed => self.see_served(id, endpoint).await,
                        _ => ServedView::NotTried,
                    };
                    BindingView::Present { binding: bound.binding, deployment: bound.deployment, served }
                }
            },
        };
        Fact { seen: Timestamp::now(), value }
    }

    /// Connects to every address of the endpoint; the first that serves something else
    /// than the present certificate is what is told.
    pub(crate) async fn see_served(&self, id: HostnameId, endpoint: &EndpointInfo) -> ServedView {
        let wanted = self.desired.hostname(id);
        let trust = match self.trust(wanted.certificate) {
            Ok(trust) => trust,
            Err(StepFailure { says, .. }) => return ServedView::Nothing { why: says },
        };
        let present = self.memory().certificates.get(&wanted.certificate).cloned().flatten().map(|held| held.sha256);
        let mut view = ServedView::Nothing { why: "the platform names no address of the endpoint".into() };
        for address in &endpoint.addresses {
            let address = SocketAddr::new(*address, endpoint.port);
            match served_certificate(&trust, address, &wanted.probed_as).await {
                Ok(sha256) if Some(sha256) == present => view = ServedView::Certificate { sha256 },
                Ok(sha256) => return ServedView::Certificate { sha256 },
                Err(error) => return ServedView::Nothing { why: format!("{address}: {error}") },
            }
        }
        view
    }

    pub(crate) async fn see_alias(&self, id: HostnameId) -> Fact<AliasView> {
        let wanted = self.desired.hostname(id);
        let servers = self.zone_servers(wanted.zone);
        let value = lookup::alias(&servers, &wanted.hostname.owner(), wanted.is_apex(&self.desired)).await;
        Fact { seen: Timestamp::now(), value }
    }

    pub(crate) async fn see_answer(&self, id: HostnameId) -> Fact<AnswerView> {
        let resolvers = self.world.resolvers(&self.desired, self.desired.hostname(id).zone);
        let through = join_all(resolvers.iter().map(|resolver| async move {
            ResolverAnswer { resolver: *resolver, outcome: self.meet(id, *resolver).await }
        }));
        let value = AnswerView { through: through.await };
        Fact { seen: Timestamp::now(), value }
    }

    /// Does what a client does that uses this resolver.
    async fn meet(&self, id: HostnameId, resolver: SocketAddr) -> ClientOutcome {
        let wanted = self.desired.hostname(id);
        let Ok(name) = wanted.probed_as.as_str().parse::<DnsName>() else {
            return ClientOutcome::Unresolved { why: "the name cannot be asked for".into(), for_secs: None };
        };
        let addresses = match lookup::resolve(resolver, &name).await {
            Resolved::Addresses(addresses) => addresses,
            Resolved::Nothing { why, for_secs } => return ClientOutcome::Unresolved { why, for_secs },
        };
        let port = self.endpoint_info(id).map_or(443, |endpoint| endpoint.port);
        let address = SocketAddr::new(addresses[0], port);
        let trust = match self.trust(wanted.certificate) {
            Ok(trust) => trust,
            Err(failure) => return ClientOutcome::Unverified { address, sha256: None, why: failure.says },
        };
        match pindrel_probe::request(&trust, address, &wanted.probed_as, &wanted.expect.path).await {
            Ok(answered) => ClientOutcome::Answered {
                address,
                sha256: answered.sha256,
                status: answered.status,
                location: answered.location,
                body_as_expected: wanted
                    .expect
                    .body
                    .as_ref()
                    .map(|expected| holds(&answered.body, expected.as_bytes())),
            },
            Err(ProbeError::NotConnected(why)) => ClientOutcome::NotConnected { address, why },
            Err(ProbeError::Unverified { sha256, why }) => ClientOutcome::Unverified { address, sha256, why },
            Err(ProbeError::NoAnswer { sha256, why }) => ClientOutcome::NoAnswer { address, sha256, why },
            Err(other) => ClientOutcome::NotConnected { address, why: other.to_string() },
        }
    }

    /// What a client of a certificate trusts: the roots of whoever issued it.
    fn trust(&self, id: CertificateId) -> Result<Trust, StepFailure> {
        let wanted = self.desired.certificate(id);
        let held = self.memory().certificates.get(&id).cloned().flatten();
        // One that was bought before the authority issues is trusted as it was bought.
        match (held.as_ref().map(|held| held.origin), wanted.authority) {
            (Some(Origin::SelfSigned), _) => {
                let row = self.state.certificate(&wanted.name)?;
                self.world.trust_itself(row.map_or_else(String::new, |row| row.chain))
            }
            (Some(Origin::Authority) | None, Some(authority)) => self.world.trust(&self.desired, authority),
            _ => self.world.trust_roots(wanted.terms.issued_roots.as_ref()),
        }
    }

    /// The platform of a hostname's endpoint.
    pub(crate) fn platform_of(&self, id: HostnameId) -> Result<std::sync::Arc<dyn Platform>, StepFailure> {
        self.world.platform(&self.desired, self.desired.hostname(id).endpoint)
    }
}

fn endpoint_view(id: &str, listed: &Result<Vec<EndpointInfo>, EdgeError>) -> EndpointView {
    match listed {
        Ok(endpoints) => match endpoints.iter().find(|endpoint| endpoint.id == id) {
            Some(endpoint) => EndpointView::Listed(endpoint.clone()),
            None => {
                let known = endpoints.iter().take(MOST_IDS).map(|endpoint| endpoint.id.clone());
                EndpointView::NotListed { known: known.collect() }
            }
        },
        Err(EdgeError::Token { status, detail, .. }) => {
            EndpointView::Refused { why: format!("status {status}, {detail}") }
        }
        Err(error) => EndpointView::Unreachable { why: error.to_string() },
    }
}

/// Says whether `needle` stands somewhere in `body`.
fn holds(body: &[u8], needle: &[u8]) -> bool {
    needle.is_empty() || body.windows(needle.len()).any(|window| window == needle)
}
