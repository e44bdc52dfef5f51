//! How long a run does nothing but wait.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use crate::drivers::Clock;

/// Measures the time in which no step was at work and at least one was waiting.
#[derive(Debug, Default)]
pub(crate) struct Waits {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    working: usize,
    waiting: usize,
    /// Since when nobody works and somebody waits.
    idle_since: Option<Duration>,
    total: Duration,
}

impl Waits {
    fn change(&self, now: Duration, change: impl FnOnce(&mut Inner)) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let was_idle = inner.working == 0 && inner.waiting > 0;
        change(&mut inner);
        let is_idle = inner.working == 0 && inner.waiting > 0;
        if was_idle
            && !is_idle
            && let Some(since) = inner.idle_since.take()
        {
            inner.total += now.saturating_sub(since);
        }
        if is_idle && inner.idle_since.is_none() {
            inner.idle_since = Some(now);
        }
    }

    /// Counts a step as at work until the guard is dropped.
    pub(crate) fn work<'w>(&'w self, clock: &'w dyn Clock) -> Working<'w> {
        self.change(clock.elapsed(), |inner| inner.working += 1);
        Working { waits: self, clock }
    }

    /// Pauses, counting the step as waiting.
    pub(crate) async fn pause(&self, clock: &dyn Clock, duration: Duration) {
        self.change(clock.elapsed(), |inner| inner.waiting += 1);
        let _waiting = Waiting { waits: self, clock };
        clock.sleep(duration).await;
    }

    /// The whole time so far.
    pub(crate) fn total(&self, clock: &dyn Clock) -> Duration {
        let inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let open = inner.idle_since.map_or(Duration::ZERO, |since| clock.elapsed().saturating_sub(since));
        inner.total + open
    }
}

/// A step at work.
pub(crate) struct Working<'w> {
    waits: &'w Waits,
    clock: &'w dyn Clock,
}

impl Drop for Working<'_> {
    fn drop(&mut self) {
        self.waits.change(self.clock.elapsed(), |inner| inner.working = inner.working.saturating_sub(1));
    }
}

struct Waiting<'w> {
    waits: &'w Waits,
    clock: &'w dyn Clock,
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.waits.change(self.clock.elapsed(), |inner| inner.waiting = inner.waiting.saturating_sub(1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drivers::SystemClock;

    const SPAN: Duration = Duration::from_millis(60);

    #[tokio::test]
    async fn only_the_time_in_which_nobody_works_counts_and_counts_once() {
        let (waits, clock) = (Waits::default(), SystemClock::default());
        {
            // While another step is at work, nothing is lost by waiting.
            let _busy = waits.work(&clock);
            waits.pause(&clock, SPAN).await;
        }
        assert_eq!(waits.total(&clock), Duration::ZERO);
        // Two that wait at once wait once.
        tokio::join!(waits.pause(&clock, SPAN), waits.pause(&clock, SPAN));
        let total = waits.total(&clock);
        assert!(total >= SPAN && total < 10 * SPAN, "{total:?}");
        // One that is given up while it waits no longer waits.
        assert!(tokio::time::timeout(SPAN / 2, waits.pause(&clock, SPAN)).await.is_err());
        let after = waits.total(&clock);
        assert!(after > total);
        tokio::time::sleep(SPAN).await;
        assert_eq!(waits.total(&clock), after, "nobody waits now");
        waits.pause(&clock, SPAN).await;
        assert!(waits.total(&clock) >= after + SPAN);
    }
}
