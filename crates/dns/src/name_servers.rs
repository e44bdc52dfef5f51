//! Looking at a zone that is about to be served by others.

use std::net::SocketAddr;

use hickory_proto::dnssec::PublicKey as _;
use hickory_proto::dnssec::rdata::{DNSKEY, DNSSECRData, DS};
use hickory_proto::op::Message;
use hickory_proto::rr::{RData, Record, RecordType as WireType};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::name_servers::{Kept, KeptRecords, KeysOfBoth, NameServerChange};

use crate::discover::parents_or_found;
use crate::lookup::name_servers;
use crate::resolver::Resolver;
use crate::wire::{Ask, ask, core_name, first_of, wire_name};

/// Looks at what caches keep of the old server of a zone, and at the keys of both.
///
/// # Errors
/// [`Unreachable`]: the old or the new server does not answer.
pub async fn look(
    zone: &DnsName,
    [old, new]: [SocketAddr; 2],
    parents: &[SocketAddr],
    resolvers: &[Resolver],
) -> Result<NameServerChange, Unreachable> {
    let parents = &*parents_or_found(zone, parents, resolvers).await;
    let plain = Ask::default();
    let (own, next) = futures::join!(ask(old, zone, WireType::NS, plain), ask(new, zone, WireType::NS, plain));
    let (own, next) = (own?, next?);
    let mut kept = Vec::new();
    let mut keep = |records, found: Vec<&Record>| {
        kept.extend(found.iter().map(|record| record.ttl).max().map(|ttl| Kept { records, ttl }));
    };
    keep(KeptRecords::NsOwn, of_zone(&own.answers, zone, WireType::NS));
    let from_parent = async |asked| first_of(parents.iter().map(|parent| ask(*parent, zone, asked, plain))).await.ok();
    let (above, digests) = match from_parent(WireType::NS).await {
        None => (None, None),
        above => (above, from_parent(WireType::DS).await),
    };
    if let Some(above) = &above {
        // The zone above may be served by the zone's own servers.
        let referral = of_zone(&above.authorities, zone, WireType::NS);
        let referral = if referral.is_empty() { of_zone(&above.answers, zone, WireType::NS) } else { referral };
        keep(KeptRecords::NsAbove, referral);
        let is_address = |record: &&Record| matches!(record.data, RData::A(_) | RData::AAAA(_));
        keep(KeptRecords::Glue, above.additionals.iter().filter(is_address).collect());
    }
    let digests: Vec<&Record> =
        digests.iter().flat_map(|answer| of_zone(&answer.answers, zone, WireType::DS)).collect();
    keep(KeptRecords::Ds, digests.clone());
    let digests: Vec<&DS> = digests
        .into_iter()
        .filter_map(|record| match &record.data {
            RData::DNSSEC(DNSSECRData::DS(digest)) => Some(digest),
            _ => None,
        })
        .collect();
    let keys = if digests.is_empty() { None } else { Some(keys_of_both(zone, [old, new], &digests).await?) };
    let name_servers = name_servers(&next.answers, zone);
    Ok(NameServerChange { zone: zone.clone(), name_servers, kept, keys })
}

async fn keys_of_both(zone: &DnsName, [old, new]: [SocketAddr; 2], digests: &[&DS]) -> Result<KeysOfBoth, Unreachable> {
    let how = Ask { dnssec: true, ..Ask::default() };
    let (old, new) = futures::join!(ask(old, zone, WireType::DNSKEY, how), ask(new, zone, WireType::DNSKEY, how));
    let apex = wire_name(zone);
    let keys = |answer: &Message| {
        let keys = answer.answers.iter().filter_map(|record| match &record.data {
            RData::DNSSEC(DNSSECRData::DNSKEY(key)) => Some(key.clone()),
            _ => None,
        });
        keys.collect::<Vec<_>>()
    };
    let (old, new) = (keys(&old?), keys(&new?));
    let new_matches_ds = new.iter().any(|key| digests.iter().any(|digest| digest.covers(&apex, key).unwrap_or(false)));
    let only = |these: &[DNSKEY], those: &[DNSKEY]| {
        let has = |key: &DNSKEY| {
            those.iter().any(|other| {
                other.flags() == key.flags() && other.public_key().public_bytes() == key.public_key().public_bytes()
            })
        };
        let lacking = these.iter().filter(|key| !has(key));
        lacking.filter_map(|key| key.calculate_key_tag().ok()).collect::<Vec<u16>>()
    };
    Ok(KeysOfBoth { new_matches_ds, missing_at_new: only(&old, &new), missing_at_old: only(&new, &old) })
}

fn of_zone<'r>(records: &'r [Record], zone: &DnsName, wire_type: WireType) -> Vec<&'r Record> {
    let own = records.iter().filter(|record| record.record_type() == wire_type);
    own.filter(|record| core_name(&record.name).as_ref() == Some(zone)).collect()
}
