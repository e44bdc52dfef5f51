//! What a shell offers while a command is typed: commands and options, and the names in the manifest.

use std::path::PathBuf;

use clap_complete::CompleteEnv;
use clap_complete::engine::CompletionCandidate;
use pindrel_core::manifest::{Diagnostics, Manifest, read};
use pindrel_engine::machine;

/// The variable by which a shell asks for what to offer.
pub(crate) const VARIABLE: &str = "PINDREL_COMPLETE";
/// The longest manifest that is read for it: a shell waits.
const MAX_MANIFEST_BYTES: u64 = 16 << 20;
/// The most names that are offered.
const MOST_OFFERED: usize = 2_000;

/// Answers a shell that asks, and ends the program; else does nothing.
pub(crate) fn answer_shell(program: fn() -> clap::Command) {
    CompleteEnv::with_factory(program).var(VARIABLE).complete();
}

/// Offers the hostnames of the manifest.
pub(crate) fn hostnames() -> Vec<CompletionCandidate> {
    offered(manifest().hostnames.into_iter().map(|entry| entry.hostname.value.to_string()))
}

/// Offers the zones of the manifest.
pub(crate) fn zones() -> Vec<CompletionCandidate> {
    offered(manifest().zones.into_iter().map(|entry| entry.name.value.to_string()))
}

/// Offers the hostnames and the zones of the manifest.
pub(crate) fn hostnames_and_zones() -> Vec<CompletionCandidate> {
    let Manifest { zones, hostnames, .. } = manifest();
    let zones = zones.into_iter().map(|entry| entry.name.value.to_string());
    offered(zones.chain(hostnames.into_iter().map(|entry| entry.hostname.value.to_string())))
}

/// Offers the certificates of the manifest, and the hostnames that may stand for theirs.
pub(crate) fn certificates() -> Vec<CompletionCandidate> {
    let Manifest { certificates, hostnames, .. } = manifest();
    let declared = certificates.into_iter().map(|entry| entry.name.value);
    offered(declared.chain(hostnames.into_iter().map(|entry| entry.hostname.value.to_string())))
}

/// Offers the endpoints of the manifest.
pub(crate) fn endpoints() -> Vec<CompletionCandidate> {
    offered(manifest().endpoints.into_iter().map(|entry| entry.name.value))
}

/// Offers the health checks of the manifest.
pub(crate) fn checks() -> Vec<CompletionCandidate> {
    let Manifest { endpoints, hostnames, health, .. } = manifest();
    let of_endpoints = endpoints.into_iter().filter(|entry| entry.health.is_some()).map(|entry| entry.name.value);
    let named = health.into_iter().map(|entry| entry.name.value);
    let of_hostnames = hostnames.into_iter().filter(|entry| entry.health.is_some()).flat_map(|entry| {
        let hostname = entry.hostname.value;
        entry.endpoints.into_iter().map(move |endpoint| format!("{hostname}/{}", endpoint.value))
    });
    offered(of_endpoints.chain(named).chain(of_hostnames))
}

/// Offers the authorities of the manifest.
pub(crate) fn authorities() -> Vec<CompletionCandidate> {
    offered(manifest().authorities.into_iter().map(|entry| entry.name.value))
}

fn offered(names: impl Iterator<Item = String>) -> Vec<CompletionCandidate> {
    names.take(MOST_OFFERED).map(CompletionCandidate::new).collect()
}

/// The manifest of the line that is typed, as far as it can be read.
fn manifest() -> Manifest {
    let text = machine::read_text(&manifest_path(), MAX_MANIFEST_BYTES).unwrap_or_default();
    read(&text, &mut Diagnostics::default())
}

fn manifest_path() -> PathBuf {
    let words: Vec<String> = std::env::args().collect();
    let after = words.windows(2).find(|pair| matches!(pair[0].as_str(), "-m" | "--manifest")).map(|pair| &*pair[1]);
    let joined = || words.iter().find_map(|word| word.strip_prefix("--manifest="));
    let named = after.or_else(joined).map(PathBuf::from);
    named.or_else(|| std::env::var_os("PINDREL_MANIFEST").map(PathBuf::from)).unwrap_or("pindrel.toml".into())
}
