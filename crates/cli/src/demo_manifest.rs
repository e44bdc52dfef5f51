//! The demo's manifest, for whichever network the sandbox has.

use pindrel_sandbox::{DEFAULT_NET, Listing};

/// The manifest, written for the sandbox's first network.
const MANIFEST: &str = include_str!("../../../demo/pindrel.toml");

/// The demo's manifest for a sandbox: another one may have the first network.
pub(crate) fn manifest(listing: &Listing) -> String {
    for_net(MANIFEST, listing)
}

/// What is written for the first network, for that of a sandbox.
pub(crate) fn for_net(text: &str, listing: &Listing) -> String {
    text.replace(&format!("{DEFAULT_NET}."), &format!("{}.", listing.net))
}
