//! The last attempt at each piece of work: what was tried, how it ended, and when the next
//! one is worth making.

use std::collections::HashMap;
use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, Desired, EndpointId, HostnameId};
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::plan::{HostnameRef, Work};
use pindrel_state::{Attempt, AttemptEnd};

use crate::context::Context;
use crate::failure::EngineError;

/// The last attempt at something that a hostname or a certificate needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LastAttempt {
    /// When it ended.
    pub at: Timestamp,
    /// What was done, as in `issue`.
    pub action: String,
    /// How it ended.
    pub ended: AttemptEnd,
    /// What went wrong, or what is waited for.
    pub finding: Option<Finding>,
    /// When the next attempt is worth making, where that is known.
    pub next: Option<Timestamp>,
}

impl From<Attempt> for LastAttempt {
    fn from(attempt: Attempt) -> LastAttempt {
        let Attempt { action, at, ended, finding, next, .. } = attempt;
        LastAttempt { at, action, ended, finding, next }
    }
}

/// All work that may have to be done for a certificate.
fn works_of_certificate(id: CertificateId, desired: &Desired) -> Vec<Work> {
    let authority = desired.certificate(id).authority;
    let practice = authority.and_then(|authority| desired.authority(authority).rehearsal);
    let mut works: Vec<Work> = authority.into_iter().chain(practice).map(Work::Register).collect();
    works.extend(practice.map(|_| Work::Rehearse(id)));
    works.extend([Work::Issue(id), Work::Deliver(id)]);
    works
}

/// All work that may have to be done for a hostname, bound until now at the endpoints `former` also.
fn works_of_hostname(id: HostnameId, desired: &Desired, former: Vec<EndpointId>) -> Vec<Work> {
    let wanted = desired.hostname(id);
    let mut works = works_of_certificate(wanted.certificate, desired);
    for endpoint in wanted.endpoints() {
        works.extend([
            Work::Store(wanted.certificate, endpoint),
            Work::Bind(id, endpoint),
            Work::Connect(id, endpoint),
        ]);
    }
    works.extend([Work::Mark(wanted.zone), Work::LowerTtl(id), Work::Alias(id), Work::Answer(id), Work::RaiseTtl(id)]);
    works.extend(former.into_iter().map(|endpoint| Work::Unbind(HostnameRef::Wanted(id), endpoint)));
    works
}

/// Which attempt is shown of several: the newest that did not succeed, else the newest.
fn most_telling(attempts: impl Iterator<Item = Attempt>) -> Option<Attempt> {
    attempts.max_by_key(|attempt| (attempt.ended != AttemptEnd::Done, attempt.at))
}

/// The last attempts at steps.
pub(crate) struct Attempts {
    pub(crate) context: Arc<Context>,
}

impl Attempts {
    /// The last attempt of each of some hostnames, where there is any.
    pub(crate) async fn last(&self, ids: &[HostnameId]) -> Result<HashMap<HostnameId, LastAttempt>, EngineError> {
        let works = ids
            .iter()
            .map(|id| (*id, works_of_hostname(*id, &self.context.desired, self.context.former_endpoints_of(*id))));
        self.attempts_of(works).await
    }

    /// The last attempt of each of some certificates, where there is any.
    pub(crate) async fn last_of_certificates(
        &self,
        ids: &[CertificateId],
    ) -> Result<HashMap<CertificateId, LastAttempt>, EngineError> {
        let works = ids.iter().map(|id| (*id, works_of_certificate(*id, &self.context.desired)));
        self.attempts_of(works).await
    }

    async fn attempts_of<T: Copy + Eq + std::hash::Hash>(
        &self,
        works: impl Iterator<Item = (T, Vec<Work>)>,
    ) -> Result<HashMap<T, LastAttempt>, EngineError> {
        let keys: Vec<(T, Vec<String>)> = works
            .map(|(id, works)| (id, works.into_iter().map(|work| self.context.work_key(work)).collect()))
            .collect();
        let mut asked: Vec<String> = keys.iter().flat_map(|(_, keys)| keys.iter().cloned()).collect();
        asked.sort_unstable();
        asked.dedup();
        let found = self.context.state.attempts(&asked).await?;
        let found: HashMap<String, Attempt> =
            found.into_iter().map(|attempt| (attempt.work.clone(), attempt)).collect();
        let last = keys.into_iter().filter_map(|(id, keys)| {
            let own = keys.iter().filter_map(|key| found.get(key).cloned());
            most_telling(own).map(|attempt| (id, attempt.into()))
        });
        Ok(last.collect())
    }
}
