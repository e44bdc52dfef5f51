//! The context that every part of a run shares.

pub(crate) mod attempts;
pub(crate) mod leftovers;
pub(crate) mod runs;
pub(crate) mod settle;
pub(crate) mod stores;
pub(crate) mod waits;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::desired::{AuthorityId, CertificateId, CheckId, Desired, Digests, HostnameId, ZoneId};
use pindrel_core::health::CheckRecord;
use pindrel_core::judging::facts::{Fact, HeldCertificate, HostnameKnowledge, Knowledge, Ownership, ZoneView};
use pindrel_core::judging::findings::Finding;
use pindrel_core::judging::pins::{Known, PinReport, Pins, judge_certificate};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::text::display_text::one_line;
use pindrel_state::{Attempt, Claim, Entry, HostnameRow, Moment, State};
use tokio::sync::{OnceCell, Semaphore};

use crate::acme::accounts::OpenAccounts;
use crate::acme::orders::OrdersInProgress;
use crate::drivers::{Authority, Clock, Drivers};
use crate::events::{Event, Listener};
use crate::failure::{EngineError, state_failed};
use crate::home::Home;
use crate::home::leases::{Granted, Held, Leases, busy};
use crate::home::secrets::Vault;
use crate::observe::dependents::Dependents;
use crate::run::runs::RunRecord;
use crate::run::waits::Waits;

/// How long it takes until it is looked again at what another process is working on.
const CLAIM_AGAIN: Duration = Duration::from_millis(500);

/// How many orders may be asked for before an authority has answered.
const ASKING_AT_ONCE: usize = 2;

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
    /// Who is told what happens.
    pub listener: Arc<dyn Listener>,
    /// The way to the world.
    pub drivers: Arc<dyn Drivers>,
    /// The time.
    pub clock: Arc<dyn Clock>,
}

/// One run over one manifest and one state.
pub struct Engine {
    pub(crate) desired: Arc<Desired>,
    pub(crate) digests: Digests,
    pub(crate) folder: PathBuf,
    pub(crate) state: Arc<dyn State>,
    pub(crate) vault: Vault,
    pub(crate) drivers: Arc<dyn Drivers>,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) listener: Arc<dyn Listener>,
    pub(crate) bounds: Bounds,
    pub(crate) leases: Arc<Leases>,
    pub(crate) waits: Waits,
    pub(crate) waiting_requests: AtomicU64,
    pub(crate) lost_orders: AtomicU64,
    knowledge: Mutex<Knowledge>,
    /// The connections to authorities, each made when first needed.
    authorities: Vec<OnceCell<Arc<dyn Authority>>>,
    pub(crate) accounts: OpenAccounts,
    pub(crate) orders: OrdersInProgress,
    /// Bounds how many orders are open at authorities.
    pub(crate) order_slots: Semaphore,
    /// Bounds how many orders are asked for before an authority has answered: when it takes none,
    /// no more than these have heard so.
    pub(crate) asking: Semaphore,
    /// Whether the servers of every zone are known.
    pub(crate) zones_known: OnceCell<()>,
    /// What leads to the hostnames of each zone, read once a run where somebody else's records stand in the way.
    pub(crate) dependents: tokio::sync::Mutex<HashMap<ZoneId, Arc<OnceCell<Arc<Dependents>>>>>,
    /// Whether what was concluded about health is known.
    pub(crate) health_known: OnceCell<()>,
    /// Whether somebody else makes the checks and switches aliases from one endpoint of a hostname to another.
    without_failover: bool,
    /// When the primaries of zones took the last change of each alias.
    pub(crate) aliases_written: Mutex<HashMap<HostnameId, Timestamp>>,
    /// What this run changes.
    pub(crate) record: RunRecord,
}

impl Engine {
    /// Prepares a run.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be used with this sealing key.
    pub async fn open(setup: Setup) -> Result<Engine, EngineError> {
        let Setup { desired, folder, home, bounds, listener, drivers, clock } = setup;
        let Home { state, sealing, leases } = home;
        let vault = Vault::open(sealing, &*state).await?;
        let bounds = Bounds { at_once: bounds.at_once.max(1), ..bounds };
        let authorities = desired.authorities.iter().map(|_| OnceCell::new()).collect();
        Ok(Engine {
            digests: desired.digests(),
            desired,
            folder,
            state,
            vault,
            drivers,
            leases,
            clock,
            listener,
            bounds,
            waits: Waits::default(),
            waiting_requests: AtomicU64::new(0),
            lost_orders: AtomicU64::new(0),
            knowledge: Mutex::default(),
            authorities,
            accounts: OpenAccounts::default(),
            orders: OrdersInProgress::default(),
            order_slots: Semaphore::new(bounds.at_once),
            asking: Semaphore::new(ASKING_AT_ONCE),
            zones_known: OnceCell::new(),
            dependents: tokio::sync::Mutex::default(),
            health_known: OnceCell::new(),
            without_failover: false,
            aliases_written: Mutex::default(),
            record: RunRecord::default(),
        })
    }

    /// Leaves checks, and switches from one endpoint of a hostname to another, to whoever else makes them and has
    /// concluded this; of other checks the state knows what was concluded.
    pub(crate) async fn without_failover(self, verdicts: HashMap<CheckId, CheckRecord>) -> Result<Engine, EngineError> {
        self.load_health().await?;
        self.known().verdicts.extend(verdicts);
        Ok(Engine { without_failover: true, ..self })
    }

    /// Says whether somebody else makes checks and switches aliases.
    pub(crate) fn is_without_failover(&self) -> bool {
        self.without_failover
    }

    /// Takes what is known of health for all that there is to know.
    pub(crate) fn know_health(&self) {
        // A cell that is set already is as good.
        let _ = self.health_known.set(());
    }

    /// When the primary of its zone took the last change of an alias.
    pub(crate) fn alias_written(&self, id: HostnameId) -> Option<Timestamp> {
        self.aliases_written.lock().unwrap_or_else(PoisonError::into_inner).get(&id).copied()
    }

    /// Returns what should hold.
    pub fn desired(&self) -> &Desired {
        &self.desired
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

    /// Stores what is known of a hostname, and tells how its pins are.
    pub(crate) async fn persist_hostname(&self, id: HostnameId) -> Result<Pins, EngineError> {
        self.follow_switches(id).await?;
        let pins = self.judge(id, self.clock.now());
        let wanted = self.desired.hostname(id);
        let row = {
            let known = self.known();
            let own = known.hostnames.get(&id).cloned().unwrap_or_default();
            let facts = &own.facts;
            let mut seen = vec![
                known.zones.get(&wanted.zone).map(|fact| fact.seen),
                facts.alias.as_ref().map(|fact| fact.seen),
                facts.answer.as_ref().map(|fact| fact.seen),
            ];
            for endpoint in wanted.endpoints() {
                let key = self.desired.endpoint(endpoint).key();
                seen.push(facts.bindings.get(&key).map(|fact| fact.seen));
            }
            let oldest = seen.into_iter().map(|seen| seen.map_or(0, Timestamp::as_second)).min();
            HostnameRow {
                hostname: wanted.hostname.clone(),
                wanted: self.digests.of(&self.desired, id),
                held: pins.held(),
                seen_secs: oldest.unwrap_or(0),
                due_secs: known.certificate(wanted.certificate).map_or(0, |held| {
                    held.due_at(self.desired.certificate(wanted.certificate).terms.renewal).as_second()
                }),
                facts: own.facts,
                ownership: own.ownership,
            }
        };
        self.state.persist_hostnames(vec![row]).await?;
        self.listener.on(Event::pins(&wanted.hostname, &pins));
        Ok(pins)
    }

    /// Changes what Pindrel counts as its own, and stores it before anything is done. The change is made to what the
    /// state has at that moment: another run may have changed another part of it.
    pub(crate) async fn record_ownership(
        &self,
        claim: &Claim,
        id: HostnameId,
        change: impl Fn(&mut Ownership) + Sync,
    ) -> Result<(), EngineError> {
        let hostname = &self.desired.hostname(id).hostname;
        let known = self.known().hostnames.entry(id).or_default().clone();
        let stored = self.change_ownership(claim, hostname, &known, &change).await?;
        self.known().hostnames.entry(id).or_default().ownership = stored;
        Ok(())
    }

    async fn change_ownership(
        &self,
        claim: &Claim,
        hostname: &Hostname,
        known: &HostnameKnowledge,
        change: &(dyn Fn(&mut Ownership) + Sync),
    ) -> Result<Ownership, EngineError> {
        let mut after = known.ownership.clone();
        change(&mut after);
        self.record_before(hostname, &known.facts, &known.ownership, &after).await?;
        Ok(self.state.change_ownership(claim, hostname, change).await?)
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

    /// The same as [`Engine::record_ownership`] for any hostname.
    pub(crate) async fn record_ownership_of(
        &self,
        claim: &Claim,
        whose: HostnameRef,
        change: impl Fn(&mut Ownership) + Sync,
    ) -> Result<(), EngineError> {
        let id = match whose {
            HostnameRef::Wanted(id) => return self.record_ownership(claim, id, change).await,
            HostnameRef::Retiring(id) => id,
        };
        let retiring = self.known().retiring[id.0 as usize].clone();
        let stored = self.change_ownership(claim, &retiring.hostname, &retiring.known, &change).await?;
        self.known().retiring[id.0 as usize].known.ownership = stored;
        Ok(())
    }

    /// The connection to an authority; several that need it at once wait for one.
    pub(crate) async fn authority(&self, id: AuthorityId) -> Result<Arc<dyn Authority>, Finding> {
        let cell = &self.authorities[id.0 as usize];
        cell.get_or_try_init(|| self.drivers.authority(self.desired.authority(id))).await.cloned()
    }

    /// How many signed requests went to authorities.
    pub(crate) fn signed_requests(&self) -> u64 {
        self.authorities.iter().filter_map(|cell| cell.get()).map(|authority| authority.signed()).sum()
    }

    /// Enters this process among those that work on the state.
    pub(crate) async fn enter(&self) -> Result<(), EngineError> {
        Ok(self.leases.enter(self.record.command(), &self.clock).await?)
    }

    /// Asks for a claim.
    pub(crate) async fn claim(&self, key: &str) -> Result<Granted, Finding> {
        self.leases.claim(key, self.record.command(), &self.clock).await.map_err(state_failed)
    }

    /// Works on something under a claim on it; what another process is working on is waited for.
    pub(crate) async fn claimed<T>(
        &self,
        key: &str,
        work: impl AsyncFnOnce(&Claim) -> Result<T, Finding>,
    ) -> Result<T, Finding> {
        self.claim_in_time(key).await?.during(work).await
    }

    /// Works on something under a claim on it, unless another process is working on it.
    pub(crate) async fn claimed_if_free(
        &self,
        key: &str,
        work: impl AsyncFnOnce(&Claim) -> Result<(), Finding>,
    ) -> Result<(), Finding> {
        match self.claim(key).await? {
            Granted::Yes(held) => held.during(work).await,
            Granted::HeldBy(_) => Ok(()),
        }
    }

    /// Waits for a claim for as long as the run has patience.
    pub(crate) async fn claim_in_time(&self, key: &str) -> Result<Held, Finding> {
        let begun = self.clock.elapsed();
        loop {
            let released = self.leases.next_release();
            let worker = match self.claim(key).await? {
                Granted::Yes(held) => return Ok(held),
                Granted::HeldBy(worker) => worker,
            };
            if self.clock.elapsed().saturating_sub(begun) >= self.bounds.patience {
                return Err(busy(key, &worker));
            }
            tokio::select! {
                () = released => {}
                () = self.clock.sleep(CLAIM_AGAIN) => {}
            }
        }
    }

    /// Writes an entry of the journal; where a step ends, with the attempt that it was.
    pub(crate) async fn journal_with(
        &self,
        moment: Moment,
        action: &str,
        subject: &str,
        detail: impl Into<String>,
        attempt: Option<&Attempt>,
    ) -> Result<(), EngineError> {
        let detail = detail.into();
        tracing::debug!(?moment, action, subject, detail, "journal");
        let (action, subject) = (action.to_owned(), subject.to_owned());
        let entry = Entry { at: self.clock.now(), moment, action, subject, detail };
        Ok(self.state.journal(&entry, attempt).await?)
    }

    pub(crate) async fn journal(
        &self,
        moment: Moment,
        action: &str,
        subject: &str,
        detail: impl Into<String>,
    ) -> Result<(), EngineError> {
        self.journal_with(moment, action, subject, detail, None).await
    }

    /// Does something between two entries of the journal: that it begins, and how it ended.
    pub(crate) async fn journalled<T>(
        &self,
        action: &str,
        subject: &str,
        detail: &str,
        work: impl Future<Output = Result<T, Finding>>,
    ) -> Result<T, Finding> {
        self.journal(Moment::Begun, action, subject, detail).await?;
        let ended = work.await;
        let written = self.journal_end(action, subject, ended.as_ref().map(|_| detail)).await;
        let done = ended?;
        written?;
        Ok(done)
    }

    /// Writes how something ended that the journal has as begun.
    pub(crate) async fn journal_end(
        &self,
        action: &str,
        subject: &str,
        ended: Result<&str, &Finding>,
    ) -> Result<(), EngineError> {
        match ended {
            Ok(detail) => self.journal(Moment::Done, action, subject, detail).await,
            Err(finding) => self.journal(Moment::Failed, action, subject, finding.says.as_str()).await,
        }
    }

    /// Returns entries of the journal, the oldest first.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn journal_entries(&self, filter: &pindrel_state::JournalFilter) -> Result<Vec<Entry>, EngineError> {
        Ok(self.state.journal_entries(filter).await?)
    }

    pub(crate) fn note(&self, says: impl Into<String>) {
        self.listener.on(Event::Note { says: one_line(says) });
    }

    pub(crate) fn emit_waiting(&self, hostname: &Hostname, action: &'static str, what: impl Into<String>) {
        self.listener.on(Event::Waiting { hostname: hostname.clone(), action, what: one_line(what) });
    }

    pub(crate) fn count_waiting_requests(&self, count: usize) {
        self.waiting_requests.fetch_add(count as u64, Ordering::Relaxed);
    }
}

/// Writes hostnames for a sentence.
pub(crate) fn names(hostnames: &[Hostname]) -> String {
    hostnames.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ")
}
