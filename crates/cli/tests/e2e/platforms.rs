//! Platforms that do it otherwise, by the built program: records that they ask for, certificates of their
//! own, the alias first, client certificates, requests to each route.

use pindrel_sandbox::Sandbox;
use pindrel_testkit::Workspace;
use rcgen::{BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair};

use crate::commands::{assert_fits, schema};
use crate::{edit, quick, sandboxed};

const ISSUED: &str = "[certificate.app]
names = [\"app.larkfield.example\"]
issued_by = \"platform\"
issued_roots = \"sandbox/api-root.pem\"
";

async fn at_three_platforms() -> (Workspace, Sandbox) {
    sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "hosted", "distribution")
            .endpoint(listing, "alias-first", "gateway")
            .endpoint(listing, "proven", "gateway")
            .with(ISSUED)
            .hostname("app.larkfield.example", "hosted", "ttl = \"1s\"")
            .hostname("first.larkfield.example", "alias-first", "ttl = \"1s\"")
            .hostname("proof.larkfield.example", "proven", "ttl = \"1s\"")
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_platform_asks_for_is_made_and_goes_with_the_binding() {
    let (workspace, sandbox) = at_three_platforms().await;
    let listed = workspace.run(&["cert", "list", "--format", "json"]).ended(0).json();
    let app = |listed: &serde_json::Value| {
        listed["certificates"].as_array().unwrap().iter().find(|row| row["name"] == "app").cloned().unwrap()
    };
    assert_eq!(app(&listed)["state"], "unknown", "nobody has looked yet: {listed:#}");
    let online = || workspace.run(&["check", "--online", "--format", "json"]);
    let of = |online: serde_json::Value, name: &str| {
        online["online"].as_array().unwrap().iter().find(|one| one["name"] == name).cloned().unwrap()
    };
    let hosted = of(online().ended(0).json(), "hosted");
    let says = "its platform lists it, issues 1 certificate and asks for records in larkfield.example for it";
    assert_eq!(hosted["detail"], says);
    edit(&workspace, "endpoint = \"proven\"", "endpoint = \"proven\"\ncertificate = \"proof\"");
    let elsewhere = ISSUED.replace(".app]", ".proof]").replace("app.", "proof.");
    workspace.write("pindrel.toml", &format!("{}\n{elsewhere}", workspace.read("pindrel.toml")));
    assert_eq!(of(online().ended(3).json(), "proven")["findings"][0]["code"], "not-offered");
    edit(&workspace, &elsewhere, "");
    edit(&workspace, "\ncertificate = \"proof\"", "");
    let plan = workspace.run(&["settle", "--dry-run"]).ended(3).stdout;
    assert!(plan.contains("the target that hosted gives it") && plan.contains("it will not be answered"), "{plan}");
    let ran = workspace.run(&["settle"]).ended(0);
    let warned = ran.stderr.find("until that is deployed (about 1 s as a rule), it will not be answered");
    assert!(warned.is_some_and(|at| at < ran.stderr.find("alias: ").unwrap()), "{}", ran.stderr);
    assert_eq!(sandbox.authority().issued().0, 2, "the platform issues the third itself");
    let has = |name: &str| sandbox.primary().has_name(name);
    assert!(has("_validate.app.larkfield.example") && !has("_proof.proof.larkfield.example"));

    // A record that somebody removes is made again.
    sandbox.primary().delete("_validate.app.larkfield.example", "CNAME");
    let document = workspace.run(&["status", "--max-age", "0", "--format", "json"]).ended(3).json();
    assert_fits(&schema("status"), &document);
    let status = workspace.run(&["status"]).ended(3).stdout;
    assert!(status.contains("asks for the record _validate.app.larkfield.example CNAME"), "{status}");
    workspace.run(&["settle"]).ended(0);
    assert!(has("_validate.app.larkfield.example"));
    for (command, of) in [(&["status"][..], "status"), (&["cert", "list"], "cert-list"), (&["state", "runs"], "runs")] {
        assert_fits(&schema(of), &workspace.run(&[command, &["--format", "json"]].concat()).ended(0).json());
    }
    let issued = app(&workspace.run(&["cert", "list", "--format", "json"]).ended(0).json());
    assert!(issued["state"] == "held" && issued["expires"].is_string() && issued["sha256"].is_string(), "{issued:#}");
    let listed = workspace.run(&["endpoint", "list", "--format", "json"]).ended(0).json();
    assert_fits(&schema("endpoint-list"), &listed);
    assert!(listed["endpoints"][0]["bindings"][0]["not_after"].is_string(), "{listed:#}");
    assert!(!workspace.run(&["endpoint", "list"]).ended(0).stdout.contains("the token for"));
    sandbox.switch("wide-token", true);
    let told = workspace.run(&["endpoint", "list"]).ended(0).stdout;
    assert!(
        told.contains("the token for hosted, alias-first, proven may bind at every endpoint")
            && told.contains("create endpoints"),
        "{told}"
    );

    for name in ["app", "first", "proof"] {
        let endpoint = [("app", "hosted"), ("first", "alias-first"), ("proof", "proven")];
        let endpoint = endpoint.iter().find(|(own, _)| *own == name).unwrap().1;
        edit(
            &workspace,
            &format!("[hostname.\"{name}.larkfield.example\"]\nendpoint = \"{endpoint}\"\nttl = \"1s\"\n"),
            "",
        );
    }
    edit(&workspace, ISSUED, "");
    workspace.run(&["retire", "--leftovers", "--yes"]).ended(0);
    assert!(!has("_validate.app.larkfield.example") && !has("app.larkfield.example"));
    for (endpoint, name) in [("hosted", "app"), ("alias-first", "first"), ("proven", "proof")] {
        assert!(sandbox.platform().binding(endpoint, &format!("{name}.larkfield.example")).is_none(), "{endpoint}");
    }
}

/// Roots for client certificates, and a client's chain with its key.
pub(crate) fn clients() -> (String, String) {
    let (root_key, key) = (KeyPair::generate().unwrap(), KeyPair::generate().unwrap());
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.distinguished_name.push(DnType::CommonName, "Larkfield instruments");
    let root = params.self_signed(&root_key).unwrap().pem();
    let mut leaf = CertificateParams::new(vec!["probe.larkfield.example".to_owned()]).unwrap();
    leaf.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
    let leaf = leaf.signed_by(&key, &Issuer::new(params, root_key)).unwrap();
    (root, leaf.pem() + &key.serialize_pem())
}

#[tokio::test(flavor = "multi_thread")]
async fn clients_must_show_a_certificate_and_each_route_is_asked_before_the_alias_follows() {
    let (roots, identity) = clients();
    let routes = "routes = [{ prefix = \"/v1\", service = \"catalogue\" },
  { prefix = \"/v2\", service = \"plates\", expect = { path = \"/v2/all\", method = \"OPTIONS\", body = \"plates\" } }]";
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let required =
            format!("{routes}\nminimum_tls = \"1.3\"\nclient_certificates = {{ roots = \"clients.pem\", probe_with = \"file:probe.pem\" }}");
        manifest.endpoint(listing, "catalogue", "gateway").hostname("devices.larkfield.example", "catalogue", &required)
    })
    .await;
    let ran = workspace.run(&["check"]).ended(2);
    assert!(ran.stdout.contains("clients.pem cannot be used"), "{}", ran.stdout);
    workspace.write("clients.pem", &format!("{roots}{identity}"));
    workspace.write("probe.pem", &identity);
    // One route goes wrong: the alias stays away, and the finding names the route.
    edit(&workspace, "body = \"plates\"", "body = \"moons\"");
    let ran = workspace.run(&["settle", "--patience", "2s"]).ended(1);
    assert!(ran.stdout.contains("OPTIONS https://devices.larkfield.example/v2/all at "), "{}", ran.stdout);
    assert!(!sandbox.primary().has_name("devices.larkfield.example"));
    edit(&workspace, "body = \"moons\"", "body = \"plates\"");
    sandbox.switch("old-tls=catalogue", true);
    let ran = workspace.run(&["settle", "--patience", "2s", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("catalogue answers clients with TLS 1.2 for devices"), "{}", ran.stdout);
    sandbox.switch("old-tls=catalogue", false);
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    let bound = sandbox.platform().binding("catalogue", "devices.larkfield.example").unwrap();
    assert_eq!(bound["client_certificates"]["need"], "required", "{bound:#}");

    sandbox.switch("no-client-certificates=catalogue", true);
    let ran = workspace.run(&["status", "--max-age", "0"]).ended(3);
    assert!(ran.stdout.contains("answers clients without a certificate"), "{}", ran.stdout);
    sandbox.switch("no-client-certificates=catalogue", false);
    // Without a certificate of its own, what can be seen is that clients are refused.
    edit(&workspace, ", probe_with = \"file:probe.pem\"", "");
    assert!(workspace.run(&["check"]).ended(0).stdout.contains("unverified-expectation"));
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    // An endpoint that cannot ask for certificates is not ordered a certificate for.
    let manifest =
        workspace.read("pindrel.toml").replace("[endpoint.catalogue]", "[endpoint.catalogue]\nid = \"proven\"");
    workspace.write("pindrel.toml", &manifest.replace("devices.larkfield", "more.larkfield"));
    let ran = workspace.run(&["settle"]).ended(3);
    assert!(ran.stdout.contains("does not offer client certificates"), "{}", ran.stdout);
    assert_eq!(sandbox.authority().issued().0, 1);
}
