//! Dynamic update (RFC 2136).

use std::collections::BTreeMap;

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType};

use super::zone::{Set, Zone};

/// Checks the prerequisites and carries the update out, wholly or not at all.
pub(super) fn apply(zone: &mut Zone, message: &Message) -> Result<(), ResponseCode> {
    check_prerequisites(zone, &message.answers)?;
    if message.authorities.iter().any(|record| !zone.name.zone_of(&record.name.to_lowercase())) {
        return Err(ResponseCode::NotZone);
    }
    let mut changed = false;
    for record in &message.authorities {
        changed |= change(zone, record);
    }
    // A zone in which nothing changed keeps its serial (RFC 2136 §3.6).
    if changed {
        zone.raise_serial();
    }
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

/// RFC 2136 §3.4.2: what cannot be is left out without a word. Says whether anything changed.
fn change(zone: &mut Zone, record: &Record) -> bool {
    let owner = record.name.to_lowercase();
    let before = zone.sets.get(&owner).cloned();
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
                zone.add(owner.clone(), record.ttl, record.data.clone());
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
    zone.sets.get(&owner) != before.as_ref()
}

#[cfg(test)]
mod tests {
    use std::net::IpAddr;
    use std::time::Duration;

    use hickory_proto::op::{Query, UpdateMessage as _};
    use hickory_proto::rr::rdata::{A, CNAME, NULL, TXT};

    use super::super::zone::name;
    use super::*;

    const OWNER: &str = "api.larkfield.example";

    fn zone() -> Zone {
        let server = IpAddr::from([127, 0, 0, 1]);
        let mut zone = Zone::with_servers("larkfield.example", [server, server], Duration::from_secs(5));
        zone.add(name(OWNER), 300, text("one"));
        zone.add(name(OWNER), 300, text("two"));
        zone.add(name("www.larkfield.example"), 300, alias("edge.test"));
        zone
    }

    fn text(text: &str) -> RData {
        RData::TXT(TXT::new(vec![text.to_owned()]))
    }

    fn alias(target: &str) -> RData {
        RData::CNAME(CNAME(name(target)))
    }

    fn record(owner: &str, class: DNSClass, data: RData) -> Record {
        let mut record = Record::from_rdata(name(owner), 60, data);
        record.dns_class = class;
        record
    }

    /// A record without data, as those of class ANY and of absent sets are.
    fn bare(owner: &str, class: DNSClass, record_type: RecordType) -> Record {
        let mut record = Record::update0(name(owner), 0, record_type).into_record_of_rdata();
        record.dns_class = class;
        record
    }

    fn message(prerequisites: Vec<Record>, updates: Vec<Record>) -> Message {
        let mut message = Message::query();
        message.metadata.op_code = hickory_proto::op::OpCode::Update;
        message.add_zone(Query::query(name("larkfield.example"), RecordType::SOA));
        message.add_pre_requisites(prerequisites);
        message.add_updates(updates);
        message
    }

    /// RFC 2136 §2.4, each kind met and not met; one that is not met changes nothing.
    #[test]
    fn prerequisites_are_judged_by_their_class_and_type() {
        use DNSClass::{ANY, IN, NONE};
        let unused = "unused.larkfield.example";
        for (prerequisites, expected) in [
            (vec![bare(OWNER, ANY, RecordType::ANY)], Ok(())),
            (vec![bare(unused, ANY, RecordType::ANY)], Err(ResponseCode::NXDomain)),
            (vec![bare(OWNER, ANY, RecordType::TXT)], Ok(())),
            (vec![bare(OWNER, ANY, RecordType::A)], Err(ResponseCode::NXRRSet)),
            (vec![bare(unused, NONE, RecordType::ANY)], Ok(())),
            (vec![bare(OWNER, NONE, RecordType::ANY)], Err(ResponseCode::YXDomain)),
            (vec![bare(OWNER, NONE, RecordType::A)], Ok(())),
            (vec![bare(OWNER, NONE, RecordType::TXT)], Err(ResponseCode::YXRRSet)),
            (vec![record(OWNER, IN, text("two")), record(OWNER, IN, text("one"))], Ok(())),
            (vec![record(OWNER, IN, text("one"))], Err(ResponseCode::NXRRSet)),
            (vec![record(OWNER, IN, text("three"))], Err(ResponseCode::NXRRSet)),
            (vec![record("elsewhere.example", IN, text("one"))], Err(ResponseCode::NotZone)),
            (vec![record(OWNER, DNSClass::CH, text("one"))], Err(ResponseCode::FormErr)),
        ] {
            let mut zone = zone();
            let shown = format!("{prerequisites:?}");
            let added = record(unused, IN, text("added"));
            assert_eq!(apply(&mut zone, &message(prerequisites, vec![added])), expected, "{shown}");
            let came = zone.set(&name(unused), RecordType::TXT).is_some();
            assert_eq!((came, zone.serial()), (expected.is_ok(), if expected.is_ok() { 2 } else { 1 }), "{shown}");
        }
    }

    /// RFC 2136 §3.4.2: what each update leaves, written as `types at the name`.
    #[test]
    fn updates_change_what_they_may_and_leave_the_rest_out_without_a_word() {
        use DNSClass::{ANY, IN, NONE};
        let apex = "larkfield.example";
        let www = "www.larkfield.example";
        let address = || RData::A(A([127, 0, 0, 9].into()));
        for (owner, update, left) in [
            (OWNER, record(OWNER, IN, text("three")), "TXT 3"),
            (OWNER, record(OWNER, IN, text("one")), "TXT 2"),
            (OWNER, record(OWNER, IN, address()), "A 1, TXT 2"),
            (OWNER, record(OWNER, IN, alias("edge.test")), "TXT 2"),
            (www, record(www, IN, alias("other.test")), "CNAME 1"),
            (www, record(www, IN, address()), "CNAME 1"),
            (OWNER, record(OWNER, NONE, text("one")), "TXT 1"),
            (OWNER, record(OWNER, NONE, text("never there")), "TXT 2"),
            (OWNER, bare(OWNER, ANY, RecordType::TXT), ""),
            (www, bare(www, ANY, RecordType::ANY), ""),
            (apex, bare(apex, ANY, RecordType::ANY), "NS 2, SOA 1"),
            (apex, bare(apex, ANY, RecordType::NS), "NS 2, SOA 1"),
            (apex, record(apex, NONE, RData::NULL(NULL::new())), "NS 2, SOA 1"),
        ] {
            let mut zone = zone();
            let shown = format!("{update:?}");
            let before = zone.sets.clone();
            apply(&mut zone, &message(Vec::new(), vec![update])).unwrap();
            let soa = (name(apex), RecordType::SOA);
            let is_same = |(owner, sets): (&Name, &BTreeMap<RecordType, Set>)| {
                sets.iter().all(|(kind, set)| {
                    (owner, kind) == (&soa.0, &soa.1) || before.get(owner).and_then(|own| own.get(kind)) == Some(set)
                })
            };
            let changed = zone.sets.len() != before.len()
                || !zone.sets.iter().all(is_same)
                || zone.sets.values().map(BTreeMap::len).sum::<usize>()
                    != before.values().map(BTreeMap::len).sum::<usize>();
            assert_eq!(
                zone.serial(),
                if changed { 2 } else { 1 },
                "a zone that stays as it is keeps its serial: {shown}"
            );
            let sets = zone.sets.get(&name(owner));
            let mut kinds: Vec<String> = sets
                .into_iter()
                .flatten()
                .map(|(record_type, set)| format!("{record_type} {}", set.data.len()))
                .collect();
            kinds.sort();
            assert_eq!(kinds.join(", "), left, "{shown}");
        }
        // One record out of the zone, and nothing of the message is carried out.
        let mut zone = zone();
        let updates = vec![record(OWNER, IN, text("three")), record("elsewhere.example", IN, text("no"))];
        assert_eq!(apply(&mut zone, &message(Vec::new(), updates)), Err(ResponseCode::NotZone));
        assert_eq!(zone.set(&name(OWNER), RecordType::TXT).map(|set| set.data.len()), Some(2));
    }
}
