//! The tables of `docs/manifest.md`.

use std::fmt::Write as _;
use std::ops::RangeInclusive;

use super::{EACH, Key, Kind, Table};
use crate::text::display_text::series;

/// Returns the keys of a table as a table of Markdown.
pub fn key_table(table: &Table) -> String {
    let mut text = String::from("| key | meaning | default |\n| --- | --- | --- |\n");
    for key in table.keys {
        let _ = writeln!(text, "| `{}` | {} | {} |", key.name, meaning(key), default(key));
    }
    text
}

fn meaning(key: &Key) -> String {
    let of = if key.of.is_empty() || key.of.iter().any(|driver| key.doc.starts_with(&format!("`{driver}`"))) {
        String::new()
    } else {
        format!("{}: ", quoted(key.of, "`", ", "))
    };
    format!("{of}{}{}", key.doc, bounds(&key.kind, key.doc))
}

/// What values are allowed, where the text does not say it.
fn bounds(kind: &Kind, doc: &str) -> String {
    match kind {
        Kind::Word(words) if !words.iter().all(|word| doc.contains(&format!("\"{word}\""))) => {
            format!(": {}", quoted(words, "`\"", " or "))
        }
        Kind::Number(range) if *range.end() < u32::MAX => format!(" ({} to {})", range.start(), range.end()),
        Kind::Number(range) => format!(" (at least {})", range.start()),
        Kind::Duration(range) => of_durations(range),
        Kind::List(_, lengths) if *lengths.end() < usize::MAX => format!(" (at most {})", lengths.end()),
        _ => String::new(),
    }
}

fn of_durations(range: &RangeInclusive<u64>) -> String {
    match (*range.start(), *range.end()) {
        (0, u64::MAX) => String::new(),
        (least, u64::MAX) => format!(" (at least `{}`)", duration(least)),
        (0, longest) => format!(" (at most `{}`)", duration(longest)),
        (least, longest) => format!(" (`{}` to `{}`)", duration(least), duration(longest)),
    }
}

/// A duration in the largest unit that it is a whole number of.
pub(in crate::manifest) fn duration(secs: u64) -> String {
    let unit = [(86_400, "d"), (3_600, "h"), (60, "m")]
        .into_iter()
        .find(|(unit, _)| secs >= *unit && secs.is_multiple_of(*unit));
    let (unit, letter) = unit.unwrap_or((1, "s"));
    format!("{}{letter}", secs / unit)
}

fn default(key: &Key) -> String {
    match (key.needed_by, key.default) {
        (EACH, _) => "required".to_owned(),
        ([], "") => "none".to_owned(),
        ([], default) => default.to_owned(),
        (drivers, "") => format!("{}: required", quoted(drivers, "`", ", ")),
        (drivers, default) => format!("{}: required; else {default}", quoted(drivers, "`", ", ")),
    }
}

/// Words between marks, as in `` `a`, `b` or `c` ``.
fn quoted(words: &[&str], mark: &str, last: &str) -> String {
    let closing: String = mark.chars().rev().collect();
    let marked: Vec<String> = words.iter().map(|word| format!("{mark}{word}{closing}")).collect();
    series(&marked, last)
}
