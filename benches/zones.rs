//! Whole zones: checking files beside two name servers' own checkers, and comparing two such files:
//! `cargo bench -p pindrel-benches --bench zones`.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::fmt::Write as _;
use std::path::Path;
use std::process::Command;

use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::{Cost, median, program, run};

const RUNS: usize = 3;
const ZONE: &str = "larkfield.example";

fn main() {
    let program = program();
    let folder = tempfile::tempdir().unwrap();
    for names in [100_000_u32, 1_000_000] {
        let (file, other) =
            (folder.path().join(format!("{names}.zone")), folder.path().join(format!("{names}-b.zone")));
        std::fs::write(&file, zone(names, 0)).unwrap();
        std::fs::write(&other, zone(names, 100)).unwrap();
        println!("{names} names, A and AAAA each, in no order:");
        let own = several(|| {
            let mut command = Command::new(&program);
            command.args(["zone", "check", "--origin", ZONE]).arg(&file);
            command
        });
        told("pindrel zone check", own, own);
        for (checker, args) in [("named-checkzone", &["-q", ZONE][..]), ("nsd-checkzone", &[ZONE])] {
            if Command::new(checker).arg("-h").output().is_err() {
                println!("  {checker} is not installed");
                continue;
            }
            let theirs = several(|| checking(checker, args, &file));
            told(checker, theirs, own);
            let (time, memory) =
                (own.wall.as_secs_f64() / theirs.wall.as_secs_f64(), own.peak_kib as f64 / theirs.peak_kib as f64);
            figure(format!("`zone check` of {names} names, of the time of `{checker}`"), time, Aim::AtMost(1.0));
            figure(format!("`zone check` of {names} names, of the memory of `{checker}`"), memory, Aim::AtMost(0.5));
        }
        let compared = several(|| {
            let mut command = Command::new(&program);
            command.args(["zone", "compare", "--origin", ZONE, "--format", "json"]).args([&file, &other]);
            command
        });
        told("pindrel zone compare, 1 % differs", compared, own);
    }
}

fn checking(checker: &str, args: &[&str], file: &Path) -> Command {
    let mut command = Command::new(checker);
    command.args(args).arg(file);
    command
}

fn several(command: impl Fn() -> Command) -> Cost {
    let costs: Vec<Cost> = (0..RUNS).map(|_| run(&mut command()).0).collect();
    Cost {
        wall: median(costs.iter().map(|cost| cost.wall).collect()).unwrap(),
        peak_kib: median(costs.iter().map(|cost| cost.peak_kib).collect()).unwrap(),
        ..costs[0]
    }
}

fn told(what: &str, cost: Cost, own: Cost) {
    let (time, memory) = (own.wall.as_secs_f64() / cost.wall.as_secs_f64(), own.peak_kib as f64 / cost.peak_kib as f64);
    let (secs, mib) = (cost.wall.as_secs_f64(), cost.peak_kib / 1024);
    println!(
        "  {what}: {secs:.2} s, {mib} MiB (exit {}); zone check takes {time:.2} of the time, {memory:.2} of the memory",
        cost.status
    );
}

/// A zone file in no order, one name in `every` with another address where that is not nought.
fn zone(names: u32, every: u32) -> String {
    let mut text =
        String::from("$TTL 600\n@ IN SOA ns1 hostmaster 1 3600 900 604800 300\n@ IN NS ns1\nns1 A 192.0.2.1\n");
    for n in 0..names {
        // A step that shares no factor with the number of names visits each of them once.
        let at = (u64::from(n) * 611_953 % u64::from(names)) as u32;
        let last = if every > 0 && at.is_multiple_of(every) { 254 } else { at & 0x7f };
        let [_, high, middle, _] = at.to_be_bytes();
        let _ = writeln!(
            text,
            "host-{at:07} IN A 10.{high}.{middle}.{last}\n             IN AAAA 2001:db8::{:x}:{:x}",
            at >> 16,
            at & 0xffff
        );
    }
    text
}
