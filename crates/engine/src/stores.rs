//! Taking copies of certificates out of stores once nothing uses them.

use std::collections::HashMap;

use pindrel_core::desired::EndpointId;
use pindrel_core::facts::EndpointView;
use pindrel_core::findings::Finding;
use pindrel_core::plan::{Step, Work};
use pindrel_edge::StoreRemoval;
use pindrel_state::StoredCopy;

use crate::execute::seconds_from;
use crate::failure::{EngineError, state_failed};
use crate::run::Engine;

/// How long a copy is left alone that a binding still used, unless bindings have changed.
const TRY_AGAIN_SECS: i64 = 3_600;

impl Engine {
    /// Removes the copies of certificates that were replaced, or that nothing uses any more. What cannot
    /// be removed stays for a later run: a copy too many harms nobody.
    pub(crate) async fn tidy_stores(&self, steps: &[Step]) -> Result<(), EngineError> {
        let changed = steps.iter().any(|step| matches!(step.work, Work::Bind(..) | Work::Unbind(..)));
        let now = self.clock.now();
        let since = if changed { now } else { seconds_from(now, -TRY_AGAIN_SECS) };
        let copies = self.state.copies_to_remove(since).await?;
        if copies.is_empty() {
            return Ok(());
        }
        let unknown = |id: &EndpointId| {
            let endpoint = self.desired.endpoint(*id);
            let is_meant = copies.iter().any(|copy| copy.platform == endpoint.platform());
            is_meant && !endpoint.is_static() && !self.known().endpoints.contains_key(id)
        };
        let unknown = (0u32..).map(EndpointId).take(self.desired.endpoints.len()).filter(unknown).collect();
        self.look_at_endpoints(unknown).await?;
        let places = self.places();
        for copy in copies {
            if self.is_needed(&copy, &places) {
                self.state.record_copy(&copy).await?;
                continue;
            }
            let Some((endpoint, _)) = places.get(&(copy.platform.clone(), copy.site.clone())) else {
                self.state.keep_copy(&copy, now).await?;
                continue;
            };
            if let Err(finding) = self.remove_copy(*endpoint, &copy).await {
                self.state.keep_copy(&copy, now).await?;
                self.note(format!(
                    "a copy of the certificate \"{}\" stays in the store of {}: {}",
                    copy.certificate, copy.site, finding.says
                ));
            }
        }
        Ok(())
    }

    /// For each store that is known, an endpoint through which it is reached, and all that use it.
    fn places(&self) -> HashMap<(String, String), (EndpointId, Vec<EndpointId>)> {
        let mut places: HashMap<(String, String), (EndpointId, Vec<EndpointId>)> = HashMap::new();
        let known = self.known();
        for (id, fact) in &known.endpoints {
            let EndpointView::Listed(info) = &fact.value else { continue };
            let endpoint = self.desired.endpoint(*id);
            if !endpoint.is_static() {
                let key = (endpoint.platform().to_owned(), info.certificate_site.clone());
                places.entry(key).or_insert_with(|| (*id, Vec::new())).1.push(*id);
            }
        }
        places
    }

    /// Says whether a copy is the present certificate of a hostname at an endpoint that takes it from there.
    fn is_needed(&self, copy: &StoredCopy, places: &HashMap<(String, String), (EndpointId, Vec<EndpointId>)>) -> bool {
        let Some(id) = self.desired.certificate_named(&copy.certificate) else { return false };
        let is_present = self.held_certificate(id).is_none_or(|held| held.sha256 == copy.sha256);
        let Some((_, endpoints)) = places.get(&(copy.platform.clone(), copy.site.clone())) else { return false };
        is_present
            && self.desired.hostnames.iter().any(|wanted| {
                wanted.certificate == id && wanted.endpoints().any(|endpoint| endpoints.contains(&endpoint))
            })
    }

    async fn remove_copy(&self, endpoint: EndpointId, copy: &StoredCopy) -> Result<(), Finding> {
        let platform = self.drivers.platform(self.desired.endpoint(endpoint))?;
        let about = format!("{} in the store of {}", copy.sha256.short(), copy.site);
        let removal = self.journalled("copy-remove", &copy.certificate, &about, async {
            platform.delete_certificate(&copy.site, copy.sha256).await.map_err(|error| error.finding())
        });
        match removal.await? {
            StoreRemoval::Gone => self.state.forget_copy(copy).await.map_err(state_failed),
            StoreRemoval::InUse => self.state.keep_copy(copy, self.clock.now()).await.map_err(state_failed),
        }
    }
}
