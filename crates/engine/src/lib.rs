//! Carries out what the core decides: looks at the world, takes the steps with journal
//! and limits, verifies each by looking again, and reports progress as events.
//!
//! ```text
//!   look ──▶ facts ──▶ core::pins ──▶ core::steps ──▶ carry ──▶ drivers
//!    ▲                                                  │
//!    └──────────────── verify by looking ◀──────────────┘
//! ```
//!
//! [`Engine::status`] looks and judges, [`Engine::plan`] says what would be done, and
//! [`Engine::settle`] does it. Nothing here prints: a [`Listener`] is told.

mod account;
mod advice;
mod budget;
mod carry;
mod certificates;
mod challenge;
mod deliver;
mod error;
mod events;
pub mod files;
mod home;
mod issue;
mod look;
mod preflight;
mod rehearse;
pub mod secrets;
mod settle;
mod waits;
mod world;

pub use account::{AccountReport, Registration};
pub use certificates::{
    CertificateDetails, CertificateReport, CertificateUse, ExportForm, ImportSummary, PastCertificate, RevocationKey,
    RevokeReason,
};
pub use error::{EngineError, StepFailure};
pub use events::{Event, Listener, Summary};
pub use home::Home;
pub use pindrel_keys::AccountKey;
pub use pindrel_keys::bundle::LooseFile;
pub use pindrel_state::{Lock, LockError, OrderEnd, OrderPhase};
pub use settle::{Aim, Plan, Scope, Stuck};

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::delivery::Undelivered;
use pindrel_core::desired::{AuthorityId, CertificateId, Desired, EndpointId, HostnameId, ZoneId};
use pindrel_core::facts::{EndpointView, Fact, HeldCertificate, HostnameFacts, Ownership, ZoneView};
use pindrel_core::name::{DnsName, Hostname};
use pindrel_core::pins::{Known, Pins};
use pindrel_dns::caa;
use pindrel_state::{HostnameRow, State};
use tokio::sync::OnceCell;

use crate::account::Account;
use crate::challenge::Place;
use crate::secrets::Vault;
use crate::waits::Waits;
use crate::world::World;

/// How many names of one certificate are looked at side by side.
const LOOKUPS_AT_ONCE: usize = 16;

/// What a run needs.
pub struct Setup {
    /// What should hold.
    pub desired: Desired,
    /// The folder of the manifest, which its paths are relative to.
    pub folder: PathBuf,
    /// What is remembered, and the key that seals the secrets in it.
    pub home: Home,
    /// How old a fact may be before it is looked at again, in seconds.
    pub max_age_secs: u64,
    /// How many steps and looks may be under way at once.
    pub at_once: usize,
    /// How long the servers of a zone may take to give a change alike.
    pub transfer_patience: Duration,
    /// Who is told what happens.
    pub listener: Arc<dyn Listener>,
}

/// One run over one manifest and one state.
pub struct Engine {
    desired: Desired,
    state: Arc<dyn State>,
    vault: Vault,
    world: World,
    max_age_secs: u64,
    at_once: usize,
    transfer_patience: Duration,
    listener: Arc<dyn Listener>,
    waits: Waits,
    waiting_requests: AtomicU64,
    lost_orders: AtomicU64,
    /// The accounts that orders are made with.
    accounts: Mutex<HashMap<AuthorityId, Arc<OnceCell<Arc<Account>>>>>,
    /// The CAA records that this run has looked up.
    caa: caa::Found,
    /// Whether the servers of every zone are known.
    zones_known: OnceCell<()>,
    /// Held while an order is checked against its limits and counted.
    spending: Mutex<()>,
    known: Mutex<Memory>,
}

/// What this run knows by now.
#[derive(Default)]
struct Memory {
    zones: HashMap<ZoneId, Fact<ZoneView>>,
    endpoints: HashMap<EndpointId, Fact<EndpointView>>,
    certificates: HashMap<CertificateId, Option<HeldCertificate>>,
    undelivered: HashMap<CertificateId, Undelivered>,
    /// Where the challenge records of a name belong.
    places: HashMap<DnsName, Place>,
    hostnames: HashMap<HostnameId, Remembered>,
}

#[derive(Clone, Default)]
struct Remembered {
    facts: HostnameFacts,
    ours: Ownership,
}

/// How one hostname stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameReport {
    /// The hostname.
    pub hostname: Hostname,
    /// The manifest's names of its endpoints.
    pub endpoints: Vec<String>,
    /// The judgement of each pin.
    pub pins: Pins,
    /// Words to filter by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

/// How all hostnames stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// When this was judged.
    pub at: Timestamp,
    /// One for each hostname, in the manifest's order.
    pub hostnames: Vec<HostnameReport>,
}

impl Engine {
    /// Prepares a run.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be used with this sealing key.
    pub fn open(setup: Setup) -> Result<Engine, EngineError> {
        let Home { state, sealing, .. } = setup.home;
        let vault = Vault::open(sealing, &*state)?;
        Ok(Engine {
            desired: setup.desired,
            state,
            vault,
            world: World::new(&setup.folder),
            max_age_secs: setup.max_age_secs,
            at_once: setup.at_once.max(1),
            transfer_patience: setup.transfer_patience,
            listener: setup.listener,
            waits: Waits::default(),
            waiting_requests: AtomicU64::new(0),
            lost_orders: AtomicU64::new(0),
            accounts: Mutex::default(),
            caa: caa::Found::default(),
            zones_known: OnceCell::new(),
            spending: Mutex::default(),
            known: Mutex::default(),
        })
    }

    /// Returns what should hold.
    pub fn desired(&self) -> &Desired {
        &self.desired
    }

    /// Judges some hostnames, looking again at what is older than the age allowed.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn status(&self, scope: &[HostnameId]) -> Result<Report, EngineError> {
        self.survey_stale(scope).await?;
        let at = Timestamp::now();
        let hostnames = scope.iter().map(|id| {
            let wanted = self.desired.hostname(*id);
            HostnameReport {
                hostname: wanted.hostname.clone(),
                endpoints: vec![self.desired.endpoint(wanted.endpoint).name.clone()],
                pins: self.judge(*id, at),
                labels: wanted.labels.clone(),
                note: wanted.note.clone(),
            }
        });
        Ok(Report { at, hostnames: hostnames.collect() })
    }

    fn memory(&self) -> std::sync::MutexGuard<'_, Memory> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Judges a hostname by what this run knows.
    fn judge(&self, id: HostnameId, now: Timestamp) -> Pins {
        self.with_known(id, |known| Pins::judge(known, now))
    }

    fn with_known<T>(&self, id: HostnameId, use_it: impl FnOnce(Known<'_>) -> T) -> T {
        let memory = self.memory();
        let wanted = self.desired.hostname(id);
        let nothing = Remembered::default();
        let remembered = memory.hostnames.get(&id).unwrap_or(&nothing);
        use_it(Known {
            desired: &self.desired,
            wanted,
            zone: memory.zones.get(&wanted.zone),
            endpoint: memory.endpoints.get(&wanted.endpoint),
            certificate: memory.certificates.get(&wanted.certificate).and_then(Option::as_ref),
            undelivered: memory.undelivered.get(&wanted.certificate),
            facts: &remembered.facts,
            ours: &remembered.ours,
        })
    }

    /// Changes what is remembered of a hostname's facts, and keeps and tells it.
    fn note(&self, id: HostnameId, change: impl FnOnce(&mut HostnameFacts)) -> Result<Pins, EngineError> {
        change(&mut self.memory().hostnames.entry(id).or_default().facts);
        self.keep(id)
    }

    /// Keeps what is known of a hostname, and tells how its pins stand.
    fn keep(&self, id: HostnameId) -> Result<Pins, EngineError> {
        let pins = self.judge(id, Timestamp::now());
        let wanted = self.desired.hostname(id);
        let row = {
            let memory = self.memory();
            let remembered = memory.hostnames.get(&id).cloned().unwrap_or_default();
            let facts = &remembered.facts;
            let seen = [
                memory.zones.get(&wanted.zone).map(|fact| fact.seen),
                facts.binding.as_ref().map(|fact| fact.seen),
                facts.alias.as_ref().map(|fact| fact.seen),
                facts.answer.as_ref().map(|fact| fact.seen),
            ];
            let oldest = seen.iter().map(|seen| seen.map_or(0, Timestamp::as_second)).min();
            let certificate = memory.certificates.get(&wanted.certificate).and_then(Option::as_ref);
            HostnameRow {
                hostname: wanted.hostname.clone(),
                wanted: self.desired.digests().of(id),
                held: pins.held(),
                seen_secs: oldest.unwrap_or(0),
                due_secs: certificate.map_or(0, |held| {
                    held.due_at(self.desired.certificate(wanted.certificate).terms.renewal).as_second()
                }),
                facts: remembered.facts,
                ours: remembered.ours,
            }
        };
        self.state.keep_hostname(&row)?;
        self.listener.on(Event::pins(&wanted.hostname, &pins));
        Ok(pins)
    }

    /// Changes what Pindrel counts as its own, and keeps it before anything is done.
    fn note_ours(&self, id: HostnameId, change: impl FnOnce(&mut Ownership)) -> Result<(), EngineError> {
        let ours = {
            let mut memory = self.memory();
            let remembered = memory.hostnames.entry(id).or_default();
            change(&mut remembered.ours);
            remembered.ours.clone()
        };
        Ok(self.state.keep_ours(&self.desired.hostname(id).hostname, &ours)?)
    }
}
