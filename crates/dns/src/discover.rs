//! A zone's servers and its delegation, from the manifest or by looking.

use std::net::{IpAddr, SocketAddr};

use futures::{StreamExt as _, stream};
use hickory_proto::op::ResponseCode;
use hickory_proto::rr::{RData, Record, RecordType as WireType};
use pindrel_core::facts::{DelegationView, Unreachable, ZoneView};
use pindrel_core::name::DnsName;

use crate::lookup::{self, Resolved, name_servers};
use crate::wire::{Ask, ask, core_name, mnemonic};

/// The port of a server that is found by delegation, which carries none.
const DNS_PORT: u16 = 53;
/// The most servers of one zone that are looked at, and how many at once.
const MOST_SERVERS: usize = 64;
const SERVERS_AT_ONCE: usize = 16;

/// Looks at a zone: its delegation and all its servers, `servers` first and then those of the delegation that are
/// not among them. Where `parents` are empty they are found through `resolvers`.
pub async fn zone(
    zone: &DnsName,
    servers: &[SocketAddr],
    parents: &[SocketAddr],
    resolvers: &[SocketAddr],
) -> ZoneView {
    let found;
    let parents = if parents.is_empty() {
        found = parents_of(zone, resolvers).await;
        &found
    } else {
        parents
    };
    let delegation = delegation(zone, parents, resolvers).await;
    // Whoever resolves the zone asks any of the delegated servers, whichever the manifest names.
    let mut asked = servers.to_vec();
    if let DelegationView::Delegated { addresses, .. } = &delegation {
        let is_named = |address: &IpAddr| servers.iter().any(|server| server.ip() == *address);
        let others = addresses.iter().filter(|address| !is_named(address));
        asked.extend(others.map(|address| SocketAddr::new(*address, DNS_PORT)));
    }
    let looks = asked.into_iter().take(MOST_SERVERS).map(|server| lookup::server(server, zone));
    let views = stream::iter(looks).buffered(SERVERS_AT_ONCE).collect::<Vec<_>>();
    let (servers, validates) = futures::join!(views, validates(zone, parents, resolvers));
    ZoneView { delegation, servers, validates }
}

/// The servers of the zone above, at the nearest name that has any.
async fn parents_of(zone: &DnsName, resolvers: &[SocketAddr]) -> Vec<SocketAddr> {
    let mut above = zone.parent();
    while let Some(candidate) = above {
        for resolver in resolvers {
            let how = Ask { recursion: true, ..Ask::default() };
            let Ok(answer) = ask(*resolver, &candidate, WireType::NS, how).await else { continue };
            let names = name_servers(&answer.answers, &candidate);
            if names.is_empty() {
                break;
            }
            let addresses = addresses_of(&names, &answer.additionals, resolvers).await;
            return addresses
                .into_iter()
                .map(|address| SocketAddr::new(address, DNS_PORT))
                .take(MOST_SERVERS)
                .collect();
        }
        above = candidate.parent();
    }
    Vec::new()
}

async fn delegation(zone: &DnsName, parents: &[SocketAddr], resolvers: &[SocketAddr]) -> DelegationView {
    let mut why = Unreachable::NoneKnown;
    for parent in parents {
        match ask(*parent, zone, WireType::NS, Ask::default()).await {
            Ok(answer) => match answer.metadata.response_code {
                ResponseCode::NoError | ResponseCode::NXDomain => {
                    // A referral stands in the authority section; a server that also serves
                    // the zone itself answers.
                    let mut names = name_servers(&answer.authorities, zone);
                    if names.is_empty() {
                        names = name_servers(&answer.answers, zone);
                    }
                    if names.is_empty() {
                        return DelegationView::Missing { by: *parent };
                    }
                    let mut addresses = addresses_of(&names, &answer.additionals, resolvers).await;
                    addresses.sort();
                    addresses.dedup();
                    return DelegationView::Delegated { by: *parent, name_servers: names, addresses };
                }
                code => why = Unreachable::Code { code: mnemonic(code) },
            },
            Err(error) => why = error,
        }
    }
    DelegationView::Unreachable { why }
}

/// The addresses of some servers: out of the glue where there is any, else looked up.
async fn addresses_of(names: &[DnsName], glue: &[Record], resolvers: &[SocketAddr]) -> Vec<IpAddr> {
    let mut addresses = Vec::new();
    for name in names.iter().take(MOST_SERVERS) {
        let own = glue.iter().filter(|record| core_name(&record.name).as_ref() == Some(name));
        let glued: Vec<IpAddr> = own
            .filter_map(|record| match &record.data {
                RData::A(address) => Some(IpAddr::V4(address.0)),
                RData::AAAA(address) => Some(IpAddr::V6(address.0)),
                _ => None,
            })
            .collect();
        if !glued.is_empty() {
            addresses.extend(glued);
            continue;
        }
        if let Some(resolver) = resolvers.first()
            && let Resolved::Addresses { addresses: found, .. } = lookup::resolve(*resolver, name).await
        {
            addresses.extend(found);
        }
    }
    addresses
}

/// For a zone that the zone above calls signed, whether a validating resolver accepts
/// it (RFC 4035 §3.2.3: AD set; a bogus zone is SERVFAIL unless checking is disabled).
async fn validates(zone: &DnsName, parents: &[SocketAddr], resolvers: &[SocketAddr]) -> Option<bool> {
    let parent = *parents.first()?;
    let resolver = *resolvers.first()?;
    let signed = ask(parent, zone, WireType::DS, Ask::default()).await.ok()?;
    if !signed.answers.iter().any(|record| record.record_type() == WireType::DS) {
        return None;
    }
    let how = Ask { recursion: true, dnssec: true, checking_disabled: false };
    let checked = ask(resolver, zone, WireType::SOA, how).await.ok()?;
    match checked.metadata.response_code {
        ResponseCode::NoError if checked.metadata.authentic_data => Some(true),
        ResponseCode::ServFail => {
            let unchecked: Result<_, Unreachable> =
                ask(resolver, zone, WireType::SOA, Ask { checking_disabled: true, ..how }).await;
            (unchecked.ok()?.metadata.response_code == ResponseCode::NoError).then_some(false)
        }
        _ => None,
    }
}
