//! Drives the built program on files in temporary folders, against real servers and
//! against the sandbox.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

mod accounts;
mod adapter;
mod certificates;
mod commands;
mod faults;
mod health;
mod hostile;
mod issuing;
mod kill;
mod leftovers;
mod load_balancer;
mod manifest;
mod moving;
mod pace;
mod platforms;
mod real;
mod sandbox_tools;
mod secrets;
mod security;
mod snapshots;
mod state;
mod text;
mod undo;
mod watching;
mod web_server;
mod zones;

use std::time::Duration;

use pindrel_sandbox::{Options, Sandbox};
use pindrel_testkit::{ManifestText, Workspace};

/// The built program.
const PINDREL: &str = env!("CARGO_BIN_EXE_pindrel");

/// A sandbox that takes no longer than it must.
fn quick() -> Options {
    Options {
        lag: Duration::from_millis(20),
        deploy: Duration::from_millis(20),
        negative_ttl: Duration::from_secs(1),
        ..Options::default()
    }
}

/// A folder with a sandbox in it and a manifest for it.
async fn sandboxed(
    options: Options,
    more: impl FnOnce(ManifestText, &pindrel_sandbox::Listing) -> ManifestText,
) -> (Workspace, Sandbox) {
    let workspace = Workspace::new(PINDREL);
    let sandbox = Sandbox::start(&workspace.path().join("sandbox"), options).await.unwrap();
    let manifest = more(ManifestText::sandbox(sandbox.listing()), sandbox.listing());
    workspace.write("pindrel.toml", manifest.text());
    (workspace, sandbox)
}

/// The manifest of one plain hostname at the gateway.
fn one_name(manifest: ManifestText, listing: &pindrel_sandbox::Listing) -> ManifestText {
    manifest.endpoint(listing, "catalogue", "gateway").hostname("api.larkfield.example", "catalogue", "")
}

/// Writes something else into the manifest, wherever `written` stands.
fn edit(workspace: &Workspace, written: &str, instead: &str) {
    let text = workspace.read("pindrel.toml");
    assert!(text.contains(written), "{written}");
    workspace.write("pindrel.toml", &text.replace(written, instead));
}
