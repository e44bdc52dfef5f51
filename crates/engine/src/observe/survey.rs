//! Hostnames with all that they need: which are worth looking at, and looking at these.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::{CertificateId, EndpointId, HostnameId, ZoneId};
use pindrel_core::health::policy::Policy;
use pindrel_core::names::name::Hostname;
use pindrel_state::{HostnameRow, HostnameSummary};

use super::alias::AliasObserver;
use super::answer::AnswerObserver;
use super::binding::BindingObserver;
use super::endpoint::EndpointObserver;
use super::zone::ZoneObserver;
use crate::context::Context;
use crate::context::scope::{LeftoverScope, Scope};
use crate::events::Event;
use crate::failure::EngineError;
use crate::health::Health;
use crate::home::certificates::Certificates;
use crate::home::hostnames::Hostnames;

/// How many summaries of hostnames are read at once.
const PAGE: usize = 5_000;

/// A hostname that the state knows and the manifest does not name.
#[derive(Debug, Clone)]
pub(crate) struct Unlisted {
    pub(crate) hostname: String,
    /// The time of the oldest fact, in seconds since 1970.
    pub(crate) seen_secs: i64,
}

impl From<HostnameSummary> for Unlisted {
    fn from(HostnameSummary { hostname, seen_secs, .. }: HostnameSummary) -> Unlisted {
        Unlisted { hostname, seen_secs }
    }
}

impl From<&Hostname> for Unlisted {
    fn from(hostname: &Hostname) -> Unlisted {
        Unlisted { hostname: hostname.to_string(), seen_secs: 0 }
    }
}

/// The hostnames that are worth looking at.
pub(crate) struct OpenHostnames {
    /// Those of the scope that are not known to be held.
    pub(crate) open: Vec<HostnameId>,
    /// Those that the state knows and the manifest does not name, where the scope asks for them.
    pub(crate) unlisted: Vec<Unlisted>,
}

/// Looks at hostnames with all that they need.
pub(crate) struct Surveyor {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) answers: Arc<AnswerObserver>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) endpoints: Arc<EndpointObserver>,
    pub(crate) health: Arc<Health>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Surveyor {
    /// Looks at every hostname of the scope that is not known to be held by fresh
    /// facts. What is known to be held costs one small row.
    pub(crate) async fn survey_open(
        &self,
        scope: &Scope,
        due: &HashSet<CertificateId>,
    ) -> Result<OpenHostnames, EngineError> {
        let surveyed = self.open_hostnames(scope, due).await?;
        let OpenHostnames { open, .. } = &surveyed;
        self.context.listener.on(Event::Looking { hostnames: open.len(), total: scope.hostnames.len() });
        self.load(open).await?;
        self.look(open).await?;
        Ok(surveyed)
    }

    /// Looks at every hostname of the scope whose facts are too old, and loads all.
    pub(crate) async fn survey_stale(&self, scope: &[HostnameId]) -> Result<(), EngineError> {
        let stale = self.load(scope).await?;
        self.look(&stale).await
    }

    async fn open_hostnames(&self, scope: &Scope, due: &HashSet<CertificateId>) -> Result<OpenHostnames, EngineError> {
        if let LeftoverScope::Retire(hostnames) = &scope.leftovers {
            let unlisted = hostnames.iter().map(Unlisted::from).collect();
            return Ok(OpenHostnames { open: scope.hostnames.clone(), unlisted });
        }
        let now = self.context.clock.now();
        let mut unlisted = Vec::new();
        let ids: HashMap<&str, HostnameId> =
            scope.hostnames.iter().map(|id| (self.context.desired.hostname(*id).hostname.as_str(), *id)).collect();
        let mut settled = vec![false; self.context.desired.hostnames.len()];
        self.each_summary(|summary| {
            let Some(id) = ids.get(summary.hostname.as_str()) else {
                unlisted.extend((scope.leftovers == LeftoverScope::All).then(|| Unlisted::from(summary)));
                return;
            };
            // Which of several endpoints is given is decided anew each time.
            settled[id.0 as usize] = summary.held
                && self.context.desired.hostname(*id).placement.policy == Policy::Single
                && now.as_second() < summary.due_secs
                && self.context.is_fresh(summary.seen_secs, now)
                && !due.contains(&self.context.desired.hostname(*id).certificate)
                && summary.wanted == self.hostnames.digests.of(&self.context.desired, *id);
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
            let page = self.context.state.hostname_summaries(&after, PAGE).await?;
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
        let known = self.context.known().hostnames.contains_key(&id);
        if known { Ok(()) } else { self.load(&[id]).await.map(drop) }
    }

    /// Loads from the state what is known of some hostnames; returns those whose facts
    /// are too old, or were judged against another manifest.
    pub(crate) async fn load(&self, ids: &[HostnameId]) -> Result<Vec<HostnameId>, EngineError> {
        let now = self.context.clock.now();
        let mut stale = Vec::new();
        for id in ids {
            let wanted = self.context.desired.hostname(*id);
            let row = self.context.state.hostname(&wanted.hostname).await?;
            let fresh = row.as_ref().is_some_and(|row| {
                self.context.is_fresh(row.seen_secs, now)
                    && row.wanted == self.hostnames.digests.of(&self.context.desired, *id)
            });
            if !fresh {
                stale.push(*id);
            }
            let own = row.map(HostnameRow::into_known).unwrap_or_default();
            self.context.known().hostnames.insert(*id, own);

            self.certificates.load(wanted.certificate).await?;
            self.zones.load(wanted.zone).await?;
            for endpoint in wanted.endpoints().chain(self.context.former_endpoints_of(*id)) {
                let known = self.context.known().endpoints.contains_key(&endpoint);
                if !known
                    && let Some(fact) =
                        self.context.state.endpoint(&self.context.desired.endpoint(endpoint).key()).await?
                {
                    self.context.known().endpoints.insert(endpoint, fact);
                }
            }
            self.health.load_choice(*id).await?;
            self.hostnames.report_from_here(*id);
        }
        Ok(stale)
    }

    /// Looks at some hostnames and at all that they share.
    async fn look(&self, ids: &[HostnameId]) -> Result<(), EngineError> {
        let zones: BTreeSet<ZoneId> = ids.iter().map(|id| self.context.desired.hostname(*id).zone).collect();
        let of = |id: &HostnameId| {
            self.context.desired.hostname(*id).endpoints().chain(self.context.former_endpoints_of(*id))
        };
        let endpoints: BTreeSet<EndpointId> = ids.iter().flat_map(of).collect();
        let (zones, endpoints) = futures::join!(
            stream::iter(zones)
                .map(|id| self.zones.look_at(id))
                .buffer_unordered(self.context.bounds.at_once)
                .collect::<Vec<_>>(),
            self.endpoints.look_at(endpoints)
        );
        endpoints?;
        zones.into_iter().collect::<Result<Vec<()>, _>>()?;
        let looks = stream::iter(ids.iter().copied())
            .map(|id| self.look_at_hostname(id))
            .buffer_unordered(self.context.bounds.at_once);
        looks.collect::<Vec<_>>().await.into_iter().collect()
    }

    async fn look_at_hostname(&self, id: HostnameId) -> Result<(), EngineError> {
        let wanted = self.context.desired.hostname(id);
        let bindings = futures::future::join_all(wanted.endpoints().map(|endpoint| async move {
            let key = self.context.desired.endpoint(endpoint).key();
            self.bindings.observe(id, endpoint).await.map(|fact| (key, fact))
        }));
        let (bindings, alias) = futures::join!(bindings, self.aliases.observe(id));
        // Where the alias is to lead may be what the platform says of the binding.
        self.context.known().hostnames.entry(id).or_default().facts.bindings = bindings.into_iter().flatten().collect();
        // A resolver is asked only once every authoritative server gives the alias, or it
        // would cache that there is none.
        self.context.known().hostnames.entry(id).or_default().facts.alias = Some(alias.clone());
        self.hostnames.choose(id);
        let everywhere = self.aliases.is_aliased(id, &alias.value) == Some(true);
        let answer = if everywhere { Some(self.answers.observe(id).await) } else { None };
        self.hostnames
            .record_facts(id, |facts| {
                facts.alias = Some(alias);
                facts.answer = answer;
            })
            .await?;
        Ok(())
    }
}
