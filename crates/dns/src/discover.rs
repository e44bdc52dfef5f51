//! A zone's servers and its delegation, from the manifest or by looking.

use std::borrow::Cow;
use std::net::{IpAddr, SocketAddr};

use futures::{StreamExt as _, stream};
use hickory_proto::dnssec::rdata::{DNSSECRData, DS};
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, Record, RecordType as WireType};
use jiff::Timestamp;
use pindrel_core::judging::facts::{DelegationView, ServerStatus, ServerWithin, SignedView, Unreachable, ZoneView};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::is_link_local_or_metadata;
use pindrel_core::zones::records::{RecordData, RecordSet, RecordType};

use crate::lookup::{self, Resolved, name_servers};
use crate::resolver::Resolver;
use crate::wire::{Ask, ask, ask_over_tcp, core_name, first_of, mnemonic, wire_name};

/// The port of a server that is found by delegation, which carries none.
const DNS_PORT: u16 = 53;
/// The most servers of one zone that are looked at, and how many at once.
const MOST_SERVERS: usize = 64;
const SERVERS_AT_ONCE: usize = 16;
/// How many referrals are followed from a server of a zone further up, and how many servers of each are tried.
const MOST_REFERRALS: usize = 8;
const MOST_REFERRED: usize = 4;

/// Looks at a zone: its delegation and all its servers, `servers` first and then those of the delegation that are
/// not among them. Where `servers` are empty the one that takes changes comes first: the one that the zone's SOA record
/// names (RFC 2136 §4.3), also where the delegation does not. Where `parents` are empty they are found through
/// `resolvers`.
pub async fn zone(zone: &DnsName, servers: &[SocketAddr], parents: &[SocketAddr], resolvers: &[Resolver]) -> ZoneView {
    let parents = &*parents_or_found(zone, parents, resolvers).await;
    let (delegation, parents_differing, glue) = delegation(zone, parents, resolvers).await;
    // Whoever resolves the zone asks any of the delegated servers, whichever the manifest names.
    let mut asked = servers.to_vec();
    if let DelegationView::Delegated { addresses, .. } = &delegation {
        let is_named = |address: &IpAddr| servers.iter().any(|server| server.ip() == *address);
        asked.extend(servers_at(addresses.iter().filter(|address| !is_named(address)).copied(), DNS_PORT));
    }
    asked.truncate(MOST_SERVERS);
    if servers.is_empty()
        && let Some(primary) = primary_of(zone, &asked, resolvers).await
    {
        asked.retain(|server| *server != primary);
        asked.insert(0, primary);
    }
    let looks = asked.iter().copied().map(|server| lookup::server(server, zone));
    let views = stream::iter(looks).buffered(SERVERS_AT_ONCE).collect::<Vec<_>>();
    let tcp = asked.iter().copied().map(|server| async move { (server, over_tcp_too(server, zone).await) });
    let tcp = stream::iter(tcp).buffered(SERVERS_AT_ONCE).collect::<Vec<_>>();
    let (servers, tcp, validates, signed) =
        futures::join!(views, tcp, validates(zone, parents, resolvers), signed(zone, parents, &asked));
    let mut view = ZoneView { parents_differing, validates, signed, ..ZoneView::plain(delegation, servers) };
    let serves = |server: &SocketAddr| {
        view.servers.iter().any(|own| own.server == *server && matches!(own.status, ServerStatus::Serves { .. }))
    };
    view.without_tcp = tcp
        .into_iter()
        .filter_map(|(server, why)| Some((server, why.err()?)))
        .filter(|(server, _)| serves(server))
        .collect();
    let first = view.servers.iter().find(|server| matches!(server.status, ServerStatus::Serves { .. }));
    let first = first.map(|server| server.server);
    view.servers_within = servers_within(zone, first, view.own_name_servers().unwrap_or_default(), glue).await;
    view.aliased_servers = aliased(view.own_name_servers().unwrap_or_default(), resolvers).await;
    view
}

/// The servers that lie in the zone, those of the delegation and those that it names itself, with their addresses in the
/// zone as one of its servers gives them.
async fn servers_within(
    zone: &DnsName,
    server: Option<SocketAddr>,
    named: &[DnsName],
    glue: Glue,
) -> Vec<ServerWithin> {
    let own = named.iter().filter(|name| name.is_within(zone) && !glue.iter().any(|(glued, _)| glued == *name));
    let own: Vec<DnsName> = own.cloned().collect();
    let delegated = glue.into_iter().map(|(name, glue)| (name, Some(glue)));
    let all = delegated.chain(own.into_iter().map(|name| (name, None))).take(MOST_SERVERS);
    let looks = all.map(|(name, glue)| async move {
        let own = match server {
            Some(server) => own_addresses(server, &name).await,
            None => Vec::new(),
        };
        let sorted = |mut addresses: Vec<IpAddr>| {
            addresses.sort();
            addresses.dedup();
            addresses
        };
        ServerWithin { name, glue: glue.map(sorted), own: sorted(own) }
    });
    stream::iter(looks).buffered(SERVERS_AT_ONCE).collect().await
}

/// The addresses of a server, as a server of its zone gives them.
async fn own_addresses(server: SocketAddr, name: &DnsName) -> Vec<IpAddr> {
    let [v4, v6] = [RecordType::A, RecordType::Aaaa].map(|record_type| lookup::records(server, name, record_type));
    let (Ok(v4), Ok(v6)) = futures::join!(v4, v6) else { return Vec::new() };
    let sets = [v4, v6].concat();
    sets.iter().flat_map(RecordSet::data).filter_map(RecordData::address).collect()
}

/// The server that takes changes, as the SOA record names it.
async fn primary_of(zone: &DnsName, servers: &[SocketAddr], resolvers: &[Resolver]) -> Option<SocketAddr> {
    for server in servers {
        let Ok(answer) = ask(*server, zone, WireType::SOA, Ask::default()).await else { continue };
        let named = answer.answers.iter().find_map(|record| match &record.data {
            RData::SOA(soa) if answer.metadata.authoritative => core_name(&soa.mname),
            _ => None,
        });
        let Some(named) = named else { continue };
        let addresses = addresses_of(std::slice::from_ref(&named), &answer.additionals, resolvers).await;
        // Among the delegated ones rather than at an address that only some know.
        let is_asked = |address: &&IpAddr| servers.iter().any(|server| server.ip() == **address);
        let address = addresses.iter().find(is_asked).or_else(|| addresses.first());
        let address = servers_at(address.copied(), DNS_PORT).next()?;
        return matches!(lookup::server(address, zone).await.status, ServerStatus::Serves { .. }).then_some(address);
    }
    None
}

/// The servers at some addresses that a peer names; it leads nobody to what is this machine's own.
fn servers_at(addresses: impl IntoIterator<Item = IpAddr>, port: u16) -> impl Iterator<Item = SocketAddr> {
    let usable = addresses.into_iter().filter(|address| !is_link_local_or_metadata(*address));
    usable.map(move |address| SocketAddr::new(address, port))
}

/// Whether a server also answers over TCP.
async fn over_tcp_too(server: SocketAddr, zone: &DnsName) -> Result<(), Unreachable> {
    ask_over_tcp(server, zone, WireType::SOA).await.map(drop)
}

/// Those of some names that are aliases.
async fn aliased(names: &[DnsName], resolvers: &[Resolver]) -> Vec<DnsName> {
    let Some(resolver) = resolvers.first() else { return Vec::new() };
    let looks = names.iter().take(MOST_SERVERS).cloned().map(|name| async move {
        let answer = resolver.ask(&name, WireType::A, Ask::default()).await.ok()?;
        let own = |record: &&Record| core_name(&record.name).as_ref() == Some(&name);
        let is_alias = answer.answers.iter().filter(own).any(|record| matches!(record.data, RData::CNAME(_)));
        is_alias.then_some(name)
    });
    stream::iter(looks).buffered(SERVERS_AT_ONCE).filter_map(|found| async { found }).collect().await
}

/// The servers of the zone above: those that are named, else those that are found.
pub(crate) async fn parents_or_found<'p>(
    zone: &DnsName,
    parents: &'p [SocketAddr],
    resolvers: &[Resolver],
) -> Cow<'p, [SocketAddr]> {
    if parents.is_empty() { parents_of(zone, resolvers).await.into() } else { parents.into() }
}

/// The servers of the zone above, at the nearest name that has any.
async fn parents_of(zone: &DnsName, resolvers: &[Resolver]) -> Vec<SocketAddr> {
    let mut above = zone.parent();
    while let Some(candidate) = above {
        for resolver in resolvers {
            let Ok(answer) = resolver.ask(&candidate, WireType::NS, Ask::default()).await else { continue };
            let names = name_servers(&answer.answers, &candidate);
            if names.is_empty() {
                break;
            }
            let addresses = addresses_of(&names, &answer.additionals, resolvers).await;
            return servers_at(addresses, DNS_PORT).take(MOST_SERVERS).collect();
        }
        above = candidate.parent();
    }
    Vec::new()
}

/// The servers of a delegation that lie in the zone, with their addresses as the zone above has them.
type Glue = Vec<(DnsName, Vec<IpAddr>)>;

/// What one server of the zone above says.
enum Said {
    /// Who serves the zone.
    Delegated(Vec<DnsName>, Vec<IpAddr>, Glue),
    /// Nobody does.
    Missing,
    /// It has no say: it serves the zone itself, and not the one above.
    IsBelow,
    Unreachable(Unreachable),
}

/// What the servers of the zone above say: the first that has a say, and those that say something else.
async fn delegation(
    zone: &DnsName,
    parents: &[SocketAddr],
    resolvers: &[Resolver],
) -> (DelegationView, Vec<SocketAddr>, Glue) {
    let looks = parents.iter().copied().map(|parent| async move { (parent, said(parent, zone, resolvers).await) });
    let all: Vec<(SocketAddr, Said)> = stream::iter(looks).buffered(SERVERS_AT_ONCE).collect().await;
    let (mut told, mut below) = (None, Vec::new());
    let mut differing = Vec::new();
    let (mut why, mut glue) = (None, Vec::new());
    for (parent, said) in all {
        let view = match said {
            Said::Delegated(name_servers, addresses, own) => {
                if glue.is_empty() {
                    glue = own;
                }
                DelegationView::Delegated { by: parent, name_servers, addresses }
            }
            Said::Missing => DelegationView::Missing { by: parent },
            Said::IsBelow => {
                below.push(parent);
                continue;
            }
            Said::Unreachable(unreachable) => {
                why.get_or_insert(unreachable);
                continue;
            }
        };
        let names = |view: &DelegationView| match view {
            DelegationView::Delegated { name_servers, .. } => name_servers.clone(),
            _ => Vec::new(),
        };
        match &told {
            None => told = Some(view),
            // A server that knows of the delegation counts before one that does not.
            Some(DelegationView::Missing { by }) if !names(&view).is_empty() => {
                differing.push(*by);
                told = Some(view);
            }
            Some(first) if names(first) != names(&view) => differing.push(parent),
            Some(_) => {}
        }
    }
    let unknown = match why {
        None if !below.is_empty() => DelegationView::AskedBelow { servers: below },
        why => DelegationView::Unreachable { why: why.unwrap_or(Unreachable::NoneKnown) },
    };
    (told.unwrap_or(unknown), differing, glue)
}

/// Asks one server of a zone above, and whichever it refers to on the way down.
async fn said(parent: SocketAddr, zone: &DnsName, resolvers: &[Resolver]) -> Said {
    let mut asked = vec![parent];
    for _ in 0..MOST_REFERRALS {
        let questions = asked.iter().map(|server| async move {
            ask(*server, zone, WireType::NS, Ask::default()).await.map(|answer| (*server, answer))
        });
        let (server, answer) = match first_of(questions).await {
            Ok(answered) => answered,
            Err(why) => return Said::Unreachable(why),
        };
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {}
            code => return Said::Unreachable(Unreachable::Code { code: mnemonic(code) }),
        }
        // A referral stands in the authority section.
        let referred = name_servers(&answer.authorities, zone);
        let own = name_servers(&answer.answers, zone);
        let is_referral = !referred.is_empty();
        let names = match (referred.is_empty(), own.is_empty()) {
            (false, _) => referred,
            // It serves the zone itself: does it serve the one above, too? A DS record belongs there (RFC 4035 §3.1.4.1).
            (true, false) if answer.metadata.authoritative && !serves_above(server, zone).await => {
                return Said::IsBelow;
            }
            (true, false) => own,
            (true, true) => match referral(&answer, zone) {
                Some((names, glue)) => {
                    let addresses = if glue.is_empty() { addresses_of(&names, &[], resolvers).await } else { glue };
                    let port = server.port();
                    asked = servers_at(addresses, port).take(MOST_REFERRED).collect();
                    continue;
                }
                None => return Said::Missing,
            },
        };
        let mut addresses = addresses_of(&names, &answer.additionals, resolvers).await;
        addresses.sort();
        addresses.dedup();
        let in_zone = names.iter().filter(|name| is_referral && name.is_within(zone));
        let glue = in_zone.map(|name| (name.clone(), glue_of(name, &answer.additionals))).collect();
        return Said::Delegated(names, addresses, glue);
    }
    let detail = format!("{parent} refers from one server to the next for {zone}");
    Said::Unreachable(Unreachable::Other { detail })
}

/// A referral to a zone between: its servers' names, and the addresses that came with it.
fn referral(answer: &Message, zone: &DnsName) -> Option<(Vec<DnsName>, Vec<IpAddr>)> {
    if answer.metadata.authoritative || answer.metadata.response_code != ResponseCode::NoError {
        return None;
    }
    let is_between = |record: &&Record| {
        matches!(record.data, RData::NS(_))
            && core_name(&record.name).is_some_and(|cut| zone.is_within(&cut) && cut != *zone)
    };
    let cut = core_name(&answer.authorities.iter().find(is_between)?.name)?;
    let names = name_servers(&answer.authorities, &cut);
    let glue = answer.additionals.iter().filter_map(|record| match &record.data {
        RData::A(address) => Some(IpAddr::V4(address.0)),
        RData::AAAA(address) => Some(IpAddr::V6(address.0)),
        _ => None,
    });
    Some((names, glue.collect()))
}

/// Says whether a server that serves a zone serves the one above as well.
async fn serves_above(server: SocketAddr, zone: &DnsName) -> bool {
    let Ok(answer) = ask(server, zone, WireType::DS, Ask::default()).await else { return false };
    let is_above = |record: &Record| {
        matches!(record.data, RData::SOA(_))
            && core_name(&record.name).is_some_and(|owner| owner != *zone && zone.is_within(&owner))
    };
    answer.answers.iter().any(|record| record.record_type() == WireType::DS) || answer.authorities.iter().any(is_above)
}

/// The addresses of a server among the records that came with a referral.
fn glue_of(name: &DnsName, records: &[Record]) -> Vec<IpAddr> {
    let own = records.iter().filter(|record| core_name(&record.name).as_ref() == Some(name));
    let addresses = own.filter_map(|record| match &record.data {
        RData::A(address) => Some(IpAddr::V4(address.0)),
        RData::AAAA(address) => Some(IpAddr::V6(address.0)),
        _ => None,
    });
    addresses.collect()
}

/// The addresses of some servers: out of the glue where there is any, else looked up.
async fn addresses_of(names: &[DnsName], glue: &[Record], resolvers: &[Resolver]) -> Vec<IpAddr> {
    let looks = names.iter().take(MOST_SERVERS).cloned().map(|name| async move {
        let glued = glue_of(&name, glue);
        match resolvers.first().filter(|_| glued.is_empty()) {
            None => glued,
            Some(resolver) => match lookup::resolve(resolver, &name).await {
                Resolved::Addresses { addresses, .. } => addresses,
                Resolved::Nothing { .. } => Vec::new(),
            },
        }
    });
    stream::iter(looks).buffered(SERVERS_AT_ONCE).collect::<Vec<_>>().await.concat()
}

/// For a zone that the zone above calls signed, whether a validating resolver accepts
/// it (RFC 4035 §3.2.3: AD set; a bogus zone is SERVFAIL unless checking is disabled).
async fn validates(zone: &DnsName, parents: &[SocketAddr], resolvers: &[Resolver]) -> Option<bool> {
    let parent = *parents.first()?;
    let resolver = resolvers.first()?;
    let signed = ask(parent, zone, WireType::DS, Ask::default()).await.ok()?;
    if !signed.answers.iter().any(|record| record.record_type() == WireType::DS) {
        return None;
    }
    let how = Ask { dnssec: true, ..Ask::default() };
    let checked = resolver.ask(zone, WireType::SOA, how).await.ok()?;
    match checked.metadata.response_code {
        ResponseCode::NoError if checked.metadata.authentic_data => Some(true),
        ResponseCode::ServFail => {
            let unchecked = resolver.ask(zone, WireType::SOA, Ask { checking_disabled: true, ..how }).await;
            (unchecked.ok()?.metadata.response_code == ResponseCode::NoError).then_some(false)
        }
        _ => None,
    }
}

/// The keys and signatures of a zone that the zone above calls signed, on each of its servers.
async fn signed(zone: &DnsName, parents: &[SocketAddr], servers: &[SocketAddr]) -> Option<SignedView> {
    let above = ask(*parents.first()?, zone, WireType::DS, Ask::default()).await.ok()?;
    let digests: Vec<DS> = above
        .answers
        .iter()
        .filter_map(|record| match &record.data {
            RData::DNSSEC(DNSSECRData::DS(digest)) => Some(digest.clone()),
            _ => None,
        })
        .collect();
    if digests.is_empty() {
        return None;
    }
    let apex = wire_name(zone);
    let how = Ask { dnssec: true, ..Ask::default() };
    let looks = servers.iter().copied().map(|server| async move {
        let (keys, soa) =
            futures::join!(ask(server, zone, WireType::DNSKEY, how), ask(server, zone, WireType::SOA, how));
        (server, keys, soa)
    });
    let mut view = SignedView { without_key: Vec::new(), ends: Vec::new() };
    for (server, keys, soa) in stream::iter(looks).buffered(SERVERS_AT_ONCE).collect::<Vec<_>>().await {
        // One that does not answer is told as that.
        let (Ok(keys), Ok(soa)) = (keys, soa) else { continue };
        let matches = keys.answers.iter().any(|record| match &record.data {
            RData::DNSSEC(DNSSECRData::DNSKEY(key)) => {
                digests.iter().any(|digest| digest.covers(&apex, key).unwrap_or(false))
            }
            _ => false,
        });
        if !matches {
            view.without_key.push(server);
        }
        let ends = keys.answers.iter().chain(&soa.answers).filter_map(|record| match &record.data {
            RData::DNSSEC(DNSSECRData::RRSIG(signature)) => {
                Timestamp::from_second(i64::from(signature.input().sig_expiration.get())).ok()
            }
            _ => None,
        });
        view.ends.extend(ends.min().map(|first| (server, first)));
    }
    Some(view)
}
