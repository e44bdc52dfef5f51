//! What every part of a run shares: what should hold, what is known, and the way to the world.

pub(crate) mod claims;
mod journal;
pub(crate) mod progress;
pub(crate) mod scope;
pub(crate) mod waits;

use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, Desired, EndpointId, HostnameId, ZoneId};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::facts::{EndpointView, Fact, HeldCertificate, Knowledge, Ownership, ZoneView, is_fresh};
use pindrel_core::judging::pins::{Known, PinReport, Pins, judge_certificate};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::moves::former_endpoint_ids;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::text::display_text::one_line;
use pindrel_state::State;

use crate::drivers::{Clock, Drivers};
use crate::events::{Event, Listener};
use crate::home::Home;
use crate::home::leases::Leases;
use crate::home::secrets::Vault;
use waits::Waits;

/// What bounds one run.
#[derive(Debug, Clone, Copy)]
pub struct Bounds {
    /// How old a fact may be before it is looked at again, in seconds.
    pub max_age_secs: u64,
    /// How many steps and looks may be under way at once.
    pub at_once: usize,
    /// How long the run waits for any one thing.
    pub patience: Duration,
    /// Whether aliases move without waiting until no cache has them under their old TTL.
    pub skip_ttl_wait: bool,
}

/// What a run needs.
pub struct Setup {
    /// What should hold.
    pub desired: Arc<Desired>,
    /// The folder of the manifest, which its paths are relative to.
    pub folder: PathBuf,
    /// What is remembered, and the key that seals the secrets in it.
    pub home: Home,
    /// What bounds the run.
    pub bounds: Bounds,
    /// Receives the events.
    pub listener: Arc<dyn Listener>,
    /// The way to the world.
    pub drivers: Arc<dyn Drivers>,
    /// The time.
    pub clock: Arc<dyn Clock>,
    /// What was typed, as in `settle`: the list of runs names it, and other processes that wait for this one.
    pub command: String,
}

/// One run over one manifest and one state. It makes no decision: the parts that do read and write it.
pub(crate) struct Context {
    pub(crate) desired: Arc<Desired>,
    pub(crate) folder: PathBuf,
    pub(crate) command: String,
    pub(crate) state: Arc<dyn State>,
    pub(crate) vault: Vault,
    pub(crate) drivers: Arc<dyn Drivers>,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) listener: Arc<dyn Listener>,
    pub(crate) bounds: Bounds,
    pub(crate) knowledge: Mutex<Knowledge>,
    pub(crate) leases: Arc<Leases>,
    pub(crate) waits: Waits,
}

impl Context {
    /// An endpoint, where its platform lists it.
    pub(crate) fn endpoint_info(&self, id: EndpointId) -> Option<EndpointInfo> {
        match &self.known().endpoints.get(&id)?.value {
            EndpointView::Listed(info) => Some((**info).clone()),
            _ => None,
        }
    }

    pub(crate) fn is_fresh(&self, seen_secs: i64, now: Timestamp) -> bool {
        let seen = Timestamp::from_second(seen_secs).unwrap_or(Timestamp::UNIX_EPOCH);
        is_fresh(seen, now, self.bounds.max_age_secs)
    }

    /// The endpoints of the manifest where a hostname is still bound and no longer wanted.
    pub(crate) fn former_endpoints_of(&self, id: HostnameId) -> Vec<EndpointId> {
        let known = self.known();
        let own = known.hostnames.get(&id).map(|own| &own.ownership);
        own.map_or_else(Vec::new, |own| former_endpoint_ids(&self.desired, self.desired.hostname(id), own))
    }

    /// What this run knows by now.
    pub(crate) fn known(&self) -> MutexGuard<'_, Knowledge> {
        self.knowledge.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Judges a hostname by what this run knows.
    pub(crate) fn judge(&self, id: HostnameId, now: Timestamp) -> Pins {
        Pins::judge(Known::about(&self.desired, &self.known(), id), now)
    }

    /// Judges a certificate by what this run knows.
    pub(crate) fn judge_certificate(&self, id: CertificateId, now: Timestamp) -> PinReport {
        let known = self.known();
        judge_certificate(
            &self.desired,
            self.desired.certificate(id),
            known.certificate(id),
            known.undelivered.get(&id),
            now,
        )
    }

    pub(crate) fn held_certificate(&self, id: CertificateId) -> Option<HeldCertificate> {
        self.known().certificate(id).cloned()
    }

    pub(crate) fn zone_fact(&self, id: ZoneId) -> Option<Fact<ZoneView>> {
        self.known().zones.get(&id).cloned()
    }

    /// The hostname that is meant.
    pub(crate) fn hostname_of(&self, whose: HostnameRef) -> Hostname {
        match whose {
            HostnameRef::Wanted(id) => self.desired.hostname(id).hostname.clone(),
            HostnameRef::Retiring(id) => self.known().retiring(id).hostname.clone(),
        }
    }

    /// What Pindrel counts as its own of a hostname.
    pub(crate) fn ownership_of(&self, whose: HostnameRef) -> Ownership {
        let known = self.known();
        match whose {
            HostnameRef::Wanted(id) => known.hostnames.get(&id).map(|own| own.ownership.clone()).unwrap_or_default(),
            HostnameRef::Retiring(id) => known.retiring(id).known.ownership.clone(),
        }
    }

    pub(crate) fn note(&self, says: impl Into<String>) {
        self.listener.on(Event::Note { says: one_line(says) });
    }

    /// Tells what is waited for, and when that is over at the latest.
    pub(crate) fn emit_waiting(
        &self,
        hostname: &Hostname,
        action: &'static str,
        what: impl Into<String>,
        until: Option<Timestamp>,
    ) {
        self.listener.on(Event::Waiting { hostname: hostname.clone(), action, what: one_line(what), until });
    }
}
