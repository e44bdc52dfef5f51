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
