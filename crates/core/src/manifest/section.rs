//! Reads one table of the manifest, reporting what does not fit.

use std::ops::RangeInclusive;
use std::str::FromStr;
use std::time::Duration;

use toml::Spanned;
use toml::de::{DeString, DeTable, DeValue};

use super::describe::{Kind, MANIFEST, Table, duration};
use super::diagnostic::nearest;
use super::{At, Diagnostics, Span};
use crate::text::display_text::{bounded_line, series};
use crate::values::parse_duration;

pub(super) const DURATION_HELP: &str = "write a whole number with s, m, h or d, such as \"30d\"";
/// The longest note or label, in characters.
const LONGEST_LINE: usize = 500;

/// One table of the text, with what it may hold.
pub(super) struct Section<'t> {
    described: &'static Table,
    /// The kind of table as it is written, as in `authority`.
    kind: &'static str,
    /// The name after the dot, or empty.
    name: &'t str,
    table: &'t DeTable<'t>,
    span: Span,
    /// Where the text that was parsed begins in the manifest.
    base: usize,
    /// Whether a misspelt key is read as what was meant: not where it decides what is read at all.
    reads_misspelt: bool,
    /// The keys that were meant, each with the value of the misspelt one.
    misspelt: Vec<(&'static str, &'t Spanned<DeValue<'t>>)>,
}

impl<'t> Section<'t> {
    /// Opens a table and reports every key that it may not hold.
    fn open(
        &self,
        described: &'static Table,
        kind: &'static str,
        name: &'t str,
        value: &'t Spanned<DeValue<'t>>,
        problems: &mut Diagnostics,
    ) -> Option<Section<'t>> {
        let (base, reads_misspelt) = (self.base, self.reads_misspelt);
        let DeValue::Table(table) = value.get_ref() else {
            let title = title(kind, name);
            let message = format!("{title} must be a table, not {}", type_of(value));
            problems.report(
                "wrong-type",
                moved(value.span(), base),
                message,
                format!("write [{title}] and its keys below it"),
            );
            return None;
        };
        let span = moved(value.span(), base);
        let section = Section { described, kind, name, table, span, base, reads_misspelt, misspelt: Vec::new() };
        Some(section.checked(problems))
    }

    /// Opens a document that begins at `base` in the manifest.
    pub(super) fn root(table: &'t DeTable<'t>, base: usize, problems: &mut Diagnostics) -> Section<'t> {
        Section { reads_misspelt: true, ..Section::unchecked(table, base) }.checked(problems)
    }

    /// Opens a document whose keys the caller judges.
    pub(super) fn unchecked(table: &'t DeTable<'t>, base: usize) -> Section<'t> {
        let (described, span) = (&MANIFEST, base..base);
        Section { described, kind: "", name: "", table, span, base, reads_misspelt: false, misspelt: Vec::new() }
    }

    /// Returns the keys, each with its place.
    pub(super) fn keys(&self) -> impl Iterator<Item = (&'t str, Span)> {
        self.table.keys().map(|key| (key.get_ref().as_ref(), self.at(key.span())))
    }

    /// The kind of table, as in `authority`.
    pub(super) fn kind(&self) -> &'static str {
        self.kind
    }

    /// What a key of it may hold. Whoever reads a key that is not described finds that out by the first test.
    fn kind_of(&self, key: &str) -> &'static Kind {
        let described = self.described.key(key).map(|key| &key.kind);
        debug_assert!(described.is_some(), "[{}] has no key {key}", self.described.name);
        described.unwrap_or(&Kind::Text)
    }

    /// Reports the keys that are unknown, and takes note of what was meant by them.
    fn checked(mut self, problems: &mut Diagnostics) -> Section<'t> {
        for (key, value) in self.table.iter() {
            if self.described.key(key.get_ref()).is_some() {
                continue;
            }
            let place = if self.kind.is_empty() { "the manifest".to_owned() } else { format!("[{}]", self.title()) };
            let help = match nearest(key.get_ref(), self.described.names()) {
                Some(near) => {
                    self.misspelt.extend(self.reads_misspelt.then_some((near, value)));
                    format!("did you mean \"{near}\"?")
                }
                None => format!("known keys: {}", self.described.names().collect::<Vec<_>>().join(", ")),
            };
            problems.report(
                "unknown-key",
                self.at(key.span()),
                format!("{place} has no key \"{}\"", shown(key.get_ref())),
                help,
            );
        }
        self
    }

    /// How the table is written, as in `authority.main`.
    pub(super) fn title(&self) -> String {
        title(self.kind, self.name)
    }

    /// Where a range of the parsed text stands in the manifest.
    pub(super) fn at(&self, span: Span) -> Span {
        moved(span, self.base)
    }

    /// Where the value of a key stands.
    pub(super) fn span_of(&self, key: &str) -> Option<Span> {
        Some(self.at(self.value(key)?.span()))
    }

    pub(super) fn span(&self) -> Span {
        self.span.clone()
    }

    /// Returns the value of a key. A misspelt key, which is reported, is read as the one that was meant: it is not
    /// reported as missing as well.
    pub(super) fn value(&self, key: &str) -> Option<&'t Spanned<DeValue<'t>>> {
        let misspelt = || self.misspelt.iter().find(|(meant, _)| *meant == key).map(|(_, value)| *value);
        self.table.get(key).or_else(misspelt)
    }

    /// Reports a key that does not belong here, where it is written.
    pub(super) fn refuse(&self, key: &str, message: &str, problems: &mut Diagnostics) {
        if let Some(value) = self.value(key) {
            problems.report("unknown-key", self.at(value.span()), message, format!("remove {key}"));
        }
    }

    /// Reports the keys that belong to other drivers than this one.
    pub(super) fn refuse_of_others(&self, driver: &str, problems: &mut Diagnostics) {
        for key in self.described.keys.iter().filter(|key| !key.is_of(driver)) {
            let owners = key.of.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(" and ");
            self.refuse(key.name, &format!("\"{}\" belongs to the driver {owners}", key.name), problems);
        }
    }

    /// Reports that `key` is needed and absent.
    pub(super) fn missing(&self, key: &str, example: &str, problems: &mut Diagnostics) {
        problems.report(
            "missing-key",
            self.span(),
            format!("[{}] needs the key \"{key}\"", self.title()),
            format!("add: {key} = {example}"),
        );
    }

    fn wrong_type(&self, key: &str, wanted: &str, got: &Spanned<DeValue<'_>>, problems: &mut Diagnostics) {
        problems.report(
            "wrong-type",
            self.at(got.span()),
            format!("\"{key}\" must be {wanted}, not {}", type_of(got)),
            format!("write {key} = {}", example_of(wanted)),
        );
    }

    /// Reads a string.
    pub(super) fn text(&self, key: &str, problems: &mut Diagnostics) -> Option<At<&'t str>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::String(text) => self.filled_in(key, text, self.at(value.span()), problems),
            _ => {
                self.wrong_type(key, "a string", value, problems);
                None
            }
        }
    }

    /// Refuses a placeholder, as `init` writes it: what is to be put in its place stands in angle brackets.
    fn filled_in(&self, key: &str, text: &'t str, span: Span, problems: &mut Diagnostics) -> Option<At<&'t str>> {
        let Some(wanted) = text.strip_prefix('<').and_then(|text| text.strip_suffix('>')) else {
            return Some(At { value: text, span });
        };
        let wanted: String = wanted.chars().take(80).collect();
        let message = format!("\"{key}\" of [{}] is not filled in", self.title());
        problems.report("placeholder", span, message, format!("write {wanted} in its place"));
        None
    }

    /// Reads a string whose place does not matter.
    pub(super) fn plain_text(&self, key: &str, problems: &mut Diagnostics) -> Option<String> {
        self.text(key, problems).map(|text| text.value.to_owned())
    }

    /// Reads a text for people as one line.
    pub(super) fn line(&self, key: &str, problems: &mut Diagnostics) -> Option<String> {
        self.text(key, problems).map(|text| bounded_line(text.value, LONGEST_LINE))
    }

    /// Reads words for people, each as one line.
    pub(super) fn lines(&self, key: &str, problems: &mut Diagnostics) -> Vec<String> {
        self.texts(key, problems).into_iter().map(|text| bounded_line(text.value, LONGEST_LINE)).collect()
    }

    /// Reads a string that must be there.
    pub(super) fn needed_text(&self, key: &str, example: &str, problems: &mut Diagnostics) -> Option<At<&'t str>> {
        if self.value(key).is_none() {
            self.missing(key, example, problems);
        }
        self.text(key, problems)
    }

    /// Reads a string and parses it; `help` says what would do.
    pub(super) fn parsed<T: FromStr>(&self, key: &str, help: &str, problems: &mut Diagnostics) -> Option<At<T>>
    where
        T::Err: std::fmt::Display,
    {
        parse(self.text(key, problems)?, help, problems)
    }

    /// Reads true or false.
    pub(super) fn truth(&self, key: &str, problems: &mut Diagnostics) -> Option<At<bool>> {
        let value = self.value(key)?;
        match value.get_ref() {
            DeValue::Boolean(truth) => Some(At { value: *truth, span: self.at(value.span()) }),
            _ => {
                self.wrong_type(key, "true or false", value, problems);
                None
            }
        }
    }

    /// Reads one of the words that a key may hold.
    pub(super) fn word<T: FromStr>(&self, key: &str, problems: &mut Diagnostics) -> Option<At<T>>
    where
        T::Err: std::fmt::Display,
    {
        let words = match self.kind_of(key) {
            Kind::Word(words) => *words,
            _ => &[],
        };
        parse(self.text(key, problems)?, &format!("write {}", one_of(words)), problems)
    }

    /// Reads a duration within the bounds of its key.
    pub(super) fn duration(&self, key: &str, problems: &mut Diagnostics) -> Option<Duration> {
        let text = self.text(key, problems)?;
        let span = text.span.clone();
        let read = parse::<DurationText>(text, DURATION_HELP, problems)?.value.0;
        let Kind::Duration(range) = self.kind_of(key) else { return Some(read) };
        if range.contains(&read.as_secs()) {
            return Some(read);
        }
        let (least, longest) = (range.start(), range.end());
        let message = match *longest {
            u64::MAX => format!("\"{key}\" is at least {}", duration(*least)),
            longest if *least == 0 => format!("\"{key}\" is at most {}", duration(longest)),
            longest => format!("\"{key}\" is from {} to {}", duration(*least), duration(longest)),
        };
        problems.report("bad-value", span, message, DURATION_HELP);
        None
    }

    /// Reads a whole number within the bounds of its key.
    pub(super) fn number(&self, key: &str, problems: &mut Diagnostics) -> Option<At<u32>> {
        let range = match self.kind_of(key) {
            Kind::Number(range) => range.clone(),
            _ => 0..=u32::MAX,
        };
        self.number_within(key, range, problems)
    }

    /// Reads a whole number within a range that depends on something else.
    pub(super) fn number_within(
        &self,
        key: &str,
        range: RangeInclusive<u32>,
        problems: &mut Diagnostics,
    ) -> Option<At<u32>> {
        let value = self.value(key)?;
        let DeValue::Integer(number) = value.get_ref() else {
            self.wrong_type(key, "a whole number", value, problems);
            return None;
        };
        match number.as_str().parse().ok().filter(|number| range.contains(number)) {
            Some(number) => Some(At { value: number, span: self.at(value.span()) }),
            None => {
                problems.report(
                    "bad-value",
                    self.at(value.span()),
                    format!("\"{key}\" is out of range"),
                    format!("write a whole number from {} to {}", range.start(), range.end()),
                );
                None
            }
        }
    }

    /// Reads a list of strings; an absent key is an empty list.
    pub(super) fn texts(&self, key: &str, problems: &mut Diagnostics) -> Vec<At<&'t str>> {
        let Some(value) = self.value(key) else { return Vec::new() };
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong_type(key, "a list of strings", value, problems);
            return Vec::new();
        };
        let mut texts = Vec::with_capacity(items.len());
        for item in items.iter() {
            match item.get_ref() {
                DeValue::String(text) => texts.extend(self.filled_in(key, text, self.at(item.span()), problems)),
                _ => self.wrong_type(key, "a list of strings", item, problems),
            }
        }
        texts
    }

    /// Reads a list of strings and parses each.
    pub(super) fn parsed_list<T: FromStr>(&self, key: &str, help: &str, problems: &mut Diagnostics) -> Vec<At<T>>
    where
        T::Err: std::fmt::Display,
    {
        self.texts(key, problems).into_iter().filter_map(|text| parse(text, help, problems)).collect()
    }

    /// Opens a table inside this one.
    pub(super) fn inner(&self, key: &'static str, problems: &mut Diagnostics) -> Option<Section<'t>> {
        let Kind::Table(described) = self.kind_of(key) else { return None };
        self.inner_as(described, key, problems)
    }

    /// Opens a table inside this one, of a key that may hold several kinds of table.
    pub(super) fn inner_as(
        &self,
        described: &'static Table,
        key: &'static str,
        problems: &mut Diagnostics,
    ) -> Option<Section<'t>> {
        self.open_inner(described, key, self.value(key)?, problems)
    }

    /// Opens a table inside this one whose keys the caller judges; anything else is none.
    pub(super) fn inner_unchecked(&self, key: &'static str) -> Option<Section<'t>> {
        let value = self.value(key)?;
        let DeValue::Table(table) = value.get_ref() else { return None };
        let span = self.at(value.span());
        Some(Section {
            described: self.described,
            kind: key,
            name: "",
            table,
            span,
            base: self.base,
            reads_misspelt: self.reads_misspelt,
            misspelt: Vec::new(),
        })
    }

    /// Opens a table that stands somewhere inside this one.
    pub(super) fn open_inner(
        &self,
        described: &'static Table,
        kind: &'static str,
        value: &'t Spanned<DeValue<'t>>,
        problems: &mut Diagnostics,
    ) -> Option<Section<'t>> {
        self.open(described, kind, "", value, problems)
    }

    /// Opens each table of a list inside this one.
    pub(super) fn inner_list(&self, key: &'static str, problems: &mut Diagnostics) -> Vec<Section<'t>> {
        let Kind::List(Kind::Table(described), _) = self.kind_of(key) else { return Vec::new() };
        let Some(value) = self.value(key) else { return Vec::new() };
        let DeValue::Array(items) = value.get_ref() else {
            self.wrong_type(key, "a list of tables", value, problems);
            return Vec::new();
        };
        let first = described.names().next().unwrap_or_default();
        let tables = items.iter().filter_map(|item| {
            if !matches!(item.get_ref(), DeValue::Table(_)) {
                let message = format!("each of \"{key}\" must be a table, not {}", type_of(item));
                problems.report(
                    "wrong-type",
                    self.at(item.span()),
                    message,
                    format!("write {key} = [{{ {first} = … }}]"),
                );
                return None;
            }
            self.open_inner(described, key, item, problems)
        });
        tables.collect()
    }

    /// Returns the named tables below `kind`, as in `[authority.NAME]`.
    pub(super) fn named(&self, kind: &'static str, problems: &mut Diagnostics) -> Vec<(At<&'t str>, Section<'t>)> {
        let Kind::Named(described) = self.kind_of(kind) else { return Vec::new() };
        let Some(value) = self.value(kind) else { return Vec::new() };
        let DeValue::Table(table) = value.get_ref() else {
            problems.report(
                "wrong-type",
                self.at(value.span()),
                format!("\"{kind}\" must be a table of tables, not {}", type_of(value)),
                format!("write [{kind}.NAME]"),
            );
            return Vec::new();
        };
        let mut sections = Vec::with_capacity(table.len());
        for (key, value) in table.iter() {
            let name: &str = key.get_ref();
            let is_label = matches!(kind, "hostname" | "zone") && !name.contains('.');
            if let Some(full) = unquoted(described, name, value).filter(|_| is_label) {
                let message = format!("the name \"{}\" is written without quotation marks", bounded_line(&full, 80));
                let help = format!("write [{kind}.\"{}\"]", bounded_line(&full, 80));
                problems.report("bad-name", self.at(key.span()), message, help);
                continue;
            }
            // Names of hostnames and zones have rules of their own.
            if !matches!(kind, "hostname" | "zone") && !is_word(name) {
                let message = format!("\"{}\" is no name for [{kind}.NAME]", bounded_line(name, 60));
                problems.report("bad-name", self.at(key.span()), message, "use letters, digits, hyphens and dots");
                continue;
            }
            if let Some(mut section) = self.open(described, kind, name, value, problems) {
                section.span = self.at(key.span());
                sections.push((At { value: name, span: self.at(key.span()) }, section));
            }
        }
        sections
    }
}

/// The name that `[hostname.www.larkfield.example]` means: without quotation marks each label is a table in the one before.
fn unquoted(described: &Table, name: &str, value: &Spanned<DeValue<'_>>) -> Option<String> {
    let (mut labels, mut value) = (vec![name], value);
    while let DeValue::Table(table) = value.get_ref() {
        let is_label = |inner: &Spanned<DeValue<'_>>| matches!(inner.get_ref(), DeValue::Table(_));
        let next = table.iter().find(|(key, inner)| described.key(key.get_ref()).is_none() && is_label(inner));
        let Some((key, inner)) = next.filter(|_| labels.len() < 128) else { break };
        labels.push(key.get_ref());
        value = inner;
    }
    (labels.len() > 1).then(|| labels.join("."))
}

/// A duration with its unit, as in `30d`.
struct DurationText(Duration);

impl FromStr for DurationText {
    type Err = crate::values::ValueError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        parse_duration(text).map(DurationText)
    }
}

/// Words to choose from, as in `"a", "b" or "c"`.
fn one_of(words: &[&str]) -> String {
    let quoted: Vec<String> = words.iter().map(|word| format!("\"{word}\"")).collect();
    series(&quoted, " or ")
}

/// Says whether a name is one word wherever it stands: in a table, a command line, a file's name.
fn is_word(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || "-_.@+:/*".contains(c))
}

fn moved(span: Span, base: usize) -> Span {
    span.start + base..span.end + base
}

/// Parses a text, reporting a failure with `help`.
pub(super) fn parse<T: FromStr>(text: At<&str>, help: &str, problems: &mut Diagnostics) -> Option<At<T>>
where
    T::Err: std::fmt::Display,
{
    match text.value.parse() {
        Ok(value) => Some(At { value, span: text.span }),
        Err(error) => {
            problems.report("bad-value", text.span, error.to_string(), help);
            None
        }
    }
}

/// A text cut to what a message can hold.
fn shown(text: &DeString<'_>) -> String {
    bounded_line(text.as_ref(), 60)
}

fn title(kind: &str, name: &str) -> String {
    if name.is_empty() {
        kind.to_owned()
    } else if name.contains('.') || name.contains('*') {
        format!("{kind}.{name:?}")
    } else {
        format!("{kind}.{name}")
    }
}

fn type_of(value: &Spanned<DeValue<'_>>) -> &'static str {
    match value.get_ref() {
        DeValue::String(_) => "a string",
        DeValue::Integer(_) => "a whole number",
        DeValue::Float(_) => "a number",
        DeValue::Boolean(_) => "true or false",
        DeValue::Datetime(_) => "a date",
        DeValue::Array(_) => "a list",
        DeValue::Table(_) => "a table",
    }
}

fn example_of(wanted: &str) -> &'static str {
    match wanted {
        "a string" => "\"…\"",
        "true or false" => "true",
        "a list of strings" => "[\"…\"]",
        "a whole number" => "5",
        _ => "[{ … }]",
    }
}
