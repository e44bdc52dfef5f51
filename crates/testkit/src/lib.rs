//! Support for tests: real servers started from the installed programs, and temporary
//! folders in which the built program runs.
//!
//! Real servers need no root rights and no fixed ports. Where a program is missing,
//! [`RealWorld::start`] says which on standard error and returns `None`; with
//! `PINDREL_REQUIRE_SERVERS=1`, as in CI, that is a failure instead.

mod certified;
mod manifest;
mod postgres;
mod programs;
mod real;
mod scripted;
mod workspace;

pub use manifest::ManifestText;
pub use postgres::RealPostgres;
pub use programs::{Program, missing, require};
pub use real::{EXTERNAL_ID, EXTERNAL_KEY, RealOptions, RealWorld, TSIG_SECRET, dig};
pub use scripted::{Received, ScriptedServer, answer};
pub use workspace::{Ran, Workspace};

use std::time::{Duration, Instant};

/// Asks again and again until `ready` says yes; panics after `patience`.
pub async fn eventually(what: &str, patience: Duration, mut ready: impl AsyncFnMut() -> bool) {
    let begun = Instant::now();
    while !ready().await {
        assert!(begun.elapsed() < patience, "{what} did not come about within {patience:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}
