//! Questions to authoritative servers and to resolvers.

use std::net::{IpAddr, SocketAddr, SocketAddrV6};
use std::path::Path;
use std::time::{Duration, Instant};

use futures::future::join_all;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, RecordType as WireType};
use pindrel_core::health::{CheckFailure, CheckResult, Measured, Phases};
use pindrel_core::judging::facts::{
    AliasView, Lameness, ServerRecords, ServerStatus, ServerView, Unreachable, Unresolved,
};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::{Serial, Ttl};
use pindrel_core::zones::records::{AliasPlace, RecordSet, RecordType};
use pindrel_core::zones::resolver::ResolverAddress;

use tokio::time::timeout;

use crate::came_back::timed_out;
use crate::resolver::Resolver;
use crate::wire::{Ask, ask, core_data, core_name, mnemonic, wire_type};

/// The most aliases that are followed from one name.
const MOST_ALIASES: usize = 8;

/// Returns the resolvers that this system uses, out of the text of `/etc/resolv.conf`.
pub fn system_resolvers() -> Vec<ResolverAddress> {
    let text = std::fs::read_to_string(Path::new("/etc/resolv.conf")).unwrap_or_default();
    text.lines()
        .filter_map(|line| resolver_of(line.trim().strip_prefix("nameserver")?.trim()))
        .map(Into::into)
        .collect()
}

/// An address of a resolver, perhaps one that is only meant on one link (RFC 4007 §11).
fn resolver_of(text: &str) -> Option<SocketAddr> {
    let Some((address, link)) = text.split_once('%') else { return Some(SocketAddr::new(text.parse().ok()?, 53)) };
    let index = link.parse().ok().or_else(|| {
        let is_name = !link.contains('/');
        let file = Path::new("/sys/class/net").join(link).join("ifindex");
        std::fs::read_to_string(file).ok().filter(|_| is_name)?.trim().parse().ok()
    })?;
    Some(SocketAddrV6::new(address.parse().ok()?, 53, 0, index).into())
}

/// Returns the records of one type that an authoritative server gives for a name; a
/// name that does not exist has none.
///
/// # Errors
/// [`Unreachable`], also when the answer lacks authority.
pub async fn records(
    server: SocketAddr,
    owner: &DnsName,
    record_type: RecordType,
) -> Result<Vec<RecordSet>, Unreachable> {
    Ok(records_of_name(server, owner, record_type).await?.sets.unwrap_or_default())
}

/// What a server gives for a name.
pub(crate) struct OfName {
    /// Its records; `None` where the name does not exist, so that it has none of any type (RFC 8020 §2).
    pub sets: Option<Vec<RecordSet>>,
    /// Where a DNAME stands above the name, from which its alias is made (RFC 6672 §3.1).
    pub dname: Option<DnsName>,
}

/// Returns the records of one type that an authoritative server gives for a name, and what they come from.
///
/// # Errors
/// [`Unreachable`], also when the answer lacks authority.
pub(crate) async fn records_of_name(
    server: SocketAddr,
    owner: &DnsName,
    record_type: RecordType,
) -> Result<OfName, Unreachable> {
    let answer = ask(server, owner, wire_type(record_type), Ask::default()).await?;
    if !matches!(answer.metadata.response_code, ResponseCode::NoError | ResponseCode::NXDomain) {
        return Err(Unreachable::Code { code: mnemonic(answer.metadata.response_code) });
    }
    if !answer.metadata.authoritative {
        return Err(Unreachable::NotAuthoritative);
    }
    let sets = sets(&answer, owner, record_type);
    let is_absent = answer.metadata.response_code == ResponseCode::NXDomain && sets.is_empty();
    Ok(OfName { sets: (!is_absent).then_some(sets), dname: dname_above(&answer, owner) })
}

/// Returns where an answer says that a DNAME stands above a name: then nothing can stand at the name (RFC 6672 §2.4).
fn dname_above(answer: &Message, owner: &DnsName) -> Option<DnsName> {
    let dnames = answer.answers.iter().filter(|record| record.record_type() == WireType::DNAME);
    dnames.filter_map(|record| core_name(&record.name)).find(|name| name != owner && owner.is_within(name))
}

/// A label that no zone has below a name of its own.
const UNUSED_LABEL: &str = "_pindrel-nothing";

/// Says whether what a server gives at a name comes from a wildcard: then it gives as much below the name, where no
/// wildcard reaches if the name is there itself (RFC 4592 §3.3.1).
///
/// # Errors
/// [`Unreachable`].
pub(crate) async fn is_synthesised(
    server: SocketAddr,
    owner: &DnsName,
    record_type: RecordType,
) -> Result<bool, Unreachable> {
    let Ok(below) = owner.below(UNUSED_LABEL) else { return Ok(false) };
    Ok(!records(server, &below, record_type).await?.is_empty())
}

/// What stands above a name, below the apex of its zone, so that nobody sees what is made at the name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hidden {
    /// Here the name is handed over to other servers (RFC 1034 §4.2.1).
    Delegated(DnsName),
    /// A DNAME here leads all below it elsewhere (RFC 6672 §2.4).
    Redirected(DnsName),
}

/// Returns what hides a name in the zone that it is looked for in.
///
/// # Errors
/// [`Unreachable`].
pub async fn hidden_by(server: SocketAddr, zone: &DnsName, owner: &DnsName) -> Result<Option<Hidden>, Unreachable> {
    let answer = ask(server, owner, WireType::SOA, Ask::default()).await?;
    let below = |name: Option<DnsName>| name.filter(|name| name != zone && name.is_within(zone));
    if let Some(dname) = dname_above(&answer, owner) {
        return Ok(Some(Hidden::Redirected(dname)));
    }
    // A referral, or the word of the zone below that the same server serves.
    let cut = answer.answers.iter().chain(&answer.authorities).find_map(|record| match &record.data {
        RData::NS(_) if !answer.metadata.authoritative => below(core_name(&record.name)),
        RData::SOA(_) => below(core_name(&record.name)),
        _ => None,
    });
    Ok(cut.filter(|cut| owner.is_within(cut)).map(Hidden::Delegated))
}

pub(crate) fn sets(answer: &Message, owner: &DnsName, record_type: RecordType) -> Vec<RecordSet> {
    let own = answer.answers.iter().filter(|record| core_name(&record.name).as_ref() == Some(owner));
    RecordSet::group(own.filter(|record| record.record_type() == wire_type(record_type)).filter_map(|record| {
        // One with its top bit set counts as nought (RFC 2181 §8).
        let ttl = Ttl::try_from(record.ttl).unwrap_or(Ttl::ZERO);
        Some((ttl, core_data(&record.data, record_type)?))
    }))
}

/// Returns what each server gives in the place of a hostname's alias: its CNAME, or
/// what stands there instead; at the apex its addresses.
pub async fn alias(servers: &[SocketAddr], owner: &DnsName, place: AliasPlace) -> AliasView {
    let looks = join_all(servers.iter().map(|server| alias_at(*server, owner, place))).await;
    let dname = looks.first().and_then(|look| look.as_ref().ok()?.1.clone());
    let seen = servers.iter().zip(looks);
    let seen = seen.map(|(server, look)| ServerRecords { server: *server, gives: look.map(|(gives, _)| gives) });
    AliasView { dname, ..AliasView::of(seen.collect()) }
}

/// What a server gives in the place of an alias, and where the DNAME stands that it is made from.
pub(crate) async fn alias_at(
    server: SocketAddr,
    owner: &DnsName,
    place: AliasPlace,
) -> Result<(Vec<RecordSet>, Option<DnsName>), Unreachable> {
    if place == AliasPlace::Name {
        let found = records_of_name(server, owner, RecordType::Cname).await?;
        match found.sets {
            None => return Ok((Vec::new(), None)),
            Some(alias) if !alias.is_empty() => return Ok((alias, found.dname)),
            Some(_) => {}
        }
    }
    let found = join_all(place.types().iter().map(|record_type| records(server, owner, *record_type))).await;
    let mut sets = Vec::new();
    for found in found {
        sets.extend(found?);
    }
    sets.sort_by_key(RecordSet::record_type);
    Ok((sets, None))
}

/// Asks a server for the SOA of a name, as a health check: it must answer with authority.
pub async fn check_authority(server: SocketAddr, name: &DnsName, within: Duration) -> Measured {
    let begun = Instant::now();
    let failed = |why| CheckResult::Failed(why);
    let result = match timeout(within, ask(server, name, WireType::SOA, Ask::default())).await {
        Err(_) => failed(CheckFailure::NoResponse { why: timed_out(within) }),
        Ok(Err(why @ Unreachable::NoRoute)) => CheckResult::Impossible(why),
        Ok(Err(why @ Unreachable::TimedOut { .. })) => failed(CheckFailure::NoResponse { why }),
        Ok(Err(why)) => failed(CheckFailure::NotConnected { why }),
        Ok(Ok(answer)) => match answer.metadata.response_code {
            ResponseCode::NoError if answer.metadata.authoritative => CheckResult::Passed,
            ResponseCode::NoError => failed(CheckFailure::NotAuthoritative { name: name.to_string() }),
            code => failed(CheckFailure::DnsCode { code: mnemonic(code), name: name.to_string() }),
        },
    };
    Measured { phases: Phases { connect: Some(begun.elapsed()), ..Phases::default() }, result }
}

/// Looks at one server of a zone.
pub async fn server(server: SocketAddr, zone: &DnsName) -> ServerView {
    let status = match server_status(server, zone).await {
        Ok(status) => status,
        Err(Unreachable::NotAuthoritative) => ServerStatus::Lame { how: Lameness::NotAuthoritative },
        Err(Unreachable::Code { code }) => ServerStatus::Lame { how: Lameness::Code { code } },
        Err(why) => ServerStatus::Unreachable { why },
    };
    ServerView { server, status }
}

async fn server_status(server: SocketAddr, zone: &DnsName) -> Result<ServerStatus, Unreachable> {
    let (soa, ns) = futures::join!(
        ask(server, zone, WireType::SOA, Ask::default()),
        ask(server, zone, WireType::NS, Ask::default())
    );
    let (soa, ns) = (soa?, ns?);
    for answer in [&soa, &ns] {
        if answer.metadata.response_code != ResponseCode::NoError {
            return Err(Unreachable::Code { code: mnemonic(answer.metadata.response_code) });
        }
        if !answer.metadata.authoritative {
            return Err(Unreachable::NotAuthoritative);
        }
    }
    let serial = soa.answers.iter().find_map(|record| match &record.data {
        RData::SOA(soa) => Some(Serial(soa.serial)),
        _ => None,
    });
    let serial = serial.ok_or(Unreachable::NotAuthoritative)?;
    Ok(ServerStatus::Serves { serial, name_servers: name_servers(&ns.answers, zone) })
}

/// The NS names of a zone among some records, sorted.
pub(crate) fn name_servers(records: &[hickory_proto::rr::Record], zone: &DnsName) -> Vec<DnsName> {
    let own = records.iter().filter(|record| core_name(&record.name).as_ref() == Some(zone));
    let mut names: Vec<DnsName> = own
        .filter_map(|record| match &record.data {
            RData::NS(name) => core_name(&name.0),
            _ => None,
        })
        .collect();
    names.sort();
    names.dedup();
    names
}

/// What a resolver gives for a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Resolved {
    /// Addresses.
    Addresses {
        /// At least one.
        addresses: Vec<IpAddr>,
        /// For how many seconds the resolver may go on giving them.
        for_secs: u32,
    },
    /// None, for this reason; it may be cached for some seconds (RFC 2308 §5).
    Nothing {
        /// The reason.
        why: Unresolved,
        /// For how many seconds the resolver may keep that answer.
        for_secs: Option<u32>,
    },
}

/// Asks a resolver for the addresses of a name.
pub async fn resolve(resolver: &Resolver, name: &DnsName) -> Resolved {
    let ask = |wire_type| resolver.ask(name, wire_type, Ask::default());
    let (v4, v6) = futures::join!(ask(WireType::A), ask(WireType::AAAA));
    let (mut addresses, mut longest) = (Vec::new(), 0);
    let mut nothing = None;
    for answer in [v4, v6] {
        match answer {
            Ok(answer) => {
                let (found, ttl) = follow(&answer, name);
                longest = longest.max(ttl);
                if found.is_empty() && nothing.is_none() {
                    nothing = Some((reason(&answer), negative_secs(&answer)));
                }
                addresses.extend(found);
            }
            Err(why) => nothing = nothing.or(Some((Unresolved::Unreachable { why }, None))),
        }
    }
    match nothing {
        _ if !addresses.is_empty() => Resolved::Addresses { addresses, for_secs: longest },
        Some((why, for_secs)) => Resolved::Nothing { why, for_secs },
        None => Resolved::Nothing { why: Unresolved::NoAddress, for_secs: None },
    }
}

pub(crate) fn reason(answer: &Message) -> Unresolved {
    match answer.metadata.response_code {
        ResponseCode::NoError => Unresolved::NoAddress,
        ResponseCode::NXDomain => Unresolved::NoSuchName,
        code => Unresolved::Code { code: mnemonic(code) },
    }
}

/// How long a negative answer may be kept: the TTL of the SOA that came with it.
pub(crate) fn negative_secs(answer: &Message) -> Option<u32> {
    answer.authorities.iter().find_map(|record| match &record.data {
        RData::SOA(soa) => Some(record.ttl.min(soa.minimum)),
        _ => None,
    })
}

/// Follows the aliases in some message.
#[cfg(feature = "hostile")]
pub(crate) fn follow_any(message: &Message, name: &DnsName) {
    let _ = (follow(message, name), dname_above(message, name));
}

/// Follows the aliases in an answer to the addresses at their end; with the shortest TTL on the way.
fn follow(answer: &Message, name: &DnsName) -> (Vec<IpAddr>, u32) {
    let (mut owner, mut shortest) = (name.clone(), u32::MAX);
    for _ in 0..MOST_ALIASES {
        let own = || answer.answers.iter().filter(|record| core_name(&record.name).as_ref() == Some(&owner));
        let addresses: Vec<(IpAddr, u32)> = own()
            .filter_map(|record| match &record.data {
                RData::A(address) => Some((IpAddr::V4(address.0), record.ttl)),
                RData::AAAA(address) => Some((IpAddr::V6(address.0), record.ttl)),
                _ => None,
            })
            .collect();
        if !addresses.is_empty() {
            let shortest = addresses.iter().fold(shortest, |shortest, (_, ttl)| shortest.min(*ttl));
            return (addresses.into_iter().map(|(address, _)| address).collect(), shortest);
        }
        let next = own().find_map(|record| match &record.data {
            RData::CNAME(target) => Some((core_name(&target.0)?, record.ttl)),
            _ => None,
        });
        match next {
            Some((next, ttl)) => (owner, shortest) = (next, shortest.min(ttl)),
            None => break,
        }
    }
    (Vec::new(), 0)
}
