//! The sandbox, tried with independent tools.

use std::process::{Command, Stdio};
use std::time::Duration;

use pindrel_sandbox::Sandbox;
use pindrel_testkit::{Workspace, dig, eventually, require};

use crate::{PINDREL, one_name, quick, sandboxed};

const TOOLS: &[(&str, &str)] =
    &[("dig", "bind9-dnsutils"), ("nsupdate", "bind9-dnsutils"), ("curl", "curl"), ("openssl", "openssl")];
const PATIENCE: Duration = Duration::from_secs(30);

fn nsupdate(sandbox: &Sandbox, key: &str, secret: &str, lines: &str) -> String {
    let primary = sandbox.listing().primary;
    let mut child = Command::new("nsupdate")
        .args(["-v", "-y", &format!("hmac-sha256:{key}:{secret}")])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let text = format!("server {} {}\nzone larkfield.example\n{lines}\nsend\n", primary.ip(), primary.port());
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), text.as_bytes()).unwrap();
    String::from_utf8_lossy(&child.wait_with_output().unwrap().stderr).trim().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn its_name_servers_take_signed_updates_and_nothing_else() {
    if !require("its_name_servers_take_signed_updates_and_nothing_else", TOOLS) {
        return;
    }
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let listing = sandbox.listing();
    let secret = std::fs::read_to_string(sandbox.folder().join("tsig.secret")).unwrap();
    let wrong = "b3RoZXIgc2VjcmV0IG9mIHRoZSB0ZXN0cywgMzIgYi4=";
    for (key, secret, lines, says) in [
        ("pindrel", secret.as_str(), "update add one.larkfield.example 60 A 127.0.0.9", ""),
        (
            "pindrel",
            &secret,
            "prereq nxdomain one.larkfield.example\nupdate add one.larkfield.example 60 A 127.0.0.8",
            "YXDOMAIN",
        ),
        (
            "pindrel",
            &secret,
            "prereq yxrrset one.larkfield.example A 127.0.0.7\nupdate add one.larkfield.example 60 A 127.0.0.8",
            "NXRRSET",
        ),
        ("pindrel", &secret, "update add one.other.example 60 A 127.0.0.8", "NOTZONE"),
        ("pindrel", wrong, "update delete one.larkfield.example A", "BADSIG"),
        ("unknown", &secret, "update delete one.larkfield.example A", "BADKEY"),
    ] {
        let said = nsupdate(&sandbox, key, secret, lines);
        assert!(if says.is_empty() { said.is_empty() } else { said.contains(says) }, "{lines}: {said:?}");
    }
    // As real servers do: a CNAME beside an address is left out without a word.
    assert_eq!(
        nsupdate(&sandbox, "pindrel", &secret, "update add one.larkfield.example 60 CNAME two.larkfield.example"),
        ""
    );
    for server in [listing.primary, listing.secondary, listing.resolver] {
        eventually("the record everywhere", PATIENCE, async || {
            dig(server, "one.larkfield.example", "A") == "127.0.0.9\n"
        })
        .await;
        assert_eq!(dig(server, "one.larkfield.example", "CNAME"), "");
    }
    assert_eq!(dig(listing.parent, "larkfield.example", "NS"), "", "a referral is no answer");
    // Zones are transferred to whoever has the key, by both.
    for server in [listing.primary, listing.secondary] {
        let export = format!("larkfield.example@{server}");
        let zone = workspace.run(&["zone", "export", &export]).ended(0).stdout;
        assert!(
            zone.contains("one.larkfield.example.\t60\tIN\tA\t127.0.0.9") && !zone.contains("Only a part"),
            "{zone}"
        );
        let refused = dig(server, "larkfield.example", "AXFR");
        assert!(!refused.contains("127.0.0.9"), "{refused}");
    }
    let default_name = &listing.endpoints[0].default_name;
    assert_eq!(dig(listing.resolver, default_name, "A").trim(), listing.endpoints[0].address.ip().to_string());
}

#[tokio::test(flavor = "multi_thread")]
async fn its_endpoints_answer_as_real_ones_do() {
    if !require("its_endpoints_answer_as_real_ones_do", TOOLS) {
        return;
    }
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .endpoint(listing, "home", "distribution")
            .hostname("api.larkfield.example", "catalogue", "routes = [{ prefix = \"/v2\", service = \"catalogue\" }]")
            .hostname("larkfield.example", "home", "also = [\"www.larkfield.example\"]\nminimum_tls = \"1.3\"")
    })
    .await;
    workspace.run(&["settle"]).ended(0);
    let listing = sandbox.listing();
    let root = sandbox.folder().join("issuing-root.pem").display().to_string();
    let curl = |host: &str, endpoint: usize, path: &str, more: &[&str]| {
        let address = listing.endpoints[endpoint].address;
        let (port, ip) = (address.port(), address.ip());
        let resolve = format!("{host}:{port}:{ip}");
        let url = format!("https://{host}:{port}{path}");
        let mut command = Command::new("curl");
        command.args([
            "-sS",
            "--max-time",
            "5",
            "--cacert",
            &root,
            "--resolve",
            &resolve,
            "-o",
            "-",
            "-w",
            " %{http_code} %{redirect_url}",
            &url,
        ]);
        let output = command.args(more).output().unwrap();
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
    };
    assert_eq!(curl("api.larkfield.example", 0, "/v2/stars", &[]), "Larkfield catalogue\n 200 ");
    assert!(curl("api.larkfield.example", 0, "/v3", &[]).ends_with(" 404 "));
    assert_eq!(curl("www.larkfield.example", 2, "/a?b=c", &[]), " 308 https://larkfield.example:8443/a?b=c");
    assert!(curl("api.larkfield.example", 2, "/", &["-k"]).contains(" 403 "), "bound elsewhere");
    assert!(curl("larkfield.example", 2, "/", &["--tls-max", "1.2"]).contains("SSL"), "below the lowest TLS version");
    let api = listing.endpoints[0].address.to_string();
    let chain = Command::new("openssl")
        .args([
            "s_client",
            "-connect",
            &api,
            "-servername",
            "api.larkfield.example",
            "-CAfile",
            &root,
            "-verify_return_error",
        ])
        .stdin(Stdio::null())
        .output()
        .unwrap();
    assert!(String::from_utf8_lossy(&chain.stdout).contains("Verify return code: 0 (ok)"));
}

/// A program that does not outlive its test.
struct Running(std::process::Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn up_list_and_down_leave_nothing_behind() {
    let workspace = Workspace::new(PINDREL);
    let mut up =
        Running(workspace.command(&["sandbox", "up"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
    eventually("the sandbox", PATIENCE, async || workspace.run(&["sandbox", "list"]).status == 0).await;
    let listing = workspace.run(&["sandbox", "list", "--format", "json"]).ended(0).json();
    assert_eq!(listing["endpoints"].as_array().unwrap().len(), 9);
    let second = workspace.run(&["sandbox", "up"]).ended(1);
    assert!(second.stderr.contains("runs in sandbox already"), "{}", second.stderr);
    let made = workspace.run(&["-m", "sandbox/pindrel.toml", "check"]).ended(0);
    assert!(made.stdout.contains("5 hostnames"), "a manifest that works: {}", made.stdout);
    assert!(workspace.run(&["sandbox", "break", "limit"]).ended(0).stdout.contains("Broken: limit."));
    assert!(workspace.run(&["sandbox", "mend"]).ended(0).stdout.contains("Nothing is broken."));
    workspace.run(&["sandbox", "down"]).ended(0);
    assert!(up.0.wait().unwrap().success());
    assert!(!workspace.path().join("sandbox").exists());
    workspace.run(&["sandbox", "list"]).ended(1);

    // A folder with somebody else's files is left as it is.
    workspace.write("edge.token", "mine");
    let refused = workspace.run(&["sandbox", "up", "--folder", "."]).ended(1);
    assert!(refused.stderr.contains("is no sandbox's"), "{}", refused.stderr);
    assert_eq!(workspace.read("edge.token"), "mine");
}
