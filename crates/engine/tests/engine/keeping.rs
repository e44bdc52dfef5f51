//! Years of running on.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::names::name::Hostname;
use pindrel_core::zones::records::RecordData;
use pindrel_testkit::dice;
use pindrel_testkit::memory::{Life, PRIMARY, Pace, SECONDARY, Setting};

const DAY: Duration = Duration::from_secs(86_400);
/// How long the kinds of certificates live.
const LIVES: [(&str, u32); 3] = [("long", 90), ("middle", 47), ("short", 6)];
/// One of each kind, three times over; PINDREL_CERTIFICATES makes more of them.
const FEW: usize = 9;

/// A hostname on two endpoints, the checks of which see a failure within 4 h 10 min, beside the certificates.
const TONIGHT: &str = "
[keep]
look_every = \"6h\"
[hostname.\"tonight.larkfield.example\"]
endpoints = [\"catalogue\", \"plates\"]
policy = \"standby\"
back_after = \"10m\"
ttl = \"30s\"
health = { path = \"/ready\", every = \"2h\", timeout = \"10m\", down_after = 2, up_after = 2 }
";
const SEEN_WITHIN: SignedDuration = SignedDuration::from_secs(2 * 7_200 + 600 + 5);

/// Two years of one process, with failures, an authority that is down for three days, and name servers that are
/// down for an hour: no certificate expires, no limit is passed, and each failure is left in time.
#[tokio::test(start_paused = true)]
async fn in_two_years_of_running_on_nothing_expires_and_each_failure_is_left_in_time() {
    let count = std::env::var("PINDREL_CERTIFICATES").ok().and_then(|text| text.parse().ok()).unwrap_or(FEW);
    let mut names = TONIGHT.to_owned();
    // Room for twice what the renewals come to: 6-day certificates are renewed every four days.
    let (a_day, a_week) = (count, 7 * count);
    names.push_str(&format!(
        "[[authority.main.limits]]\ncount = {a_day}\nof = \"order\"\nper = \"account\"\nwithin = \"24h\"\n\
         [[authority.main.limits]]\ncount = {a_week}\nof = \"certificate\"\nper = \"registered-domain\"\nwithin = \"7d\"\n"
    ));
    for n in 0..count {
        let (kind, _) = LIVES[n % LIVES.len()];
        names.push_str(&format!("[certificate.c{n}]\nnames = [\"{kind}-{n}.larkfield.example\"]\n"));
    }
    let mut setting = Setting::new(Pace::default(), &names);
    setting.leases_last(DAY);
    for (kind, days) in LIVES {
        setting.certificates_of_live(kind, Life(DAY * days));
    }
    let keeping = setting.keep();
    setting.pass(DAY).await;
    assert!(setting.issued().len() > count / 2, "{}", setting.issued().len());
    setting.break_or_mend(|faults| faults.authority.failures_percent = 5);

    let first: IpAddr = "192.0.2.21".parse().unwrap();
    let leads_to_second = |setting: &Setting| {
        let target = setting.aliases("tonight.larkfield.example");
        matches!(&target[..], [RecordData::Cname(name)] if name.as_str().starts_with("plates."))
    };
    let (mut died, mut slowest) = (None, SignedDuration::ZERO);
    let mut failovers = 0;
    for hour in 24..2 * 365 * 24 {
        let day = hour / 24;
        setting.break_or_mend(|faults| {
            faults.authority.down = (400..403).contains(&day);
            // An hour without name servers, each month.
            faults.silent.clear();
            if hour % (30 * 24) == 11 {
                faults.silent.extend([PRIMARY, SECONDARY].map(|server| server.parse::<SocketAddr>().unwrap()));
            }
            // An endpoint fails every twentieth day, at some hour, and works again two days later.
            match (day % 20, hour % 24) {
                (0, at) if at == 12 + dice(1, day) % 6 => {
                    faults.dead.insert(first);
                }
                (2, 0) => faults.dead = [].into(),
                _ => {}
            }
        });
        if setting.faults().dead.is_empty() {
            died = None;
        } else {
            died = died.or(Some(setting.now()));
        }
        for _ in 0..12 {
            setting.pass(Duration::from_secs(300)).await;
            if let Some(since) = died.filter(|_| !leads_to_second(&setting)) {
                let took: SignedDuration = setting.now().duration_since(since);
                slowest = slowest.max(took);
                assert!(took <= SEEN_WITHIN + SignedDuration::from_secs(300), "not left after {took} in hour {hour}");
            }
        }
        failovers += usize::from(day % 20 == 1 && hour % 24 == 0 && leads_to_second(&setting));
        if hour % 24 == 0 {
            setting.recorder.take();
            no_certificate_has_expired(&setting, count, day);
        }
    }
    let summary = keeping.stop().await;
    assert_eq!(failovers, 36, "{summary:?}");
    assert_eq!(summary.switches, 2 * 36, "there and back, and nothing else: {summary:?}");
    assert_eq!(setting.challenge_records(), 0);
    let orders = setting.orders();
    assert!(super::renewing::most_within(orders.iter().map(|(at, _)| *at), 86_400) <= a_day);
    assert!(super::renewing::most_within(setting.issued().into_iter().map(|(at, _)| at), 7 * 86_400) <= a_week);
    eprintln!(
        "{} orders, {} issued, {slowest} until the slowest failover, {summary:?}",
        orders.len(),
        setting.issued().len()
    );
}

fn no_certificate_has_expired(setting: &Setting, count: usize, day: u64) {
    let now = setting.now();
    let mut ends: HashMap<Hostname, Timestamp> = HashMap::new();
    for (at, name) in setting.issued() {
        let days = LIVES.iter().find(|(kind, _)| name.as_str().starts_with(kind)).map_or(90, |(_, days)| *days);
        ends.insert(name, at.checked_add(SignedDuration::from_hours(24 * i64::from(days))).unwrap());
    }
    let expired = ends.iter().find(|(_, end)| **end <= now);
    assert!(expired.is_none(), "{expired:?} on day {day}");
    assert!(day < 5 || ends.len() == count + 1, "{} of {count} on day {day}", ends.len());
}
