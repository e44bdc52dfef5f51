//! Taking copies of certificates out of stores once nothing uses them.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use pindrel_core::desired::{CertificateId, EndpointId};
use pindrel_core::judging::facts::EndpointView;
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::plan::{Step, Work};
use pindrel_edge::StoreRemoval;
use pindrel_state::StoredCopy;

use crate::context::Context;
use crate::context::progress::seconds_from;
use crate::failure::{EngineError, state_failed};
use crate::observe::endpoint::EndpointObserver;

/// How long a copy is left alone that a binding still used, unless bindings have changed.
const TRY_AGAIN_SECS: i64 = 3_600;

/// The copies of certificates in the stores of platforms.
pub(crate) struct Copies {
    pub(crate) context: Arc<Context>,
    pub(crate) endpoints: Arc<EndpointObserver>,
}

impl Copies {
    /// Removes the copies of certificates that were replaced, or that nothing uses. What cannot be
    /// removed stays for a later run: a copy too many harms nobody.
    pub(crate) async fn tidy(&self, steps: &[Step]) -> Result<(), EngineError> {
        let changed = steps.iter().any(|step| matches!(step.work, Work::Bind(..) | Work::Unbind(..)));
        let now = self.context.clock.now();
        let since = if changed { now } else { seconds_from(now, -TRY_AGAIN_SECS) };
        let copies = self.context.state.copies_to_remove(since).await?;
        if copies.is_empty() {
            return Ok(());
        }
        let unknown = |id: &EndpointId| {
            let endpoint = self.context.desired.endpoint(*id);
            let is_meant = copies.iter().any(|copy| copy.platform == endpoint.platform());
            is_meant && !endpoint.is_static() && !self.context.known().endpoints.contains_key(id)
        };
        let unknown = self.context.desired.endpoint_ids().filter(unknown).collect();
        self.endpoints.look_at(unknown).await?;
        let (places, uses) = (self.places(), self.uses());
        for copy in copies {
            let Some(endpoints) = places.get(&(copy.platform.clone(), copy.site.clone())) else {
                self.context.state.keep_copy(&copy, now).await?;
                continue;
            };
            if self.is_needed(&copy, endpoints, &uses) {
                self.context.state.record_copy(&copy).await?;
                continue;
            }
            if let Err(finding) = self.remove_copy(endpoints[0], &copy).await {
                self.context.state.keep_copy(&copy, now).await?;
                self.context.note(format!(
                    "a copy of the certificate \"{}\" stays in the store of {}: {}",
                    copy.certificate,
                    copy.site,
                    finding.says()
                ));
            }
        }
        Ok(())
    }

    /// The endpoints that use each store that is known, by its platform and site.
    fn places(&self) -> HashMap<(String, String), Vec<EndpointId>> {
        let mut places: HashMap<(String, String), Vec<EndpointId>> = HashMap::new();
        let known = self.context.known();
        for (id, fact) in &known.endpoints {
            let EndpointView::Listed(info) = &fact.value else { continue };
            let endpoint = self.context.desired.endpoint(*id);
            if !endpoint.is_static() {
                let key = (endpoint.platform(), info.certificate_site.clone());
                places.entry(key).or_default().push(*id);
            }
        }
        places
    }

    /// Which certificate is wanted at which endpoint.
    fn uses(&self) -> HashSet<(CertificateId, EndpointId)> {
        let hostnames = self.context.desired.hostnames.iter();
        hostnames.flat_map(|wanted| wanted.endpoints().map(|endpoint| (wanted.certificate, endpoint))).collect()
    }

    /// Says whether a copy is the present certificate of a hostname at one of the endpoints of its store.
    fn is_needed(
        &self,
        copy: &StoredCopy,
        endpoints: &[EndpointId],
        uses: &HashSet<(CertificateId, EndpointId)>,
    ) -> bool {
        let Some(id) = self.context.desired.certificate_named(&copy.certificate) else { return false };
        let is_present = self.context.held_certificate(id).is_none_or(|held| held.sha256 == copy.sha256);
        is_present && endpoints.iter().any(|endpoint| uses.contains(&(id, *endpoint)))
    }

    async fn remove_copy(&self, endpoint: EndpointId, copy: &StoredCopy) -> Result<(), Finding> {
        let platform = self.context.drivers.platform(self.context.desired.endpoint(endpoint))?;
        let about = format!("{} in the store of {}", copy.sha256.short(), copy.site);
        let removal = self.context.journalled("copy-remove", &copy.certificate, &about, async {
            platform.delete_certificate(&copy.site, copy.sha256).await.map_err(|error| error.finding())
        });
        match removal.await? {
            StoreRemoval::Gone => self.context.state.forget_copy(copy).await.map_err(state_failed),
            StoreRemoval::InUse => {
                self.context.state.keep_copy(copy, self.context.clock.now()).await.map_err(state_failed)
            }
        }
    }
}
