//! A zone that changes record by record, as an incremental transfer tells it (RFC 1995 §4).

use std::collections::HashMap;

use super::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData, ZoneTooLarge};

/// The changes of a zone since it was read.
#[derive(Debug)]
pub struct Increment<'z> {
    before: &'z ZoneData,
    /// The records that are not as before: their TTL now, or `None` where they are gone.
    changed: HashMap<(NameKey, TypeCode, Vec<u8>), Option<u32>>,
}

/// A change that does not fit the zone: a record is deleted that is not there, or added that is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("a change that does not fit the zone as it was read")]
pub struct DoesNotFit;

impl<'z> Increment<'z> {
    /// Begins with no change.
    pub fn of(before: &'z ZoneData) -> Increment<'z> {
        Increment { before, changed: HashMap::new() }
    }

    fn is_there(&self, record: &(NameKey, TypeCode, Vec<u8>)) -> bool {
        match self.changed.get(record) {
            Some(ttl) => ttl.is_some(),
            None => self.before.at(&record.0).any(|entry| entry.code == record.1 && entry.data == record.2),
        }
    }

    /// Deletes a record.
    ///
    /// # Errors
    /// [`DoesNotFit`].
    pub fn delete(&mut self, owner: NameKey, code: TypeCode, data: Vec<u8>) -> Result<(), DoesNotFit> {
        let record = (owner, code, data);
        if !self.is_there(&record) {
            return Err(DoesNotFit);
        }
        self.changed.insert(record, None);
        Ok(())
    }

    /// Adds a record.
    ///
    /// # Errors
    /// [`DoesNotFit`].
    pub fn add(&mut self, owner: NameKey, code: TypeCode, ttl: u32, data: Vec<u8>) -> Result<(), DoesNotFit> {
        let record = (owner, code, data);
        if self.is_there(&record) {
            return Err(DoesNotFit);
        }
        self.changed.insert(record, Some(ttl));
        Ok(())
    }

    /// Returns the zone with its changes.
    ///
    /// # Errors
    /// [`ZoneTooLarge`].
    pub fn into_zone(mut self) -> Result<ZoneData, ZoneTooLarge> {
        let mut builder = ZoneBuilder::default();
        for entry in self.before.entries() {
            let record = (entry.owner(), entry.code, entry.data.to_vec());
            let ttl = match self.changed.remove(&record) {
                None => entry.ttl,
                Some(Some(ttl)) => ttl,
                Some(None) => {
                    // What was given twice goes as a whole.
                    self.changed.insert(record, None);
                    continue;
                }
            };
            builder.add(&record.0, record.1, ttl, &record.2, Place::default())?;
        }
        for ((owner, code, data), ttl) in self.changed {
            if let Some(ttl) = ttl {
                builder.add(&owner, code, ttl, &data, Place::default())?;
            }
        }
        Ok(builder.finish(Some(self.before.apex().clone())))
    }
}
