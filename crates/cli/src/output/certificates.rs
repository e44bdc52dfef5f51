//! Certificates: the list, one in full, and what came of bringing one in.

use std::io::Write as _;
use std::path::Path;

use comfy_table::{Cell, Color};
use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, Desired};
use pindrel_core::judging::findings::Words;
use pindrel_core::judging::pins::{Pin, PinState};
use pindrel_core::text::display_text::one_line;
use pindrel_core::values::Fingerprint;
use pindrel_engine::{CertificateDetails, CertificateReport, CertificateUse, ImportSummary, OrderPhase};
use serde_json::{Value, json};

use super::finding::{print_evidence, print_remedy};
use super::times::{age, for_people};
use super::{VERSION, attempt, count, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The characters of a bar of days left.
const BAR: usize = 10;
/// The most places that a line names.
const MOST_USES: usize = 2;

/// Writes the list.
pub(crate) fn print_list(context: &Context, now: Timestamp, reports: &[CertificateReport]) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let listed: Vec<Value> = reports.iter().map(|report| as_json(now, report)).collect();
            super::json(&json!({ "version": VERSION, "at": now, "certificates": listed }))
        }
        Format::Csv => print_csv(now, reports),
        Format::Text => print_table(now, reports),
    }
}

fn days_left(now: Timestamp, report: &CertificateReport) -> Option<i64> {
    report.expires.map(|expires| (expires.as_second() - now.as_second()).div_euclid(86_400))
}

fn state(report: &CertificateReport) -> &'static str {
    report.report.as_ref().map_or("left over", |report| report.state.as_str())
}

fn last(report: &CertificateReport) -> Option<(&'static str, Option<&str>)> {
    report.last.as_ref().map(|last| {
        let word = match last.phase {
            OrderPhase::Done => "issued",
            OrderPhase::Failed => "failed",
            OrderPhase::Lost => "lost",
            OrderPhase::Asked | OrderPhase::Open => "under way",
        };
        (word, last.says.as_deref())
    })
}

pub(super) fn as_json(now: Timestamp, report: &CertificateReport) -> Value {
    json!({
        "name": report.name,
        "in_manifest": report.in_manifest,
        "names": report.names,
        "from": report.from,
        "key": report.key,
        "sha256": report.sha256,
        "state": report.report.as_ref().map(|report| report.state),
        "findings": report.report.as_ref().map_or(&[][..], |report| &report.findings),
        "expires": report.expires,
        "days_left": days_left(now, report),
        "renew_at": report.renew_at,
        "last_order": report.last.as_ref().map(|last_order| json!({
            "result": last(report).map(|(word, _)| word),
            "at": last_order.at,
            "says": last_order.says,
        })),
        "last_attempt": report.last_attempt.as_ref().map(attempt::Row::new),
        "used": report.used,
        "labels": report.labels,
        "note": report.note,
    })
}

fn print_csv(now: Timestamp, reports: &[CertificateReport]) -> Result<(), CliError> {
    let heads = [
        "name",
        "names",
        "from",
        "key",
        "state",
        "days_left",
        "expires",
        "renew_at",
        "last_order",
        "used",
        "labels",
        "note",
    ];
    let rows = reports.iter().map(|report| {
        let moment = |at: Option<Timestamp>| at.map_or(String::new(), |at| at.to_string());
        let used: Vec<String> = report.used.iter().map(ToString::to_string).collect();
        [
            report.name.clone(),
            report.names.join(" "),
            report.from.clone(),
            report.key.map_or(String::new(), |key| key.to_string()),
            state(report).to_owned(),
            days_left(now, report).map_or(String::new(), |days| days.to_string()),
            moment(report.expires),
            moment(report.renew_at),
            last(report).map_or(String::new(), |(word, _)| word.to_owned()),
            used.join("; "),
            report.labels.join(" "),
            report.note.clone().unwrap_or_default(),
        ]
    });
    super::csv(&heads, rows)
}

fn print_table(now: Timestamp, reports: &[CertificateReport]) -> Result<(), CliError> {
    let labelled = reports.iter().any(|report| !report.labels.is_empty());
    let mut heads = vec!["CERTIFICATE", "FROM", "KEY", "", "DAYS LEFT", "", "RENEW AT", "LAST ORDER", "USED"];
    heads.extend(labelled.then_some("LABELS"));
    let mut table = super::table(&heads);
    for report in reports {
        let (color, mark) = colour(report);
        let days = days_left(now, report);
        let mut cells = vec![
            Cell::new(title(report)),
            Cell::new(&report.from),
            Cell::new(report.key.map_or("–", |key| key.as_str())),
            Cell::new(mark).fg(color),
            Cell::new(days.map_or("–".to_owned(), |days| days.to_string())).fg(color),
            Cell::new(report.used_share.map_or(String::new(), bar)).fg(color),
            Cell::new(report.renew_at.map_or("–".to_owned(), |at| at.strftime("%F").to_string())),
            Cell::new(last(report).map_or("–", |(word, _)| word)),
            Cell::new(uses(report)),
        ];
        cells.extend(labelled.then(|| Cell::new(report.labels.join(", "))));
        table.add_row(cells);
    }
    super::write_table(table, &[4], &[5, 9, 7, 2, 6, 1, 8])?;
    let mut out = super::stdout();
    for report in reports {
        print_findings(&mut out, now, report)?;
    }
    let held = reports.iter().filter(|report| report.is_held()).count();
    let wanted = reports.iter().filter(|report| report.in_manifest).count();
    let total = count(wanted, "certificate");
    let colour = if held == wanted { style::GOOD } else { style::UNDERWAY };
    let left = match reports.iter().filter(|report| report.is_left_over()).count() {
        0 => String::new(),
        left => style::paint(style::UNDERWAY, format_args!(", {left} left over")),
    };
    writeln!(out, "{}{left}.", style::paint(colour, format_args!("{held} of {total} held")))?;
    Ok(())
}

fn title(report: &CertificateReport) -> String {
    let more = match report.names.as_slice() {
        [only] if *only == report.name => String::new(),
        [first, ..] if *first == report.name => format!(" +{}", report.names.len() - 1),
        names => format!(" ({})", count(names.len(), "name")),
    };
    format!("{}{more}", report.name)
}

/// The endpoints and files, each once.
fn uses(report: &CertificateReport) -> String {
    let mut places: Vec<&str> = Vec::new();
    for used in &report.used {
        let place = match used {
            CertificateUse::Hostname { endpoint, .. } => endpoint.as_str(),
            CertificateUse::File(path) => path.as_str(),
        };
        if !places.contains(&place) {
            places.push(place);
        }
    }
    match places.len() {
        0 if report.is_left_over() => "left over".into(),
        0 if !report.in_manifest => "revoked".into(),
        0 => "nowhere".into(),
        n if n > MOST_USES => format!("{} and {} more", places[..MOST_USES].join(", "), n - MOST_USES),
        _ => places.join(", "),
    }
}

fn colour(report: &CertificateReport) -> (Color, String) {
    let Some(pin) = &report.report else { return (Color::DarkGrey, "·".into()) };
    let color = super::table_colour(pin.state);
    (color, pin.state.mark().to_string())
}

/// A bar of what is left of a certificate's life.
fn bar(used: f32) -> String {
    let left = ((1.0 - used) * BAR as f32).round() as usize;
    format!("{}{}", "━".repeat(left.min(BAR)), "╌".repeat(BAR - left.min(BAR)))
}

pub(super) fn print_findings(
    out: &mut impl std::io::Write,
    now: Timestamp,
    report: &CertificateReport,
) -> Result<(), CliError> {
    if let (Some(note), false) = (&report.note, report.is_held()) {
        writeln!(out, "{} {}", style::paint(style::STRONG, &report.name), style::paint(style::FAINT, note))?;
    }
    for finding in report.report.iter().flat_map(|pin| &pin.findings) {
        let state = report.report.as_ref().map_or(PinState::Unknown, |pin| pin.state);
        let mark = style::paint(style::of(state), state.mark());
        let Words { says, evidence, remedy, .. } = finding.words();
        writeln!(out, "{mark} {}: {}", style::paint(style::STRONG, &report.name), for_people(now, &says))?;
        print_evidence(out, now, &evidence)?;
        if !attempt::supersedes(now, report.last_attempt.as_ref(), Pin::Certificate) {
            print_remedy(out, now, &remedy, None)?;
        }
    }
    match &report.last_attempt {
        Some(last) if !report.is_held() => attempt::print(out, now, last),
        _ => Ok(()),
    }
}

/// Writes one certificate in full.
pub(crate) fn print_details(context: &Context, now: Timestamp, details: &CertificateDetails) -> Result<(), CliError> {
    if context.format == Format::Json {
        let mut document = as_json(now, &details.report);
        document["version"] = VERSION.into();
        document["chain"] = json!(details.chain);
        document["root"] = json!(details.root);
        document["renewal_window"] = json!(details.window);
        document["revoked"] = json!(details.revoked);
        document["former"] = json!(details.former);
        document["commands"] = details
            .commands
            .iter()
            .map(|run| json!({ "run": run.command, "at": run.at, "succeeded": run.succeeded, "says": run.says }))
            .collect();
        return super::json(&document);
    }
    let mut out = super::stdout();
    let report = &details.report;
    let state = report.report.as_ref().map_or(PinState::Unknown, |pin| pin.state);
    let mark = style::paint(style::of(state), format_args!("{} {}", state.mark(), self::state(report)));
    let detail = report.report.as_ref().and_then(|report| report.detail.as_deref()).unwrap_or_default();
    let (name, detail) = (style::paint(style::STRONG, &report.name), style::paint(style::FAINT, detail));
    writeln!(out, "{name}  {mark}  {detail}")?;
    let mut line = |what: &str, says: String| -> Result<(), CliError> {
        let mut rows = wrapped(&says).into_iter();
        writeln!(
            out,
            "  {}{}",
            style::paint(style::FAINT, format_args!("{what:18}")),
            rows.next().unwrap_or_default()
        )?;
        for row in rows {
            writeln!(out, "  {:18}{row}", "")?;
        }
        Ok(())
    };
    line("names", report.names.join(", "))?;
    line("from", report.from.clone())?;
    if let Some(leaf) = details.chain.first() {
        line("subject", if leaf.subject.is_empty() { "empty".into() } else { leaf.subject.clone() })?;
        line("serial", leaf.serial.clone())?;
        line("key", leaf.key.clone())?;
        line("signed", leaf.signature.clone())?;
        line("valid", format!("{} to {}", leaf.not_before, leaf.not_after))?;
        if let Some(days) = days_left(now, report) {
            let bar = report.used_share.map_or(String::new(), bar);
            line("days left", format!("{days}  {}", style::paint(style::of(state), bar)))?;
        }
        line("SHA-256", leaf.sha256.to_string())?;
        line("SHA-256 of key", leaf.key_sha256.to_string())?;
    }
    match (&details.window, report.renew_at) {
        (Some(window), Some(at)) => {
            line("renew at", format!("{at}, in the authority's window"))?;
            line("", format!("{} to {}; asked again after {:.0}", window.start, window.end, window.look_again))?;
            if let Some(url) = &window.explanation {
                line("", format!("why: {url}"))?;
            }
        }
        (None, Some(at)) => line("renew at", at.to_string())?,
        _ => {}
    }
    if let Some(at) = details.revoked {
        line("revoked", style::paint(style::BAD, at))?;
    }
    for (n, issuer) in details.chain.iter().skip(1).enumerate() {
        let what = if n == 0 { "issuers" } else { "" };
        let until = issuer.not_after.strftime("%F");
        line(what, format!("{}  ({}, until {until})", issuer.subject, issuer.key))?;
    }
    if let Some(root) = &details.root {
        line("root", root.clone())?;
    }
    for (n, extension) in details.chain.first().iter().flat_map(|leaf| &leaf.extensions).enumerate() {
        let what = if n == 0 { "extensions" } else { "" };
        let critical = if extension.critical { " (critical)" } else { "" };
        line(what, format!("{}{critical}: {}", extension.name, extension.says))?;
    }
    for (n, used) in report.used.iter().enumerate() {
        line(if n == 0 { "used" } else { "" }, used.to_string())?;
    }
    for run in &details.commands {
        let how = if run.succeeded { "succeeded" } else { "failed" };
        line("command", format!("{} {how} at {:.0}", run.command, run.at))?;
        if let Some(says) = &run.says {
            line("", one_line(says.as_str()))?;
        }
    }
    if let (Some(last_order), Some((word, says))) = (&report.last, last(report)) {
        let says = says.map_or(String::new(), |says| format!(": {says}"));
        line("last order", one_line(format!("{word} at {:.0}{says}", last_order.at)))?;
    }
    for (n, former) in details.former.iter().enumerate() {
        let revoked = former.revoked.map_or(String::new(), |at| format!(", revoked {}", at.strftime("%F")));
        let (from, to) = (former.not_before.strftime("%F"), former.not_after.strftime("%F"));
        line(if n == 0 { "before" } else { "" }, format!("{} valid {from} to {to}{revoked}", former.sha256.short()))?;
    }
    if !report.labels.is_empty() {
        line("labels", report.labels.join(", "))?;
    }
    if let Some(note) = &report.note {
        line("note", note.clone())?;
    }
    print_findings(&mut super::stdout(), now, report)
}

/// Tells which requests for a renewal were withdrawn.
pub(crate) fn print_withdrawn(context: &Context, names: &[String]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "withdrawn": names }));
    }
    let mut out = super::stdout();
    for name in names {
        writeln!(out, "The request to renew {name} is withdrawn; it is renewed when it is due.")?;
    }
    if names.is_empty() {
        writeln!(out, "No renewal was requested that has not succeeded.")?;
    }
    Ok(())
}

/// Breaks a long text into lines at its commas and blanks.
fn wrapped(text: &str) -> Vec<String> {
    const WIDTH: usize = 100;
    let mut lines = vec![String::new()];
    for word in text.split_inclusive(' ') {
        let full = lines
            .last()
            .is_some_and(|line| !line.is_empty() && line.chars().count() + word.trim_end().chars().count() > WIDTH);
        if full {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(word);
        }
    }
    lines.into_iter().map(|line| line.trim_end().to_owned()).collect()
}

/// Writes what came of bringing a certificate in.
pub(crate) fn print_import(
    context: &Context,
    desired: &Desired,
    id: CertificateId,
    summary: &ImportSummary,
) -> Result<(), CliError> {
    let name = &desired.certificate(id).name;
    if context.format == Format::Json {
        let names: Vec<String> = summary.names.iter().map(ToString::to_string).collect();
        return super::json(&json!({
            "version": VERSION, "certificate": name, "sha256": summary.sha256, "names": names,
            "expires": summary.not_after, "chain_length": summary.chain_length, "left_out": summary.left_out,
        }));
    }
    let mut out = super::stdout();
    for said in &summary.left_out {
        writeln!(out, "{said}")?;
    }
    let days = age(summary.not_after.as_second() - Timestamp::now().as_second());
    writeln!(
        out,
        "{} is imported: {} in its chain, {days} left, SHA-256 {}.",
        style::paint(style::STRONG, name),
        count(summary.chain_length, "certificate"),
        summary.sha256.short()
    )?;
    writeln!(out, "Run {} to have it served.", style::paint(style::COMMAND, "pindrel settle"))?;
    Ok(())
}

/// Writes a signing request, or where it went.
pub(crate) fn print_request(context: &Context, name: &str, pem: &str, path: Option<&Path>) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "certificate": name, "request": pem, "file": path }));
    }
    let mut out = super::stdout();
    match path {
        None => write!(out, "{pem}")?,
        Some(path) => writeln!(out, "Wrote {}; the key stays sealed in the state.", path.display())?,
    }
    if !context.quiet {
        let next = style::paint(style::COMMAND, format_args!("pindrel cert import {name} FILES"));
        writeln!(super::stderr(), "Send it to the issuer, then import what it returns: {next}")?;
    }
    Ok(())
}

/// Says that a certificate was revoked; what follows is the run that replaces it.
pub(crate) fn print_revoked(context: &Context, name: &str, sha256: Fingerprint) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(
            &json!({ "event": "revoked", "at": Timestamp::now(), "certificate": name, "sha256": sha256 }),
        );
    }
    let short = sha256.short();
    Ok(writeln!(super::stdout(), "The certificate {} ({short}) is revoked.", style::paint(style::STRONG, name))?)
}
