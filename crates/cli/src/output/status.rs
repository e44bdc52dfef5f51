//! The pins of every hostname.

use std::io::Write as _;

use comfy_table::Cell;
use jiff::Timestamp;
use pindrel_core::findings::Finding;
use pindrel_core::name::Hostname;
use pindrel_core::pins::{Pin, PinReport, PinState, Pins};
use pindrel_engine::{CertificateReport, HostnameReport, Leftover, LeftoverKind, Report};
use serde::Serialize;

use super::finding::{print_evidence, print_remedy};
use super::times::{age, for_people};
use super::{VERSION, held_of, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

#[derive(Serialize)]
struct Document<'r> {
    version: u32,
    at: Timestamp,
    held: usize,
    total: usize,
    hostnames: Vec<Row<'r>>,
    /// Those that no hostname uses.
    certificates: Vec<serde_json::Value>,
    leftovers: Vec<LeftoverRow<'r>>,
}

#[derive(Serialize)]
pub(super) struct LeftoverRow<'r> {
    hostname: &'r Hostname,
    what: &'r [LeftoverKind],
    finding: &'r Finding,
}

impl<'r> LeftoverRow<'r> {
    pub(super) fn new(leftover: &'r Leftover) -> LeftoverRow<'r> {
        let Leftover { hostname, what, finding } = leftover;
        LeftoverRow { hostname, what, finding }
    }
}

#[derive(Serialize)]
struct Row<'r> {
    hostname: &'r str,
    endpoints: &'r [String],
    pins: &'r Pins,
    /// No check of health is made without one in the manifest.
    health: &'static str,
    held: bool,
    last_attempt: Option<super::attempt::Row<'r>>,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    labels: &'r [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<&'r str>,
}

/// Writes how the hostnames are.
pub(crate) fn print(context: &Context, report: &Report) -> Result<(), CliError> {
    match context.format {
        Format::Json => print_json(report),
        Format::Csv => print_csv(report),
        Format::Text => print_text(report),
    }
}

fn print_json(report: &Report) -> Result<(), CliError> {
    let rows = report.hostnames.iter().map(|row| Row {
        hostname: row.hostname.as_str(),
        endpoints: &row.endpoints,
        pins: &row.pins,
        health: "unknown",
        held: row.pins.held(),
        last_attempt: row.last_attempt.as_ref().map(super::attempt::Row::new),
        labels: &row.labels,
        note: row.note.as_deref(),
    });
    super::json(&Document {
        version: VERSION,
        at: report.at,
        held: report.held(),
        total: report.total(),
        hostnames: rows.collect(),
        certificates: report.certificates.iter().map(|row| super::certificates::as_json(report.at, row)).collect(),
        leftovers: report.leftovers.iter().map(LeftoverRow::new).collect(),
    })
}

fn print_csv(report: &Report) -> Result<(), CliError> {
    let heads = ["hostname", "endpoints", "zone", "certificate", "binding", "alias", "answer", "expires", "held"];
    let rows = report.hostnames.iter().map(|row| {
        let state = |pin: Pin| row.pins.get(pin).state.as_str().to_owned();
        let expires = row.pins.certificate.expires.map_or(String::new(), |expires| expires.to_string());
        let [zone, certificate, binding, alias, answer] = Pin::ALL.map(state);
        let (hostname, endpoints) = (row.hostname.to_string(), row.endpoints.join(" "));
        [hostname, endpoints, zone, certificate, binding, alias, answer, expires, row.pins.held().to_string()]
    });
    // A certificate by itself has the one pin.
    let certificates = report.certificates.iter().map(|row| {
        let state = row.report.as_ref().map_or("", |report| report.state.as_str()).to_owned();
        let expires = row.expires.map_or(String::new(), |expires| expires.to_string());
        let none = String::new;
        let name = row.name.clone();
        [name, none(), none(), state, none(), none(), none(), expires, row.is_held().to_string()]
    });
    super::csv(&heads, rows.chain(certificates))
}

fn print_text(report: &Report) -> Result<(), CliError> {
    let heads = ["HOSTNAME", "ENDPOINT", "zone", "certificate", "binding", "alias", "answer", "DAYS LEFT", "SEEN"];
    let mut table = super::table(&heads);
    for row in &report.hostnames {
        table.add_row(cells(report.at, row));
    }
    for row in &report.certificates {
        table.add_row(certificate_cells(report.at, row));
    }
    super::write_table(table, &[7, 8])?;
    let mut out = anstream::stdout();
    for row in report.hostnames.iter().filter(|row| !row.pins.held()) {
        print_findings(&mut out, report.at, row)?;
    }
    for row in report.certificates.iter().filter(|row| !row.is_held()) {
        super::certificates::print_findings(&mut out, report.at, row)?;
    }
    for leftover in &report.leftovers {
        print_leftover(&mut out, report.at, &leftover.finding)?;
    }
    let (held, total) = (report.held(), report.total());
    let colour = if held == total { style::GOOD } else { style::UNDERWAY };
    let mut sum = style::paint(colour, held_of(held, total, report.certificates.len()));
    if !report.leftovers.is_empty() {
        sum.push_str(&style::paint(style::UNDERWAY, format_args!(", {} left over", report.leftovers.len())));
    }
    writeln!(out, "{sum}.  {}", style::paint(style::FAINT, "◆ held  ◈ working  ◇ loose  ✕ blocked  · unknown"))?;
    Ok(())
}

fn cells(now: Timestamp, row: &HostnameReport) -> Vec<Cell> {
    let mut cells = vec![Cell::new(row.hostname.as_str()), Cell::new(row.endpoints.join(", "))];
    cells.extend(row.pins.iter().map(|(_, pin)| pin_cell(pin)));
    let days = row.pins.certificate.expires.map(|expires| (expires.as_second() - now.as_second()) / 86_400);
    cells.push(Cell::new(days.map_or("–".to_owned(), |days| days.to_string())));
    let oldest = row.pins.iter().filter_map(|(_, pin)| pin.seen).min();
    cells.push(Cell::new(
        oldest.map_or("never".to_owned(), |seen| format!("{} ago", age(now.as_second() - seen.as_second()))),
    ));
    cells
}

fn certificate_cells(now: Timestamp, row: &CertificateReport) -> Vec<Cell> {
    let nothing = || Cell::new("–").fg(super::table_colour(PinState::Unknown));
    let mut cells = vec![Cell::new(&row.name), nothing(), nothing()];
    cells.push(row.report.as_ref().map_or_else(nothing, pin_cell));
    cells.extend([nothing(), nothing(), nothing()]);
    let days = row.expires.map(|expires| (expires.as_second() - now.as_second()) / 86_400);
    cells.push(Cell::new(days.map_or("–".to_owned(), |days| days.to_string())));
    cells
}

/// Tells what is left over of a hostname.
pub(super) fn print_leftover(out: &mut impl std::io::Write, now: Timestamp, finding: &Finding) -> Result<(), CliError> {
    writeln!(out, "{} {}", style::paint(style::UNDERWAY, "left over"), finding.says)?;
    print_evidence(out, now, &finding.evidence)?;
    print_remedy(out, now, &finding.remedy, None)
}

fn pin_cell(pin: &PinReport) -> Cell {
    Cell::new(format!("{} {}", pin.state.mark(), pin.state.as_str())).fg(super::table_colour(pin.state))
}

fn print_findings(out: &mut impl std::io::Write, now: Timestamp, row: &HostnameReport) -> Result<(), CliError> {
    if let Some(note) = &row.note {
        writeln!(out, "  {} {}", style::paint(style::STRONG, &row.hostname), style::paint(style::FAINT, note))?;
    }
    for (pin, report) in row.pins.iter() {
        let mark = style::paint(style::of(report.state), report.state.mark());
        for finding in &report.findings {
            let (hostname, says) = (style::paint(style::STRONG, &row.hostname), for_people(now, &finding.says));
            writeln!(out, "{mark} {hostname} {}: {says}", pin.as_str())?;
            print_evidence(out, now, &finding.evidence)?;
            if !super::attempt::supersedes(now, row.last_attempt.as_ref(), pin) {
                print_remedy(out, now, &finding.remedy, None)?;
            }
        }
    }
    if let Some(attempt) = &row.last_attempt {
        super::attempt::print(out, now, attempt)?;
    }
    Ok(())
}
