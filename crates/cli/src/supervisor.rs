//! Messages to a supervisor (`sd_notify(3)`): that the program is ready, that it is alive, and that it stops. Where no
//! supervisor asks for them, none is sent.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use sd_notify::NotifyState;

/// How much longer a start may take, each time that it says so.
pub(crate) const LONGER: Duration = Duration::from_secs(90);

/// A supervisor that may have started this process.
pub(crate) struct Supervisor {
    /// How often it expects a message that the process is alive; `None` where it expects none.
    pub(crate) alive_every: Option<Duration>,
    /// When the last message was sent.
    sent: Mutex<Option<Instant>>,
}

impl Supervisor {
    /// Reads what it has said in the environment.
    pub(crate) fn from_environment() -> Supervisor {
        // Well within the time after which it takes the process for dead.
        let alive_every = sd_notify::watchdog_enabled().map(|within| within / 3);
        Supervisor { alive_every, sent: Mutex::default() }
    }

    /// Says that the process is alive; the first time, that it is ready.
    pub(crate) fn works_on(&self) {
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        match (*sent, self.alive_every) {
            (None, _) => send(NotifyState::Ready),
            (Some(at), Some(every)) if at.elapsed() >= every => send(NotifyState::Watchdog),
            _ => return,
        }
        *sent = Some(Instant::now());
    }
}

/// Says that the start takes longer, and why.
pub(crate) fn starts_later(why: &str) {
    send(NotifyState::Status(why));
    send(NotifyState::ExtendTimeoutUsec(u32::try_from(LONGER.as_micros()).unwrap_or(u32::MAX)));
}

/// Says that the process stops.
pub(crate) fn stops() {
    send(NotifyState::Stopping);
}

fn send(state: NotifyState<'_>) {
    // A supervisor that cannot be reached acts by itself.
    let _ = sd_notify::notify(&[state]);
}
