//! Endpoints, as their platforms list them.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use futures::future::join_all;
use pindrel_core::desired::{Endpoint, EndpointDriver, EndpointId, StaticEndpoint};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::facts::{EndpointView, Fact, Unreachable};
use pindrel_edge::EdgeError;

use crate::context::Context;
use crate::failure::EngineError;

/// The most endpoint ids that are shown when one is not found.
const MOST_IDS: usize = 20;

/// Looks at endpoints, as their platforms list them.
pub(crate) struct EndpointObserver {
    pub(crate) context: Arc<Context>,
}

impl EndpointObserver {
    /// Asks each platform once for its list.
    pub(crate) async fn look_at(&self, ids: BTreeSet<EndpointId>) -> Result<(), EngineError> {
        let mut platforms: HashMap<&EndpointDriver, Vec<EndpointId>> = HashMap::new();
        let mut alone: Vec<Vec<EndpointId>> = Vec::new();
        for id in ids {
            match &self.context.desired.endpoint(id).driver {
                driver @ (EndpointDriver::Http(_) | EndpointDriver::Program(_)) => {
                    platforms.entry(driver).or_default().push(id);
                }
                EndpointDriver::Nginx(_) | EndpointDriver::Haproxy(_) => alone.push(vec![id]),
                EndpointDriver::Static(endpoint) => {
                    let value = EndpointView::Listed(info_of_static(self.context.desired.endpoint(id), endpoint));
                    let fact = Fact { seen: self.context.clock.now(), value };
                    self.context.state.persist_endpoint(&self.context.desired.endpoint(id).key(), &fact).await?;
                    self.context.known().endpoints.insert(id, fact);
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
            for id in ids {
                let endpoint = self.context.desired.endpoint(id);
                let mut value = endpoint_view(&endpoint.id, &listed);
                if let EndpointView::Unreachable { before, .. } = &mut value {
                    *before = self.context.known().endpoint_info(id).cloned().map(Box::new);
                }
                let fact = Fact { seen: self.context.clock.now(), value };
                self.context.state.persist_endpoint(&endpoint.key(), &fact).await?;
                self.context.known().endpoints.insert(id, fact);
            }
        }
        Ok(())
    }
}

/// What is known of an endpoint that somebody else configures: what the manifest says.
fn info_of_static(endpoint: &Endpoint, place: &StaticEndpoint) -> EndpointInfo {
    EndpointInfo {
        default_name: Some(place.default_name.clone()),
        port: place.port,
        ..EndpointInfo::plain(&endpoint.id, endpoint.kind, "", place.addresses.clone())
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
            Some(endpoint) => EndpointView::Listed(endpoint.clone()),
            None => {
                let known = endpoints.iter().take(MOST_IDS).map(|endpoint| endpoint.id.clone());
                EndpointView::NotListed { known: known.collect() }
            }
        },
        Err(view) => view.clone(),
    }
}
