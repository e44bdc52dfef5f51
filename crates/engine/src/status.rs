//! Looking and judging, changing nothing.

use std::collections::HashMap;

use jiff::Timestamp;
use pindrel_core::desired::HostnameId;
use pindrel_core::name::Hostname;
use pindrel_core::pins::Pins;

use crate::attempts::LastAttempt;
use crate::failure::EngineError;
use crate::run::Engine;

/// How one hostname is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameReport {
    /// The hostname.
    pub hostname: Hostname,
    /// The manifest's names of its endpoints.
    pub endpoints: Vec<String>,
    /// The judgement of each pin.
    pub pins: Pins,
    /// The last attempt at anything that it needs; one that did not succeed comes first.
    pub last_attempt: Option<LastAttempt>,
    /// Words to filter by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

/// How all hostnames are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// When this was judged.
    pub at: Timestamp,
    /// One for each hostname, in the manifest's order.
    pub hostnames: Vec<HostnameReport>,
}

impl Engine {
    /// Judges some hostnames, looking again at what is older than the age allowed.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn status(&self, scope: &[HostnameId]) -> Result<Report, EngineError> {
        self.survey_stale(scope).await?;
        let at = self.clock.now();
        let mut attempts: HashMap<HostnameId, LastAttempt> = self.last_attempts(scope).await?;
        let hostnames = scope.iter().map(|id| {
            let wanted = self.desired.hostname(*id);
            HostnameReport {
                hostname: wanted.hostname.clone(),
                endpoints: wanted.endpoints().map(|endpoint| self.desired.endpoint(endpoint).name.clone()).collect(),
                pins: self.judge(*id, at),
                last_attempt: attempts.remove(id),
                labels: wanted.labels.clone(),
                note: wanted.note.clone(),
            }
        });
        Ok(Report { at, hostnames: hostnames.collect() })
    }
}
