//! What a process that runs on says of itself over HTTP: whether it works, how everything is, what happens, and figures
//! for a monitoring system. It is read-only, and answers on this machine alone.

mod events;
mod metrics;
mod server;

use std::convert::Infallible;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use pindrel_core::desired::Desired;
use pindrel_core::planning::undo::KeptBack;
use pindrel_core::text::display_text::{one_line, with_causes};
use pindrel_engine::drivers::{RealDrivers, SystemClock};
use pindrel_engine::{CheckReport, Engine, Event, Home, Report, Scope, Setup};
use tokio::sync::watch;

use crate::args::{MAX_AGE, RunBounds};
use crate::context::bounds;
use crate::output;

pub(crate) use events::Events;
pub(crate) use metrics::Figures;

/// How often the loop turns at least while somebody may ask whether it does.
pub(crate) const TURN_EVERY: Duration = Duration::from_secs(5);
/// After how long without a turn it counts as stuck.
const STUCK_AFTER: Duration = Duration::from_secs(30);
/// How long the state may take to answer one question, and to say how everything is.
const STATE_PATIENCE: Duration = Duration::from_secs(10);
const ALL_PATIENCE: Duration = Duration::from_secs(60);
/// How long figures of the state are waited for: who collects them gives up after ten seconds as a rule.
const FIGURES_WITHIN: Duration = Duration::from_secs(5);
/// For how long what was read of the state is said again, at least.
const SAID_AGAIN: Duration = Duration::from_secs(1);

/// How everything is, and when that was read.
struct Seen {
    report: Report,
    checks: Vec<CheckReport>,
    kept_back: Vec<KeptBack>,
    read: Instant,
    took: Duration,
}

/// What is served: the state, the events and the counters of this process.
pub(crate) struct Watching {
    folder: PathBuf,
    home: Home,
    /// What should hold by now.
    desired: watch::Sender<Arc<Desired>>,
    /// Why the manifest on the disk cannot be used.
    broken: Mutex<Option<String>>,
    /// When the loop turned last.
    turned: Mutex<Instant>,
    pub(crate) events: Events,
    pub(crate) figures: Figures,
    /// One reads the state at a time, and all others get what it read.
    seen: tokio::sync::Mutex<Option<Arc<Seen>>>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Watching {
    pub(crate) fn new(desired: Arc<Desired>, folder: PathBuf, home: Home) -> Arc<Watching> {
        Arc::new(Watching {
            folder,
            home,
            desired: watch::Sender::new(desired),
            broken: Mutex::default(),
            turned: Mutex::new(Instant::now()),
            events: Events::default(),
            figures: Figures::default(),
            seen: tokio::sync::Mutex::default(),
        })
    }

    /// Takes up another manifest.
    pub(crate) fn replace(&self, desired: Arc<Desired>) {
        *locked(&self.broken) = None;
        self.desired.send_replace(desired);
    }

    /// Takes note that the manifest on the disk has mistakes.
    pub(crate) fn broken(&self, why: &str) {
        *locked(&self.broken) = Some(one_line(why));
    }

    /// Takes note that the loop has turned.
    pub(crate) fn turned(&self) {
        *locked(&self.turned) = Instant::now();
    }

    /// Takes note of what happened.
    pub(crate) fn happened(&self, event: &Event) {
        self.figures.happened(event);
        self.events.send(event);
    }

    /// Says why the loop counts as stuck.
    fn stuck(&self) -> Option<String> {
        let still = locked(&self.turned).elapsed();
        (still > STUCK_AFTER).then(|| format!("the loop has not turned for {} s", still.as_secs()))
    }

    /// Says why not everything is there that is needed to do the work.
    async fn unready(&self) -> Option<String> {
        if let Some(why) = self.stuck() {
            return Some(why);
        }
        let asked = tokio::time::timeout(STATE_PATIENCE, self.home.kept_back());
        match asked.await {
            Err(_) => return Some(format!("the state has not answered within {} s", STATE_PATIENCE.as_secs())),
            Ok(Err(error)) => return Some(format!("the state does not answer: {}", with_causes(&error))),
            Ok(Ok(_)) => {}
        }
        let broken = locked(&self.broken).clone();
        broken.map(|why| format!("the manifest on the disk cannot be used, and the last good one is in force: {why}"))
    }

    /// Reads how everything is, as the state has it; or says why that cannot be read. Requests that come soon after, or
    /// while it is read, share the result.
    async fn seen(&self) -> Result<Arc<Seen>, String> {
        let mut last = self.seen.lock().await;
        if let Some(seen) = last.as_ref().filter(|seen| seen.read.elapsed() < SAID_AGAIN.max(seen.took * 5)) {
            return Ok(seen.clone());
        }
        let begun = Instant::now();
        let read = tokio::time::timeout(ALL_PATIENCE, self.read()).await;
        let read = read.map_err(|_| format!("the state has not answered within {} s", ALL_PATIENCE.as_secs()))?;
        let (report, checks, kept_back) = read.map_err(|error| with_causes(&error))?;
        let seen = Arc::new(Seen { report, checks, kept_back, read: Instant::now(), took: begun.elapsed() });
        *last = Some(seen.clone());
        Ok(seen)
    }

    async fn read(&self) -> Result<(Report, Vec<CheckReport>, Vec<KeptBack>), pindrel_engine::EngineError> {
        let desired = self.desired.borrow().clone();
        let scope = Scope::all(&desired);
        let bounds = bounds(MAX_AGE, RunBounds::default());
        let engine = Engine::open(Setup {
            desired,
            folder: self.folder.clone(),
            home: self.home.clone(),
            drivers: Arc::new(RealDrivers::new(&self.folder, bounds.patience)),
            bounds,
            listener: Arc::new(()),
            clock: Arc::new(SystemClock::default()),
            command: "keep".into(),
        })
        .await?;
        let report = engine.reports.stored(&scope).await?;
        Ok((report, engine.health.list().await?, self.home.kept_back().await?))
    }

    /// How everything is, as `status --format json` writes it.
    async fn status(&self) -> Result<Vec<u8>, String> {
        let seen = self.seen().await?;
        output::status::as_json(&seen.report, &seen.kept_back).map_err(|error| error.to_string())
    }

    /// The figures, as OpenMetrics has them.
    async fn metrics(self: &Arc<Self>) -> Result<String, String> {
        // A state that does not answer soon is left out, and read on for the next request; the counters of this process
        // are always there.
        let watching = self.clone();
        let reading = tokio::spawn(async move { watching.seen().await.ok() });
        let seen = tokio::time::timeout(FIGURES_WITHIN, reading).await.ok().and_then(Result::ok).flatten();
        let seen = seen.as_ref().map(|seen| (&seen.report, seen.checks.as_slice()));
        self.figures.written(seen).map_err(|error| error.to_string())
    }
}

/// Answers at the address that the manifest names, and at another one once it names that; ends never.
pub(crate) async fn serve(watching: Arc<Watching>, note: impl Fn(&str)) -> Infallible {
    let mut changes = watching.desired.subscribe();
    loop {
        let listen = changes.borrow_and_update().listen;
        let is_other = |desired: &Arc<Desired>| desired.listen != listen;
        let Some(address) = listen else {
            if changes.wait_for(is_other).await.is_err() {
                std::future::pending::<()>().await;
            }
            continue;
        };
        tokio::select! {
            never = server::run(&watching, address, &note) => match never {},
            _ = changes.wait_for(is_other) => {}
        }
    }
}
