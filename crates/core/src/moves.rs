//! Moving a hostname from one endpoint to another, so that no request fails: the new endpoint is ready
//! before the alias leads there, and the old one stays until no cache leads to it any more.

use jiff::Timestamp;

use crate::desired::{Desired, EndpointId, WantedHostname};
use crate::facts::{AliasView, EndpointKey, Ownership};
use crate::records::RecordSet;
use crate::values::Ttl;

/// The TTL of an alias while its hostname moves: what is wrong with the new endpoint can be taken back
/// within a minute.
pub const MOVING_TTL: Ttl = Ttl::MINUTE;

/// Returns the endpoints where Pindrel has bound a hostname and where the manifest no longer wants it.
pub fn former_endpoints<'k>(
    desired: &'k Desired,
    wanted: &'k WantedHostname,
    ownership: &'k Ownership,
) -> impl Iterator<Item = &'k EndpointKey> {
    let is_wanted = |key: &EndpointKey| wanted.endpoints().any(|id| desired.endpoint(id).key() == *key);
    ownership.bindings.keys().filter(move |key| !key.is_unrecorded() && !is_wanted(key))
}

/// The same, as far as the manifest still names them.
pub fn former_endpoint_ids(desired: &Desired, wanted: &WantedHostname, ownership: &Ownership) -> Vec<EndpointId> {
    former_endpoints(desired, wanted, ownership).filter_map(|key| desired.endpoint_at(key)).collect()
}

/// Returns the TTL that the alias should have now.
pub fn alias_ttl(desired: &Desired, wanted: &WantedHostname, ownership: Option<&Ownership>) -> Ttl {
    let moves = ownership.is_some_and(|own| !former_endpoint_ids(desired, wanted, own).is_empty());
    if moves { wanted.ttl.min(MOVING_TTL) } else { wanted.ttl }
}

/// Returns the longest TTL that any server gives an alias.
pub fn longest_ttl(view: &AliasView) -> Option<Ttl> {
    let sets = view.servers.iter().filter_map(|server| server.gives.as_ref().ok()).flatten();
    sets.map(RecordSet::ttl).max()
}

/// Says whether an alias that is about to move is cached for no longer than [`MOVING_TTL`].
pub fn has_low_ttl(view: &AliasView, ownership: &Ownership, now: Timestamp) -> bool {
    let is_low = longest_ttl(view).is_none_or(|ttl| ttl <= MOVING_TTL);
    let is_cached = ownership.former_alias.is_some_and(|former| {
        former.lowered && former.ttl > MOVING_TTL && former.forgotten_at().is_none_or(|at| now < at)
    });
    is_low && !is_cached
}
