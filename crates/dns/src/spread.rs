//! How far a change has spread: what one server or resolver says of the records that are watched.

use std::net::SocketAddr;

use futures::future::join_all;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, RecordType as WireType};
use pindrel_core::judging::facts::{Unreachable, Unresolved};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::{Serial, Ttl};
use pindrel_core::zones::propagation::{ResolverAnswer, ServerAnswer};
use pindrel_core::zones::records::{AliasPlace, RecordSet, RecordType};

use crate::lookup::{self, negative_secs, reason, sets};
use crate::resolver::Resolver;
use crate::wire::{Ask, ask, wire_type};

/// Which records of a name are watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Watched {
    /// Its alias, or whatever stands in the place of one.
    Alias(AliasPlace),
    /// Those of one type.
    Type(RecordType),
}

/// Asks a server for the records that are watched, and for its serial.
pub async fn at_server(server: SocketAddr, zone: &DnsName, owner: &DnsName, watched: Watched) -> ServerAnswer {
    let (sets, soa) = futures::join!(
        async {
            match watched {
                Watched::Type(record_type) => lookup::records(server, owner, record_type).await,
                Watched::Alias(place) => lookup::alias_at(server, owner, place).await.map(|(gives, _)| gives),
            }
        },
        soa(server, zone)
    );
    match sets {
        Ok(sets) => ServerAnswer::Gives { sets, serial: soa.map(|(serial, _)| serial) },
        Err(why) => ServerAnswer::Silent(why),
    }
}

/// Returns for how long a resolver may keep that a name of the zone does not exist: the lesser of the SOA record's
/// TTL and minimum (RFC 2308 §3).
pub async fn negative_ttl(server: SocketAddr, zone: &DnsName) -> Option<Ttl> {
    soa(server, zone).await.map(|(_, negative)| negative)
}

async fn soa(server: SocketAddr, zone: &DnsName) -> Option<(Serial, Ttl)> {
    let answer = ask(server, zone, WireType::SOA, Ask::default()).await.ok()?;
    answer.answers.iter().find_map(|record| match &record.data {
        RData::SOA(soa) => Some((Serial(soa.serial), Ttl::try_from(record.ttl.min(soa.minimum)).unwrap_or(Ttl::ZERO))),
        _ => None,
    })
}

/// Asks a resolver for the records that are watched, as a client does that looks for addresses: what it keeps of one
/// type hides what there is of another.
pub async fn at_resolver(
    resolver: &Resolver,
    owner: &DnsName,
    watched: Watched,
    wanted: &[RecordSet],
) -> ResolverAnswer {
    let types: Vec<RecordType> = match watched {
        Watched::Type(record_type) => vec![record_type],
        // A CNAME comes with whatever address is asked for.
        Watched::Alias(_) => {
            let addresses = wanted.iter().map(RecordSet::record_type);
            let addresses: Vec<_> = addresses.filter(|one| AliasPlace::ApexWithHttps.types().contains(one)).collect();
            if addresses.is_empty() { vec![RecordType::A] } else { addresses }
        }
    };
    let ask = async |one: RecordType| (one, resolver.ask(owner, wire_type(one), Ask::default()).await);
    let asked = join_all(types.iter().map(|one| ask(*one)));
    let (mut found, mut nothing) = (Vec::new(), None);
    for (record_type, answer) in asked.await {
        let answer = match answer {
            Ok(answer) => answer,
            Err(why) => return ResolverAnswer::Silent(why),
        };
        match at_name(&answer, owner, record_type) {
            Ok(own) if !own.is_empty() => found.extend(own),
            Ok(_) => nothing = nothing.or(Some((reason(&answer), negative_secs(&answer)))),
            Err(why) => return ResolverAnswer::Silent(why),
        }
    }
    // A CNAME may have come with each type.
    found.sort_by_key(RecordSet::record_type);
    found.dedup_by(|one, other| one.same_data(other));
    match nothing {
        _ if !found.is_empty() => {
            let for_secs = found.iter().map(|set| set.ttl().as_secs()).max().unwrap_or(0);
            ResolverAnswer::Gives { sets: found, for_secs }
        }
        Some((why, for_secs)) => ResolverAnswer::Nothing { why, for_secs },
        None => ResolverAnswer::Nothing { why: Unresolved::NoAddress, for_secs: None },
    }
}

/// The sets at the name itself, a CNAME among them.
fn at_name(answer: &Message, owner: &DnsName, record_type: RecordType) -> Result<Vec<RecordSet>, Unreachable> {
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => {}
        code => return Err(Unreachable::Code { code: crate::wire::mnemonic(code) }),
    }
    let alias = if record_type == RecordType::Cname { Vec::new() } else { sets(answer, owner, RecordType::Cname) };
    Ok(if alias.is_empty() { sets(answer, owner, record_type) } else { alias })
}
