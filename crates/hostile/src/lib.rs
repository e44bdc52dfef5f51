//! What comes from outside, torn and hostile, given to what reads it: each [`Target`] takes any octets, panics where what
//! it promises does not hold, and knows a few inputs to start from.
//!
//! `fuzz/` runs them under coverage guidance; `tests/mutations.rs` runs the same ones with the stable toolchain.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the run")]

mod authority;
mod certificates;
mod manifest;
mod peers;
mod zone_file;

/// What reads one kind of input.
#[derive(Debug, Clone, Copy)]
pub struct Target {
    /// Its name, as in `fuzz/fuzz_targets`.
    pub name: &'static str,
    /// Reads an input.
    pub run: fn(&[u8]),
    /// Makes inputs that are right, or nearly so.
    pub seeds: fn() -> Vec<Vec<u8>>,
}

/// All targets.
pub const TARGETS: [Target; 10] = [
    Target { name: "manifest", run: manifest::run, seeds: manifest::seeds },
    Target { name: "included_files", run: manifest::run_included, seeds: manifest::seeds_of_included },
    Target { name: "zone_file", run: zone_file::run, seeds: zone_file::seeds },
    Target { name: "dns_replies", run: peers::dns_replies, seeds: peers::seeds_of_dns },
    Target { name: "authority", run: authority::run, seeds: authority::seeds },
    Target { name: "platform", run: pindrel_edge::hostile::platform, seeds: peers::seeds_of_platform },
    Target { name: "programs", run: peers::programs, seeds: peers::seeds_of_programs },
    Target { name: "name_server_api", run: peers::name_server_api, seeds: peers::seeds_of_api },
    Target { name: "balancer", run: pindrel_edge::hostile::balancer, seeds: peers::seeds_of_balancer },
    Target { name: "certificate_files", run: certificates::run, seeds: certificates::seeds },
];

/// Runs the target of that name.
///
/// # Panics
/// Where there is none, or where it does not hold what it promises.
pub fn run(name: &str, input: &[u8]) {
    let target = TARGETS.iter().find(|target| target.name == name).unwrap_or_else(|| panic!("no target {name}"));
    (target.run)(input);
}

fn texts(texts: &[&str]) -> Vec<Vec<u8>> {
    texts.iter().map(|text| text.as_bytes().to_vec()).collect()
}
