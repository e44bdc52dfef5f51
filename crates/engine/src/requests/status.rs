//! Looking and judging, changing nothing.

use std::collections::HashMap;

use jiff::Timestamp;
use pindrel_core::desired::HostnameId;
use pindrel_core::health::Verdict;
use pindrel_core::judging::pins::Pins;
use pindrel_core::names::name::Hostname;

use crate::failure::EngineError;
use crate::requests::certificates::CertificateReport;
use crate::run::Engine;
use crate::run::attempts::LastAttempt;
use crate::run::leftovers::Leftover;
use crate::run::settle::{LeftoverScope, Scope};

/// How one hostname is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameReport {
    /// The hostname.
    pub hostname: Hostname,
    /// The manifest's names of its endpoints.
    pub endpoints: Vec<String>,
    /// The judgement of each pin.
    pub pins: Pins,
    /// How well the endpoints work that its alias gives, where anything checks them.
    pub health: Verdict,
    /// The last attempt at anything that it needs; one that did not succeed comes first.
    pub last_attempt: Option<LastAttempt>,
    /// Words to filter by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

/// How everything is that the manifest names, and what is left of what it no longer names.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// When this was judged.
    pub at: Timestamp,
    /// One for each hostname, in the manifest's order.
    pub hostnames: Vec<HostnameReport>,
    /// One for each certificate that no hostname uses.
    pub certificates: Vec<CertificateReport>,
    /// What is still there of hostnames that the manifest no longer names.
    pub leftovers: Vec<Leftover>,
}

impl Report {
    /// Returns how many hostnames and certificates are held.
    pub fn held(&self) -> usize {
        let hostnames = self.hostnames.iter().filter(|row| row.pins.held()).count();
        hostnames + self.certificates.iter().filter(|row| row.is_held()).count()
    }

    /// Returns how many hostnames and certificates there are.
    pub fn total(&self) -> usize {
        self.hostnames.len() + self.certificates.len()
    }
}

impl Engine {
    /// Judges some hostnames and certificates, looking again at what is older than the age
    /// allowed. Leftovers belong to no scope but the whole manifest.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn status(&self, scope: &Scope) -> Result<Report, EngineError> {
        self.survey_stale(&scope.hostnames).await?;
        let leftovers = if scope.leftovers == LeftoverScope::All {
            self.leftovers(&self.unlisted().await?, false).await?
        } else {
            Vec::new()
        };
        let at = self.clock.now();
        let certificates = self.unused_certificate_reports(&scope.certificates, at).await?;
        self.load_health().await?;
        let mut attempts: HashMap<HostnameId, LastAttempt> = self.last_attempts(&scope.hostnames).await?;
        let hostnames = scope.hostnames.iter().map(|id| {
            let wanted = self.desired.hostname(*id);
            HostnameReport {
                hostname: wanted.hostname.clone(),
                endpoints: wanted.endpoints().map(|endpoint| self.desired.endpoint(endpoint).name.clone()).collect(),
                pins: self.judge(*id, at),
                health: self.health_of(*id),
                last_attempt: attempts.remove(id),
                labels: wanted.labels.clone(),
                note: wanted.note.clone(),
            }
        });
        Ok(Report { at, hostnames: hostnames.collect(), certificates, leftovers })
    }
}
