//! Where the state is, and what can be read of it.

use std::os::unix::fs::PermissionsExt as _;

use pindrel_testkit::{RealPostgres, Workspace};

use crate::commands::{assert_fits, schema};
use crate::{PINDREL, edit, one_name, quick, sandboxed};

/// A sealing key, made up for this.
const SEALING_KEY: &str = "c2VhbGluZyBrZXkgb2YgdGhlIHN0YXRlIHRlc3RzIDI=";

pub(crate) fn on_postgres(workspace: &mut Workspace, database: &RealPostgres) {
    workspace.write("db-root.pem", &database.root);
    let url = format!("{}?password=env:DATABASE_PASSWORD&sslrootcert=db-root.pem", database.url());
    workspace.set("PINDREL_STATE", &url);
    workspace.set("DATABASE_PASSWORD", database.password);
    workspace.write("sealing.key", SEALING_KEY);
    let private = std::fs::Permissions::from_mode(0o600);
    std::fs::set_permissions(workspace.path().join("sealing.key"), private).unwrap();
    workspace.set("PINDREL_SEALING_KEY_FILE", "sealing.key");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_machines_share_a_state_in_postgresql() {
    let Some(mut database) = RealPostgres::start("two_machines_share_a_state_in_postgresql").await else { return };
    let (mut first, sandbox) = sandboxed(quick(), one_name).await;
    on_postgres(&mut first, &database);
    first.run(&["settle"]).ended(0);
    assert!(!first.path().join(".pindrel").exists(), "nothing is left on the machine");

    let mut second = Workspace::new(PINDREL);
    let there = format!("{}/sandbox/", first.path().display());
    second.write("pindrel.toml", &first.read("pindrel.toml").replace("sandbox/", &there));
    on_postgres(&mut second, &database);
    let ran = second.run(&["settle", "--max-age", "0"]).ended(0);
    assert!(ran.stdout.contains("Nothing to do"), "{}", ran.stdout);
    let listed = second.run(&["cert", "list"]).ended(0);
    assert!(listed.stdout.contains("1 of 1 certificate held"), "{}", listed.stdout);
    second.run(&["cert", "renew", "api.larkfield.example"]).ended(0);
    let shown = first.run(&["cert", "show", "api.larkfield.example", "--format", "json"]).ended(0).json();
    assert_eq!(shown["former"].as_array().unwrap().len(), 1, "the first sees what the second did: {shown}");
    assert_eq!(sandbox.authority().issued().0, 2);

    // What is wrong with the way there is told before anything is done, without the password.
    for (name, value, says) in [
        ("DATABASE_PASSWORD", "planted-wrong", "password"),
        ("SEALING", "b3RoZXIga2V5IG9mIHRoZSBzdGF0ZSB0ZXN0cyAyMjI=", "sealing key"),
    ] {
        let mut other = Workspace::new(PINDREL);
        other.write("pindrel.toml", &second.read("pindrel.toml"));
        on_postgres(&mut other, &database);
        match name {
            "SEALING" => other.write("sealing.key", value),
            _ => other.set(name, value),
        }
        let ran = other.run(&["settle", "--max-age", "0"]).ended(1);
        let told = format!("{}{}", ran.stdout, ran.stderr);
        assert!(told.contains(says) && told.contains('→') && !told.contains("planted"), "{name}: {told}");
    }
    let in_clear = format!("{}?password=planted", database.url());
    let ran = first.run(&["status", "--state", &in_clear]).ended(2);
    assert!(ran.stderr.contains("env:NAME") && !ran.stderr.contains("planted"), "{}", ran.stderr);

    // A database that goes away is told in bounded time, and gone on with once it is back.
    database.process.kill();
    let ran = first.run(&["settle"]).ended(1);
    assert!(ran.stderr.contains("the state") && ran.stderr.contains('→'), "{}", ran.stderr);
    assert!(!ran.stderr.contains(database.password), "{}", ran.stderr);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_tells_what_was_done_and_what_failed() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    sandbox.authority().switch(pindrel_sandbox::authority::Fault::Limit, true);
    workspace.run(&["settle"]).ended(1);
    let list = |args: &[&str]| {
        let args = [&["state", "journal", "--format", "json"], args].concat();
        let document = workspace.run(&args).ended(0).json();
        assert_fits(&schema("journal"), &document);
        document["entries"].as_array().unwrap().clone()
    };
    let failed = list(&["--action", "issue", "--moment", "failed"]);
    assert_eq!(failed.len(), 1, "{failed:?}");
    assert!(failed[0]["detail"].as_str().unwrap().contains("rate-limiting"), "{failed:?}");
    assert_eq!(list(&["--about", "other.larkfield.example"]).len(), 0);

    // The status tells the same, with the time of the next attempt.
    let status = workspace.run(&["status"]).ended(3);
    assert!(
        status.stdout.contains("last attempt to issue") && status.stdout.contains("Wait until"),
        "{}",
        status.stdout
    );

    // Every beginning has its end.
    edit(&workspace, "api.larkfield.example", "plates.larkfield.example");
    sandbox.authority().mend();
    workspace.run(&["account", "resume"]).ended(0);
    workspace.run(&["settle"]).ended(0);
    let all = list(&[]);
    let count = |moment: &str| all.iter().filter(|entry| entry["moment"] == moment).count();
    assert_eq!(count("begun"), count("done") + count("waiting") + count("failed"), "{all:#?}");
    assert_eq!(list(&["--most", "3"]).as_slice(), &all[all.len() - 3..]);
    assert!(!serde_json::to_string(&all).unwrap().contains("PRIVATE KEY"));
}
