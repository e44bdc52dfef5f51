//! Whole zones: read from their servers, compared with others, and brought to a file.

use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::desired::ZoneId;
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::facts::{ServerStatus, ZoneView};
use pindrel_core::judging::findings::{Finding, ZoneCause};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::{Known, PinState, judge_zone};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Serial;
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::zone_data::{
    Compared, Difference, NameKey, Place, ReachedEndpoint, TypeCode, ZoneBuilder, ZoneData, compare, outside_targets,
    rdata,
};
use pindrel_dns::{SetChange, ZoneError};
use serde::Serialize;

use crate::acme::challenges::LOOKUPS_AT_ONCE;
use crate::context::Context;
use crate::failure::{EngineError, internal};
use crate::observe::binding::BindingObserver;
use crate::observe::survey::Surveyor;
use crate::observe::zone::ZoneObserver;
use crate::requests::endpoints::EndpointRequests;

/// How many zones are looked at at once.
const ZONES_AT_ONCE: usize = 16;

/// A zone, or the part of it that could be read.
#[derive(Debug)]
pub struct ReadZone {
    /// Its records.
    pub data: ZoneData,
    /// Why only some names were looked at, and which; `None` where it is whole.
    pub partial: Option<Part>,
}

/// The part of a zone that was looked at.
#[derive(Debug, Clone)]
pub struct Part {
    /// Why the rest was not.
    pub why: String,
    /// The names, sorted.
    pub names: BTreeSet<NameKey>,
}

/// What an import would change in a zone.
#[derive(Debug)]
pub struct Import {
    /// The record sets: as they are, and as they shall be.
    pub differences: Vec<Difference>,
    /// The zone as it was seen.
    pub seen: ReadZone,
}

/// What differs, but for the records that are the servers' own and those that signing made.
fn differences_to_import(now: &ZoneData, wanted: &ZoneData, delete: bool) -> Vec<Difference> {
    let is_own = |one: &Difference| {
        let is_of_servers = one.code == TypeCode::SOA || (one.code == TypeCode::NS && one.name == *now.apex());
        !is_of_servers
            && !matches!(one.code, TypeCode::DNSKEY | TypeCode::NSEC3PARAM | TypeCode::CDS | TypeCode::CDNSKEY)
    };
    let mut differences = compare(now, wanted, Compared { all: false, ttls: true });
    for one in &mut differences {
        // All records of a set have one TTL (RFC 2181 §5.2): of several that are written, the lowest.
        let least = one.right.iter().map(|record| record.ttl).min().unwrap_or(0);
        one.right.iter_mut().for_each(|record| record.ttl = least);
    }
    differences.retain(|one| is_own(one) && (!one.right.is_empty() || delete) && one.left != one.right);
    differences
}

/// The names within a zone that its records lead to, such as those of its servers, beside those that were read.
fn led_to(zone: &ZoneData, read: &[DnsName]) -> BTreeSet<DnsName> {
    let led = zone.entries().filter_map(|entry| rdata::target(entry.code, entry.data));
    let within = led.filter(|target| target.is_within(zone.apex())).filter_map(|target| target.to_dns_name());
    within.filter(|name| !read.contains(name)).collect()
}

/// In which order sets are written: names that get addresses first, for servers refuse mail exchangers and servers that
/// have none, then the others, and what is only deleted at the end; of one name, what goes before what comes.
fn order_to_import(changes: &mut [SetChange]) {
    let is_address = |change: &SetChange| matches!(change.code, TypeCode::A | TypeCode::AAAA);
    let (mut with_address, mut with_data) = (BTreeSet::new(), BTreeSet::new());
    for change in changes.iter().filter(|change| !change.wanted.is_empty()) {
        with_data.insert(change.owner.clone());
        if is_address(change) {
            with_address.insert(change.owner.clone());
        }
    }
    let names_hosts = |change: &SetChange| {
        matches!(change.code, TypeCode::MX | TypeCode::NS | TypeCode::SRV) && !change.wanted.is_empty()
    };
    changes.sort_by_key(|change| {
        let turn = match &change.owner {
            _ if names_hosts(change) => 1,
            owner if with_address.contains(owner) => 0,
            owner if with_data.contains(owner) => 1,
            _ => 2,
        };
        (turn, change.owner.clone(), !change.wanted.is_empty())
    });
}

/// One zone of the manifest as it was just seen.
#[derive(Debug, Clone, Serialize)]
pub struct ZoneReport {
    /// Its name.
    pub name: DnsName,
    /// How it is changed.
    pub driver: &'static str,
    /// How many hostnames of the manifest lie in it.
    pub hostnames: usize,
    /// How it is held.
    pub state: PinState,
    /// In a few words.
    pub detail: String,
    /// The greatest serial that a server returned.
    pub serial: Option<Serial>,
    /// Its servers, with the serial of each that serves it.
    pub servers: Vec<ServerReport>,
    /// What is wrong.
    pub findings: Vec<Finding>,
}

/// One server of a zone.
#[derive(Debug, Clone, Serialize)]
pub struct ServerReport {
    /// Its address.
    pub server: SocketAddr,
    /// The serial that it returned; `None` where it does not serve the zone.
    pub serial: Option<Serial>,
}

/// What a person asks about zones.
pub struct ZoneRequests {
    pub(crate) context: Arc<Context>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) endpoint_requests: Arc<EndpointRequests>,
    pub(crate) surveyor: Arc<Surveyor>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl ZoneRequests {
    /// Looks at all zones of the manifest.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be written.
    pub async fn reports(&self) -> Result<Vec<ZoneReport>, EngineError> {
        let ids: Vec<ZoneId> = (0u32..).map(ZoneId).take(self.context.desired.zones.len()).collect();
        let looks = stream::iter(&ids).map(|id| self.zones.look_at(*id)).buffer_unordered(ZONES_AT_ONCE);
        looks.try_collect::<Vec<()>>().await?;
        Ok(ids.iter().filter_map(|id| self.report_of(*id)).map(|(report, _)| report).collect())
    }

    /// Looks at one zone of the manifest; returns what was seen as well.
    ///
    /// # Errors
    /// A [`Finding`]: the state cannot be written.
    pub async fn report(&self, id: ZoneId) -> Result<(ZoneReport, ZoneView), Finding> {
        self.zones.look_at(id).await.map_err(|error| internal(error.to_string()))?;
        self.report_of(id).ok_or_else(|| internal("a zone that was looked at is not known"))
    }

    fn report_of(&self, id: ZoneId) -> Option<(ZoneReport, ZoneView)> {
        let zone = self.context.desired.zone(id);
        let fact = self.context.known().zones.get(&id)?.clone();
        let report = judge_zone(zone, &fact);
        let view = fact.value;
        let servers = view.servers.iter().map(|server| ServerReport {
            server: server.server,
            serial: match &server.status {
                ServerStatus::Serves { serial, .. } => Some(*serial),
                _ => None,
            },
        });
        let servers: Vec<ServerReport> = servers.collect();
        let serials = servers.iter().filter_map(|server| server.serial);
        let report = ZoneReport {
            name: zone.name.clone(),
            driver: zone.driver.as_str(),
            hostnames: self.context.desired.hostnames.iter().filter(|wanted| wanted.zone == id).count(),
            state: report.state,
            detail: report.detail.unwrap_or_default(),
            serial: serials.reduce(|left, right| if right > left { right } else { left }),
            servers,
            findings: report.findings,
        };
        Some((report, view))
    }

    /// Reads a zone: by transfer, or as its driver does; else the names of the manifest one by one.
    ///
    /// # Errors
    /// A [`Finding`]: the server that was named, or the first of the zone's, cannot be read.
    pub async fn read(&self, id: ZoneId, at: Option<SocketAddr>) -> Result<ReadZone, Finding> {
        let mut driver = self.zones.driver(id, at).await?;
        let mut read = driver.read().await;
        // A server that is named need not know the key; what it says is shown and compared, and no change rests on it.
        if let (Err(ZoneError::Refused { .. } | ZoneError::Credential { .. }), Some(_), Some(unsigned)) =
            (&read, at, driver.unsigned())
        {
            driver = unsigned;
            read = driver.read().await;
        }
        match read {
            Ok(data) => Ok(ReadZone { data, partial: None }),
            Err(ZoneError::Refused { says, .. }) => {
                let failed = |error: ZoneError| error.finding(Pin::Zone);
                let mut names = self.names_in(id);
                let mut data = driver.read_names(&names).await.map_err(failed)?;
                // Without the addresses of its servers nobody could serve what was read.
                let led = led_to(&data, &names);
                if !led.is_empty() {
                    names.extend(led);
                    data = driver.read_names(&names).await.map_err(failed)?;
                }
                let names = names.iter().map(NameKey::from).collect();
                Ok(ReadZone { data, partial: Some(Part { why: says, names }) })
            }
            Err(error) => Err(error.finding(Pin::Zone)),
        }
    }

    /// Returns the alias records that the manifest wants in a zone, as far as its endpoints are known.
    ///
    /// # Errors
    /// A [`Finding`]: the state cannot be read.
    pub async fn wanted_records(&self, id: ZoneId) -> Result<ReadZone, Finding> {
        let apex = NameKey::from(&self.context.desired.zone(id).name);
        let mut builder = ZoneBuilder::default();
        let mut unknown = Vec::new();
        for hostname in
            self.context.desired.hostname_ids().filter(|hostname| self.context.desired.hostname(*hostname).zone == id)
        {
            self.surveyor.load_once(hostname).await.map_err(|error| internal(error.to_string()))?;
            let sets = Known::about(&self.context.desired, &self.context.known(), hostname).manifest_alias();
            let wanted = self.context.desired.hostname(hostname);
            let Some(sets) = sets else {
                unknown.push(wanted.hostname.to_string());
                continue;
            };
            let owner = NameKey::from(&wanted.hostname.owner());
            for set in &sets {
                for data in set.data().iter().filter_map(pindrel_core::zones::records::RecordData::to_wire) {
                    let code = TypeCode::from(set.record_type());
                    builder
                        .add(&owner, code, set.ttl().as_secs(), &data, Place::default())
                        .map_err(|error| internal(error.to_string()))?;
                }
            }
        }
        let data = builder.finish(Some(apex));
        let why = match &unknown[..] {
            [] => "it speaks of its own hostnames alone".to_owned(),
            unknown => format!("not known yet are the endpoints of {}", unknown.join(", ")),
        };
        let names = data.entries().map(|entry| entry.owner()).collect();
        Ok(ReadZone { data, partial: Some(Part { why, names }) })
    }

    /// Says which record sets of a zone an import would change: those that `wanted` has and the zone has otherwise or
    /// not at all, and with `delete` those that only the zone has. The SOA record, the zone's own NS records and what
    /// signing made stay.
    ///
    /// # Errors
    /// A [`Finding`]: the zone cannot be read.
    pub async fn import_changes(&self, id: ZoneId, wanted: &ZoneData, delete: bool) -> Result<Import, Finding> {
        let ReadZone { data, partial } = match self.read(id, None).await? {
            read if read.partial.is_none() => read,
            partial => {
                // Each name of the file is looked at instead.
                let names: BTreeSet<DnsName> =
                    wanted.entries().filter_map(|entry| entry.owner().to_dns_name()).collect();
                let driver = self.zones.driver(id, None).await?;
                let data = driver.read_names(&names.into_iter().collect::<Vec<_>>()).await;
                ReadZone { data: data.map_err(|error| error.finding(Pin::Zone))?, ..partial }
            }
        };
        let differences = differences_to_import(&data, wanted, delete);
        Ok(Import { differences, seen: ReadZone { data, partial } })
    }

    /// Makes record sets of a zone what an import wants them to be, each only where it is still what was seen; returns
    /// what is not so afterwards.
    ///
    /// # Errors
    /// A [`Finding`]: the zone cannot be changed, or has changed meanwhile.
    pub async fn import_records(
        &self,
        id: ZoneId,
        import: &Import,
        wanted: &ZoneData,
        delete: bool,
    ) -> Result<Vec<Difference>, Finding> {
        let driver = self.zones.driver(id, None).await?;
        let mut changes: Vec<SetChange> = import
            .differences
            .iter()
            .map(|one| SetChange {
                owner: one.name.clone(),
                code: one.code,
                expected: one.left.iter().map(|record| record.data.clone()).collect(),
                ttl: one.right.iter().map(|record| record.ttl).min().unwrap_or(0),
                wanted: one.right.iter().map(|record| record.data.clone()).collect(),
            })
            .collect();
        order_to_import(&mut changes);
        let failed = |error: ZoneError| error.finding(Pin::Zone);
        driver.change_sets(&changes).await.map_err(failed)?;
        if import.seen.partial.is_some() {
            return Ok(self.import_changes(id, wanted, delete).await?.differences);
        }
        let now = driver.read_again(&import.seen.data).await.map_err(failed)?;
        Ok(differences_to_import(&now, wanted, delete))
    }

    /// Asks the platforms of the endpoints which hostnames they know; those that do not answer are left out.
    ///
    /// # Errors
    /// [`EngineError`]: the state cannot be read or written.
    pub async fn reached_endpoints(&self) -> Result<Vec<ReachedEndpoint>, EngineError> {
        let reports = self.endpoint_requests.reports().await?;
        let reached = self.context.desired.endpoint_ids().zip(reports).filter_map(|(id, report)| {
            let info = self.context.endpoint_info(id)?;
            // Whom somebody else's endpoint knows is theirs to say.
            let is_told = report.trouble.is_none() && !self.context.desired.endpoint(id).is_static();
            let bound = report.bindings.into_iter().map(|binding| binding.hostname).collect();
            let EndpointInfo { default_name, addresses, .. } = info;
            is_told.then_some(ReachedEndpoint { name: report.name, default_name, addresses, bound })
        });
        Ok(reached.collect())
    }

    /// Returns which names outside of a zone that its records lead to do not exist, as its resolvers say; a name of
    /// which they say nothing within the time may exist.
    pub async fn missing_outside(&self, id: ZoneId, zone: &ZoneData, within: Duration) -> BTreeSet<DnsName> {
        let looks = stream::iter(outside_targets(zone)).map(async |name| self.zones.missing(id, name).await);
        let looks = looks.buffer_unordered(LOOKUPS_AT_ONCE).take_until(self.context.clock.sleep(within));
        looks.filter_map(async |missing| missing).collect().await
    }

    /// Looks at what would come of a change of a zone's name servers, from one to another; without one it is the first
    /// of the zone's.
    ///
    /// # Errors
    /// A [`Finding`]: one of both cannot be asked.
    pub async fn name_server_change(
        &self,
        id: ZoneId,
        from_to: [Option<SocketAddr>; 2],
    ) -> Result<NameServerChange, Finding> {
        self.zones.know(id).await.map_err(|error| internal(error.to_string()))?;
        let zone = self.context.desired.zone(id);
        let unseen = |why| Finding::zone(&zone.name, ZoneCause::ChangeUnseen { why });
        let first = self.zones.servers(id).into_iter().next();
        let [from, to] = from_to.map(|server| server.or(first));
        let (from, to) = from.zip(to).ok_or_else(|| unseen(None))?;
        let looked =
            self.context.drivers.lookups().name_server_change(zone, [from, to], &self.zones.resolvers(id)).await;
        looked.map_err(|why| unseen(Some(why)))
    }

    /// The names of a zone that the manifest speaks of.
    fn names_in(&self, id: ZoneId) -> Vec<DnsName> {
        let apex = self.context.desired.zone(id).name.clone();
        let own = self.context.desired.hostnames.iter().filter(|wanted| wanted.zone == id);
        let names = own.flat_map(|wanted| [wanted.hostname.owner(), wanted.hostname.challenge_name()]);
        let names: BTreeSet<DnsName> = names.chain([apex.clone()]).filter(|name| name.is_within(&apex)).collect();
        names.into_iter().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(text: &str) -> NameKey {
        NameKey::parse(text.as_bytes(), &NameKey::parse(b"larkfield.example.", &NameKey::root()).unwrap()).unwrap()
    }

    #[test]
    fn addresses_are_written_before_what_names_them_and_what_only_goes_comes_last() {
        let change = |owner: &str, code, has: bool, wants: bool| {
            let data = |is: bool| if is { vec![vec![1]] } else { Vec::new() };
            SetChange { owner: key(owner), code, expected: data(has), ttl: 60, wanted: data(wants) }
        };
        let mut changes = vec![
            change("@", TypeCode::MX, false, true),
            change("@", TypeCode::A, false, true),
            change("gone", TypeCode::TXT, true, false),
            change("text", TypeCode::TXT, false, true),
            change("www", TypeCode::A, false, true),
            change("www", TypeCode::CNAME, true, false),
            change("zz-mail", TypeCode::AAAA, false, true),
        ];
        order_to_import(&mut changes);
        let told: Vec<String> =
            changes.iter().map(|one| format!("{} {}", one.owner.relative_to(&key("@")), one.code)).collect();
        assert_eq!(told, ["@ A", "www CNAME", "www A", "zz-mail AAAA", "@ MX", "text TXT", "gone TXT"]);
    }
}
