//! Two years of renewals on a virtual clock: what the core decides, carried out against an
//! authority that fails now and then and is down for three days.

#![allow(clippy::unwrap_used, clippy::print_stderr, reason = "what cannot be set up fails the test")]

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

use jiff::Timestamp;
use pindrel_core::budget::{Limit, Per, Spending};
use pindrel_core::facts::{HeldCertificate, Origin};
use pindrel_core::name::Hostname;
use pindrel_core::renewal::{RenewalRule, RenewalWindow};
use pindrel_core::values::{Fingerprint, KeyKind};

const CERTIFICATES: usize = 5_000;
const DOMAINS: usize = 50;
const HOURS: i64 = 2 * 365 * 24;
/// Down from the morning of day 400 for three days.
const OUTAGE: std::ops::Range<i64> = 400 * 24..403 * 24;
const FAILURES_PERCENT: u64 = 5;

const LIMITS: [Limit; 3] = [
    Limit { count: 150, of: Spending::Order, per: Per::Account, within_secs: 3 * 3600, reserve: 15 },
    Limit { count: 120, of: Spending::Certificate, per: Per::RegisteredDomain, within_secs: 7 * 86_400, reserve: 12 },
    Limit { count: 4, of: Spending::FailedValidation, per: Per::Hostname, within_secs: 3600, reserve: 0 },
];

fn at(hours: i64) -> Timestamp {
    Timestamp::from_second(1_800_000_000 + hours * 3600).unwrap()
}

/// A number that looks random and is the same on every run.
fn dice(seed: (usize, i64)) -> u64 {
    let mut mixed =
        (seed.0 as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (seed.1 as u64).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    for _ in 0..3 {
        mixed ^= mixed >> 31;
        mixed = mixed.wrapping_mul(0x94d0_49bb_1331_11eb);
    }
    mixed
}

struct Wanted {
    names: Vec<Hostname>,
    life_days: i64,
    advised: bool,
    held: Option<HeldCertificate>,
}

fn wanted(n: usize) -> Wanted {
    let name = format!("host-{n}.survey-{}.example", n / 10 % DOMAINS);
    let life_days = match n % 10 {
        0 => 6,
        1..=3 => 47,
        _ => 90,
    };
    Wanted { names: vec![name.parse().unwrap()], life_days, advised: n.is_multiple_of(2), held: None }
}

fn issue(wanted: &Wanted, n: usize, hour: i64) -> HeldCertificate {
    let (not_before, not_after) = (at(hour), at(hour + wanted.life_days * 24));
    let third = wanted.life_days * 8;
    let window = RenewalWindow {
        start: at(hour + 2 * third - third / 2),
        end: at(hour + 2 * third),
        explanation: None,
        look_again: not_before,
    };
    // Advice for certificates of six days comes as early as the rule has it.
    let advised = wanted.advised && wanted.life_days > 10;
    HeldCertificate {
        sha256: Fingerprint::of(format!("{n} {hour}").as_bytes()),
        names: wanted.names.clone(),
        origin: Origin::Authority,
        authority: "https://authority.example/directory".into(),
        key: Some(KeyKind::EcdsaP256),
        not_before,
        not_after,
        renewal_id: None,
        window: advised.then_some(window),
        replace: None,
    }
}

#[derive(Default)]
struct Ledger {
    spent: HashMap<(Spending, Per, String), VecDeque<Timestamp>>,
}

impl Ledger {
    /// When an order may be made, if not now.
    fn closed(&mut self, names: &[Hostname], renewal: bool, now: Timestamp) -> bool {
        LIMITS.iter().any(|limit| {
            limit.per.subjects(names).into_iter().any(|subject| {
                let spent = self.spent.entry((limit.of, limit.per, subject)).or_default();
                while spent.front().is_some_and(|at| now.as_second() - at.as_second() >= limit.within_secs as i64) {
                    spent.pop_front();
                }
                limit.may_go_on(spent.make_contiguous(), renewal, now).is_some()
            })
        })
    }

    fn spend(&mut self, of: Spending, names: &[Hostname], now: Timestamp) {
        for limit in LIMITS.iter().filter(|limit| limit.of == of) {
            for subject in limit.per.subjects(names) {
                let spent = self.spent.entry((of, limit.per, subject)).or_default();
                spent.push_back(now);
                // Counted by itself, apart from the code that decides.
                let within = spent.iter().filter(|at| now.as_second() - at.as_second() < limit.within_secs as i64);
                assert!(within.count() <= limit.count as usize, "{limit} is passed");
            }
        }
    }
}

#[test]
fn none_expires_no_limit_is_passed_and_the_load_is_spread() {
    let mut all: Vec<Wanted> = (0..CERTIFICATES).map(wanted).collect();
    let mut ledger = Ledger::default();
    let mut load: BTreeMap<i64, usize> = BTreeMap::new();
    let (mut renewals, mut failures) = (0, 0);
    // By the moment at which each is due, and at which it ends.
    let mut due: BTreeSet<(Timestamp, usize)> = (0..CERTIFICATES).map(|n| (at(0), n)).collect();
    let mut ends: BTreeSet<(Timestamp, usize)> = BTreeSet::new();
    for hour in 0..HOURS {
        let now = at(hour);
        let mut open: Vec<usize> = due.range(..=(now, CERTIFICATES)).map(|(_, n)| *n).collect();
        // As a run does: what ends first is seen to first, what is new last.
        open.sort_by_key(|n| all[*n].held.as_ref().map_or(Timestamp::MAX, |held| held.not_after));
        for n in open {
            let renewal = all[n].held.is_some();
            if OUTAGE.contains(&hour) || ledger.closed(&all[n].names, renewal, now) {
                continue;
            }
            ledger.spend(Spending::Order, &all[n].names, now);
            if dice((n, hour)) % 100 < FAILURES_PERCENT {
                failures += 1;
                ledger.spend(Spending::FailedValidation, &all[n].names, now);
                continue;
            }
            ledger.spend(Spending::Certificate, &all[n].names, now);
            let issued = issue(&all[n], n, hour);
            let before = all[n].held.as_ref().map_or(at(0), |held| held.due_at(RenewalRule::Share));
            assert!(due.remove(&(before, n)));
            if let Some(held) = &all[n].held {
                ends.remove(&(held.not_after, n));
            }
            due.insert((issued.due_at(RenewalRule::Share), n));
            ends.insert((issued.not_after, n));
            all[n].held = Some(issued);
            if renewal {
                renewals += 1;
                *load.entry(hour).or_default() += 1;
            }
        }
        if let Some((end, n)) = ends.first() {
            assert!(now < *end, "{} expired in hour {hour}", all[*n].names[0]);
        }
    }
    assert!(all.iter().all(|wanted| wanted.held.is_some()));
    // After the first filling, outside of what the outage left to be made up for.
    let calm = |hour: &i64| *hour > 100 * 24 && !(OUTAGE.start..OUTAGE.end + 10 * 24).contains(hour);
    let hours = (0..HOURS).filter(calm).count();
    let steady: Vec<usize> = load.iter().filter(|(hour, _)| calm(hour)).map(|(_, count)| *count).collect();
    let mean = steady.iter().sum::<usize>() as f64 / hours as f64;
    let peak = *steady.iter().max().unwrap();
    eprintln!("{renewals} renewals, {failures} failures; in calm times {mean:.1} an hour, {peak} in the busiest");
    assert!((peak as f64) < 5.0 * mean, "the busiest hour has {peak}, the mean is {mean:.1}");
}
