//! Taking over what other processes have done since this run looked: a step goes by what is stored once it has its claim.

use std::sync::Arc;

use pindrel_core::desired::{CertificateId, HostnameId};
use pindrel_core::judging::facts::RetiringId;
use pindrel_core::judging::findings::Finding;
use pindrel_core::judging::pins::PinState;
use pindrel_core::planning::plan::{HostnameRef, Work};

use crate::acme::rehearsals::Rehearsals;
use crate::context::Context;
use crate::failure::state_failed;
use crate::home::certificates::Certificates;

/// What others have stored of a thing before its step begins.
pub(crate) struct CatchUp {
    pub(crate) context: Arc<Context>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) rehearsals: Arc<Rehearsals>,
}

impl CatchUp {
    /// Reads again what a piece of work depends on; says whether another process has done it already.
    pub(crate) async fn catch_up(&self, work: Work) -> Result<bool, Finding> {
        match work {
            Work::Mark(_) | Work::Register(_) => {}
            Work::Rehearse(id) => return Ok(self.rehearsals.unproven(&[id].into()).await?.is_empty()),
            Work::Issue(id) => {
                let is_another = self.reload_certificate(id).await?;
                let is_held = || self.context.judge_certificate(id, self.context.clock.now()).state == PinState::Held;
                return Ok(is_another && is_held());
            }
            Work::Deliver(id) | Work::Store(id, _) => drop(self.reload_certificate(id).await?),
            Work::Bind(id, _)
            | Work::Connect(id, _)
            | Work::Alias(id)
            | Work::Answer(id)
            | Work::LowerTtl(id)
            | Work::RaiseTtl(id)
            | Work::Unbind(HostnameRef::Wanted(id), _) => self.reload_hostname(id).await?,
            Work::RemoveAlias(id) | Work::Unbind(HostnameRef::Retiring(id), _) => self.reload_retiring(id).await?,
        }
        Ok(false)
    }

    /// Reads a certificate again; says whether it is another one than was known.
    async fn reload_certificate(&self, id: CertificateId) -> Result<bool, Finding> {
        let row =
            self.context.state.certificate(&self.context.desired.certificate(id).name).await.map_err(state_failed)?;
        let Some(row) = row else { return Ok(false) };
        let is_another = self.context.held_certificate(id).is_none_or(|held| held.sha256 != row.held.sha256);
        if is_another {
            self.certificates.know(id, row).await;
        }
        Ok(is_another)
    }

    async fn reload_hostname(&self, id: HostnameId) -> Result<(), Finding> {
        self.reload_certificate(self.context.desired.hostname(id).certificate).await?;
        let stored =
            self.context.state.hostname(&self.context.desired.hostname(id).hostname).await.map_err(state_failed)?;
        if let Some(stored) = stored {
            self.context.known().hostnames.entry(id).or_default().catch_up(stored.into_known());
        }
        Ok(())
    }

    async fn reload_retiring(&self, id: RetiringId) -> Result<(), Finding> {
        let hostname = self.context.known().retiring(id).hostname.clone();
        let stored = self.context.state.hostname(&hostname).await.map_err(state_failed)?;
        if let Some(stored) = stored {
            self.context.known().retiring[id.0 as usize].known.catch_up(stored.into_known());
        }
        Ok(())
    }
}
