//! Updates and look-ups at a real name server, beside its own update tool and a DNS load tool:
//! `cargo bench -p pindrel-benches --bench dns`.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::fmt::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use futures::{StreamExt as _, stream};
use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::runtime;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::{TsigAlgorithm, Ttl};
use pindrel_core::zones::records::{RecordData, RecordType, ZoneChange, ZoneRecord};
use pindrel_core::zones::zone_data::{NameKey, TypeCode};
use pindrel_dns::lookup;
use pindrel_dns::{Rfc2136, SetChange, ZoneDriver as _};
use pindrel_testkit::{RealOptions, RealWorld, TSIG_SECRET};

const ZONE: &str = "larkfield.example";
const CHANGES: usize = 1_000;
const NAMES: usize = 1_000;
const AT_ONCE: usize = 100;
/// As many steps as a run has under way unless it is told otherwise.
const STEPS: usize = 32;
const LOOKS: Duration = Duration::from_secs(5);
const RUNS: usize = 5;

fn main() {
    runtime().block_on(async {
        let Some(world) = RealWorld::start("bench dns", RealOptions::default()).await else { return };
        updates(&world).await;
        look_ups(&world).await;
    });
}

fn record(label: &str, n: usize) -> ZoneRecord {
    let owner = format!("{label}{n}.{ZONE}").parse().unwrap();
    ZoneRecord { owner, ttl: Ttl::MINUTE, data: RecordData::Txt(format!("value {n}")) }
}

async fn updates(world: &RealWorld) {
    let zone: DnsName = ZONE.parse().unwrap();
    let key = "pindrel.".parse().unwrap();
    let secret = STANDARD.decode(TSIG_SECRET).unwrap();
    let driver =
        &Rfc2136::new(zone, world.primary, key, TsigAlgorithm::HmacSha256, secret, std::time::Duration::from_secs(60))
            .unwrap();
    let folder = tempfile::tempdir().unwrap();
    let rate = |took: Duration| CHANGES as f64 / took.as_secs_f64();
    let tool = |label: &str, at_once: usize| {
        let mut text = format!("server {} {}\nzone {ZONE}\n", world.primary.ip(), world.primary.port());
        for n in 0..CHANGES {
            let ZoneRecord { owner, .. } = record(label, n);
            let _ = writeln!(text, "update add {owner}. 60 TXT \"value {n}\"");
            if (n + 1) % at_once == 0 {
                text.push_str("send\n");
            }
        }
        rate(nsupdate(folder.path(), &text))
    };
    let single = tool("tool-single-", 1);
    let batch = median((0..RUNS).map(|run| tool(&format!("tool-batch-{run}-"), CHANGES)).collect());
    for (what, at_once) in [("one after another", 1), ("32 at once", STEPS)] {
        let begun = Instant::now();
        let label = format!("own{at_once}-");
        let changes = (0..CHANGES).map(|n| {
            let change = ZoneChange::Add(vec![record(&label, n)]);
            async move { driver.apply(&change).await.unwrap() }
        });
        stream::iter(changes).buffer_unordered(at_once).collect::<Vec<()>>().await;
        told(&format!("updates, each looked at before and after, {what}"), rate(begun.elapsed()), "nsupdate", single);
    }
    let mut batches = Vec::new();
    for run in 0..RUNS {
        let sets: Vec<SetChange> = (0..CHANGES).map(|n| set(&format!("own-batch-{run}-"), n)).collect();
        let begun = Instant::now();
        driver.change_sets(&sets).await.unwrap();
        batches.push(rate(begun.elapsed()));
    }
    told("updates in a batch of 1,000", median(batches), "nsupdate", batch);
    let singles: Vec<SetChange> = (0..CHANGES).map(|n| set("own-single-", n)).collect();
    let begun = Instant::now();
    for set in &singles {
        driver.change_sets(std::slice::from_ref(set)).await.unwrap();
    }
    told("updates alone, one after another", rate(begun.elapsed()), "nsupdate", single);
}

fn set(label: &str, n: usize) -> SetChange {
    let ZoneRecord { owner, data, .. } = record(label, n);
    let wanted = vec![data.to_wire().unwrap()];
    SetChange { owner: NameKey::from(&owner), code: TypeCode::TXT, expected: Vec::new(), ttl: 60, wanted }
}

fn nsupdate(folder: &Path, text: &str) -> Duration {
    let file = folder.join("updates");
    std::fs::write(&file, text).unwrap();
    let begun = Instant::now();
    let status = Command::new("nsupdate")
        .args(["-v", "-y", &format!("hmac-sha256:pindrel.:{TSIG_SECRET}")])
        .arg(&file)
        .stderr(Stdio::null())
        .status();
    assert!(status.unwrap().success());
    begun.elapsed()
}

async fn look_ups(world: &RealWorld) {
    let names: Vec<DnsName> = (0..NAMES).map(|n| record("own1-", n).owner).collect();
    let begun = Instant::now();
    let mut asked = 0_usize;
    // One after another without a pause in between, so that as many are under way all the time.
    let looks = names.iter().cycle().take_while(|_| begun.elapsed() < LOOKS);
    let looks = looks.map(|name| lookup::records(world.primary, name, RecordType::Txt));
    let mut looks = stream::iter(looks).buffer_unordered(AT_ONCE);
    while let Some(found) = looks.next().await {
        asked += usize::from(found.is_ok_and(|sets| !sets.is_empty()));
    }
    let own = asked as f64 / begun.elapsed().as_secs_f64();
    match dnsperf(world.primary, &names) {
        Some(tool) => told("look-ups, 1,000 names, 100 at once", own, "dnsperf", tool),
        None => println!("look-ups, 1,000 names, 100 at once: {own:.0}/s; dnsperf is not installed"),
    }
}

fn dnsperf(server: SocketAddr, names: &[DnsName]) -> Option<f64> {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("names");
    let lines = names.iter().map(|name| format!("{name} TXT\n"));
    std::fs::write(&file, lines.collect::<String>()).unwrap();
    let output = Command::new("dnsperf")
        .args(["-s", &server.ip().to_string(), "-p", &server.port().to_string(), "-e"])
        .args(["-q", &AT_ONCE.to_string(), "-l", &LOOKS.as_secs().to_string(), "-d"])
        .arg(&file)
        .output()
        .ok()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let line = text.lines().find(|line| line.contains("Queries per second"))?;
    line.split_whitespace().last()?.parse().ok()
}

fn median(mut of: Vec<f64>) -> f64 {
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

fn told(what: &str, own: f64, tool: &str, other: f64) {
    println!("{what}: {own:.0}/s, {tool} {other:.0}/s");
    let least = if tool == "dnsperf" { 0.7 } else { 1.0 };
    figure(format!("{what}, of what `{tool}` does"), own / other, Aim::AtLeast(least));
}
