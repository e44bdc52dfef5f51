//! No secret in any output, log, row or panic: planted values are searched for.

use std::path::Path;

use crate::{one_name, quick, sandboxed};

/// Runs that talk as much as they can, well and badly.
const RUNS: [&[&str]; 8] = [
    &["check", "-vvv"],
    &["check", "--format", "json", "-vvv"],
    &["settle", "--dry-run", "-vvv"],
    &["settle", "-vvv", "--log-format", "json"],
    &["settle", "-vvv", "--format", "json", "--max-age", "0"],
    &["status", "-vvv", "--max-age", "0"],
    &["status", "-vvv", "--format", "json"],
    &["settle", "--only", "absent.larkfield.example", "-vvv"],
];

fn read_all(folder: &Path, into: &mut Vec<u8>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        into.extend(std::fs::read(entry.unwrap().path()).unwrap_or_default());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_secret_is_ever_shown_or_kept_in_clear() {
    let external = "cGxhbnRlZC1leHRlcm5hbC1zZWNyZXQtMTIzNDU2Nzg5MA";
    let (mut workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        let text = one_name(manifest, listing).text().replace(
            "agree_to_terms = true",
            "agree_to_terms = true\nexternal_account_key = { id = \"observatory-1\", secret = \"env:EAB_SECRET\" }",
        );
        pindrel_testkit::ManifestText::default().with(&text)
    })
    .await;
    workspace.set("EAB_SECRET", external);
    let secret_of = |name: &str| std::fs::read_to_string(sandbox.folder().join(name)).unwrap().trim().to_owned();
    let sealing =
        || std::fs::read_to_string(workspace.path().join(".pindrel/sealing.key")).unwrap_or_default().trim().to_owned();

    let mut shown = String::new();
    for args in RUNS {
        let ran = workspace.run(args);
        shown.push_str(&ran.stdout);
        shown.push_str(&ran.stderr);
    }
    sandbox.platform().silence(true);
    sandbox.authority().silence(true);
    for args in RUNS {
        let ran = workspace.run(args);
        shown.push_str(&ran.stdout);
        shown.push_str(&ran.stderr);
    }
    assert!(shown.contains("journal"), "the most verbose log tells the journal");
    let mut kept = Vec::new();
    read_all(&workspace.path().join(".pindrel"), &mut kept);
    let kept = String::from_utf8_lossy(&kept);

    let planted = [secret_of("tsig.secret"), secret_of("edge.token"), external.to_owned(), "PRIVATE KEY".to_owned()];
    for secret in &planted {
        assert!(secret.len() > 8 && !shown.contains(secret.as_str()), "shown: {secret}");
        assert!(!kept.contains(secret.as_str()), "kept in clear: {secret}");
    }
    let sealing = sealing();
    assert!(!sealing.is_empty() && !shown.contains(&sealing));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_wrong_sealing_key_is_an_error_at_the_start_and_loses_nothing() {
    let (mut workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    workspace.set("PINDREL_SEALING_KEY", "b3RoZXIgc2VhbGluZyBrZXksIDMyIGJ5dGVzIGxvbmc=");
    let ran = workspace.run(&["settle"]).ended(1);
    assert!(ran.stderr.contains("is not the one that this state was made with"), "{}", ran.stderr);
    workspace.unset("PINDREL_SEALING_KEY");
    workspace.run(&["settle", "--max-age", "0"]).ended(0);
    assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 1);

    let key = workspace.path().join(".pindrel/sealing.key");
    std::fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let ran = workspace.run(&["status"]).ended(1);
    assert!(ran.stderr.contains("others can read it") && ran.stderr.contains("chmod 600"), "{}", ran.stderr);
}

/// Where nothing is changed no secret is needed: a manifest is checked, and shown, where it must not be known.
#[tokio::test(flavor = "multi_thread")]
async fn what_only_looks_needs_no_secret() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    std::fs::remove_file(sandbox.folder().join("edge.token")).unwrap();
    std::fs::remove_file(sandbox.folder().join("tsig.secret")).unwrap();
    let told = workspace.run(&["check", "--format", "json"]).ended(0).json();
    let codes = told["warnings"].as_array().unwrap().iter().map(|warning| &warning["code"]).collect::<Vec<_>>();
    assert_eq!(codes, ["unreadable-secret", "unreadable-secret"]);
    workspace.run(&["status"]).ended(0);
    workspace.run(&["handoff", "larkfield.example"]);
    workspace.run(&["health", "list"]).ended(0);
    workspace.run(&["zone", "list"]);
    // A missing secret is reported only for what needs it.
    let status = workspace.run(&["status", "--max-age", "0s", "--format", "json"]).ended(3).json();
    let binding = &status["hostnames"][0]["pins"]["binding"];
    assert_eq!(binding["findings"][0]["code"], "secret-unreadable", "{binding}");
    assert_eq!(status["hostnames"][0]["pins"]["answer"]["state"], "held");
    let plan = workspace.run(&["settle", "--dry-run", "--max-age", "0s"]).ended(3);
    assert!(plan.stderr.contains("edge.token") && plan.stdout.contains("edge.token"), "{}{}", plan.stdout, plan.stderr);
    let refused = workspace.run(&["settle"]).ended(2);
    assert_eq!(refused.stderr.matches("error[unreadable-secret]").count(), 2, "{}", refused.stderr);
}
