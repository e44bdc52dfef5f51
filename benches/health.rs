//! Health: checks a second beside an HTTP load tool, thousands of checks held at their interval, and the time
//! from a verdict to another answer: `cargo bench -p pindrel-benches --bench health`.
//!
//! `PINDREL_SECONDS` says for how long the thousands are held; two minutes unless it does.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

mod stand_ins;

use std::fmt::Write as _;
use std::io::{BufRead as _, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::program;
use pindrel_core::health::{CheckResult, CheckTrust, HttpExchange, HttpRequest};
use pindrel_probe::{Trust, check_http};
use pindrel_testkit::{RealNginx, Workspace};
use serde_json::Value;
use stand_ins::{load_tool, sandboxed};

const CHECKS: usize = 4_000;
const AT_ONCE: usize = 16;
const HELD: usize = 5_000;
const NAME: &str = "n7.larkfield.example";

fn main() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let program = program();
    let program = program.to_str().unwrap();
    runtime.block_on(async {
        let Some(server) = RealNginx::start("health").await else { return };
        beside_the_load_tool(program, &server).await;
        held_at_their_interval(program, &server);
        to_another_answer(program).await;
    });
}

/// Processor time of this process and of those that it has waited for, in seconds.
fn processor() -> f64 {
    of_stat("/proc/self/stat")
}

fn of_stat(path: &str) -> f64 {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    let fields: Vec<&str> = text.rsplit(") ").next().unwrap_or_default().split_whitespace().collect();
    let ticks = |n: usize| fields.get(n).and_then(|field| field.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

fn resident_kib(pid: u32) -> u64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let line = text.lines().find(|line| line.starts_with("VmRSS:"));
    line.and_then(|line| line.split_whitespace().nth(1)?.parse().ok()).unwrap_or(0)
}

async fn beside_the_load_tool(program: &str, server: &RealNginx) {
    let (workspace, _sandbox) = sandboxed(program, |manifest, _| {
        manifest.with(&server.endpoint("web", "gateway", "")).hostname(NAME, "web", "")
    })
    .await;
    assert_eq!(workspace.run(&["settle"]).status, 0);
    let roots = workspace.read("sandbox/issuing-root.pem");
    let trust = Trust::new(pindrel_keys::roots::from_pem(roots.as_bytes()).unwrap()).unwrap();
    let request = HttpRequest {
        name: NAME.parse().unwrap(),
        exchange: HttpExchange { body: Some("one".into()), ..HttpExchange::default() },
        trust: CheckTrust::Roots(None),
    };
    let (begun, spent) = (Instant::now(), processor());
    let shares = (0..AT_ONCE).map(|_| tokio::spawn(checks(trust.clone(), server.listen, request.clone())));
    for share in shares.collect::<Vec<_>>() {
        share.await.unwrap();
    }
    let (own, spent) = (CHECKS as f64 / begun.elapsed().as_secs_f64(), processor() - spent);
    let each = spent * 1e3 / CHECKS as f64;
    println!(
        "checks of a real web server over TLS 1.3, {AT_ONCE} at once: {own:.0} a second, {each:.2} ms of a processor each"
    );
    match load_tool(server.listen, NAME, CHECKS, AT_ONCE) {
        Some(theirs) => figure("checks a second, of the load tool's requests", own / theirs, Aim::AtLeast(0.9)),
        None => println!("  `ab` (apache2-utils) is missing for a ratio"),
    }
}

async fn checks(trust: Trust, address: SocketAddr, request: HttpRequest) {
    for _ in 0..CHECKS / AT_ONCE {
        let measured = check_http(&trust, address, &request, Duration::from_secs(5)).await;
        assert_eq!(measured.result, CheckResult::Passed);
    }
}

/// A running `keep` of the built program, which tells events.
fn keep(workspace: &Workspace) -> Child {
    let mut command: Command = workspace.command(&["keep", "--format", "json"]);
    command.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap()
}

fn stop(child: &Child) {
    Command::new("kill").arg(child.id().to_string()).status().unwrap();
}

/// Thousands of checks at ten seconds each, from one process.
fn held_at_their_interval(program: &str, server: &RealNginx) {
    let seconds = std::env::var("PINDREL_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(120);
    let workspace = Workspace::new(program);
    let mut text = String::from("manifest = 1\n");
    // The services behind the web server speak plain HTTP: what is measured is the process, not its peer.
    let service = server.services[0];
    for n in 0..HELD {
        let _ = write!(
            text,
            "[endpoint.e{n}]\nkind = \"gateway\"\ndriver = \"static\"\ndefault_name = \"e{n}.larkfield.test.\"\n\
             addresses = [\"{}\"]\nhealth = {{ url = \"http://e{n}.larkfield.example:{}/\", every = \"10s\", timeout = \"5s\" }}\n",
            service.ip(),
            service.port()
        );
    }
    workspace.write("pindrel.toml", &text);
    let mut child = keep(&workspace);
    let pid = child.id();
    let out = BufReader::new(child.stdout.take().unwrap());
    let last = std::thread::spawn(move || out.lines().map_while(Result::ok).last().unwrap());
    std::thread::sleep(Duration::from_secs(seconds / 4));
    let (early, spent) = (resident_kib(pid), of_stat(&format!("/proc/{pid}/stat")));
    std::thread::sleep(Duration::from_secs(seconds - seconds / 4));
    let (late, spent) = (resident_kib(pid), of_stat(&format!("/proc/{pid}/stat")) - spent);
    stop(&child);
    child.wait().unwrap();
    let summary: Value = serde_json::from_str(&last.join().unwrap()).unwrap();
    let lateness = |key: &str| summary["late_seconds"][key].as_f64().unwrap() * 1e3;
    println!("{HELD} checks each 10 s from one process for {seconds} s: {} made", summary["checks"]);
    println!(
        "  late by {:.1} ms (median), {:.1} ms (99 %), {:.0} ms at most",
        lateness("median"),
        lateness("of_99_percent"),
        lateness("most")
    );
    let share = spent / (seconds - seconds / 4) as f64 * 100.0;
    println!("  memory {early} KiB after a quarter, {late} KiB at the end; {share:.0} % of one processor");
}

/// From the verdict to the new answer on the primary, beside what an update takes by itself.
async fn to_another_answer(program: &str) {
    let (workspace, sandbox) = sandboxed(program, |manifest, sandbox| {
        let tonight = "[hostname.\"tonight.larkfield.example\"]\nendpoints = [\"queue-north\", \"queue-south\"]\n\
                       policy = \"standby\"\nback_after = \"1s\"\nttl = \"1s\"\n\
                       health = { path = \"/\", every = \"1s\", timeout = \"1s\", down_after = 2, up_after = 2 }\n";
        let (north, south) = (("queue-north", "balancer"), ("queue-south", "balancer"));
        let manifest = manifest.endpoint(sandbox.listing(), north.0, north.1);
        manifest.endpoint(sandbox.listing(), south.0, south.1).with(tonight)
    })
    .await;
    assert_eq!(workspace.run(&["settle"]).status, 0);
    let mut child = keep(&workspace);
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
    let mut switched = |to: &str| loop {
        let event: Value = serde_json::from_str(&lines.next().unwrap()).unwrap();
        if event["event"] == "switched" && event["to"][0] == to {
            let at = |key: &str| event[key].as_str().unwrap().parse::<Timestamp>().unwrap();
            return (at("primary").duration_since(at("decided")), at("everywhere").duration_since(at("primary")));
        }
    };
    std::thread::sleep(Duration::from_secs(3));
    let mut taken = Vec::new();
    for _ in 0..5 {
        sandbox.switch("endpoint-down=queue-north", true);
        taken.push(switched("queue-south"));
        sandbox.switch("endpoint-down=queue-north", false);
        taken.push(switched("queue-north"));
    }
    stop(&child);
    child.wait().unwrap();
    let mut primary: Vec<f64> = taken.iter().map(|(primary, _)| primary.as_secs_f64() * 1e3).collect();
    primary.sort_by(f64::total_cmp);
    let update = bare_update(&workspace, sandbox.listing().primary);
    println!(
        "from the verdict to the new answer on the primary: {:.1} ms (median of {}), {:.1} ms at most",
        primary[primary.len() / 2],
        primary.len(),
        primary[primary.len() - 1]
    );
    println!("  an update with its prerequisite by itself, over TCP and signed: {update:.1} ms");
    let more = primary[primary.len() / 2] - update;
    figure("ms from a verdict to the new answer, above an update by itself", more, Aim::AtMost(10.0));
}

/// How long a signed update takes by itself.
fn bare_update(workspace: &Workspace, server: SocketAddr) -> f64 {
    let secret = workspace.read("sandbox/tsig.secret");
    let key = STANDARD.decode(secret.trim()).unwrap();
    let name = "pindrel.".parse().unwrap();
    let algorithm = pindrel_core::values::TsigAlgorithm::HmacSha256;
    let driver = pindrel_dns::Rfc2136::new(
        "larkfield.example".parse().unwrap(),
        server,
        name,
        algorithm,
        key,
        std::time::Duration::from_secs(60),
    )
    .unwrap();
    let record = pindrel_core::zones::records::ZoneRecord {
        owner: "bench.larkfield.example".parse().unwrap(),
        ttl: pindrel_core::values::Ttl::MINUTE,
        data: pindrel_core::zones::records::RecordData::A("192.0.2.1".parse().unwrap()),
    };
    let mut taken: Vec<f64> = (0..9)
        .map(|n| {
            let change = match n % 2 {
                0 => pindrel_core::zones::records::ZoneChange::Add(vec![record.clone()]),
                _ => pindrel_core::zones::records::ZoneChange::Delete(vec![record.clone()]),
            };
            let begun = Instant::now();
            let changed = tokio::task::block_in_place(|| {
                tokio::runtime::Handle::current().block_on(pindrel_dns::ZoneDriver::change(&driver, &change))
            });
            changed.unwrap();
            begun.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    taken.sort_by(f64::total_cmp);
    taken[taken.len() / 2]
}
