//! What must hold before a piece of work.

use super::Work;
use crate::desired::Desired;
use crate::facts::Knowledge;

/// Returns the work that must be done, or be unnecessary, before `work` can begin.
///
/// | work | needs first |
/// | --- | --- |
/// | `Register` | – |
/// | `Rehearse` | `Register` at both authorities |
/// | `Issue` | `Rehearse` where the set-up is not proven, `Register` |
/// | `Deliver`, `Store` | `Issue` |
/// | `Bind` | `Store` |
/// | `Connect` | `Bind`; at a static endpoint `Deliver` |
/// | `Alias` | `Connect` at every endpoint that it may give |
/// | `Answer` | `Alias` |
///
/// Elsewhere `Deliver` is nobody's need: a command that fails stops no endpoint.
pub fn needs(work: Work, desired: &Desired, knowledge: &Knowledge) -> Vec<Work> {
    match work {
        Work::Register(_) => Vec::new(),
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
        Work::Bind(hostname, endpoint) => vec![Work::Store(desired.hostname(hostname).certificate, endpoint)],
        // What somebody else configures takes the certificate out of its files.
        Work::Connect(hostname, endpoint) if desired.endpoint(endpoint).is_static() => {
            vec![Work::Deliver(desired.hostname(hostname).certificate)]
        }
        Work::Connect(hostname, endpoint) => vec![Work::Bind(hostname, endpoint)],
        Work::Alias(hostname) => {
            desired.hostname(hostname).endpoints().map(|endpoint| Work::Connect(hostname, endpoint)).collect()
        }
        Work::Answer(hostname) => vec![Work::Alias(hostname)],
    }
}
