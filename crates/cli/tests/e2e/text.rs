//! What people read: tables, sentences and help, with what changes from run to run taken
//! out.

use std::time::Duration;

use pindrel_testkit::{ManifestText, Workspace};
use serde_json::Value;

use crate::{PINDREL, one_name, quick, sandboxed};

/// Takes times, numbers that differ from run to run, and the sandbox's network out.
fn steady(text: &str) -> String {
    let mut out = String::new();
    let mut digits = false;
    for c in text.chars() {
        if c.is_ascii_digit() {
            if !digits {
                out.push('#');
            }
            digits = true;
        } else {
            digits = false;
            out.push(c);
        }
    }
    out
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_and_the_page_of_a_certificate_read_well() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        one_name(manifest, listing).with(
            "\n[certificate.stations]\nnames = [\"stations.larkfield.example\", \"*.stations.larkfield.example\"]\n\
             labels = [\"survey\"]\nnote = \"for the partner stations\"\n",
        )
    })
    .await;
    let before = workspace.run(&["cert", "list"]).ended(0).stdout;
    assert!(
        before.contains("◇ stations: there is no certificate for stations.larkfield.example (+1 name) yet"),
        "{before}"
    );
    assert!(
        before.contains("stations for the partner stations") && before.contains("0 of 2 certificates held."),
        "{before}"
    );

    workspace.run(&["settle"]).ended(0);
    let list = workspace.run(&["cert", "list"]).ended(0).stdout;
    let rows: Vec<String> = list.lines().map(steady).collect();
    assert!(rows[0].starts_with(" CERTIFICATE            FROM  KEY            DAYS LEFT"), "{list}");
    let words: Vec<&str> = rows[1].split_whitespace().collect();
    let expected = "stations (# names) main ecdsa-p# ◆ # ━━━━━━━━━━ #-#-# issued nowhere survey";
    assert_eq!(words.join(" "), expected, "{list}");
    assert!(rows[2].contains("api.larkfield.example  main  ecdsa-p#  ◆") && rows[2].contains("catalogue"), "{list}");
    assert!(list.ends_with("2 of 2 certificates held.\n"), "{list}");
    assert!(list.lines().all(|line| line.chars().count() < 150 && line == line.trim_end()), "{list}");

    let page = workspace.run(&["cert", "show", "stations"]).ended(0).stdout;
    for line in [
        "stations  ◆ held",
        "  names             stations.larkfield.example, *.stations.larkfield.example",
        "  subject           empty",
        "  key               ECDSA P-256",
        "  signed            ECDSA with SHA-256",
        "  extensions        ",
        "key usage (critical): digital signature",
        "extended key usage: server authentication",
        "subject alternative name",
        "  labels            survey",
        "  note              for the partner stations",
        "  last order        issued at ",
    ] {
        assert!(page.contains(line), "{line:?} in\n{page}");
    }
    let root = page.lines().find(|line| line.trim_start().starts_with("root")).unwrap();
    assert!(root.contains("CN=Sandbox issuing root"), "{root}");
}

#[tokio::test(flavor = "multi_thread")]
async fn labels_and_notes_filter_and_show_in_the_status() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest
            .endpoint(listing, "catalogue", "gateway")
            .hostname(
                "api.larkfield.example",
                "catalogue",
                "labels = [\"public\", \"survey\"]\nnote = \"ask the night team\"",
            )
            .hostname("plates.larkfield.example", "catalogue", "labels = [\"public\"]")
    })
    .await;
    let hostnames = |args: &[&str]| -> Vec<Value> {
        let args = [&["status", "--format", "json"], args].concat();
        workspace.run(&args).json()["hostnames"].as_array().unwrap().clone()
    };
    assert_eq!(hostnames(&["--label", "public"]).len(), 2);
    let night = hostnames(&["--label", "survey"]);
    assert_eq!((night.len(), &night[0]["note"]), (1, &"ask the night team".into()));
    let unknown = workspace.run(&["status", "--label", "publik"]).ended(2);
    assert!(unknown.stderr.contains("Did you mean \"public\"?"), "{}", unknown.stderr);
    let told = workspace.run(&["status"]).ended(3).stdout;
    assert!(
        told.contains("api.larkfield.example ask the night team"),
        "a note is shown where something is wrong: {told}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sandbox_is_broken_and_mended_from_outside() {
    let workspace = Workspace::new(PINDREL);
    let mut up = workspace
        .command(&["sandbox", "up", "--deploy", "20", "--lag", "20"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(up.stdout.take().unwrap()));
    assert!(lines.any(|line| line.unwrap().contains("Running until Ctrl-C")));
    let wrong = workspace.run(&["sandbox", "break", "everything"]).ended(2);
    assert!(wrong.stderr.contains("early-renewal") && wrong.stderr.contains("validation=NAME"), "{}", wrong.stderr);

    let listing = workspace.run(&["sandbox", "list", "--format", "json"]).ended(0).json();
    assert_eq!(listing["faults"], Value::Array(Vec::new()));
    let listing: pindrel_sandbox::Listing = serde_json::from_value(listing).unwrap();
    workspace.write("pindrel.toml", one_name(ManifestText::sandbox(&listing), &listing).text());
    workspace.run(&["sandbox", "break", "limit"]).ended(0);
    workspace.run(&["sandbox", "break", "secondary-frozen"]).ended(0);
    let shown = workspace.run(&["sandbox", "list"]).ended(0).stdout;
    assert!(shown.contains("limit") && shown.contains("secondary-frozen") && shown.contains("practice"), "{shown}");
    let ran = workspace.run(&["settle"]).ended(1);
    assert!(ran.stdout.contains("is rate-limiting this account"), "{}", ran.stdout);
    workspace.run(&["sandbox", "mend", "limit"]).ended(0);
    let left = workspace.run(&["sandbox", "list", "--format", "json"]).ended(0).json();
    assert_eq!(left["faults"], serde_json::json!(["secondary-frozen"]));
    workspace.run(&["sandbox", "mend"]).ended(0);
    // The authority's wish to be left alone is kept, for this certificate.
    std::fs::remove_dir_all(workspace.path().join(".pindrel")).unwrap();
    workspace.run(&["settle"]).ended(0);
    workspace.run(&["sandbox", "down"]).ended(0);
    assert!(up.wait().unwrap().success());
    workspace.run(&["sandbox", "mend"]).ended(1);
}

#[test]
fn every_command_teaches_by_its_help() {
    let workspace = Workspace::new(PINDREL);
    for (command, teaches) in [
        (&["cert"][..], "list, show, request, import, export, renew, revoke"),
        (&["cert", "list"], "--ends-within"),
        (&["cert", "show"], "a hostname that uses it"),
        (&["cert", "request"], "The key stays sealed"),
        (&["cert", "import"], "in any order"),
        (&["cert", "export"], "mode 0600 only"),
        (&["cert", "renew"], "whether or not they are due"),
        (&["cert", "revoke"], "always has a new key"),
        (&["account"], "show, register, change-key, close"),
        (&["account", "show"], "--export-key"),
        (&["account", "register"], "--agree"),
        (&["account", "change-key"], "until the authority has confirmed"),
        (&["account", "close"], "--permanently"),
        (&["adopt", "certificate"], "issues the next one"),
        (&["settle"], "--rehearse"),
        (&["sandbox", "break"], "validations of this name fail"),
    ] {
        let help = workspace.run(&[command, &["--help"]].concat()).ended(0).stdout;
        assert!(help.contains(teaches), "{command:?}: {help}");
        assert!(help.lines().all(|line| line.chars().count() <= 100), "{command:?}: {help}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn variables_are_options_and_what_is_slightly_wrong_in_them_is_told() {
    let (mut workspace, sandbox) = sandboxed(quick(), one_name).await;
    for (variable, value, status, says) in [
        ("PINDREL_DRY_RUN", "1", 3, "steps to take"),
        ("PINDREL_DRY_RUN", "yes", 3, "Nothing was changed"),
        ("PINDREL_DRY_RUN", "perhaps", 2, "from the environment variable PINDREL_DRY_RUN"),
        ("PINDREL_ONLY", "api.larkfield.example,apy.larkfield.example", 2, "Did you mean \"api.larkfield.example\"?"),
        ("PINDREL_PATIENCE", "2d", 2, "a run waits at most 24h"),
        ("PINDREL_MANIFEST", "none.toml", 2, "pindrel init"),
    ] {
        workspace.set(variable, value);
        let ran = workspace.run(&["settle"]).ended(status);
        workspace.unset(variable);
        assert!(
            format!("{}{}", ran.stdout, ran.stderr).contains(says),
            "{variable}={value}: {}{}",
            ran.stdout,
            ran.stderr
        );
    }
    assert_eq!(sandbox.authority().requests(), 0, "nothing was done");
    workspace.set("PINDREL_DRYRUN", "1");
    let slip = workspace.run(&["check"]).ended(0).stderr;
    assert!(slip.contains("did you mean PINDREL_DRY_RUN?"), "{slip}");
}

#[test]
fn a_manifest_in_another_encoding_is_told_as_that() {
    let workspace = Workspace::new(PINDREL);
    for (bytes, says) in [
        (&b"\xff\xfem\0a\0n\0"[..], "it is UTF-16"),
        (b"manifest = 1\n# caf\xe9\n", "byte 0xe9 in line 2"),
        (b"\xef\xbb\xbfmanifest = 2\n", "reads manifests of version 1"),
    ] {
        std::fs::write(workspace.path().join("pindrel.toml"), bytes).unwrap();
        let ran = workspace.run(&["check"]).ended(2);
        assert!(format!("{}{}", ran.stdout, ran.stderr).contains(says), "{}{}", ran.stdout, ran.stderr);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_is_stopped_names_what_it_puts_off() {
    let slow = pindrel_sandbox::Options { lag: Duration::from_secs(30), ..quick() };
    let (workspace, _sandbox) = sandboxed(slow, one_name).await;
    for (signal, status) in [("INT", 130), ("TERM", 143)] {
        let mut child = workspace.command(&["settle"]).stderr(std::process::Stdio::piped()).spawn().unwrap();
        let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stderr.take().unwrap()));
        assert!(lines.any(|line| line.unwrap().contains("to return the challenge record")));
        std::process::Command::new("kill").args(["-s", signal, &child.id().to_string()]).status().unwrap();
        let rest: Vec<String> = lines.map_while(Result::ok).collect();
        assert_eq!(child.wait().unwrap().code(), Some(status));
        assert!(rest.join("\n").contains("put off to the next run: issue api.larkfield.example"), "{rest:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_that_name_nothing_say_what_there_is() {
    let (workspace, _sandbox) =
        sandboxed(quick(), |manifest, listing| one_name(manifest, listing).rehearsed(listing)).await;
    for (args, status, says) in [
        (&["cert", "show", "none.larkfield.example"][..], 1, "there is no certificate \"none.larkfield.example\""),
        (&["cert", "renew", "none"], 2, "no certificate and no hostname \"none\""),
        (&["cert", "renew"], 2, "required"),
        (&["cert", "renew", "api.larkfield.example", "--all"], 2, "cannot be used with"),
        (&["cert", "revoke", "api.larkfield.example"], 1, "there is no certificate"),
        (&["cert", "export", "api.larkfield.example"], 1, "there is no certificate"),
        (&["cert", "export", "api.larkfield.example", "--form", "pkcs12"], 2, "never written to the output"),
        (
            &["cert", "import", "api.larkfield.example", "pindrel.toml"],
            1,
            "holds neither a certificate nor a private key",
        ),
        (&["cert", "import", "api.larkfield.example", "x", "--password", "hunter2"], 2, "not what it is"),
        (&["account", "register"], 2, "Name one of: main, practice"),
        (&["account", "close", "other", "--permanently"], 2, "no [authority.other]"),
        (&["account", "show", "main", "--export-key", "key.pem"], 1, "there is no account"),
        (&["account", "register", "main", "--key", "pindrel.toml"], 2, "cannot be used as an account key"),
        (&["cert", "list", "--ends-within", "soon"], 2, "not a duration"),
        (&["cert", "show", "api.larkfield.example", "--format", "csv"], 2, "no CSV form"),
    ] {
        let ran = workspace.run(args).ended(status);
        assert!(ran.stderr.contains(says), "{args:?}: {}", ran.stderr);
        assert!(!ran.stderr.contains("hunter2") || args.contains(&"hunter2"), "{}", ran.stderr);
    }
}
