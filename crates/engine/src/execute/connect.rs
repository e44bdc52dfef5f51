//! Connecting to an endpoint directly, until it serves the certificate that it was given.

use std::time::Duration;

use pindrel_core::desired::{EndpointDriver, EndpointId, HostnameId};
use pindrel_core::judging::findings::{BindingCause, Code, Finding};

use crate::context::progress::{Progress, Wait};
use crate::execute::bind::Binder;

/// How long a deployed endpoint may go on serving the certificate before.
const SERVE: Duration = Duration::from_secs(60);
/// The same where nothing is deployed any more: what answers otherwise goes on doing so.
const SERVE_AT_ONCE: Duration = Duration::from_secs(15);

impl Binder {
    pub(crate) async fn connect(&self, id: HostnameId, at: EndpointId) -> Result<Progress, Finding> {
        let wanted = self.context.desired.hostname(id);
        let endpoint = self.context.desired.endpoint(at);
        self.listed(at)?;
        let fact = self.bindings.observe_served(id, at).await;
        let pins = self
            .hostnames
            .record_facts(id, |facts| {
                if let Some(fact) = fact {
                    facts.bindings.insert(endpoint.key(), fact);
                }
            })
            .await?;
        if pins.binding_at(at).is_in_force() {
            return Ok(Progress::Done);
        }
        let finding = pins.binding_at(at).findings.first().cloned();
        let finding =
            finding.unwrap_or_else(|| Finding::binding(&wanted.hostname, &endpoint.name, BindingCause::NotInForce));
        let what = format!("{} to serve the certificate", endpoint.name);
        let answers = matches!(finding.code(), Code::ServedCertificateDiffers | Code::ServedAnswerDiffers);
        let is_deployed_elsewhere = matches!(endpoint.driver, EndpointDriver::Http(_));
        let within = if answers && !is_deployed_elsewhere { SERVE_AT_ONCE } else { SERVE };
        Ok(Progress::NotYet(Wait { until: None, topic: "serve", what, within: Some(within), finding }))
    }
}
