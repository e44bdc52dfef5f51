//! From results to verdicts.

use std::collections::BTreeMap;
use std::fmt;
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{CheckFailure, CheckResult, CheckTerms};
use crate::judging::facts::Unreachable;

/// What a health check has concluded.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// It works.
    Up,
    /// It does not.
    Down,
    /// There are not enough results, or none can be had from here.
    #[default]
    Unknown,
}

impl Verdict {
    /// Returns its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Verdict::Up => "up",
            Verdict::Down => "down",
            Verdict::Unknown => "unknown",
        }
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

/// How many results in a row make a verdict.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Thresholds {
    /// Failures until it is down; at least one.
    pub down_after: u32,
    /// Successes until it is up; at least one.
    pub up_after: u32,
    /// How many failures make it down though successes are among them.
    pub rate: Option<FailureRate>,
}

/// So many failures among so many results, in whatever order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FailureRate {
    /// How many have failed; at least one.
    pub failed: u32,
    /// Of the last how many; at most [`FailureRate::MOST`].
    pub of: u32,
}

impl FailureRate {
    /// The most results that are looked back at.
    pub const MOST: u32 = 64;

    /// Says whether results reach it; the newest is the lowest bit, and one that failed is set.
    fn is_reached(self, recent: u64) -> bool {
        let within = u64::MAX >> (FailureRate::MOST - self.of.clamp(1, FailureRate::MOST));
        (recent & within).count_ones() >= self.failed
    }
}

/// The last failure of a check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failure {
    /// When it was seen.
    pub at: Timestamp,
    /// What failed.
    pub why: CheckFailure,
}

/// After how many intervals without a result those before are no longer in a row with it.
const MISSED: u32 = 3;
/// How much later than it is there a result may be stored.
const STORED_WITHIN: Duration = Duration::from_secs(10);

fn is_zero(bits: &u64) -> bool {
    *bits == 0
}

/// What the results at one address have concluded so far.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Track {
    /// The verdict.
    pub verdict: Verdict,
    /// How many results in a row have passed.
    pub passed: u32,
    /// How many in a row have failed.
    pub failed: u32,
    /// Which of the last results failed: the newest is the lowest bit.
    #[serde(skip_serializing_if = "is_zero")]
    pub recent: u64,
    /// When the last result was there.
    pub seen: Option<Timestamp>,
    /// When the failures that are not over yet began.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failing_since: Option<Timestamp>,
    /// The last failure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_failure: Option<Failure>,
    /// Why it cannot be checked from here.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub impossible: Option<Unreachable>,
}

impl Track {
    /// Says whether so many of the last results failed that it is down, whatever the last ones were.
    fn fails_often(&self, thresholds: Thresholds) -> bool {
        thresholds.rate.is_some_and(|rate| rate.is_reached(self.recent))
    }

    /// Takes one result; the verdict follows the thresholds exactly.
    ///
    /// Results are in a row when they follow one another at the interval of the check, whoever made them: after a
    /// longer time without any the row begins anew, and one that comes sooner proves nothing more. Only the first
    /// successes, before anything is concluded, count however soon they come: no client loses by them.
    pub fn record(&mut self, at: Timestamp, result: &CheckResult, terms: &CheckTerms) {
        let thresholds = terms.thresholds;
        if let Some(gap) = self.seen.map(|seen| Duration::try_from(at.duration_since(seen)).unwrap_or_default()) {
            // Results are there when checks end, and a busy machine begins some late: the next may well be nearer.
            let is_early = gap < terms.every.saturating_sub(terms.timeout).min(terms.every / 2);
            let is_first = self.verdict == Verdict::Unknown && (self.failed == 0 || *result == CheckResult::Passed);
            if is_early && !is_first && self.impossible.is_none() {
                return;
            }
            if gap > terms.every * MISSED {
                (self.passed, self.failed, self.failing_since, self.recent) = (0, 0, None, 0);
            }
        }
        self.seen = Some(at);
        self.impossible = None;
        match result {
            CheckResult::Passed => {
                self.passed = self.passed.saturating_add(1);
                self.recent <<= 1;
                (self.failed, self.failing_since) = (0, None);
                if self.passed >= thresholds.up_after && !self.fails_often(thresholds) {
                    self.verdict = Verdict::Up;
                }
            }
            CheckResult::Failed(why) => {
                self.failed = self.failed.saturating_add(1);
                self.passed = 0;
                self.recent = self.recent << 1 | 1;
                self.failing_since.get_or_insert(at);
                self.last_failure = Some(Failure { at, why: why.clone() });
                if self.failed >= thresholds.down_after || self.fails_often(thresholds) {
                    self.verdict = Verdict::Down;
                }
            }
            CheckResult::Impossible(why) => {
                let last_failure = self.last_failure.take();
                *self = Track { seen: Some(at), impossible: Some(why.clone()), last_failure, ..Track::default() };
            }
        }
    }
}

/// All that is remembered of a check: its verdict, and what each address has concluded.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckRecord {
    /// The verdict.
    pub verdict: Verdict,
    /// Since when.
    pub since: Option<Timestamp>,
    /// Whether it has ever been down.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub was_down: bool,
    /// What each address has concluded; a check without addresses has one with an empty name.
    pub tracks: BTreeMap<String, Track>,
}

impl CheckRecord {
    /// Takes the results of one round, one for each address, and concludes; what is no longer an address
    /// is forgotten. Returns whether the verdict has changed.
    ///
    /// One address that works is enough to be up: clients find it. All of those that can be tried from here
    /// must have failed to be down.
    pub fn record(&mut self, at: Timestamp, results: &[(String, CheckResult)], terms: &CheckTerms) -> bool {
        self.tracks.retain(|address, _| results.iter().any(|(own, _)| own == address));
        for (address, result) in results {
            self.tracks.entry(address.clone()).or_default().record(at, result, terms);
        }
        let of = |verdict| self.tracks.values().filter(|track| track.verdict == verdict).count();
        let out_of_reach = self.tracks.values().filter(|track| track.impossible.is_some()).count();
        let verdict = match (of(Verdict::Up), of(Verdict::Down)) {
            (1.., _) => Verdict::Up,
            (0, down) if down > 0 && down + out_of_reach == self.tracks.len() => Verdict::Down,
            _ => Verdict::Unknown,
        };
        self.conclude(verdict, at)
    }

    /// Takes a verdict that follows from others. Returns whether it has changed.
    pub fn conclude(&mut self, verdict: Verdict, at: Timestamp) -> bool {
        let has_changed = self.verdict != verdict || self.since.is_none();
        if has_changed {
            (self.verdict, self.since) = (verdict, Some(at));
            self.was_down |= verdict == Verdict::Down;
        }
        has_changed
    }

    /// Returns when the last result was there.
    pub fn seen(&self) -> Option<Timestamp> {
        self.tracks.values().filter_map(|track| track.seen).max()
    }

    /// Says whether what was concluded is too old to be believed: nobody makes the check any longer.
    pub fn is_stale(&self, now: Timestamp, terms: &CheckTerms) -> bool {
        let age = self.seen().and_then(|seen| Duration::try_from(now.duration_since(seen)).ok());
        age.is_some_and(|age| age > terms.every * MISSED + terms.timeout + STORED_WITHIN)
    }

    /// Returns the last failure at any address.
    pub fn last_failure(&self) -> Option<(&str, &Failure)> {
        let failures =
            self.tracks.iter().filter_map(|(address, track)| Some((&**address, track.last_failure.as_ref()?)));
        failures.max_by_key(|(_, failure)| failure.at)
    }

    /// Returns how many results in a row have failed, at the address where it is most.
    pub fn failures(&self) -> u32 {
        self.tracks.values().map(|track| track.failed).max().unwrap_or(0)
    }

    /// Returns when the failures began that made it down.
    pub fn failing_since(&self) -> Option<Timestamp> {
        self.tracks.values().filter_map(|track| track.failing_since).max()
    }

    /// Returns why nothing can be known from here, where that is so of every address.
    pub fn impossible(&self) -> Option<&Unreachable> {
        let mut whys = self.tracks.values().map(|track| track.impossible.as_ref());
        let first = whys.next()??;
        whys.all(|why| why.is_some()).then_some(first)
    }

    /// Returns the addresses that are down.
    pub fn dead_addresses(&self) -> impl Iterator<Item = &str> {
        let dead = self.tracks.iter().filter(|(_, track)| track.verdict == Verdict::Down);
        dead.map(|(address, _)| &**address)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(second: usize) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second as i64).unwrap()
    }

    fn result(kind: u8) -> CheckResult {
        match kind {
            0 => CheckResult::Passed,
            1 => CheckResult::Failed(CheckFailure::NotConnected { why: Unreachable::Refused }),
            _ => CheckResult::Impossible(Unreachable::NoRoute),
        }
    }

    /// The verdict as the thresholds define it, from all results: the last streak that was long enough, and
    /// none before that a check was impossible.
    fn by_definition(results: &[u8], thresholds: Thresholds) -> Verdict {
        let since = results.iter().rposition(|kind| *kind > 1).map_or(0, |last| last + 1);
        let mut verdict = Verdict::Unknown;
        for end in since..results.len() {
            let streak = results[since..=end].iter().rev().take_while(|kind| **kind == results[end]).count() as u32;
            match results[end] {
                0 if streak >= thresholds.up_after => verdict = Verdict::Up,
                1 if streak >= thresholds.down_after => verdict = Verdict::Down,
                _ => {}
            }
        }
        verdict
    }

    proptest! {
        #[test]
        fn a_verdict_follows_the_thresholds_exactly(
            results in prop::collection::vec(prop::sample::select(vec![0_u8, 0, 0, 1, 1, 1, 2]), 0..60),
            down_after in 1_u32..5,
            up_after in 1_u32..5,
        ) {
            let thresholds = Thresholds { down_after, up_after, rate: None };
            let terms = CheckTerms { every: Duration::from_secs(1), timeout: Duration::from_millis(300), thresholds };
            let mut record = CheckRecord::default();
            let mut verdict = Verdict::Unknown;
            for n in 0..results.len() {
                let has_changed = record.record(at(n), &[("a".into(), result(results[n]))], &terms);
                let expected = by_definition(&results[..=n], thresholds);
                prop_assert_eq!(record.verdict, expected, "after {:?}", &results[..=n]);
                prop_assert_eq!(has_changed, n == 0 || expected != verdict);
                prop_assert_eq!(has_changed, record.since == Some(at(n)));
                verdict = expected;
            }
            let text = serde_json::to_string(&record).unwrap();
            prop_assert_eq!(serde_json::from_str::<CheckRecord>(&text).unwrap(), record);
        }
    }

    #[test]
    fn failures_among_successes_make_it_down_and_it_is_up_once_they_are_few() {
        let rate = Some(FailureRate { failed: 3, of: 6 });
        let terms = CheckTerms { thresholds: Thresholds { down_after: 4, up_after: 2, rate }, ..CheckTerms::default() };
        let mut track = Track::default();
        // What each result is, and the verdict after it.
        let results = "pp.p.p.ppppp.p";
        let verdicts = "?UUUUUDDUUUUUU";
        for (n, (result, expected)) in results.chars().zip(verdicts.chars()).enumerate() {
            let at = Timestamp::from_second(1_800_000_000).unwrap() + terms.every * u32::try_from(n).unwrap();
            let result = match result {
                'p' => CheckResult::Passed,
                _ => CheckResult::Failed(CheckFailure::NotConnected { why: Unreachable::Refused }),
            };
            track.record(at, &result, &terms);
            let is = match track.verdict {
                Verdict::Up => 'U',
                Verdict::Down => 'D',
                Verdict::Unknown => '?',
            };
            assert_eq!(is, expected, "result {n}: {track:?}");
        }
    }

    #[test]
    fn one_address_that_works_is_enough_and_one_out_of_reach_says_nothing() {
        let thresholds = Thresholds { down_after: 1, up_after: 1, rate: None };
        let once = &CheckTerms { every: Duration::from_secs(1), timeout: Duration::from_secs(1), thresholds };
        let table = [
            (&[0, 0][..], Verdict::Up, 0),
            (&[0, 1], Verdict::Up, 1),
            (&[1, 1], Verdict::Down, 2),
            (&[1, 2], Verdict::Down, 1),
            (&[0, 2], Verdict::Up, 0),
            (&[2, 2], Verdict::Unknown, 0),
            (&[], Verdict::Unknown, 0),
        ];
        for (kinds, verdict, dead) in table {
            let mut record = CheckRecord::default();
            let results: Vec<_> = kinds.iter().enumerate().map(|(n, kind)| (n.to_string(), result(*kind))).collect();
            record.record(at(0), &results, once);
            assert_eq!((record.verdict, record.dead_addresses().count()), (verdict, dead), "{kinds:?}");
            assert_eq!(record.impossible().is_some(), kinds == [2, 2], "{kinds:?}");
        }
        // An address that is gone counts no longer.
        let mut record = CheckRecord::default();
        record.record(at(0), &[("a".into(), result(0)), ("b".into(), result(1))], once);
        record.record(at(1), &[("b".into(), result(1))], once);
        assert_eq!((record.verdict, record.tracks.len()), (Verdict::Down, 1));
    }

    #[test]
    fn results_are_in_a_row_only_at_the_interval_of_the_check() {
        let terms = CheckTerms::default();
        let every = terms.every.as_secs() as usize;
        use Verdict::{Down, Unknown, Up};
        // When results come, whether they pass, and what is concluded at the end.
        let table = [
            // The first successes count at once; failures never do.
            (&[(0, 0), (0, 0)][..], Up),
            (&[(0, 1), (1, 1), (2, 1)], Unknown),
            (&[(0, 1), (every, 1), (2 * every, 1)], Down),
            // However many processes look meanwhile.
            (&[(0, 0), (0, 0), (every, 1), (every + 1, 1), (every + 2, 1), (2 * every, 1)], Up),
            (&[(0, 0), (0, 0), (every, 1), (every + 1, 1), (2 * every, 1), (2 * every + 1, 1), (3 * every, 1)], Down),
            // A success that comes sooner does not end the proof of an outage, nor a failure that of a recovery.
            (&[(0, 1), (every, 1), (2 * every, 1), (2 * every + 1, 0), (2 * every + 2, 0)], Down),
            (&[(0, 1), (every, 1), (2 * every, 1), (3 * every, 0), (4 * every, 0)], Up),
            // Nobody looked for a while: what was seen before it is no part of the row.
            (&[(0, 0), (0, 0), (every, 1), (2 * every, 1), (9 * every, 1)], Up),
            (&[(0, 0), (0, 0), (every, 1), (2 * every, 1), (9 * every, 1), (10 * every, 1), (11 * every, 1)], Down),
            (&[(0, 1), (90 * every, 1), (180 * every, 1)], Unknown),
        ];
        for (results, verdict) in table {
            let mut track = Track::default();
            for (second, kind) in results {
                track.record(at(*second), &result(*kind), &terms);
            }
            assert_eq!(track.verdict, verdict, "{results:?}");
        }
    }
}
