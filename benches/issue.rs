//! Certificates from a real ACME test authority, with real name servers:
//! `cargo bench -p pindrel-benches --bench issue`.
//!
//! Counts requests beside the least that RFC 8555 needs, and processor time beside
//! what the same signatures cost `openssl speed`.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::process::Command;
use std::time::Duration;

use jiff::Timestamp;
use pindrel_benches::{median, program, run};
use pindrel_testkit::{ManifestText, RealOptions, RealWorld};
use rusqlite::Connection;

const CERTIFICATES: usize = 200;
/// Order, authorization, challenge, order, finalize, order, certificate.
const LEAST_REQUESTS: f64 = 7.0;
const SINGLE_RUNS: usize = 15;

fn main() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let options = RealOptions { refuse_nonces: 0, ..RealOptions::default() };
        let Some(world) = RealWorld::start("issue", options).await else { return };
        let program = program();
        many(&world, program.to_str().unwrap());
        lateness(&world, program.to_str().unwrap()).await;
    });
}

fn many(world: &RealWorld, program: &str) {
    let listing = world.sandbox.listing();
    let workspace = world.workspace(program, |manifest| {
        let start = manifest.endpoint(listing, "catalogue", "gateway");
        (0..CERTIFICATES).fold(start, |manifest: ManifestText, n| {
            manifest.hostname(&format!("t{n}.larkfield.example"), "catalogue", "")
        })
    });
    let (cost, text) = run(&mut workspace.command(&["settle", "--format", "json"]));
    let summary: serde_json::Value = serde_json::from_str(text.lines().last().unwrap()).unwrap();
    assert_eq!(summary["held"], CERTIFICATES, "{summary}");
    let number = |key: &str| summary[key].as_f64().unwrap();
    // The account is opened once, by one more request.
    let necessary = (number("acme_requests") - number("acme_waiting_requests") - 1.0) / CERTIFICATES as f64;
    println!(
        "{CERTIFICATES} certificates: {necessary:.2} necessary requests each ({:.2} times the least), {:.2} waiting polls each",
        necessary / LEAST_REQUESTS,
        number("acme_waiting_requests") / CERTIFICATES as f64
    );
    println!(
        "wall {:.1} s, of which {:.0} % only waiting",
        number("seconds"),
        100.0 * number("waited_seconds") / number("seconds")
    );
    let per_sign = seconds_per_signature();
    // Seven requests and the signing request are signed; a new key costs about as much
    // as a signature.
    let floor = Duration::from_secs_f64(per_sign * 9.0 * CERTIFICATES as f64);
    println!(
        "processor time of the whole settle {:?}; its signatures and keys by openssl speed {floor:?}; ratio {:.1}",
        cost.cpu,
        cost.cpu.as_secs_f64() / floor.as_secs_f64()
    );
}

fn seconds_per_signature() -> f64 {
    let output = Command::new("openssl").args(["speed", "-mr", "-seconds", "1", "ecdsap256"]).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    // "+F5:index:bits:seconds per signature:seconds per verification"
    let line = text.lines().find_map(|line| line.strip_prefix("+F")).unwrap_or_else(|| panic!("{text}"));
    line.split(':').nth(3).unwrap().parse().unwrap()
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
                pindrel_dns::lookup::records(world.secondary, &owner, pindrel_core::records::RecordType::Txt).await;
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
