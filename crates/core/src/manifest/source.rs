//! The text of a manifest, put together out of its files, with values filled in.
//!
//! Whatever is found in the whole text is told at its place in the file that it came from.

use std::collections::BTreeMap;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::{At, Diagnostics, Span, nearest};

/// What the first file of a manifest says of its other files and of values.
#[derive(Debug, Default)]
pub struct Preamble {
    /// The patterns of the files that belong to it.
    pub include: Vec<At<String>>,
    /// The values by name.
    pub values: BTreeMap<String, String>,
}

/// Reads what the first file of a manifest says of its other files and of values; mistakes are added to `problems`.
pub fn preamble(text: &str, problems: &mut Diagnostics) -> Preamble {
    let mut found = Preamble::default();
    // Most manifests have neither, and some are large.
    if !text
        .lines()
        .any(|line| line.starts_with("include") || line.starts_with("[values") || line.starts_with("values"))
    {
        return found;
    }
    let (document, _) = DeTable::parse_recoverable(text);
    let root = document.get_ref();
    if let Some(include) = root.get("include") {
        let entries = match include.get_ref() {
            DeValue::Array(list) => list.iter().collect(),
            _ => vec![include],
        };
        for entry in entries {
            match entry.get_ref() {
                DeValue::String(pattern) => {
                    found.include.push(At { value: pattern.to_string(), span: entry.span() });
                }
                _ => problems.report(
                    "wrong-type",
                    entry.span(),
                    "\"include\" must be a list of files",
                    "write include = [\"stations/*.toml\"]",
                ),
            }
        }
    }
    if let Some(values) = root.get("values") {
        read_values(values.get_ref(), values.span(), &mut found.values, problems);
    }
    found
}

/// Reads another set of values out of a file of its own: its keys, or those of its table `[values]`.
pub fn other_values(text: &str, problems: &mut Diagnostics) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let (document, errors) = DeTable::parse_recoverable(text);
    if let Some(error) = errors.first() {
        let span = error.span().unwrap_or(0..0);
        problems.report_plain("syntax", span, error.message().to_owned());
        return found;
    }
    let root = document.get_ref();
    match root.get("values").map(|values| (values.get_ref(), values.span())) {
        Some((values, span)) => read_values(values, span, &mut found, problems),
        None => read_entries(root, &mut found, problems),
    }
    found
}

fn read_values(values: &DeValue<'_>, span: Span, into: &mut BTreeMap<String, String>, problems: &mut Diagnostics) {
    match values {
        DeValue::Table(table) => read_entries(table, into, problems),
        _ => problems.report(
            "wrong-type",
            span,
            "\"values\" must be a table",
            "write [values] and NAME = \"…\" below it",
        ),
    }
}

fn read_entries(table: &DeTable<'_>, into: &mut BTreeMap<String, String>, problems: &mut Diagnostics) {
    for (name, value) in table {
        let is_plain = |text: &str| !text.contains(|c: char| c.is_control() || c == '"' || c == '\\' || c == '\'');
        match value.get_ref() {
            DeValue::String(text) if is_plain(text) => {
                into.insert(name.get_ref().to_string(), text.to_string());
            }
            _ => problems.report(
                "bad-value",
                value.span(),
                format!("the value \"{}\" is not a plain text", name.get_ref()),
                "write a text without quotes and backslashes in it",
            ),
        }
    }
}

/// One file of a manifest.
#[derive(Debug)]
pub struct SourceFile {
    /// Its name, as messages have it.
    pub name: String,
    /// Its text; where absent it is the whole.
    text: Option<String>,
}

/// A piece of the whole text.
#[derive(Debug)]
struct Piece {
    /// Where it begins in the whole.
    at: usize,
    /// The file that it came from, and where it begins there.
    file: usize,
    from: usize,
    /// Where a value is filled in: how long its place is in the file.
    place: Option<usize>,
}

/// The text of a manifest.
#[derive(Debug)]
pub struct Source {
    text: String,
    files: Vec<SourceFile>,
    pieces: Vec<Piece>,
    /// Where each included file lies in the whole.
    included: Vec<Range<usize>>,
    /// What is filled in where `${NAME}` stands.
    values: BTreeMap<String, String>,
}

impl Source {
    /// A manifest in one file.
    pub fn of(name: String, text: String) -> Source {
        let pieces = vec![Piece { at: 0, file: 0, from: 0, place: None }];
        let files = vec![SourceFile { name, text: None }];
        Source { text, files, pieces, included: Vec::new(), values: BTreeMap::new() }
    }

    /// Puts a manifest together out of its first file and those that it includes, with values where `${NAME}` stands.
    pub fn assemble(
        files: Vec<(String, String)>,
        values: &BTreeMap<String, String>,
        problems: &mut Diagnostics,
    ) -> Source {
        let mut source = Source::empty(values);
        for (index, (name, text)) in files.into_iter().enumerate() {
            let begin = source.text.len();
            source.fill(index, &text, values, problems);
            if !source.text.ends_with('\n') {
                source.text.push('\n');
            }
            if index > 0 {
                source.included.push(begin..source.text.len());
            }
            source.files.push(SourceFile { name, text: Some(text) });
        }
        source
    }

    fn empty(values: &BTreeMap<String, String>) -> Source {
        let values = values.clone();
        Source { text: String::new(), files: Vec::new(), pieces: Vec::new(), included: Vec::new(), values }
    }

    fn fill(&mut self, file: usize, text: &str, values: &BTreeMap<String, String>, problems: &mut Diagnostics) {
        let mut from = 0;
        self.pieces.push(Piece { at: self.text.len(), file, from, place: None });
        if values.is_empty() {
            self.text.push_str(text);
            return;
        }
        while let Some(begin) = text[from..].find("${").map(|at| from + at) {
            let line = text[..begin].rfind('\n').map_or(0, |at| at + 1);
            let Some(end) = text[begin..].find(['}', '\n', '"']).map(|at| begin + at) else { break };
            let name = &text[begin + 2..end];
            let value = values.get(name).filter(|_| text.as_bytes()[end] == b'}');
            let is_comment = text[line..].trim_start().starts_with('#');
            self.text.push_str(&text[from..begin]);
            match value {
                Some(value) => {
                    let place = Some(end + 1 - begin);
                    self.pieces.push(Piece { at: self.text.len(), file, from: begin, place });
                    self.text.push_str(value);
                }
                None => {
                    if !is_comment {
                        let at = self.text.len()..self.text.len() + (end - begin);
                        let help = match nearest(name, values.keys().map(String::as_str)) {
                            Some(near) => format!("did you mean ${{{near}}}?"),
                            None => "add it to [values]".to_owned(),
                        };
                        problems.report("unknown-value", at, format!("there is no value \"{name}\""), help);
                    }
                    self.pieces.push(Piece { at: self.text.len(), file, from: begin, place: None });
                    self.text.push_str(&text[begin..(end + 1).min(text.len())]);
                }
            }
            from = (end + 1).min(text.len());
            self.pieces.push(Piece { at: self.text.len(), file, from, place: None });
        }
        self.text.push_str(&text[from..]);
    }

    /// Returns what is filled in where `${NAME}` stands.
    pub fn values(&self) -> &BTreeMap<String, String> {
        &self.values
    }

    /// Returns the text of the first file: the manifest's own.
    pub fn own(&self) -> &str {
        &self.text[..self.included.first().map_or(self.text.len(), |range| range.start)]
    }

    /// Returns the text of each included file, with where it begins in the whole.
    pub fn included(&self) -> impl Iterator<Item = (usize, &str)> {
        self.included.iter().map(|range| (range.start, &self.text[range.clone()]))
    }

    /// Returns the whole text: what places are counted in. It is never read as one, for a value that one file leaves
    /// open would go on in the next.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns the name of the first file.
    pub fn name(&self) -> &str {
        self.files.first().map_or("", |file| &file.name)
    }

    /// Returns the files, each with its text.
    pub fn files(&self) -> impl Iterator<Item = (&str, &str)> {
        self.files.iter().map(|file| (file.name.as_str(), file.text.as_deref().unwrap_or(&self.text)))
    }

    /// Returns the file that a part of the whole text came from, and where it is there.
    pub fn locate(&self, span: &Span) -> (usize, Span) {
        let piece = |at: usize| &self.pieces[self.pieces.partition_point(|piece| piece.at <= at).saturating_sub(1)];
        let first = piece(span.start);
        let start = match first.place {
            Some(_) => first.from,
            None => first.from + (span.start - first.at),
        };
        let last = piece(span.end.saturating_sub(1).max(span.start));
        let end = match last.place {
            _ if last.file != first.file => start,
            Some(length) => last.from + length,
            None => last.from + span.end.saturating_sub(last.at),
        };
        // A file whose last line does not end got an end in the whole.
        let length = self.files.get(first.file).and_then(|file| file.text.as_ref()).map_or(usize::MAX, String::len);
        (first.file, start.min(length)..end.max(start).min(length))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    fn assembled(files: &[&str], pairs: &[(&str, &str)]) -> (Source, Vec<(usize, String, String)>) {
        let mut problems = Diagnostics::default();
        let named = files.iter().enumerate().map(|(n, text)| (format!("{n}.toml"), (*text).to_owned())).collect();
        let source = Source::assemble(named, &values(pairs), &mut problems);
        let told = problems.into_sorted().into_iter().map(|problem| {
            let (file, span) = source.locate(&problem.span);
            let text = files[file].get(span).unwrap_or("?").to_owned();
            (file, text, problem.message)
        });
        let told = told.collect();
        (source, told)
    }

    #[test]
    fn values_are_filled_in_and_every_place_leads_back_to_its_file() {
        let files = [
            "[zone.\"${domain}\"]\ndriver = \"none\" # not ${this}\n[hostname.\"api.${domain}\"]\nendpoint = \"x\"",
            "# of a station\n[hostname.\"${name}.${domain}\"]\nendpoint = \"y\"\n",
        ];
        let (source, told) = assembled(&files, &[("domain", "larkfield.example"), ("name", "lowell")]);
        assert_eq!(told, [(0, "${this".to_owned(), "there is no value \"this\"".to_owned())]);
        assert!(
            source.text().contains("[hostname.\"lowell.larkfield.example\"]\nendpoint = \"y\""),
            "{}",
            source.text()
        );
        // Whatever stands in the whole is found where it came from.
        for (needle, file, original) in [
            ("\"none\"", 0, "\"none\""),
            ("api.larkfield.example", 0, "api.${domain}"),
            ("lowell.larkfield.example", 1, "${name}.${domain}"),
            ("lark", 0, "${domain}"),
            ("\"y\"", 1, "\"y\""),
            ("\"x\"", 0, "\"x\""),
        ] {
            let at = source.text().find(needle).unwrap();
            let (found, span) = source.locate(&(at..at + needle.len()));
            assert_eq!((found, &files[found][span]), (file, original), "{needle}");
        }
        let (plain, told) = assembled(&["body = \"${x}\"\n"], &[]);
        assert_eq!((plain.text(), told.len()), ("body = \"${x}\"\n", 0), "without values it is a text like others");
    }

    #[test]
    fn the_first_file_names_the_others_and_its_values() {
        let mut problems = Diagnostics::default();
        let found = preamble(
            "manifest = 1\ninclude = [\"stations/*.toml\"]\n[values]\ndomain = \"larkfield.example\"\n",
            &mut problems,
        );
        assert_eq!(
            (found.include[0].value.as_str(), found.values),
            ("stations/*.toml", values(&[("domain", "larkfield.example")]))
        );
        assert_eq!(other_values("domain = \"x.test\"\n", &mut problems), values(&[("domain", "x.test")]));
        assert_eq!(other_values("[values]\ndomain = \"x.test\"\n", &mut problems), values(&[("domain", "x.test")]));
        assert!(problems.is_empty(), "{problems:?}");
        for text in
            ["include = 7\n", "include = [7]\n", "[values]\nx = 1\n", "[values]\nx = \"a\\\"b\"\n", "values = 3\n"]
        {
            let mut problems = Diagnostics::default();
            preamble(text, &mut problems);
            assert!(!problems.is_empty(), "{text}");
        }
    }
}
