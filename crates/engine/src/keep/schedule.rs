//! When what is due: a queue of times, and the pauses after failures.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::hash::Hasher as _;
use std::time::Duration;

use pindrel_core::desired::{CheckId, HostnameId};
use siphasher::sip::SipHasher13;

/// The first pause after a failure, and the longest.
const FIRST_RETRY: Duration = Duration::from_secs(60);
const LONGEST_RETRY: Duration = Duration::from_secs(6 * 3_600);
/// The longest pause while a certificate is about to end.
const URGENT_RETRY: Duration = Duration::from_secs(600);

/// What is due at some time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Task {
    /// A check is to be made.
    Check(CheckId),
    /// What an alias gives is to be decided anew.
    Decide(HostnameId),
    /// The next hostnames are to be looked at in their turn, and what is due with them.
    Pass,
    /// What failed is to be tried again.
    Retry,
    /// What checks found is to be stored.
    Store,
    /// What is stored of checks is to be thinned.
    Thin,
    /// A changed manifest that could not be loaded is to be tried again.
    Load,
}

/// What is due, and when: on the clock that nobody sets.
#[derive(Debug, Default)]
pub(super) struct Schedule(BinaryHeap<Reverse<(Duration, Task)>>);

impl Schedule {
    /// Adds a task.
    pub(super) fn add(&mut self, at: Duration, task: Task) {
        self.0.push(Reverse((at, task)));
    }

    /// Returns when the next task is due.
    pub(super) fn next_at(&self) -> Option<Duration> {
        self.0.peek().map(|Reverse((at, _))| *at)
    }

    /// Takes the next task that is due, with the time at which it was.
    pub(super) fn take_due(&mut self, now: Duration) -> Option<(Duration, Task)> {
        self.next_at().filter(|at| *at <= now)?;
        self.0.pop().map(|Reverse(due)| due)
    }
}

/// A number from 0 to 1 that looks random and is the same each time: it spreads what would come at once.
pub(super) fn spread(name: &str, round: u64) -> f64 {
    let mut hasher = SipHasher13::new();
    hasher.write(name.as_bytes());
    hasher.write_u64(round);
    (hasher.finish() >> 11) as f64 / (1_u64 << 53) as f64
}

/// Returns how long to wait after so many failures in a row: longer each time, spread, and shorter while a
/// certificate is about to end.
pub(super) fn retry_pause(name: &str, failures: u32, is_urgent: bool) -> Duration {
    let longest = if is_urgent { URGENT_RETRY } else { LONGEST_RETRY };
    let grown = FIRST_RETRY.saturating_mul(2_u32.saturating_pow(failures.saturating_sub(1)));
    let pause = grown.min(longest);
    // A fifth more or less.
    pause.mul_f64(0.8 + 0.4 * spread(name, u64::from(failures)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_are_spread_and_have_an_end() {
        for (failures, urgent, least, most) in [
            (1, false, 48, 72),
            (2, false, 96, 144),
            (9, false, 12_288, 18_432),
            (40, false, 17_280, 25_920),
            (40, true, 480, 720),
        ] {
            let pauses: Vec<u64> =
                (0..200).map(|n| retry_pause(&format!("host-{n}"), failures, urgent).as_secs()).collect();
            assert!(pauses.iter().all(|pause| (least..=most).contains(pause)), "{failures}: {pauses:?}");
            let mean = pauses.iter().sum::<u64>() as f64 / 200.0;
            assert!((mean / ((least + most) as f64 / 2.0) - 1.0).abs() < 0.05, "{failures}: {mean}");
        }
    }

    #[test]
    fn what_is_due_comes_in_its_order_and_not_before() {
        let mut schedule = Schedule::default();
        let at = Duration::from_secs;
        for (n, secs) in [(0, 7), (1, 3), (2, 3), (3, 9)] {
            schedule.add(at(secs), Task::Check(CheckId(n)));
        }
        assert_eq!(schedule.take_due(at(2)), None);
        let due: Vec<_> = std::iter::from_fn(|| schedule.take_due(at(7))).collect();
        let check = |n| Task::Check(CheckId(n));
        assert_eq!(due, [(at(3), check(1)), (at(3), check(2)), (at(7), check(0))]);
        assert_eq!(schedule.next_at(), Some(at(9)));
    }
}
