//! The pauses after failures: longer each time, and spread where many would come at once.

use std::hash::Hasher as _;
use std::time::Duration;

use siphasher::sip::SipHasher13;

/// How pauses grow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RetryDelay {
    /// The pause after the first failure; each further one doubles it.
    pub first: Duration,
    /// The longest pause.
    pub longest: Duration,
}

impl RetryDelay {
    /// Of a hostname or certificate that is not as it should be.
    pub const RETRY: RetryDelay =
        RetryDelay { first: Duration::from_secs(60), longest: Duration::from_secs(6 * 3_600) };
    /// Of one whose certificate is near its end.
    pub const URGENT: RetryDelay = RetryDelay { longest: Duration::from_secs(600), ..RetryDelay::RETRY };
    /// Of an alias that has to leave an endpoint: users suffer until it does.
    pub const SWITCH: RetryDelay = RetryDelay { first: Duration::from_secs(1), longest: Duration::from_secs(60) };

    /// Returns how long to wait after so many failures in a row.
    pub fn after(self, failures: u32) -> Duration {
        let grown = self.first.saturating_mul(2_u32.saturating_pow(failures.saturating_sub(1)));
        grown.min(self.longest)
    }

    /// The same, a fifth more or less: by the name of what failed, so that not all come back at once.
    pub fn spread_after(self, name: &str, failures: u32) -> Duration {
        self.after(failures).mul_f64(0.8 + 0.4 * spread(name, u64::from(failures)))
    }
}

/// A number from 0 to 1 that looks random and is the same each time: it spreads what would come at once.
pub fn spread(name: &str, round: u64) -> f64 {
    let mut hasher = SipHasher13::new();
    hasher.write(name.as_bytes());
    hasher.write_u64(round);
    (hasher.finish() >> 11) as f64 / (1_u64 << 53) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_are_spread_and_have_an_end() {
        for (failures, delay, least, most) in [
            (1, RetryDelay::RETRY, 48, 72),
            (2, RetryDelay::RETRY, 96, 144),
            (9, RetryDelay::RETRY, 12_288, 18_432),
            (40, RetryDelay::RETRY, 17_280, 25_920),
            (40, RetryDelay::URGENT, 480, 720),
        ] {
            let pauses: Vec<u64> =
                (0..200).map(|n| delay.spread_after(&format!("host-{n}"), failures).as_secs()).collect();
            assert!(pauses.iter().all(|pause| (least..=most).contains(pause)), "{failures}: {pauses:?}");
            let mean = pauses.iter().sum::<u64>() as f64 / 200.0;
            assert!((mean / ((least + most) as f64 / 2.0) - 1.0).abs() < 0.05, "{failures}: {mean}");
        }
        assert_eq!([1, 2, 7, 99].map(|failures| RetryDelay::SWITCH.after(failures).as_secs()), [1, 2, 60, 60]);
    }
}
