//! Alias records, as every authoritative server gives them.

use std::net::SocketAddr;
use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::{HostnameId, ZoneId};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::judging::facts::{AliasView, Fact, SampleAnswer, ServerRecords, Unreachable};
use pindrel_core::judging::pins::Known;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{AliasPlace, RecordData, RecordSet, RecordType, same_data};
use pindrel_core::zones::zone_data::{NameKey, TypeCode, rdata};
use pindrel_dns::lookup::Resolved;

use crate::context::Context;
use crate::observe::binding::BindingObserver;
use crate::observe::zone::ZoneObserver;

/// Where clients of a hostname connect that somebody else serves.
const HTTPS_PORT: u16 = 443;

/// Looks at aliases, on every server of their zones.
pub(crate) struct AliasObserver {
    pub(crate) context: Arc<Context>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl AliasObserver {
    pub(crate) async fn observe(&self, id: HostnameId) -> Fact<AliasView> {
        let wanted = self.context.desired.hostname(id);
        let (owner, at_apex) = (wanted.hostname.owner(), wanted.is_apex(&self.context.desired));
        let mut value = self.view(wanted.zone, &owner).await;
        // What is wanted, or Pindrel's own, needs no explanation.
        let is_known = self.is_aliased(id, &value).unwrap_or(true);
        if let Some(ServerRecords { server, gives: Ok(gives) }) = value.servers.first()
            && !(is_known || at_apex || gives.is_empty())
        {
            let own = self.context.known().hostnames.get(&id).is_some_and(|known| known.ownership.wrote_alias(gives));
            let apex = &self.context.desired.zone(wanted.zone).name;
            if !own {
                let target = alias_target(gives);
                if value.dname.is_none() {
                    value.wildcard = self.wildcard_beside(*server, &owner, apex, gives).await;
                }
                value.dangling = match target {
                    Some(target) => self.zones.missing(wanted.zone, target).await,
                    None => None,
                };
                if value.wildcard.is_none() {
                    value.leads = self.leads_of(id, gives).await;
                    value.since = self.foreign_since(id, gives);
                    value.dependents = self.zones.dependents_of(id).await;
                }
            }
        }
        Fact { seen: self.context.clock.now(), value }
    }

    /// Since when the records of somebody else are seen as they are.
    fn foreign_since(&self, id: HostnameId, gives: &[RecordSet]) -> Option<Timestamp> {
        let known = self.context.known();
        let before = known.hostnames.get(&id).and_then(|known| known.facts.alias.as_ref());
        let same = |fact: &&Fact<AliasView>| {
            let first = fact.value.servers.first().and_then(|server| server.gives.as_ref().ok());
            first.is_some_and(|first| same_data(first, gives))
        };
        let since = before.filter(same).map(|fact| fact.value.since.unwrap_or(fact.seen));
        Some(since.unwrap_or_else(|| self.context.clock.now()))
    }

    /// Looks what answers under a hostname where the records of somebody else lead: whether anybody still needs them.
    async fn leads_of(&self, id: HostnameId, gives: &[RecordSet]) -> Option<SampleAnswer> {
        let wanted = self.context.desired.hostname(id);
        let mut address = gives.iter().flat_map(RecordSet::data).find_map(RecordData::address);
        if let (None, Some(target)) = (address, alias_target(gives)) {
            let resolver = self.zones.resolvers(wanted.zone).into_iter().next()?;
            address = match self.context.drivers.lookups().resolve(&resolver, &target).await {
                Resolved::Addresses { addresses, .. } => addresses.first().copied(),
                Resolved::Nothing { .. } => None,
            };
        }
        let address = SocketAddr::new(address?, HTTPS_PORT);
        let outcome = self.bindings.answer_under(&wanted.probed_as.owner(), address).await?;
        Some(SampleAnswer { address, sample: Expectation::at("/"), outcome })
    }

    /// Returns what every server of a zone gives as the alias of a name.
    pub(crate) async fn view(&self, zone: ZoneId, owner: &DnsName) -> AliasView {
        let place = self.place(zone, owner);
        let mut view = self.context.drivers.lookups().alias(&self.zones.servers(zone), owner, place).await;
        if self.context.desired.zone(zone).driver.knows_alias() {
            match self.resolved_by_server(zone, owner).await {
                Ok(None) => {}
                Ok(Some(alias)) => {
                    // What its servers give in its place is theirs to find out.
                    for ServerRecords { gives, .. } in &mut view.servers {
                        if let Ok(sets) = gives
                            && !sets.is_empty()
                        {
                            sets.retain(|set| set.record_type() == RecordType::Https);
                            sets.push(alias.clone());
                        }
                    }
                }
                Err(why) => {
                    if let Some(first) = view.servers.first_mut() {
                        first.gives = Err(why);
                    }
                }
            }
        }
        view
    }

    /// Where the alias of a name stands. An HTTPS record beside it is Pindrel's where the manifest wants it, or where
    /// Pindrel made it.
    pub(crate) fn place(&self, zone: ZoneId, owner: &DnsName) -> AliasPlace {
        if self.context.desired.zone(zone).name != *owner {
            return AliasPlace::Name;
        }
        let known = self.context.known();
        let wanted = self
            .context
            .desired
            .hostname_ids()
            .find(|id| self.context.desired.hostname(*id).hostname.owner() == *owner);
        if let Some(id) = wanted {
            return Known::about(&self.context.desired, &known, id).alias_place();
        }
        let retiring = known.retiring.iter().find(|retiring| retiring.hostname.owner() == *owner);
        let has_https = retiring.is_some_and(|retiring| retiring.known.ownership.made_https());
        if has_https { AliasPlace::ApexWithHttps } else { AliasPlace::Apex }
    }

    /// Returns the ALIAS record of a name, which no server gives as such: only who changes the zone knows of it.
    async fn resolved_by_server(&self, zone: ZoneId, owner: &DnsName) -> Result<Option<RecordSet>, Unreachable> {
        let not_asked = |detail: String| Unreachable::NotAsked { detail };
        let driver = self.zones.driver(zone, None).await.map_err(|finding| not_asked(finding.says()))?;
        let read =
            driver.read_names(std::slice::from_ref(owner)).await.map_err(|error| not_asked(error.to_string()))?;
        let own = NameKey::from(owner);
        let alias = read.at(&own).find(|entry| entry.code == TypeCode::ALIAS);
        Ok(alias.and_then(|entry| {
            let target = rdata::target(entry.code, entry.data)?.to_dns_name()?;
            let ttl = Ttl::try_from(entry.ttl).unwrap_or(Ttl::ZERO);
            RecordSet::group([(ttl, RecordData::Alias(target))]).pop()
        }))
    }

    /// Returns the wildcard above a name that gives the same as the name does, as a server sees it.
    pub(crate) async fn wildcard_beside(
        &self,
        server: SocketAddr,
        name: &DnsName,
        apex: &DnsName,
        gives: &[RecordSet],
    ) -> Option<DnsName> {
        let mut encloser = name.parent();
        while let Some(above) = encloser.filter(|above| above.is_within(apex)) {
            let wildcard = above.below("*").ok().filter(|wildcard| wildcard != name);
            if let Some(wildcard) = wildcard {
                let view = self.context.drivers.lookups().alias(&[server], &wildcard, AliasPlace::Name).await;
                let same = |found: &ServerRecords| found.gives.as_ref().is_ok_and(|found| same_data(found, gives));
                if view.servers.first().is_some_and(same) {
                    return Some(wildcard);
                }
            }
            encloser = above.parent();
        }
        None
    }

    /// Says whether every server gives the alias that is wanted; `None` where that is not known.
    pub(crate) fn is_aliased(&self, id: HostnameId, view: &AliasView) -> Option<bool> {
        let wanted = Known::about(&self.context.desired, &self.context.known(), id).manifest_alias()?;
        Some(!view.servers.is_empty() && view.lagging(&wanted).next().is_none())
    }
}

pub(crate) fn alias_target(sets: &[RecordSet]) -> Option<DnsName> {
    sets.iter().flat_map(RecordSet::data).find_map(|data| match data {
        RecordData::Cname(target) => Some(target.clone()),
        _ => None,
    })
}
