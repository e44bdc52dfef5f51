//! Runs and what undoes them.

use serde_json::json;

use crate::commands::{assert_fits, schema};
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
