//! What differs between two zones, by record sets.

use std::cmp::Ordering;

use super::{NameKey, TypeCode, ZoneData, ZoneSet};

/// One record set that is not the same in both zones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The name, as the right zone has it.
    pub name: NameKey,
    /// The type.
    pub code: TypeCode,
    /// The records of the left zone, sorted; none where it has no such set.
    pub left: Vec<SetRecord>,
    /// Those of the right zone.
    pub right: Vec<SetRecord>,
}

/// One record of a set that differs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SetRecord {
    /// Its data as on the wire.
    pub data: Vec<u8>,
    /// Its TTL in seconds.
    pub ttl: u32,
}

/// What is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Compared {
    /// Whether the serial of the SOA record counts, and what signing makes of a zone.
    pub all: bool,
    /// Whether TTLs count.
    pub ttls: bool,
}

/// Returns the record sets that differ, in their order. Where the zones have different names, the names of the left
/// one count as if they lay in the right one.
pub fn compare(left: &ZoneData, right: &ZoneData, compared: Compared) -> Vec<Difference> {
    let is_counted = |set: &ZoneSet<'_>| compared.all || !set.first().code.is_of_signing();
    let (mut lefts, mut rights) =
        (left.sets().filter(is_counted).peekable(), right.sets().filter(is_counted).peekable());
    // The order of names below the apex is the same in both.
    let place = |zone: &ZoneData, set: &ZoneSet<'_>| {
        let owner = set.first().owner;
        let below = owner.strip_prefix(zone.apex().as_bytes());
        (below.is_none(), below.unwrap_or(owner).to_vec(), set.first().code)
    };
    let mut differences = Vec::new();
    loop {
        let order = match (lefts.peek(), rights.peek()) {
            (None, None) => return differences,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(l), Some(r)) if left.apex() == right.apex() => {
                (l.first().owner, l.first().code).cmp(&(r.first().owner, r.first().code))
            }
            (Some(l), Some(r)) => place(left, l).cmp(&place(right, r)),
        };
        let l = if order == Ordering::Greater { None } else { lefts.next() };
        let r = if order == Ordering::Less { None } else { rights.next() };
        if let (Some(l), Some(r)) = (&l, &r)
            && left.apex() == right.apex()
            && is_same(l, r, compared)
        {
            continue;
        }
        let Some(set) = r.or(l) else { return differences };
        let first = set.first();
        let name = match r {
            Some(_) => first.owner(),
            None => first.owner().moved(left.apex(), right.apex()).unwrap_or_else(|| first.owner()),
        };
        let l = l.map_or_else(Vec::new, |set| records(&set, left.apex(), right.apex(), compared));
        let r = r.map_or_else(Vec::new, |set| records(&set, right.apex(), right.apex(), compared));
        if l != r {
            differences.push(Difference { name, code: first.code, left: l, right: r });
        }
    }
}

/// Says whether two sets are the same as they stand, which most are.
fn is_same(left: &ZoneSet<'_>, right: &ZoneSet<'_>, compared: Compared) -> bool {
    left.first().code != TypeCode::SOA
        && left.slots.len() == right.slots.len()
        && left.entries().zip(right.entries()).all(|(l, r)| l.data == r.data && (!compared.ttls || l.ttl == r.ttl))
}

fn records(set: &ZoneSet<'_>, from: &NameKey, to: &NameKey, compared: Compared) -> Vec<SetRecord> {
    let mut records: Vec<SetRecord> = Vec::new();
    for entry in set.entries() {
        let mut data =
            if from == to { entry.data.to_vec() } else { super::rdata::moved(entry.code, entry.data, from, to) };
        if entry.code == TypeCode::SOA && !compared.all && data.len() >= 20 {
            let at = data.len() - 20;
            data[at..at + 4].fill(0);
        }
        records.push(SetRecord { data, ttl: if compared.ttls { entry.ttl } else { 0 } });
    }
    // Of a record that stands there twice, the first counts, whatever its TTL.
    records.sort_by(|left, right| left.data.cmp(&right.data));
    records.dedup_by(|left, right| left.data == right.data);
    records
}
