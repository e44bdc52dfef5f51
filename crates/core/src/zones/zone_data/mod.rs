//! Whole zones: names and records as they are on the wire, compared and judged.
//!
//! A zone of a million names has to fit, so that all octets stand in one place and a record is a few numbers.
//! [`ZoneBuilder`] takes records in any order, from a zone file or a transfer; [`ZoneData`] holds them sorted, in
//! the canonical order of names (RFC 4034 §6.1), by type and by data.

mod compare;
mod increment;
mod location;
mod name;
mod outside;
mod prefixes;
pub mod rdata;
mod reach;
mod spellings;
mod svc_params;
mod token;
mod type_code;
mod zone_lint;

use std::fmt;
use std::ops::ControlFlow;

pub use compare::{Compared, Difference, SetRecord, compare};
pub use increment::{DoesNotFit, Increment};
pub use name::{NameKey, NameTextError};
pub use outside::{MOST_OUTSIDE, missing_slips, outside_targets};
pub use reach::{ReachedEndpoint, reach_slips};
use spellings::Spellings;
pub use type_code::TypeCode;
pub use zone_lint::{MOST_SLIPS, Severity, Slip, SlipCode, slips};

use crate::values::Serial;

/// The most octets that one zone may take: a small multiple of what is read of one, however it is written.
const MOST_OCTETS: usize = 512 << 20;

/// Where a record stands in a zone file; nought for one that came over the wire.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Hash)]
pub struct Place {
    /// Which of the files.
    pub file: u16,
    /// The line, from 1.
    pub line: u32,
}

#[derive(Debug, Clone, Copy)]
struct Slot {
    owner: u32,
    data: u32,
    ttl: u32,
    line: u32,
    owner_len: u16,
    data_len: u16,
    code: TypeCode,
    file: u16,
}

/// One record of a zone.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct ZoneEntry<'z> {
    owner: &'z [u8],
    /// Its type.
    pub code: TypeCode,
    /// Its TTL in seconds.
    pub ttl: u32,
    /// Its data as on the wire, with names in lower case.
    pub data: &'z [u8],
    /// Where it was read.
    pub place: Place,
}

impl ZoneEntry<'_> {
    /// Returns its name.
    pub fn owner(&self) -> NameKey {
        NameKey::from_bytes(self.owner)
    }

    /// Returns its data in presentation form.
    pub fn presentation(&self) -> String {
        rdata::presentation(self.code, self.data)
    }
}

impl fmt::Debug for ZoneEntry<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {} {}", self.owner(), self.ttl, self.code, self.presentation())
    }
}

/// Takes the records of a zone in any order.
#[derive(Debug, Default)]
pub struct ZoneBuilder {
    octets: Vec<u8>,
    slots: Vec<Slot>,
    first_soa: Option<NameKey>,
    spellings: Spellings,
}

/// More octets than one zone can hold here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the zone has more than {} MiB of names and data", MOST_OCTETS >> 20)]
pub struct ZoneTooLarge;

impl ZoneBuilder {
    /// Makes room for about as many records as a file of that many bytes holds.
    pub fn with_room_for(bytes: u64) -> ZoneBuilder {
        let expected = usize::try_from(bytes / 40).unwrap_or(0).min(1 << 22);
        ZoneBuilder { octets: Vec::new(), slots: Vec::with_capacity(expected), ..ZoneBuilder::default() }
    }

    /// Adds a record.
    ///
    /// # Errors
    /// [`ZoneTooLarge`].
    pub fn add(
        &mut self,
        owner: &NameKey,
        code: TypeCode,
        ttl: u32,
        data: &[u8],
        place: Place,
    ) -> Result<(), ZoneTooLarge> {
        let key = owner.as_bytes();
        let spelled = self.spellings.octets();
        if spelled + self.octets.len() + key.len() + data.len() + self.slots.len() * size_of::<Slot>() > MOST_OCTETS {
            return Err(ZoneTooLarge);
        }
        if code == TypeCode::SOA && self.first_soa.is_none() {
            self.first_soa = Some(owner.clone());
        }
        // Records of one name mostly follow one another.
        let owner_at = match self.slots.last().filter(|last| self.range(last.owner, last.owner_len) == key) {
            Some(last) => last.owner,
            None => self.push(key),
        };
        let data_at = self.push(data);
        self.slots.push(Slot {
            owner: owner_at,
            owner_len: key.len() as u16,
            data: data_at,
            data_len: data.len() as u16,
            code,
            ttl,
            file: place.file,
            line: place.line,
        });
        Ok(())
    }

    /// Takes a name as it is written, in full: it is shown so wherever it stands.
    pub fn spell(&mut self, text: &str) {
        self.spellings.note(text);
    }

    fn push(&mut self, octets: &[u8]) -> u32 {
        let at = self.octets.len() as u32;
        self.octets.extend_from_slice(octets);
        at
    }

    fn range(&self, at: u32, length: u16) -> &[u8] {
        &self.octets[at as usize..at as usize + usize::from(length)]
    }

    /// Returns how many records there are.
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Says whether there is none.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// Returns the name of the first SOA record.
    pub fn first_soa(&self) -> Option<&NameKey> {
        self.first_soa.as_ref()
    }

    /// Sorts what was added. The apex of the zone is as given, else where the first SOA record stands.
    pub fn finish(mut self, apex: Option<NameKey>) -> ZoneData {
        let apex = apex.or_else(|| self.first_soa.take()).unwrap_or_default();
        let mut slots = std::mem::take(&mut self.slots);
        let octets = std::mem::take(&mut self.octets);
        let key = |slot: &Slot| {
            let at = |at: u32, length: u16| &octets[at as usize..at as usize + usize::from(length)];
            (at(slot.owner, slot.owner_len), slot.code, at(slot.data, slot.data_len), slot.file, slot.line)
        };
        slots.sort_unstable_by(|left, right| key(left).cmp(&key(right)));
        ZoneData { apex, octets, slots, spellings: self.spellings }
    }
}

/// A whole zone, sorted; a record that was given twice stands there twice.
#[derive(Debug, Default)]
pub struct ZoneData {
    apex: NameKey,
    octets: Vec<u8>,
    slots: Vec<Slot>,
    spellings: Spellings,
}

impl ZoneData {
    /// Returns the name of a record as it was written.
    pub fn shown_owner(&self, entry: &ZoneEntry<'_>) -> String {
        self.spellings.shown(&entry.owner())
    }

    /// Returns the data of a record in presentation form, with names as they were written.
    pub fn shown_data(&self, entry: &ZoneEntry<'_>) -> String {
        rdata::presentation_with(entry.code, entry.data, &|name| self.spellings.shown(&name))
    }

    /// Returns the name of the zone.
    pub fn apex(&self) -> &NameKey {
        &self.apex
    }

    /// Returns how many records there are.
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Says whether there is none.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    fn entry(&self, slot: &Slot) -> ZoneEntry<'_> {
        let at = |at: u32, length: u16| &self.octets[at as usize..at as usize + usize::from(length)];
        ZoneEntry {
            owner: at(slot.owner, slot.owner_len),
            code: slot.code,
            ttl: slot.ttl,
            data: at(slot.data, slot.data_len),
            place: Place { file: slot.file, line: slot.line },
        }
    }

    /// Returns all records in their order.
    pub fn entries(&self) -> impl ExactSizeIterator<Item = ZoneEntry<'_>> + DoubleEndedIterator + Clone {
        self.slots.iter().map(|slot| self.entry(slot))
    }

    /// Returns the records of each name and type (RFC 2181 §5), in their order.
    pub fn sets(&self) -> impl Iterator<Item = ZoneSet<'_>> {
        let same = |left: &Slot, right: &Slot| {
            let (left, right) = (self.entry(left), self.entry(right));
            left.code == right.code && left.owner == right.owner
        };
        self.slots.chunk_by(same).map(|slots| ZoneSet { zone: self, slots })
    }

    /// Shows the records of each name, in their order, until `look` breaks off.
    pub(super) fn each_name<'z>(&'z self, mut look: impl FnMut(&[ZoneEntry<'z>]) -> ControlFlow<()>) {
        let mut entries = self.entries().peekable();
        let mut name: Vec<ZoneEntry<'z>> = Vec::new();
        while let Some(entry) = entries.next() {
            name.push(entry);
            if entries.peek().is_none_or(|next| next.owner != entry.owner) {
                if look(&name).is_break() {
                    return;
                }
                name.clear();
            }
        }
    }

    /// Returns the records of one name.
    pub fn at(&self, name: &NameKey) -> impl Iterator<Item = ZoneEntry<'_>> + Clone {
        let begin = self.position(name.as_bytes());
        self.slots[begin..].iter().map(|slot| self.entry(slot)).take_while(|entry| entry.owner == name.as_bytes())
    }

    /// Says whether any record stands at a name or below it: it exists then (RFC 4592 §2.2.2).
    pub fn exists(&self, name: &NameKey) -> bool {
        let begin = self.position(name.as_bytes());
        self.slots.get(begin).is_some_and(|slot| self.entry(slot).owner.starts_with(name.as_bytes()))
    }

    fn position(&self, key: &[u8]) -> usize {
        self.slots.partition_point(|slot| self.entry(slot).owner < key)
    }

    /// Returns the SOA record of the zone.
    pub fn soa(&self) -> Option<ZoneEntry<'_>> {
        self.at(&self.apex).find(|entry| entry.code == TypeCode::SOA)
    }

    /// Returns the serial of the zone.
    pub fn serial(&self) -> Option<Serial> {
        rdata::soa_serial(self.soa()?.data)
    }
}

/// The records of one name and type.
#[derive(Debug, Clone, Copy)]
pub struct ZoneSet<'z> {
    zone: &'z ZoneData,
    slots: &'z [Slot],
}

impl<'z> ZoneSet<'z> {
    /// Returns its records, sorted by their data; one that was given twice stands there twice.
    pub fn entries(&self) -> impl ExactSizeIterator<Item = ZoneEntry<'z>> + Clone + use<'z> {
        let zone = self.zone;
        self.slots.iter().map(move |slot| zone.entry(slot))
    }

    /// Returns the first of them.
    pub fn first(&self) -> ZoneEntry<'z> {
        self.zone.entry(&self.slots[0])
    }
}

#[cfg(test)]
pub(crate) mod tests;
