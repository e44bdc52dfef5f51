//! Certificates from a real ACME test authority, with real name servers:
//! `cargo bench -p pindrel-benches --bench issue`.
//!
//! Counts requests beside the least that RFC 8555 needs, and processor time beside
//! what the same signatures cost `openssl speed`.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::process::Command;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use pindrel_benches::distance::relay;
use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::{median, program, run};
use pindrel_testkit::{ManifestText, RealOptions, RealWorld, Workspace};
use rusqlite::Connection;

/// Hostnames with all that they need.
const HOSTNAMES: usize = 200;
/// Certificates alone.
const CERTIFICATES: usize = 500;
const NAMES: usize = 100;
/// Order, order, finalize, order, certificate; and for each authorization its reading and
/// the answer to its challenge.
const LEAST_FOR_AN_ORDER: usize = 5;
const LEAST_FOR_A_NAME: usize = 2;
const SINGLE_RUNS: usize = 15;
/// How long the way to the name servers takes, where they are far away.
const ONE_WAY: Duration = Duration::from_millis(20);
/// The test authority stops answering under more orders at once than this.
const AT_ONCE: &str = "8";

fn main() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let options = RealOptions { refuse_nonces: 0, ..RealOptions::default() };
        let Some(world) = RealWorld::start("issue", options).await else { return };
        let program = program();
        let program = program.to_str().unwrap();
        let listing = world.sandbox.listing();
        let hostnames = world.workspace(program, |manifest| {
            let start = manifest.endpoint(listing, "catalogue", "gateway");
            (0..HOSTNAMES).fold(start, |manifest: ManifestText, n| {
                manifest.hostname(&format!("t{n}.larkfield.example"), "catalogue", "")
            })
        });
        measure(
            "hostnames, settled whole",
            &hostnames,
            Counts { orders: HOSTNAMES, names: HOSTNAMES, endpoints: HOSTNAMES },
        );
        let certificates = world.workspace(program, |manifest| {
            (0..CERTIFICATES).fold(manifest, |manifest, n| {
                manifest.with(&format!("\n[certificate.c{n}]\nnames = [\"c{n}.larkfield.example\"]\n"))
            })
        });
        measure(
            "certificates of one name",
            &certificates,
            Counts { orders: CERTIFICATES, names: CERTIFICATES, endpoints: 0 },
        );
        let large = world.workspace(program, |manifest| {
            let names: Vec<String> = (0..NAMES).map(|n| format!("n{n}.larkfield.example")).collect();
            manifest.with(&format!("\n[certificate.large]\nnames = {names:?}\n"))
        });
        measure("certificate of a hundred names", &large, Counts { orders: 1, names: NAMES, endpoints: 0 });
        lateness(&world, program).await;
        distance(world, program).await;
    });
}

/// What a run issues.
struct Counts {
    orders: usize,
    names: usize,
    /// Hostnames that are connected to, directly and through a resolver.
    endpoints: usize,
}

fn measure(what: &str, workspace: &Workspace, counts: Counts) {
    let (cost, text) = run(&mut workspace.command(&["settle", "--format", "json", "--at-once", AT_ONCE]));
    let summary: serde_json::Value = serde_json::from_str(text.lines().last().unwrap()).unwrap();
    assert_eq!(summary["failed"], 0, "{summary}");
    let number = |key: &str| summary[key].as_f64().unwrap();
    // The account is opened once, by one more request.
    let necessary = number("acme_requests") - number("acme_waiting_requests") - 1.0;
    let least = counts.orders * LEAST_FOR_AN_ORDER + counts.names * LEAST_FOR_A_NAME;
    println!("{} {what}:", counts.orders);
    println!(
        "  {necessary:.0} necessary requests; {:.2} waiting polls each",
        number("acme_waiting_requests") / counts.orders as f64
    );
    let what = format!("{} {what}", counts.orders);
    figure(format!("{what}: requests, of the least ({least})"), necessary / least as f64, Aim::AtMost(1.0));
    let wall = number("seconds");
    println!("  wall {wall:.1} s, of which {:.0} % only waiting", 100.0 * number("waited_seconds") / wall);
    let floor = cryptography(necessary, &counts);
    println!("  processor time {:?}; its keys, signatures and handshakes by openssl speed {floor:?}", cost.cpu);
    let ratio = cost.cpu.as_secs_f64() / floor.as_secs_f64();
    figure(format!("{what}: processor time, of its cryptography"), ratio, Aim::AtMost(2.0));
}

/// What the cryptography alone costs another library on this machine in this run.
fn cryptography(requests: f64, counts: &Counts) -> Duration {
    let [sign, verify] = speed("ecdsap256", "+F4");
    let [exchange] = speed("ecdhx25519", "+F5");
    // Each request is signed, each signing request too; a new key costs about a signature.
    let signatures = requests + 2.0 * counts.orders as f64;
    // The chain of each certificate has two signatures to be verified.
    let verified = 2.0 * counts.orders as f64;
    // Two connections to each endpoint: an exchange of two halves, and three signatures.
    let handshakes = 2.0 * counts.endpoints as f64;
    let seconds = signatures * sign + verified * verify + handshakes * (2.0 * exchange + 3.0 * verify);
    Duration::from_secs_f64(seconds)
}

/// Seconds for each operation of one algorithm.
fn speed<const N: usize>(algorithm: &str, line: &str) -> [f64; N] {
    let output = Command::new("openssl").args(["speed", "-mr", "-seconds", "1", algorithm]).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    // "+F4:index:bits:signatures a second:verifications a second", "+F5:index:bits:exchanges a second"
    let found = text.lines().find(|found| found.starts_with(line)).unwrap_or_else(|| panic!("{text}"));
    let numbers: Vec<f64> = found.split(':').skip(3).filter_map(|number| number.parse().ok()).collect();
    std::array::from_fn(|n| 1.0 / numbers[n])
}

/// From the moment at which the last server has the TXT record, as seen from outside
/// every millisecond, to the moment at which the challenge is answered.
async fn lateness(world: &RealWorld, program: &str) {
    let listing = world.sandbox.listing();
    let mut late = Vec::new();
    for n in 0..SINGLE_RUNS {
        let name = format!("single{n}.larkfield.example");
        let workspace = world.workspace(program, |manifest| {
            manifest.endpoint(listing, "catalogue", "gateway").hostname(&name, "catalogue", "")
        });
        let mut child = workspace.command(&["settle", "-q"]).stdout(std::process::Stdio::null()).spawn().unwrap();
        let owner = format!("_acme-challenge.{name}").parse().unwrap();
        let seen = loop {
            let sets =
                pindrel_dns::lookup::records(world.secondary, &owner, pindrel_core::zones::records::RecordType::Txt)
                    .await;
            if sets.is_ok_and(|sets| !sets.is_empty()) {
                break Timestamp::now().as_millisecond();
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        };
        assert!(child.wait().unwrap().success());
        let state = Connection::open(workspace.path().join(".pindrel/state.sqlite")).unwrap();
        let sql = "SELECT at FROM journal WHERE action = 'challenge-respond' AND moment = 'begun'";
        let answered: i64 = state.query_row(sql, [], |row| row.get(0)).unwrap();
        late.push(answered - seen);
    }
    println!(
        "challenge answered {} ms after the last server has its record (median of {SINGLE_RUNS})",
        median(late).unwrap()
    );
}

/// Certificates of one name and of a hundred where the name servers are far away, in round
/// trips to them.
async fn distance(mut world: RealWorld, program: &str) {
    for server in [&mut world.primary, &mut world.secondary, &mut world.parent] {
        *server = relay(*server, ONE_WAY).await;
    }
    for count in [1, NAMES] {
        let names: Vec<String> = (0..count).map(|n| format!("far{n}-of-{count}.larkfield.example")).collect();
        let workspace =
            world.workspace(program, |manifest| manifest.with(&format!("\n[certificate.far]\nnames = {names:?}\n")));
        let mut child = workspace.command(&["settle", "-q"]).stdout(std::process::Stdio::null()).spawn().unwrap();
        let begun = Instant::now();
        let status = loop {
            match child.try_wait().unwrap() {
                Some(status) => break status,
                None => tokio::time::sleep(Duration::from_millis(1)).await,
            }
        };
        assert!(status.success());
        let trips = begun.elapsed().as_secs_f64() / (2 * ONE_WAY).as_secs_f64();
        let most = if count == 1 { 26.0 } else { 60.0 };
        figure(
            format!("round trips for {count} names at name servers {:?} away", 2 * ONE_WAY),
            trips,
            Aim::AtMost(most),
        );
    }
}
