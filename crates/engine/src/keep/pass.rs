//! A pass: what is due is settled, and the next few hostnames are looked at.

use std::sync::{Mutex, PoisonError};

use pindrel_core::name::Hostname;

use super::schedule::retry_pause;
use super::*;
use crate::events::Summary;
use crate::settle::{Aim, LeftoverScope};

/// From when on a certificate that is not renewed is tried for more often.
const URGENT: SignedDuration = SignedDuration::from_hours(48);
/// The most hostnames of one pass, so that none waits long for the next.
const MOST_AT_ONCE: usize = 5_000;

/// What is tried again, and when.
#[derive(Default)]
pub(super) struct Retries {
    /// By hostname: how often in a row it was not held, and when it is tried again.
    next: HashMap<HostnameId, (u32, Duration)>,
    /// The same for certificates that no hostname uses.
    certificates: HashMap<CertificateId, (u32, Duration)>,
}

/// The hostnames whose turn it is, and what is due beside them.
pub(super) struct Turn {
    pub(super) generation: u64,
    pub(super) hostnames: BTreeSet<HostnameId>,
    /// The names of certificates.
    pub(super) due: HashSet<String>,
}

/// How a pass ended.
pub(super) struct PassEnd {
    generation: u64,
    scope: Scope,
    summary: Result<Summary, EngineError>,
    /// Whether another run had the lock.
    was_locked: bool,
    stuck: Vec<(Hostname, Option<Timestamp>)>,
    known: Knowledge,
    trusted: HashMap<CertificateId, Trusted>,
}

/// Passes on what a pass tells, and notes who is stuck.
struct PassListener {
    inner: Arc<dyn Listener>,
    stuck: Mutex<Vec<(Hostname, Option<Timestamp>)>>,
}

impl Listener for PassListener {
    fn on(&self, event: Event) {
        if let Event::Stuck { hostname, next, .. } = &event {
            self.stuck.lock().unwrap_or_else(PoisonError::into_inner).push((hostname.clone(), *next));
        }
        match event {
            // A pass is no run of its own: what it looked at is no news.
            Event::Looking { .. } | Event::Planned { .. } | Event::Pins { .. } => {}
            Event::Summary(summary) => self.inner.on(Event::Passed(summary)),
            event => self.inner.on(event),
        }
    }
}

impl Keeper {
    /// Begins a pass over what is due, and over the hostnames whose turn it is.
    pub(super) fn next_pass(&mut self, in_turn: bool) {
        if !self.passing.is_empty() || self.sent.contains(&Errand::Due) {
            // What is due is seen to by the one that follows.
            return;
        }
        let count = self.desired.hostnames.len();
        let share = if in_turn { count.div_ceil(usize::try_from(PARTS).unwrap_or(1)) } else { 0 };
        let mut hostnames: BTreeSet<HostnameId> = BTreeSet::new();
        for _ in 0..share.min(count) {
            hostnames.insert(HostnameId((self.cursor % count) as u32));
            self.cursor = (self.cursor + 1) % count;
        }
        self.read_due(hostnames);
    }

    /// Begins the pass of a turn, now that it is known what is due.
    pub(super) fn take_turn(&mut self, turn: Turn) {
        let Turn { generation, mut hostnames, due } = turn;
        if generation != self.generation || !self.passing.is_empty() {
            return;
        }
        let now = self.kit.clock.elapsed();
        let is_due = |id: &CertificateId| due.contains(&self.desired.certificate(*id).name);
        let due: HashSet<CertificateId> = match due.is_empty() {
            true => HashSet::new(),
            false => self.desired.certificate_ids().filter(is_due).collect(),
        };
        let mut certificates: BTreeSet<CertificateId> = BTreeSet::new();
        if !due.is_empty() {
            let unused: HashSet<CertificateId> = self.desired.unused_certificates().into_iter().collect();
            certificates.extend(due.iter().filter(|id| unused.contains(id)));
            let uses = |id: &HostnameId| due.contains(&self.desired.hostname(*id).certificate);
            hostnames.extend(self.desired.hostname_ids().filter(uses).take(MOST_AT_ONCE));
        }
        // What failed waits for its time, and is taken up then, whoever's turn it is.
        let is_due = |(_, at): &(u32, Duration)| *at <= now;
        hostnames.retain(|id| self.retries.next.get(id).is_none_or(is_due));
        hostnames.extend(self.retries.next.iter().filter(|(_, own)| is_due(own)).map(|(id, _)| *id));
        certificates.retain(|id| self.retries.certificates.get(id).is_none_or(is_due));
        certificates.extend(self.retries.certificates.iter().filter(|(_, own)| is_due(own)).map(|(id, _)| *id));
        hostnames.retain(|id| !self.is_switching(*id));
        if hostnames.is_empty() && certificates.is_empty() {
            return;
        }
        let (hostnames, certificates) = (hostnames.into_iter().collect(), certificates.into_iter().collect());
        self.begin_pass(Scope { hostnames, certificates, leftovers: LeftoverScope::None });
    }

    pub(super) fn begin_pass(&mut self, scope: Scope) {
        let (kit, desired, generation) = (self.kit.clone(), self.desired.clone(), self.generation);
        let verdicts = self.known.verdicts.clone();
        let issuers: BTreeSet<CertificateId> = desired.checks.iter().filter_map(crate::health::issuer).collect();
        self.passing.spawn(async move {
            let inner = kit.listener.clone();
            let listener = Arc::new(PassListener { inner, stuck: Mutex::default() });
            let bounds = Bounds { max_age_secs: 0, patience: kit.bounds.patience.min(PASS_PATIENCE), ..kit.bounds };
            let mut end = PassEnd {
                generation,
                scope,
                summary: Ok(Summary::default()),
                was_locked: false,
                stuck: Vec::new(),
                known: Knowledge::default(),
                trusted: HashMap::new(),
            };
            let lock = match kit.home.lock("keep", Duration::ZERO).await {
                Ok(lock) => lock,
                Err(error) => {
                    if !matches!(error, LockError::Held { .. }) {
                        tracing::warn!(%error, "the lock of the state cannot be taken");
                    }
                    end.was_locked = true;
                    return end;
                }
            };
            let settling = async {
                let engine = kit.engine(&desired, listener.clone(), bounds).await?.leaving_switches(verdicts);
                let summary = engine.settle(&end.scope, Aim::Hold).await?;
                end.trusted = engine.trusted_issuers(issuers).await?;
                end.known = engine.known().clone();
                Ok(summary)
            };
            end.summary = guarded("a pass", settling).await.unwrap_or(Err(EngineError::Fault));
            drop(lock);
            end.stuck = std::mem::take(&mut *listener.stuck.lock().unwrap_or_else(PoisonError::into_inner));
            end
        });
    }

    pub(super) fn passed(&mut self, end: PassEnd) {
        let PassEnd { generation, scope, summary, was_locked, stuck, known, trusted } = end;
        let (now, elapsed) = (self.kit.clock.now(), self.kit.clock.elapsed());
        if generation != self.generation {
            return;
        }
        let retry = |at: Duration| (1, elapsed + at);
        if was_locked {
            // Another run is at work: it is tried again soon.
            self.retries.next.extend(scope.hostnames.iter().map(|id| (*id, retry(LOCKED))));
            self.retries.certificates.extend(scope.certificates.iter().map(|id| (*id, retry(LOCKED))));
            self.schedule.add(elapsed + LOCKED, Task::Retry);
            return;
        }
        self.trusted.extend(trusted);
        if let Err(error) = summary {
            self.note(format!("a pass could not be made: {error}"));
            self.retries.next.extend(scope.hostnames.iter().map(|id| (*id, retry(Duration::from_secs(60)))));
            self.retries.certificates.extend(scope.certificates.iter().map(|id| (*id, retry(Duration::from_secs(60)))));
            return;
        }
        self.summary.passes += 1;
        let stuck: HashMap<Hostname, Option<Timestamp>> = stuck.into_iter().collect();
        let is_urgent = |certificate: CertificateId| {
            known.certificate(certificate).is_some_and(|held| held.not_after.duration_since(now) < URGENT)
        };
        let pause = |name: &str, failures: u32, certificate, next: Option<Timestamp>| {
            let grown = retry_pause(name, failures, is_urgent(certificate));
            // A time that a peer has named is kept to, and not waited beyond.
            match next.map(|at| Duration::try_from(at.duration_since(now)).unwrap_or_default()) {
                Some(named) => named.max(Duration::from_secs(1)),
                None => grown,
            }
        };
        for id in &scope.hostnames {
            let wanted = self.desired.hostname(*id);
            match stuck.get(&wanted.hostname) {
                None => {
                    self.retries.next.remove(id);
                }
                Some(next) => {
                    let failures = self.retries.next.get(id).map_or(0, |own| own.0).saturating_add(1);
                    let at = elapsed + pause(wanted.hostname.as_str(), failures, wanted.certificate, *next);
                    self.retries.next.insert(*id, (failures, at));
                }
            }
        }
        for id in &scope.certificates {
            let wanted = self.desired.certificate(*id);
            match stuck.get(&wanted.names[0]) {
                None => {
                    self.retries.certificates.remove(id);
                }
                Some(next) => {
                    let failures = self.retries.certificates.get(id).map_or(0, |own| own.0).saturating_add(1);
                    let at = elapsed + pause(&wanted.name, failures, *id, *next);
                    self.retries.certificates.insert(*id, (failures, at));
                }
            }
        }
        // A known time is not waited for by looking again and again.
        let times = self.retries.next.values().chain(self.retries.certificates.values()).map(|(_, at)| *at);
        if let Some(at) = times.min() {
            self.schedule.add(at.max(elapsed), Task::Retry);
        }
        for (id, fact) in known.endpoints {
            self.known.endpoints.insert(id, fact);
        }
        // What it knows of hostnames may be older than what switches have done since: the state knows.
        let followers = self.followers();
        for id in scope.hostnames.iter().filter(|id| followers.contains(id)) {
            self.decide(*id);
        }
    }
}

impl Engine {
    /// Whom checks trust that trust the issuers of some certificates.
    pub(super) async fn trusted_issuers(
        &self,
        issuers: BTreeSet<CertificateId>,
    ) -> Result<HashMap<CertificateId, Trusted>, EngineError> {
        let mut all = HashMap::new();
        for id in issuers {
            self.load_certificate(id).await?;
            all.extend(self.trusted(id).await.ok().map(|trusted| (id, trusted)));
        }
        Ok(all)
    }
}
