//! What exists without a record of it, and what the manifest no longer names.

use serde_json::{Value, json};

use crate::commands::{assert_fits, schema};
use crate::{edit, one_name, quick, sandboxed};

const API: &str = "api.larkfield.example";

#[tokio::test(flavor = "multi_thread")]
async fn what_the_manifest_no_longer_names_is_shown_exported_and_revoked() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        one_name(manifest, listing).hostname("old.larkfield.example", "catalogue", "")
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let whole = workspace.read("pindrel.toml");
    edit(&workspace, "[hostname.\"old.larkfield.example\"]\nendpoint = \"catalogue\"\n", "");
    assert_ne!(workspace.read("pindrel.toml"), whole);

    let ran = workspace.run(&["settle"]).ended(3);
    let says = "old.larkfield.example is no longer in the manifest, but its alias, its binding at catalogue and its certificate are still there";
    assert!(ran.stdout.contains(says) && ran.stdout.contains("1 left over"), "{}", ran.stdout);
    workspace.run(&["settle", "--only", API]).ended(0);
    let plan = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(3).json();
    assert_fits(&schema("steps"), &plan);
    let status = workspace.run(&["status", "--format", "json"]).ended(3).json();
    assert_fits(&schema("status"), &status);
    let what = json!(["alias", "binding", "certificate"]);
    assert_eq!((&status["held"], &status["total"], &status["leftovers"][0]["what"]), (&1.into(), &1.into(), &what));
    let listed = workspace.run(&["cert", "list"]).ended(0);
    assert!(listed.stdout.contains("1 of 1 certificate held, 1 left over."), "{}", listed.stdout);

    let exported = workspace.run(&["cert", "export", "old.larkfield.example"]).ended(0);
    assert!(exported.stdout.contains("BEGIN CERTIFICATE"));
    workspace.run(&["cert", "revoke", "old.larkfield.example"]).ended(0);
    assert_eq!(sandbox.authority().issued().1, 1, "revoked, and not replaced");

    // Put back it is held again, with a certificate that is not revoked.
    workspace.write("pindrel.toml", &whole);
    workspace.run(&["settle"]).ended(0);
    workspace.run(&["status"]).ended(0);
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_lost_state_what_is_proven_is_taken_over_in_one_command() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    std::fs::remove_dir_all(workspace.path().join(".pindrel")).unwrap();
    let ran = workspace.run(&["adopt", "--all", "--format", "json"]).ended(3);
    let found = ran.json();
    assert_fits(&schema("adopt"), &found);
    let told = |row: &Value| (row["what"].clone(), row["proven"].clone(), row["adopted"].clone());
    let rows: Vec<_> = found["found"].as_array().unwrap().iter().map(told).collect();
    let expected = ["alias", "binding"].map(|what| (json!(what), json!(true), json!(false)));
    assert_eq!(rows, expected, "{}", ran.stdout);
    let ran = workspace.run(&["adopt", "--all", "--yes"]).ended(0);
    assert!(ran.stdout.contains("2 of 2 things taken over"), "{}", ran.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 2);
    assert!(workspace.run(&["adopt", "--all"]).ended(0).stdout.contains("Nothing to take over"));

    // What a stranger made is taken over by its name only.
    for server in [sandbox.primary(), sandbox.secondary()] {
        server.delete(API, "CNAME");
        server.add_alias(API, "parked.larkfield.test");
    }
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(3);
    assert!(ran.stdout.contains("pindrel adopt alias api.larkfield.example"), "{}", ran.stdout);
    let ran = workspace.run(&["adopt", "--all", "--yes"]).ended(3);
    assert!(ran.stdout.contains("not proven"), "{}", ran.stdout);
    workspace.run(&["adopt", "alias", API]).ended(0);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    workspace.run(&["adopt", "alias", API]).ended(2);
}

/// A record that somebody else made is no dead end for whoever retires its hostname: what is advised ends it.
#[tokio::test(flavor = "multi_thread")]
async fn an_alias_of_somebody_elses_is_shown_to_who_retires_its_hostname() {
    const OLD: &str = "old.larkfield.example";
    const GONE: &str = "gone.larkfield.example";
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let one = workspace.read("pindrel.toml");
    workspace.write("pindrel.toml", &format!("{one}\n[hostname.\"{GONE}\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n"));
    workspace.run(&["settle"]).ended(0);
    workspace.write("pindrel.toml", &one);
    for server in [sandbox.primary(), sandbox.secondary()] {
        server.add_alias(OLD, "parked.larkfield.test");
        server.add_alias("*.wild.larkfield.example", "parked.larkfield.test");
    }
    let told = workspace.run(&["retire", OLD, "never.larkfield.example", "a.wild.larkfield.example"]).ended(3).stdout;
    let says = "old.larkfield.example is still CNAME parked.larkfield.test., a record that Pindrel did not create";
    assert!(told.contains(says) && told.contains("pindrel adopt alias old.larkfield.example"), "{told}");
    assert!(told.contains("Nothing is left of never.larkfield.example and a.wild.larkfield.example."), "{told}");
    let plan = workspace.run(&["retire", OLD, "--dry-run", "--format", "json"]).ended(3).json();
    assert_fits(&schema("steps"), &plan);
    let ran = workspace.run(&["retire", OLD, "--format", "json"]).ended(3).stdout;
    let events: Vec<Value> = ran.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    events.iter().for_each(|event| assert_fits(&schema("event"), event));
    let names: Vec<_> = events.iter().map(|event| event["event"].clone()).collect();
    assert_eq!(names, ["left_over", "summary"], "{ran}");
    // Beside it the others are taken away as ever, with their certificates.
    workspace.run(&["retire", OLD, GONE, "--yes", "--revoke"]).ended(3);
    assert_eq!(sandbox.authority().issued().1, 1);

    let manifest = workspace.read("pindrel.toml");
    let with = |hostname: &str| format!("{manifest}\n[hostname.\"{hostname}\"]\nendpoint = \"catalogue\"\n");
    workspace.write("pindrel.toml", &with(OLD));
    workspace.run(&["settle"]).ended(3);
    workspace.run(&["adopt", "alias", OLD]).ended(0);
    workspace.write("pindrel.toml", &manifest);
    // Caches may keep the record for as long as its TTL said.
    let waits = |hostname: &str| {
        let ran = workspace.run(&["retire", hostname, "--yes", "--patience", "2s", "--format", "json"]).ended(3).stdout;
        let put_off = ran.lines().find(|line| line.contains("\"stuck\"")).expect(&ran);
        let event: Value = serde_json::from_str(put_off).unwrap();
        let second = |key: &str| event[key].as_str().unwrap().parse::<jiff::Timestamp>().unwrap().as_second();
        second("next") - second("at")
    };
    assert!((200..=301).contains(&waits(OLD)));
    assert!(!sandbox.primary().has_name(OLD));

    // An alias that was never there holds nothing up for ten minutes.
    const NEW: &str = "new.larkfield.example";
    workspace.write("pindrel.toml", &with(NEW));
    workspace.run(&["settle", "--hold-alias", "--only", NEW]).ended(3);
    workspace.write("pindrel.toml", &manifest);
    assert!((0..=61).contains(&waits(NEW)));
}

/// A state is of one manifest with one set of values: with others, all that is live would look left over.
#[tokio::test(flavor = "multi_thread")]
async fn what_another_set_of_values_or_another_manifest_made_is_not_left_over() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .hostname("${site}.larkfield.example", "catalogue", "ttl = \"1s\"")
            .with("[values]\nsite = \"live\"\n")
    })
    .await;
    workspace.write("practice.toml", "site = \"trial\"\n");
    workspace.run(&["settle"]).ended(0);
    let practice = |args: &[&str], status: i32| {
        let ran = workspace.run(&[&["--values", "practice.toml"], args].concat()).ended(status);
        format!("{}{}", ran.stdout, ran.stderr)
    };
    for args in [
        &["status"][..],
        &["settle"],
        &["settle", "--dry-run"],
        &["retire", "--leftovers", "--yes"],
        &["keep", "--once"],
        &["cert", "list"],
    ] {
        let told = practice(args, 2);
        assert!(told.contains("those of the manifest itself, not with those of practice.toml"), "{args:?}: {told}");
        assert!(told.contains("--state practice.sqlite") && told.contains("state reassign"), "{args:?}: {told}");
    }
    assert!(sandbox.platform().binding("catalogue", "live.larkfield.example").is_some());
    practice(&["settle", "--state", "practice.sqlite"], 0);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);

    // A file that was renamed is said to be the same.
    assert!(practice(&["state", "reassign"], 0).contains("pindrel.toml with the values of practice.toml"));
    workspace.run(&["status"]).ended(2);
    workspace.run(&["state", "reassign"]).ended(0);
    workspace.run(&["status"]).ended(0);

    // Another manifest, and the same one under another name.
    let text = workspace.read("pindrel.toml");
    workspace.write("other.toml", &text.replace("\"live\"", "\"other\""));
    let refused = workspace.run(&["settle", "-m", "other.toml"]).ended(2);
    assert!(refused.stderr.contains("it has live.larkfield.example, and none of"), "{}", refused.stderr);
    workspace.write("renamed.toml", &text);
    workspace.run(&["settle", "-m", "renamed.toml"]).ended(0);
}
