//! What is kept of results: latencies in slots that grow with their age, and incidents.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{CheckFailure, Verdict};

/// The most incidents that are kept of one check.
pub const MOST_INCIDENTS: u32 = 1_000;

/// How long slots are, and up to which age they are kept so, in seconds.
const AGES: [(u32, i64); 3] = [(60, 2 * 3_600), (600, 2 * 86_400), (3_600, 90 * 86_400)];

/// How much wider each class of latencies is than the one before.
const GROWTH: f64 = 1.05;

/// How many latencies fell into each class: classes grow with the latency, so that each is exact to
/// within five percent, and what is empty costs nothing.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Latencies(BTreeMap<u16, u32>);

impl Latencies {
    /// Adds one.
    pub fn record(&mut self, latency: Duration) {
        let micros = (latency.as_secs_f64() * 1e6).max(1.0);
        let class = micros.ln() / GROWTH.ln();
        *self.0.entry(class.round().min(f64::from(u16::MAX)) as u16).or_default() += 1;
    }

    /// Adds all of another.
    pub fn merge(&mut self, other: &Latencies) {
        for (class, count) in &other.0 {
            let own = self.0.entry(*class).or_default();
            *own = own.saturating_add(*count);
        }
    }

    /// Returns the latency that this share of all does not exceed; `share` is from 0 to 1.
    pub fn quantile(&self, share: f64) -> Option<Duration> {
        let all: u64 = self.0.values().map(|count| u64::from(*count)).sum();
        let rank = ((all as f64 * share).ceil() as u64).clamp(1, all.max(1));
        let mut passed = 0;
        for (class, count) in &self.0 {
            passed += u64::from(*count);
            if passed >= rank {
                return Some(Duration::from_secs_f64(GROWTH.powi(i32::from(*class)) / 1e6));
            }
        }
        None
    }
}

/// The results of a check within some time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    /// When it begins.
    pub begin: Timestamp,
    /// How long it is, in seconds.
    pub seconds: u32,
    /// How many results there were.
    pub results: u32,
    /// How many of them failed.
    pub failed: u32,
    /// How long those took that passed.
    pub latencies: Latencies,
}

impl Slot {
    /// Makes the slot that a result belongs into when it comes in.
    pub fn at(now: Timestamp) -> Slot {
        Slot::covering(now, AGES[0].0)
    }

    fn covering(at: Timestamp, seconds: u32) -> Slot {
        let begin = at.as_second() - at.as_second().rem_euclid(i64::from(seconds));
        let begin = Timestamp::from_second(begin).unwrap_or(at);
        Slot { begin, seconds, results: 0, failed: 0, latencies: Latencies::default() }
    }

    /// Says whether a time lies in it.
    pub fn covers(&self, at: Timestamp) -> bool {
        (0..i64::from(self.seconds)).contains(&(at.as_second() - self.begin.as_second()))
    }

    /// Adds a result: how long it took, or that it failed.
    pub fn record(&mut self, passed_after: Option<Duration>) {
        self.results = self.results.saturating_add(1);
        match passed_after {
            Some(latency) => self.latencies.record(latency),
            None => self.failed = self.failed.saturating_add(1),
        }
    }

    /// Adds the results of another.
    pub fn merge(&mut self, other: &Slot) {
        self.results = self.results.saturating_add(other.results);
        self.failed = self.failed.saturating_add(other.failed);
        self.latencies.merge(&other.latencies);
    }
}

/// Returns which slots are to be merged into longer ones: for each length, those that begin before a time.
/// That is where a longer one ends, so that all of its parts are merged at once.
pub fn due_to_widen(now: Timestamp) -> [(u32, Timestamp); 2] {
    [0, 1].map(|level| {
        let (seconds, until) = AGES[level];
        let (wide, _) = AGES[level + 1];
        let before = now.as_second() - until;
        let before = before - before.rem_euclid(i64::from(wide));
        (seconds, Timestamp::from_second(before).unwrap_or(Timestamp::MIN))
    })
}

/// Returns before which time slots are dropped.
pub fn due_to_drop(now: Timestamp) -> Timestamp {
    Timestamp::from_second(now.as_second() - AGES[2].1).unwrap_or(Timestamp::MIN)
}

/// Merges slots of one check, each into one of the next length.
pub fn widen(slots: &[Slot]) -> Vec<Slot> {
    let mut wide: BTreeMap<(Timestamp, u32), Slot> = BTreeMap::new();
    for slot in slots {
        let next = AGES.iter().map(|(seconds, _)| *seconds).find(|seconds| *seconds > slot.seconds);
        let own = Slot::covering(slot.begin, next.unwrap_or(slot.seconds));
        wide.entry((own.begin, own.seconds)).or_insert(own).merge(slot);
    }
    wide.into_values().collect()
}

/// Draws the shares of failures and the latencies of slots as one character each, the oldest first; time
/// without results is a space.
pub fn sparkline(slots: &[Slot], from: Timestamp, to: Timestamp, width: usize) -> String {
    const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let span = (to.as_second() - from.as_second()).max(1) as f64;
    let mut cells: Vec<Option<Slot>> = vec![None; width];
    for slot in slots {
        let place = (slot.begin.as_second() - from.as_second()) as f64 / span * width as f64;
        if let Some(cell) = usize::try_from(place.floor() as i64).ok().and_then(|place| cells.get_mut(place)) {
            cell.get_or_insert_with(|| Slot::at(slot.begin)).merge(slot);
        }
    }
    let medians: Vec<Option<f64>> = cells
        .iter()
        .map(|cell| cell.as_ref().and_then(|slot| slot.latencies.quantile(0.5)).map(|median| median.as_secs_f64()))
        .collect();
    let highest = medians.iter().flatten().copied().fold(f64::MIN_POSITIVE, f64::max);
    let draw = |(cell, median): (&Option<Slot>, &Option<f64>)| match (cell, median) {
        (None, _) => ' ',
        (Some(slot), None) if slot.failed > 0 => '×',
        (Some(slot), _) if slot.failed * 2 > slot.results => '×',
        (Some(_), None) => ' ',
        (Some(_), Some(median)) => BARS[((median / highest * 7.0).round() as usize).min(7)],
    };
    cells.iter().zip(&medians).map(draw).collect()
}

/// Something that happened to a check.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Incident {
    /// Its verdict changed.
    Verdict {
        /// What it is since.
        to: Verdict,
    },
    /// It began to fail, or to fail in another way, at an address.
    Failure {
        /// The address; empty where the check has none.
        address: String,
        /// What failed.
        why: CheckFailure,
    },
}

/// An incident with its time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HistoryEntry {
    /// When.
    pub at: Timestamp,
    /// What.
    pub what: Incident,
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    /// What is stored after slots that are due were merged and dropped.
    fn thin(slots: Vec<Slot>, now: Timestamp) -> Vec<Slot> {
        let is_due = |slot: &Slot| {
            due_to_widen(now).iter().any(|(seconds, before)| slot.seconds == *seconds && slot.begin < *before)
        };
        let (due, mut rest): (Vec<Slot>, Vec<Slot>) = slots.into_iter().partition(is_due);
        rest.extend(widen(&due));
        rest.retain(|slot| slot.begin >= due_to_drop(now));
        rest.sort_by_key(|slot| slot.begin);
        rest
    }

    proptest! {
        #[test]
        fn a_quantile_is_exact_to_five_percent(mut micros in prop::collection::vec(1_u64..60_000_000, 1..200)) {
            let (mut all, mut half, mut rest) = (Latencies::default(), Latencies::default(), Latencies::default());
            for (n, one) in micros.iter().enumerate() {
                all.record(Duration::from_micros(*one));
                (if n % 2 == 0 { &mut half } else { &mut rest }).record(Duration::from_micros(*one));
            }
            half.merge(&rest);
            prop_assert_eq!(&half, &all);
            micros.sort_unstable();
            for share in [0.5, 0.95, 1.0] {
                let exact = micros[((micros.len() as f64 * share).ceil() as usize).max(1) - 1] as f64;
                let found = all.quantile(share).unwrap().as_secs_f64() * 1e6;
                prop_assert!((found / exact - 1.0).abs() < 0.05, "{} of {}", found, exact);
            }
        }

        /// However often slots are merged, no result is lost or counted twice, and none overlap.
        #[test]
        fn thinning_keeps_every_result_that_is_not_too_old(
            minutes in prop::collection::btree_set(0_i64..120_000, 1..120),
            passes in prop::collection::vec(0_i64..3_000_000, 1..5),
        ) {
            let slot = |minute: &i64| {
                let mut slot = Slot::at(at(minute * 60));
                slot.record(Some(Duration::from_millis(5)));
                slot.record(None);
                slot
            };
            let mut slots: Vec<Slot> = minutes.iter().map(slot).collect();
            let mut now = 120_000 * 60;
            for later in passes {
                now += later;
                slots = thin(slots, at(now));
                let kept: u32 = slots.iter().map(|slot| slot.results).sum();
                let young = minutes.iter().filter(|minute| now - *minute * 60 < 90 * 86_400 - 3_600).count() as u32;
                prop_assert!(kept >= 2 * young, "{} of {}", kept, young);
                prop_assert!(kept <= 2 * minutes.len() as u32);
                prop_assert_eq!(slots.iter().map(|slot| slot.failed).sum::<u32>() * 2, kept);
                let ends = |slot: &Slot| slot.begin.as_second() + i64::from(slot.seconds);
                prop_assert!(slots.windows(2).all(|pair| ends(&pair[0]) <= pair[1].begin.as_second()));
            }
        }
    }

    #[test]
    fn what_is_kept_of_a_check_has_a_bound() {
        let mut slots = Vec::new();
        for day in 0..200 {
            slots.extend((0..1_440).map(|minute| Slot::at(at(day * 86_400 + minute * 60))));
            slots = thin(slots, at((day + 1) * 86_400));
        }
        assert!(slots.len() < 2_700, "{}", slots.len());
    }

    #[test]
    fn a_line_of_bars_has_gaps_and_crosses() {
        let slot = |minute: i64, millis: Option<u64>| {
            let mut slot = Slot::at(at(minute * 60));
            slot.record(millis.map(Duration::from_millis));
            slot
        };
        let slots = [slot(0, Some(10)), slot(1, Some(80)), slot(3, None), slot(5, Some(40))];
        assert_eq!(sparkline(&slots, at(0), at(360), 6), "▂█ × ▅");
        assert_eq!(sparkline(&[], at(0), at(0), 3), "   ");
    }
}
