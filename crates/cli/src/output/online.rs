//! What the manifest depends on, as `check --online` saw it.

use std::io::Write;

use comfy_table::Cell;
use jiff::Timestamp;
use pindrel_core::judging::findings::{Finding, Words};
use pindrel_core::judging::pins::PinState;
use pindrel_engine::{OnlineKind, OnlineReport};

use super::finding::{print_evidence, print_remedy};
use super::grouping::grouped;
use super::{count, style, table_colour};
use crate::error::CliError;

/// The most rows of the table.
const MOST_ROWS: usize = 50;

/// Says whether something stops the work.
pub(crate) fn is_hindered(reports: &[OnlineReport]) -> bool {
    reports.iter().any(|report| !report.findings.is_empty())
}

fn kind(kind: OnlineKind) -> &'static str {
    match kind {
        OnlineKind::Zone => "zone",
        OnlineKind::Authority => "authority",
        OnlineKind::Certificate => "certificate",
        OnlineKind::Endpoint => "endpoint",
    }
}

/// Writes it for people.
pub(crate) fn print(reports: &[OnlineReport]) -> Result<(), CliError> {
    let mut table = super::table(&["WHAT", "NAME", "STATE", "SEEN"]);
    let mut row = |what: &str, name: &str, is_right: bool, seen: &str| {
        let (mark, like) =
            if is_right { ("◆ usable", PinState::Held) } else { ("✕ not usable", PinState::Blocked) };
        let state = Cell::new(mark).fg(table_colour(like));
        table.add_row([Cell::new(what), Cell::new(name), state, Cell::new(seen)]);
    };
    let (certificates, others): (Vec<&OnlineReport>, Vec<&OnlineReport>) =
        reports.iter().partition(|report| report.kind == OnlineKind::Certificate);
    for report in others.iter().take(MOST_ROWS) {
        row(kind(report.kind), &report.name, report.findings.is_empty(), &report.detail);
    }
    if others.len() > MOST_ROWS {
        let rest = &others[MOST_ROWS..];
        let is_right = rest.iter().all(|report| report.findings.is_empty());
        row("…", &format!("{} more", rest.len()), is_right, "");
    }
    if !certificates.is_empty() {
        let right = certificates.iter().filter(|report| report.findings.is_empty()).count();
        let unseen = certificates.iter().filter(|report| report.is_partial).count();
        let seen = match unseen {
            0 => format!(
                "{right} of {} can be issued, as far as CAA, challenge names and this machine go",
                certificates.len()
            ),
            unseen => format!("CAA was not looked at for {unseen} of {}", certificates.len()),
        };
        row("certificates", &certificates.len().to_string(), right == certificates.len() && unseen == 0, &seen);
    }
    writeln!(super::stdout())?;
    super::write_table(table, &[], &[3, 1])?;
    let (now, mut out) = (Timestamp::now(), super::stdout());
    let findings = tell(&mut out, now, reports, |report| &report.findings, style::paint(style::BAD, "✕").to_string())?;
    let advice = tell(&mut out, now, reports, |report| &report.advice, style::paint(style::UNDERWAY, "!").to_string())?;
    let advice = if advice == 0 { String::new() } else { format!(", {}", count(advice, "warning")) };
    if findings == 0 {
        let there = style::paint(style::GOOD, "can be used");
        writeln!(out, "All that the manifest depends on {there}{advice}.")?;
    } else {
        let wrong = style::paint(style::BAD, count(findings, "finding"));
        writeln!(out, "{wrong}{advice}.")?;
    }
    Ok(())
}

/// Tells findings, the same of several things once; returns how many were told.
fn tell(
    out: &mut impl Write,
    now: Timestamp,
    reports: &[OnlineReport],
    of: impl Fn(&OnlineReport) -> &Vec<Finding>,
    mark: String,
) -> Result<usize, CliError> {
    let told = reports.iter().flat_map(|report| {
        of(report).iter().map(|finding| (report.name.as_str(), Some(finding), report.kind, report.kind))
    });
    let groups = grouped(told);
    for group in &groups {
        let (what, words) = (group.first, group.words());
        let Some(Words { says, evidence, remedy, .. }) = words else { continue };
        let whom = match group.names.as_slice() {
            [only] => format!("{} {only}", kind(what)),
            names => count(names.len(), kind(what)),
        };
        writeln!(out, "{mark} {whom}: {says}")?;
        if let Some(listed) = group.listed() {
            print_evidence(out, now, &[listed])?;
        }
        print_evidence(out, now, &evidence)?;
        print_remedy(out, now, &remedy, None)?;
    }
    Ok(groups.len())
}
