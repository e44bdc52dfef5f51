//! Dynamic update (RFC 2136) with transaction signatures (RFC 8945).

use std::collections::BTreeMap;

use hickory_proto::dnssec::DnsSecError;
use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::tsig::TsigError;
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType, TSigResponseContext, TSigner};

use super::server::DnsServer;
use super::zone::{Set, Zone};

/// Answers a signed update; the raw message is needed to check its signature.
pub(super) fn answer(server: &DnsServer, message: &Message, raw: &[u8]) -> Option<Vec<u8>> {
    let id = message.metadata.id;
    let mut answer = Message::response(id, OpCode::Update);
    let Some(updates) = &server.updates else {
        answer.metadata.response_code = ResponseCode::NotImp;
        return answer.to_vec().ok();
    };
    let Some(signature) = message.signature() else {
        answer.metadata.response_code = ResponseCode::Refused;
        return answer.to_vec().ok();
    };
    let now = u64::try_from(jiff::Timestamp::now().as_second()).unwrap_or(0);
    let key = updates
        .key
        .as_ref()
        .filter(|key| *key.signer_name() == signature.name && *key.algorithm() == signature.data.algorithm);
    let Some(key) = key else {
        return refuse(answer, TSigResponseContext::unknown_key(id, now, signature.name.clone()));
    };
    match check(key, raw, signature.data.time, signature.data.fudge) {
        Err(_) => refuse(answer, TSigResponseContext::bad_signature(id, now, key.clone())),
        Ok(mac) => {
            let in_time = now.abs_diff(signature.data.time) <= u64::from(signature.data.fudge);
            answer.metadata.response_code = if in_time { server.apply(message) } else { ResponseCode::NotAuth };
            let error = (!in_time).then_some(TsigError::BadTime);
            let context = TSigResponseContext::new(id, now, key.clone(), mac, error);
            sign(answer, context)
        }
    }
}

/// Checks the signature; the library subtracts the fudge from the time, so a time near
/// nought is refused before.
fn check(key: &TSigner, raw: &[u8], time: u64, fudge: u16) -> Result<Vec<u8>, DnsSecError> {
    if time < u64::from(fudge) || time > u64::MAX / 2 {
        return Err(DnsSecError::from("the time of the signature is nonsense"));
    }
    key.verify_message_byte(raw, None, true).map(|(mac, _, _)| mac)
}

fn refuse(mut answer: Message, context: TSigResponseContext) -> Option<Vec<u8>> {
    answer.metadata.response_code = ResponseCode::NotAuth;
    sign(answer, context)
}

fn sign(mut answer: Message, context: TSigResponseContext) -> Option<Vec<u8>> {
    let encoded = answer.to_vec().ok()?;
    answer.set_signature(context.sign(&encoded).ok()?);
    answer.to_vec().ok()
}

/// Checks the prerequisites and carries the update out, wholly or not at all.
pub(super) fn apply(zone: &mut Zone, message: &Message) -> Result<(), ResponseCode> {
    check_prerequisites(zone, &message.answers)?;
    if message.authorities.iter().any(|record| !zone.name.zone_of(&record.name.to_lowercase())) {
        return Err(ResponseCode::NotZone);
    }
    for record in &message.authorities {
        change(zone, record);
    }
    zone.raise_serial();
    Ok(())
}

/// RFC 2136 §3.2.
fn check_prerequisites(zone: &Zone, prerequisites: &[Record]) -> Result<(), ResponseCode> {
    let mut exact: BTreeMap<(Name, RecordType), Vec<RData>> = BTreeMap::new();
    for record in prerequisites {
        let owner = record.name.to_lowercase();
        if !zone.name.zone_of(&owner) {
            return Err(ResponseCode::NotZone);
        }
        let record_type = record.record_type();
        let named = zone.sets.contains_key(&owner);
        let set = zone.set(&owner, record_type).is_some();
        match (record.dns_class, record_type) {
            (DNSClass::ANY, RecordType::ANY) if !named => return Err(ResponseCode::NXDomain),
            (DNSClass::ANY, _) if record_type != RecordType::ANY && !set => return Err(ResponseCode::NXRRSet),
            (DNSClass::NONE, RecordType::ANY) if named => return Err(ResponseCode::YXDomain),
            (DNSClass::NONE, _) if record_type != RecordType::ANY && set => return Err(ResponseCode::YXRRSet),
            (DNSClass::IN, _) => exact.entry((owner, record_type)).or_default().push(record.data.clone()),
            (DNSClass::ANY | DNSClass::NONE, _) => {}
            _ => return Err(ResponseCode::FormErr),
        }
    }
    for ((owner, record_type), wanted) in exact {
        let has = zone.set(&owner, record_type).map_or(&[][..], |set| &set.data);
        if has.len() != wanted.len() || !wanted.iter().all(|data| has.contains(data)) {
            return Err(ResponseCode::NXRRSet);
        }
    }
    Ok(())
}

/// RFC 2136 §3.4.2: what cannot be is left out without a word.
fn change(zone: &mut Zone, record: &Record) {
    let owner = record.name.to_lowercase();
    let record_type = record.record_type();
    let protected = owner == zone.name && matches!(record_type, RecordType::SOA | RecordType::NS);
    match record.dns_class {
        DNSClass::IN => {
            let sets = zone.sets.get(&owner);
            let beside =
                |alias: bool| sets.is_some_and(|sets| sets.keys().any(|other| (*other == RecordType::CNAME) == alias));
            let conflict = if record_type == RecordType::CNAME { beside(false) } else { beside(true) };
            let second = record_type == RecordType::CNAME
                && zone.set(&owner, RecordType::CNAME).is_some_and(|set| !set.data.contains(&record.data));
            if !conflict && !second && record_type != RecordType::SOA {
                zone.add(owner, record.ttl, record.data.clone());
            }
        }
        DNSClass::NONE if !protected => {
            if let Some(set) = zone.sets.get_mut(&owner).and_then(|sets| sets.get_mut(&record_type)) {
                set.data.retain(|data| *data != record.data);
            }
        }
        DNSClass::ANY if record_type == RecordType::ANY => {
            if let Some(sets) = zone.sets.get_mut(&owner) {
                let apex = owner == zone.name;
                sets.retain(|record_type, _| apex && matches!(record_type, RecordType::SOA | RecordType::NS));
            }
        }
        DNSClass::ANY if !protected => {
            if let Some(sets) = zone.sets.get_mut(&owner) {
                sets.remove(&record_type);
            }
        }
        _ => {}
    }
    zone.sets.retain(|_, sets| {
        sets.retain(|_, set: &mut Set| !set.data.is_empty());
        !sets.is_empty()
    });
}
