//! How far a piece of work has got, and how what it waits for is waited for.

use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::judging::findings::Finding;

/// The first pause between two looks at something that has to catch up; each is longer than
/// the one before, up to the longest.
const FIRST_PAUSE: Duration = Duration::from_millis(40);
const PAUSE_GROWTH: f64 = 1.6;
/// The longest pause in the first minute, and later.
const LONGEST_PAUSE_AT_FIRST: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(15);
const AT_FIRST: Duration = Duration::from_secs(60);

/// What a step came to, if it did not fail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Progress {
    /// It is done, and verified.
    Done,
    /// The world has to catch up: the step gives its place back and is begun again then.
    NotYet(Wait),
}

/// What a step waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Wait {
    /// When to look again; `None` looks at a growing pace.
    pub(crate) until: Option<Timestamp>,
    /// What is waited for: waits of one topic are measured together.
    pub(crate) topic: &'static str,
    /// What is waited for, as in "catalogue to deploy the binding".
    pub(crate) what: String,
    /// How long it may take before it counts as failed, and never longer than the run has patience; as long as that
    /// where `None`, and then the step is put off to a later run.
    pub(crate) within: Option<Duration>,
    /// What is reported when that time is over.
    pub(crate) finding: Finding,
}

/// The topic of waits for an authority.
pub(crate) const ORDER: &str = "order";

impl Wait {
    /// Returns when it is over, where that is known: an authority says only when to look again (RFC 8555 §7.5.1).
    pub(crate) fn over_at(&self) -> Option<Timestamp> {
        self.until.filter(|_| self.topic != ORDER)
    }
}

/// Pauses between looks at one thing that has to catch up.
pub(crate) struct Backoff {
    begun: Duration,
    next: Duration,
}

impl Backoff {
    /// Begins at `now`, on the clock that nobody sets.
    pub(crate) fn begin(now: Duration) -> Backoff {
        Backoff { begun: now, next: FIRST_PAUSE }
    }

    fn left(&self, within: Duration, now: Duration) -> Option<Duration> {
        within.checked_sub(now.saturating_sub(self.begun)).filter(|left| !left.is_zero())
    }

    /// Returns the next pause, or `None` when the time is over.
    pub(crate) fn next(&mut self, within: Duration, now: Duration) -> Option<Duration> {
        let pause = self.next.min(self.left(within, now)?);
        let at_first = now.saturating_sub(self.begun) < AT_FIRST;
        let longest = if at_first { LONGEST_PAUSE_AT_FIRST } else { LONGEST_PAUSE };
        self.next = self.next.mul_f64(PAUSE_GROWTH).min(longest);
        Some(pause)
    }
}

/// The waits of one step.
pub(crate) struct Pauses {
    topic: &'static str,
    growing: Backoff,
    /// The longest time that was named for the topic: what a cached answer says of itself shrinks
    /// as it is waited for.
    within: Duration,
}

impl Pauses {
    pub(crate) fn begin(now: Duration) -> Pauses {
        Pauses { topic: "", growing: Backoff::begin(now), within: Duration::ZERO }
    }

    /// The next pause of a wait, or `None` when its time is over. `now` is the time that
    /// nobody sets.
    pub(crate) fn next(&mut self, wait: &Wait, patience: Duration, now: Duration, wall: Timestamp) -> Option<Duration> {
        if self.topic != wait.topic {
            *self = Pauses { topic: wait.topic, ..Pauses::begin(now) };
        }
        self.within = self.within.max(wait.within.unwrap_or(patience)).min(patience);
        let within = self.within;
        let Some(until) = wait.until else { return self.growing.next(within, now) };
        // A time that lies beyond the patience is not waited for in vain.
        let pause = Duration::try_from(until.duration_since(wall)).unwrap_or_default();
        self.growing.left(within, now).filter(|left| pause <= *left).map(|_| pause)
    }

    /// How much longer the present wait may take at most.
    pub(crate) fn left(&self, now: Duration) -> Duration {
        self.growing.left(self.within, now).unwrap_or_default()
    }

    /// When to look again at what did not happen in time: after as long a time as it was waited for.
    pub(crate) fn again(&self, now: Duration, wall: Timestamp) -> Timestamp {
        let waited = now.saturating_sub(self.growing.begun).max(AT_FIRST);
        wall.checked_add(waited).unwrap_or(wall)
    }
}

/// A time so many seconds from another.
pub(crate) fn seconds_from(at: Timestamp, secs: i64) -> Timestamp {
    at.checked_add(SignedDuration::from_secs(secs)).unwrap_or(at)
}

#[cfg(test)]
mod tests {

    use super::*;

    fn wait(topic: &'static str, within: Option<u64>, until: Option<i64>) -> Wait {
        Wait {
            until: until.map(|secs| Timestamp::from_second(secs).unwrap()),
            topic,
            what: String::new(),
            within: within.map(Duration::from_secs),
            finding: Finding::internal("late"),
        }
    }

    /// Pauses grow, fit into what is left, and end; another topic begins anew.
    #[test]
    fn what_is_waited_for_ends_by_its_own_bound_or_by_the_runs_patience() {
        let patience = Duration::from_secs(600);
        for (within, bound) in [(Some(30), 30.0), (None, 600.0), (Some(3_000), 600.0)] {
            let mut pauses = Pauses::begin(Duration::ZERO);
            let (mut now, mut before, mut looks) = (Duration::ZERO, Duration::ZERO, 0);
            while let Some(pause) = pauses.next(&wait("deploy", within, None), patience, now, Timestamp::UNIX_EPOCH) {
                let last = (now + pause).as_secs_f64() >= bound - 0.001;
                assert!(pause >= before || last, "{pause:?} after {before:?}");
                (now, before, looks) = (now + pause, pause, looks + 1);
            }
            assert!((now.as_secs_f64() - bound).abs() < 0.01, "{now:?} of {bound} s");
            let again = pauses.again(now, Timestamp::UNIX_EPOCH).as_second();
            assert_eq!(again, (bound as i64).max(60), "what took long is looked at again after as long");
            assert!(looks < 60 + now.as_secs() / 10, "{looks} looks in {now:?}");
            let begun_anew = pauses.next(&wait("serve", Some(1), None), patience, now, Timestamp::UNIX_EPOCH);
            assert_eq!(begun_anew, Some(FIRST_PAUSE));
        }
        // A time is waited for exactly, or not at all.
        let mut pauses = Pauses::begin(Duration::ZERO);
        let mut at = |until| {
            pauses.next(&wait("order", None, Some(until)), patience, Duration::from_secs(100), Timestamp::UNIX_EPOCH)
        };
        assert_eq!(at(7), Some(Duration::from_secs(7)));
        assert_eq!(at(-5), Some(Duration::ZERO), "it is over already");
        assert_eq!(at(601), None);
    }
}
