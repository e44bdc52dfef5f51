//! Running on: the driver of [`core::keep`](pindrel_core::keep), which says what is to be done when.
//!
//! ```text
//!                     ┌─▶ probes ───────────┐
//!  Keep::handle ──────┼─▶ switch::switch ───┼──▶ Event ──▶ Keep::handle
//!     Actions         ├─▶ pass::pass ───────┤
//!                     └─▶ questions::answer ┘
//! ```
//!
//! One loop hands events to the machine and does what it says, each thing as a task beside it: the loop waits for no
//! state, no probe and no peer. Each task has a bound, and one that ends by a fault is reported like one that failed.

mod news;
mod pass;
mod questions;
mod switch;

use std::collections::HashMap;
use std::panic::AssertUnwindSafe;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt as _;
use pindrel_core::desired::{CertificateId, CheckId, Desired};
use pindrel_core::keep::{Action, Event, Keep, KeepSummary, Now, look_every};
use tokio::sync::mpsc;
use tokio::task::JoinSet;

use crate::context::scope::Scope;
use crate::context::{Bounds, Setup};
use crate::drivers::{Clock, Drivers, Trusted, within};
use crate::engine::Engine;
use crate::events::Listener;
use crate::failure::EngineError;
use crate::health::{issuer, job};
use crate::home::Home;
use crate::home::leases::Held;
use crate::home::switch_log::SwitchLog;
use questions::Claims;

/// What others call this process.
const COMMAND: &str = "keep";
/// How long the state may take to answer before an alias is switched without it.
const STATE_ANSWERS_WITHIN: Duration = Duration::from_secs(2);
/// How long the work under way may take once it is to stop.
const SHUT_DOWN: Duration = Duration::from_secs(10);

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
    /// Receives the events.
    pub listener: Arc<dyn Listener>,
    /// The way to the world.
    pub make_drivers: MakeDrivers,
    /// The time.
    pub clock: Arc<dyn Clock>,
    /// How often the listener hears at least that the loop turns; as often as something happens where nobody asks.
    pub turn_every: Option<Duration>,
}

/// What somebody outside wants.
#[derive(Debug, Clone)]
pub enum KeepCommand {
    /// The manifest has changed to this.
    Manifest(Arc<Desired>),
    /// It is to end.
    Stop,
}

/// What outlives a change of the manifest.
pub(super) struct RunContext {
    folder: PathBuf,
    home: Home,
    bounds: Bounds,
    listener: Arc<dyn Listener>,
    make_drivers: MakeDrivers,
    clock: Arc<dyn Clock>,
    /// What was switched while the state did not answer.
    switch_log: Arc<SwitchLog>,
}

impl RunContext {
    fn of(setup: KeepSetup) -> (RunContext, Arc<Desired>) {
        let KeepSetup { desired, folder, home, bounds, listener, make_drivers, clock, turn_every: _ } = setup;
        let switch_log = Arc::new(SwitchLog::beside(&folder));
        (RunContext { folder, home, bounds, listener, make_drivers, clock, switch_log }, desired)
    }

    async fn engine(
        &self,
        desired: &Arc<Desired>,
        listener: Arc<dyn Listener>,
        bounds: Bounds,
    ) -> Result<Engine, EngineError> {
        Engine::open(self.setup(desired, listener, bounds).await?).await
    }

    /// What a run over the state needs. Switches that are not in it yet are stored first: whoever reads it before would
    /// take their records for somebody else's.
    async fn setup(
        &self,
        desired: &Arc<Desired>,
        listener: Arc<dyn Listener>,
        bounds: Bounds,
    ) -> Result<Setup, EngineError> {
        self.replay_switches().await?;
        Ok(self.setup_without_state(desired, listener, bounds))
    }

    fn setup_without_state(&self, desired: &Arc<Desired>, listener: Arc<dyn Listener>, bounds: Bounds) -> Setup {
        Setup {
            desired: desired.clone(),
            folder: self.folder.clone(),
            home: self.home.clone(),
            bounds,
            listener,
            drivers: (self.make_drivers)(),
            clock: self.clock.clone(),
            command: COMMAND.to_owned(),
        }
    }

    /// Stores in the state what was switched while it did not answer.
    async fn replay_switches(&self) -> Result<(), EngineError> {
        self.switch_log.replay(&self.home, COMMAND, &self.clock).await
    }

    async fn is_state_answering(&self) -> bool {
        matches!(within(&*self.clock, STATE_ANSWERS_WITHIN, self.home.state.is_in_place()).await, Some(Ok(true)))
    }

    fn now(&self) -> Now {
        Now { wall: self.clock.now(), elapsed: self.clock.elapsed() }
    }
}

/// Does something that must not end the process with it: a panic is a fault of Pindrel's own, which is logged, and
/// `None`.
async fn guarded<T>(what: &'static str, work: impl Future<Output = T>) -> Option<T> {
    let ended = AssertUnwindSafe(work).catch_unwind().await;
    ended.inspect_err(|_| tracing::error!("{what} ended by a fault of Pindrel's own")).ok()
}

/// What a task has come to: the event, and what the driver itself keeps of it.
struct Ended {
    event: Event,
    /// Whom checks trust that trust the issuers of certificates.
    trusted: HashMap<CertificateId, Trusted>,
}

impl From<Event> for Ended {
    fn from(event: Event) -> Ended {
        Ended { event, trusted: HashMap::new() }
    }
}

/// The machine with the tasks that it has begun.
struct Driver {
    context: Arc<RunContext>,
    keep: Keep,
    drivers: Arc<dyn Drivers>,
    probes: JoinSet<Event>,
    /// Switches and passes.
    works: JoinSet<Ended>,
    /// What the state is asked and told.
    questions: JoinSet<Ended>,
    trusted: HashMap<CertificateId, Trusted>,
    /// The claims on the checks that this process makes.
    claims: Arc<Claims>,
}

/// Runs on until it is told to stop.
///
/// # Errors
/// [`EngineError`] when the state cannot be read or written at the start.
pub async fn keep(setup: KeepSetup, mut commands: mpsc::Receiver<KeepCommand>) -> Result<KeepSummary, EngineError> {
    let turn_every = setup.turn_every.unwrap_or(Duration::MAX);
    let mut driver = Driver::open(setup).await?;
    driver.handle(Event::Tick);
    loop {
        driver.context.listener.on_turn();
        let now = driver.context.now();
        let pause = driver.keep.next_at(now).saturating_sub(now.elapsed).min(turn_every);
        let event = tokio::select! {
            biased;
            command = commands.recv() => match command {
                Some(KeepCommand::Manifest(desired)) => Event::ManifestChanged(desired),
                Some(KeepCommand::Stop) | None => break,
            },
            Some(ended) = driver.works.join_next() => driver.ended(ended),
            Some(ended) = driver.questions.join_next() => driver.ended(ended),
            Some(made) = driver.probes.join_next() => made.unwrap_or(Event::Tick),
            () = driver.context.clock.sleep(pause) => Event::Tick,
        };
        driver.handle(event);
    }
    driver.shut_down().await;
    Ok(driver.keep.summary())
}

/// Does once what running on would do next: makes every check, decides, and settles what is due or has not
/// been looked at for longer than the manifest says.
///
/// # Errors
/// [`EngineError`] when the state cannot be read or written.
pub async fn keep_once(setup: KeepSetup) -> Result<crate::events::Summary, EngineError> {
    let (context, desired) = RunContext::of(setup);
    let look_every = look_every(&desired);
    let bounds = Bounds { max_age_secs: look_every.as_secs(), ..context.bounds };
    let engine = context.engine(&desired, context.listener.clone(), bounds).await?;
    engine.health.check_once(&desired.check_ids().collect::<Vec<_>>()).await?;
    engine.health.thin_checks().await?;
    engine.settle(&Scope::all(&desired), crate::Aim::Hold).await
}

impl Driver {
    async fn open(setup: KeepSetup) -> Result<Driver, EngineError> {
        let (context, desired) = RunContext::of(setup);
        let claims = Arc::new(Claims::default());
        let (loaded, trusted) = questions::load(&context, &claims, desired).await?;
        Ok(Driver {
            keep: Keep::new(loaded, context.now()),
            drivers: (context.make_drivers)(),
            context: Arc::new(context),
            probes: JoinSet::new(),
            works: JoinSet::new(),
            questions: JoinSet::new(),
            trusted,
            claims,
        })
    }

    /// Hands an event to the machine, and does what it says.
    fn handle(&mut self, event: Event) {
        for action in self.keep.handle(event, self.context.now()) {
            self.act(action);
        }
    }

    fn ended(&mut self, ended: Result<Ended, tokio::task::JoinError>) -> Event {
        match ended {
            Ok(Ended { event, trusted }) => {
                self.trusted.extend(trusted);
                event
            }
            // Each task catches its own faults, and none is aborted before the end.
            Err(error) => {
                tracing::error!(%error, "a task ended without a result");
                Event::Tick
            }
        }
    }

    fn act(&mut self, action: Action) {
        match action {
            Action::Probe { check, round } => self.probe(check, round),
            Action::AbandonProbes => self.probes.abort_all(),
            Action::Switch(order) => {
                self.works.spawn(switch::switch(self.context.clone(), *order));
            }
            Action::Pass(order) => {
                let desired = self.keep.desired().clone();
                self.works.spawn(pass::pass(self.context.clone(), desired, order));
            }
            Action::Ask { generation, question } => {
                let desired = self.keep.desired().clone();
                let (context, claims) = (self.context.clone(), self.claims.clone());
                self.questions.spawn(questions::answer(context, claims, desired, generation, question));
            }
            Action::Tell(news) => news::tell(&self.keep, &*self.context.listener, news, self.context.clock.now()),
            Action::RenewDrivers => self.drivers = (self.context.make_drivers)(),
        }
    }

    fn probe(&mut self, id: CheckId, round: u64) {
        let desired = self.keep.desired();
        let check = desired.check(id);
        let info = check.endpoint().and_then(|endpoint| self.keep.known().endpoint_info(endpoint));
        let trusted = issuer(check).and_then(|id| self.trusted.get(&id).cloned());
        let job = job(desired, check, info, trusted);
        let drivers = self.drivers.clone();
        self.probes.spawn(async move {
            let results = match &job {
                Some(job) => guarded("a check", drivers.probe().check(job)).await,
                None => None,
            };
            Event::CheckMade { check: id, round, results }
        });
    }

    /// Ends in order: what is under way may end within a bound, and what was found is stored.
    async fn shut_down(&mut self) {
        self.probes.abort_all();
        let context = self.context.clone();
        let ends = async {
            self.handle(Event::Stop);
            while let Some(ended) = self.works.join_next().await {
                let event = self.ended(ended);
                self.handle(event);
            }
            while self.keep.is_storing() {
                let Some(ended) = self.questions.join_next().await else { break };
                let event = self.ended(ended);
                self.handle(event);
            }
            context.home.leave().await;
        };
        // What does not end by then is taken up by whoever runs next, as after a kill.
        if within(&*context.clock, SHUT_DOWN, ends).await.is_none() {
            tracing::warn!("what is under way does not end: whoever runs next goes on with it");
        }
    }
}
