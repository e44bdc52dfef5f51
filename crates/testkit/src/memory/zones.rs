//! One zone on two servers, and a resolver that caches.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{NameChange, RecordData, RecordSet, RecordType, ZoneChange, ZoneRecord, same_data};
use pindrel_core::zones::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData};
use pindrel_dns::SetChange;

/// The records of the zone, by name and data, with their TTL.
pub(crate) type Records = BTreeMap<(DnsName, RecordData), Ttl>;

/// What a resolver keeps of one name.
#[derive(Clone)]
struct Cached {
    addresses: Vec<IpAddr>,
    until: Duration,
}

pub(crate) struct MemoryZones {
    /// The zone after each change, the newest last, with the time of the change.
    versions: Vec<(Duration, Records)>,
    /// Since when the secondary takes nothing over.
    pub(crate) frozen_at: Option<Duration>,
    cache: HashMap<DnsName, Cached>,
    /// How many changes were made.
    pub(crate) changes: usize,
    /// How many texts stood at one name at most.
    pub(crate) most_texts: usize,
}

impl Default for MemoryZones {
    fn default() -> Self {
        let versions = vec![(Duration::ZERO, Records::new())];
        MemoryZones { versions, frozen_at: None, cache: HashMap::new(), changes: 0, most_texts: 0 }
    }
}

impl MemoryZones {
    fn newest(&self) -> Records {
        self.versions.last().map(|(_, records)| records.clone()).unwrap_or_default()
    }

    /// The TTL of a name's records on the primary.
    pub(crate) fn ttl(&self, owner: &DnsName) -> Option<Ttl> {
        let (_, records) = self.versions.last()?;
        records.iter().find(|((name, _), _)| name == owner).map(|(_, ttl)| *ttl)
    }

    /// What a server gives: the newest, or what it has taken over by now.
    pub(crate) fn served(&self, primary: bool, lag: Duration, now: Duration) -> Records {
        if primary {
            return self.newest();
        }
        let until = self.frozen_at.unwrap_or(now);
        let taken = self.versions.iter().rev().find(|(at, _)| *at + lag <= until);
        taken.or(self.versions.first()).map(|(_, records)| records.clone()).unwrap_or_default()
    }

    pub(crate) fn sets(records: &Records, owner: &DnsName, of: &[RecordType]) -> Vec<RecordSet> {
        let own = records.iter().filter(|((name, data), _)| name == owner && of.contains(&data.record_type()));
        RecordSet::group(own.map(|((_, data), ttl)| (*ttl, data.clone())))
    }

    /// What a server answers for a name: its own records, else those of the wildcard at the closest
    /// name that exists (RFC 4592 §3.3.1); a name exists also where only something below it does.
    pub(crate) fn answered(records: &Records, owner: &DnsName, of: &[RecordType]) -> Vec<RecordSet> {
        source(records, owner).map_or_else(Vec::new, |source| MemoryZones::sets(records, &source, of))
    }

    pub(crate) fn has(records: &Records, record: &ZoneRecord) -> bool {
        records.contains_key(&(record.owner.clone(), record.data.clone()))
    }

    /// Makes a change as a whole; `false` where what was expected is not there.
    pub(crate) fn change(&mut self, change: &ZoneChange, now: Duration) -> bool {
        let mut records = self.newest();
        match change {
            ZoneChange::Add(added) => {
                for ZoneRecord { owner, ttl, data } in added {
                    records.insert((owner.clone(), data.clone()), *ttl);
                    let texts = MemoryZones::sets(&records, owner, &[RecordType::Txt]);
                    let texts = texts.iter().map(|set| set.data().len()).sum();
                    self.most_texts = self.most_texts.max(texts);
                }
            }
            ZoneChange::Delete(deleted) => {
                for ZoneRecord { owner, data, .. } in deleted {
                    records.remove(&(owner.clone(), data.clone()));
                }
            }
            ZoneChange::Replace(NameChange { owner, expected, wanted, .. }) => {
                const ALIASES: [RecordType; 3] = [RecordType::A, RecordType::Aaaa, RecordType::Cname];
                if !same_data(&MemoryZones::sets(&records, owner, &ALIASES), expected) {
                    return false;
                }
                records.retain(|(name, data), _| name != owner || !ALIASES.contains(&data.record_type()));
                for set in wanted {
                    for data in set.data() {
                        records.insert((owner.clone(), data.clone()), set.ttl());
                    }
                }
            }
        }
        self.versions.push((now, records));
        self.changes += 1;
        // Only what the secondary may still serve is kept.
        if self.versions.len() > 256 && self.frozen_at.is_none() {
            self.versions.drain(..128);
        }
        true
    }

    /// The newest zone as a whole.
    pub(crate) fn whole(&self) -> ZoneData {
        let mut builder = ZoneBuilder::default();
        for ((owner, data), ttl) in self.newest() {
            if let Some(wire) = data.to_wire() {
                let code = TypeCode::from(data.record_type());
                let _ = builder.add(&NameKey::from(&owner), code, ttl.as_secs(), &wire, Place::default());
            }
        }
        builder.finish(NameKey::parse(super::MEMORY_ZONE.as_bytes(), &NameKey::root()).ok())
    }

    /// Makes whole sets what they shall be; `false` where one is not what is expected, and nothing changes then.
    pub(crate) fn change_sets(&mut self, changes: &[SetChange], now: Duration) -> bool {
        let mut records = self.newest();
        for change in changes {
            let is_of = |owner: &DnsName, data: &RecordData| {
                NameKey::from(owner) == change.owner && TypeCode::from(data.record_type()) == change.code
            };
            let own = records.keys().filter(|(owner, data)| is_of(owner, data));
            let mut present: Vec<Vec<u8>> = own.filter_map(|(_, data)| data.to_wire()).collect();
            let mut expected = change.expected.clone();
            present.sort();
            expected.sort();
            let Some(owner) = change.owner.to_dns_name().filter(|_| present == expected) else { return false };
            records.retain(|(name, data), _| !is_of(name, data));
            for wire in &change.wanted {
                let record_type = change.code.to_string().parse().ok();
                let data = record_type.and_then(|record_type| RecordData::from_wire(record_type, wire));
                let ttl = Ttl::try_from(change.ttl).unwrap_or(Ttl::MINUTE);
                let Some(data) = data else { return false };
                records.insert((owner.clone(), data), ttl);
            }
        }
        self.versions.push((now, records));
        true
    }

    /// What a resolver answers for a name: from its cache, else from the `records` of the
    /// server that it asks, with the time that it keeps that. `targets` gives the addresses of names outside the zone.
    pub(crate) fn resolve(
        &mut self,
        records: &Records,
        name: &DnsName,
        targets: &HashMap<DnsName, Vec<IpAddr>>,
        negative: Duration,
        now: Duration,
    ) -> Result<(Vec<IpAddr>, Duration), Duration> {
        if let Some(addresses) = targets.get(name) {
            return Ok((addresses.clone(), negative));
        }
        let fresh = self.cache.get(name).filter(|cached| cached.until > now).cloned();
        let cached = fresh.unwrap_or_else(|| {
            let found = lookup(records, name, targets);
            let (addresses, ttl) = found.unwrap_or((Vec::new(), negative));
            let cached = Cached { addresses, until: now + ttl };
            self.cache.insert(name.clone(), cached.clone());
            cached
        });
        let left = cached.until.saturating_sub(now);
        if cached.addresses.is_empty() { Err(left) } else { Ok((cached.addresses, left)) }
    }
}

/// The name whose records answer a question for `name`.
fn source(records: &Records, name: &DnsName) -> Option<DnsName> {
    let exists = |name: &DnsName| records.keys().any(|(owner, _)| owner.is_within(name));
    if exists(name) {
        return Some(name.clone());
    }
    let mut encloser = name.parent();
    while let Some(above) = encloser.as_ref().filter(|above| !exists(above)) {
        encloser = above.parent();
    }
    encloser?.below("*").ok()
}

fn lookup(
    records: &Records,
    name: &DnsName,
    targets: &HashMap<DnsName, Vec<IpAddr>>,
) -> Option<(Vec<IpAddr>, Duration)> {
    let owner = source(records, name)?;
    let own = records.iter().filter(|((at, _), _)| *at == owner);
    let mut addresses = Vec::new();
    let mut shortest: Option<Ttl> = None;
    for ((_, data), ttl) in own {
        match data {
            RecordData::A(address) => addresses.push(IpAddr::V4(*address)),
            RecordData::Aaaa(address) => addresses.push(IpAddr::V6(*address)),
            RecordData::Cname(target) => addresses.extend(targets.get(target).into_iter().flatten()),
            _ => continue,
        }
        shortest = Some(shortest.map_or(*ttl, |shortest| shortest.min(*ttl)));
    }
    let kept = Duration::from_secs(shortest.map_or(0, |ttl| u64::from(ttl.as_secs())));
    (!addresses.is_empty()).then_some((addresses, kept))
}

/// Says whether an address is that of a server of the zone, and whether it is the primary's.
pub(crate) fn server(address: SocketAddr) -> Option<bool> {
    match address.to_string().as_str() {
        super::PRIMARY => Some(true),
        super::SECONDARY => Some(false),
        _ => None,
    }
}
