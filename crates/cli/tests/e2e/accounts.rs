//! Accounts: every kind of key, external accounts, changes, closing.

use pindrel_sandbox::Options;
use pindrel_sandbox::authority::{ExternalAccount, Fault};
use pindrel_testkit::{ManifestText, Workspace};
use serde_json::Value;

use crate::{edit, one_name, quick, sandboxed};

fn shown(workspace: &Workspace, state: &str) -> Value {
    workspace.run(&["account", "show", "--format", "json", "--state", state]).ended(0).json()["accounts"][0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_of_every_kind_of_key_lives_its_whole_life() {
    let (workspace, sandbox) =
        sandboxed(quick(), |manifest, listing| one_name(manifest, listing).authority("account_key = \"ecdsa-p256\""))
            .await;
    let mut kind_before = "ecdsa-p256";
    for kind in ["ecdsa-p256", "ecdsa-p384", "rsa-2048", "ed25519"] {
        edit(&workspace, &format!("account_key = \"{kind_before}\""), &format!("account_key = \"{kind}\""));
        kind_before = kind;
        let (state, other) = (format!("{kind}/state.sqlite"), format!("{kind}-other/state.sqlite"));
        assert_eq!(shown(&workspace, &state)["account"], Value::Null);
        workspace.run(&["account", "register", "--state", &state]).ended(0);
        let first = shown(&workspace, &state);
        assert_eq!((&first["key"], &first["status"]), (&kind.into(), &"valid".into()));

        // Another key for the same account, which the old key no longer opens.
        workspace.run(&["account", "change-key", "--state", &state]).ended(0);
        let changed = shown(&workspace, &state);
        assert_eq!(changed["account"], first["account"]);
        assert_ne!(changed["thumbprint"], first["thumbprint"]);

        // Taken out and brought in elsewhere, in both forms: the same account is found.
        for form in ["pem", "jwk"] {
            let file = format!("{kind}.{form}");
            workspace.run(&["account", "show", "--export-key", &file, "--as", form, "--state", &state]).ended(0);
            let elsewhere = format!("{form}-{other}");
            workspace.run(&["account", "register", "--key", &file, "--state", &elsewhere]).ended(0);
            assert_eq!(shown(&workspace, &elsewhere)["account"], first["account"], "{kind} {form}");
        }

        workspace.run(&["account", "close", "main", "--state", &state]).ended(2);
        workspace.run(&["account", "close", "main", "--permanently", "--state", &state]).ended(0);
        assert_eq!(shown(&workspace, &state)["status"], "deactivated");
    }
    // Whoever settles with a closed account opens another one.
    let ran = workspace.run(&["settle", "--state", "ed25519/state.sqlite", "--format", "json"]).ended(0);
    assert_eq!(ran.summary()["held"], 1);
    assert_ne!(shown(&workspace, "ed25519/state.sqlite")["status"], "deactivated");
    let closed = sandbox.authority().accounts().iter().filter(|(status, _)| *status == "deactivated").count();
    assert_eq!(closed, 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_change_whose_answer_is_lost_is_confirmed_by_the_next_command() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let state = ".pindrel/state.sqlite";
    workspace.run(&["account", "register"]).ended(0);
    let before = shown(&workspace, state)["thumbprint"].clone();
    // Every fourth answer breaks off: sooner or later it is the one to the key change.
    sandbox.authority().switch(Fault::Dropped, true);
    for _ in 0..6 {
        workspace.run(&["account", "change-key"]);
    }
    sandbox.authority().mend();
    workspace.run(&["account", "register"]).ended(0);
    let after = shown(&workspace, state);
    assert_eq!(after["key_change_pending"], false);
    assert_ne!(after["thumbprint"], before);
    workspace.run(&["settle"]).ended(0);
}

#[tokio::test(flavor = "multi_thread")]
async fn contacts_follow_the_manifest_and_new_terms_are_told_until_agreed_to() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle"]).ended(0);
    edit(
        &workspace,
        "[\"mailto:tls@larkfield.example\"]",
        "[\"mailto:tls@larkfield.example\", \"mailto:night@larkfield.example\"]",
    );
    sandbox.authority().switch(Fault::NewTerms, true);
    let ran = workspace.run(&["cert", "renew", "api.larkfield.example"]).ended(0);
    assert!(ran.stderr.contains("have changed to") && ran.stderr.contains("--agree"), "{}", ran.stderr);
    assert!(sandbox.authority().accounts()[0].1.contains("night@"));
    let told = workspace.run(&["account", "show"]).ended(0).stdout;
    assert!(told.contains("the terms have changed"), "{told}");
    workspace.run(&["account", "register", "--agree"]).ended(0);
    assert_eq!(shown(&workspace, ".pindrel/state.sqlite")["new_terms"], Value::Null);
}

const EXTERNAL: &str = "cGxhbnRlZC1leHRlcm5hbC1zZWNyZXQtMTIzNDU2Nzg5MA";

#[tokio::test(flavor = "multi_thread")]
async fn an_external_account_is_bound_with_each_mac_and_asked_for_where_it_is_missing() {
    let external = ExternalAccount { id: "observatory-1".into(), key: b"planted-external-secret-1234567890".to_vec() };
    let options = Options { external_account: Some(external), ..quick() };
    let (mut workspace, _sandbox) = sandboxed(options, one_name).await;
    workspace.set("EAB_SECRET", EXTERNAL);
    workspace.set("WRONG_SECRET", "d3Jvbmc");
    let plain = workspace.read("pindrel.toml");
    let ran = workspace.run(&["account", "register"]).ended(1);
    assert!(ran.stderr.contains("external_account_key in [authority.main]"), "{}", ran.stderr);
    for (algorithm, secret, ends) in [
        ("hmac-sha256", "EAB_SECRET", 0),
        ("hmac-sha384", "EAB_SECRET", 0),
        ("hmac-sha512", "EAB_SECRET", 0),
        ("hmac-sha256", "WRONG_SECRET", 1),
    ] {
        let key = format!(
            "external_account_key = {{ id = \"observatory-1\", secret = \"env:{secret}\", algorithm = \"{algorithm}\" }}"
        );
        workspace.write("pindrel.toml", ManifestText::default().with(&plain).authority(&key).text());
        let state = format!("{algorithm}-{ends}/state.sqlite");
        let ran = workspace.run(&["account", "register", "--state", &state]).ended(ends);
        assert_eq!(ran.stderr.contains("the MAC of the binding does not verify"), ends == 1, "{}", ran.stderr);
    }
}
