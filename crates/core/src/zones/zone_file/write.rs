//! The canonical form of a zone file: absolute names, one record a line, sorted.

use std::fmt::{self, Write};

use crate::zones::zone_data::{TypeCode, ZoneData, ZoneEntry};

/// Writes one record as a line without its end.
pub fn line_of(entry: &ZoneEntry<'_>) -> String {
    format!("{}\t{}\tIN\t{}\t{}", entry.owner(), entry.ttl, entry.code, entry.presentation())
}

/// The same with names as the zone spells them.
fn line_in(zone: &ZoneData, entry: &ZoneEntry<'_>) -> String {
    format!("{}\t{}\tIN\t{}\t{}", zone.shown_owner(entry), entry.ttl, entry.code, zone.shown_data(entry))
}

/// Writes a whole zone: the SOA record first (RFC 1035 §5.2), then all others in the canonical order of names, by
/// type and data; a record that was given twice once, and names as they were written.
///
/// # Errors
/// What the writer returns.
pub fn write_zone(zone: &ZoneData, out: &mut dyn Write) -> fmt::Result {
    writeln!(out, "$ORIGIN {}", zone.apex())?;
    if let Some(soa) = zone.soa() {
        writeln!(out, "{}", line_in(zone, &soa))?;
    }
    let mut last = None;
    for entry in zone.entries() {
        let is_soa = entry.code == TypeCode::SOA && entry.owner() == *zone.apex();
        let is_repeated = last.is_some_and(|last: ZoneEntry<'_>| {
            last.code == entry.code && last.data == entry.data && last.owner() == entry.owner()
        });
        if !is_soa && !is_repeated {
            writeln!(out, "{}", line_in(zone, &entry))?;
        }
        last = Some(entry);
    }
    Ok(())
}
