//! No more calls a second than the manifest allows.

use std::collections::VecDeque;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use tokio::sync::{Semaphore, SemaphorePermit};
use tokio::time::Instant;

const SECOND: Duration = Duration::from_secs(1);

/// Bounds the calls that arrive within any second, whatever the way delays.
///
/// When a call arrives is not known here, only that it is between sending it and its reply. So each call has a place
/// that the next may take a second after its reply, and there are as many places as calls are allowed: of more calls
/// than that, two of one place arrive at least a second apart.
pub(super) struct Pace {
    between: Duration,
    /// One permit for each entry of `free_at`.
    free: Semaphore,
    places: Mutex<Places>,
}

struct Places {
    /// When the places that nobody has may be taken, in order.
    free_at: VecDeque<Instant>,
    /// When the next call may be sent, so that calls do not come in bursts.
    next: Instant,
}

/// The place of a call; dropped when its reply has arrived, or the caller has given up.
pub(super) struct Turn<'a> {
    pace: &'a Pace,
    _permit: SemaphorePermit<'a>,
}

impl Pace {
    pub(super) fn new(calls_per_second: u32) -> Pace {
        let calls = calls_per_second.max(1);
        let now = Instant::now();
        let places = Places { free_at: (0..calls).map(|_| now).collect(), next: now };
        Pace { between: SECOND / calls, free: Semaphore::new(calls as usize), places: Mutex::new(places) }
    }

    /// Waits until a call may be sent.
    pub(super) async fn turn(&self) -> Turn<'_> {
        let permit = self.free.acquire().await.unwrap_or_else(|_| unreachable!("nobody closes it"));
        let turn = Turn { pace: self, _permit: permit };
        let at = {
            let mut places = self.places();
            let free_at = places.free_at.pop_front();
            let at = places.next.max(Instant::now()).max(free_at.unwrap_or_else(Instant::now));
            places.next = at + self.between;
            at
        };
        tokio::time::sleep_until(at).await;
        turn
    }

    fn places(&self) -> MutexGuard<'_, Places> {
        self.places.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Turn<'_> {
    fn drop(&mut self) {
        self.pace.places().free_at.push_back(Instant::now() + SECOND);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;

    /// Calls that arrive anywhere between their sending and their reply, some given up on the way.
    #[tokio::test(start_paused = true)]
    async fn no_second_has_more_calls_than_allowed_wherever_they_are_delayed() {
        const CALLS: u32 = 40;
        let pace = Arc::new(Pace::new(CALLS));
        let arrived = Arc::new(Mutex::new(Vec::new()));
        let begun = Instant::now();
        let calls = (0..1_000_u64).map(|n| {
            let (pace, arrived) = (pace.clone(), arrived.clone());
            // Some hundred milliseconds there and back, in no order.
            let [there, back] = [n * 7_919 % 193, n * 104_729 % 97].map(Duration::from_millis);
            tokio::spawn(async move {
                let turn = pace.turn().await;
                tokio::time::sleep(there).await;
                arrived.lock().unwrap().push(Instant::now());
                if n % 5 != 0 {
                    tokio::time::sleep(back).await;
                }
                drop(turn);
            })
        });
        for call in calls.collect::<Vec<_>>() {
            call.await.unwrap();
        }
        let took = begun.elapsed();
        let mut arrived = arrived.lock().unwrap().clone();
        arrived.sort_unstable();
        for within in arrived.windows(CALLS as usize + 1) {
            assert!(within[CALLS as usize] - within[0] >= SECOND, "{within:?}");
        }
        // At the least 25 s; the way and back take their share of each place's time.
        assert!(took < Duration::from_secs(32), "{took:?}");
    }
}
