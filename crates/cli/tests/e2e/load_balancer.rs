//! A real load balancer as an endpoint: certificates come and go without a reload.

use pindrel_testkit::{Asked, Clients, RealHaproxy, RealNginx};

use crate::{edit, quick, sandboxed};

const API: &str = "api.larkfield.example";

#[tokio::test(flavor = "multi_thread")]
async fn certificates_are_put_in_replaced_and_taken_away_while_clients_ask() {
    let test = "certificates_are_put_in_replaced_and_taken_away_while_clients_ask";
    let Some(services) = RealNginx::start(test).await else { return };
    let Some(mut balancer) = RealHaproxy::start(test, services.services[0]).await else { return };
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        manifest.with(&balancer.endpoint("balance")).hostname(API, "balance", "ttl = \"1s\"\n").hostname(
            "*.stations.larkfield.example",
            "balance",
            "probe_as = \"crest\"\nminimum_tls = \"1.3\"",
        )
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let shown = workspace.run(&["endpoint", "show", "balance"]).ended(0).stdout;
    assert!(shown.contains(API) && shown.contains("services/one") && !shown.contains("PRIVATE KEY"), "{shown}");
    let configuration = workspace.run(&["endpoint", "show", "balance", "--configuration"]).ended(0).stdout;
    assert!(configuration.contains("strict-sni crt-list") && configuration.contains("stats socket"), "{configuration}");

    let clients = Clients::start(
        4,
        &Asked {
            hostname: API.into(),
            path: "/".into(),
            port: balancer.listen.port(),
            ports: Vec::new(),
            resolver: sandbox.listing().resolver,
            roots: workspace.read("sandbox/issuing-root.pem"),
        },
    );
    for _ in 0..3 {
        workspace.run(&["cert", "renew", API]).ended(0);
    }
    edit(&workspace, "minimum_tls = \"1.3\"", "minimum_tls = \"1.2\"");
    edit(
        &workspace,
        "endpoint = \"balance\"\nttl = \"1s\"",
        "endpoint = \"balance\"\nttl = \"1s\"\nminimum_tls = \"1.3\"",
    );
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let (requests, failures) = clients.stop().await;
    assert!(requests > 200 && failures.is_empty(), "{requests} requests: {failures:?}");
    assert_eq!(std::fs::read_dir(balancer.certificates.join("store")).unwrap().count(), 2, "one for each hostname");

    // After a restart the files give what was served; where they do not, the next run sees to it.
    balancer.restart().await;
    assert!(workspace.run(&["settle", "--max-age", "0"]).ended(0).stdout.contains("Nothing to do"));
    std::fs::write(balancer.certificates.join("list.txt"), "").unwrap();
    balancer.restart().await;
    workspace.run(&["settle", "--max-age", "0"]).ended(0);

    // Without its socket nothing is changed, and it is said which one.
    workspace.run(&["cert", "renew", API, "--patience", "2s"]).ended(0);
    let served = workspace.run(&["cert", "show", API, "--format", "json"]).ended(0).json()["sha256"].clone();
    std::fs::rename(&balancer.socket, balancer.socket.with_extension("away")).unwrap();
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("admin.sock") && !ran.stdout.contains("os error"), "{}", ran.stdout);
    std::fs::rename(balancer.socket.with_extension("away"), &balancer.socket).unwrap();
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(workspace.run(&["cert", "show", API, "--format", "json"]).ended(0).json()["sha256"], served);

    // A list that somebody else made is left alone.
    let list = balancer.certificates.join("list.txt");
    let own = std::fs::read_to_string(&list).unwrap();
    std::fs::write(&list, "/somebody/elses.pem\n").unwrap();
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("was not written by Pindrel"), "{}", ran.stdout);
    let told = workspace.run(&["check", "--online", "--format", "json"]).ended(3).json();
    let endpoint = told["online"].as_array().unwrap().iter().find(|one| one["name"] == "balance").unwrap();
    assert_eq!(endpoint["findings"][0]["code"], "endpoint-unready", "{endpoint}");
    std::fs::write(&list, own).unwrap();
    edit(
        &workspace,
        &format!("[hostname.\"{API}\"]\nendpoint = \"balance\"\nttl = \"1s\"\nminimum_tls = \"1.3\"\n"),
        "",
    );
    workspace.run(&["retire", "--leftovers", "--yes"]).ended(0);
    assert_eq!(std::fs::read_dir(balancer.certificates.join("store")).unwrap().count(), 1);
    assert!(!std::fs::read_to_string(&list).unwrap().contains(API));
}
