//! The life of certificates: renewed, revoked, bought, delivered, listed.

use std::os::unix::fs::PermissionsExt as _;
use std::time::{Duration, Instant};

use pindrel_sandbox::Options;
use pindrel_sandbox::authority::Fault;
use pindrel_testkit::{ManifestText, Workspace, require};
use rcgen::{BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, IsCa, Issuer, KeyPair};
use serde_json::Value;

use crate::{edit, one_name, quick, sandboxed};

fn shown(workspace: &Workspace, name: &str) -> Value {
    workspace.run(&["cert", "show", name, "--format", "json"]).ended(0).json()
}

fn key_of(shown: &Value) -> &Value {
    &shown["chain"][0]["key_sha256"]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_renewal_replaces_its_predecessor_and_is_seen_served() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    let first = shown(&workspace, "api.larkfield.example");
    let ran = workspace.run(&["cert", "renew", "api.larkfield.example", "--format", "json"]).ended(0);
    assert_eq!(ran.summary()["held"], 1);
    let second = shown(&workspace, "api.larkfield.example");
    assert_ne!(first["sha256"], second["sha256"]);
    assert_ne!(key_of(&first), key_of(&second), "a new key each time");
    assert_eq!(second["former"][0]["sha256"], first["sha256"]);
    assert_eq!(sandbox.authority().replacing_orders(), 1);
    let status = workspace.run(&["status", "--format", "json", "--max-age", "0"]).ended(0).json();
    assert_eq!(status["hostnames"][0]["pins"]["certificate"]["sha256"], second["sha256"]);
    let again = workspace.run(&["settle", "--format", "json"]).ended(0).summary();
    assert_eq!((&again["steps"], &again["acme_requests"]), (&0.into(), &0.into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_authoritys_advice_decides_and_is_asked_for_no_earlier_than_it_says() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    workspace.run(&["settle"]).ended(0);
    let advised = shown(&workspace, "api.larkfield.example");
    let window = &advised["renewal_window"];
    let inside = window["start"].as_str() <= advised["renew_at"].as_str()
        && advised["renew_at"].as_str() <= window["end"].as_str();
    assert!(inside, "{advised:#}");
    // Not asked again before its time: a certificate that should go at once stays.
    sandbox.authority().switch(Fault::EarlyRenewal, true);
    assert!(workspace.run(&["settle"]).ended(0).stdout.contains("Nothing to do"));
    // A new one has not been asked about yet: it is renewed as advised.
    workspace.run(&["cert", "renew", "--all"]).ended(0);
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 3, "{}", ran.stdout);
    assert!(shown(&workspace, "api.larkfield.example")["renewal_window"].is_null());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_short_lived_certificate_is_renewed_in_its_time_by_settle_alone() {
    let options = Options { lifetime: Some(Duration::from_secs(18)), ..quick() };
    let (workspace, sandbox) = sandboxed(options, one_name).await;
    workspace.run(&["settle"]).ended(0);
    let begun = Instant::now();
    while sandbox.authority().issued().0 < 3 && begun.elapsed() < Duration::from_secs(90) {
        std::thread::sleep(Duration::from_millis(500));
        workspace.run(&["settle"]).ended(0);
    }
    assert!(sandbox.authority().issued().0 >= 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_order_that_was_lost_holds_the_predecessor_and_is_found_or_done_without() {
    for order_list in [true, false] {
        let (workspace, sandbox) = sandboxed(Options { order_list, ..quick() }, one_name).await;
        workspace.run(&["settle"]).ended(0);
        sandbox.authority().lose_next_order();
        workspace.run(&["cert", "renew", "api.larkfield.example"]).ended(1);
        let ran = workspace.run(&["settle"]).ended(0);
        // Found in the list, the lost order is gone on with; else the authority says that
        // another order holds the predecessor, and it is done without.
        assert_eq!(ran.stderr.contains("another one is made that names none"), !order_list, "{}", ran.stderr);
        assert_eq!(sandbox.authority().issued().0, 2);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_revoked_certificate_is_replaced_at_once_and_a_compromised_key_never_used_again() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let declared = "\n[certificate.api]\nnames = [\"api.larkfield.example\"]\nreuse_key = true\n";
        one_name(manifest, listing).with(declared)
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let first = shown(&workspace, "api");
    workspace.run(&["cert", "revoke", "api", "--reason", "superseded"]).ended(0);
    let second = shown(&workspace, "api");
    assert_eq!(key_of(&first), key_of(&second), "the manifest keeps the key");
    assert!(!second["former"][0]["revoked"].is_null());
    let ran = workspace
        .run(&["cert", "revoke", "api", "--reason", "key-compromise", "--by", "certificate", "--no-replacement"])
        .ended(0);
    assert!(ran.stdout.contains("is revoked") && ran.stdout.contains("1 of 1 hostname held"), "{}", ran.stdout);
    let third = shown(&workspace, "api");
    assert_ne!(key_of(&second), key_of(&third));
    assert_eq!(sandbox.authority().issued(), (3, 2));
    workspace.run(&["cert", "revoke", "api", "--no-replacement"]).ended(0);
    assert_eq!(sandbox.authority().issued(), (3, 3));
    assert!(!shown(&workspace, "api")["revoked"].is_null());
}

/// A seller of certificates: a root, and an intermediate below it.
struct Seller {
    root: String,
    intermediate: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Seller {
    fn new() -> Seller {
        let params = |name: &str| {
            let mut params = CertificateParams::new(Vec::new()).unwrap();
            params.distinguished_name.push(DnType::CommonName, name);
            params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
            params.use_authority_key_identifier_extension = true;
            params
        };
        let root_key = KeyPair::generate().unwrap();
        let root = params("Larkfield seller root").self_signed(&root_key).unwrap().pem();
        let root_issuer = Issuer::new(params("Larkfield seller root"), root_key);
        let key = KeyPair::generate().unwrap();
        let intermediate = params("Larkfield seller intermediate").signed_by(&key, &root_issuer).unwrap().pem();
        Seller { root, intermediate, issuer: Issuer::new(params("Larkfield seller intermediate"), key) }
    }

    fn sell(&self, request: &str, days: i64) -> String {
        let mut request = CertificateSigningRequestParams::from_pem(request).unwrap();
        request.params.use_authority_key_identifier_extension = true;
        let now = std::time::SystemTime::now().into();
        request.params.not_before = now;
        request.params.not_after = now + Duration::from_secs(days as u64 * 86_400);
        request.signed_by(&self.issuer).unwrap().pem()
    }
}

const BOUGHT: &str = "
[certificate.plates]
names = [\"plates.larkfield.example\"]
issued_by = \"elsewhere\"
issued_roots = \"seller-root.pem\"
";

#[tokio::test(flavor = "multi_thread")]
async fn a_bought_certificate_goes_from_its_request_to_an_answer_and_out_again() {
    let seller = Seller::new();
    let (mut workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "plates", "distribution")
            .hostname("plates.larkfield.example", "plates", "")
            .with(BOUGHT)
    })
    .await;
    workspace.write("seller-root.pem", &seller.root);
    let ran = workspace.run(&["settle"]).ended(3);
    assert!(ran.stdout.contains("pindrel cert request plates"), "{}", ran.stdout);

    let request = workspace.run(&["cert", "request", "plates"]).ended(0).stdout;
    let again = workspace.run(&["cert", "request", "plates"]).ended(0).stdout;
    assert_eq!(request[60..180], again[60..180], "the same key, whose signature differs each time");
    workspace.write("leaf.pem", &seller.sell(&request, 365));
    workspace.write("middle.pem", &seller.intermediate);
    workspace.write("root.pem", &seller.root);
    workspace.write("notes.txt", "thank you for your order");
    let other = KeyPair::generate().unwrap();
    workspace.write("other.key", &other.serialize_pem());

    for (files, says) in [
        (&["leaf.pem", "notes.txt"][..], "notes.txt holds neither"),
        (&["leaf.pem"], "the intermediate certificate \"CN=Larkfield seller intermediate\" is missing"),
        (&["middle.pem", "root.pem"], "does not match any of the certificates in"),
        (&["leaf.pem", "middle.pem", "other.key"], "the private key in other.key does not match any"),
        (&["absent.pem"], "there is no such file"),
    ] {
        let args = [&["cert", "import", "plates"], files].concat();
        let ran = workspace.run(&args).ended(1);
        assert!(ran.stderr.contains(says) && ran.stderr.contains('→'), "{files:?}: {}", ran.stderr);
    }
    let ran = workspace.run(&["cert", "import", "plates", "root.pem", "middle.pem", "leaf.pem"]).ended(0);
    assert!(ran.stdout.contains("2 certificates in its chain"), "{}", ran.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().requests(), 0, "no authority was asked");
    let status = workspace.run(&["status", "--format", "json", "--max-age", "0"]).ended(0).json();
    assert!(status["hostnames"][0]["pins"]["certificate"]["detail"].as_str().unwrap().contains("issued elsewhere"));

    // Out as PKCS#12, read by another program, and in again.
    workspace.run(&["cert", "export", "plates", "--form", "key"]).ended(2);
    workspace.set("P12_PASSWORD", "larkfield at night");
    workspace
        .run(&["cert", "export", "plates", "--form", "pkcs12", "--password", "env:P12_PASSWORD", "--out", "plates.p12"])
        .ended(0);
    let mode = std::fs::metadata(workspace.path().join("plates.p12")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    if require("a_bought_certificate_goes_from_its_request_to_an_answer_and_out_again", &[("openssl", "openssl")]) {
        let openssl = |arguments: &str| {
            let output = std::process::Command::new("openssl")
                .args(arguments.split(' '))
                .env("P12_PASSWORD", "larkfield at night")
                .current_dir(workspace.path())
                .output()
                .unwrap();
            String::from_utf8_lossy(&output.stderr).into_owned() + &String::from_utf8_lossy(&output.stdout)
        };
        let said = openssl("pkcs12 -in plates.p12 -passin env:P12_PASSWORD -info -nodes -out plain.pem");
        assert!(said.contains("PBES2") && said.contains("AES-256-CBC"), "{said}");
        // The other forms that sellers and key rooms hand out.
        let parts = "-nocrl -certfile leaf.pem -certfile middle.pem -certfile root.pem";
        openssl(&format!("crl2pkcs7 {parts} -out all.p7b"));
        openssl(&format!("crl2pkcs7 {parts} -outform DER -out all-der.p7b"));
        openssl("pkcs8 -topk8 -in plain.pem -passout env:P12_PASSWORD -out sealed.key");
        openssl("pkcs8 -topk8 -in plain.pem -passout env:P12_PASSWORD -v2 aes-256-cbc -outform DER -out sealed.der");
        openssl("ec -in plain.pem -aes128 -passout env:P12_PASSWORD -out old.key");
        for (files, ended, says) in [
            (["all.p7b", "sealed.key"], 0, "2 certificates in its chain"),
            (["all-der.p7b", "sealed.der"], 0, "2 certificates in its chain"),
            (["all.p7b", "old.key"], 1, "obsolete form; convert it with: openssl pkcs8 -topk8"),
        ] {
            let args = [&["cert", "import", "plates", "--password", "env:P12_PASSWORD"][..], &files].concat();
            let ran = workspace.run(&args).ended(ended);
            let told = if ended == 0 { &ran.stdout } else { &ran.stderr };
            assert!(told.contains(says), "{files:?}: {}{}", ran.stdout, ran.stderr);
        }
        let ran = workspace.run(&["cert", "import", "plates", "all.p7b", "sealed.key"]).ended(1);
        assert!(ran.stderr.contains("sealed.key holds an encrypted private key, which needs"), "{}", ran.stderr);
    }
    let args = ["cert", "import", "plates", "plates.p12", "--password", "env:P12_PASSWORD"];
    workspace.run(&args).ended(0);

    // Bought again with an earlier end than the seller's rule allows: watched all the same.
    workspace.write("short.pem", &seller.sell(&request, 1));
    workspace.run(&["cert", "import", "plates", "short.pem", "middle.pem"]).ended(0);
    let list = workspace.run(&["cert", "list", "--ends-within", "2d", "--format", "csv"]).ended(0).stdout;
    assert_eq!(list.lines().count(), 2, "{list}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_that_exists_is_adopted_and_renewed_by_the_authority() {
    let seller = Seller::new();
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let key = KeyPair::generate().unwrap();
    let request =
        CertificateParams::new(vec!["api.larkfield.example".to_owned()]).unwrap().serialize_request(&key).unwrap();
    // The authority's roots must know the seller for as long as its certificate is used.
    let roots = workspace.read("sandbox/issuing-root.pem") + &seller.root;
    workspace.write("sandbox/issuing-root.pem", &roots);
    workspace
        .write("all.pem", &(seller.sell(&request.pem().unwrap(), 90) + &seller.intermediate + &key.serialize_pem()));
    workspace.write("pindrel.toml", ManifestText::default().with(&workspace.read("pindrel.toml")).with("\n[certificate.api]\nnames = [\"api.larkfield.example\"]\nissued_roots = \"sandbox/issuing-root.pem\"\n").text());
    workspace.run(&["adopt", "certificate", "api.larkfield.example", "all.pem"]).ended(0);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 0, "it is used as it is");
    workspace.run(&["cert", "renew", "api"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 1);
    assert_eq!(shown(&workspace, "api")["from"], "main");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_self_signed_certificate_brings_a_name_up_and_is_marked_as_such() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        one_name(manifest, listing)
            .with("\n[certificate.api]\nnames = [\"api.larkfield.example\"]\nissued_by = \"self\"\n")
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let status = workspace.run(&["status", "--format", "json"]).ended(0).json();
    assert!(status["hostnames"][0]["pins"]["certificate"]["detail"].as_str().unwrap().contains("self-signed"));
    assert_eq!(sandbox.authority().requests(), 0);
    // Then the real one, by taking one line away.
    workspace.write("pindrel.toml", &workspace.read("pindrel.toml").replace("issued_by = \"self\"\n", ""));
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 1);
}

const DELIVERED: &str = "
[certificate.edge]
names = [\"edge.larkfield.example\"]
deliver = [
  { file = \"tls/chain.pem\", holds = [\"leaf\", \"intermediates\"], mode = \"0640\" },
  { file = \"tls/key.pem\", holds = [\"key\"] },
  { file = \"tls/edge.p12\", holds = [\"pkcs12\"], password = \"env:P12_PASSWORD\" },
]
after = [
  { run = [\"sh\", \"-c\", \"echo $PINDREL_CERTIFICATE >> reloads; test ! -e broken\"] },
  { run = [\"sh\", \"-c\", \"sleep 60 & test ! -e slow || wait\"], within = \"1s\" },
]
";

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_is_delivered_and_held_only_once_its_commands_have_ended_well() {
    let (mut workspace, sandbox) = sandboxed(quick(), |manifest, _| manifest.with(DELIVERED)).await;
    workspace.set("PATH", "/usr/bin:/bin");
    workspace.set("P12_PASSWORD", "planted-delivery-password");
    workspace.write("broken", "");
    // What cannot be delivered costs no certificate.
    let missing = "/chain.pem cannot be written: there is no folder ";
    for args in [&["settle"][..], &["check", "--online"]] {
        let ran = workspace.run(args);
        assert!(ran.stdout.contains(missing), "{args:?}: {}", ran.stdout);
    }
    std::fs::create_dir(workspace.path().join("tls")).unwrap();
    edit(&workspace, "\"sh\", \"-c\", \"sleep", "\"no-such-shell\", \"-c\", \"sleep");
    let ran = workspace.run(&["settle", "--max-age", "0"]).ended(1);
    assert!(ran.stdout.contains("cannot be run: there is no such program"), "{}", ran.stdout);
    assert_eq!(sandbox.authority().issued().0, 0);
    edit(&workspace, "no-such-shell", "sh");
    let ran = workspace.run(&["settle", "-vvv"]).ended(1);
    assert!(ran.stdout.contains("was delivered, but") && ran.stdout.contains("exit status 1"), "{}", ran.stdout);
    assert!(!format!("{}{}", ran.stdout, ran.stderr).contains("planted-delivery"), "no secret in any output");
    let list = workspace.run(&["cert", "list"]).ended(0).stdout;
    assert!(list.contains("0 of 1 certificate held") && list.contains("exit status 1"), "{list}");

    // The failed one is run again, the one that ended well is not; a command that takes too
    // long is ended with all that it started.
    std::fs::remove_file(workspace.path().join("broken")).unwrap();
    workspace.write("slow", "");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(workspace.read("reloads"), "edge\nedge\n");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(workspace.read("reloads"), "edge\nedge\n", "nothing is run without a reason");
    let begun = Instant::now();
    let ran = workspace.run(&["cert", "renew", "edge"]).ended(1);
    assert!(
        begun.elapsed() < Duration::from_secs(50) && ran.stdout.contains("did not exit within 1 s and was killed"),
        "{}",
        ran.stdout
    );
    std::fs::remove_file(workspace.path().join("slow")).unwrap();
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued().0, 2);

    let modes = [("chain.pem", 0o640), ("key.pem", 0o600), ("edge.p12", 0o600)];
    for (file, mode) in modes {
        let path = workspace.path().join("tls").join(file);
        assert_eq!(std::fs::metadata(path).unwrap().permissions().mode() & 0o777, mode, "{file}");
    }
    assert_eq!(std::fs::read_dir(workspace.path().join("tls")).unwrap().count(), 3, "no leftovers beside them");
    let exported = workspace.run(&["cert", "export", "edge"]).ended(0).stdout;
    assert_eq!(workspace.read("tls/chain.pem"), exported);

    // What somebody changed behind its back is put right, and a server has to read it again.
    workspace.write("tls/chain.pem", "torn");
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(workspace.read("tls/chain.pem"), exported);
    assert_eq!(workspace.read("reloads"), "edge\nedge\nedge\nedge\n");
}

/// Starts a server anew that reads its files at the start only.
const RESTART: &str = "#!/bin/sh
test -e server.pid && kill $(cat server.pid)
openssl s_server -accept $1 -cert chain.pem -cert_chain chain.pem -key key.pem -quiet >/dev/null 2>&1 </dev/null &
echo $! > server.pid
";

#[tokio::test(flavor = "multi_thread")]
async fn a_delivered_certificate_is_held_once_its_listener_serves_it() {
    if !pindrel_testkit::require(
        "a_delivered_certificate_is_held_once_its_listener_serves_it",
        &[("openssl", "openssl")],
    ) {
        return;
    }
    let port = pindrel_testkit::free_port().port();
    let block = format!(
        "[certificate.edge]\nnames = [\"edge.larkfield.example\"]\nserved_at = [\"127.0.0.1:{port}\"]\nafter = [{{ run = [\"sh\", \"restart.sh\", \"127.0.0.1:{port}\"] }}]\n\
         deliver = [{{ file = \"chain.pem\", holds = [\"leaf\", \"intermediates\"] }}, {{ file = \"key.pem\", holds = [\"key\"] }}]\n"
    );
    let (mut workspace, _sandbox) = sandboxed(quick(), |manifest, _| manifest.with(&block)).await;
    workspace.set("PATH", "/usr/bin:/bin");
    workspace.write("restart.sh", RESTART);
    let ran = workspace.run(&["settle"]).ended(0);
    assert!(ran.stdout.contains("1 of 1 certificate held"), "{}", ran.stdout);

    // A server that did not read the new files is found by connecting to it.
    workspace.write("restart.sh", "#!/bin/sh\n");
    workspace.run(&["cert", "renew", "edge", "--patience", "1"]).ended(1);
    let status = workspace.run(&["status"]).ended(3);
    assert!(
        status.stdout.contains("serves certificate") && status.stdout.contains("not the certificate"),
        "{}",
        status.stdout
    );
    workspace.write("restart.sh", RESTART);
    std::process::Command::new("sh")
        .args(["restart.sh", &format!("127.0.0.1:{port}")])
        .current_dir(workspace.path())
        .status()
        .unwrap();
    workspace.run(&["settle"]).ended(0);
    let pid = workspace.read("server.pid");
    std::process::Command::new("kill").arg(pid.trim()).status().unwrap();
    let ran = workspace.run(&["status"]).ended(3);
    assert!(ran.stdout.contains("serves no certificate: connection refused"), "{}", ran.stdout);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_somebody_else_configures_is_held_with_delivered_files() {
    let test = "a_server_that_somebody_else_configures_is_held_with_delivered_files";
    if !pindrel_testkit::require(test, &[("openssl", "openssl")]) {
        return;
    }
    let port = pindrel_testkit::free_port().port();
    let block = format!(
        "[endpoint.appliance]\nkind = \"gateway\"\ndriver = \"static\"\ndefault_name = \"edge7.vendor.test.\"\naddresses = [\"127.0.0.1\"]\nport = {port}\n
         [hostname.\"larkfield.example\"]\nendpoint = \"appliance\"\n
         [certificate.front]\nnames = [\"larkfield.example\"]\nafter = [{{ run = [\"sh\", \"restart.sh\", \"127.0.0.1:{port}\"] }}]\n
         deliver = [{{ file = \"chain.pem\", holds = [\"leaf\", \"intermediates\"] }}, {{ file = \"key.pem\", holds = [\"key\"] }}]\n"
    );
    let (mut workspace, sandbox) = sandboxed(quick(), |manifest, _| manifest.with(&block)).await;
    workspace.set("PATH", "/usr/bin:/bin");
    let restart = RESTART.replace("-quiet", "-www -quiet");
    workspace.write("restart.sh", &restart);
    let plan = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(3).json();
    let actions: Vec<&str> =
        plan["steps"].as_array().unwrap().iter().map(|step| step["action"].as_str().unwrap()).collect();
    assert_eq!(actions, ["register", "issue", "deliver", "connect", "alias", "answer"], "nothing is stored or bound");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(pindrel_testkit::dig(sandbox.listing().primary, "larkfield.example", "A").trim(), "127.0.0.1");
    workspace.run(&["cert", "renew", "larkfield.example"]).ended(0);
    workspace.run(&["status", "--max-age", "0"]).ended(0);

    let pid = workspace.read("server.pid");
    std::process::Command::new("kill").arg(pid.trim()).status().unwrap();
    let ran = workspace.run(&["status", "--max-age", "0"]).ended(3);
    assert!(ran.stdout.contains("appliance does not serve the certificate of larkfield.example"), "{}", ran.stdout);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_that_is_not_what_is_wanted_is_never_held() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        manifest.with("[certificate.edge]\nnames = [\"edge.larkfield.example\", \"old.larkfield.example\"]\n")
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    crate::edit(&workspace, ", \"old.larkfield.example\"", "");
    let status = workspace.run(&["status"]).ended(3);
    assert!(status.stdout.contains("covers old.larkfield.example, which is no longer wanted"), "{}", status.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(shown(&workspace, "edge")["names"], serde_json::json!(["edge.larkfield.example"]));

    workspace.run(&["cert", "revoke", "edge", "--no-replacement"]).ended(0);
    let status = workspace.run(&["status"]).ended(3);
    assert!(
        status.stdout.contains("was revoked at") && status.stdout.contains("pindrel cert renew edge"),
        "{}",
        status.stdout
    );
    workspace.run(&["settle"]).ended(3);
    assert_eq!(sandbox.authority().issued().0, 2, "it is not replaced by itself");
    workspace.run(&["cert", "renew", "edge"]).ended(0);
    workspace.run(&["status"]).ended(0);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_filter_sort_and_fit_their_schemas() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        one_name(manifest, listing)
            .with("\n[certificate.b]\nnames = [\"b.larkfield.example\", \"c.larkfield.example\"]\nlabels = [\"survey\", \"night\"]\nnote = \"two at once\"\n")
            .with("\n[certificate.a]\nnames = [\"a.larkfield.example\"]\nlabels = [\"survey\"]\nprofile = \"week\"\n")
    })
    .await;
    let names = |args: &[&str]| -> Vec<String> {
        let args = [&["cert", "list", "--format", "json"], args].concat();
        let document = workspace.run(&args).ended(0).json();
        crate::commands::assert_fits(&crate::commands::schema("cert-list"), &document);
        document["certificates"]
            .as_array()
            .unwrap()
            .iter()
            .map(|row| row["name"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(names(&["--not-held"]).len(), 3);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(names(&["--sort", "name"]), ["a", "api.larkfield.example", "b"]);
    assert_eq!(names(&["--sort", "end", "--label", "survey"]), ["a", "b"]);
    assert_eq!(names(&["--label", "survey", "--label", "night"]), ["b"]);
    assert_eq!(names(&["--ends-within", "10d"]), ["a"]);
    assert_eq!(names(&["--not-held"]), [""; 0]);
    for name in ["b", "api.larkfield.example"] {
        crate::commands::assert_fits(&crate::commands::schema("cert-show"), &shown(&workspace, name));
    }
    let accounts = workspace.run(&["account", "show", "--format", "json"]).ended(0).json();
    crate::commands::assert_fits(&crate::commands::schema("account"), &accounts);
    // One that the manifest no longer names is still shown, and said to be left over.
    let text = workspace.read("pindrel.toml");
    workspace.write("pindrel.toml", &text[..text.find("[certificate.a]").unwrap()]);
    let csv = workspace.run(&["cert", "list", "--format", "csv"]).ended(0).stdout;
    assert!(csv.lines().last().unwrap().starts_with("a,a.larkfield.example,main,ecdsa-p256,left over,"), "{csv}");
    workspace.run(&["cert", "show", "nobody"]).ended(1);
}
