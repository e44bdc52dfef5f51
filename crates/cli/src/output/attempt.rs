//! The last attempt at something: what was tried, how it ended, and when the next try is.

use std::io::Write;

use jiff::Timestamp;
use pindrel_core::judging::findings::{Finding, Words};
use pindrel_core::judging::pins::Pin;
use pindrel_engine::{AttemptEnd, LastAttempt};
use serde::Serialize;

use super::finding::{print_evidence, print_remedy};
use super::grouping::Group;
use super::style;
use super::times::{age, clock, for_people};
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
    let words = attempt.finding.as_ref().map(Finding::words);
    print_as(out, now, attempt, "", words.as_ref())
}

/// Tells the same of all that a group of hostnames has in common.
pub(super) fn print_of(out: &mut impl Write, now: Timestamp, group: &Group<'_, &LastAttempt>) -> Result<(), CliError> {
    let whom = format!(" for {}", style::paint(style::STRONG, group.label()));
    print_as(out, now, group.first, &whom, group.words().as_ref())
}

fn print_as(
    out: &mut impl Write,
    now: Timestamp,
    attempt: &LastAttempt,
    whom: &str,
    words: Option<&Words>,
) -> Result<(), CliError> {
    let ended = match attempt.ended {
        AttemptEnd::Done => return Ok(()),
        AttemptEnd::Waiting => "was put off",
        AttemptEnd::Failed => "failed",
    };
    let ago = age(now.as_second() - attempt.at.as_second());
    write!(out, "  last attempt to {}{whom}, {ago} ago, {ended}", attempt.action)?;
    if let Some(Words { says, evidence, remedy, .. }) = words {
        writeln!(out, ": {}", for_people(now, says))?;
        print_evidence(out, now, evidence)?;
        print_remedy(out, now, remedy, attempt.next)
    } else {
        match attempt.next.filter(|next| *next > now) {
            Some(next) => Ok(writeln!(out, "; the next attempt is at {}", clock(now, next))?),
            None => Ok(writeln!(out)?),
        }
    }
}

/// Returns whether an attempt explains better than a pin's own findings what to do: it ended with
/// a finding, and the next one is not due yet.
pub(crate) fn supersedes(now: Timestamp, attempt: Option<&LastAttempt>, pin: Pin) -> bool {
    attempt.is_some_and(|attempt| {
        attempt.ended != AttemptEnd::Done
            && attempt.next.is_some_and(|next| next > now)
            && attempt.finding.as_ref().is_some_and(|finding| finding.pin() == pin)
    })
}
