//! The state in PostgreSQL beside the state in SQLite: the same dry run, the same certificates.
//! `cargo bench -p pindrel-benches --bench databases`

#![allow(clippy::print_stdout, clippy::unwrap_used, reason = "a bench prints, and stops at what it cannot set up")]

use std::process::Command;
use std::time::Duration;

use pindrel_benches::figures::{Aim, figure};
use pindrel_benches::{Cost, SEALING_KEY, hold_all, manifest, median, program, run, runtime, settled_folder};
use pindrel_engine::StateLocation;
use pindrel_state::{Access, PostgresState};
use pindrel_testkit::{RealOptions, RealPostgres, RealWorld, Workspace};

const HOSTNAMES: usize = 100_000;
const CERTIFICATES: usize = 200;
const RUNS: usize = 5;

fn main() {
    let runtime = runtime();
    let program = program();
    let Some(database) = runtime.block_on(RealPostgres::start("databases")) else { return };
    let folder = tempfile::tempdir().unwrap();
    settled_folder(folder.path(), HOSTNAMES);
    std::fs::write(folder.path().join("db-root.pem"), &database.root).unwrap();
    let url = url(&database);
    runtime.block_on(async {
        // The bench's own environment has no password.
        std::fs::write(folder.path().join("password"), database.password).unwrap();
        let by_file = url.replace("env:DATABASE_PASSWORD", "file:password");
        let location = StateLocation::parse(&by_file, folder.path()).unwrap();
        let StateLocation::Postgres(config) = location else { return };
        let state = PostgresState::connect(*config, Access::Change).await.unwrap();
        hold_all(&state, &manifest(HOSTNAMES)).await;
    });
    let dry_run = |states: &[(&str, &str)]| {
        let runs = (0..RUNS).map(|_| {
            let mut command = Command::new(&program);
            command.args(["settle", "--dry-run", "--max-age", "86400"]).current_dir(folder.path());
            command.envs([("TSIG_SECRET", "c2VjcmV0"), ("EDGE_TOKEN", "token")]).envs(states.iter().copied());
            let (cost, text) = run(&mut command);
            assert!(cost.status == 0 && text.contains("Nothing to do"), "{text}");
            cost
        });
        runs.collect::<Vec<Cost>>()
    };
    let sqlite = dry_run(&[]);
    let postgres = dry_run(&[
        ("PINDREL_STATE", url.as_str()),
        ("DATABASE_PASSWORD", database.password),
        ("PINDREL_SEALING_KEY", SEALING_KEY.trim()),
    ]);
    compare(&format!("dry run of {HOSTNAMES} hostnames"), &sqlite, &postgres);

    runtime.block_on(async {
        let options = RealOptions { refuse_nonces: 0, ..RealOptions::default() };
        let Some(world) = RealWorld::start("databases", options).await else { return };
        let issue = |of: &str, prepare: &dyn Fn(&mut Workspace)| {
            let mut workspace = world.workspace(program.to_str().unwrap(), |manifest| {
                (0..CERTIFICATES).fold(manifest, |manifest, n| {
                    manifest.with(&format!("\n[certificate.{of}{n}]\nnames = [\"{of}{n}.larkfield.example\"]\n"))
                })
            });
            prepare(&mut workspace);
            let (cost, text) = run(&mut workspace.command(&["settle", "--format", "json", "--at-once", "8"]));
            assert_eq!(cost.status, 0, "{text}");
            cost
        };
        let sqlite = issue("s", &|_| ());
        let postgres = issue("p", &|workspace| {
            workspace.write("db-root.pem", &database.root);
            workspace.set("PINDREL_STATE", &self::url(&database));
            workspace.set("DATABASE_PASSWORD", database.password);
            workspace.set("PINDREL_SEALING_KEY", SEALING_KEY.trim());
        });
        compare(&format!("{CERTIFICATES} certificates"), &[sqlite], &[postgres]);
    });
}

fn url(database: &RealPostgres) -> String {
    format!("{}?password=env:DATABASE_PASSWORD&sslrootcert=db-root.pem", database.url())
}

fn compare(what: &str, sqlite: &[Cost], postgres: &[Cost]) {
    let wall = |of: &[Cost]| median(of.iter().map(|cost| cost.wall).collect()).unwrap();
    let cpu = |of: &[Cost]| median(of.iter().map(|cost| cost.cpu).collect()).unwrap();
    let ratio = |a: Duration, b: Duration| b.as_secs_f64() / a.as_secs_f64();
    let ([s, p], [sc, pc]) = ([wall(sqlite), wall(postgres)], [cpu(sqlite), cpu(postgres)]);
    println!("{what}: SQLite {s:?} (processor {sc:?}), PostgreSQL {p:?} ({pc:?})");
    figure(format!("{what} on PostgreSQL, of SQLite's time"), ratio(s, p), Aim::AtMost(1.2));
}
