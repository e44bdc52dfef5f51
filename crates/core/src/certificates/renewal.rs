//! When a certificate is renewed.
//!
//! The authority's own advice comes first (RFC 9773); without it, the manifest's rule.
//! The moment is a function of the certificate alone, so that every run finds the same
//! one, and certificates of the same minute come due at different times.

use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::values::Fingerprint;

/// Certificates that live shorter than this are renewed earlier in their life, so that
/// an outage of three days does not outlive them.
const SHORT_LIFE_SECS: i64 = 10 * 86_400;

/// How much of its life, as a divisor, and how long at most a certificate is used that took the place of
/// one which was replaced on advice as young as that. A day leaves time where certificates are about to
/// be revoked.
const LEAST_AGE: (i64, i64) = (90, 86_400);

/// When a certificate is due, where the authority gives no advice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum RenewalRule {
    /// By share of its life: with a third of it left, or six tenths where that is
    /// shorter than ten days; up to a twelfth of its life earlier, to spread the load.
    #[default]
    Share,
    /// This long before its end.
    Before(Duration),
}

/// What an authority advises for one certificate (RFC 9773 §4.2).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RenewalWindow {
    /// From when it should be renewed.
    pub start: Timestamp,
    /// Until when.
    pub end: Timestamp,
    /// Where people can read why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub explanation: Option<String>,
    /// When the authority may be asked again, not earlier.
    pub look_again: Timestamp,
}

/// Returns the moment at which a certificate is due.
pub fn due_at(
    sha256: Fingerprint,
    not_before: Timestamp,
    not_after: Timestamp,
    window: Option<&RenewalWindow>,
    rule: RenewalRule,
) -> Timestamp {
    let life = (not_after.as_second() - not_before.as_second()).max(0);
    let own = share_of(sha256);
    let by_rule = match rule {
        RenewalRule::Share => {
            let left = if life < SHORT_LIFE_SECS { life / 10 * 6 } else { life / 3 };
            later(not_after, -left - part(life / 12, own)).max(not_before)
        }
        RenewalRule::Before(duration) => {
            // At least half of its life a certificate is used, however the rule reads.
            let left = i64::try_from(duration.as_secs()).unwrap_or(i64::MAX).min(life / 2);
            later(not_after, -left)
        }
    };
    let Some(window) = window else { return by_rule };
    let width = (window.end.as_second() - window.start.as_second()).max(0);
    let moment = later(window.start, part(width, own));
    // Advice may come late or lead beyond the end: half of the time that the rule leaves is kept for
    // a renewal that does not succeed at once.
    let latest = later(by_rule, (not_after.as_second() - by_rule.as_second()).max(0) / 2);
    moment.min(latest)
}

/// Puts advice off that asks for one renewal after another: an authority which advises to renew every
/// certificate at once must not get an order in each run. `replaced` is how old the certificate before
/// was when it was replaced on advice.
pub fn brake(
    window: RenewalWindow,
    life_secs: i64,
    stored: Timestamp,
    replaced: Option<SignedDuration>,
) -> RenewalWindow {
    let (part_of_life, longest) = LEAST_AGE;
    let least = (life_secs / part_of_life).min(longest);
    let earliest = later(stored, least);
    let in_a_row = replaced.is_some_and(|age| age.as_secs() < least) && window.start < earliest;
    if in_a_row { RenewalWindow { start: earliest, end: window.end.max(later(earliest, 1)), ..window } } else { window }
}

/// The place between zero and one that belongs to a certificate.
fn share_of(sha256: Fingerprint) -> u32 {
    let digest = sha256.as_bytes();
    u32::from_be_bytes([digest[0], digest[1], digest[2], digest[3]])
}

fn part(seconds: i64, share: u32) -> i64 {
    let part = i128::from(seconds) * i128::from(share) / (i128::from(u32::MAX) + 1);
    i64::try_from(part).unwrap_or(seconds)
}

fn later(moment: Timestamp, seconds: i64) -> Timestamp {
    moment.checked_add(SignedDuration::from_secs(seconds)).unwrap_or(moment)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(days: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + days * 86_400).unwrap()
    }

    fn days_left(life: i64, rule: RenewalRule, seed: &[u8]) -> f64 {
        let due = due_at(Fingerprint::of(seed), at(0), at(life), None, rule);
        (at(life).as_second() - due.as_second()) as f64 / 86_400.0
    }

    #[test]
    fn enough_is_left_to_repair_a_failure_at_every_lifetime() {
        for (life, least, most) in [(90, 30.0, 37.5), (47, 15.6, 19.6), (6, 3.6, 4.1), (200, 66.6, 83.4)] {
            for seed in 0u8..50 {
                let left = days_left(life, RenewalRule::Share, &[seed]);
                assert!((least..=most).contains(&left), "{life} days: {left} left");
            }
        }
        let before = RenewalRule::Before(Duration::from_secs(20 * 86_400));
        assert_eq!(days_left(90, before, b"a"), 20.0);
        assert_eq!(days_left(6, before, b"a"), 3.0, "a rule longer than the life does not renew at once");
    }

    #[test]
    fn the_moment_in_the_authoritys_window_is_fixed_and_spread() {
        let window = RenewalWindow { start: at(10), end: at(20), explanation: None, look_again: at(1) };
        let due = |seed: u8| due_at(Fingerprint::of(&[seed]), at(0), at(90), Some(&window), RenewalRule::Share);
        assert_eq!(due(1), due(1));
        let thirds = (0u8..200).fold([0; 3], |mut thirds, seed| {
            assert!((at(10)..at(20)).contains(&due(seed)));
            thirds[((due(seed).as_second() - at(10).as_second()) * 3 / 864_000) as usize] += 1;
            thirds
        });
        assert!(thirds.iter().all(|third| *third > 40), "{thirds:?}");
        let past = RenewalWindow { start: at(-2), end: at(-1), ..window.clone() };
        let (young, old) = (SignedDuration::from_hours(1), SignedDuration::from_hours(30 * 24));
        for (replaced, start) in [(None, at(-2)), (Some(old), at(-2)), (Some(young), at(1))] {
            assert_eq!(brake(past.clone(), 90 * 86_400, at(0), replaced).start, start, "{replaced:?}");
        }
        assert_eq!(brake(window.clone(), 90 * 86_400, at(0), Some(young)), window, "what is not at once is taken");
        let late = RenewalWindow { start: at(100), end: at(101), ..window };
        // Advice beyond the end, or far too late, leaves time for another try all the same.
        let due = due_at(Fingerprint::of(b"x"), at(0), at(90), Some(&late), RenewalRule::Share);
        assert!((at(71)..=at(75)).contains(&due), "{due}");
    }
}
