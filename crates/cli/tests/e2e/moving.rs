//! Hostnames that move and that are taken away, with clients asking all the time.

use pindrel_testkit::{Asked, Clients};
use serde_json::json;

use crate::commands::{assert_fits, schema};
use crate::{edit, one_name, quick, sandboxed};

const API: &str = "api.larkfield.example";
const OLD: &str = "[hostname.\"old.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"1s\"\n";

#[tokio::test(flavor = "multi_thread")]
async fn a_hostname_moves_and_goes_without_one_failed_request() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .endpoint(listing, "home", "distribution")
            .hostname(API, "catalogue", "ttl = \"1s\"")
            .hostname("old.larkfield.example", "catalogue", "ttl = \"1s\"")
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let asked = |hostname: &str| Asked {
        hostname: hostname.into(),
        path: "/".into(),
        port: sandbox.listing().endpoints[0].address.port(),
        ports: Vec::new(),
        resolver: sandbox.listing().resolver,
        roots: workspace.read("sandbox/issuing-root.pem"),
    };
    let clients = Clients::start(4, &asked(API));
    let there_and_back = [("catalogue", "home"), ("home", "catalogue")];
    for (from, to) in
        there_and_back.into_iter().cycle().take_while(|(from, _)| !clients.is_enough(*from == "catalogue"))
    {
        edit(&workspace, &format!("\"{API}\"]\nendpoint = \"{from}\""), &format!("\"{API}\"]\nendpoint = \"{to}\""));
        let steps = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(3).json();
        assert_fits(&schema("steps"), &steps);
        let last = &steps["steps"].as_array().unwrap().last().unwrap()["action"];
        assert_eq!(last, "unbind", "there is nothing to raise above a second");
        let ran = workspace.run(&["settle", "--max-age", "0"]).ended(0);
        assert!(ran.stderr.contains("unbind: "), "{}", ran.stderr);
        assert!(sandbox.platform().binding(from, API).is_none() && sandbox.platform().binding(to, API).is_some());
    }
    let (requests, failures) = clients.stop().await;
    assert!(requests > 200 && failures.is_empty(), "{requests} requests: {failures:?}");

    // Taken away: nothing answers it wrongly for as long as it resolves.
    workspace.run(&["retire", "old.larkfield.example"]).ended(2);
    edit(&workspace, OLD, "");
    workspace.run(&["retire", "never.larkfield.example"]).ended(0);
    assert!(workspace.run(&["retire", "--leftovers", "--dry-run"]).ended(3).stdout.contains("remove-alias"));
    let ran = workspace.run(&["retire", "--leftovers"]).ended(2);
    assert!(ran.stderr.contains("add --yes"), "{}", ran.stderr);
    let ran = workspace.run(&["retire", "old.larkfield.example", "--yes", "--revoke"]).ended(0);
    assert!(ran.stdout.contains("1 of 1 hostname retired"), "{}", ran.stdout);
    assert!(sandbox.platform().binding("catalogue", "old.larkfield.example").is_none());
    assert_eq!(sandbox.authority().issued().1, 1, "revoked");
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let listed = workspace.run(&["endpoint", "list", "--format", "json"]).ended(0).json();
    assert_fits(&schema("endpoint-list"), &listed);
    let catalogue = &listed["endpoints"][0];
    assert_eq!(catalogue["bindings"].as_array().unwrap().len(), 1, "{listed:#}");
    assert_eq!(catalogue["certificates"][0]["name"], json!(API), "the copies of the other are gone: {listed:#}");
    assert_eq!(catalogue["certificates"].as_array().unwrap().len(), 1);
    workspace.run(&["endpoint", "list"]).ended(0);

    // Wanted again, it gets a certificate that is not revoked.
    workspace.write("pindrel.toml", &(workspace.read("pindrel.toml") + OLD));
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued(), (3, 1));
}

/// An alias never leads where the endpoint is not, however long resolvers keep the right answer of before.
#[tokio::test(flavor = "multi_thread")]
async fn an_alias_is_not_led_by_a_name_that_leads_elsewhere() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let [catalogue, home] = ["catalogue", "home"]
            .map(|id| listing.endpoints.iter().find(|endpoint| endpoint.id == id).unwrap().clone());
        let there = |name: &str, default_name: &str| {
            let (ip, port) = (catalogue.address.ip(), catalogue.address.port());
            let place = format!("default_name = \"{default_name}\"\naddresses = [\"{ip}\"]\nport = {port}\n");
            format!("[endpoint.{name}]\nkind = \"gateway\"\ndriver = \"static\"\n{place}")
        };
        let named = "[certificate.api]\nnames = [\"api.larkfield.example\"]\ndeliver = [{ file = \"api.pem\", holds = [\"leaf\"] }]\n";
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .hostname(API, "catalogue", "")
            .with(named)
            .with(&there("elsewhere", &home.default_name))
            .with(&there("nowhere", "gone.edge.test"))
            .with(&there("right", &catalogue.default_name))
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let alias = || pindrel_testkit::dig(sandbox.listing().primary, API, "CNAME");
    let before = alias();
    let mut at = "catalogue";
    for (to, status, says) in [
        ("elsewhere", 1, "which does not serve the certificate of api.larkfield.example: it serves certificate"),
        ("nowhere", 3, "gone.edge.test, which aliases to nowhere point at, does not exist"),
    ] {
        edit(&workspace, &format!("endpoint = \"{at}\""), &format!("endpoint = \"{to}\""));
        at = to;
        let ran = workspace.run(&["settle", "--max-age", "0", "--now", "--patience", "5s"]).ended(status);
        assert!(ran.stdout.contains(says), "{to}: {}", ran.stdout);
        assert_eq!(alias(), before, "{to}");
        let online = workspace.run(&["check", "--online"]);
        assert_eq!(online.stdout.contains(says), to == "nowhere", "{to}: {}", online.stdout);
    }
    edit(&workspace, "endpoint = \"nowhere\"", "endpoint = \"right\"");
    // Only what is left at the former endpoint waits for caches.
    let ran = workspace.run(&["settle", "--max-age", "0", "--patience", "5s"]).ended(3);
    assert!(ran.stdout.contains("stays bound at catalogue until caches"), "{}", ran.stdout);
    assert_eq!(alias(), before, "the same name as before");
}

/// What a platform does wrong is told as such, before an alias leads there.
#[tokio::test(flavor = "multi_thread")]
async fn each_fault_of_a_platform_is_told_and_no_alias_leads_there() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    for (fault, ended, says) in [
        ("no-custom-names=catalogue", 3, "does not accept custom hostnames"),
        ("full-store=north", 3, "the certificate store of north, which catalogue uses, takes no more than"),
        ("refuses=api.larkfield.example", 1, "belongs to another customer"),
        ("other-certificate=api.larkfield.example", 1, "but serves certificate"),
        ("endpoint-down=catalogue", 1, "but serves none at"),
    ] {
        assert!(sandbox.switch(fault, true), "{fault}");
        let ran = workspace.run(&["settle", "--patience", "2s", "--max-age", "0"]).ended(ended);
        assert!(ran.stdout.contains(says), "{fault}: {}", ran.stdout);
        sandbox.switch(fault, false);
    }
    assert!(!sandbox.switch("endpoint-down", true) && !sandbox.switch("no-such-fault=x", true));
    sandbox.switch("route-fails=catalogue", true);
    let ran = workspace.run(&["settle", "--patience", "2s", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("502"), "{}", ran.stdout);
    sandbox.switch("route-fails=catalogue", false);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 1, "one certificate for all of it");
}

/// A person looks before the alias leads there.
#[tokio::test(flavor = "multi_thread")]
async fn the_curl_line_that_is_printed_shows_the_endpoint_before_the_alias_does() {
    let (workspace, _sandbox) = sandboxed(quick(), one_name).await;
    let ran = workspace.run(&["settle", "--hold-alias"]).ended(3);
    let line = ran.stdout.lines().find_map(|line| line.split_once("Look with: curl ")).unwrap().1;
    let arguments = line.split("; then").next().unwrap();
    if pindrel_testkit::require("the curl line", &[("curl", "curl")]) {
        let arguments: Vec<&str> = arguments.split(' ').collect();
        let output = std::process::Command::new("curl")
            .args(["--silent", "--show-error", "--max-time", "10"])
            .args(&arguments)
            .current_dir(workspace.path())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
        assert!(said.contains("Larkfield catalogue"), "{arguments:?}: {said}");
    }
    workspace.run(&["settle"]).ended(0);
}
