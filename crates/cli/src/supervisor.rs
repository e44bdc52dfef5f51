//! What a supervisor is told (`sd_notify(3)`): that the program is ready, that it works on, and that it stops. Where
//! none asks, nothing is told.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use sd_notify::NotifyState;

/// How much longer a start may take, each time that it is told to take longer.
pub(crate) const LONGER: Duration = Duration::from_secs(90);

/// A supervisor that may have started this process.
pub(crate) struct Supervisor {
    /// How often it wants to hear that work goes on.
    pub(crate) hears_every: Option<Duration>,
    told: Mutex<Option<Instant>>,
}

impl Supervisor {
    /// Reads what it has said in the environment.
    pub(crate) fn from_environment() -> Supervisor {
        // Well within the time after which it takes the process for dead.
        let hears_every = sd_notify::watchdog_enabled().map(|within| within / 3);
        Supervisor { hears_every, told: Mutex::default() }
    }

    /// Tells that work goes on; the first time, that it has begun.
    pub(crate) fn works_on(&self) {
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        match (*told, self.hears_every) {
            (None, _) => tell(NotifyState::Ready),
            (Some(at), Some(every)) if at.elapsed() >= every => tell(NotifyState::Watchdog),
            _ => return,
        }
        *told = Some(Instant::now());
    }
}

/// Tells that the start takes longer, and why.
pub(crate) fn starts_later(why: &str) {
    tell(NotifyState::Status(why));
    tell(NotifyState::ExtendTimeoutUsec(u32::try_from(LONGER.as_micros()).unwrap_or(u32::MAX)));
}

/// Tells that the process ends.
pub(crate) fn stops() {
    tell(NotifyState::Stopping);
}

fn tell(state: NotifyState<'_>) {
    // A supervisor that cannot be told acts by itself.
    let _ = sd_notify::notify(&[state]);
}
