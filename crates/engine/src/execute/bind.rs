//! Binding a hostname at an endpoint, until it is deployed.

use std::sync::Arc;
use std::time::Duration;

use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::endpoints::endpoint::{Binding, Deployment};
use pindrel_core::judging::facts::{BindingView, Fact, ServedView};
use pindrel_core::judging::findings::{BindingCause, Finding};
use pindrel_core::judging::pins::Known;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_edge::EdgeError;
use pindrel_state::Claim;

use crate::context::Context;
use crate::context::progress::{Progress, Wait};
use crate::execute::asked_records::AskedRecords;
use crate::failure::internal;
use crate::home::hostnames::Hostnames;
use crate::home::keys::SealedKeys;
use crate::observe::binding::BindingObserver;

/// How long it is tried again to write a binding that others keep changing.
const CONFLICT: Duration = Duration::from_secs(10);

/// The steps that make an endpoint ready for a hostname.
pub(crate) struct Binder {
    pub(crate) context: Arc<Context>,
    pub(crate) asked_records: Arc<AskedRecords>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) keys: Arc<SealedKeys>,
}

impl Binder {
    pub(crate) async fn bind(&self, id: HostnameId, at: EndpointId, claim: &Claim) -> Result<Progress, Finding> {
        let wanted = self.context.desired.hostname(id);
        let endpoint = self.context.desired.endpoint(at);
        let (key, name, hostname) = (endpoint.key(), &endpoint.name, &wanted.hostname);
        let info = self.listed(at)?;
        let platform = self.context.drivers.platform(endpoint)?;
        let binding = Known::about(&self.context.desired, &self.context.known(), id).at(at).wanted_binding();
        let binding = binding.ok_or_else(|| internal(format!("no certificate covers {hostname} yet")))?;
        let may_change = |present: &Binding| {
            Known::about(&self.context.desired, &self.context.known(), id).at(at).may_change(present)
        };

        let present = platform.binding(&info.id, hostname).await.map_err(|error| error.finding())?;
        let bound = match present {
            // Another try is worth while where the platform has given up.
            Some(bound) if bound.binding == binding && !matches!(bound.deployment, Deployment::Failed { .. }) => bound,
            Some(bound) if bound.binding != binding && !may_change(&bound.binding) => {
                return Err(Finding::binding(hostname, name, BindingCause::Foreign { difference: None }));
            }
            present => {
                if let Some(clients) = &binding.client_certificates
                    && let Some(roots) = self.context.desired.trust_bundles.get(&clients.roots)
                {
                    let put = platform.put_trust_bundle(&info.certificate_site, clients.roots, roots).await;
                    put.map_err(|error| error.finding())?;
                }
                let there = present.as_ref().map(|bound| &bound.binding);
                self.hostnames
                    .record_ownership(claim, id, |own| own.intend_binding(key.clone(), there, binding.clone()))
                    .await?;
                match platform.put_binding(&info.id, hostname, &binding, present.as_ref()).await {
                    // Somebody was quicker: what is there now is read, and decided on, again.
                    Err(error @ EdgeError::Changed(_)) => {
                        return Ok(Progress::NotYet(Wait {
                            until: None,
                            topic: "conflict",
                            what: format!("{name} to be left alone by others"),
                            within: Some(CONFLICT),
                            finding: error.finding(),
                        }));
                    }
                    put => put.map_err(|error| error.finding())?,
                }
            }
        };
        let (deployment, reply) = (bound.deployment.clone(), bound.reply.told());
        let is_deployed = deployment == Deployment::Deployed;
        let (lacking, served) =
            (self.bindings.lacking_records(&bound.reply.records, is_deployed).await, ServedView::NotTried);
        let is_lacking = !lacking.is_empty();
        let value = BindingView::Present { binding: bound.binding.clone(), deployment, reply, lacking, served };
        let fact = Fact { seen: self.context.clock.now(), value };
        self.hostnames
            .record_facts(id, |facts| {
                facts.bindings.insert(key.clone(), fact);
            })
            .await?;
        if is_lacking
            && let Some(wait) = self.asked_records.make_asked_records(id, at, &bound.reply.records, claim).await?
        {
            return Ok(Progress::NotYet(wait));
        }
        match &bound.deployment {
            Deployment::Deployed => {}
            Deployment::Failed { reason } => {
                let failed = BindingCause::DeployFailed { reason: reason.clone(), tried: true };
                return Err(Finding::binding(hostname, name, failed));
            }
            Deployment::Deploying => {
                return Ok(Progress::NotYet(Wait {
                    until: None,
                    topic: "deploy",
                    what: format!("{name} to deploy it"),
                    within: None,
                    finding: Finding::binding(hostname, name, BindingCause::Deploying { waited: true }),
                }));
            }
        }
        if bound.binding != binding {
            return Err(Finding::binding(hostname, name, BindingCause::ChangedByPlatform));
        }
        self.hostnames.record_ownership(claim, id, |own| own.confirm_binding(&key)).await?;
        self.asked_records.clear_asked_records(HostnameRef::Wanted(id), &key, false, claim).await?;
        Ok(Progress::Done)
    }
}
