//! A change of a zone as whole record sets, for drivers that know nothing smaller.

use std::collections::{BTreeMap, BTreeSet};
use std::iter::successors;

use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{RecordData, RecordSet, ZoneChange, ZoneRecord};
use pindrel_core::zones::zone_data::{NameKey, TypeCode, ZoneData};

use crate::update_error::UpdateError;

/// What the records of one name and type shall be, and what they are now; any type but SOA.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetChange {
    /// The name.
    pub owner: NameKey,
    /// The type.
    pub code: TypeCode,
    /// The data that is there, exactly (RFC 2136 §2.4.2); none where there must be no such set (§2.4.3).
    pub expected: Vec<Vec<u8>>,
    /// The TTL in seconds of what shall be there.
    pub ttl: u32,
    /// The data that shall be there; none where the set shall go.
    pub wanted: Vec<Vec<u8>>,
}

/// The names that a change is about.
pub(crate) fn owners(change: &ZoneChange) -> Vec<DnsName> {
    let owners: BTreeSet<&DnsName> = match change {
        ZoneChange::Add(records) | ZoneChange::Delete(records) => records.iter().map(|record| &record.owner).collect(),
        ZoneChange::Replace(change) => BTreeSet::from([&change.owner]),
    };
    owners.into_iter().cloned().collect()
}

/// A name and those above it, up to the apex of its zone, which is left out.
fn up_to_apex(owner: &DnsName, zone: &DnsName) -> impl Iterator<Item = DnsName> {
    successors(Some(owner.clone()), DnsName::parent).take_while(move |name| name != zone && name.is_within(zone))
}

/// The names that a change depends on: its own, and those above them.
pub(crate) fn names_to_read(change: &ZoneChange, zone: &DnsName) -> Vec<DnsName> {
    let own = owners(change);
    let above = own.iter().flat_map(|owner| up_to_apex(owner, zone));
    above.chain(own.iter().cloned()).collect::<BTreeSet<DnsName>>().into_iter().collect()
}

/// Says why nobody would see what a change writes: it lies at or below a zone cut (RFC 1034 §4.2.1), or below a
/// DNAME (RFC 6672 §2.4).
pub(crate) fn hidden(change: &ZoneChange, zone: &DnsName, now: &ZoneData) -> Option<UpdateError> {
    if matches!(change, ZoneChange::Delete(_)) {
        return None;
    }
    owners(change).into_iter().find_map(|owner| {
        let has = |name: &DnsName, code| now.at(&NameKey::from(name)).any(|entry| entry.code == code);
        // What lies nearest to the apex hides what is below it.
        let hiding = up_to_apex(&owner, zone)
            .filter(|name| has(name, TypeCode::NS) || (*name != owner && has(name, TypeCode::DNAME)))
            .last()?;
        let zone = zone.clone();
        Some(if has(&hiding, TypeCode::NS) {
            UpdateError::Delegated { zone, owner, cut: hiding }
        } else {
            UpdateError::Redirected { zone, owner, dname: hiding }
        })
    })
}

/// Says which record sets a change makes other than they are now; `None` where they are not what it expects.
pub(crate) fn set_changes(change: &ZoneChange, now: &ZoneData) -> Option<Vec<SetChange>> {
    match change {
        ZoneChange::Add(records) => Some(edited(now, records, |set, record| {
            // Neighbours keep their TTL.
            if set.expected.is_empty() {
                set.ttl = record.ttl.as_secs();
            }
            if let Some(data) = record.data.to_wire().filter(|data| !set.wanted.contains(data)) {
                set.wanted.push(data);
            }
        })),
        ZoneChange::Delete(records) => Some(edited(now, records, |set, record| {
            set.wanted.retain(|wire| !is_data(&record.data, set.code, wire));
        })),
        ZoneChange::Replace(change) => {
            let owner = NameKey::from(&change.owner);
            let types = change.place.types();
            let is_concerned = |code: TypeCode| {
                let is_of_alias = || code == TypeCode::ALIAS || types.iter().any(|one| TypeCode::from(*one) == code);
                !code.is_of_signing() && (!change.place.is_apex() || is_of_alias())
            };
            let mut sets = sets_at(now, &owner);
            sets.retain(|code, _| is_concerned(*code));
            let wanted: BTreeMap<TypeCode, &RecordSet> =
                change.wanted.iter().map(|set| (TypeCode::from(set.record_type()), set)).collect();
            let is_wanted = sets.len() == wanted.len()
                && sets.values().all(|set| wanted.get(&set.code).is_some_and(|wanted| holds(set, wanted)));
            let is_expected = sets.len() == change.expected.len()
                && change.expected.iter().all(|expected| {
                    sets.get(&TypeCode::from(expected.record_type())).is_some_and(|set| holds(set, expected))
                });
            if !is_wanted && !is_expected {
                return None;
            }
            for (code, wanted) in wanted {
                let set = sets.entry(code).or_insert_with(|| none(&owner, code));
                set.ttl = wanted.ttl().as_secs();
                set.wanted = wanted.data().iter().filter_map(RecordData::to_wire).collect();
                set.wanted.sort();
            }
            let is_left = |code: &TypeCode| change.wanted.iter().any(|set| TypeCode::from(set.record_type()) == *code);
            for (code, set) in &mut sets {
                if !is_left(code) {
                    set.wanted.clear();
                }
            }
            Some(sets.into_values().filter(|set| is_change(set, now)).collect())
        }
    }
}

/// Says whether a change has been made, whatever the TTLs: a server may have bounds of its own.
pub(crate) fn is_made(change: &ZoneChange, now: &ZoneData) -> bool {
    let is_same = |set: &SetChange| {
        let (mut expected, mut wanted) = (set.expected.clone(), set.wanted.clone());
        expected.sort();
        wanted.sort();
        expected == wanted
    };
    set_changes(change, now).is_some_and(|left| left.iter().all(is_same))
}

/// Says whether a set holds the same data.
fn holds(set: &SetChange, records: &RecordSet) -> bool {
    set.expected.len() == records.data().len()
        && records.data().iter().all(|data| set.expected.iter().any(|wire| is_data(data, set.code, wire)))
}

/// Says whether data on the wire is this data, however the strings of a text are cut.
pub(crate) fn is_data(data: &RecordData, code: TypeCode, wire: &[u8]) -> bool {
    let record_type = data.record_type();
    TypeCode::from(record_type) == code && RecordData::from_wire(record_type, wire).as_ref() == Some(data)
}

fn none(owner: &NameKey, code: TypeCode) -> SetChange {
    SetChange { owner: owner.clone(), code, expected: Vec::new(), ttl: 0, wanted: Vec::new() }
}

/// The sets at a name, each to stay as it is.
fn sets_at(now: &ZoneData, owner: &NameKey) -> BTreeMap<TypeCode, SetChange> {
    let mut sets: BTreeMap<TypeCode, SetChange> = BTreeMap::new();
    for entry in now.at(owner) {
        let set = sets.entry(entry.code).or_insert_with(|| none(owner, entry.code));
        set.ttl = entry.ttl;
        set.expected.push(entry.data.to_vec());
        set.wanted.push(entry.data.to_vec());
    }
    sets
}

/// The sets of some records, each edited by those that belong to it.
fn edited(now: &ZoneData, records: &[ZoneRecord], edit: impl Fn(&mut SetChange, &ZoneRecord)) -> Vec<SetChange> {
    let mut sets: BTreeMap<(NameKey, TypeCode), SetChange> = BTreeMap::new();
    for record in records {
        let (owner, code) = (NameKey::from(&record.owner), TypeCode::from(record.data.record_type()));
        let set = sets
            .entry((owner.clone(), code))
            .or_insert_with(|| sets_at(now, &owner).remove(&code).unwrap_or_else(|| none(&owner, code)));
        edit(set, record);
    }
    sets.into_values().filter(|set| is_change(set, now)).collect()
}

fn is_change(set: &SetChange, now: &ZoneData) -> bool {
    let (mut expected, mut wanted) = (set.expected.clone(), set.wanted.clone());
    expected.sort();
    wanted.sort();
    let ttl = now.at(&set.owner).find(|entry| entry.code == set.code).map(|entry| entry.ttl);
    expected != wanted || (!wanted.is_empty() && ttl != Some(set.ttl))
}
