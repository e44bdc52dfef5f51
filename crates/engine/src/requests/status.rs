//! Looking and judging, changing nothing.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::health::Verdict;
use pindrel_core::health::policy::Reason;
use pindrel_core::judging::pins::{Known, Pins};
use pindrel_core::names::name::Hostname;

use crate::acme::Issuing;
use crate::context::Context;
use crate::context::scope::{LeftoverScope, Scope};
use crate::failure::EngineError;
use crate::health::Health;
use crate::observe::certificate::DeliveryObserver;
use crate::observe::endpoint::EndpointObserver;
use crate::observe::survey::Surveyor;
use crate::observe::zone::ZoneObserver;
use crate::requests::certificates::{CertificateReport, CertificateRequests};
use crate::requests::zones::ZoneRequests;
use crate::run::attempts::{Attempts, LastAttempt};
use crate::run::leftovers::{Leftover, Retirer};

/// What the alias of a hostname gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GivenReport {
    /// The manifest's names of the endpoints; never none.
    pub endpoints: Vec<String>,
    /// Since when, where it was changed from one endpoint to another.
    pub since: Option<Timestamp>,
    /// Why these.
    pub because: Reason,
    /// Those that it should give instead, and will once that is carried out; then `because` says why these.
    pub due: Vec<String>,
    /// Until when caches may give another answer, where that is known and not over.
    pub caches_until: Option<Timestamp>,
}

/// How one hostname is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameReport {
    /// The hostname.
    pub hostname: Hostname,
    /// The manifest's names of its endpoints.
    pub endpoints: Vec<String>,
    /// The judgement of each pin.
    pub pins: Pins,
    /// What its alias gives now; `None` where it leads to none of its endpoints.
    pub given: Option<GivenReport>,
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
    pub(crate) deliveries: Arc<DeliveryObserver>,
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
        self.report(scope, leftovers).await
    }

    /// Judges the same by what the state knows alone: nothing is looked at, however old that is.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn stored(&self, scope: &Scope) -> Result<Report, EngineError> {
        self.surveyor.load(&scope.hostnames).await?;
        let leftovers = match scope.leftovers {
            LeftoverScope::All => self.retirer.stored_leftovers(&self.retirer.unlisted().await?).await?,
            _ => Vec::new(),
        };
        self.report(scope, leftovers).await
    }

    async fn report(&self, scope: &Scope, leftovers: Vec<Leftover>) -> Result<Report, EngineError> {
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
                given: self.given(*id, at),
                health: self.health.verdict_of(*id),
                last_attempt: attempts.remove(id),
                labels: wanted.labels.clone(),
                note: wanted.note.clone(),
            }
        });
        Ok(Report { at, hostnames: hostnames.collect(), certificates, leftovers })
    }

    /// What the alias of a hostname gives, as its zone's first server says.
    fn given(&self, id: HostnameId, at: Timestamp) -> Option<GivenReport> {
        let (desired, known) = (&self.context.desired, self.context.known());
        let about = Known::about(desired, &known, id);
        let mut endpoints = about.aliased_at();
        let is_moving = endpoints.is_empty();
        if is_moving {
            endpoints = about.still_aliased_at();
        }
        if endpoints.is_empty() {
            return None;
        }
        let own = about.ownership;
        let forgotten = own.and_then(|own| own.former_alias).and_then(|former| former.forgotten_at());
        let names = |ids: &[EndpointId]| ids.iter().map(|id| desired.endpoint(*id).name.clone()).collect();
        let choice = about.decide(at);
        let because = choice.as_ref().map_or(Reason::Only, |choice| choice.reason);
        let chosen = choice.map(|choice| choice.give).or_else(|| is_moving.then(|| about.given()));
        let due = chosen.filter(|due| *due != endpoints);
        Some(GivenReport {
            endpoints: names(&endpoints),
            since: own.and_then(|own| own.switched),
            because: if is_moving { Reason::Moving } else { because },
            due: due.map_or_else(Vec::new, |due| names(&due)),
            // Until it moves, what changes is the TTL alone.
            caches_until: forgotten.filter(|until| *until > at && !is_moving),
        })
    }
}
