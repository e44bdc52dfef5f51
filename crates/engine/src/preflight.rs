//! What is looked at before an order: whatever would make it fail is better known before
//! an attempt is spent.

use std::collections::HashSet;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::caa::Asking;
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::name::{DnsName, Hostname};
use pindrel_dns::caa;

use crate::account::Account;
use crate::error::StepFailure;
use crate::{Engine, LOOKUPS_AT_ONCE};

impl Engine {
    /// Checks that the authority may issue for each name, that challenge records go where
    /// it will see them, and that it offers the profile.
    pub(crate) async fn preflight(
        &self,
        id: CertificateId,
        authority: AuthorityId,
        account: &Account,
    ) -> Result<(), StepFailure> {
        self.check_profile(id, authority, account)?;
        let mut zones = HashSet::new();
        for (_, place) in self.challenge_places(id).await? {
            if zones.insert(place.zone) {
                self.check_challenge_zone(&place).await?;
            }
        }
        self.check_caa(id, account).await
    }

    /// The profile that is ordered: the certificate's own, else the authority's.
    pub(crate) fn profile(&self, id: CertificateId, authority: AuthorityId) -> Option<&str> {
        let own = self.desired.certificate(id).terms.profile.as_deref();
        own.or(self.desired.authority(authority).profile.as_deref())
    }

    fn check_profile(&self, id: CertificateId, authority: AuthorityId, account: &Account) -> Result<(), StepFailure> {
        let Some(profile) = self.profile(id, authority) else { return Ok(()) };
        let offered = &account.authority.directory().meta.profiles;
        if offered.contains_key(profile) {
            return Ok(());
        }
        let directory = &self.desired.authority(authority).directory;
        let says = format!("{directory} offers no profile \"{profile}\"");
        let remedy = match offered.keys().map(String::as_str).collect::<Vec<_>>().join(", ") {
            none if none.is_empty() => "take profile away: it offers none at all".to_owned(),
            offered => format!("choose one that it offers: {offered}"),
        };
        Err(StepFailure::new(says, remedy))
    }

    /// Looks CAA up as the authority will (RFC 8659, RFC 8657), for each name of a
    /// certificate. An authority that does not say how it is called in CAA records cannot
    /// be checked.
    pub(crate) async fn check_caa(&self, id: CertificateId, account: &Account) -> Result<(), StepFailure> {
        let checks = stream::iter(self.desired.certificate(id).names.clone())
            .map(|name| async move { self.check_caa_of(&name, account).await })
            .buffered(LOOKUPS_AT_ONCE);
        checks.try_collect().await
    }

    async fn check_caa_of(&self, name: &Hostname, account: &Account) -> Result<(), StepFailure> {
        let identities = &account.authority.directory().meta.caa_identities;
        let Some(zone) = self.desired.zone_of(name) else { return Ok(()) };
        let Ok(base) = name.base().parse::<DnsName>() else { return Ok(()) };
        if identities.is_empty() {
            return Ok(());
        }
        let wanted = self.desired.zone(zone);
        let servers = caa::Servers {
            apex: &wanted.name,
            zone: &self.zone_servers(zone),
            parents: &wanted.parents,
            resolvers: self.world.resolvers(&self.desired, zone),
        };
        let found = self.caa.set(&base, servers).await.map_err(|error| {
            let says =
                format!("the CAA records of {base} cannot be looked up ({error}), and an authority would not issue");
            StepFailure::new(says, "see that the zone's servers answer, then run settle again")
        })?;
        let Some(set) = found else { return Ok(()) };
        let asking = Asking { identities, wildcard: name.is_wildcard(), account: Some(&account.url), method: "dns-01" };
        set.permits(asking).map_err(|barred| {
            let identity = identities.first().map_or("", String::as_str);
            let tag = if name.is_wildcard() { "issuewild" } else { "issue" };
            let remedy = format!("add to {}: CAA 0 {tag} \"{identity}\"; or choose another authority", set.owner);
            StepFailure::new(format!("{name} cannot be certified: {barred}"), remedy)
        })
    }
}
