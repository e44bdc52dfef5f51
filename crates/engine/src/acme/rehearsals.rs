//! Rehearsal: a new set-up is proven at a practice authority before the real one is asked.
//! What is remembered is the set-up (authority, zone, credential, place of the challenge), not
//! the name.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::ChallengeTarget;
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::Hostname;
use pindrel_state::Claim;

use super::orders::OrderRequest;
use crate::acme::accounts::Accounts;
use crate::acme::challenges::Challenges;
use crate::acme::orders::Orders;
use crate::acme::preflight::Preflight;
use crate::context::Context;
use crate::context::progress::Progress;
use crate::failure::{EngineError, state_failed};
use crate::observe::zone::ZoneObserver;

/// Set-ups that are proven at practice authorities.
pub(crate) struct Rehearsals {
    pub(crate) context: Arc<Context>,
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) challenges: Arc<Challenges>,
    pub(crate) orders: Arc<Orders>,
    pub(crate) preflight: Arc<Preflight>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Rehearsals {
    /// Returns, for those of some certificates whose set-up is not proven yet, the first
    /// one of the same set-up: that one is rehearsed for all of them.
    pub(crate) async fn unproven(
        &self,
        ids: &BTreeSet<CertificateId>,
    ) -> Result<HashMap<CertificateId, CertificateId>, EngineError> {
        let rehearsed = |id: &CertificateId| {
            let authority = self.context.desired.certificate(*id).authority;
            authority.is_some_and(|authority| self.context.desired.authority(authority).rehearsal.is_some())
        };
        let looks = stream::iter(ids.iter().copied().filter(rehearsed))
            .map(|id| async move { (id, self.set_ups(id).await) })
            .buffered(self.context.bounds.at_once);
        let looks: Vec<_> = looks.collect().await;
        let mut first: HashMap<BTreeSet<String>, CertificateId> = HashMap::new();
        let mut found = HashMap::new();
        for (id, set_ups) in looks {
            // What cannot be seen is rehearsed: the rehearsal fails first, and says why.
            let set_ups = set_ups.unwrap_or_else(|_| [format!("unseen {}", id.0)].into());
            let mut open = BTreeSet::new();
            for set_up in set_ups {
                if !self.context.state.is_rehearsed(&set_up).await? {
                    open.insert(set_up);
                }
            }
            if !open.is_empty() {
                found.insert(id, *first.entry(open).or_insert(id));
            }
        }
        Ok(found)
    }

    /// The set-ups that issuing a certificate depends on.
    async fn set_ups(&self, id: CertificateId) -> Result<BTreeSet<String>, Finding> {
        let wanted = self.context.desired.certificate(id);
        let Some(authority) = wanted.authority.map(|authority| self.context.desired.authority(authority)) else {
            return Ok(BTreeSet::new());
        };
        let targets = self.challenges.targets(id).await?;
        let set_up = |(name, target): (Hostname, ChallengeTarget)| {
            let zone = self.context.desired.zone(target.zone);
            let own = self
                .context
                .desired
                .zone_of(&name)
                .map_or_else(String::new, |own| self.context.desired.zone(own).name.to_string());
            let servers = self.zones.servers(target.zone);
            let server = servers.first().map_or_else(String::new, ToString::to_string);
            let credential = zone.driver.credential();
            let how = if target.owner == name.challenge_name() { "direct" } else { "delegated" };
            format!("{} | {own} | {how} {} at {server} | {credential}", authority.directory, zone.name)
        };
        Ok(targets.into_iter().map(set_up).collect())
    }

    /// Issues at the practice authority, and remembers the set-up. What is issued there is
    /// verified and thrown away.
    pub(crate) async fn run(&self, id: CertificateId, claim: &Claim) -> Result<Progress, Finding> {
        let real =
            self.context.desired.certificate(id).authority.map(|authority| self.context.desired.authority(authority));
        let Some(practice) = real.and_then(|authority| authority.rehearsal) else { return Ok(Progress::Done) };
        let account = self.accounts.account(practice).await?;
        if let Err(finding) =
            self.preflight.check_caa(id, practice, account.authority.directory(), Some(&account.url)).await
        {
            let name = &self.context.desired.authority(practice).name;
            self.context.note(format!("the rehearsal at {name} is skipped: {}", finding.says()));
            return Ok(Progress::Done);
        }
        let request = OrderRequest { certificate: id, authority: practice, rehearsal: true };
        let progress = self.orders.order(&request, claim).await?;
        if progress == Progress::Done {
            let set_ups: Vec<String> = self.set_ups(id).await?.into_iter().collect();
            self.context.state.persist_rehearsed(&set_ups, self.context.clock.now()).await.map_err(state_failed)?;
        }
        Ok(progress)
    }
}
