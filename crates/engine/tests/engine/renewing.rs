//! Renewal over the years.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::names::name::Hostname;
use pindrel_testkit::memory::{Life, Pace, Setting};

use crate::{API, ONE};

const DAY: Duration = Duration::from_secs(86_400);

#[tokio::test(start_paused = true)]
async fn a_certificate_is_replaced_before_it_ends_while_clients_are_answered() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.certificates_live(Life(DAY * 30));
    setting.settle().await;
    let first = setting.client_gets(API).await.unwrap();
    setting.pass(DAY * 15).await;
    assert_eq!(setting.settle().await.planned, 0, "half of its life is too early");
    setting.pass(DAY * 9).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:?}", setting.recorder.take());
    let second = setting.client_gets(API).await.unwrap();
    assert_ne!(first, second);
    assert_eq!(setting.challenge_records(), 0);
}

#[tokio::test(start_paused = true)]
async fn a_person_is_told_before_a_certificate_that_cannot_be_renewed_ends() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.certificates_live(Life(DAY * 30));
    setting.settle().await;
    setting.break_or_mend(|faults| faults.authority.invalid.extend([API.into()]));
    setting.pass(DAY * 24).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 1), "{:?}", setting.recorder.take());
    assert!(setting.client_gets(API).await.is_some(), "the one that there is still answers");
}

/// So many that the busiest day, which falls by chance, stays far from the bound.
const CERTIFICATES: usize = 160;
const STEP: Duration = Duration::from_secs(12 * 3600);
const LIMITS: &str = "
[[authority.main.limits]]
count = 40
of = \"order\"
per = \"account\"
within = \"24h\"
reserve = 5
[[authority.main.limits]]
count = 80
of = \"certificate\"
per = \"registered-domain\"
within = \"7d\"
reserve = 8
";

/// Two years of runs every twelve hours, by the engine's own scheduler, ledger and issuer,
/// against an authority that fails validations now and then and is down for three days.
#[tokio::test(start_paused = true)]
async fn in_two_years_none_expires_no_limit_is_passed_and_the_load_is_spread() {
    let mut names = LIMITS.to_owned();
    for n in 0..CERTIFICATES {
        names.push_str(&format!("[certificate.c{n}]\nnames = [\"host-{n}.larkfield.example\"]\n"));
    }
    let setting = Setting::new(Pace::default(), &names);
    setting.certificates_live(Life(DAY * 47));
    setting.break_or_mend(|faults| faults.authority.failures_percent = 5);
    let begun = setting.now();
    let (mut ends, mut renewals): (HashMap<Hostname, Timestamp>, BTreeMap<u64, usize>) = Default::default();
    let runs = 2 * 365 * 2;
    let mut failures = 0;
    for run in 0..runs {
        setting.break_or_mend(|faults| faults.authority.down = (800..806).contains(&run));
        let issued = setting.issued().len();
        failures += setting.settle().await.failed;
        setting.recorder.take();
        for (at, name) in &setting.issued()[issued..] {
            let end = at.checked_add(SignedDuration::try_from(DAY * 47).unwrap()).unwrap();
            if ends.insert(name.clone(), end).is_some() {
                *renewals.entry(run / 2).or_default() += 1;
            }
        }
        let now = setting.now();
        let expired = ends.iter().find(|(_, end)| **end <= now);
        assert!(expired.is_none(), "{expired:?} in run {run}");
        let next = begun.checked_add(SignedDuration::try_from(STEP * (u32::try_from(run).unwrap() + 1)).unwrap());
        let left = next.unwrap().duration_since(setting.now());
        setting.pass(Duration::try_from(left).unwrap_or_default()).await;
    }
    assert_eq!(ends.len(), CERTIFICATES);

    // The limits, counted by what the authority has seen.
    let orders = setting.orders();
    assert!(most_within(orders.iter().map(|(at, _)| *at), 86_400) <= 40);
    assert!(most_within(setting.issued().into_iter().map(|(at, _)| at), 7 * 86_400) <= 80);
    let calm: Vec<usize> = (100..730)
        .filter(|day| !(400..420).contains(day))
        .map(|day| renewals.get(&day).copied().unwrap_or(0))
        .collect();
    let mean = calm.iter().sum::<usize>() as f64 / calm.len() as f64;
    let peak = *calm.iter().max().unwrap();
    eprintln!("{} orders, {failures} failures, {mean:.1} renewals a day, {peak} on the busiest", orders.len());
    assert!((peak as f64) < 5.0 * mean, "the busiest day has {peak}, the mean is {mean:.1}");
    assert_eq!(setting.challenge_records(), 0);
}

/// The most moments that lie within any window of so many seconds.
pub(crate) fn most_within(moments: impl Iterator<Item = Timestamp>, secs: i64) -> usize {
    let mut seconds: Vec<i64> = moments.map(Timestamp::as_second).collect();
    seconds.sort_unstable();
    let mut first = 0;
    let mut most = 0;
    for (last, at) in seconds.iter().enumerate() {
        while at - seconds[first] >= secs {
            first += 1;
        }
        most = most.max(last + 1 - first);
    }
    most
}
