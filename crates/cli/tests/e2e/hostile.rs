//! A machine that does not do what it should: a full disk, a state that cannot be written,
//! a clock that was set back.

use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use pindrel_testkit::{Ran, Workspace, require};

use crate::{PINDREL, one_name, quick, sandboxed};

/// Runs the program by way of another one.
fn run_by(workspace: &Workspace, by: &[&str], args: &[&str]) -> Ran {
    let template = workspace.command(args);
    let mut command = Command::new(by[0]);
    command.args(&by[1..]).arg(PINDREL).args(args).current_dir(workspace.path()).env_clear();
    command.envs(template.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = command.output().unwrap();
    Ran {
        status: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_full_at_any_moment_loses_nothing() {
    // No file may grow beyond so many blocks of 512 bytes.
    let mut failed = 0;
    for blocks in [8, 180, 220, 260, 300, 340, 400, 500] {
        let (workspace, sandbox) = sandboxed(quick(), one_name).await;
        let limited = format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" \"$@\"");
        let ran = run_by(&workspace, &["/bin/sh", "-c", &limited], &["settle"]);
        let said = format!("{}{}", ran.stdout, ran.stderr);
        if ran.status != 0 {
            failed += 1;
            assert_eq!(ran.status, 1, "{blocks}: {said}");
            assert!(said.contains("disk is not full") && !said.contains("panicked"), "{blocks}: {said}");
        }
        workspace.run(&["settle"]).ended(0);
        assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1, "{blocks}: {said}");
        for server in [sandbox.primary(), sandbox.secondary()] {
            assert_eq!(server.texts("_acme-challenge.api.larkfield.example"), [""; 0], "{blocks}");
        }
    }
    assert!(failed >= 3, "the disk was full {failed} times");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_state_that_cannot_be_written_is_told_before_anything_is_done() {
    let test = "a_state_that_cannot_be_written_is_told_before_anything_is_done";
    if !require(test, &[("setpriv", "util-linux")]) {
        return;
    }
    let (mut workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["account", "register"]).ended(0);
    let key = workspace.read(".pindrel/sealing.key");
    workspace.set("PINDREL_SEALING_KEY", key.trim());
    let open = |path: &std::path::Path, mode| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    open(workspace.path(), 0o755);
    open(&workspace.path().join("sandbox"), 0o755);
    for name in ["api-root.pem", "issuing-root.pem", "tsig.secret", "edge.token"] {
        open(&workspace.path().join("sandbox").join(name), 0o644);
    }
    open(&workspace.path().join(".pindrel"), 0o755);
    for file in std::fs::read_dir(workspace.path().join(".pindrel")).unwrap() {
        open(&file.unwrap().path(), 0o444);
    }
    let before = sandbox.authority().requests();
    // Root may write everything: nobody does not.
    let nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"];
    let ran = run_by(&workspace, &nobody, &["settle"]);
    assert_eq!(ran.status, 1, "{}{}", ran.stdout, ran.stderr);
    assert!(ran.stderr.contains("state.sqlite") && ran.stderr.contains('→'), "{}", ran.stderr);
    assert_eq!(sandbox.authority().requests(), before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_back_a_day_is_told_and_loses_nothing() {
    if !require("a_clock_that_is_set_back_a_day_is_told_and_loses_nothing", &[("faketime", "faketime")]) {
        return;
    }
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    let ran = run_by(&workspace, &["faketime", "-f", "-1d"], &["settle"]);
    // The certificates of authority and platform are younger than that.
    assert_eq!(ran.status, 1, "{}{}", ran.stdout, ran.stderr);
    assert!(ran.stdout.contains("not valid") || ran.stdout.contains("notvalidyet"), "{}", ran.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1);
}
