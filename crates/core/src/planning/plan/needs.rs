//! What must hold before a piece of work.

use super::{HostnameRef, Work};
use crate::desired::{Desired, EndpointId, HostnameId};
use crate::judging::facts::{EndpointView, Knowledge};
use crate::judging::pins::Known;
use crate::planning::moves::former_endpoint_ids;

/// Returns the work that must be done, or be unnecessary, before `work` can begin.
///
/// | work | needs first |
/// | --- | --- |
/// | `Mark`, `Register` | – |
/// | `Rehearse` | `Register` at both authorities |
/// | `Issue` | `Rehearse` where the set-up is not proven, `Register` |
/// | `Deliver`, `Store` | `Issue` |
/// | `Bind` | `Store`, unless the platform issues the certificate |
/// | `Connect` | `Bind`; at a static endpoint `Deliver` |
/// | `Alias` | `Connect` at every endpoint that it is to give; in a move `LowerTtl` |
/// | `Answer` | `Alias` |
///
/// At an endpoint that wants the alias first, `Alias` needs `Store`, `Bind` needs `Alias` as well, and
/// `Answer` needs `Connect`.
///
/// | work | needs first |
/// | --- | --- |
/// | `Unbind` | in a move `Answer`, at a retirement `RemoveAlias` |
/// | `RaiseTtl` | `Unbind` at every former endpoint |
///
/// Elsewhere `Deliver` is nobody's need: a command that fails stops no endpoint.
pub fn needs(work: Work, desired: &Desired, knowledge: &Knowledge) -> Vec<Work> {
    match work {
        Work::Mark(_) | Work::Register(_) => Vec::new(),
        Work::Rehearse(id) => {
            let authority = desired.certificate(id).authority;
            let practice = authority.and_then(|authority| desired.authority(authority).rehearsal);
            practice.into_iter().chain(authority).map(Work::Register).collect()
        }
        Work::Issue(id) => {
            let rehearsal = knowledge.unproven.get(&id).map(|proving| Work::Rehearse(*proving));
            rehearsal.into_iter().chain(desired.certificate(id).authority.map(Work::Register)).collect()
        }
        Work::Deliver(id) | Work::Store(id, _) => vec![Work::Issue(id)],
        Work::Bind(hostname, endpoint) => {
            let wanted = desired.hostname(hostname);
            let store = Work::Store(wanted.certificate, endpoint);
            let stored = (!wanted.is_issued_by_platform(desired)).then_some(store);
            let led = wants_alias_first(endpoint, knowledge).then_some(Work::Alias(hostname));
            stored.into_iter().chain(led).collect()
        }
        // What somebody else configures takes the certificate out of its files.
        Work::Connect(hostname, endpoint) if desired.endpoint(endpoint).is_static() => {
            vec![Work::Deliver(desired.hostname(hostname).certificate)]
        }
        Work::Connect(hostname, endpoint) => vec![Work::Bind(hostname, endpoint)],
        Work::Alias(hostname) => {
            let wanted = desired.hostname(hostname);
            // One that is not given stands in nobody's way.
            let given = Known::about(desired, knowledge, hostname).given();
            let ready = given.into_iter().filter_map(|endpoint| {
                let is_first = wants_alias_first(endpoint, knowledge);
                let stored = !wanted.is_issued_by_platform(desired);
                match is_first {
                    true => stored.then_some(Work::Store(wanted.certificate, endpoint)),
                    false => Some(Work::Connect(hostname, endpoint)),
                }
            });
            ready.chain(is_about_to_move(hostname, desired, knowledge).then_some(Work::LowerTtl(hostname))).collect()
        }
        Work::LowerTtl(_) | Work::RemoveAlias(_) => Vec::new(),
        Work::Unbind(HostnameRef::Wanted(hostname), _) => vec![Work::Answer(hostname)],
        Work::Unbind(HostnameRef::Retiring(id), _) => vec![Work::RemoveAlias(id)],
        Work::RaiseTtl(hostname) => {
            let unbind = |endpoint| Work::Unbind(HostnameRef::Wanted(hostname), endpoint);
            let own = knowledge.hostnames.get(&hostname).map(|own| &own.ownership);
            let former = own.map(|own| former_endpoint_ids(desired, desired.hostname(hostname), own));
            former.into_iter().flatten().map(unbind).collect()
        }
        Work::Answer(hostname) => {
            let given = Known::about(desired, knowledge, hostname).given();
            let late = given.into_iter().filter(|id| wants_alias_first(*id, knowledge));
            let late = late.map(|endpoint| Work::Connect(hostname, endpoint));
            std::iter::once(Work::Alias(hostname)).chain(late).collect()
        }
    }
}

/// Says whether an endpoint binds a hostname only once its alias leads there.
fn wants_alias_first(id: EndpointId, knowledge: &Knowledge) -> bool {
    matches!(knowledge.endpoints.get(&id).map(|fact| &fact.value), Some(EndpointView::Listed(info)) if info.alias_first)
}

/// Says whether the alias of a hostname is Pindrel's own and leads to an endpoint that it is to leave.
fn is_about_to_move(id: HostnameId, desired: &Desired, knowledge: &Knowledge) -> bool {
    let known = Known::about(desired, knowledge, id);
    let Some((ownership, alias)) = known.ownership.zip(known.alias) else { return false };
    let moves = crate::planning::moves::former_endpoints(desired, known.wanted, ownership).next().is_some();
    let first = alias.value.servers.first().and_then(|server| server.gives.as_ref().ok());
    let is_own = !desired.is_handed_off(known.wanted.zone);
    moves && is_own && !known.is_aliased_as_wanted() && first.is_some_and(|sets| ownership.wrote_alias(sets))
}
