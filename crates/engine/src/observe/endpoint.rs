//! Endpoints, as their platforms list them.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use futures::future::join_all;
use futures::{StreamExt as _, stream};
use pindrel_core::desired::{EndpointDriver, EndpointId, WantedHostname};
use pindrel_core::endpoints::endpoint::{EndpointInfo, NameLeads};
use pindrel_core::judging::facts::{EndpointView, Fact, Unreachable, Unresolved};
use pindrel_dns::lookup::Resolved;
use pindrel_edge::EdgeError;

use crate::context::Context;
use crate::failure::EngineError;
use crate::observe::zone::ZoneObserver;

/// The most resolvers that are asked where a default name leads, until one says.
const MOST_RESOLVERS: usize = 2;
/// How many default names are resolved at once.
const NAMES_AT_ONCE: usize = 16;
/// The most endpoint ids that are shown when one is not found.
const MOST_IDS: usize = 20;

/// Looks at endpoints, as their platforms list them.
pub(crate) struct EndpointObserver {
    pub(crate) context: Arc<Context>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl EndpointObserver {
    /// Asks each platform once for its list.
    pub(crate) async fn look_at(&self, ids: BTreeSet<EndpointId>) -> Result<(), EngineError> {
        let mut platforms: HashMap<&EndpointDriver, Vec<EndpointId>> = HashMap::new();
        let mut alone: Vec<Vec<EndpointId>> = Vec::new();
        let mut views: Vec<(EndpointId, EndpointView)> = Vec::new();
        for id in ids {
            match &self.context.desired.endpoint(id).driver {
                driver @ (EndpointDriver::Http(_) | EndpointDriver::Program(_)) => {
                    platforms.entry(driver).or_default().push(id);
                }
                EndpointDriver::Nginx(_) | EndpointDriver::Haproxy(_) => alone.push(vec![id]),
                EndpointDriver::Static(_) => {
                    views.extend(
                        self.context
                            .desired
                            .endpoint(id)
                            .static_info()
                            .map(|info| (id, EndpointView::Listed(Box::new(info)))),
                    );
                }
            }
        }
        let looks = join_all(platforms.into_values().chain(alone).map(|ids| async move {
            let listed = match self.context.drivers.platform(self.context.desired.endpoint(ids[0])) {
                Ok(platform) => platform.endpoints().await.map_err(view_of),
                Err(finding) => Err(EndpointView::Unreachable {
                    why: Unreachable::NotAsked { detail: finding.says() },
                    before: None,
                }),
            };
            (ids, listed)
        }));
        for (ids, listed) in looks.await {
            views.extend(ids.into_iter().map(|id| (id, endpoint_view(&self.context.desired.endpoint(id).id, &listed))));
        }
        let views = stream::iter(views).map(async |(id, mut view)| {
            match &mut view {
                EndpointView::Listed(info) => info.leads = self.leads(id, info).await,
                EndpointView::Unreachable { before, .. } => {
                    *before = self.context.known().endpoint_info(id).cloned().map(Box::new);
                }
                EndpointView::NotListed { .. } | EndpointView::Refused { .. } => {}
            }
            (id, view)
        });
        let views: Vec<_> = views.buffer_unordered(NAMES_AT_ONCE).collect().await;
        for (id, value) in views {
            let fact = Fact { seen: self.context.clock.now(), value };
            self.context.state.persist_endpoint(&self.context.desired.endpoint(id).key(), &fact).await?;
            self.context.known().endpoints.insert(id, fact);
        }
        Ok(())
    }

    /// Where the default name of an endpoint leads clients, as a resolver of the first hostname there says.
    async fn leads(&self, id: EndpointId, info: &EndpointInfo) -> Option<NameLeads> {
        let name = info.default_name.as_ref().filter(|_| !info.own_targets)?;
        let is_there = |wanted: &&WantedHostname| wanted.endpoints().any(|endpoint| endpoint == id);
        let zone = self.context.desired.hostnames.iter().find(is_there)?.zone;
        for resolver in self.zones.resolvers(zone).into_iter().take(MOST_RESOLVERS) {
            match self.context.drivers.lookups().resolve(&resolver, name).await {
                Resolved::Addresses { addresses, .. } => return Some(NameLeads::To(addresses)),
                Resolved::Nothing { why: Unresolved::NoSuchName, .. } => {
                    return Some(NameLeads::Nowhere { exists: false });
                }
                Resolved::Nothing { why: Unresolved::NoAddress, .. } => {
                    return Some(NameLeads::Nowhere { exists: true });
                }
                // It does not say.
                Resolved::Nothing { .. } => {}
            }
        }
        None
    }
}

fn view_of(error: EdgeError) -> EndpointView {
    match error {
        EdgeError::Token { status, detail, .. } => EndpointView::Refused { status, detail },
        error => EndpointView::Unreachable { why: error.into_fact(), before: None },
    }
}

fn endpoint_view(id: &str, listed: &Result<Vec<EndpointInfo>, EndpointView>) -> EndpointView {
    match listed {
        Ok(endpoints) => match endpoints.iter().find(|endpoint| endpoint.id == id) {
            Some(endpoint) => EndpointView::Listed(Box::new(endpoint.clone())),
            None => {
                let known = endpoints.iter().take(MOST_IDS).map(|endpoint| endpoint.id.clone());
                EndpointView::NotListed { known: known.collect() }
            }
        },
        Err(view) => view.clone(),
    }
}
