//! The pins of every hostname.

use std::io::Write as _;

use comfy_table::Cell;
use jiff::Timestamp;
use pindrel_core::health::Verdict;
use pindrel_core::health::policy::Reason;
use pindrel_core::judging::findings::{Finding, Words};
use pindrel_core::judging::pins::{Pin, PinReport, PinState, Pins};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::KeptBack;
use pindrel_engine::{AttemptEnd, CertificateReport, GivenReport, HostnameReport, Leftover, LeftoverKind, Report};
use serde::Serialize;

use super::attempt::{print_of as print_attempt, supersedes};
use super::finding::{self, print_evidence, print_remedy};
use super::grouping::grouped;
use super::times::{age, for_people};
use super::{VERSION, held_of, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// How many columns a terminal must have for the words of the pins' states.
const LEAST_FOR_WORDS: usize = 76;

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
    /// What is not as the manifest wants it, since a run was undone.
    kept_back: Vec<KeptBackRow<'r>>,
}

#[derive(Serialize)]
struct KeptBackRow<'r> {
    hostname: &'r Hostname,
    run: i64,
    since: Timestamp,
}

impl<'r> KeptBackRow<'r> {
    fn new(KeptBack { hostname, run, since, .. }: &'r KeptBack) -> KeptBackRow<'r> {
        KeptBackRow { hostname, run: *run, since: *since }
    }
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
    given: Given<'r>,
    health: Verdict,
    held: bool,
    last_attempt: Option<super::attempt::Row<'r>>,
    #[serde(skip_serializing_if = "<[String]>::is_empty")]
    labels: &'r [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<&'r str>,
}

/// What an alias gives; nothing where it leads to none of the hostname's endpoints.
#[derive(Serialize, Default)]
struct Given<'r> {
    /// The first of them.
    endpoint: Option<&'r str>,
    endpoints: &'r [String],
    since: Option<Timestamp>,
    because: Option<String>,
    /// The endpoints that it should give instead.
    due: &'r [String],
    caches_until: Option<Timestamp>,
}

impl<'r> Given<'r> {
    fn new(given: &'r GivenReport) -> Given<'r> {
        let GivenReport { endpoints, since, because, due, caches_until } = given;
        Given {
            endpoint: endpoints.first().map(String::as_str),
            endpoints,
            since: *since,
            because: Some(because.to_string()),
            due,
            caches_until: *caches_until,
        }
    }
}

/// Writes how the hostnames are.
pub(crate) fn print(context: &Context, report: &Report, kept_back: &[KeptBack]) -> Result<(), CliError> {
    match context.format {
        Format::Json => print_json(report, kept_back),
        Format::Csv => print_csv(report),
        Format::Text => print_text(report, kept_back),
    }
}

fn print_json(report: &Report, kept_back: &[KeptBack]) -> Result<(), CliError> {
    super::json(&document(report, kept_back))
}

/// Returns the document that `--format json` writes.
///
/// # Errors
/// What the writer returns.
pub(crate) fn as_json(report: &Report, kept_back: &[KeptBack]) -> serde_json::Result<Vec<u8>> {
    serde_json::to_vec(&document(report, kept_back))
}

fn document<'r>(report: &'r Report, kept_back: &'r [KeptBack]) -> Document<'r> {
    let rows = report.hostnames.iter().map(|row| Row {
        hostname: row.hostname.as_str(),
        endpoints: &row.endpoints,
        pins: &row.pins,
        given: row.given.as_ref().map(Given::new).unwrap_or_default(),
        health: row.health,
        held: row.pins.held(),
        last_attempt: row.last_attempt.as_ref().map(super::attempt::Row::new),
        labels: &row.labels,
        note: row.note.as_deref(),
    });
    Document {
        version: VERSION,
        at: report.at,
        held: report.held(),
        total: report.total(),
        hostnames: rows.collect(),
        certificates: report.certificates.iter().map(|row| super::certificates::as_json(report.at, row)).collect(),
        leftovers: report.leftovers.iter().map(LeftoverRow::new).collect(),
        kept_back: kept_back.iter().map(KeptBackRow::new).collect(),
    }
}

fn print_csv(report: &Report) -> Result<(), CliError> {
    let heads = [
        "hostname",
        "endpoints",
        "zone",
        "certificate",
        "binding",
        "alias",
        "answer",
        "expires",
        "held",
        "given",
        "given_since",
        "given_because",
        "caches_until",
    ];
    let rows = report.hostnames.iter().map(|row| {
        let state = |pin: Pin| row.pins.get(pin).state.as_str().to_owned();
        let expires = row.pins.certificate.expires.map_or(String::new(), |expires| expires.to_string());
        let [zone, certificate, binding, alias, answer] = Pin::ALL.map(state);
        let (hostname, endpoints) = (row.hostname.to_string(), row.endpoints.join(" "));
        let held = row.pins.held().to_string();
        let Given { endpoints: given, since, because, caches_until, .. } =
            row.given.as_ref().map(Given::new).unwrap_or_default();
        let time = |at: Option<Timestamp>| at.map_or(String::new(), |at| at.to_string());
        let (given, because) = (given.join(" "), because.unwrap_or_default());
        let (since, until) = (time(since), time(caches_until));
        [hostname, endpoints, zone, certificate, binding, alias, answer, expires, held, given, since, because, until]
    });
    // A certificate by itself has the one pin.
    let certificates = report.certificates.iter().map(|row| {
        let state = row.report.as_ref().map_or("", |report| report.state.as_str()).to_owned();
        let expires = row.expires.map_or(String::new(), |expires| expires.to_string());
        let none = String::new;
        let name = row.name.clone();
        let held = row.is_held().to_string();
        [name, none(), none(), state, none(), none(), none(), expires, held, none(), none(), none(), none()]
    });
    super::csv(&heads, rows.chain(certificates))
}

fn print_text(report: &Report, kept_back: &[KeptBack]) -> Result<(), CliError> {
    // Where there is no room for the words of the states, their marks stand alone.
    let is_narrow = super::terminal_width().is_some_and(|width| width < LEAST_FOR_WORDS);
    let pins = match is_narrow {
        true => ["zone", "cert", "bind", "alias", "answer"],
        false => ["zone", "certificate", "binding", "alias", "answer"],
    };
    let heads = [&["HOSTNAME", "ENDPOINT"][..], &pins, &["DAYS LEFT", "SEEN"]].concat();
    let mut table = super::table(&heads);
    for row in &report.hostnames {
        table.add_row(cells(report.at, row, is_narrow));
    }
    for row in &report.certificates {
        table.add_row(certificate_cells(report.at, row, is_narrow));
    }
    super::write_table(table, &[7, 8], &[8, 1])?;
    let mut out = super::stdout();
    print_given(&mut out, report.at, &report.hostnames)?;
    for kept in kept_back {
        let (says, remedy) = super::undo::kept_back(kept);
        writeln!(out, "{} {says}", style::paint(style::UNDERWAY, "kept back"))?;
        print_remedy(&mut out, report.at, &remedy, None)?;
    }
    print_findings(&mut out, report.at, &report.hostnames)?;
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
    writeln!(out, "{sum}.")?;
    // Who sees nothing but what is held, in words, needs no key to the marks.
    if held < total || is_narrow {
        writeln!(out, "{}", style::paint(style::FAINT, "◆ held  ◈ working  ◇ loose  ✕ blocked  · unknown"))?;
    }
    Ok(())
}

fn cells(now: Timestamp, row: &HostnameReport, is_narrow: bool) -> Vec<Cell> {
    let mut cells = vec![Cell::new(row.hostname.as_str()), Cell::new(endpoints(row))];
    cells.extend(row.pins.iter().map(|(_, pin)| pin_cell(pin, is_narrow)));
    let days = row.pins.certificate.expires.map(|expires| (expires.as_second() - now.as_second()) / 86_400);
    cells.push(Cell::new(days.map_or("–".to_owned(), |days| days.to_string())));
    let oldest = row.pins.iter().filter_map(|(_, pin)| pin.seen).min();
    cells.push(Cell::new(
        oldest.map_or("never".to_owned(), |seen| format!("{} ago", age(now.as_second() - seen.as_second()))),
    ));
    cells
}

/// The endpoints that the alias gives, and how many there are besides.
fn endpoints(row: &HostnameReport) -> String {
    match row.given.as_ref().map(|given| &given.endpoints) {
        Some(given) if given.len() < row.endpoints.len() => {
            format!("{} (+{})", given.join(", "), row.endpoints.len() - given.len())
        }
        Some(given) => given.join(", "),
        None => row.endpoints.join(", "),
    }
}

/// Tells what is given where that is not simply what is preferred.
fn print_given(out: &mut impl std::io::Write, now: Timestamp, rows: &[HostnameReport]) -> Result<(), CliError> {
    for row in rows {
        let Some(GivenReport { endpoints, since, because, due, caches_until }) = &row.given else { continue };
        let is_usual = matches!(because, Reason::Only | Reason::Preferred) && due.is_empty();
        if is_usual && caches_until.is_none() {
            continue;
        }
        let since = since.map_or(String::new(), |since| format!(" since {since:.0}"));
        let mut says = format!("points to {}{since}", endpoints.join(", "));
        if !due.is_empty() {
            says.push_str(&format!(", and should point to {}", due.join(", ")));
        }
        if !is_usual {
            says.push_str(&format!(": {because}"));
        }
        if let Some(until) = caches_until {
            says.push_str(&format!("; caches may give another answer until {until:.0}"));
        }
        let mark = style::paint(style::UNDERWAY, "→");
        writeln!(out, "{mark} {} {}", style::paint(style::STRONG, &row.hostname), for_people(now, &says))?;
    }
    Ok(())
}

fn certificate_cells(now: Timestamp, row: &CertificateReport, is_narrow: bool) -> Vec<Cell> {
    let nothing = || Cell::new("–").fg(super::table_colour(PinState::Unknown));
    let mut cells = vec![Cell::new(&row.name), nothing(), nothing()];
    cells.push(row.report.as_ref().map_or_else(nothing, |pin| pin_cell(pin, is_narrow)));
    cells.extend([nothing(), nothing(), nothing()]);
    let days = row.expires.map(|expires| (expires.as_second() - now.as_second()) / 86_400);
    cells.push(Cell::new(days.map_or("–".to_owned(), |days| days.to_string())));
    cells
}

/// Tells what is left over of a hostname.
pub(super) fn print_leftover(out: &mut impl std::io::Write, now: Timestamp, found: &Finding) -> Result<(), CliError> {
    let head = format!("{} ", style::paint(style::UNDERWAY, "left over"));
    finding::print(out, now, &head, &found.words())
}

fn pin_cell(pin: &PinReport, is_narrow: bool) -> Cell {
    let mark = pin.state.mark();
    Cell::new(if is_narrow { mark.to_string() } else { format!("{mark} {}", pin.state.as_str()) })
        .fg(super::table_colour(pin.state))
}

/// Tells what is wrong with hostnames: what is the same for several of them once.
fn print_findings(out: &mut impl std::io::Write, now: Timestamp, rows: &[HostnameReport]) -> Result<(), CliError> {
    let loose = || rows.iter().filter(|row| !row.pins.held());
    for row in loose() {
        if let Some(note) = &row.note {
            writeln!(out, "  {} {}", style::paint(style::STRONG, &row.hostname), style::paint(style::FAINT, note))?;
        }
    }
    let findings = loose().flat_map(|row| {
        row.pins.iter().flat_map(move |(pin, report)| {
            // What the last attempt explains better is not advised on here.
            let is_explained = supersedes(now, row.last_attempt.as_ref(), pin);
            report.findings.iter().map(move |finding| {
                let key = (pin, is_explained);
                (row.hostname.as_str(), Some(finding), key, (pin, report.state, is_explained))
            })
        })
    });
    for group in grouped(findings) {
        let (pin, state, is_explained) = group.first;
        let Some(Words { says, evidence, remedy, .. }) = group.words() else { continue };
        let mark = style::paint(style::of(state), state.mark());
        let (whom, says) = (style::paint(style::STRONG, group.label()), for_people(now, &says));
        writeln!(out, "{mark} {whom} {}: {says}", pin.as_str())?;
        if let Some(listed) = group.listed() {
            writeln!(out, "    {}", style::paint(style::FAINT, listed))?;
        }
        print_evidence(out, now, &evidence)?;
        if !is_explained {
            print_remedy(out, now, &remedy, None)?;
        }
    }
    let attempts = loose().filter_map(|row| {
        let attempt = row.last_attempt.as_ref().filter(|attempt| attempt.ended != AttemptEnd::Done)?;
        let key = (&attempt.action, attempt.ended.as_str());
        Some((row.hostname.as_str(), attempt.finding.as_ref(), key, attempt))
    });
    for group in grouped(attempts) {
        print_attempt(out, now, &group)?;
    }
    Ok(())
}
