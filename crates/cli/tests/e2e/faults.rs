//! What is down, refuses, lags or stands in the way.

use std::process::Stdio;
use std::time::{Duration, Instant};

use pindrel_sandbox::Sandbox;
use pindrel_testkit::{RealOptions, RealWorld, Workspace};

use crate::{PINDREL, edit, one_name, quick, sandboxed};

/// A run must have given up by then.
const BOUND: Duration = Duration::from_secs(60);

/// Something that goes down, and the sentence that must tell it.
type Outage = (&'static str, fn(&Sandbox, bool), &'static str);

const OUTAGES: [Outage; 3] = [
    ("authority", |sandbox, down| sandbox.authority().silence(down), "authority refused"),
    ("secondary", |sandbox, down| sandbox.secondary().silence(down), "5390"),
    ("platform", |sandbox, down| sandbox.platform().silence(down), "503"),
];

#[tokio::test(flavor = "multi_thread")]
async fn what_is_down_at_the_start_is_told_in_bounded_time_and_resumed() {
    for (what, down, says) in OUTAGES {
        let (workspace, sandbox) = sandboxed(quick(), one_name).await;
        down(&sandbox, true);
        let begun = Instant::now();
        let ran = workspace.run(&["settle", "--patience", "2"]).ended(1);
        assert!(begun.elapsed() < BOUND, "{what}");
        assert!(ran.stdout.contains(says) && ran.stdout.contains('→'), "{what}: {}", ran.stdout);
        down(&sandbox, false);
        workspace.run(&["settle"]).ended(0);
        assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1, "{what}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_goes_down_half_way_is_told_in_bounded_time_and_resumed() {
    for (what, down, says) in OUTAGES {
        let slow = pindrel_sandbox::Options { lag: Duration::from_millis(700), ..quick() };
        let (workspace, sandbox) = sandboxed(slow, one_name).await;
        let begun = Instant::now();
        let mut child = workspace
            .command(&["settle", "--patience", "2"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        // Once a challenge record is waited for, everything is under way.
        let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stderr.take().unwrap()));
        assert!(lines.any(|line| line.unwrap().contains("to return the challenge record")), "{what}");
        down(&sandbox, true);
        lines.for_each(drop);
        let output = child.wait_with_output().unwrap();
        let stdout = String::from_utf8_lossy(&output.stdout);
        assert!(begun.elapsed() < BOUND, "{what}");
        assert_eq!(output.status.code(), Some(1), "{what}: {stdout}");
        assert!(stdout.contains(says) && stdout.contains('→'), "{what}: {stdout}");
        down(&sandbox, false);
        workspace.run(&["settle"]).ended(0);
        assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1, "{what}");
        for server in [sandbox.primary(), sandbox.secondary()] {
            assert_eq!(server.texts("_acme-challenge.api.larkfield.example"), [""; 0], "{what}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_stays_of_an_order_that_the_manifest_wants_no_more() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    sandbox.secondary().freeze(true);
    workspace.run(&["settle", "--patience", "1"]).ended(1);
    sandbox.secondary().freeze(false);
    let challenge = "_acme-challenge.api.larkfield.example";
    assert_eq!(sandbox.primary().texts(challenge).len(), 1, "the next run would go on with it");

    edit(&workspace, "api.larkfield.example", "plates.larkfield.example");
    let ran = workspace.run(&["settle"]).ended(0);
    assert!(ran.stderr.contains("the order for api.larkfield.example is abandoned"), "{}{}", ran.stdout, ran.stderr);
    for server in [sandbox.primary(), sandbox.secondary()] {
        assert_eq!(server.texts(challenge), [""; 0]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_runs_at_once_share_the_work() {
    let slow = pindrel_sandbox::Options { lag: Duration::from_millis(500), ..quick() };
    let (workspace, sandbox) = sandboxed(slow, one_name).await;
    let mut first = workspace.command(&["settle", "-q"]).stdout(Stdio::null()).spawn().unwrap();
    let second = workspace.run(&["settle"]).ended(0);
    assert!(first.wait().unwrap().success());
    assert!(second.stdout.contains("held"), "{}", second.stdout);
    assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1);
    let left: Vec<_> =
        std::fs::read_dir(workspace.path().join(".pindrel")).unwrap().map(|file| file.unwrap()).collect();
    assert!(left.iter().all(|file| file.file_type().unwrap().is_file()), "{left:?}");
}

/// The ways in which a zone's server refuses, by what is changed in the manifest.
const REFUSALS: [(&str, &str, &str); 3] = [
    (
        "name = \"pindrel.\"",
        "name = \"unknown.\"",
        "does not know the TSIG key unknown, or not for this zone or algorithm (BADKEY)",
    ),
    ("env:TSIG_SECRET", "env:OTHER_SECRET", "has another secret for the TSIG key pindrel (BADSIG)"),
    ("name = \"pindrel.\"", "name = \"idle.\"", "refuses to update larkfield.example: REFUSED"),
];

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_key_a_wrong_secret_and_a_refusal_are_told_apart() {
    let test = "a_wrong_key_a_wrong_secret_and_a_refusal_are_told_apart";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let listing = world.sandbox.listing().clone();
    for (written, instead, says) in REFUSALS {
        let mut workspace: Workspace = world.workspace(PINDREL, |manifest| one_name(manifest, &listing));
        workspace.set("OTHER_SECRET", "b3RoZXIgc2VjcmV0IG9mIHRoZSB0ZXN0cywgMzIgYi4=");
        edit(&workspace, written, instead);
        // Nothing failed: a person has to grant what is asked for.
        let ran = workspace.run(&["settle"]).ended(3);
        assert!(ran.stdout.contains(&format!("{} {says}", world.primary)), "{says}: {}", ran.stdout);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_real_authority_that_is_gone_is_told_and_resumed_elsewhere() {
    let test = "a_real_authority_that_is_gone_is_told_and_resumed_elsewhere";
    let Some(mut world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let listing = world.sandbox.listing().clone();
    let workspace = world.workspace(PINDREL, |manifest| one_name(manifest, &listing));
    world.authority_process.kill();
    let ran = workspace.run(&["settle"]).ended(1);
    assert!(ran.stdout.contains("cannot be reached: connection refused"), "{}", ran.stdout);
}
