//! What somebody else has to make, in the forms that they can use.

use std::fmt::Write as _;
use std::io::Write;

use pindrel_core::text::display_text::one_line;
use pindrel_engine::{Handoff, HandoffRecord};
use serde_json::json;

use super::{VERSION, count, style};
use crate::args::Format;
use crate::commands::handoff::HandoffForm;
use crate::context::Context;
use crate::error::CliError;

/// The page, with places for what it is about.
const PAGE: &str = include_str!("handoff.html");

/// Writes a handoff.
pub(crate) fn print(
    context: &Context,
    handoff: &Handoff,
    form: HandoffForm,
    is_delegation: bool,
) -> Result<(), CliError> {
    if context.format == Format::Json {
        let Handoff { zone, records, unknown } = handoff;
        return super::json(&json!({ "version": VERSION, "zone": zone, "records": records, "unknown": unknown }));
    }
    if context.format == Format::Csv || form == HandoffForm::Csv {
        return super::csv(
            &["name", "label", "type", "value", "ttl", "why", "not_before", "alternative", "found", "done", "seen"],
            handoff.records.iter().map(|record| {
                [
                    format!("{}.", record.name),
                    record.label.clone(),
                    record.record_type.to_string(),
                    record.value.clone(),
                    record.ttl.as_secs().to_string(),
                    record.why.clone(),
                    record.not_before.clone().unwrap_or_default(),
                    record.alternative.clone().unwrap_or_default(),
                    record.found.clone().unwrap_or_default(),
                    record.done.to_string(),
                    record.seen.map_or_else(String::new, |seen| format!("{seen:.0}")),
                ]
            }),
        );
    }
    let text = match form {
        HandoffForm::Markdown => markdown(handoff, is_delegation),
        HandoffForm::Zone => zone_lines(handoff),
        HandoffForm::Page => page(handoff, is_delegation),
        HandoffForm::Text | HandoffForm::Csv => return write_text(handoff, is_delegation),
    };
    Ok(std::io::stdout().lock().write_all(text.as_bytes())?)
}

/// What the records are, as a heading.
fn title(handoff: &Handoff, is_delegation: bool) -> String {
    let what = if is_delegation { "Delegation of" } else { "Records for the zone" };
    format!("{what} {}", handoff.zone)
}

/// Where they are to be made, as a sentence.
fn place(handoff: &Handoff, is_delegation: bool) -> String {
    match is_delegation {
        true => format!("These records of {} are made in the zone above it: mostly by its registrar.", handoff.zone),
        false => format!("Please make these records in the zone {}.", handoff.zone),
    }
}

/// How far it has got, as a sentence.
fn progress(handoff: &Handoff, is_delegation: bool) -> String {
    let left = handoff.records.iter().filter(|record| !record.done).count();
    let who = if is_delegation { "the zone above returns" } else { "every server of the zone returns" };
    match (left, handoff.records.len()) {
        (_, 0) => "There is nothing to be made.".into(),
        (0, 1) => format!("It is made: {who} it."),
        (0, _) => format!("All of them are made: {who} them."),
        (left, all) => format!("{left} of {} still to be made.", count(all, "record")),
    }
}

/// Whether a label is written where consoles ask for the name.
fn host_field(record: &HandoffRecord) -> String {
    match record.label.as_str() {
        "@" => "@ (or leave the field empty)".into(),
        label => label.to_owned(),
    }
}

fn write_text(handoff: &Handoff, is_delegation: bool) -> Result<(), CliError> {
    let mut out = super::stdout();
    writeln!(out, "{}", style::paint(style::STRONG, title(handoff, is_delegation)))?;
    writeln!(out, "{}\n", place(handoff, is_delegation))?;
    for record in &handoff.records {
        let mark = if record.done { style::paint(style::GOOD, "[x]") } else { style::paint(style::UNDERWAY, "[ ]") };
        let name = style::paint(style::STRONG, &record.name);
        let seen = record.seen.filter(|_| record.done);
        let seen = seen.map_or_else(String::new, |seen| style::paint(style::FAINT, format_args!("  seen {seen:.0}")));
        writeln!(out, "{mark} {} record at {name}{seen}", record.record_type)?;
        let fields = [
            ("Host", Some(format!("{}, in full {}.", host_field(record), record.name))),
            ("Type", Some(record.record_type.to_string())),
            ("Value", Some(record.value.clone())),
            ("TTL", Some(format!("{} seconds", record.ttl.as_secs()))),
            ("Why", Some(record.why.clone())),
            ("Now", record.found.clone()),
            ("When", record.not_before.clone()),
            ("Or", record.alternative.clone()),
            ("Check", Some(record.check.clone()).filter(|_| !record.done)),
        ];
        for (field, text) in fields.into_iter().filter_map(|(field, text)| Some((field, text?))) {
            writeln!(out, "    {} {text}", style::paint(style::FAINT, format_args!("{field:<5}")))?;
        }
        writeln!(out)?;
    }
    for says in &handoff.unknown {
        writeln!(out, "{} {says}\n", style::paint(style::UNDERWAY, "!"))?;
    }
    Ok(writeln!(out, "{}", progress(handoff, is_delegation))?)
}

/// A text as code in Markdown, between more backticks than it has in a row; a bar would end the cell of a table.
fn code(text: &str) -> String {
    let text = one_line(text);
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or(0);
    let fence = "`".repeat(longest + 1);
    let space = if text.starts_with('`') || text.ends_with('`') { " " } else { "" };
    format!("{fence}{space}{}{space}{fence}", text.replace('|', "\\|"))
}

/// A sentence in Markdown, in which nothing is taken for markup.
fn prose(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    for c in one_line(text).chars() {
        if "\\`*_[]<>|#&".contains(c) {
            plain.push('\\');
        }
        plain.push(c);
    }
    plain
}

fn markdown(handoff: &Handoff, is_delegation: bool) -> String {
    let mut text = format!("# {}\n\n{}\n\n", title(handoff, is_delegation), place(handoff, is_delegation));
    text.push_str("| done | host | full name | type | value | TTL | why |\n|---|---|---|---|---|---|---|\n");
    for record in &handoff.records {
        let done = if record.done { "☑" } else { "☐" };
        let why = [Some(&record.why), record.found.as_ref(), record.not_before.as_ref(), record.alternative.as_ref()];
        let why = why.into_iter().flatten().map(String::as_str).collect::<Vec<_>>().join(" ");
        let _ = writeln!(
            text,
            "| {done} | {} | {} | {} | {} | {} | {} |",
            code(&record.label),
            code(&format!("{}.", record.name)),
            record.record_type,
            code(&record.value),
            record.ttl.as_secs(),
            prose(&why),
        );
    }
    for says in &handoff.unknown {
        let _ = write!(text, "\n{}\n", prose(says));
    }
    let _ = write!(text, "\n{}\n", progress(handoff, is_delegation));
    text
}

fn zone_lines(handoff: &Handoff) -> String {
    let mut text = String::new();
    for record in &handoff.records {
        let why = [Some(&record.why), record.found.as_ref(), record.not_before.as_ref(), record.alternative.as_ref()];
        for sentence in why.into_iter().flatten() {
            let _ = writeln!(text, "; {}", one_line(sentence.as_str()));
        }
        // What is made already is only shown.
        let (made, said) = if record.done { ("; ", " ; made") } else { ("", "") };
        let HandoffRecord { name, ttl, record_type, value, .. } = record;
        let _ = writeln!(text, "{made}{name}.\t{}\tIN\t{record_type}\t{value}{said}", ttl.as_secs());
    }
    for says in &handoff.unknown {
        let _ = writeln!(text, "; {}", one_line(says.as_str()));
    }
    text
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A page that needs nothing else: style and script stand in it.
fn page(handoff: &Handoff, is_delegation: bool) -> String {
    let mut cards = String::new();
    for record in &handoff.records {
        card(&mut cards, handoff, record);
    }
    for says in &handoff.unknown {
        let _ = writeln!(cards, "<p class=\"unknown\">{}</p>", escaped(says));
    }
    let title = escaped(&title(handoff, is_delegation));
    let made = handoff.records.iter().filter(|record| record.done).count();
    let share = if handoff.records.is_empty() { 100 } else { made * 100 / handoff.records.len() };
    PAGE.replace("{{title}}", &title)
        .replace("{{place}}", &escaped(&place(handoff, is_delegation)))
        .replace("{{progress}}", &escaped(&progress(handoff, is_delegation)))
        .replace("{{share}}", &share.to_string())
        .replace("{{seen}}", &format!("{:.0}", jiff::Timestamp::now()))
        .replace("{{records}}", &cards)
}

fn card(out: &mut String, handoff: &Handoff, record: &HandoffRecord) {
    let (class, state) = match (record.done, record.seen) {
        (true, Some(seen)) => ("done", format!("made, seen {seen:.0}")),
        (true, None) => ("done", "made".into()),
        (false, _) => ("open", "to be made".into()),
    };
    let full = format!("{}.", record.name);
    let _ = writeln!(
        out,
        "<article class=\"{class}\"><header><h2><span class=\"type\">{}</span> {}</h2><span class=\"state\">{}</span></header>",
        record.record_type,
        escaped(record.name.as_str()),
        escaped(&state)
    );
    let _ = writeln!(out, "<p class=\"why\">{}</p>", escaped(&record.why));
    for (class, text) in [("now", &record.found), ("when", &record.not_before), ("or", &record.alternative)] {
        if let Some(text) = text {
            let _ = writeln!(out, "<p class=\"{class}\">{}</p>", escaped(text));
        }
    }
    let below = match record.label.as_str() {
        "@" => "Host: @, or nothing at all".to_owned(),
        _ => format!("Host, before .{}", handoff.zone),
    };
    let fields = [
        (below.as_str(), record.label.as_str()),
        ("Whole name", record.name.as_str()),
        ("Whole name, as in zone files", &full),
        ("Value", &record.value),
        ("TTL in seconds", &record.ttl.as_secs().to_string()),
    ];
    // What is made is of less interest.
    let open = if record.done { "" } else { " open" };
    let _ = writeln!(out, "<details{open}><summary>The record, field by field</summary><dl>");
    for (term, text) in fields {
        let text = escaped(text);
        let _ = writeln!(
            out,
            "<dt>{}</dt><dd><code>{text}</code><button type=\"button\" data-copy=\"{text}\">Copy</button></dd>",
            escaped(term)
        );
    }
    let _ = writeln!(
        out,
        "</dl><p class=\"check\">Once it is made, this shows it: <code>{}</code></p></details></article>",
        escaped(&record.check)
    );
}

#[cfg(test)]
mod tests {
    use pindrel_core::values::Ttl;
    use pindrel_core::zones::records::RecordType;

    use super::*;

    #[test]
    fn what_stands_in_a_record_cannot_break_out_of_its_form() {
        let record = HandoffRecord {
            name: "alerts.larkfield.example".parse().unwrap(),
            label: "@".into(),
            record_type: RecordType::Txt,
            value: "\"a|b\" \"``</code><script>alert(1)</script>\"".into(),
            ttl: Ttl::HOUR,
            why: "It shows <whose> it is & [more](x:y).".into(),
            alternative: None,
            not_before: None,
            found: None,
            check: "dig +short alerts.larkfield.example TXT".into(),
            done: false,
            seen: None,
            leads_challenge: false,
        };
        let zone = "alerts.larkfield.example".parse().unwrap();
        let handoff = Handoff { zone, records: vec![record], unknown: Vec::new() };
        let page = page(&handoff, false);
        assert!(!page.contains("<script>alert") && page.contains("&lt;script&gt;alert(1)"), "{page}");
        assert!(page.contains("data-copy=\"&quot;a|b&quot;"), "{page}");
        assert!(!page.contains("{{") && !page.contains("http"), "it loads nothing");
        let table = markdown(&handoff, false);
        let row = table.lines().find(|line| line.contains("a\\|b")).unwrap();
        assert_eq!(row.replace("\\|", "").matches('|').count(), 8, "{row}");
        assert!(row.contains("```\"a\\|b\" \"``</code><script>alert(1)</script>\"```"), "{row}");
        assert!(row.contains(r"It shows \<whose\> it is \& \[more\](x:y)."), "{row}");
        assert_eq!(code("`x"), "`` `x ``");
        assert!(
            zone_lines(&handoff).ends_with(
                "alerts.larkfield.example.\t3600\tIN\tTXT\t\"a|b\" \"``</code><script>alert(1)</script>\"\n"
            )
        );
    }
}
