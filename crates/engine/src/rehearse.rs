//! Rehearsal: a new set-up is proven at a practice authority before the real one hears
//! of it. What is remembered is the set-up (authority, zone, credential, place of the
//! challenge), not the name.

use std::collections::{BTreeSet, HashMap};

use futures::StreamExt as _;
use futures::stream;
use jiff::Timestamp;
use pindrel_core::desired::CertificateId;
use pindrel_core::name::Hostname;

use crate::error::{EngineError, StepFailure};
use crate::issue::Ordering;
use crate::{Engine, Event};

impl Engine {
    /// Returns, for those of some certificates whose set-up is not proven yet, the first
    /// one of the same set-up: that one is rehearsed for all of them.
    pub(crate) async fn rehearsals(
        &self,
        ids: &BTreeSet<CertificateId>,
    ) -> Result<HashMap<CertificateId, CertificateId>, EngineError> {
        let rehearsed = |id: &CertificateId| {
            let authority = self.desired.certificate(*id).authority;
            authority.is_some_and(|authority| self.desired.authority(authority).rehearsal.is_some())
        };
        let looks = stream::iter(ids.iter().copied().filter(rehearsed))
            .map(|id| async move { (id, self.set_ups(id).await) })
            .buffered(self.at_once);
        let looks: Vec<_> = looks.collect().await;
        let mut first: HashMap<BTreeSet<String>, CertificateId> = HashMap::new();
        let mut found = HashMap::new();
        for (id, set_ups) in looks {
            // What cannot be seen is rehearsed: the rehearsal fails first, and says why.
            let set_ups = set_ups.unwrap_or_else(|_| [format!("unseen {}", id.0)].into());
            let mut open = BTreeSet::new();
            for set_up in set_ups {
                if !self.state.is_rehearsed(&set_up)? {
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
    async fn set_ups(&self, id: CertificateId) -> Result<BTreeSet<String>, StepFailure> {
        let wanted = self.desired.certificate(id);
        let Some(authority) = wanted.authority.map(|authority| self.desired.authority(authority)) else {
            return Ok(BTreeSet::new());
        };
        let places = self.challenge_places(id).await?;
        let set_up = |(name, place): (Hostname, crate::challenge::Place)| {
            let zone = self.desired.zone(place.zone);
            let own =
                self.desired.zone_of(&name).map_or_else(String::new, |own| self.desired.zone(own).name.to_string());
            let servers = self.zone_servers(place.zone);
            let server = servers.first().map_or_else(String::new, ToString::to_string);
            let credential = format!("{} {:?} {}", zone.tsig.name, zone.tsig.algorithm, zone.tsig.secret);
            let how = if place.owner == name.challenge_name() { "direct" } else { "delegated" };
            format!("{} | {own} | {how} {} at {server} | {credential}", authority.directory, zone.name)
        };
        Ok(places.into_iter().map(set_up).collect())
    }

    /// Issues at the practice authority, and remembers the set-up. What is issued there is
    /// verified and thrown away.
    pub(crate) async fn rehearse(&self, id: CertificateId, hostname: &Hostname) -> Result<(), StepFailure> {
        let real = self.desired.certificate(id).authority.map(|authority| self.desired.authority(authority));
        let Some(practice) = real.and_then(|authority| authority.rehearsal) else { return Ok(()) };
        let account = self.account(practice).await?;
        if let Err(failure) = self.check_caa(id, &account).await {
            let called = &self.desired.authority(practice).name;
            let says = format!("the rehearsal at {called} is skipped: {}", failure.says);
            self.listener.on(Event::Note { says });
            return Ok(());
        }
        let ordering = Ordering { certificate: id, authority: practice, hostname: hostname.clone(), rehearsal: true };
        self.order(&ordering, &account).await?;
        let now = Timestamp::now();
        for set_up in self.set_ups(id).await? {
            self.state.keep_rehearsed(&set_up, now)?;
        }
        Ok(())
    }
}
