//! Looking at the world: what drivers see becomes facts, one file for each thing looked at.

mod alias;
mod answer;
pub(crate) mod binding;
mod certificate;
mod choice;
pub(crate) mod dependents;
mod endpoint;
mod zone;

use std::collections::{BTreeSet, HashMap, HashSet};

use futures::StreamExt as _;
use futures::stream;
use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, EndpointId, HostnameId, ZoneId};
use pindrel_core::health::policy::Policy;
use pindrel_core::judging::facts::{HostnameFacts, is_fresh};
use pindrel_core::judging::pins::Pins;
use pindrel_core::planning::moves::former_endpoint_ids;
use pindrel_state::{HostnameRow, HostnameSummary};

use crate::events::Event;
use crate::failure::EngineError;
use crate::run::Engine;
use crate::run::settle::{LeftoverScope, Scope};

/// How many summaries of hostnames are read at once.
const PAGE: usize = 5_000;

/// The hostnames that are worth looking at.
pub(crate) struct OpenHostnames {
    /// Those of the scope that are not known to be held.
    pub(crate) open: Vec<HostnameId>,
    /// Those that the state knows and the manifest does not name, where the scope asks for them.
    pub(crate) unlisted: Vec<String>,
}

impl Engine {
    /// Looks at every hostname of the scope that is not known to be held by fresh
    /// facts. What is known to be held costs one small row.
    pub(crate) async fn survey_open(
        &self,
        scope: &Scope,
        due: &HashSet<CertificateId>,
    ) -> Result<OpenHostnames, EngineError> {
        let surveyed = self.open_hostnames(scope, due).await?;
        let OpenHostnames { open, .. } = &surveyed;
        self.listener.on(Event::Looking { hostnames: open.len(), total: scope.hostnames.len() });
        self.load(open).await?;
        self.look(open).await?;
        Ok(surveyed)
    }

    /// Looks at every hostname of the scope whose facts are too old, and loads all.
    pub(crate) async fn survey_stale(&self, scope: &[HostnameId]) -> Result<(), EngineError> {
        let stale = self.load(scope).await?;
        self.look(&stale).await
    }

    pub(crate) fn is_fresh(&self, seen_secs: i64, now: Timestamp) -> bool {
        let seen = Timestamp::from_second(seen_secs).unwrap_or(Timestamp::UNIX_EPOCH);
        is_fresh(seen, now, self.bounds.max_age_secs)
    }

    async fn open_hostnames(&self, scope: &Scope, due: &HashSet<CertificateId>) -> Result<OpenHostnames, EngineError> {
        if let LeftoverScope::Retire(hostnames) = &scope.leftovers {
            let unlisted = hostnames.iter().map(ToString::to_string).collect();
            return Ok(OpenHostnames { open: scope.hostnames.clone(), unlisted });
        }
        let now = self.clock.now();
        let mut unlisted = Vec::new();
        let ids: HashMap<&str, HostnameId> =
            scope.hostnames.iter().map(|id| (self.desired.hostname(*id).hostname.as_str(), *id)).collect();
        let mut settled = vec![false; self.desired.hostnames.len()];
        self.each_summary(|summary| {
            let Some(id) = ids.get(summary.hostname.as_str()) else {
                unlisted.extend((scope.leftovers == LeftoverScope::All).then_some(summary.hostname));
                return;
            };
            // Which of several endpoints is given is decided anew each time.
            settled[id.0 as usize] = summary.held
                && self.desired.hostname(*id).placement.policy == Policy::Single
                && now.as_second() < summary.due_secs
                && self.is_fresh(summary.seen_secs, now)
                && !due.contains(&self.desired.hostname(*id).certificate)
                && summary.wanted == self.digests.of(&self.desired, *id);
        })
        .await?;
        Ok(OpenHostnames {
            open: scope.hostnames.iter().copied().filter(|id| !settled[id.0 as usize]).collect(),
            unlisted,
        })
    }

    /// Calls `visit` with the summary of every hostname that the state knows, in their order; a part
    /// of them is in memory at a time.
    pub(crate) async fn each_summary(&self, mut visit: impl FnMut(HostnameSummary)) -> Result<(), EngineError> {
        let mut after = String::new();
        loop {
            let page = self.state.hostname_summaries(&after, PAGE).await?;
            let last = page.last().filter(|_| page.len() == PAGE).map(|last| last.hostname.clone());
            page.into_iter().for_each(&mut visit);
            match last {
                Some(last) => after = last,
                None => return Ok(()),
            }
        }
    }

    /// Loads what is known of a hostname, where this run has not done so yet.
    pub(crate) async fn load_once(&self, id: HostnameId) -> Result<(), EngineError> {
        let known = self.known().hostnames.contains_key(&id);
        if known { Ok(()) } else { self.load(&[id]).await.map(drop) }
    }

    /// Loads from the state what is known of some hostnames; returns those whose facts
    /// are too old, or were judged against another manifest.
    async fn load(&self, ids: &[HostnameId]) -> Result<Vec<HostnameId>, EngineError> {
        let now = self.clock.now();
        let mut stale = Vec::new();
        for id in ids {
            let wanted = self.desired.hostname(*id);
            let row = self.state.hostname(&wanted.hostname).await?;
            let fresh = row.as_ref().is_some_and(|row| {
                self.is_fresh(row.seen_secs, now) && row.wanted == self.digests.of(&self.desired, *id)
            });
            if !fresh {
                stale.push(*id);
            }
            let own = row.map(HostnameRow::into_known).unwrap_or_default();
            self.known().hostnames.insert(*id, own);

            self.load_certificate(wanted.certificate).await?;
            self.load_zone(wanted.zone).await?;
            for endpoint in wanted.endpoints().chain(self.former_endpoints_of(*id)) {
                let known = self.known().endpoints.contains_key(&endpoint);
                if !known && let Some(fact) = self.state.endpoint(&self.desired.endpoint(endpoint).key()).await? {
                    self.known().endpoints.insert(endpoint, fact);
                }
            }
            self.load_choice(*id).await?;
        }
        Ok(stale)
    }

    /// The endpoints of the manifest where a hostname is still bound and no longer wanted.
    pub(crate) fn former_endpoints_of(&self, id: HostnameId) -> Vec<EndpointId> {
        let known = self.known();
        let own = known.hostnames.get(&id).map(|own| &own.ownership);
        own.map_or_else(Vec::new, |own| former_endpoint_ids(&self.desired, self.desired.hostname(id), own))
    }

    /// Looks at some hostnames and at all that they share.
    async fn look(&self, ids: &[HostnameId]) -> Result<(), EngineError> {
        let zones: BTreeSet<ZoneId> = ids.iter().map(|id| self.desired.hostname(*id).zone).collect();
        let of = |id: &HostnameId| self.desired.hostname(*id).endpoints().chain(self.former_endpoints_of(*id));
        let endpoints: BTreeSet<EndpointId> = ids.iter().flat_map(of).collect();
        let (zones, endpoints) = futures::join!(
            stream::iter(zones)
                .map(|id| self.look_at_zone(id))
                .buffer_unordered(self.bounds.at_once)
                .collect::<Vec<_>>(),
            self.look_at_endpoints(endpoints)
        );
        endpoints?;
        zones.into_iter().collect::<Result<Vec<()>, _>>()?;
        let looks =
            stream::iter(ids.iter().copied()).map(|id| self.look_at_hostname(id)).buffer_unordered(self.bounds.at_once);
        looks.collect::<Vec<_>>().await.into_iter().collect()
    }

    async fn look_at_hostname(&self, id: HostnameId) -> Result<(), EngineError> {
        let wanted = self.desired.hostname(id);
        let bindings = futures::future::join_all(wanted.endpoints().map(|endpoint| async move {
            let key = self.desired.endpoint(endpoint).key();
            self.observe_binding(id, endpoint).await.map(|fact| (key, fact))
        }));
        let (bindings, alias) = futures::join!(bindings, self.observe_alias(id));
        // Where the alias is to lead may be what the platform says of the binding.
        self.known().hostnames.entry(id).or_default().facts.bindings = bindings.into_iter().flatten().collect();
        // A resolver is asked only once every authoritative server gives the alias, or it
        // would cache that there is none.
        self.known().hostnames.entry(id).or_default().facts.alias = Some(alias.clone());
        self.choose(id);
        let everywhere = self.is_aliased(id, &alias.value) == Some(true);
        let answer = if everywhere { Some(self.observe_answer(id).await) } else { None };
        self.record_facts(id, |facts| {
            facts.alias = Some(alias);
            facts.answer = answer;
        })
        .await?;
        Ok(())
    }

    /// Changes what is known of a hostname's facts, stores it and tells it.
    pub(crate) async fn record_facts(
        &self,
        id: HostnameId,
        change: impl FnOnce(&mut HostnameFacts),
    ) -> Result<Pins, EngineError> {
        change(&mut self.known().hostnames.entry(id).or_default().facts);
        self.persist_hostname(id).await
    }
}
