//! Runs and what undoes them.

use serde_json::json;

use crate::commands::{assert_fits, schema};
use crate::health::{Keep, is_note};
use crate::{edit, quick, sandboxed};

const API: &str = "api.larkfield.example";
const OLD: &str = "old.larkfield.example";

#[tokio::test(flavor = "multi_thread")]
async fn what_a_run_changed_is_put_back_in_the_safe_order() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let routed = "ttl = \"1s\"\nroutes = [{ prefix = \"/v1\", service = \"catalogue\" }]";
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .endpoint(listing, "home", "distribution")
            .hostname(API, "catalogue", routed)
            .hostname(OLD, "catalogue", "ttl = \"1s\"")
    })
    .await;
    let settle = |more: &[&str], status: i32| {
        let mut arguments = vec!["settle", "--max-age", "0"];
        arguments.extend(more);
        workspace.run(&arguments).ended(status).stdout
    };
    let bound = |endpoint: &str, name: &str| sandbox.platform().binding(endpoint, name);
    assert!(workspace.run(&["state", "runs"]).ended(0).stdout.contains("No run has changed anything"));
    settle(&[], 0);
    // A run that changes nothing is none.
    settle(&[], 0);
    let before = workspace.read("pindrel.toml");
    edit(&workspace, &format!("\"{API}\"]\nendpoint = \"catalogue\""), &format!("\"{API}\"]\nendpoint = \"home\""));
    edit(&workspace, "prefix = \"/v1\", service = \"catalogue\"", "prefix = \"/v2\", service = \"plates\"");
    edit(&workspace, &format!("[hostname.\"{OLD}\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n"), "");
    settle(&[], 3);
    workspace.run(&["retire", OLD, "--yes"]).ended(0);
    let told = workspace.run(&["state", "runs"]).ended(0).stdout;
    for part in
        ["run 1  settle, ", "run 2  settle, ", "run 3  retire, ", "alias CNAME gw-", "no longer bound at catalogue"]
    {
        assert!(told.contains(part), "{part}: {told}");
    }
    let runs = workspace.run(&["state", "runs", "--format", "json"]).ended(0).json();
    assert_fits(&schema("runs"), &runs);
    assert_eq!(runs["runs"].as_array().unwrap().len(), 3, "{runs:#}");
    assert_eq!(runs["runs"][2]["changes"][0]["hostname"], json!(OLD));

    // The retirement, then the move: each is what it was before, whatever the manifest says.
    assert!(settle(&["--undo", "3"], 0).contains("Run 3 is undone"));
    assert!(bound("catalogue", OLD).is_some() && sandbox.primary().has_name(OLD));
    let plan = workspace.run(&["settle", "--undo", "2", "--dry-run", "--format", "json"]).ended(3).json();
    let actions: Vec<&str> = plan["steps"].as_array().unwrap().iter().map(|s| s["action"].as_str().unwrap()).collect();
    assert_eq!(actions, ["store", "bind", "connect", "alias", "answer", "unbind"], "{plan:#}");
    settle(&["--undo", "2"], 0);
    let back = bound("catalogue", API).unwrap();
    assert_eq!((back["routes"][0]["prefix"].as_str(), bound("home", API)), (Some("/v1"), None));
    assert_eq!(sandbox.authority().issued().0, 2, "no certificate was ordered for it");
    // With the manifest as it was, nothing is left to do.
    workspace.write("pindrel.toml", &before);
    assert!(settle(&[], 0).contains("Nothing to do"));

    // The first run added both: they are taken away, which is asked for.
    let refused = workspace.run(&["settle", "--undo", "1"]).ended(2);
    assert!(refused.stderr.contains("the run added 2 hostnames"), "{}", refused.stderr);
    settle(&["--undo", "1", "--yes"], 0);
    assert!(bound("catalogue", API).is_none() && !sandbox.primary().has_name(OLD));
    let unknown = workspace.run(&["settle", "--undo", "77"]).ended(2);
    assert!(unknown.stderr.contains("there is no run 77"), "{}", unknown.stderr);
    workspace.run(&["settle", "--undo", "1", "--only", API]).ended(2);
    workspace.run(&["settle", "--yes"]).ended(2);

    // What was elsewhere is a person's task, and the rest is put back.
    edit(&workspace, "[endpoint.catalogue]", "[endpoint.catalogue]\nid = \"proven\"");
    let ran = workspace.run(&["settle", "--undo", "2", "--max-age", "0"]).ended(3);
    assert!(ran.stdout.contains("which is not in the manifest"), "{}", ran.stdout);
}

/// What was undone stays so, whoever works on the state, until the manifest wants something else of the hostname, or
/// somebody says that it is to be followed as it is.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_undone_is_kept_back() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest.endpoint(listing, "catalogue", "gateway").endpoint(listing, "home", "distribution").hostname(
            API,
            "catalogue",
            "ttl = \"1s\"",
        )
    })
    .await;
    let settle = |more: &[&str], status: i32| {
        workspace.run(&[&["settle", "--max-age", "0"], more].concat()).ended(status).stdout
    };
    let is_at = |endpoint: &str| sandbox.platform().binding(endpoint, API).is_some();
    settle(&[], 0);
    let at_home = (format!("\"{API}\"]\nendpoint = \"catalogue\""), format!("\"{API}\"]\nendpoint = \"home\""));
    edit(&workspace, &at_home.0, &at_home.1);
    let added = "\n[hostname.\"new.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n";
    workspace.write("pindrel.toml", &format!("{}{added}", workspace.read("pindrel.toml")));
    settle(&[], 0);
    assert!(is_at("home") && sandbox.primary().has_name("new.larkfield.example"));

    // A process that runs on follows the undoing of another, and no change of the manifest that is about others.
    let keep = Keep::start(&workspace);
    keep.until("pass", 0, |event| event["event"] == "passed" || event["event"] == "note").await;
    settle(&["--undo", "2", "--yes"], 0);
    let (_, seen) = keep.until("undoing", 0, is_note("has undone a run")).await;
    workspace.write("pindrel.toml", &format!("{}# nothing else\n", workspace.read("pindrel.toml")));
    let (_, seen) = keep.until("manifest", seen, is_note("the manifest has changed")).await;
    keep.until("what is kept back", seen, is_note("stays as it was before run 2")).await;
    assert_eq!(keep.stop().0, 0);
    assert!(settle(&[], 0).contains("Nothing to do"));
    workspace.run(&["keep", "--once"]).ended(0);
    assert!(is_at("catalogue") && !is_at("home") && !sandbox.primary().has_name("new.larkfield.example"));
    let status = workspace.run(&["status", "--format", "json"]).ended(0).json();
    assert_fits(&schema("status"), &status);
    let kept: Vec<(&str, i64)> = status["kept_back"]
        .as_array()
        .unwrap()
        .iter()
        .map(|kept| (kept["hostname"].as_str().unwrap(), kept["run"].as_i64().unwrap()))
        .collect();
    assert_eq!(kept, [(API, 2), ("new.larkfield.example", 2)]);
    assert!(workspace.run(&["status"]).ended(0).stdout.contains("settle --redo --only api.larkfield.example"));

    // Another wish is followed; the other hostname stays until somebody says otherwise.
    edit(&workspace, "endpoint = \"home\"\nttl = \"1s\"", "endpoint = \"home\"\nttl = \"2s\"");
    settle(&[], 0);
    assert!(is_at("home") && !is_at("catalogue") && !sandbox.primary().has_name("new.larkfield.example"));
    let plan = settle(&["--redo", "--dry-run"], 3);
    assert!(plan.contains("new.larkfield.example") && settle(&[], 0).contains("Nothing to do"), "{plan}");
    settle(&["--redo", "--only", "new.larkfield.example"], 0);
    assert!(sandbox.primary().has_name("new.larkfield.example"));
    let status = workspace.run(&["status", "--format", "json"]).ended(0).json();
    assert_eq!(status["kept_back"], json!([]));
    // To undo the undoing is to want what the manifest wants: nothing is kept back.
    let runs = workspace.run(&["state", "runs", "--format", "json"]).ended(0).json();
    let undo = runs["runs"].as_array().unwrap().iter().find(|run| run["command"] == "settle --undo 2").unwrap();
    assert!(undo["run"].as_i64() == Some(3), "{runs:#}");
}
