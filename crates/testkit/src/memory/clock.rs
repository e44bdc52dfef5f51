//! Tokio's time as both of the engine's clocks.

use std::time::Duration;

use async_trait::async_trait;
use jiff::{SignedDuration, Timestamp};
use pindrel_engine::drivers::Clock;
use tokio::time::Instant;

/// When the world in memory begins.
const BEGIN_SECS: i64 = 1_800_000_000;

/// A wall clock that begins at a made-up time and goes on as tokio's clock does.
#[derive(Debug)]
pub struct VirtualClock {
    begun: Instant,
}

impl Default for VirtualClock {
    fn default() -> Self {
        VirtualClock { begun: Instant::now() }
    }
}

#[async_trait]
impl Clock for VirtualClock {
    fn now(&self) -> Timestamp {
        let begin = Timestamp::from_second(BEGIN_SECS).unwrap_or(Timestamp::UNIX_EPOCH);
        let elapsed = SignedDuration::try_from(self.elapsed()).unwrap_or(SignedDuration::MAX);
        begin.checked_add(elapsed).unwrap_or(Timestamp::MAX)
    }

    fn elapsed(&self) -> Duration {
        self.begun.elapsed()
    }

    async fn sleep(&self, duration: Duration) {
        tokio::time::sleep(duration).await;
    }
}
