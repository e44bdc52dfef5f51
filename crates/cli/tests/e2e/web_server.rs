//! A real web server as an endpoint.

use std::net::SocketAddr;
use std::process::Command;

use pindrel_testkit::{Asked, Clients, RealNginx, Workspace, require};

use crate::platforms::clients;
use crate::{PINDREL, edit, quick, sandboxed};

const API: &str = "api.larkfield.example";

/// What curl gets for a URL, with the hostname led to an address.
fn curl(workspace: &Workspace, host: &str, address: SocketAddr, url: &str, more: &[&str]) -> String {
    let resolve = format!("{host}:{}:{}", address.port(), address.ip());
    let output = Command::new("curl")
        .args(["-sS", "-i", "--max-time", "10", "--cacert", "sandbox/issuing-root.pem", "--resolve", &resolve])
        .args(more)
        .arg(url)
        .current_dir(workspace.path())
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

#[tokio::test(flavor = "multi_thread")]
async fn it_serves_what_the_manifest_says_and_is_told_once_for_all() {
    let test = "it_serves_what_the_manifest_says_and_is_told_once_for_all";
    let Some(server) = RealNginx::start(test).await else { return };
    if !require(test, &[("curl", "curl")]) {
        return;
    }
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, _| {
        let routes = "routes = [{ prefix = \"/v1\", service = \"one\" }, { prefix = \"/v1/two\", service = \"two\" }, { prefix = \"/$metadata\", service = \"two\" }]\n\
                      expect = { path = \"/v1\", body = \"one /v1\" }";
        manifest
            .with(&server.endpoint("web", "gateway", "default_document = \"index.html\""))
            .hostname(API, "web", routes)
            .hostname("larkfield.example", "web", "also = [\"www.larkfield.example\"]\nminimum_tls = \"1.3\"")
            .hostname("*.stations.larkfield.example", "web", "probe_as = \"crest\"")
    })
    .await;
    workspace.run(&["check"]).ended(0);
    workspace.run(&["settle"]).ended(0);
    let reloads = server.reloads();
    assert!((1..=2).contains(&reloads), "four hostnames, {reloads} reloads");
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(server.reloads(), reloads, "nothing changed");

    let (port, plain) = (server.listen.port(), server.listen_http);
    for (host, path, more, expected) in [
        (API, "/v1/x", &[][..], "one /v1/x"),
        (API, "/v1/two/x", &[], "two /v1/two/x"),
        (API, "/v1/twofold", &[], "one /v1/twofold"),
        (API, "/$metadata", &[], "two /$metadata"),
        (API, "/$metadata/x", &[], "two /$metadata/x"),
        (API, "/elsewhere", &[], "404"),
        ("larkfield.example", "/", &[], "one /index.html"),
        ("larkfield.example", "/a?b=c", &[], "one /a"),
        ("larkfield.example", "/", &["--tls-max", "1.2"], "426"),
        ("crest.stations.larkfield.example", "/", &[], "one /index.html"),
    ] {
        let got = curl(&workspace, host, server.listen, &format!("https://{host}:{port}{path}"), more);
        assert!(got.contains(expected), "{host}{path} {more:?}: {got}");
    }
    let redirected = curl(
        &workspace,
        "www.larkfield.example",
        server.listen,
        &format!("https://www.larkfield.example:{port}/a?b=c"),
        &[],
    );
    assert!(
        redirected.contains("308") && redirected.contains(&format!("https://larkfield.example:{port}/a?b=c")),
        "{redirected}"
    );
    let upgraded = curl(&workspace, API, plain, &format!("http://{API}:{}/v1?x=y", plain.port()), &[]);
    assert!(upgraded.contains("308") && upgraded.contains(&format!("https://{API}:{port}/v1?x=y")), "{upgraded}");

    // A name that is bound nowhere is sent nowhere, whatever a client writes as Host.
    for host in ["evil.example", "crest.stations.larkfield.example.evil.example", "unknown.larkfield.example"] {
        let header = format!("Host: {host}");
        let answered = curl(&workspace, API, plain, &format!("http://{API}:{}/", plain.port()), &["-H", &header]);
        assert!(answered.contains("421") && !answered.to_lowercase().contains("location:"), "{host}: {answered}");
    }

    // What somebody adds to a server block is used once it is tested.
    let answer = || curl(&workspace, API, server.listen, &format!("https://{API}:{port}/v1"), &["--http2"]);
    assert!(answer().contains("HTTP/2 200"), "{}", answer());
    let own = server.included.join(format!("own/{API}.conf"));
    std::fs::write(&own, "add_header X-Own \"$http_upgrade\" always;\nclient_max_body_size 64m;\n").unwrap();
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let upgrade =
        curl(&workspace, API, server.listen, &format!("https://{API}:{port}/v1"), &["--http1.1", "-H", "Upgrade: x"]);
    assert!(upgrade.contains("X-Own: x"), "{upgrade}");
    std::fs::write(&own, "no_such_directive on;\n").unwrap();
    let failed = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(failed.stdout.contains("no_such_directive"), "{}", failed.stdout);
    assert!(answer().contains("HTTP/2 200"), "what was served is served on");
    std::fs::remove_file(&own).unwrap();
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let (listing, before) = (workspace.run(&["endpoint", "show", "web"]).ended(0).stdout, server.reloads());
    assert!(listing.contains("map $http_upgrade $pindrel_web_") && !listing.contains(&own.display().to_string()));

    // Where every name at an address wants it, older versions get as far as no handshake.
    let manifest = workspace.read("pindrel.toml").replace("\nminimum_tls = \"1.3\"", "");
    let newest = manifest.replace("endpoint = \"web\"\n", "endpoint = \"web\"\nminimum_tls = \"1.3\"\n");
    workspace.write("pindrel.toml", &newest);
    workspace.run(&["settle"]).ended(0);
    let refused = curl(&workspace, API, server.listen, &format!("https://{API}:{port}/v1"), &["--tls-max", "1.2"]);
    assert!(refused.contains("alert") && !refused.contains("426"), "{refused}");
    let reloads = server.reloads();
    assert!(reloads > before);

    // A renewal replaces the certificate and removes the old one.
    let keys = || std::fs::read_dir(server.included.join("certificates")).unwrap().count();
    assert_eq!(keys(), 6);
    workspace.run(&["cert", "renew", API]).ended(0);
    assert_eq!((keys(), server.reloads()), (6, reloads + 1));
}

/// Who shows no certificate of the roots is refused, names that are bound nowhere get none of the others'
/// certificates, and both are verified.
#[tokio::test(flavor = "multi_thread")]
async fn clients_show_certificates_and_unknown_names_are_refused() {
    let test = "clients_show_certificates_and_unknown_names_are_refused";
    let Some(server) = RealNginx::start(test).await else { return };
    if !require(test, &[("curl", "curl")]) {
        return;
    }
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, _| {
        let clients = "client_certificates = { roots = \"clients.pem\", probe_with = \"file:probe.pem\" }";
        let redirected = format!("{clients}\nalso = [\"api.larkfield.example\"]");
        manifest.with(&server.endpoint("web", "gateway", "")).hostname("devices.larkfield.example", "web", &redirected)
    })
    .await;
    let ((roots, identity), (other_roots, other)) = (clients(), clients());
    for (name, text) in [("clients.pem", &roots), ("probe.pem", &identity), ("other.pem", &other)] {
        workspace.write(name, text);
    }
    workspace.run(&["settle"]).ended(0);
    let port = server.listen.port();
    for (host, more, expected) in [
        ("devices.larkfield.example", &["--cert", "probe.pem"][..], "one /x"),
        ("devices.larkfield.example", &[], "400 Bad Request"),
        ("devices.larkfield.example", &["--cert", "other.pem"], "400 Bad Request"),
        (API, &["--cert", "probe.pem"], "308"),
        (API, &[], "400 Bad Request"),
        ("unknown.larkfield.example", &["--insecure"], "unrecognized name"),
    ] {
        let got = curl(&workspace, host, server.listen, &format!("https://{host}:{port}/x"), more);
        assert!(got.contains(expected), "{host} {more:?}: {got}");
    }
    // Other roots are another trust bundle, whatever the file is called.
    workspace.write("clients.pem", &other_roots);
    let ran = workspace.run(&["settle", "--max-age", "0", "--patience", "5s"]).ended(1);
    assert!(ran.stdout.contains("returned status 400, not 200 to 399"), "{}", ran.stdout);
    workspace.write("probe.pem", &other);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
}

/// Whatever goes wrong, what was served before is served on, and the server's own words are shown.
#[tokio::test(flavor = "multi_thread")]
async fn a_failing_test_or_reload_puts_back_what_was_served() {
    let test = "a_failing_test_or_reload_puts_back_what_was_served";
    let Some(server) = RealNginx::start(test).await else { return };
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, _| {
        manifest.with(&server.endpoint("web", "balancer", "")).hostname(API, "web", "minimum_tls = \"1.2\"")
    })
    .await;
    let file = server.included.join(format!("{API}.conf"));
    let read = || std::fs::read_to_string(&file).unwrap_or_default();
    workspace.run(&["settle"]).ended(0);
    let before = read();
    edit(&workspace, "minimum_tls = \"1.2\"", "routes = [{ prefix = \"/\", service = \"two\" }]");
    server.break_configuration(true);
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("unknown directive \"lisen\"") && ran.stdout.contains("-t -q"), "{}", ran.stdout);
    assert_eq!(read(), before);
    server.break_configuration(false);
    server.fail_reloads(true);
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("exit status 7: no reload today"), "{}", ran.stdout);
    assert_eq!(read(), before);
    server.fail_reloads(false);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_ne!(read(), before);

    // Stopped between writing and reloading, or edited by hand: the next run sees to it.
    let reloads = server.reloads();
    std::fs::remove_file(server.included.join(".applied")).unwrap();
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(server.reloads(), reloads + 1);
    std::fs::write(&file, read().replace("ssl_protocols TLSv1.2 TLSv1.3", "ssl_protocols TLSv1.2")).unwrap();
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert!(read().contains("TLSv1.2 TLSv1.3"));
    // What somebody else wrote is left alone.
    std::fs::write(&file, "# by hand\n").unwrap();
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("was not written by Pindrel"), "{}", ran.stdout);
    assert_eq!(read(), "# by hand\n");
}

/// From a platform to a web server and back, with clients asking all the time; then taken away.
#[tokio::test(flavor = "multi_thread")]
async fn a_hostname_moves_to_a_web_server_and_back_without_one_failed_request() {
    let Some(server) = RealNginx::start("a_hostname_moves_to_a_web_server_and_back").await else { return };
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest.endpoint(listing, "home", "distribution").with(&server.endpoint("web", "gateway", "")).hostname(
            API,
            "web",
            "ttl = \"1s\"\n",
        )
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let clients = Clients::start(
        4,
        &Asked {
            hostname: API.into(),
            path: "/".into(),
            // The web server and the sandbox's endpoints have ports of their own.
            port: sandbox.listing().endpoints[0].address.port(),
            ports: vec![(server.listen.ip(), server.listen.port())],
            resolver: sandbox.listing().resolver,
            roots: workspace.read("sandbox/issuing-root.pem"),
        },
    );
    let there_and_back = [("web", "home"), ("home", "web")];
    for (from, to) in there_and_back.into_iter().cycle().take_while(|(from, _)| !clients.is_enough(*from == "web")) {
        edit(&workspace, &format!("\"{API}\"]\nendpoint = \"{from}\""), &format!("\"{API}\"]\nendpoint = \"{to}\""));
        workspace.run(&["settle", "--max-age", "0"]).ended(0);
        assert_eq!(server.included.join(format!("{API}.conf")).exists(), to == "web");
    }
    let (requests, failures) = clients.stop().await;
    assert!(requests > 200 && failures.is_empty(), "{requests} requests: {failures:?}");
    edit(&workspace, &format!("[hostname.\"{API}\"]\nendpoint = \"web\"\nttl = \"1s\"\n"), "");
    workspace.run(&["retire", "--leftovers", "--yes"]).ended(0);
    assert!(!server.included.join(format!("{API}.conf")).exists());
    assert_eq!(std::fs::read_dir(server.included.join("certificates")).unwrap().count(), 0);
}

/// One folder takes endpoints of several manifests, also where one of them gets another name or loses a service.
#[tokio::test(flavor = "multi_thread")]
async fn endpoints_of_two_manifests_share_a_folder_and_one_is_renamed() {
    let test = "endpoints_of_two_manifests_share_a_folder_and_one_is_renamed";
    let Some(server) = RealNginx::start(test).await else { return };
    if !require(test, &[("curl", "curl")]) {
        return;
    }
    let (web, shop) = (server.endpoint("web", "gateway", ""), server.endpoint("shop", "distribution", ""));
    let names: Vec<String> = (0..40).map(|n| format!("n{n}.larkfield.example")).collect();
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, _| {
        let certificate = "certificate = \"all\"\nttl = \"1s\"\nexpect = { path = \"/v1\", body = \"two /v1\" }\n";
        let route = format!("{certificate}routes = [{{ prefix = \"/v1\", service = \"two\" }}]");
        let manifest = manifest.with(&web).with("[certificate.all]\nnames = [\"*.larkfield.example\"]\n");
        names.iter().fold(manifest, |manifest, name| manifest.hostname(name, "web", &route))
    })
    .await;
    let own = workspace.read("pindrel.toml");
    let head = &own[..own.find("[endpoint.").unwrap()];
    let other = "[hostname.\"shop.larkfield.example\"]\nendpoint = \"shop\"\nttl = \"1s\"\n";
    workspace.write("shop.toml", &format!("{head}{shop}{other}"));
    workspace.run(&["settle"]).ended(0);
    let shop = ["-m", "shop.toml", "--state", "sqlite:shop.sqlite"];
    workspace.run(&[&["settle"][..], &shop].concat()).ended(0);
    let all_answer = || {
        for (host, path, says) in [
            ("n0.larkfield.example", "v1", "two /v1"),
            ("n39.larkfield.example", "v1", "two /v1"),
            ("shop.larkfield.example", "", "one /"),
        ] {
            let got =
                curl(&workspace, host, server.listen, &format!("https://{host}:{}/{path}", server.listen.port()), &[]);
            assert!(got.contains(says), "{host}: {got}");
        }
    };
    all_answer();
    // The service is called otherwise, more hostnames than go into one reload lead to it, and the last has not moved yet.
    edit(&workspace, ", two = ", ", second = ");
    edit(&workspace, "service = \"two\"", "service = \"second\"");
    workspace.run(&["settle", "--only", "n0.larkfield.example"]).ended(0);
    all_answer();
    workspace.run(&["settle"]).ended(0);
    all_answer();
    let services = |name: &str| std::fs::read_to_string(server.included.join(format!("00-services-{name}.conf")));
    assert!(!services("web").unwrap().contains("_two {"));
    edit(&workspace, "[endpoint.web]", "[endpoint.front]");
    edit(&workspace, "endpoint = \"web\"", "endpoint = \"front\"");
    workspace.run(&["settle"]).ended(0);
    all_answer();
    assert!(services("web").is_err() && services("front").is_ok() && services("shop").is_ok());
    workspace.run(&["status"]).ended(0);
    workspace.run(&[&["status"][..], &shop].concat()).ended(0);
}

/// What keeps a server from taking hostnames is told by check, and before a certificate is spent on it.
#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_not_ready_costs_no_certificate() {
    let Some(server) = RealNginx::start("a_server_that_is_not_ready_costs_no_certificate").await else { return };
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        manifest.with(&server.endpoint("web", "gateway", "")).hostname(API, "web", "")
    })
    .await;
    let manifest = workspace.read("pindrel.toml");
    let folder = server.included.display().to_string();
    let unready = |says: &str| {
        let told = workspace.run(&["check", "--online", "--format", "json"]).ended(3).json();
        let endpoint = told["online"].as_array().unwrap().iter().find(|one| one["name"] == "web").unwrap();
        assert_eq!(endpoint["findings"][0]["code"], "endpoint-unready", "{endpoint}");
        let ran = workspace.run(&["settle"]).ended(3);
        assert!(ran.stdout.contains(says), "{says}: {}", ran.stdout);
        assert_eq!(sandbox.authority().orders_for(&[API]), 0, "{says}");
    };
    server.break_configuration(true);
    unready("lisen");
    server.break_configuration(false);
    workspace
        .write("pindrel.toml", &manifest.replace(&folder, &workspace.path().join("elsewhere").display().to_string()));
    unready("does not include");
    workspace.write("pindrel.toml", &manifest);
    workspace.run(&["settle"]).ended(0);
    workspace.run(&["check", "--online"]).ended(0);
}

#[test]
fn what_cannot_be_a_web_server_is_a_mistake_with_its_place() {
    let workspace = Workspace::new(PINDREL);
    let head = "manifest = 1\n[authority.main]\ndirectory = \"https://authority.example/directory\"\nagree_to_terms = true\n
        [zone.\"larkfield.example\"]\ndriver = \"rfc2136\"\ntsig = { name = \"pindrel.\", secret = \"env:PATH\" }\n
        [hostname.\"api.larkfield.example\"]\nendpoint = \"web\"\nroutes = [{ prefix = \"/\", service = \"catalogue\" }]\n
        [endpoint.web]\nkind = \"gateway\"\ndriver = \"nginx\"\n";
    let good = "folder = \"d\"\nlisten = [\"192.0.2.10\"]\nservices = { catalogue = \"http://127.0.0.1:9001\" }\n";
    for (from, to, says) in [
        ("folder = \"d\"\n", "", "needs the key \"folder\""),
        ("\"192.0.2.10\"", "\"0.0.0.0\"", "is every address"),
        ("\"192.0.2.10\"", "\"192.0.2.10\", \"192.0.2.11:8443\"", "has another port"),
        ("http://127.0.0.1:9001", "http://127.0.0.1:9001/path", "not the URL of a service"),
        ("catalogue = ", "plates = ", "has no service \"catalogue\""),
        ("folder", "url = \"https://a.example\"\nfolder", "belongs to the driver \"http\""),
        ("folder", "default_document = \"/etc/passwd\"\nfolder", "not the name of a document"),
        ("folder", "service = \"none\"\nfolder", "there is no service \"none\""),
    ] {
        workspace.write("pindrel.toml", &format!("{head}{}", good.replacen(from, to, 1)));
        let document = workspace.run(&["check", "--format", "json"]).ended(2).json();
        let told = document["errors"].to_string();
        assert!(told.contains(&serde_json::json!(says).to_string().trim_matches('"').to_owned()), "{from}: {told}");
    }
    workspace.write("pindrel.toml", &format!("{head}{}", good.replace("127.0.0.1", "192.0.2.7")));
    let warned = workspace.run(&["check", "--format", "json"]).json()["warnings"].to_string();
    assert!(warned.contains("open-origin"), "{warned}");
}
