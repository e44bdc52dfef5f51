//! How results are written: one module for each, all formats in it.

pub(crate) mod account;
pub(crate) mod adopt;
pub(crate) mod attempt;
pub(crate) mod certificates;
pub(crate) mod conformance;
pub(crate) mod demo;
pub(crate) mod diagnostics;
pub(crate) mod endpoints;
pub(crate) mod errors;
mod excerpt;
mod finding;
mod grouping;
pub(crate) mod handoff;
pub(crate) mod health;
pub(crate) mod journal;
pub(crate) mod keep;
mod line_writer;
mod live;
pub(crate) mod log;
mod marks;
pub(crate) mod notes;
pub(crate) mod online;
pub(crate) mod plot;
pub(crate) mod progress;
pub(crate) mod retire;
pub(crate) mod sandbox;
pub(crate) mod status;
pub(crate) mod steps;
mod style;
mod times;
pub(crate) mod undo;
pub(crate) mod watch;
mod wrap;
pub(crate) mod zones;

use std::io::Write as _;

use comfy_table::{Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Table, presets};
use jiff::Timestamp;
use pindrel_core::judging::pins::PinState;
use pindrel_engine::Event;
use serde::Serialize;

use crate::error::CliError;

use wrap::named_in_columns;
pub(crate) use wrap::{stderr, stdout};

/// Writes the times in a sentence by their distance from now.
pub(crate) fn for_people_now(text: &str) -> String {
    times::for_people(jiff::Timestamp::now(), text).into_owned()
}

/// How much of what the first column of a table names is shown at least.
const SHORTEST: usize = 12;
/// What ends a style on a terminal.
const RESET: &str = "\u{1b}[0m";
/// The version of all JSON documents.
pub(crate) const VERSION: u32 = 1;

/// Writes one JSON document on one line.
pub(crate) fn json(value: &impl Serialize) -> Result<(), CliError> {
    let mut out = std::io::stdout().lock();
    serde_json::to_writer(&mut out, value).map_err(std::io::Error::from)?;
    Ok(out.write_all(b"\n")?)
}

/// An event as programs read it: with the time at which it was told, or took place.
#[derive(Serialize)]
pub(crate) struct EventLine<'e> {
    #[serde(flatten)]
    event: &'e Event,
    #[serde(skip_serializing_if = "Option::is_none")]
    at: Option<Timestamp>,
}

impl EventLine<'_> {
    pub(crate) fn new(event: &Event) -> EventLine<'_> {
        let has_its_own = matches!(event, Event::Verdict { .. });
        EventLine { event, at: (!has_its_own).then(Timestamp::now) }
    }
}

/// Starts a table without lines, its heads in bold.
pub(crate) fn table(heads: &[&str]) -> Table {
    let mut table = Table::new();
    table
        .load_style(presets::NOTHING)
        .set_content_arrangement(ContentArrangement::Disabled)
        .force_no_tty()
        .enforce_styling()
        .set_header(heads.iter().map(|head| Cell::new(head).add_attribute(Attribute::Bold)));
    table
}

/// Writes a table, with the numbers of some columns flush right. On a terminal that is too narrow
/// the columns that can be missed most are left out, in the order of `least`, and then what is named in the first one is
/// shortened; JSON has all of it.
pub(crate) fn write_table(mut table: Table, flush_right: &[usize], least: &[usize]) -> Result<(), CliError> {
    let mut out = anstream::stdout();
    for column in flush_right {
        if let Some(column) = table.column_mut(*column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    if let Some(last) = table.column_count().checked_sub(1).and_then(|last| table.column_mut(last)) {
        last.set_padding((1, 0));
    }
    // How wide the first column is, and how much of that is shown.
    let mut cut = None;
    if let Some(width) = terminal_width() {
        let mut least = least.iter();
        while table_width(&table) > width
            && let Some(column) = least.next().and_then(|column| table.column_mut(*column))
        {
            column.set_constraint(ColumnConstraint::Hidden);
        }
        let beyond = table_width(&table).saturating_sub(width);
        let first = table.column_max_content_widths().first().copied().map_or(0, usize::from);
        cut = (beyond > 0 && first > beyond + SHORTEST).then(|| (first, first - beyond));
    }
    for line in table.lines() {
        let named = named_in_columns(&line);
        let shown = match cut {
            Some((from, to)) => shortened(&named, from, to).into(),
            None => named,
        };
        writeln!(out, "{}", without_end(&shown))?;
    }
    Ok(writeln!(out)?)
}

/// Takes the blanks at the end of a line away, also those before the end of a style.
fn without_end(line: &str) -> String {
    let line = line.trim_end();
    match line.strip_suffix(RESET).map(str::trim_end) {
        Some(styled) => format!("{styled}{RESET}"),
        None => line.to_owned(),
    }
}

/// Cuts the first column of a line, which is `from` wide after one blank, to `to`. Styles stay.
fn shortened(line: &str, from: usize, to: usize) -> String {
    let (mut out, mut column, mut in_style) = (String::with_capacity(line.len()), 0, false);
    let visible = anstream::adapter::strip_str(line).to_string();
    let is_longer = visible.chars().skip(1 + to).take(from - to).any(|c| c != ' ');
    for c in line.chars() {
        in_style |= c == '\u{1b}';
        if in_style {
            out.push(c);
            in_style = !c.is_ascii_alphabetic();
            continue;
        }
        match column {
            at if at == to && is_longer => out.push('…'),
            at if at <= to || at > from => out.push(c),
            _ => {}
        }
        column += 1;
    }
    out
}

/// Returns how many columns the terminal has that results are written to, where they are.
pub(crate) fn terminal_width() -> Option<usize> {
    terminal_size::terminal_size_of(std::io::stdout()).map(|(terminal_size::Width(width), _)| usize::from(width))
}

/// Returns how many columns of a terminal a table takes.
fn table_width(table: &Table) -> usize {
    let width = |line: String| anstream::adapter::strip_str(&line).to_string().trim_end().chars().count();
    table.lines().map(width).max().unwrap_or(0)
}

/// Returns the colour of a pin's state in a table.
pub(crate) fn table_colour(state: PinState) -> Color {
    match state {
        PinState::Held => Color::DarkGreen,
        PinState::Working | PinState::Loose => Color::DarkYellow,
        PinState::Blocked => Color::DarkRed,
        PinState::Unknown => Color::DarkGrey,
    }
}

/// Returns a cell as a spreadsheet shows it: what it would take for a formula begins with an apostrophe.
fn csv_cell(text: &str) -> std::borrow::Cow<'_, str> {
    let is_formula = text.starts_with(['=', '+', '-', '@', '\t', '\r']) && text.parse::<f64>().is_err();
    if is_formula { format!("'{text}").into() } else { text.into() }
}

/// Writes a list as comma-separated values.
pub(crate) fn csv<const N: usize>(heads: &[&str; N], rows: impl Iterator<Item = [String; N]>) -> Result<(), CliError> {
    let failed = |error: csv::Error| match error.into_kind() {
        csv::ErrorKind::Io(error) => CliError::Output(error),
        other => CliError::Output(std::io::Error::other(format!("{other:?}"))),
    };
    let mut out = csv::Writer::from_writer(std::io::stdout().lock());
    out.write_record(heads).map_err(failed)?;
    for row in rows {
        out.write_record(row.iter().map(|cell| csv_cell(cell).into_owned())).map_err(failed)?;
    }
    Ok(out.flush()?)
}

/// Writes a number with its noun: `1 hostname`, `4 hostnames`, `4 entries`.
pub(crate) fn count(number: usize, noun: &str) -> String {
    match noun.strip_suffix('y').filter(|stem| !stem.ends_with(['a', 'e', 'i', 'o', 'u'])) {
        _ if number == 1 => format!("1 {noun}"),
        Some(stem) => format!("{number} {stem}ies"),
        None => format!("{number} {noun}s"),
    }
}

/// Writes how much of what a run sees to is held: `4 of 4 hostnames held`, or
/// `5 of 5 held (4 hostnames and 1 certificate)`.
pub(crate) fn held_of(held: usize, total: usize, certificates: usize) -> String {
    match (total.saturating_sub(certificates), certificates) {
        (hostnames, 0) => format!("{held} of {} held", count(hostnames, "hostname")),
        (0, certificates) => format!("{held} of {} held", count(certificates, "certificate")),
        (hostnames, certificates) => {
            let (hostnames, certificates) = (count(hostnames, "hostname"), count(certificates, "certificate"));
            format!("{held} of {total} held ({hostnames} and {certificates})")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_a_formula() {
        for (text, expected) in [
            ("=HYPERLINK(\"https://evil.example\")", "'=HYPERLINK(\"https://evil.example\")"),
            ("+cmd", "'+cmd"),
            ("@", "'@"),
            ("-1", "-1"),
            ("-1+2", "'-1+2"),
            ("\t=1", "'\t=1"),
            ("*.stations.larkfield.example", "*.stations.larkfield.example"),
            ("", ""),
        ] {
            assert_eq!(csv_cell(text), expected);
        }
    }

    #[test]
    fn the_first_column_gives_way_on_a_narrow_terminal() {
        for (line, expected) in [
            (" stations.larkfield.example  89", " stations.la…  89"),
            (" short                       89", " short         89"),
            (" \u{1b}[1mHOSTNAME\u{1b}[0m                    DAYS", " \u{1b}[1mHOSTNAME\u{1b}[0m      DAYS"),
        ] {
            assert_eq!(shortened(line, 26, 12), expected);
        }
        assert_eq!(without_end("x \u{1b}[1mHEAD   \u{1b}[0m  "), "x \u{1b}[1mHEAD\u{1b}[0m");
    }

    #[test]
    fn numbers_are_written_with_their_nouns() {
        for (held, total, certificates, expected) in [
            (1, 1, 0, "1 of 1 hostname held"),
            (0, 2, 0, "0 of 2 hostnames held"),
            (1, 1, 1, "1 of 1 certificate held"),
            (5, 6, 2, "5 of 6 held (4 hostnames and 2 certificates)"),
            (0, 0, 0, "0 of 0 hostnames held"),
        ] {
            assert_eq!(held_of(held, total, certificates), expected);
        }
    }
}
