//! What is looked at before an order: whatever would make it fail is better known before
//! an attempt is spent.

use std::collections::HashSet;
use std::sync::Arc;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::certificates::acme::objects::Directory;
use pindrel_core::certificates::caa::{Asking, Permission};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::findings::{AuthorityCause, Finding};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_dns::caa::Servers;

use super::accounts::Account;
use super::challenges::LOOKUPS_AT_ONCE;
use crate::acme::challenges::Challenges;
use crate::context::Context;
use crate::observe::zone::ZoneObserver;

/// What is looked at before an order is asked for: whatever would spend it in vain.
pub(crate) struct Preflight {
    pub(crate) context: Arc<Context>,
    pub(crate) challenges: Arc<Challenges>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Preflight {
    /// Checks that the authority may issue for each name, that challenge records go where
    /// it will see them, and that it offers the profile.
    pub(crate) async fn run(
        &self,
        id: CertificateId,
        authority: AuthorityId,
        account: &Account,
    ) -> Result<(), Finding> {
        let directory = account.authority.directory();
        self.check_profile(id, authority, directory)?;
        let mut zones = HashSet::new();
        for (_, target) in self.challenges.targets(id).await? {
            if zones.insert(target.zone) {
                self.challenges.check_zone(&target).await?;
            }
        }
        for doubt in self.check_caa(id, authority, directory, Some(&account.url)).await? {
            self.context.note(doubt.says());
        }
        Ok(())
    }

    /// Checks that the authority offers the profile.
    pub(crate) fn check_profile(
        &self,
        id: CertificateId,
        authority: AuthorityId,
        directory: &Directory,
    ) -> Result<(), Finding> {
        let terms = self.context.desired.certificate(id).ordered_terms(self.context.desired.authority(authority));
        let Some(profile) = terms.profile else { return Ok(()) };
        let offered = &directory.meta.profiles;
        if offered.contains_key(&profile) {
            return Ok(());
        }
        let offered = offered.keys().cloned().collect();
        let name = &self.context.desired.authority(authority).name;
        Err(Finding::authority(name, AuthorityCause::ProfileNotOffered { profile, offered }))
    }

    /// Looks CAA up as the authority will (RFC 8659, RFC 8657), for each name of a certificate; returns what stays
    /// uncertain, each once.
    pub(crate) async fn check_caa(
        &self,
        id: CertificateId,
        authority: AuthorityId,
        directory: &Directory,
        account: Option<&str>,
    ) -> Result<Vec<Finding>, Finding> {
        let identities = match &directory.meta.caa_identities {
            none if none.is_empty() => &self.context.desired.authority(authority).caa_identities,
            identities => identities,
        };
        let authority = &self.context.desired.authority(authority).name;
        let checks = stream::iter(self.context.desired.certificate(id).names.clone())
            .map(|name| async move { self.check_caa_of(&name, authority, identities, account).await })
            .buffered(LOOKUPS_AT_ONCE);
        let mut doubts: Vec<Finding> = Vec::new();
        for doubt in checks.try_collect::<Vec<_>>().await?.into_iter().flatten() {
            if !doubts.contains(&doubt) {
                doubts.push(doubt);
            }
        }
        Ok(doubts)
    }

    async fn check_caa_of(
        &self,
        name: &Hostname,
        authority: &str,
        identities: &[String],
        account: Option<&str>,
    ) -> Result<Vec<Finding>, Finding> {
        let Some(zone) = self.context.desired.zone_of(name) else { return Ok(Vec::new()) };
        let Ok(base) = name.base().parse::<DnsName>() else { return Ok(Vec::new()) };
        let wanted = self.context.desired.zone(zone);
        let servers = Servers { apex: &wanted.name, zone: &self.zones.servers(zone), parents: &wanted.parents };
        let found =
            self.context.drivers.lookups().caa(&base, servers, &self.zones.resolvers(zone)).await.map_err(|error| {
                Finding::authority(authority, AuthorityCause::CaaUnseen { name: base.to_string(), why: error })
            })?;
        let unseen = found.unseen.map(|(owner, why)| AuthorityCause::CaaUncertain { owner, why });
        let mut doubts: Vec<Finding> = unseen.map(|cause| Finding::authority(authority, cause)).into_iter().collect();
        let Some(set) = found.set else { return Ok(doubts) };
        let asking = Asking { identities, wildcard: name.is_wildcard(), account, method: "dns-01" };
        match set.permits(asking) {
            Ok(Permission::Given) => {}
            Ok(Permission::Unknown { allowed }) => {
                doubts.push(Finding::authority(authority, AuthorityCause::CaaUnnamed { owner: set.owner, allowed }));
            }
            Err(barred) => {
                let forbids = AuthorityCause::CaaForbids {
                    hostname: name.clone(),
                    barred: barred.to_string(),
                    owner: set.owner,
                    identity: identities.first().cloned(),
                };
                return Err(Finding::authority(authority, forbids));
            }
        }
        Ok(doubts)
    }
}
