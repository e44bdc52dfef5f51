//! Connecting to an endpoint directly, until it serves the certificate that it was given.

use std::time::Duration;

use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::judging::findings::{BindingCause, Finding};

use crate::context::progress::{Progress, Wait};
use crate::execute::bind::Binder;

/// How long a deployed endpoint may go on serving the certificate before.
const SERVE: Duration = Duration::from_secs(60);

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
        Ok(Progress::NotYet(Wait {
            until: None,
            topic: "serve",
            what,
            within: Some(SERVE.min(self.context.bounds.patience)),
            finding,
        }))
    }
}
