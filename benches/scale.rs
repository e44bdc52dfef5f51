//! `settle --dry-run` of the built program over many hostnames that are all held, and
//! its start-up: `cargo bench -p pindrel-benches --bench scale`.
//!
//! The floor, in the same run: parsing that TOML and one full read of that table.

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::process::Command;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::{Cost, median, program, run, runtime, settled_folder};
use pindrel_state::{CertificateBook as _, SqliteState};
use rusqlite::Connection;

const RUNS: usize = 7;
const CERTIFICATES: usize = 1_000_000;

fn main() {
    let program = program();
    let size = std::fs::metadata(&program).unwrap().len() as f64 / f64::from(1 << 20);
    figure("the program of `--release`, MiB", size, Aim::AtMost(20.0));
    start_up(&program);
    for hostnames in [10_000, 100_000] {
        dry_run(&program, hostnames);
    }
    what_is_due();
}

/// Finds what is due among a million certificates, beside reading one row by its key.
fn what_is_due() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    let state = SqliteState::open(&path, pindrel_state::Access::Change).unwrap();
    let mut connection = Connection::open(&path).unwrap();
    let now = Timestamp::now();
    let transaction = connection.transaction().unwrap();
    {
        let mut insert = transaction
            .prepare(
                "INSERT INTO certificates (name, present, sha256, names, authority, not_before, not_after, chain, key_id,
                                           key, renew_at, next_at)
                 VALUES (?1, 1, ?2, '[]', 'a', 0, 0, ?3, 'k', x'00', ?4, ?4)",
            )
            .unwrap();
        let chain = "x".repeat(1500);
        for n in 0..CERTIFICATES {
            // One in ten thousand is due.
            let next = now.as_second() + if n % 10_000 == 0 { -10 } else { 86_400 + n as i64 };
            insert.execute(rusqlite::params![format!("c{n}"), format!("{n:064x}"), chain, next]).unwrap();
        }
    }
    transaction.commit().unwrap();
    let time = |work: &dyn Fn() -> usize| {
        let times = (0..RUNS).map(|_| {
            let begun = Instant::now();
            assert_eq!(work(), CERTIFICATES / 10_000);
            begun.elapsed()
        });
        median(times.collect()).unwrap()
    };
    let runtime = runtime();
    let due = time(&|| runtime.block_on(state.due_certificates(now)).unwrap().len());
    let floor = time(&|| {
        let mut statement = connection.prepare_cached("SELECT name FROM certificates WHERE id = ?1").unwrap();
        let found =
            (0..CERTIFICATES / 10_000).filter(|n| statement.query_row([(n * 10_000 + 1) as i64], |_| Ok(())).is_ok());
        found.count()
    });
    let ratio = due.as_secs_f64() / floor.as_secs_f64();
    figure("what is due among a million certificates, of reading as many rows by key", ratio, Aim::AtMost(0.5));
    println!("due among {CERTIFICATES} certificates: {due:?}; reading as many rows by their key {floor:?}");
}

/// Beside a program that does nothing, and one that prints its version too.
fn start_up(program: &std::path::Path) {
    let spawn = |program: &std::path::Path, argument: &str| {
        let begun = Instant::now();
        Command::new(program).arg(argument).stdout(std::process::Stdio::null()).status().unwrap();
        begun.elapsed()
    };
    let runs: [_; 200] = std::array::from_fn(|_| {
        [spawn(program, "--version"), spawn("true".as_ref(), ""), spawn("openssl".as_ref(), "version")]
    });
    let [own, nothing, openssl] =
        std::array::from_fn(|which| median(runs.iter().map(|run| run[which]).collect()).unwrap().as_secs_f64());
    println!("start-up: {:.2} ms", own * 1000.0);
    for (other, took) in [("true", nothing), ("openssl version", openssl)] {
        println!("  {other}: {:.2} ms, ratio {:.2}", took * 1000.0, own / took);
    }
    figure("start-up, of the time of `openssl version`", own / openssl, Aim::AtMost(0.6));
}

fn dry_run(program: &std::path::Path, hostnames: usize) {
    let folder = tempfile::tempdir().unwrap();
    settled_folder(folder.path(), hostnames);
    let path = folder.path().join("pindrel.toml");
    let file_kib = std::fs::metadata(&path).unwrap().len() / 1024;
    let mut runs: Vec<Cost> = Vec::new();
    let mut floors: Vec<(Duration, Duration)> = Vec::new();
    for _ in 0..RUNS {
        let mut command = Command::new(program);
        command.args(["settle", "--dry-run", "--max-age", "86400"]).current_dir(folder.path());
        command.envs([("TSIG_SECRET", "c2VjcmV0"), ("EDGE_TOKEN", "token")]);
        let (cost, text) = run(&mut command);
        assert!(cost.status == 0 && text.contains("Nothing to do"), "{text}");
        runs.push(cost);
        floors.push(floor(&path, &folder.path().join(".pindrel/state.sqlite"), hostnames));
    }
    let wall = median(runs.iter().map(|cost| cost.wall).collect()).unwrap();
    let peak = runs.iter().map(|cost| cost.peak_kib).max().unwrap();
    let parse = median(floors.iter().map(|(parse, _)| *parse).collect()).unwrap();
    let read = median(floors.iter().map(|(_, read)| *read).collect()).unwrap();
    println!("{hostnames} hostnames: {wall:?}; parse {parse:?}, read {read:?}; peak {peak} KiB, file {file_kib} KiB");
    let ratio = wall.as_secs_f64() / (parse + read).as_secs_f64();
    figure(format!("dry run of {hostnames} held hostnames, of its floor"), ratio, Aim::AtMost(1.1));
    if hostnames >= 100_000 {
        let each = peak.saturating_sub(file_kib) as f64 / hostnames as f64;
        figure(format!("its memory above the manifest, KiB for each of {hostnames}"), each, Aim::AtMost(0.8));
    }
}

fn floor(manifest: &std::path::Path, state: &std::path::Path, hostnames: usize) -> (Duration, Duration) {
    let text = std::fs::read_to_string(manifest).unwrap();
    let begun = Instant::now();
    let table: toml::Table = toml::from_str(&text).unwrap();
    let parse = begun.elapsed();
    assert_eq!(table["hostname"].as_table().unwrap().len(), hostnames);
    let begun = Instant::now();
    let connection = Connection::open(state).unwrap();
    let mut statement = connection.prepare("SELECT * FROM hostnames").unwrap();
    let mut rows = statement.query([]).unwrap();
    let mut bytes = 0;
    while let Some(row) = rows.next().unwrap() {
        bytes += row.get_ref(0).unwrap().as_str().unwrap().len();
    }
    let read = begun.elapsed();
    assert!(bytes > hostnames);
    (parse, read)
}
