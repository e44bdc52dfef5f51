//! A finding, for people.

use std::io::Write;

use jiff::Timestamp;

use super::style;
use super::times::{clock, for_people};
use crate::error::CliError;

/// Writes what supports a finding.
pub(crate) fn print_evidence(out: &mut impl Write, now: Timestamp, evidence: &[String]) -> Result<(), CliError> {
    for line in evidence {
        writeln!(out, "    {}", style::paint(style::FAINT, for_people(now, line)))?;
    }
    Ok(())
}

/// Writes what to do, and when the next attempt is where that does not say it.
pub(crate) fn print_remedy(
    out: &mut impl Write,
    now: Timestamp,
    remedy: &str,
    next: Option<Timestamp>,
) -> Result<(), CliError> {
    let arrow = style::paint(style::FAINT, "→");
    writeln!(out, "  {arrow} {}", for_people(now, remedy))?;
    match next.filter(|next| *next > now && !remedy.contains(&format!("{next:.0}"))) {
        Some(next) => Ok(writeln!(out, "  {arrow} The next attempt is at {}", clock(now, next))?),
        None => Ok(()),
    }
}
