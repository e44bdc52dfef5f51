//! Support for tests: real servers started from the installed programs, a whole world in
//! memory, and temporary folders in which the built program runs.
//!
//! Real servers need no root rights and no fixed ports. Where a program is missing,
//! [`RealWorld::start`] says which on standard error and returns `None`; with
//! `PINDREL_REQUIRE_SERVERS=1`, as in CI, that is a failure instead.

mod clients;
mod manifest;
pub mod memory;
mod real;
mod workspace;

pub use clients::{Asked, Clients};
pub use manifest::ManifestText;
pub use real::haproxy::RealHaproxy;
pub use real::nginx::RealNginx;
pub use real::postgres::RealPostgres;
pub use real::powerdns::RealPowerDns;
pub use real::programs::{Program, missing, require};
pub use real::scripted::{Received, ScriptedServer, answer};
pub use real::{
    ClosedPort, EXTERNAL_ID, EXTERNAL_KEY, RealOptions, RealWorld, TSIG_SECRET, dig, free_port, udp_and_tcp,
};
pub use workspace::{Ran, Workspace};

use std::time::{Duration, Instant};

/// A number that looks random and is the same on every run.
pub fn dice(seed: u64, throw: u64) -> u64 {
    let mut mixed = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ throw.wrapping_mul(0xbf58_476d_1ce4_e5b9);
    for _ in 0..3 {
        mixed ^= mixed >> 31;
        mixed = mixed.wrapping_mul(0x94d0_49bb_1331_11eb);
    }
    mixed ^ mixed >> 29
}

/// Asks again and again until `ready` says yes; panics after `patience`.
pub async fn eventually(what: &str, patience: Duration, mut ready: impl AsyncFnMut() -> bool) {
    let begun = Instant::now();
    while !ready().await {
        assert!(begun.elapsed() < patience, "{what} did not come about within {patience:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
