//! Whole zones: what is wrong in them, what differs between them, and what they hold.

use std::fmt::Write as _;
use std::io::Write;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use comfy_table::Cell;
use jiff::Timestamp;
use pindrel_core::judging::facts::{DelegationView, ServerStatus, ServerView, ZoneView};
use pindrel_core::judging::name_servers::hindrance;
use pindrel_core::judging::pins::PinState;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::zone_data::{Difference, SetRecord, Severity, Slip, TypeCode, ZoneData, rdata};
use pindrel_core::zones::zone_file::{Mistake, write_zone};
use pindrel_engine::ZoneReport;
use pindrel_engine::zone_files::ReadFiles;
use serde_json::{Value, json};

use super::finding::{self, print_remedy};
use super::times::age;
use super::{VERSION, count, style, table_colour};
use crate::args::Format;
use crate::context::Context;
use crate::error::{CliError, ZoneMistakes};

/// The most mistakes, and the most slips, that are shown to a person.
const MOST_SHOWN: usize = 50;

/// What a side of a comparison was read from.
pub(crate) trait Source {
    fn from(&self) -> &str;
    /// Why it is not the whole zone.
    fn partial(&self) -> Option<&str>;
    fn len(&self) -> usize;
}

/// Writes what is wrong in a zone file.
pub(crate) fn print_check(context: &Context, name: &str, files: &ReadFiles, slips: &[Slip]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&document(files, slips));
    }
    let mut out = anstream::stdout();
    show_mistakes(&mut out, files)?;
    show_slips(&mut out, slips, &|slip| Some(format!("{}:{}", file_of(files, slip.place.file), slip.place.line)))?;
    let (errors, warnings) = numbers(slips);
    let mistakes = files.mistakes.len() + files.more + errors;
    let warnings = if warnings == 0 { String::new() } else { format!(", {}", count(warnings, "warning")) };
    if mistakes == 0 {
        let (right, records) = (style::paint(style::GOOD, "is right"), count(files.zone.len(), "record"));
        let serial = files.zone.serial().map_or_else(String::new, |serial| format!(", serial {serial}"));
        writeln!(out, "{name} {right}: {} with {records}{serial}{warnings}.", files.zone.apex())?;
    } else {
        writeln!(out, "{name} has {}{warnings}.", style::paint(style::BAD, count(mistakes, "mistake")))?;
        if !files.mistakes.is_empty() {
            writeln!(out, "The records are judged together once all of them can be read.")?;
        }
    }
    Ok(())
}

/// Writes the slips in a zone as its servers have it.
pub(crate) fn print_live_check(
    context: &Context,
    from: &str,
    zone: &ZoneData,
    partial: Option<&str>,
    slips: &[Slip],
) -> Result<(), CliError> {
    if context.format == Format::Json {
        let listed = |severity| slips.iter().filter(move |slip| slip.severity == severity).map(slip_json);
        let (errors, warnings): (Vec<Value>, Vec<Value>) =
            (listed(Severity::Error).collect(), listed(Severity::Warning).collect());
        let partial = partial.is_some();
        return super::json(&json!({ "version": VERSION, "errors": errors, "warnings": warnings, "partial": partial }));
    }
    let mut out = super::stdout();
    show_slips(&mut out, slips, &|_| None)?;
    print_partial(&mut out, from, partial)?;
    let (errors, warnings) = numbers(slips);
    let records = count(zone.len(), "record");
    let warnings = if warnings == 0 { String::new() } else { format!(", {}", count(warnings, "warning")) };
    if errors == 0 {
        writeln!(out, "{from} {}: {records}{warnings}.", style::paint(style::GOOD, "is right"))?;
    } else {
        writeln!(out, "{from} has {} in {records}{warnings}.", style::paint(style::BAD, count(errors, "mistake")))?;
    }
    Ok(())
}

/// Writes the mistakes that kept another command from reading a zone file.
pub(crate) fn print_errors(context: &Context, mistakes: &ZoneMistakes) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&document(&mistakes.files, &[]));
    }
    let mut err = anstream::stderr();
    show_mistakes(&mut err, &mistakes.files)?;
    let all = mistakes.files.mistakes.len() + mistakes.files.more;
    let name = file_of(&mistakes.files, 0);
    Ok(writeln!(err, "{name} has {}; nothing was done.", style::paint(style::BAD, count(all, "mistake")))?)
}

fn numbers(slips: &[Slip]) -> (usize, usize) {
    let errors = slips.iter().filter(|slip| slip.severity == Severity::Error).count();
    (errors, slips.len() - errors)
}

fn file_of(files: &ReadFiles, number: u16) -> String {
    files.files.get(usize::from(number)).map_or_else(String::new, |path| path.display().to_string())
}

fn document(files: &ReadFiles, slips: &[Slip]) -> Value {
    let mistake = |mistake: &Mistake| {
        json!({
            "code": mistake.code.as_str(),
            "message": mistake.says,
            "file": file_of(files, mistake.place.file),
            "line": mistake.place.line,
            "column": mistake.column,
            "help": mistake.help,
        })
    };
    let slip = |slip: &Slip| {
        let mut value = slip_json(slip);
        value["file"] = json!(file_of(files, slip.place.file));
        value["line"] = json!(slip.place.line.max(1));
        value["column"] = json!(1);
        value
    };
    let of = |severity| slips.iter().filter(move |slip| slip.severity == severity).map(slip);
    let errors: Vec<Value> = files.mistakes.iter().map(mistake).chain(of(Severity::Error)).collect();
    let warnings: Vec<Value> = of(Severity::Warning).collect();
    json!({ "version": VERSION, "errors": errors, "warnings": warnings })
}

fn slip_json(slip: &Slip) -> Value {
    json!({ "code": slip.code.as_str(), "message": slip.says, "name": slip.name.to_string(), "help": slip.help })
}

fn show_mistakes(out: &mut impl Write, files: &ReadFiles) -> Result<(), CliError> {
    let renderer = Renderer::styled().decor_style(DecorStyle::Unicode);
    for mistake in files.mistakes.iter().take(MOST_SHOWN) {
        let file = file_of(files, mistake.place.file);
        let at = |byte: usize| (0..=byte.min(mistake.text.len())).rev().find(|at| mistake.text.is_char_boundary(*at));
        let begin = at(mistake.column as usize - 1).unwrap_or(0);
        let end = at(mistake.column as usize - 1 + mistake.length as usize).unwrap_or(begin).max(begin);
        let snippet = Snippet::source(mistake.text.as_str())
            .path(&file)
            .line_start(mistake.place.line as usize)
            .annotation(AnnotationKind::Primary.span(begin..end));
        let group = Level::ERROR.primary_title(&mistake.says).id(mistake.code.as_str()).element(snippet);
        let group = group.element(Level::HELP.message(&mistake.help));
        writeln!(out, "{}\n", renderer.render(&[group]))?;
    }
    let more = files.more + files.mistakes.len().saturating_sub(MOST_SHOWN);
    if more > 0 {
        writeln!(out, "… and {more} more.\n")?;
    }
    Ok(())
}

fn show_slips(out: &mut impl Write, slips: &[Slip], place: &dyn Fn(&Slip) -> Option<String>) -> Result<(), CliError> {
    let now = Timestamp::now();
    for slip in slips.iter().take(MOST_SHOWN) {
        let mark = match slip.severity {
            Severity::Error => style::paint(style::BAD, "✕"),
            Severity::Warning => style::paint(style::UNDERWAY, "!"),
        };
        let place = place(slip)
            .filter(|_| slip.place.line > 0)
            .map_or_else(String::new, |place| style::paint(style::FAINT, format_args!("{place}: ")));
        writeln!(out, "{mark} {place}{}", slip.says)?;
        print_remedy(out, now, &slip.help, None)?;
    }
    if slips.len() > MOST_SHOWN {
        writeln!(out, "… and {} more.", slips.len() - MOST_SHOWN)?;
    }
    if !slips.is_empty() {
        writeln!(out)?;
    }
    Ok(())
}

fn print_partial(out: &mut impl Write, from: &str, partial: Option<&str>) -> Result<(), CliError> {
    if let Some(why) = partial {
        let mark = style::paint(style::UNDERWAY, "!");
        writeln!(out, "{mark} Only a part of {from} was seen, the names of the manifest: {why}")?;
    }
    Ok(())
}

/// Writes what differs between two zones.
pub(crate) fn print_differences(
    context: &Context,
    (left, right): (&impl Source, &impl Source),
    differences: &[Difference],
    with_ttls: bool,
    change: Option<&NameServerChange>,
) -> Result<(), CliError> {
    let data = |one: &Difference, records: &[SetRecord]| -> Vec<String> {
        records.iter().map(|record| rdata::presentation(one.code, &record.data)).collect()
    };
    match context.format {
        Format::Json => {
            let one = |one: &Difference| {
                let mut value = json!({
                    "name": one.name.to_string(),
                    "type": one.code.to_string(),
                    "left": data(one, &one.left),
                    "right": data(one, &one.right),
                });
                if with_ttls {
                    value["left_ttl"] = json!(one.left.first().map(|record| record.ttl));
                    value["right_ttl"] = json!(one.right.first().map(|record| record.ttl));
                }
                value
            };
            let differences: Vec<Value> = differences.iter().map(one).collect();
            let partial = left.partial().is_some() || right.partial().is_some();
            let mut document = json!({ "version": VERSION, "differences": differences, "partial": partial });
            if let Some(change) = change {
                document["name_server_change"] = json!(change);
                document["name_server_change"]["finding"] = json!(hindrance(change));
            }
            super::json(&document)
        }
        Format::Csv => super::csv(
            &["name", "type", "left", "right"],
            differences.iter().map(|one| {
                let (left, right) = (data(one, &one.left).join("\n"), data(one, &one.right).join("\n"));
                [one.name.to_string(), one.code.to_string(), left, right]
            }),
        ),
        Format::Text => {
            let mut out = super::stdout();
            show_differences(&mut out, differences, with_ttls)?;
            print_partial(&mut out, left.from(), left.partial())?;
            print_partial(&mut out, right.from(), right.partial())?;
            let (from, to) = (left.from(), right.from());
            if differences.is_empty() {
                let same = style::paint(style::GOOD, "have the same records");
                writeln!(out, "{from} and {to} {same}: {}.", count(left.len().min(right.len()), "record"))?;
                return change.map_or(Ok(()), |change| print_change(&mut out, change, differences, (from, to)));
            }
            let only = |is: fn(&Difference) -> bool| differences.iter().filter(|one| is(one)).count();
            let (only_left, only_right) = (only(|one| one.right.is_empty()), only(|one| one.left.is_empty()));
            let both = differences.len() - only_left - only_right;
            let minus = style::paint(style::BAD, format_args!("- {only_left} only in {from}"));
            let plus = style::paint(style::GOOD, format_args!("+ {only_right} only in {to}"));
            let verb = if differences.len() == 1 { "differs" } else { "differ" };
            let sets = count(differences.len(), "record set");
            writeln!(out, "{sets} {verb}: {minus}, {plus}, {both} in both.")?;
            change.map_or(Ok(()), |change| print_change(&mut out, change, differences, (from, to)))
        }
    }
}

/// The most record sets that are named as lost.
const MOST_LOST: usize = 20;

/// Tells what comes of a change of name servers from the left to the right side.
fn print_change(
    out: &mut impl Write,
    change: &NameServerChange,
    differences: &[Difference],
    (from, to): (&str, &str),
) -> Result<(), CliError> {
    let zone = &change.zone;
    let title = format_args!("A change of name servers, from {from} to {to}");
    writeln!(out, "\n{}", style::paint(style::STRONG, title))?;
    let mut lost: Vec<&Difference> = differences.iter().filter(|one| one.right.is_empty()).collect();
    // Whoever loses the mail notices last.
    lost.sort_by_key(|one| one.code != TypeCode::MX);
    let bad = style::paint(style::BAD, "✕");
    for one in lost.iter().take(MOST_LOST) {
        let mail = if one.code == TypeCode::MX { ": its mail would no longer be delivered" } else { "" };
        let name = one.name.to_string();
        writeln!(out, "{bad} lost: {} of {}{mail}", one.code, name.trim_end_matches('.'))?;
    }
    if lost.len() > MOST_LOST {
        writeln!(out, "{bad} lost: {} more", count(lost.len() - MOST_LOST, "record set"))?;
    }
    let now = Timestamp::now();
    if let Some(finding) = hindrance(change) {
        finding::print(out, now, &format!("{bad} "), &finding.words())?;
    }
    writeln!(out, "  The zone above is to have:")?;
    for server in &change.name_servers {
        writeln!(out, "    {zone}. NS {server}.")?;
    }
    if let Some(longest) = change.longest_kept() {
        let (long, what) = (age(i64::from(longest.ttl)), longest.records.in_words());
        writeln!(
            out,
            "  The old servers have to go on serving for {long} after that: caches keep {what} for so long."
        )?;
    }
    Ok(())
}

fn show_differences(out: &mut impl Write, differences: &[Difference], with_ttls: bool) -> Result<(), CliError> {
    for one in differences {
        writeln!(out, "{} {}", style::paint(style::STRONG, &one.name), one.code)?;
        let line = |record: &SetRecord| {
            let ttl = if with_ttls { format!("{} ", record.ttl) } else { String::new() };
            format!("{ttl}{}", shortened(&rdata::presentation(one.code, &record.data)))
        };
        let (left, right): (Vec<String>, Vec<String>) =
            (one.left.iter().map(line).collect(), one.right.iter().map(line).collect());
        for gone in left.iter().filter(|line| !right.contains(line)) {
            writeln!(out, "  {}", style::paint(style::BAD, format_args!("- {gone}")))?;
        }
        for new in right.iter().filter(|line| !left.contains(line)) {
            writeln!(out, "  {}", style::paint(style::GOOD, format_args!("+ {new}")))?;
        }
        for same in right.iter().filter(|line| left.contains(line)) {
            writeln!(out, "  {}", style::paint(style::FAINT, format_args!("  {same}")))?;
        }
    }
    if !differences.is_empty() {
        writeln!(out)?;
    }
    Ok(())
}

/// A long text as far as a person reads it.
fn shortened(text: &str) -> String {
    const MOST: usize = 400;
    match text.chars().count() {
        length if length <= MOST => text.to_owned(),
        length => format!("{}… ({length} characters)", text.chars().take(MOST).collect::<String>()),
    }
}

/// Writes what an import changes, or has changed.
pub(crate) fn print_import(context: &Context, zone: &str, changes: &[Difference], done: bool) -> Result<(), CliError> {
    if context.format == Format::Json {
        let one = |one: &Difference| {
            let data = |records: &[SetRecord]| -> Vec<String> {
                records.iter().map(|record| rdata::presentation(one.code, &record.data)).collect()
            };
            json!({
                "name": one.name.to_string(),
                "type": one.code.to_string(),
                "left": data(&one.left),
                "right": data(&one.right),
            })
        };
        let changes: Vec<Value> = changes.iter().map(one).collect();
        return super::json(&json!({ "version": VERSION, "zone": zone, "changes": changes, "done": done }));
    }
    let mut out = super::stdout();
    show_differences(&mut out, changes, true)?;
    let sets = count(changes.len(), "record set");
    if changes.is_empty() {
        writeln!(out, "{zone} {}: there is nothing to change.", style::paint(style::GOOD, "has these records"))?;
    } else if done {
        writeln!(
            out,
            "{} in {zone}; the server returns them as they shall be.",
            style::paint(style::GOOD, format_args!("{sets} changed"))
        )?;
    } else {
        let command = style::paint(style::COMMAND, "--yes");
        writeln!(out, "{sets} would change in {zone}; {command} does it.")?;
    }
    Ok(())
}

/// Writes a zone as it is.
pub(crate) fn print_zone(context: &Context, zone: &ZoneData, partial: Option<&str>) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let records: Vec<Value> = zone
                .entries()
                .map(|entry| {
                    let (name, code) = (zone.shown_owner(&entry), entry.code.to_string());
                    json!({ "name": name, "type": code, "ttl": entry.ttl, "data": zone.shown_data(&entry) })
                })
                .collect();
            let (apex, serial) = (zone.apex().to_string(), zone.serial());
            super::json(&json!({
                "version": VERSION, "zone": apex, "serial": serial, "records": records, "partial": partial.is_some(),
            }))
        }
        Format::Csv => super::csv(
            &["name", "ttl", "type", "data"],
            zone.entries().map(|entry| {
                let (name, code) = (zone.shown_owner(&entry), entry.code.to_string());
                [name, entry.ttl.to_string(), code, zone.shown_data(&entry)]
            }),
        ),
        Format::Text => {
            let mut text = String::new();
            if let Some(why) = partial {
                let _ = writeln!(text, "; Only a part of the zone, the names of the manifest: {why}");
                super::notes::warn(&[format!("only the names of the manifest were exported: {why}")]);
            }
            write_zone(zone, &mut text).map_err(std::io::Error::other)?;
            Ok(std::io::stdout().lock().write_all(text.as_bytes())?)
        }
    }
}

/// Writes the zones of the manifest.
pub(crate) fn print_list(context: &Context, reports: &[ZoneReport]) -> Result<(), CliError> {
    match context.format {
        Format::Json => super::json(&json!({ "version": VERSION, "zones": reports })),
        Format::Csv => super::csv(
            &["name", "driver", "state", "serial", "servers", "hostnames", "detail"],
            reports.iter().map(|report| {
                [
                    report.name.to_string(),
                    report.driver.to_owned(),
                    report.state.as_str().to_owned(),
                    report.serial.map_or_else(String::new, |serial| serial.to_string()),
                    report.servers.len().to_string(),
                    report.hostnames.to_string(),
                    report.detail.clone(),
                ]
            }),
        ),
        Format::Text => {
            let mut table = super::table(&["ZONE", "DRIVER", "STATE", "SERIAL", "HOSTNAMES", "SERVERS"]);
            for report in reports {
                table.add_row([
                    Cell::new(&report.name),
                    Cell::new(report.driver),
                    Cell::new(format!("{} {}", report.state.mark(), report.state.as_str()))
                        .fg(table_colour(report.state)),
                    Cell::new(report.serial.map_or_else(|| "–".to_owned(), |serial| serial.to_string())),
                    Cell::new(report.hostnames),
                    Cell::new(&report.detail),
                ]);
            }
            super::write_table(table, &[3, 4], &[3, 1])?;
            let (mut out, now) = (super::stdout(), Timestamp::now());
            for finding in reports.iter().flat_map(|report| &report.findings) {
                finding::print(&mut out, now, &format!("{} ", style::paint(style::BAD, "✕")), &finding.words())?;
            }
            let held = reports.iter().filter(|report| report.findings.is_empty()).count();
            Ok(writeln!(out, "{held} of {} held.", count(reports.len(), "zone"))?)
        }
    }
}

/// Writes what is known of one zone.
pub(crate) fn print_zone_view(context: &Context, report: &ZoneReport, view: &ZoneView) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({
            "version": VERSION, "zone": report, "delegation": view.delegation, "validates": view.validates,
        }));
    }
    let (mut out, now) = (super::stdout(), Timestamp::now());
    let state =
        style::paint(style::of(report.state), format_args!("{} {}", report.state.mark(), report.state.as_str()));
    writeln!(out, "{}  {state}  {}\n", style::paint(style::STRONG, &report.name), report.detail)?;
    let names = |names: &[DnsName]| match names {
        [] => "none".to_owned(),
        names => names.iter().map(DnsName::as_str).collect::<Vec<_>>().join(", "),
    };
    let delegation = match &view.delegation {
        DelegationView::Delegated { by, name_servers, .. } => format!("to {} (says {by})", names(name_servers)),
        DelegationView::Missing { by } => format!("none (says {by})"),
        DelegationView::AskedBelow { .. } => "not known: its parents serve the zone itself alone".into(),
        DelegationView::Unreachable { why } => format!("not known: {why}"),
    };
    let signed = match view.validates {
        Some(true) => "signed, and validates",
        Some(false) => "signed, and does not validate",
        None => "not signed, as the zone above says",
    };
    let own = view.own_name_servers().map_or_else(|| "not known".to_owned(), names);
    let fields = [
        ("Changed by", report.driver.to_owned()),
        ("Delegated", delegation),
        ("NS set", own),
        ("Signatures", signed.to_owned()),
        ("Hostnames", format!("{} of the manifest", report.hostnames)),
    ];
    for (field, text) in fields {
        writeln!(out, "  {} {text}", style::paint(style::FAINT, format_args!("{field:<10}")))?;
    }
    writeln!(out)?;
    let mut table = super::table(&["SERVER", "SERIAL", "WHAT IT SAYS"]);
    for ServerView { server, status } in &view.servers {
        let (serial, says, like) = match status {
            ServerStatus::Serves { serial, name_servers } => {
                (serial.to_string(), format!("serves it, with {}", names(name_servers)), PinState::Held)
            }
            ServerStatus::Lame { how } => ("–".into(), how.to_string(), PinState::Blocked),
            ServerStatus::Unreachable { why } => ("–".into(), why.to_string(), PinState::Blocked),
        };
        table.add_row([Cell::new(server), Cell::new(serial), Cell::new(says).fg(table_colour(like))]);
    }
    super::write_table(table, &[1], &[2, 1])?;
    let mut out = super::stdout();
    for finding in &report.findings {
        finding::print(&mut out, now, &format!("{} ", style::paint(style::BAD, "✕")), &finding.words())?;
    }
    Ok(())
}
