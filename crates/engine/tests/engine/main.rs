//! The engine on the world in memory: no server, no file, no real time.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "what cannot be set up fails the test"
)]

mod accounts;
mod certificates;
mod faults;
mod gates;
mod handoff;
mod health;
mod issuing;
mod keeping;
mod kill;
mod moves;
mod online;
mod outages;
mod ownership;
mod platforms;
mod renewing;
mod state;
mod watching;
mod wildcards;
mod workers;
mod worlds;
mod zones;

use pindrel_engine::{RevocationRequest, RevokeReason};

/// One hostname behind the gateway.
const ONE: &str = "
[hostname.\"api.larkfield.example\"]
endpoint = \"catalogue\"
";
/// Its name.
const API: &str = "api.larkfield.example";

/// Some of the hostnames with their certificates, behind both endpoints.
fn several(count: usize) -> String {
    let endpoints = ["catalogue", "plates"];
    let block = |n: usize| {
        format!("[hostname.\"survey-{n}.larkfield.example\"]\nendpoint = \"{}\"\n", endpoints[n % endpoints.len()])
    };
    (0..count).map(block).collect()
}

/// Revoking the present certificate and having it replaced.
fn revocation(reason: RevokeReason) -> RevocationRequest {
    RevocationRequest { name: API.into(), former: None, reason, by: None, authority: None, replace: true }
}
