//! The canonical form of a zone file: absolute names, one record a line, sorted.

use std::fmt::{self, Write};

use crate::zones::zone_data::{TypeCode, ZoneData, ZoneEntry};

/// Writes one record as a line without its end.
pub fn line_of(entry: &ZoneEntry<'_>) -> String {
    format!("{}\t{}\tIN\t{}\t{}", entry.owner(), entry.ttl, entry.code, entry.presentation())
}

/// Writes a whole zone: the SOA record first (RFC 1035 §5.2), then all others in the canonical order of names, by
/// type and data; a record that was given twice once.
///
/// # Errors
/// What the writer returns.
pub fn write_zone(zone: &ZoneData, out: &mut dyn Write) -> fmt::Result {
    writeln!(out, "$ORIGIN {}", zone.apex())?;
    if let Some(soa) = zone.soa() {
        writeln!(out, "{}", line_of(&soa))?;
    }
    let mut last = None;
    for entry in zone.entries() {
        let is_soa = entry.code == TypeCode::SOA && entry.owner() == *zone.apex();
        let is_repeated = last.is_some_and(|last: ZoneEntry<'_>| {
            last.code == entry.code && last.data == entry.data && last.owner() == entry.owner()
        });
        if !is_soa && !is_repeated {
            writeln!(out, "{}", line_of(&entry))?;
        }
        last = Some(entry);
    }
    Ok(())
}
