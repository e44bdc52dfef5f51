//! Endpoints: many hostnames at once, a certificate that many use, and connections:
//! `cargo bench -p pindrel-benches --bench endpoints`.
//!
//! Counts calls of the platform and reloads of the web server beside the least possible, and connections
//! beside an HTTP load tool (`ab`) on the same web server.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

mod stand_ins;

use std::fmt::Write as _;
use std::net::SocketAddr;
use std::time::Instant;

use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::{program, run};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::names::name::Hostname;
use pindrel_probe::{Trust, request};
use pindrel_testkit::{RealNginx, Workspace};
use stand_ins::{load_tool, sandboxed};

const HOSTNAMES: usize = 1_000;
const BINDINGS: usize = 100;
const CONNECTIONS: usize = 4_000;
const AT_ONCE: usize = 16;

fn main() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let program = program();
    let program = program.to_str().unwrap();
    runtime.block_on(async {
        let at_the_platform = at_the_platform(program).await;
        one_certificate(program).await;
        let Some(server) = RealNginx::start("endpoints").await else { return };
        at_the_web_server(program, &server, at_the_platform).await;
    });
}

fn many(endpoint: &str, count: usize) -> String {
    let mut text = format!("[defaults]\nttl = \"1m\"\nendpoint = \"{endpoint}\"\n[hostname]\n");
    for n in 0..count {
        let _ = writeln!(text, "\"n{n}.larkfield.example\" = {{}}");
    }
    text
}

/// Jiffies of this machine that were idle, and all.
fn jiffies() -> (f64, f64) {
    let text = std::fs::read_to_string("/proc/stat").unwrap();
    let line = text.lines().next().unwrap();
    let numbers: Vec<f64> = line.split_whitespace().skip(1).filter_map(|number| number.parse().ok()).collect();
    (numbers[3] + numbers[4], numbers.iter().sum())
}

/// Settles, and prints what that took; returns the seconds.
fn settle(what: &str, workspace: &Workspace) -> f64 {
    let before = jiffies();
    let (cost, text) = run(&mut workspace.command(&["settle", "--format", "json", "--at-once", "32"]));
    let after = jiffies();
    let summary: serde_json::Value = serde_json::from_str(text.lines().last().unwrap()).unwrap();
    assert_eq!(summary["held"], summary["total"], "{summary}");
    let idle = (after.0 - before.0) / (after.1 - before.1);
    let waited = summary["waited_seconds"].as_f64().unwrap() / summary["seconds"].as_f64().unwrap();
    println!("{what}: {:.1} s", cost.wall.as_secs_f64());
    println!(
        "  {:.0} % of it only waiting for a peer; processor {:.1} s; both processors idle {:.0} % of the time, the stand-ins counted in",
        100.0 * waited,
        cost.cpu.as_secs_f64(),
        100.0 * idle
    );
    figure(format!("{what}: per cent of the time both processors were idle"), 100.0 * idle, Aim::AtMost(5.0));
    cost.wall.as_secs_f64()
}

/// Returns how long it was until all were held.
async fn at_the_platform(program: &str) -> f64 {
    let (workspace, sandbox) = sandboxed(program, |manifest, sandbox| {
        manifest.endpoint(sandbox.listing(), "catalogue", "gateway").with(&many("catalogue", HOSTNAMES))
    })
    .await;
    let took = settle(&format!("{HOSTNAMES} hostnames at the platform, from nothing"), &workspace);
    let calls = sandbox.platform().requests();
    figure("calls of the platform for each, of 4", calls as f64 / HOSTNAMES as f64 / 4.0, Aim::AtMost(1.0));
    took
}

async fn one_certificate(program: &str) {
    let (workspace, sandbox) = sandboxed(program, |manifest, sandbox| {
        let declared = "[certificate.all]\nnames = [\"*.larkfield.example\"]\n";
        manifest.endpoint(sandbox.listing(), "catalogue", "gateway").with(declared).with(&many("catalogue", BINDINGS))
    })
    .await;
    let _ = settle(&format!("{BINDINGS} hostnames with one certificate"), &workspace);
    let before = sandbox.platform().requests();
    let (_, text) = run(&mut workspace.command(&["cert", "renew", "all", "--format", "json"]));
    assert!(text.contains("\"failed\":0"), "{text}");
    let calls = sandbox.platform().requests() - before;
    // The list (two pages); the new certificate in, the old one out; for each binding a look, the change,
    // and a look whether it is in force.
    let least = 2 + 2 + 3 * BINDINGS as u64;
    let ratio = calls as f64 / least as f64;
    figure(format!("calls to renew a certificate with {BINDINGS} bindings, of {least}"), ratio, Aim::AtMost(1.0));
}

async fn at_the_web_server(program: &str, server: &RealNginx, at_the_platform: f64) {
    let (workspace, _sandbox) = sandboxed(program, |manifest, _| {
        manifest.with(&server.endpoint("web", "gateway", "")).with(&many("web", HOSTNAMES))
    })
    .await;
    let took = settle(&format!("{HOSTNAMES} hostnames at the web server, from nothing"), &workspace);
    println!("  {} reloads", server.reloads());
    figure("the web server's time, of the platform's", took / at_the_platform, Aim::AtMost(1.5));
    let name: Hostname = "n7.larkfield.example".parse().unwrap();
    let roots = workspace.read("sandbox/issuing-root.pem");
    let trust = Trust::new(pindrel_keys::roots::from_pem(roots.as_bytes()).unwrap()).unwrap();
    let begun = Instant::now();
    let shares = (0..AT_ONCE).map(|_| tokio::spawn(connect(trust.clone(), server.listen, name.clone())));
    for share in shares.collect::<Vec<_>>() {
        share.await.unwrap();
    }
    let own = CONNECTIONS as f64 / begun.elapsed().as_secs_f64();
    match load_tool(server.listen, name.as_str(), CONNECTIONS, AT_ONCE) {
        Some(theirs) => {
            println!("connections checked, {AT_ONCE} at once: {own:.0} a second, the load tool {theirs:.0}");
            figure("connections checked a second, of the load tool's", own / theirs, Aim::AtLeast(0.9));
        }
        None => println!("connections checked: {own:.0} a second; `ab` (apache2-utils) is missing for a ratio"),
    }
}

async fn connect(trust: Trust, address: SocketAddr, name: Hostname) {
    let sample = Expectation::at("/");
    for _ in 0..CONNECTIONS / AT_ONCE {
        assert_eq!(request(&trust, address, &name, &sample, None).await.unwrap().status, 200);
    }
}
