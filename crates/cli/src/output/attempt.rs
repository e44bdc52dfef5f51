//! The last attempt at something: what was tried, how it ended, and when the next try is.

use std::io::Write;

use jiff::Timestamp;
use pindrel_core::findings::Finding;
use pindrel_engine::{AttemptEnd, LastAttempt};
use serde::Serialize;

use super::{age, style};
use crate::error::CliError;

/// An attempt as the JSON documents have it.
#[derive(Serialize)]
pub(crate) struct Row<'r> {
    at: Timestamp,
    action: &'r str,
    ended: &'static str,
    finding: Option<&'r Finding>,
    next: Option<Timestamp>,
}

impl<'r> Row<'r> {
    pub(crate) fn new(attempt: &'r LastAttempt) -> Row<'r> {
        let LastAttempt { at, action, ended, finding, next } = attempt;
        Row { at: *at, action, ended: ended.as_str(), finding: finding.as_ref(), next: *next }
    }
}

/// Tells an attempt that did not succeed, for people.
pub(crate) fn print(out: &mut impl Write, now: Timestamp, attempt: &LastAttempt) -> Result<(), CliError> {
    let ended = match attempt.ended {
        AttemptEnd::Done => return Ok(()),
        AttemptEnd::Waiting => "was put off",
        AttemptEnd::Failed => "failed",
    };
    let ago = age(now.as_second() - attempt.at.as_second());
    let says = attempt.finding.as_ref().map_or(String::new(), |finding| format!(": {}", finding.says));
    writeln!(out, "  last attempt to {}, {ago} ago, {ended}{says}", attempt.action)?;
    for evidence in attempt.finding.iter().flat_map(|finding| &finding.evidence) {
        writeln!(out, "    {}", style::paint(style::FAINT, evidence))?;
    }
    if let Some(next) = attempt.next.filter(|next| *next > now) {
        writeln!(out, "  next attempt {}", from_now(now, next))?;
    }
    Ok(())
}

/// Writes a time to come as people need it: `in 41 m (2026-11-26T08:15:07Z)`.
pub(crate) fn from_now(now: Timestamp, then: Timestamp) -> String {
    format!("in {} ({then:.0})", age(then.as_second() - now.as_second()))
}
