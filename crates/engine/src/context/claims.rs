//! What this run works on, claimed before work on it begins.

use std::time::Duration;

use pindrel_core::desired::{CertificateId, HostnameId};
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::plan::{HostnameRef, Work};
use pindrel_state::Claim;

use super::Context;
use crate::failure::{EngineError, state_failed};
use crate::home::leases::{Granted, Held, busy};

/// How long it takes until it is looked again at what another process is working on.
const CLAIM_AGAIN: Duration = Duration::from_millis(500);

impl Context {
    /// Enters this process among those that work on the state.
    pub(crate) async fn enter(&self) -> Result<(), EngineError> {
        Ok(self.leases.enter(&self.command, &self.clock).await?)
    }

    /// Asks for a claim.
    pub(crate) async fn claim(&self, key: &str) -> Result<Granted, Finding> {
        self.leases.claim(key, &self.command, &self.clock).await.map_err(state_failed)
    }

    /// Works on something under a claim on it; what another process is working on is waited for.
    pub(crate) async fn claimed<T>(
        &self,
        key: &str,
        work: impl AsyncFnOnce(&Claim) -> Result<T, Finding>,
    ) -> Result<T, Finding> {
        self.claim_in_time(key).await?.during(work).await
    }

    /// Works on something under a claim on it, unless another process is working on it.
    pub(crate) async fn claimed_if_free(
        &self,
        key: &str,
        work: impl AsyncFnOnce(&Claim) -> Result<(), Finding>,
    ) -> Result<(), Finding> {
        match self.claim(key).await? {
            Granted::Yes(held) => held.during(work).await,
            Granted::HeldBy(_) => Ok(()),
        }
    }

    /// Waits for a claim for as long as the run has patience.
    pub(crate) async fn claim_in_time(&self, key: &str) -> Result<Held, Finding> {
        let begun = self.clock.elapsed();
        loop {
            let released = self.leases.next_release();
            let worker = match self.claim(key).await? {
                Granted::Yes(held) => return Ok(held),
                Granted::HeldBy(worker) => worker,
            };
            if self.clock.elapsed().saturating_sub(begun) >= self.bounds.patience {
                return Err(busy(key, &worker));
            }
            tokio::select! {
                () = released => {}
                () = self.clock.sleep(CLAIM_AGAIN) => {}
            }
        }
    }

    /// The name under which attempts at a piece of work are stored.
    pub(crate) fn work_key(&self, work: Work) -> String {
        let desired = &self.desired;
        let hostname = |id: HostnameId| &desired.hostname(id).hostname;
        let certificate = |id: CertificateId| &desired.certificate(id).name;
        let action = work.action();
        match work {
            Work::Mark(id) => format!("{action} {}", desired.zone(id).name),
            Work::Register(id) => format!("{action} {}", desired.authority(id).directory),
            Work::Rehearse(id) | Work::Issue(id) | Work::Deliver(id) => format!("{action} {}", certificate(id)),
            Work::Store(id, endpoint) => format!("{action} {} {}", certificate(id), desired.endpoint(endpoint).key()),
            Work::Bind(id, endpoint) | Work::Connect(id, endpoint) => {
                format!("{action} {} {}", hostname(id), desired.endpoint(endpoint).key())
            }
            Work::Unbind(whose, endpoint) => {
                format!("{action} {} {}", self.hostname_of(whose), desired.endpoint(endpoint).key())
            }
            Work::RemoveAlias(id) => format!("{action} {}", self.hostname_of(HostnameRef::Retiring(id))),
            Work::LowerTtl(id) | Work::Alias(id) | Work::Answer(id) | Work::RaiseTtl(id) => {
                format!("{action} {}", hostname(id))
            }
        }
    }
}

/// What is claimed by whoever writes a certificate or an order for it, under the name that
/// these are stored under.
pub(crate) fn certificate_claim(name: &str) -> String {
    format!("certificate {name}")
}
