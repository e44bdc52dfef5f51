//! What the state is asked and told beside the loop, each within its time: a state that hangs, or is away, holds up no
//! check and no end.

use pindrel_state::EndpointHold;

use super::decide::Recall;
use super::pass::Turn;
use super::*;
use crate::health::{Unstored, held_out};

/// How long the state may take for one answer, and for what checks found.
const ANSWERED_WITHIN: Duration = Duration::from_secs(5);
const STORED_WITHIN: Duration = Duration::from_secs(30);
/// How long thinning may take.
const THINNED_WITHIN: Duration = Duration::from_secs(600);
/// How long after a manifest could not be loaded that is tried again.
const LOAD_AGAIN: Duration = Duration::from_secs(30);

/// What is asked or told one at a time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Errand {
    /// What is known of hostnames that are to be decided about.
    Recall,
    /// Which endpoints are taken out of answers.
    Holds,
    /// Which certificates are due.
    Due,
    /// What checks found.
    Store,
    /// What is stored of checks, merged by its age.
    Thin,
    /// What is known by a manifest.
    Load,
}

/// What came of it.
pub(super) enum Reply {
    Recalled(Recall),
    Holds(Vec<EndpointHold>),
    Due(Turn),
    Stored { generation: u64, rest: Unstored },
    Loaded(Result<Box<Loaded>, EngineError>),
}

/// A manifest, and what is known by it.
pub(super) struct Loaded {
    desired: Arc<Desired>,
    known: Knowledge,
    trusted: HashMap<CertificateId, Trusted>,
    following: HashMap<CheckId, Vec<HostnameId>>,
}

/// Loads what was concluded, and what follows what.
pub(super) async fn load(kit: &Kit, desired: Arc<Desired>) -> Result<Loaded, EngineError> {
    let engine = kit.engine(&desired, Arc::new(()), kit.bounds).await?;
    let ids: Vec<CheckId> = desired.check_ids().collect();
    engine.load_health().await?;
    engine.look_at_checked_endpoints(&ids).await?;
    let issuers = desired.checks.iter().filter_map(crate::health::issuer).collect();
    let trusted = engine.trusted_issuers(issuers).await?;
    let mut following: HashMap<CheckId, Vec<HostnameId>> = HashMap::new();
    for id in desired.hostname_ids() {
        let wanted = desired.hostname(id);
        let checks = judging(&desired, id);
        if checks.is_empty() || !wanted.follows_checks(&desired) {
            continue;
        }
        engine.load_once(id).await?;
        for check in checks {
            following.entry(check).or_default().push(id);
        }
    }
    let known = engine.known().clone();
    Ok(Loaded { desired, known, trusted, following })
}

impl Keeper {
    /// Sends an errand, unless one like it is under way.
    pub(super) fn send(&mut self, errand: Errand, work: impl Future<Output = Option<Reply>> + Send + 'static) {
        if self.sent.insert(errand) {
            self.errands.spawn(async move { (errand, guarded("an errand to the state", work).await.flatten()) });
        }
    }

    pub(super) fn replied(&mut self, (errand, reply): (Errand, Option<Reply>)) {
        self.sent.remove(&errand);
        match (errand, reply) {
            (_, Some(Reply::Recalled(recall))) => self.recalled(recall),
            (_, Some(Reply::Holds(holds))) => self.drained(holds),
            (_, Some(Reply::Due(turn))) => self.take_turn(turn),
            (_, Some(Reply::Stored { generation, rest })) if generation == self.generation => self.book.put_back(rest),
            (_, Some(Reply::Loaded(loaded))) => self.loaded(loaded),
            (Errand::Load, _) => self.loaded(Err(EngineError::Fault)),
            _ => {}
        }
    }

    /// Stores what checks found.
    pub(super) fn store(&mut self) {
        if !self.book.is_unsaved() {
            return;
        }
        if self.sent.contains(&Errand::Store) {
            return self.store_later();
        }
        let (kit, generation) = (self.kit.clone(), self.generation);
        let mut rest = self.book.take_unstored(&self.desired);
        self.send(Errand::Store, async move {
            let stored = within(&*kit.clock, STORED_WITHIN, rest.store(&*kit.home.state)).await;
            match stored {
                Some(Ok(())) => {}
                Some(Err(error)) => tracing::warn!(%error, "what checks found cannot be stored"),
                None => tracing::warn!("what checks found cannot be stored: the state does not answer"),
            }
            Some(Reply::Stored { generation, rest })
        });
    }

    pub(super) fn store_later(&mut self) {
        if !std::mem::replace(&mut self.is_to_store, true) {
            self.schedule.add(self.kit.clock.elapsed() + STORE_EVERY, Task::Store);
        }
    }

    /// Merges what is stored by its age, and forgets what drivers have cached.
    pub(super) fn thin(&mut self) {
        self.store();
        self.drivers = (self.kit.make_drivers)();
        let (kit, desired) = (self.kit.clone(), self.desired.clone());
        self.send(Errand::Thin, async move {
            let thinning = async {
                let engine = kit.engine(&desired, Arc::new(()), kit.bounds).await?;
                engine.thin_checks().await
            };
            if let Some(Err(error)) = within(&*kit.clock, THINNED_WITHIN, thinning).await {
                tracing::warn!(%error, "what is stored of checks cannot be thinned");
            }
            None
        });
    }

    /// Sees which endpoints somebody has taken out of answers or given back.
    pub(super) fn see_holds(&mut self, elapsed: Duration) {
        if elapsed < self.holds_seen + HOLDS_EVERY {
            return;
        }
        self.holds_seen = elapsed;
        let kit = self.kit.clone();
        self.send(Errand::Holds, async move {
            let holds = within(&*kit.clock, ANSWERED_WITHIN, kit.home.state.endpoint_holds()).await?;
            holds.ok().map(Reply::Holds)
        });
    }

    fn drained(&mut self, holds: Vec<EndpointHold>) {
        let now = self.kit.clock.now();
        let in_force = holds.into_iter().filter(|hold| hold.until.is_none_or(|until| now < until));
        let held = held_out(&self.desired, in_force);
        if held == self.known.held_out {
            return;
        }
        self.known.held_out = held;
        for id in self.followers() {
            self.decide(id);
        }
    }

    /// Reads which certificates are due, for a pass over them and over these hostnames.
    pub(super) fn read_due(&mut self, hostnames: BTreeSet<HostnameId>) {
        let (kit, generation) = (self.kit.clone(), self.generation);
        self.send(Errand::Due, async move {
            let due = kit.home.state.due_certificates(kit.clock.now());
            let due = match within(&*kit.clock, ANSWERED_WITHIN, due).await {
                Some(Ok(names)) => names.into_iter().collect(),
                Some(Err(error)) => {
                    tracing::warn!(%error, "what is due cannot be read");
                    HashSet::new()
                }
                None => {
                    tracing::warn!("what is due cannot be read: the state does not answer");
                    HashSet::new()
                }
            };
            Some(Reply::Due(Turn { generation, hostnames, due }))
        });
    }

    /// Loads a manifest; the one before holds until that is done.
    pub(super) fn replace_manifest(&mut self, desired: Arc<Desired>) {
        self.next_manifest = Some(desired);
        self.load_next();
    }

    pub(super) fn load_next(&mut self) {
        let Some(desired) = self.next_manifest.clone() else { return };
        let kit = self.kit.clone();
        self.send(Errand::Load, async move { Some(Reply::Loaded(load(&kit, desired).await.map(Box::new))) });
    }

    fn loaded(&mut self, loaded: Result<Box<Loaded>, EngineError>) {
        let is_latest =
            |loaded: &Loaded| self.next_manifest.as_ref().is_some_and(|next| Arc::ptr_eq(next, &loaded.desired));
        match loaded {
            Ok(loaded) if is_latest(&loaded) => {
                self.next_manifest = None;
                self.store();
                self.take_up(*loaded);
                self.begin_pass(Scope::all(&self.desired));
            }
            // It has changed again meanwhile.
            Ok(_) => self.load_next(),
            Err(error) => {
                self.note(format!("the changed manifest cannot be taken up: {error}"));
                self.schedule.add(self.kit.clock.elapsed() + LOAD_AGAIN, Task::Load);
            }
        }
    }

    /// Takes a manifest up: what was concluded, what follows what, and when each thing is due.
    pub(super) fn take_up(&mut self, loaded: Loaded) {
        let Loaded { desired, known, trusted, following } = loaded;
        let before = std::mem::replace(&mut self.desired, desired.clone());
        (self.known, self.trusted, self.following) = (known, trusted, following);
        self.generation += 1;
        self.drivers = (self.kit.make_drivers)();
        self.checking.abort_all();
        self.under_check.clear();
        // Numbers of hostnames mean others from now on.
        (self.switches, self.to_decide) = (HashMap::new(), BTreeSet::new());
        (self.retries, self.cursor) = (Retries::default(), 0);
        // What this process has concluded is newer than what is stored of it.
        let mut concluded = std::mem::take(&mut self.known.verdicts);
        let own: HashMap<&str, _> =
            self.book.records().iter().map(|(id, record)| (before.check(*id).name.as_str(), record)).collect();
        for id in desired.check_ids() {
            if let Some(record) = own.get(desired.check(id).name.as_str()) {
                concluded.insert(id, (*record).clone());
            }
        }
        // What was concluded before counts once a result of now agrees with it.
        self.book = Book::with(concluded);
        self.known.choices.clear();
        let now = self.kit.clock.elapsed();
        self.schedule = Schedule::default();
        self.waiting.clear();
        for id in desired.check_ids().filter(|id| desired.check(*id).combination().is_none()) {
            let check = desired.check(id);
            let offset = check.terms.every.mul_f64(spread(&check.name, 0));
            self.schedule.add(now + offset, Task::Check(id));
        }
        self.is_to_store = false;
        self.schedule.add(now + THIN_EVERY, Task::Thin);
        self.schedule.add(now + self.part(), Task::Pass);
    }
}
