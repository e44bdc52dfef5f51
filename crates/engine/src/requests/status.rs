//! Looking and judging, changing nothing.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::HostnameId;
use pindrel_core::health::Verdict;
use pindrel_core::judging::pins::Pins;
use pindrel_core::names::name::Hostname;

use crate::acme::Issuing;
use crate::context::Context;
use crate::context::scope::{LeftoverScope, Scope};
use crate::failure::EngineError;
use crate::health::Health;
use crate::observe::endpoint::EndpointObserver;
use crate::observe::survey::Surveyor;
use crate::observe::zone::ZoneObserver;
use crate::requests::certificates::{CertificateReport, CertificateRequests};
use crate::requests::zones::ZoneRequests;
use crate::run::attempts::{Attempts, LastAttempt};
use crate::run::leftovers::{Leftover, Retirer};

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

/// What a person asks about all of a manifest.
pub struct Reports {
    pub(crate) context: Arc<Context>,
    pub(crate) attempts: Arc<Attempts>,
    pub(crate) certificate_requests: Arc<CertificateRequests>,
    pub(crate) endpoints: Arc<EndpointObserver>,
    pub(crate) health: Arc<Health>,
    pub(crate) issuing: Arc<Issuing>,
    pub(crate) retirer: Arc<Retirer>,
    pub(crate) surveyor: Arc<Surveyor>,
    pub(crate) zones: Arc<ZoneObserver>,
    pub(crate) zone_requests: Arc<ZoneRequests>,
}

impl Reports {
    /// Judges some hostnames and certificates, looking again at what is older than the age
    /// allowed. Leftovers belong to no scope but the whole manifest.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn status(&self, scope: &Scope) -> Result<Report, EngineError> {
        self.surveyor.survey_stale(&scope.hostnames).await?;
        let leftovers = if scope.leftovers == LeftoverScope::All {
            self.retirer.leftovers(&self.retirer.unlisted().await?, false).await?
        } else {
            Vec::new()
        };
        let at = self.context.clock.now();
        let certificates = self.certificate_requests.unused_certificate_reports(&scope.certificates, at).await?;
        self.health.load().await?;
        let mut attempts: HashMap<HostnameId, LastAttempt> = self.attempts.last(&scope.hostnames).await?;
        let hostnames = scope.hostnames.iter().map(|id| {
            let wanted = self.context.desired.hostname(*id);
            HostnameReport {
                hostname: wanted.hostname.clone(),
                endpoints: wanted
                    .endpoints()
                    .map(|endpoint| self.context.desired.endpoint(endpoint).name.clone())
                    .collect(),
                pins: self.context.judge(*id, at),
                health: self.health.verdict_of(*id),
                last_attempt: attempts.remove(id),
                labels: wanted.labels.clone(),
                note: wanted.note.clone(),
            }
        });
        Ok(Report { at, hostnames: hostnames.collect(), certificates, leftovers })
    }
}
