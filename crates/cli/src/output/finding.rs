//! A finding, for people.

use std::io::Write;

use jiff::Timestamp;
use pindrel_core::judging::findings::Words;

use super::style;
use super::times::{clock, for_people};
use crate::error::CliError;

/// Writes a finding: its sentence after `head`, what supports it, and what to do.
pub(crate) fn print(out: &mut impl Write, now: Timestamp, head: &str, words: &Words) -> Result<(), CliError> {
    writeln!(out, "{head}{}", for_people(now, &words.says))?;
    print_evidence(out, now, &words.evidence)?;
    print_remedy(out, now, &words.remedy, None)
}

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
