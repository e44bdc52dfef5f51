//! Which records a server gives, by exact value.

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{RecordSet, RecordType, ZoneRecord};

use crate::lookup;

/// How many questions one server is asked at once.
const QUESTIONS_AT_ONCE: usize = 16;

/// What a server gives at some names.
#[derive(Debug, Clone)]
pub struct Present(HashMap<(DnsName, RecordType), Vec<RecordSet>>);

impl Present {
    fn sets(&self, record: &ZoneRecord) -> &[RecordSet] {
        self.0.get(&(record.owner.clone(), record.data.record_type())).map_or(&[], Vec::as_slice)
    }

    /// Says whether the record is there, whatever its TTL.
    pub fn has(&self, record: &ZoneRecord) -> bool {
        self.sets(record).iter().flat_map(RecordSet::data).any(|data| *data == record.data)
    }

    /// The TTL of the set that the record belongs to, where there is one.
    pub(crate) fn ttl(&self, record: &ZoneRecord) -> Option<Ttl> {
        self.sets(record).first().map(RecordSet::ttl)
    }
}

/// Asks an authoritative server for the names and types of some records: each once, several
/// side by side.
///
/// # Errors
/// [`Unreachable`], the first that is met.
pub async fn present(
    server: SocketAddr,
    records: impl IntoIterator<Item = &ZoneRecord>,
) -> Result<Present, Unreachable> {
    let wanted: BTreeSet<(DnsName, RecordType)> =
        records.into_iter().map(|record| (record.owner.clone(), record.data.record_type())).collect();
    let looks = stream::iter(wanted)
        .map(|(owner, record_type)| async move {
            let sets = lookup::records(server, &owner, record_type).await?;
            Ok(((owner, record_type), sets))
        })
        .buffer_unordered(QUESTIONS_AT_ONCE);
    Ok(Present(looks.try_collect().await?))
}

/// Returns which of the records an authoritative server does not give yet. A server takes a
/// change of a zone over as a whole, so one that lacks the first record is not asked for the
/// others.
///
/// # Errors
/// [`Unreachable`].
pub async fn lacking(server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable> {
    let first = &records[..records.len().min(1)];
    let mut found = present(server, first).await?;
    if first.iter().all(|record| found.has(record)) {
        found = present(server, records).await?;
    }
    Ok(records.iter().filter(|record| !found.has(record)).cloned().collect())
}
