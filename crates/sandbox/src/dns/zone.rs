//! The contents of one zone.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::time::Duration;

use hickory_proto::rr::rdata::{A, AAAA, CNAME, NS, SOA, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};

/// The TTL of the records that the sandbox makes itself.
const OWN_TTL: u32 = 60;

/// All records of one name and type.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Set {
    pub(crate) ttl: u32,
    pub(crate) data: Vec<RData>,
}

/// What a zone says to a question.
pub(crate) enum Found {
    /// These records.
    Records(Vec<Record>),
    /// The name exists, but not with this type.
    NoData,
    /// The name does not exist.
    NoName,
    /// The name lies below a delegation: its NS records and their glue.
    Referral(Vec<Record>, Vec<Record>),
}

/// One zone.
#[derive(Debug, Clone)]
pub struct Zone {
    pub(crate) name: Name,
    pub(crate) sets: BTreeMap<Name, BTreeMap<RecordType, Set>>,
}

/// Reads a name, with or without its final dot; what is no name becomes the root,
/// which no zone of the sandbox serves.
pub(crate) fn name(text: &str) -> Name {
    let mut name = Name::from_ascii(text).unwrap_or_else(|_| Name::root()).to_lowercase();
    name.set_fqdn(true);
    name
}

/// Reads the data of a record of one of a few types.
pub(crate) fn data(record_type: &str, value: &str) -> Option<RData> {
    Some(match record_type.to_ascii_uppercase().as_str() {
        "A" => RData::A(A(value.parse().ok()?)),
        "AAAA" => RData::AAAA(AAAA(value.parse().ok()?)),
        "CNAME" => RData::CNAME(CNAME(Name::from_ascii(value).ok().map(|_| name(value))?)),
        "TXT" => RData::TXT(TXT::new(vec![value.to_owned()])),
        _ => return None,
    })
}

impl Zone {
    pub(crate) fn with_servers(zone: &str, servers: [IpAddr; 2], negative_ttl: Duration) -> Zone {
        let mut made = Zone { name: name(zone), sets: BTreeMap::new() };
        let minimum = u32::try_from(negative_ttl.as_secs()).unwrap_or(5).max(1);
        let soa =
            SOA::new(name(&format!("ns1.{zone}")), name(&format!("hostmaster.{zone}")), 1, 60, 5, 86_400, minimum);
        made.add(name(zone), OWN_TTL, RData::SOA(soa));
        made.add_servers(zone, servers);
        made
    }

    /// Adds a delegation with its glue.
    pub(crate) fn delegate(&mut self, child: &str, servers: [IpAddr; 2]) {
        self.add_servers(child, servers);
    }

    fn add_servers(&mut self, zone: &str, servers: [IpAddr; 2]) {
        for (n, server) in servers.into_iter().enumerate() {
            let host = format!("ns{}.{zone}", n + 1);
            self.add(name(zone), OWN_TTL, RData::NS(NS(name(&host))));
            self.add_address(&host, OWN_TTL, server);
        }
    }

    pub(crate) fn add_address(&mut self, host: &str, ttl: u32, address: IpAddr) {
        let data = match address {
            IpAddr::V4(address) => RData::A(A(address)),
            IpAddr::V6(address) => RData::AAAA(AAAA(address)),
        };
        self.add(name(host), ttl, data);
    }

    pub(crate) fn add_text(&mut self, host: &str, ttl: u32, text: &str) {
        self.add(name(host), ttl, RData::TXT(TXT::new(vec![text.to_owned()])));
    }

    /// Adds a record; a repeated one changes only the TTL of its set.
    pub(crate) fn add(&mut self, owner: Name, ttl: u32, data: RData) {
        let set = self
            .sets
            .entry(owner)
            .or_default()
            .entry(data.record_type())
            .or_insert_with(|| Set { ttl, data: Vec::new() });
        set.ttl = ttl;
        if !set.data.contains(&data) {
            set.data.push(data);
        }
    }

    pub(crate) fn set(&self, owner: &Name, record_type: RecordType) -> Option<&Set> {
        self.sets.get(owner)?.get(&record_type)
    }

    pub(crate) fn records(&self, owner: &Name, record_type: RecordType) -> Vec<Record> {
        let set = self.set(owner, record_type);
        set.map_or_else(Vec::new, |set| {
            set.data.iter().map(|data| Record::from_rdata(owner.clone(), set.ttl, data.clone())).collect()
        })
    }

    pub(crate) fn soa(&self) -> Option<Record> {
        self.records(&self.name, RecordType::SOA).pop()
    }

    pub(crate) fn serial(&self) -> u32 {
        match self.soa().map(|record| record.data) {
            Some(RData::SOA(soa)) => soa.serial,
            _ => 0,
        }
    }

    /// Becomes what a server further on has; two changes close together may arrive in the
    /// other order (RFC 1982 §3.2).
    pub(crate) fn follow(&mut self, changed: Zone) {
        if changed.serial().wrapping_sub(self.serial()) < u32::MAX / 2 {
            *self = changed;
        }
    }

    /// Counts a change.
    pub(crate) fn raise_serial(&mut self) {
        let set = self.sets.get_mut(&self.name).and_then(|sets| sets.get_mut(&RecordType::SOA));
        if let Some(RData::SOA(soa)) = set.and_then(|set| set.data.first_mut()) {
            soa.serial = soa.serial.wrapping_add(1);
        }
    }

    /// Answers a question as RFC 1034 §4.3.2 says, wildcards included.
    pub(crate) fn find(&self, owner: &Name, record_type: RecordType) -> Found {
        if let Some(cut) = self.delegation_above(owner, record_type) {
            let servers = self.records(&cut, RecordType::NS);
            let hosts = servers.iter().filter_map(|record| match &record.data {
                RData::NS(host) => Some(host.0.clone()),
                _ => None,
            });
            let glue = hosts
                .flat_map(|host| [self.records(&host, RecordType::A), self.records(&host, RecordType::AAAA)].concat());
            let glue = glue.collect();
            return Found::Referral(servers, glue);
        }
        let Some((sets, source)) = self.sets_for(owner) else {
            // An empty non-terminal exists, though it has no records (RFC 8020).
            let below = self.sets.keys().any(|name| owner.zone_of(name) && name != owner);
            return if below { Found::NoData } else { Found::NoName };
        };
        let wanted = if sets.contains_key(&record_type) { record_type } else { RecordType::CNAME };
        if record_type == RecordType::ANY {
            let all = sets.keys().flat_map(|record_type| self.records(&source, *record_type));
            return Found::Records(all.collect());
        }
        let mut records = self.records(&source, wanted);
        for record in &mut records {
            record.name = owner.clone();
        }
        if records.is_empty() { Found::NoData } else { Found::Records(records) }
    }

    /// The sets of a name, or of the wildcard that stands for it.
    fn sets_for(&self, owner: &Name) -> Option<(&BTreeMap<RecordType, Set>, Name)> {
        if let Some(sets) = self.sets.get(owner) {
            return Some((sets, owner.clone()));
        }
        let mut above = owner.base_name();
        while self.name.zone_of(&above) {
            let exists = self.sets.keys().any(|name| above.zone_of(name));
            let star = above.prepend_label("*").ok()?;
            if let Some(sets) = self.sets.get(&star) {
                return Some((sets, star));
            }
            if exists || above == self.name {
                return None;
            }
            above = above.base_name();
        }
        None
    }

    /// Says whether a name is this zone's to answer for, and not handed over to another one.
    pub(crate) fn is_own(&self, owner: &Name) -> bool {
        self.delegation_above(owner, RecordType::ANY).is_none()
    }

    /// The delegation at or above a name, if any. The DS of a zone is asked for above
    /// the cut (RFC 4035 §3.1.4.1).
    fn delegation_above(&self, owner: &Name, record_type: RecordType) -> Option<Name> {
        let mut cut = owner.clone();
        let mut found = None;
        while self.name.zone_of(&cut) && cut != self.name {
            let at_cut = cut == *owner && record_type == RecordType::DS;
            if !at_cut && self.set(&cut, RecordType::NS).is_some() {
                found = Some(cut.clone());
            }
            cut = cut.base_name();
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use hickory_proto::rr::rdata::CNAME;

    use super::*;

    fn zone() -> Zone {
        let servers = ["127.0.0.1".parse().unwrap(), "::1".parse().unwrap()];
        let mut zone = Zone::with_servers("larkfield.example", servers, Duration::from_secs(5));
        zone.delegate("labs.larkfield.example", servers);
        zone.add_text("*.pages.larkfield.example", 60, "any page");
        zone.add_text("one.pages.larkfield.example", 60, "one page");
        zone.add_text("deep.below.larkfield.example", 60, "deep");
        zone.add(name("www.larkfield.example"), 60, RData::CNAME(CNAME(name("edge.test"))));
        zone
    }

    /// RFC 1034 §4.3.2, RFC 4592 §2.2 for wildcards, RFC 8020 for names without records.
    #[test]
    fn a_question_is_answered_by_the_rules_of_zones() {
        use RecordType::{A, CNAME, DS, NS, SOA, TXT};
        let zone = zone();
        for (owner, record_type, expected) in [
            ("larkfield.example", SOA, "1 records"),
            ("larkfield.example", TXT, "no data"),
            ("nothing.larkfield.example", A, "no name"),
            // An empty non-terminal exists.
            ("below.larkfield.example", A, "no data"),
            ("deep.below.larkfield.example", TXT, "1 records"),
            // A wildcard stands for what does not exist, below its own name only.
            ("two.pages.larkfield.example", TXT, "1 records"),
            ("a.b.pages.larkfield.example", TXT, "1 records"),
            ("two.pages.larkfield.example", A, "no data"),
            ("pages.larkfield.example", TXT, "no data"),
            ("below.one.pages.larkfield.example", TXT, "no name"),
            // An alias answers for other types, and for its own.
            ("www.larkfield.example", A, "1 records"),
            ("www.larkfield.example", CNAME, "1 records"),
            // Below a cut others answer; the DS stands above it.
            ("labs.larkfield.example", NS, "referral 2 with 2"),
            ("api.labs.larkfield.example", A, "referral 2 with 2"),
            ("labs.larkfield.example", DS, "no data"),
        ] {
            let found = match zone.find(&name(owner), record_type) {
                Found::Records(records) => {
                    assert!(records.iter().all(|record| record.name == name(owner)), "{owner}: as asked");
                    format!("{} records", records.len())
                }
                Found::NoData => "no data".into(),
                Found::NoName => "no name".into(),
                Found::Referral(servers, glue) => format!("referral {} with {}", servers.len(), glue.len()),
            };
            assert_eq!(found, expected, "{owner} {record_type}");
        }
    }
}
