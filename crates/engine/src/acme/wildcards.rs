//! Names that a wildcard answers, kept answered while something is put below them.
//!
//! A challenge record at `_acme-challenge.live.example` makes `live.example` a name that exists, with
//! nothing at it: from then on `*.example` no longer answers there (RFC 4592 §2.2.2), and resolvers
//! keep that answer. So before the record is put, such a name gets records of its own.

use pindrel_core::desired::ZoneId;
use pindrel_core::judging::findings::{ChallengeFault, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::Known;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, ZoneChange, in_words, same_data};
use pindrel_dns::ZoneError;
use pindrel_state::Claim;

use crate::acme::challenges::{Challenges, misplaced};

impl Challenges {
    /// Makes sure that every name above `owner` which a wildcard answers has records of its own.
    pub(crate) async fn keep_answered(&self, zone: ZoneId, owner: &DnsName, claim: &Claim) -> Result<(), Finding> {
        let servers = self.zones.servers(zone);
        let (Some(first), apex) = (servers.first().copied(), &self.context.desired.zone(zone).name) else {
            return Ok(());
        };
        let mut above = owner.parent();
        while let Some(name) = above.filter(|name| name != apex && name.is_within(apex)) {
            let view = self.context.drivers.lookups().alias(&[first], &name, AliasPlace::Name).await;
            let Some(Ok(gives)) = view.servers.into_iter().next().map(|server| server.gives) else { return Ok(()) };
            if gives.is_empty() {
                return Ok(());
            }
            // What has records of its own exists, and so does all above it.
            let Some(wildcard) = self.aliases.wildcard_beside(first, &name, apex, &gives).await else { return Ok(()) };
            self.copy_wildcard(zone, &name, &wildcard, gives, claim).await?;
            above = name.parent();
        }
        Ok(())
    }

    async fn copy_wildcard(
        &self,
        zone: ZoneId,
        name: &DnsName,
        wildcard: &DnsName,
        gives: Vec<RecordSet>,
        claim: &Claim,
    ) -> Result<(), Finding> {
        let is_other = |set: &RecordSet| set.data().iter().any(|data| matches!(data, RecordData::Other { .. }));
        let id =
            self.context.desired.hostname_ids().find(|id| self.context.desired.hostname(*id).hostname.owner() == *name);
        let Some(id) = id.filter(|_| !gives.iter().any(is_other)) else {
            let hidden =
                ChallengeFault::WildcardHidden { wildcard: wildcard.clone(), name: name.clone(), records: gives };
            return Err(misplaced(name, hidden));
        };
        self.surveyor.load_once(id).await?;
        // Where that is what the manifest wants anyway, it is made as the manifest wants it.
        let alias = Known::about(&self.context.desired, &self.context.known(), id).manifest_alias();
        let gives = alias.filter(|alias| same_data(alias, &gives)).unwrap_or(gives);
        let before =
            self.context.known().hostnames.get(&id).map(|known| known.ownership.alias.clone()).unwrap_or_default();
        let driver = self.context.drivers.zone(self.context.desired.zone(zone), &self.zones.servers(zone))?;
        // Nothing expected: the name must not be in use, so that a wildcard is all that answers it.
        let change =
            NameChange { owner: name.clone(), expected: Vec::new(), wanted: gives.clone(), place: AliasPlace::Name };
        let detail = format!("{} as {wildcard} has it", in_words(&gives));
        self.context
            .journalled("wildcard-copy", name.as_str(), &detail, async {
                self.hostnames.record_ownership(claim, id, |own| own.intend_alias(&[], gives.clone())).await?;
                match driver.change(&ZoneChange::Replace(change)).await {
                    Ok(()) => Ok(self.hostnames.record_ownership(claim, id, |own| own.alias.confirm()).await?),
                    // It has the same records of its own already, and they are someone else's.
                    Err(ZoneError::Changed { .. }) => {
                        Ok(self.hostnames.record_ownership(claim, id, |own| own.alias = before.clone()).await?)
                    }
                    Err(error) => Err(error.finding(Pin::Certificate)),
                }
            })
            .await
    }
}
