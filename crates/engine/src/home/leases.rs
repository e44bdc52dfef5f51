//! The worker that this process is on a state, and what it has claimed.
//!
//! One task renews the worker's lease at a third of its length. A lease that is lost (somebody else has taken the worker
//! for dead, or the state could not be told in time that it lives) ends all work under its claims before its next write to
//! the world.

use std::collections::{HashMap, HashSet};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use std::time::Duration;

use pindrel_core::judging::findings::{Finding, MachineCause};
use pindrel_core::names::name::Hostname;
use pindrel_state::{Claim, Claimed, State, StateError, Worker};
use tokio::runtime::Handle;
use tokio::sync::futures::Notified;
use tokio::sync::{Notify, watch};
use tokio::task::AbortHandle;

use crate::drivers::{Clock, within};

/// How long a lease is valid without being renewed.
const LEASE: Duration = Duration::from_secs(60);
/// How often within its length it is renewed.
const RENEWALS: u32 = 3;
/// How soon a renewal that failed is tried again.
const RENEW_AGAIN: Duration = Duration::from_secs(2);
/// How long one renewal may take.
const RENEWED_WITHIN: Duration = Duration::from_secs(10);
/// How long before its end a lease that could not be renewed counts as lost: a write that is under way takes its time.
const MARGIN: Duration = Duration::from_secs(10);

/// What the processes of a state have claimed, as far as this one knows.
pub(crate) struct Leases {
    state: Arc<dyn State>,
    lease: Duration,
    seat: tokio::sync::Mutex<Option<Arc<Seat>>>,
    claims: Arc<Mutex<Claims>>,
    /// That this process has given a claim back.
    released: Arc<Notify>,
}

#[derive(Default)]
struct Claims {
    /// What this process works on.
    held: HashSet<String>,
    /// What it does not work on any longer, and could not give back yet.
    left: Vec<Claim>,
}

/// A worker whose lease is renewed for as long as this exists.
struct Seat {
    worker: Arc<Worker>,
    is_lost: watch::Receiver<bool>,
    renewing: AbortHandle,
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.renewing.abort();
    }
}

/// What came of asking for a claim.
pub(crate) enum Granted {
    /// It is granted.
    Yes(Held),
    /// This worker has it, as in `settle (process 4711)`.
    HeldBy(String),
}

/// A claim that this process has.
pub(crate) struct Held {
    claim: Claim,
    state: Arc<dyn State>,
    claims: Arc<Mutex<Claims>>,
    released: Arc<Notify>,
    is_lost: watch::Receiver<bool>,
    is_released: bool,
}

fn locked(claims: &Mutex<Claims>) -> std::sync::MutexGuard<'_, Claims> {
    claims.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Leases {
    pub(crate) fn of(state: Arc<dyn State>) -> Leases {
        Leases::lasting(state, LEASE)
    }

    /// The same with leases of another length.
    pub(crate) fn lasting(state: Arc<dyn State>, lease: Duration) -> Leases {
        Leases { state, lease, seat: tokio::sync::Mutex::default(), claims: Arc::default(), released: Arc::default() }
    }

    /// The same state as another process has it.
    pub(crate) fn for_another_process(&self) -> Leases {
        Leases::lasting(self.state.clone(), self.lease)
    }

    /// Ends when this process next gives a claim back.
    pub(crate) fn next_release(&self) -> Notified<'_> {
        self.released.notified()
    }

    /// Asks for a claim, entering this process among the workers, as carrying out `command`, where it is none yet.
    pub(crate) async fn claim(
        self: &Arc<Self>,
        key: &str,
        command: &str,
        clock: &Arc<dyn Clock>,
    ) -> Result<Granted, StateError> {
        let Some(reserved) = self.reserve(key) else { return Ok(Granted::HeldBy(worker_name(command))) };
        let (leases, command, clock) = (self.clone(), command.to_owned(), clock.clone());
        ToItsEnd::of(async move {
            leases.give_back_left().await;
            let seat = leases.seat(&command, &clock).await?;
            Ok(match leases.state.claim(&seat.worker, &reserved.key, clock.now()).await? {
                Claimed::Yes(claim) => Granted::Yes(leases.held(reserved, claim, &seat)),
                Claimed::HeldBy { worker } => Granted::HeldBy(worker),
            })
        })
        .await
    }

    /// Claims those of some keys that no other process has.
    pub(crate) async fn claim_free(
        self: &Arc<Self>,
        keys: Vec<String>,
        command: &str,
        clock: &Arc<dyn Clock>,
    ) -> Result<Vec<Held>, StateError> {
        let reserved = keys.into_iter().filter_map(|key| Some((key.clone(), self.reserve(&key)?)));
        let mut reserved: HashMap<String, Reserved> = reserved.collect();
        let (leases, command, clock) = (self.clone(), command.to_owned(), clock.clone());
        ToItsEnd::of(async move {
            leases.give_back_left().await;
            let seat = leases.seat(&command, &clock).await?;
            let keys: Vec<String> = reserved.keys().cloned().collect();
            let granted = leases.state.claim_free(&seat.worker, &keys, clock.now()).await?;
            let held = |claim: Claim| Some(leases.held(reserved.remove(&claim.key)?, claim, &seat));
            Ok(granted.into_iter().filter_map(held).collect())
        })
        .await
    }

    /// Counts a key as held by this process; `None` where it is already.
    fn reserve(&self, key: &str) -> Option<Reserved> {
        let is_new = locked(&self.claims).held.insert(key.to_owned());
        is_new.then(|| Reserved { claims: self.claims.clone(), key: key.to_owned(), is_granted: false })
    }

    fn held(&self, mut reserved: Reserved, claim: Claim, seat: &Seat) -> Held {
        reserved.is_granted = true;
        let (state, claims, released) = (self.state.clone(), self.claims.clone(), self.released.clone());
        Held { claim, state, claims, released, is_lost: seat.is_lost.clone(), is_released: false }
    }

    /// Enters this process among the workers, where it is none yet: from then on it hears of it where others work on the
    /// same things.
    pub(crate) async fn enter(&self, command: &str, clock: &Arc<dyn Clock>) -> Result<(), StateError> {
        self.seat(command, clock).await.map(drop)
    }

    /// Takes this process out of the workers.
    pub(crate) async fn end(&self) {
        let Some(seat) = self.seat.lock().await.take() else { return };
        if let Err(error) = self.state.leave(&seat.worker).await {
            tracing::debug!(%error, "the worker is not taken out: others see that it has ended");
        }
    }

    async fn seat(&self, command: &str, clock: &Arc<dyn Clock>) -> Result<Arc<Seat>, StateError> {
        let mut seat = self.seat.lock().await;
        if let Some(seat) = seat.as_ref().filter(|seat| !*seat.is_lost.borrow()) {
            return Ok(seat.clone());
        }
        let worker = Arc::new(self.state.enter_worker(&worker_name(command), clock.now(), self.lease).await?);
        let (lost, is_lost) = watch::channel(false);
        let renewal = Renewal {
            state: self.state.clone(),
            lease: self.lease,
            worker: worker.clone(),
            clock: clock.clone(),
            claims: self.claims.clone(),
            lost,
        };
        let renewing = tokio::spawn(renewal.run()).abort_handle();
        Ok(seat.insert(Arc::new(Seat { worker, is_lost, renewing })).clone())
    }

    /// Gives back what this process does not work on any longer, as far as that is not done yet.
    pub(crate) async fn give_back_left(&self) {
        give_back_left(&*self.state, &self.claims).await;
    }
}

async fn give_back_left(state: &dyn State, claims: &Mutex<Claims>) {
    let left = std::mem::take(&mut locked(claims).left);
    if !left.is_empty()
        && let Err(error) = state.release_claims(&left).await
    {
        tracing::debug!(%error, "claims not released yet");
        locked(claims).left.extend(left);
    }
}

/// The task that renews a lease.
struct Renewal {
    state: Arc<dyn State>,
    lease: Duration,
    worker: Arc<Worker>,
    clock: Arc<dyn Clock>,
    claims: Arc<Mutex<Claims>>,
    lost: watch::Sender<bool>,
}

impl Renewal {
    /// Renews it again and again, until it is lost.
    async fn run(self) {
        let Renewal { state, lease, worker, clock, claims, lost } = self;
        let usual = lease / RENEWALS;
        let (mut renewed, mut pause) = (clock.elapsed(), usual);
        loop {
            clock.sleep(pause).await;
            let asked = clock.elapsed();
            match within(&*clock, RENEWED_WITHIN, state.renew_worker(&worker, clock.now(), lease)).await {
                Some(Ok(true)) => (renewed, pause) = (asked, usual),
                Some(Ok(false)) => break,
                Some(Err(error)) => {
                    tracing::debug!(%error, "the lease is not renewed");
                    pause = RENEW_AGAIN;
                }
                None => pause = RENEW_AGAIN,
            }
            if clock.elapsed().saturating_sub(renewed) + MARGIN + pause >= lease {
                break;
            }
            give_back_left(&*state, &claims).await;
        }
        tracing::debug!("the lease is lost");
        // Nobody may be left who works under it.
        let _ = lost.send(true);
    }
}

/// A question to the state that goes on in a task of its own when whoever asked gives up: a claim that was granted to nobody
/// would be held until this process ends. So it is dropped, and given back.
struct ToItsEnd<T: Send + 'static>(Option<Pin<Box<dyn Future<Output = T> + Send>>>);

impl<T: Send + 'static> ToItsEnd<T> {
    fn of(asking: impl Future<Output = T> + Send + 'static) -> ToItsEnd<T> {
        ToItsEnd(Some(Box::pin(asking)))
    }
}

impl<T: Send + 'static> Future for ToItsEnd<T> {
    type Output = T;

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<T> {
        let Some(asking) = &mut self.0 else { return Poll::Pending };
        let answer = ready!(asking.as_mut().poll(context));
        self.0 = None;
        Poll::Ready(answer)
    }
}

impl<T: Send + 'static> Drop for ToItsEnd<T> {
    fn drop(&mut self) {
        if let (Some(asking), Ok(runtime)) = (self.0.take(), Handle::try_current()) {
            runtime.spawn(asking);
        }
    }
}

/// What is claimed by whoever changes the alias of a hostname.
pub(crate) fn alias_claim(hostname: &Hostname) -> String {
    format!("alias {hostname}")
}

/// What others call this process while it carries out a command.
fn worker_name(command: &str) -> String {
    format!("{command} (process {} on {})", std::process::id(), pindrel_machine::host_name())
}

/// A key that is being claimed: counted as held until it is refused.
struct Reserved {
    claims: Arc<Mutex<Claims>>,
    key: String,
    is_granted: bool,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        if !self.is_granted {
            locked(&self.claims).held.remove(&self.key);
        }
    }
}

impl Held {
    /// Works under the claim, until that is done or the lease is lost.
    pub(crate) async fn work<T>(&self, work: impl AsyncFnOnce(&Claim) -> Result<T, Finding>) -> Result<T, Finding> {
        let mut is_lost = self.is_lost.clone();
        tokio::select! {
            biased;
            result = work(&self.claim) => result,
            Ok(_) = is_lost.wait_for(|is_lost| *is_lost) => Err(lease_lost(&self.claim.key)),
        }
    }

    /// Works under the claim, and gives it back.
    pub(crate) async fn during<T>(self, work: impl AsyncFnOnce(&Claim) -> Result<T, Finding>) -> Result<T, Finding> {
        let result = self.work(work).await;
        self.release().await;
        result
    }

    /// What is claimed.
    pub(crate) fn key(&self) -> &str {
        &self.claim.key
    }

    /// Says whether the lease is lost that it depends on.
    pub(crate) fn is_lost(&self) -> bool {
        *self.is_lost.borrow()
    }

    /// Gives the claim back.
    pub(crate) async fn release(mut self) {
        self.is_released = self.state.release_claims(std::slice::from_ref(&self.claim)).await.is_ok();
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        {
            let mut claims = locked(&self.claims);
            claims.held.remove(&self.claim.key);
            if !self.is_released {
                claims.left.push(self.claim.clone());
            }
        }
        self.released.notify_waiters();
    }
}

fn lease_lost(key: &str) -> Finding {
    Finding::machine(MachineCause::LeaseLost { key: key.to_owned() })
}

/// What another worker works on, which is waited for.
pub(crate) fn busy(key: &str, worker: &str) -> Finding {
    Finding::machine(MachineCause::WorkedOnElsewhere { key: key.to_owned(), worker: worker.to_owned() })
}

#[cfg(test)]
mod tests {
    use pindrel_state::{Access, SqliteState};

    use super::*;
    use crate::drivers::SystemClock;

    #[tokio::test(flavor = "multi_thread")]
    async fn whoever_gives_up_asking_for_a_claim_leaves_it_to_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let state = Arc::new(SqliteState::open(&folder.path().join("state.sqlite"), Access::Change).unwrap());
        let leases = Arc::new(Leases::of(state));
        let clock: Arc<dyn Clock> = Arc::new(SystemClock::default());
        let keys = || vec!["check a".to_owned(), "check b".to_owned()];
        for micros in (0..2_000).step_by(40) {
            let asking = leases.claim_free(keys(), "keep", &clock);
            drop(tokio::time::timeout(Duration::from_micros(micros), asking).await);
        }
        for _ in 0..500 {
            if leases.claim_free(keys(), "keep", &clock).await.unwrap().len() == 2 {
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("they are held by nobody, and by this process");
    }
}
