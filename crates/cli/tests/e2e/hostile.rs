//! What does not do as it should: a full disk, a state that cannot be written, a clock that
//! was set back, an authority that speaks to the terminal.

use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use pindrel_testkit::{Ran, ScriptedServer, Workspace, answer, require};
use serde_json::json;

use crate::{PINDREL, one_name, quick, sandboxed};

/// Runs the program by way of another one.
fn run_by(workspace: &Workspace, by: &[&str], args: &[&str]) -> Ran {
    let template = workspace.command(args);
    let mut command = Command::new(by[0]);
    command.args(&by[1..]).arg(PINDREL).args(args).current_dir(workspace.path()).env_clear();
    command.envs(template.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = command.output().unwrap();
    Ran {
        status: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_full_at_any_moment_loses_nothing() {
    // No file may grow beyond so many blocks of 512 bytes.
    let mut failed = 0;
    for blocks in [8, 180, 220, 260, 300, 340, 400, 500] {
        let (workspace, sandbox) = sandboxed(quick(), one_name).await;
        let limited = format!("trap '' XFSZ; ulimit -f {blocks}; exec \"$0\" \"$@\"");
        let ran = run_by(&workspace, &["/bin/sh", "-c", &limited], &["settle"]);
        let said = format!("{}{}", ran.stdout, ran.stderr);
        if ran.status != 0 {
            failed += 1;
            assert_eq!(ran.status, 1, "{blocks}: {said}");
            assert!(said.contains("disk is not full") && !said.contains("panicked"), "{blocks}: {said}");
        }
        workspace.run(&["settle"]).ended(0);
        assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1, "{blocks}: {said}");
        for server in [sandbox.primary(), sandbox.secondary()] {
            assert_eq!(server.texts("_acme-challenge.api.larkfield.example"), [""; 0], "{blocks}");
        }
    }
    assert!(failed >= 3, "the disk was full {failed} times");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_state_that_cannot_be_written_is_told_before_anything_is_done() {
    let test = "a_state_that_cannot_be_written_is_told_before_anything_is_done";
    if !require(test, &[("setpriv", "util-linux")]) {
        return;
    }
    let (mut workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["account", "register"]).ended(0);
    let key = workspace.read(".pindrel/sealing.key");
    workspace.set("PINDREL_SEALING_KEY", key.trim());
    let open = |path: &std::path::Path, mode| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    };
    open(workspace.path(), 0o755);
    open(&workspace.path().join("sandbox"), 0o755);
    for name in ["api-root.pem", "issuing-root.pem", "tsig.secret", "edge.token"] {
        open(&workspace.path().join("sandbox").join(name), 0o644);
    }
    open(&workspace.path().join(".pindrel"), 0o755);
    for file in std::fs::read_dir(workspace.path().join(".pindrel")).unwrap() {
        open(&file.unwrap().path(), 0o444);
    }
    let before = sandbox.authority().requests();
    // Root may write everything: nobody does not.
    let nobody = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"];
    let ran = run_by(&workspace, &nobody, &["settle"]);
    assert_eq!(ran.status, 1, "{}{}", ran.stdout, ran.stderr);
    assert!(ran.stderr.contains("cannot be opened") && ran.stderr.contains('→'), "{}", ran.stderr);
    assert_eq!(sandbox.authority().requests(), before);
    // Whoever may only read is shown what there is.
    for (args, status) in [(&["status"][..], 3), (&["cert", "list"], 0), (&["settle", "--dry-run"], 3)] {
        let ran = run_by(&workspace, &nobody, args);
        assert_eq!(ran.status, status, "{args:?}: {}{}", ran.stdout, ran.stderr);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_back_a_day_is_told_and_loses_nothing() {
    if !require("a_clock_that_is_set_back_a_day_is_told_and_loses_nothing", &[("faketime", "faketime")]) {
        return;
    }
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    let ran = run_by(&workspace, &["faketime", "-f", "-1d"], &["settle"]);
    // The certificates of authority and platform are younger than that.
    assert_eq!(ran.status, 1, "{}{}", ran.stdout, ran.stderr);
    assert!(ran.stdout.contains("it is not valid yet: is the clock of this machine right?"), "{}", ran.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_authority_says_does_not_steer_the_terminal() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let server = ScriptedServer::start(&["localhost"], |_, request| {
        let host = request.headers.iter().find_map(|header| header.strip_prefix("host: ")).unwrap_or_default();
        match request.line.split_once(' ').unwrap_or_default() {
            ("GET", "/directory") => {
                let url = |path: &str| format!("https://{host}/{path}");
                let meta = json!({ "termsOfService": "https://authority.test/\u{1b}]0;terms\u{7}" });
                let urls = json!({ "newNonce": url("nonce"), "newAccount": url("account"), "newOrder": url("order"), "meta": meta });
                answer(200, &[], &urls.to_string())
            }
            ("HEAD", _) => b"HTTP/1.1 200 OK\r\nreplay-nonce: n\r\nconnection: close\r\n\r\n".to_vec(),
            _ => {
                let detail = "\u{1b}[2Jall is well\r\n\u{202e}llew si lla";
                answer(403, &["replay-nonce: n"], &json!({ "type": "urn:other", "detail": detail }).to_string())
            }
        }
    })
    .await;
    let directory = format!("https://localhost:{}/directory", server.address.port());
    let manifest = workspace.read("pindrel.toml").replace(&sandbox.listing().directory, &directory);
    workspace.write("pindrel.toml", &manifest.replace("sandbox/api-root.pem", "authority.pem"));
    // The platform keeps its own root.
    workspace.write("authority.pem", &format!("{}{}", server.root_pem, workspace.read("sandbox/api-root.pem")));
    for args in [&["account", "register"][..], &["settle", "--color", "never"], &["account", "show"], &["status"]] {
        let ran = workspace.run(args);
        let said = format!("{}{}", ran.stdout, ran.stderr);
        assert!(!said.contains(['\u{1b}', '\u{7}', '\u{202e}', '\r']), "{args:?}: {said:?}");
        if args[0] == "settle" || args[1..] == ["register"] {
            assert!(said.contains("\u{fffd}[2Jall is well  \u{fffd}llew si lla"), "{args:?}: {said}");
        }
    }
}

/// A zone file is replaced as a whole or not at all, also where the disk is full in the midst of it.
#[tokio::test(flavor = "multi_thread")]
async fn a_zone_file_survives_a_disk_that_is_full() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        let zone = "[zone.\"archive.example\"]\ndriver = \"file\"\nfile = \"archive.example.zone\"\nservers = [\"127.0.0.1:9\"]\n";
        one_name(manifest, listing).with(zone)
    })
    .await;
    let head = "$TTL 1h\n@ IN SOA ns1 hostmaster 7 1h 10m 4w 5m\n@ NS ns1\nns1 A 192.0.2.53\n";
    let hosts: String = (0..20_000).map(|n| format!("host-{n:05} A 192.0.2.{}\n", n % 250)).collect();
    let before = format!("{head}{hosts}");
    workspace.write("archive.example.zone", &before);
    workspace.write("more.zone", "new 1h A 192.0.2.99\n");
    let import = ["zone", "import", "more.zone", "--into", "archive.example", "--yes"];
    // The state is there already, and smaller than the file.
    workspace.run(&import[..import.len() - 1]).ended(3);
    workspace.run(&["settle", "-q"]);
    let limited = "trap '' XFSZ; ulimit -f 800; exec \"$0\" \"$@\"";
    let ran = run_by(&workspace, &["/bin/sh", "-c", limited], &import);
    assert_eq!(ran.status, 1, "{}{}", ran.stdout, ran.stderr);
    assert!(
        ran.stderr.contains("archive.example.zone is not changed") && ran.stderr.contains("disk is not full"),
        "{}",
        ran.stderr
    );
    assert!(workspace.read("archive.example.zone") == before, "it is as it was");
    let left = std::fs::read_dir(workspace.path()).unwrap().map(|entry| entry.unwrap().file_name());
    let left: Vec<_> = left.filter(|name| name.to_string_lossy().contains("archive.example.zone")).collect();
    assert_eq!(left, ["archive.example.zone"], "nothing half-written is left");
    workspace.run(&import).ended(0);
    let after = workspace.read("archive.example.zone");
    let is_new = |line: &str| line.split_whitespace().next() == Some("new");
    assert_eq!(after.lines().filter(|line| is_new(line)).count(), 1, "the record is there");
    assert_eq!(after.lines().filter(|line| line.starts_with("host-")).count(), 20_000);
}
