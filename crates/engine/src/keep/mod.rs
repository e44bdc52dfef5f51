//! Running on: checks at their intervals, failover and back, renewals, waiting steps, and a look at every
//! hostname now and then.
//!
//! ```text
//!            ┌─ Check ──▶ probes ──▶ book ──▶ verdicts ─┐
//!  Schedule ─┼─ Decide ◀──────────────────────────────── ┘──▶ switch (one alias, under a claim)
//!            ├─ Pass ───▶ settle of what is due, and of the next few hostnames, under the lock
//!            └─ Store, Thin, Load ──▶ errands to the state
//! ```
//!
//! One loop owns all that changes, and waits for nothing: probes, switches, passes and errands to the state are tasks
//! beside it that report to it. A switch waits for no pass: users suffer until it is done.

mod beside;
mod decide;
mod pass;
mod schedule;
mod switch;

use std::collections::{BTreeSet, HashMap, HashSet, VecDeque};
use std::panic::AssertUnwindSafe;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt as _;
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{CertificateId, CheckId, Desired, HostnameId};
use pindrel_core::facts::Knowledge;
use pindrel_core::health::{CheckResult, Latencies, Measured, Slot, Verdict, due_to_drop, due_to_widen, widen};
use pindrel_core::pins::Known;
use pindrel_state::LockError;
use tokio::sync::mpsc;
use tokio::task::JoinSet;

use crate::drivers::{Clock, Drivers, Trusted};
use crate::events::{Event, Listener};
use crate::failure::EngineError;
use crate::health::{Book, CHECKS_AT_ONCE, VerdictChange, job, judging, with_members};
use crate::home::Home;
use crate::run::{Bounds, Engine, Setup};
use crate::settle::Scope;
use beside::{Errand, Reply, load};
use pass::{PassEnd, Retries};
use schedule::{Schedule, Task, spread};
use switch::{SwitchEnd, Switching};

/// How long what checks found waits to be stored together; a changed verdict does not.
const STORE_EVERY: Duration = Duration::from_secs(5);
/// How often what is stored is thinned, and what drivers have cached is forgotten.
const THIN_EVERY: Duration = Duration::from_secs(3_600);
/// How often every hostname is looked at, where the manifest does not say.
const LOOK_EVERY: Duration = Duration::from_secs(3_600);
/// In how many parts the hostnames are looked at.
const PARTS: u32 = 60;
/// How long a single thing is waited for in a pass: others must not wait for it.
const PASS_PATIENCE: Duration = Duration::from_secs(120);
/// How long after another run has the lock it is tried again.
const LOCKED: Duration = Duration::from_secs(5);
/// How long the work under way may take once it is to stop.
const HAND_BACK: Duration = Duration::from_secs(10);
/// How many slots are merged at once.
const THINNED_AT_ONCE: u32 = 20_000;
/// How often it is seen which endpoints somebody has taken out of answers.
const HOLDS_EVERY: Duration = Duration::from_secs(2);

/// Makes drivers with nothing cached.
pub type MakeDrivers = Arc<dyn Fn() -> Arc<dyn Drivers> + Send + Sync>;

/// What running on needs.
pub struct KeepSetup {
    /// What should hold.
    pub desired: Arc<Desired>,
    /// The folder of the manifest, which its paths are relative to.
    pub folder: PathBuf,
    /// What is remembered.
    pub home: Home,
    /// What bounds each pass.
    pub bounds: Bounds,
    /// Who is told what happens.
    pub listener: Arc<dyn Listener>,
    /// The way to the world.
    pub make_drivers: MakeDrivers,
    /// The time.
    pub clock: Arc<dyn Clock>,
}

/// What somebody outside wants.
#[derive(Debug, Clone)]
pub enum KeepOrder {
    /// The manifest has changed to this.
    Manifest(Arc<Desired>),
    /// Work is to be handed back.
    Stop,
}

/// What was done.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct KeepSummary {
    /// How many checks were made.
    pub checks: u64,
    /// How many verdicts changed.
    pub verdicts: u64,
    /// How many aliases were switched.
    pub switches: u64,
    /// How many passes were made.
    pub passes: u64,
    /// How much later than due checks began: the median, the 99th percentile and the most.
    pub lateness: Option<(Duration, Duration, Duration)>,
}

/// Does something that must not end the process with it: a panic is a fault of Pindrel's own, which is logged, and
/// `None`.
async fn guarded<T>(what: &'static str, work: impl Future<Output = T>) -> Option<T> {
    let ended = AssertUnwindSafe(work).catch_unwind().await;
    ended.inspect_err(|_| tracing::error!("{what} ended by a fault of Pindrel's own")).ok()
}

/// Does something that may take so long; `None` where it takes longer.
async fn within<T>(clock: &dyn Clock, limit: Duration, work: impl Future<Output = T>) -> Option<T> {
    tokio::select! {
        biased;
        done = work => Some(done),
        () = clock.sleep(limit) => None,
    }
}

/// What of the setup outlives a change of the manifest.
pub(super) struct Kit {
    folder: PathBuf,
    home: Home,
    bounds: Bounds,
    listener: Arc<dyn Listener>,
    make_drivers: MakeDrivers,
    clock: Arc<dyn Clock>,
    owner: String,
}

impl Kit {
    async fn engine(
        &self,
        desired: &Arc<Desired>,
        listener: Arc<dyn Listener>,
        bounds: Bounds,
    ) -> Result<Engine, EngineError> {
        let setup = Setup {
            desired: desired.clone(),
            folder: self.folder.clone(),
            home: self.home.clone(),
            bounds,
            listener,
            drivers: (self.make_drivers)(),
            clock: self.clock.clone(),
        };
        Ok(Engine::open(setup).await?.called("keep").owned_by(&self.owner))
    }
}

/// One check that was made.
struct Checked {
    id: CheckId,
    due: Duration,
    /// Which manifest it was of.
    generation: u64,
    /// What was found; `None` where it ended without a word.
    results: Option<Vec<(String, Measured)>>,
}

/// The loop and all that it owns.
struct Keeper {
    kit: Arc<Kit>,
    desired: Arc<Desired>,
    /// Counts the manifests: what belongs to an earlier one is dropped.
    generation: u64,
    drivers: Arc<dyn Drivers>,
    schedule: Schedule,
    book: Book,
    /// Whether it is scheduled that what checks found is stored.
    is_to_store: bool,
    /// Checks that are due and wait for a place.
    waiting: VecDeque<(Duration, CheckId)>,
    checking: JoinSet<Checked>,
    under_check: HashSet<CheckId>,
    /// The hostnames whose alias follows each check.
    following: HashMap<CheckId, Vec<HostnameId>>,
    /// What is known of hostnames whose alias follows checks, and of the endpoints that are checked.
    known: Knowledge,
    /// Hostnames that are to be decided about as soon as the state has said what is known of them.
    to_decide: BTreeSet<HostnameId>,
    /// What the state is asked and told, one of each kind at a time.
    errands: JoinSet<(Errand, Option<Reply>)>,
    sent: HashSet<Errand>,
    /// A changed manifest that is not taken up yet.
    next_manifest: Option<Arc<Desired>>,
    switching: JoinSet<SwitchEnd>,
    switches: HashMap<HostnameId, Switching>,
    passing: JoinSet<PassEnd>,
    retries: Retries,
    /// Whom checks trust that trust the issuer of a certificate.
    trusted: HashMap<CertificateId, Trusted>,
    /// The next hostname that is looked at in its turn.
    cursor: usize,
    holds_seen: Duration,
    summary: KeepSummary,
    late: Latencies,
    latest: Duration,
}

/// Runs on until it is told to stop.
///
/// # Errors
/// [`EngineError`] when the state cannot be read or written at the start.
pub async fn keep(setup: KeepSetup, mut orders: mpsc::Receiver<KeepOrder>) -> Result<KeepSummary, EngineError> {
    let mut keeper = Keeper::open(setup).await?;
    loop {
        keeper.begin_due();
        let now = keeper.kit.clock.elapsed();
        let pause = keeper.schedule.next_at().map_or(STORE_EVERY, |at| at.saturating_sub(now));
        tokio::select! {
            biased;
            order = orders.recv() => match order {
                Some(KeepOrder::Manifest(desired)) => keeper.replace_manifest(desired),
                Some(KeepOrder::Stop) | None => break,
            },
            Some(ended) = keeper.switching.join_next() => keeper.switch_ended(ended),
            Some(ended) = keeper.passing.join_next() => keeper.pass_ended(ended),
            Some(Ok(reply)) = keeper.errands.join_next() => keeper.replied(reply),
            Some(made) = keeper.checking.join_next() => keeper.checked(made),
            () = keeper.kit.clock.sleep(pause) => {}
        }
    }
    keeper.hand_back().await;
    Ok(keeper.summary())
}

/// Does once what running on would do next: makes every check, decides, and settles what is due or has not
/// been looked at for longer than the manifest says.
///
/// # Errors
/// [`EngineError`] when the state cannot be read or written.
pub async fn keep_once(setup: KeepSetup) -> Result<crate::events::Summary, EngineError> {
    let (kit, desired) = kit_of(setup);
    let look_every = desired.look_every.unwrap_or(LOOK_EVERY);
    let bounds = Bounds { max_age_secs: look_every.as_secs(), ..kit.bounds };
    let engine = kit.engine(&desired, kit.listener.clone(), bounds).await?;
    engine.check_once(&desired.check_ids().collect::<Vec<_>>()).await?;
    engine.thin_checks().await?;
    engine.settle(&Scope::all(&desired), crate::Aim::Hold).await
}

fn kit_of(setup: KeepSetup) -> (Kit, Arc<Desired>) {
    let KeepSetup { desired, folder, home, bounds, listener, make_drivers, clock } = setup;
    let owner = format!("keep, process {} since {:.0}", std::process::id(), clock.now());
    (Kit { folder, home, bounds, listener, make_drivers, clock, owner }, desired)
}

impl Keeper {
    async fn open(setup: KeepSetup) -> Result<Keeper, EngineError> {
        let (kit, desired) = kit_of(setup);
        let drivers = (kit.make_drivers)();
        let mut keeper = Keeper {
            kit: Arc::new(kit),
            drivers,
            generation: 0,
            schedule: Schedule::default(),
            book: Book::default(),
            is_to_store: false,
            waiting: VecDeque::new(),
            checking: JoinSet::new(),
            under_check: HashSet::new(),
            following: HashMap::new(),
            known: Knowledge::default(),
            to_decide: BTreeSet::new(),
            errands: JoinSet::new(),
            sent: HashSet::new(),
            next_manifest: None,
            switching: JoinSet::new(),
            switches: HashMap::new(),
            passing: JoinSet::new(),
            retries: Retries::default(),
            trusted: HashMap::new(),
            cursor: 0,
            holds_seen: Duration::ZERO,
            summary: KeepSummary::default(),
            late: Latencies::default(),
            latest: Duration::ZERO,
            desired,
        };
        let loaded = load(&keeper.kit, keeper.desired.clone()).await?;
        keeper.take_up(loaded);
        keeper.begin_pass(Scope::all(&keeper.desired));
        Ok(keeper)
    }

    fn tell(&self, event: Event) {
        self.kit.listener.on(event);
    }

    fn note(&self, says: impl Into<String>) {
        self.tell(Event::Note { says: pindrel_core::display_text::one_line(says) });
    }

    /// How long from one look at some hostnames to the next.
    fn part(&self) -> Duration {
        let look_every = self.desired.look_every.unwrap_or(LOOK_EVERY);
        let count = u32::try_from(self.desired.hostnames.len()).unwrap_or(u32::MAX);
        look_every / count.clamp(1, PARTS)
    }

    /// Begins all that is due.
    fn begin_due(&mut self) {
        let now = self.kit.clock.elapsed();
        while let Some((due, task)) = self.schedule.take_due(now) {
            match task {
                Task::Check(id) => self.waiting.push_back((due, id)),
                Task::Decide(id) => self.decide(id),
                Task::Pass => {
                    self.schedule.add(now + self.part(), Task::Pass);
                    self.next_pass(true);
                }
                Task::Retry => self.next_pass(false),
                Task::Store => {
                    self.is_to_store = false;
                    self.store();
                }
                Task::Thin => {
                    self.thin();
                    self.schedule.add(now + THIN_EVERY, Task::Thin);
                }
                Task::Load => self.load_next(),
            }
        }
        while self.checking.len() < CHECKS_AT_ONCE {
            let Some((due, id)) = self.waiting.pop_front() else { break };
            self.begin_check(due, id, now);
        }
        self.begin_recall();
    }

    fn begin_check(&mut self, due: Duration, id: CheckId, now: Duration) {
        let check = self.desired.check(id);
        let info = check.endpoint().and_then(|endpoint| self.known.endpoint_info(endpoint)).cloned();
        let trusted = crate::health::issuer(check).and_then(|id| self.trusted.get(&id).cloned());
        let Some(job) = job(&self.desired, check, info.as_ref(), trusted) else { return };
        // Never two of one check at a time.
        if !self.under_check.insert(id) {
            return;
        }
        let late = now.saturating_sub(due);
        self.late.record(late);
        self.latest = self.latest.max(late);
        let (drivers, generation) = (self.drivers.clone(), self.generation);
        self.checking.spawn(async move {
            let results = guarded("a check", drivers.probe().check(&job)).await;
            Checked { id, due, generation, results }
        });
    }

    fn switch_ended(&mut self, ended: Result<SwitchEnd, tokio::task::JoinError>) {
        match ended {
            Ok(end) => self.switched(end),
            Err(error) => tracing::error!(%error, "a switch ended without a word"),
        }
    }

    fn pass_ended(&mut self, ended: Result<PassEnd, tokio::task::JoinError>) {
        match ended {
            Ok(end) => self.passed(end),
            Err(error) => tracing::error!(%error, "a pass ended without a word"),
        }
    }

    fn checked(&mut self, made: Result<Checked, tokio::task::JoinError>) {
        let Ok(Checked { id, due, generation, results }) = made else { return };
        if generation != self.generation {
            return;
        }
        self.under_check.remove(&id);
        let elapsed = self.kit.clock.elapsed();
        let every = self.desired.check(id).terms.every;
        // What was missed while it was late is not made up for.
        let mut next = due + every;
        while next + every <= elapsed {
            next += every;
        }
        self.schedule.add(next, Task::Check(id));
        let Some(results) = results else { return };
        self.summary.checks += 1;
        let at = self.kit.clock.now();
        let dead_before = self.dead(id);
        let changes = self.book.record(&self.desired, id, at, &results);
        for combination in self.book.current_combinations(&self.desired, id) {
            if let Some(record) = self.book.records().get(&combination) {
                let is_first = self.known.verdicts.insert(combination, record.clone()).is_none();
                if is_first {
                    self.kit.listener.on_check(&self.desired.check(combination).name, record, None);
                }
            }
        }
        let is_first = !self.known.verdicts.contains_key(&id);
        if let Some(record) = self.book.records().get(&id) {
            self.known.verdicts.insert(id, record.clone());
            let passed = results.iter().filter(|(_, measured)| measured.result == CheckResult::Passed);
            let took = passed.map(|(_, measured)| measured.phases.total()).min();
            self.kit.listener.on_check(&self.desired.check(id).name, record, took);
        }
        let mut concerned: BTreeSet<HostnameId> = BTreeSet::new();
        for VerdictChange { check, from, to } in &changes {
            self.summary.verdicts += 1;
            if *check != id
                && let Some(record) = self.book.records().get(check)
            {
                self.kit.listener.on_check(&self.desired.check(*check).name, record, None);
            }
            self.tell_verdict(*check, *from, *to);
            concerned.extend(self.following.get(check).into_iter().flatten());
        }
        if is_first || self.dead(id) != dead_before {
            concerned.extend(self.following.get(&id).into_iter().flatten());
        }
        for hostname in concerned {
            self.decide(hostname);
        }
        if !changes.is_empty() {
            self.store();
        } else {
            self.store_later();
        }
        self.see_holds(elapsed);
    }

    fn dead(&self, id: CheckId) -> Vec<String> {
        self.book
            .records()
            .get(&id)
            .map_or_else(Vec::new, |record| record.dead_addresses().map(str::to_owned).collect())
    }

    fn tell_verdict(&self, id: CheckId, from: Verdict, to: Verdict) {
        let check = self.desired.check(id);
        let record = self.book.records().get(&id);
        let failure = record.and_then(|record| record.last_failure());
        let is_down = to == Verdict::Down;
        let says = match failure.filter(|_| is_down) {
            Some((address, failure)) if !address.is_empty() => Some(format!("{address}: {}", failure.why)),
            Some((_, failure)) => Some(failure.why.to_string()),
            None => None,
        };
        let endpoint = check.endpoint().map(|endpoint| self.desired.endpoint(endpoint).name.clone());
        let name = check.name.clone();
        self.tell(Event::Verdict { check: name, endpoint, from, to, says, at: self.kit.clock.now() });
    }

    fn followers(&self) -> BTreeSet<HostnameId> {
        self.following.values().flatten().copied().collect()
    }

    /// Ends in order: what is under way may end within a bound, and what was found is stored.
    async fn hand_back(&mut self) {
        self.checking.abort_all();
        let kit = self.kit.clone();
        let ends = async {
            self.store();
            while let Some(ended) = self.switching.join_next().await {
                self.switch_ended(ended);
            }
            while let Some(ended) = self.passing.join_next().await {
                self.pass_ended(ended);
            }
            while self.sent.contains(&Errand::Store) {
                match self.errands.join_next().await {
                    Some(Ok(reply)) => self.replied(reply),
                    Some(Err(_)) => {}
                    None => break,
                }
            }
            self.book.flush(&self.desired, &*kit.home.state).await
        };
        // What does not end by then is taken up by whoever runs next, as after a kill.
        match within(&*kit.clock, HAND_BACK, ends).await {
            Some(Ok(())) => {}
            Some(Err(error)) => tracing::warn!(%error, "what checks found last cannot be stored"),
            None => tracing::warn!("what is under way does not end: whoever runs next goes on with it"),
        }
    }

    fn summary(self) -> KeepSummary {
        let lateness = self.late.quantile(0.5).zip(self.late.quantile(0.99));
        let lateness = lateness.map(|(median, most_of)| (median, most_of, self.latest));
        KeepSummary { lateness, ..self.summary }
    }
}

impl Engine {
    /// Merges what is kept of checks by its age, and forgets checks that the manifest has not had for long.
    pub(crate) async fn thin_checks(&self) -> Result<(), EngineError> {
        let now = self.clock.now();
        let before = due_to_drop(now);
        for (seconds, due) in due_to_widen(now) {
            loop {
                let slots = self.state.slots_before(seconds, due, THINNED_AT_ONCE).await?;
                let is_last = slots.len() < THINNED_AT_ONCE as usize;
                for of_one in slots.chunk_by(|left, right| left.0 == right.0) {
                    let old: Vec<Slot> = of_one.iter().map(|(_, slot)| slot.clone()).collect();
                    self.state.replace_slots(&of_one[0].0, &old, &widen(&old)).await?;
                }
                if is_last {
                    break;
                }
            }
        }
        self.state.prune_health(before).await?;
        let names: HashSet<&str> = self.desired.checks.iter().map(|check| check.name.as_str()).collect();
        for (name, record) in self.state.check_records().await? {
            let is_old = record.seen().or(record.since).is_none_or(|seen| seen < before);
            if !names.contains(name.as_str()) && is_old {
                self.state.forget_check(&name).await?;
            }
        }
        Ok(())
    }
}
