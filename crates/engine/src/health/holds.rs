//! Endpoints that somebody takes out of answers, as for maintenance.

use std::collections::HashMap;

use jiff::Timestamp;
use pindrel_core::desired::{Desired, EndpointId};
use pindrel_core::judging::facts::Drained;
use pindrel_core::judging::findings::{EndpointCause, Finding};
use pindrel_state::{EndpointHold, Moment};

use crate::failure::EngineError;
use crate::health::Health;

/// An endpoint that is held out of answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointHoldReport {
    /// Its name in the manifest.
    pub endpoint: String,
    /// Since when.
    pub since: Timestamp,
    /// Until when; until it is released where nobody said.
    pub until: Option<Timestamp>,
    /// Why.
    pub because: String,
}

/// Returns the endpoints of the manifest that some holds are of: several may be the same one.
pub(crate) fn drained(
    desired: &Desired,
    holds: impl IntoIterator<Item = EndpointHold>,
) -> HashMap<EndpointId, Drained> {
    let mut held = HashMap::new();
    for EndpointHold { endpoint, until, because, .. } in holds {
        let same = desired.endpoint_ids().filter(|id| desired.endpoint(*id).key() == endpoint);
        held.extend(same.map(|id| (id, Drained { until, because: because.clone() })));
    }
    held
}

impl Health {
    fn endpoint_to_hold(&self, name: &str) -> Result<EndpointId, Finding> {
        self.context.desired.endpoint_named(name).ok_or_else(|| {
            let known = self.context.desired.endpoints.iter().map(|endpoint| endpoint.name.clone()).collect();
            Finding::endpoint(name, EndpointCause::NotInManifest { known })
        })
    }

    /// Takes an endpoint out of answers, from the next decision on.
    ///
    /// # Errors
    /// A [`Finding`], where there is no such endpoint or the state cannot be written.
    pub async fn hold_endpoint(&self, name: &str, until: Option<Timestamp>, because: &str) -> Result<(), Finding> {
        let id = self.endpoint_to_hold(name)?;
        let (endpoint, since) = (self.context.desired.endpoint(id).key(), self.context.clock.now());
        let hold = EndpointHold { endpoint, since, until, because: because.to_owned() };
        self.context.state.hold_endpoint(&hold).await.map_err(EngineError::from)?;
        self.context.journal(Moment::Done, "hold", name, because).await?;
        Ok(())
    }

    /// Gives an endpoint back; says whether it was held.
    ///
    /// # Errors
    /// A [`Finding`], where there is no such endpoint or the state cannot be written.
    pub async fn release_endpoint(&self, name: &str) -> Result<bool, Finding> {
        let id = self.endpoint_to_hold(name)?;
        let was_held = self
            .context
            .state
            .release_endpoint(&self.context.desired.endpoint(id).key())
            .await
            .map_err(EngineError::from)?;
        if was_held {
            self.context.journal(Moment::Done, "release", name, "given back to answers").await?;
        }
        Ok(was_held)
    }

    /// Returns the endpoints of the manifest that are held out of answers now.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn endpoint_holds(&self) -> Result<Vec<EndpointHoldReport>, EngineError> {
        let now = self.context.clock.now();
        let holds = self.context.state.endpoint_holds().await?;
        let in_force = holds.into_iter().filter(|hold| hold.is_in_force(now));
        let report = |hold: EndpointHold| {
            let id = self.context.desired.endpoint_at(&hold.endpoint)?;
            let endpoint = self.context.desired.endpoint(id).name.clone();
            Some(EndpointHoldReport { endpoint, since: hold.since, until: hold.until, because: hold.because })
        };
        Ok(in_force.filter_map(report).collect())
    }
}
