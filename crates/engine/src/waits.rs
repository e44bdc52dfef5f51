//! How long a run does nothing but wait.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Measures the time in which no step was at work and at least one was waiting.
#[derive(Debug, Default)]
pub(crate) struct Waits {
    inner: Mutex<Inner>,
}

#[derive(Debug, Default)]
struct Inner {
    working: usize,
    waiting: usize,
    idle_since: Option<Instant>,
    total: Duration,
}

impl Waits {
    fn change(&self, change: impl FnOnce(&mut Inner)) {
        let mut inner = self.inner.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        if let Some(since) = inner.idle_since.take() {
            inner.total += now - since;
        }
        change(&mut inner);
        inner.idle_since = (inner.working == 0 && inner.waiting > 0).then_some(now);
    }

    /// Counts a step as at work until the guard is dropped.
    pub(crate) fn work(&self) -> Working<'_> {
        self.change(|inner| inner.working += 1);
        Working { waits: self }
    }

    /// Sleeps, counting the step that sleeps as waiting.
    pub(crate) async fn sleep(&self, duration: Duration) {
        self.change(|inner| {
            inner.working = inner.working.saturating_sub(1);
            inner.waiting += 1;
        });
        let _back = Back { waits: self };
        tokio::time::sleep(duration).await;
    }

    pub(crate) fn total(&self) -> Duration {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner).total
    }
}

/// A step at work.
pub(crate) struct Working<'w> {
    waits: &'w Waits,
}

impl Drop for Working<'_> {
    fn drop(&mut self) {
        self.waits.change(|inner| inner.working = inner.working.saturating_sub(1));
    }
}

struct Back<'w> {
    waits: &'w Waits,
}

impl Drop for Back<'_> {
    fn drop(&mut self) {
        self.waits.change(|inner| {
            inner.waiting = inner.waiting.saturating_sub(1);
            inner.working += 1;
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SPAN: Duration = Duration::from_millis(60);

    /// Sleeps as one step at work.
    async fn step(waits: &Waits) {
        let _working = waits.work();
        waits.sleep(SPAN).await;
    }

    #[tokio::test]
    async fn only_the_time_in_which_nobody_works_counts_and_counts_once() {
        let waits = Waits::default();
        {
            // While another step is at work, nothing is lost by waiting.
            let _busy = waits.work();
            step(&waits).await;
        }
        assert_eq!(waits.total(), Duration::ZERO);
        // Two that wait at once wait once.
        tokio::join!(step(&waits), step(&waits));
        let total = waits.total();
        assert!(total >= SPAN && total < 10 * SPAN, "{total:?}");
        // One that is given up while it waits is not at work any more, nor waiting.
        assert!(tokio::time::timeout(SPAN / 2, step(&waits)).await.is_err());
        let after = waits.total();
        assert!(after > total);
        tokio::time::sleep(SPAN).await;
        assert_eq!(waits.total(), after, "nobody waits now");
        step(&waits).await;
        assert!(waits.total() >= after + SPAN);
    }
}
