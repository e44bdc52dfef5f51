//! Writing a manifest: what [`read`](super::read) reads back as the same.

use std::fmt::Write as _;

use toml::Value;
pub use toml::Value as TomlValue;

use super::describe::{Kind, MANIFEST, Table};

/// Where notes beside values begin, in characters.
const NOTES_AT: usize = 40;

/// A manifest that is being written, table by table. Keys are written in the order of their descriptions.
#[derive(Debug)]
pub struct Draft {
    root: DraftTable,
    tables: Vec<DraftTable>,
}

/// A table of it.
#[derive(Debug)]
pub struct DraftTable {
    described: &'static Table,
    /// How it is headed, as in `zone."larkfield.example"`; empty for the manifest itself.
    title: String,
    comment: String,
    lines: Vec<Line>,
}

#[derive(Debug)]
struct Line {
    key: &'static str,
    value: Value,
    /// Whether it is only suggested, and so commented out.
    is_hint: bool,
    note: String,
}

impl Draft {
    /// Begins a manifest, with a comment at its head.
    pub fn new(comment: &str) -> Draft {
        let mut root = DraftTable::new(&MANIFEST, String::new(), comment);
        root.set("manifest", 1);
        Draft { root, tables: Vec::new() }
    }

    /// Adds a table that has no name, as in `[defaults]`.
    ///
    /// # Panics
    /// Where the manifest has no such table: that is a mistake of the caller.
    pub fn table(&mut self, kind: &str, comment: &str) -> &mut DraftTable {
        match MANIFEST.key(kind).map(|key| &key.kind) {
            Some(Kind::Table(described)) => self.push(DraftTable::new(described, kind.to_owned(), comment)),
            _ => panic!("the manifest has no table [{kind}]"),
        }
    }

    /// Adds a named table, as in `[zone."NAME"]`.
    ///
    /// # Panics
    /// Where the manifest has no such tables: that is a mistake of the caller.
    pub fn named(&mut self, kind: &str, name: &str, comment: &str) -> &mut DraftTable {
        match MANIFEST.key(kind).map(|key| &key.kind) {
            Some(Kind::Named(described)) => {
                let title = format!("{kind}.{}", key_text(name));
                self.push(DraftTable::new(described, title, comment))
            }
            _ => panic!("the manifest has no tables [{kind}.NAME]"),
        }
    }

    fn push(&mut self, table: DraftTable) -> &mut DraftTable {
        self.tables.push(table);
        let last = self.tables.len() - 1;
        &mut self.tables[last]
    }

    /// Returns the text.
    pub fn to_text(&self) -> String {
        let tables: Vec<String> = std::iter::once(&self.root).chain(&self.tables).map(DraftTable::to_text).collect();
        tables.join("\n")
    }
}

impl DraftTable {
    fn new(described: &'static Table, title: String, comment: &str) -> DraftTable {
        DraftTable { described, title, comment: comment.to_owned(), lines: Vec::new() }
    }

    /// Sets a key.
    ///
    /// # Panics
    /// Where the table has no such key: that is a mistake of the caller.
    pub fn set(&mut self, key: &str, value: impl Into<Value>) -> &mut DraftTable {
        self.add(key, value.into(), false)
    }

    /// Sets a key, where there is something to set it to.
    ///
    /// # Panics
    /// As [`set`](DraftTable::set).
    pub fn set_some(&mut self, key: &str, value: Option<impl Into<Value>>) -> &mut DraftTable {
        match value {
            Some(value) => self.set(key, value),
            None => self,
        }
    }

    /// Suggests what a key could be set to, as a comment.
    ///
    /// # Panics
    /// As [`set`](DraftTable::set).
    pub fn hint(&mut self, key: &str, value: impl Into<Value>) -> &mut DraftTable {
        self.add(key, value.into(), true)
    }

    /// Adds a note to the key that was set or suggested last.
    pub fn note(&mut self, note: &str) -> &mut DraftTable {
        if let Some(line) = self.lines.last_mut() {
            note.clone_into(&mut line.note);
        }
        self
    }

    fn add(&mut self, key: &str, value: Value, is_hint: bool) -> &mut DraftTable {
        let Some(described) = self.described.key(key) else { panic!("[{}] has no key {key}", self.described.name) };
        self.lines.push(Line { key: described.name, value, is_hint, note: String::new() });
        self
    }

    fn to_text(&self) -> String {
        let mut text = String::new();
        for line in self.comment.lines() {
            let _ = writeln!(text, "# {line}");
        }
        if !self.title.is_empty() {
            let _ = writeln!(text, "[{}]", self.title);
        }
        for key in self.described.names() {
            for Line { value, is_hint, note, .. } in self.lines.iter().filter(|line| line.key == key) {
                let line = format!("{}{key} = {value}", if *is_hint { "# " } else { "" });
                let note = if note.is_empty() { String::new() } else { format!(" # {note}") };
                let _ = writeln!(text, "{}{note}", if note.is_empty() { line } else { format!("{line:NOTES_AT$}") });
            }
        }
        text
    }
}

/// An inline table, as a value.
pub fn inline<const N: usize>(pairs: [(&str, Value); N]) -> Value {
    Value::Table(pairs.into_iter().map(|(key, value)| (key.to_owned(), value)).collect())
}

/// A list of texts, as a value.
pub fn texts<T: ToString>(items: &[T]) -> Value {
    Value::Array(items.iter().map(|item| Value::String(item.to_string())).collect())
}

/// A key as it is written: bare where it may be.
fn key_text(key: &str) -> String {
    let is_bare = !key.is_empty() && key.chars().all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_');
    if is_bare {
        return key.to_owned();
    }
    // A key may not be a string of several lines. What JSON escapes, TOML does; and one character more.
    serde_json::Value::String(key.to_owned()).to_string().replace('\u{7f}', "\\u007F")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use toml::Table as TomlTable;

    use super::*;
    use crate::manifest::{Diagnostics, Key, read};

    /// Any value that a key may hold.
    fn value_of(kind: &'static Kind) -> BoxedStrategy<Value> {
        let text = || any::<String>().prop_map(Value::String);
        match kind {
            Kind::Version => Just(Value::Integer(1)).boxed(),
            Kind::Text | Kind::Path | Kind::Url => text().boxed(),
            Kind::Secret => "[A-Z_]{1,9}".prop_map(|name| Value::String(format!("env:{name}"))).boxed(),
            Kind::Truth => any::<bool>().prop_map(Value::Boolean).boxed(),
            Kind::Agreed => Just(Value::Boolean(true)).boxed(),
            Kind::Word(words) => proptest::sample::select(*words).prop_map(|word| Value::String(word.into())).boxed(),
            Kind::Number(range) => range.clone().prop_map(|number| Value::Integer(number.into())).boxed(),
            Kind::Duration(_) => (0..1_000_u32).prop_map(|secs| Value::String(format!("{secs}s"))).boxed(),
            Kind::List(entry, _) => proptest::collection::vec(value_of(entry), 0..4).prop_map(Value::Array).boxed(),
            Kind::Map(value) => proptest::collection::btree_map(any::<String>(), value_of(value), 0..4)
                .prop_map(|map| Value::Table(map.into_iter().collect()))
                .boxed(),
            Kind::Table(table) | Kind::Named(table) => values_of(table).prop_map(Value::Table).boxed(),
            Kind::Either(kinds) => {
                proptest::strategy::Union::new(kinds.iter().map(value_of).collect::<Vec<_>>()).boxed()
            }
        }
    }

    /// Some keys of a table, with any values.
    fn values_of(table: &'static Table) -> BoxedStrategy<TomlTable> {
        let some: Vec<BoxedStrategy<Option<(String, Value)>>> = table
            .keys
            .iter()
            .map(|key: &Key| proptest::option::of((Just(key.name.to_owned()), value_of(&key.kind))).boxed())
            .collect();
        some.prop_map(|keys| keys.into_iter().flatten().collect()).boxed()
    }

    fn named() -> BoxedStrategy<(&'static str, String, TomlTable)> {
        let kinds: Vec<&'static Key> = MANIFEST.keys.iter().filter(|key| matches!(key.kind, Kind::Named(_))).collect();
        let kind = proptest::sample::select(kinds);
        kind.prop_flat_map(|key| match &key.kind {
            Kind::Named(table) => (Just(key.name), any::<String>(), values_of(table)).boxed(),
            _ => unreachable!("named ones alone"),
        })
        .boxed()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Whatever is written is read back as the same.
        #[test]
        fn what_is_written_is_read_back_as_the_same(tables in proptest::collection::vec(named(), 0..5)) {
            let (mut draft, mut expected) = (Draft::new("Anything."), TomlTable::new());
            expected.insert("manifest".into(), Value::Integer(1));
            for (kind, name, values) in tables {
                let of_kind = expected.entry(kind).or_insert_with(|| Value::Table(TomlTable::new()));
                let of_kind = of_kind.as_table_mut().unwrap();
                if of_kind.contains_key(&name) {
                    continue;
                }
                let table = draft.named(kind, &name, "A table.");
                for (key, value) in &values {
                    table.set(key, value.clone()).note("a note");
                }
                of_kind.insert(name, Value::Table(values));
            }
            let text = draft.to_text();
            let found: TomlTable = toml::from_str(&text).unwrap_or_else(|error| panic!("{error}\n{text}"));
            prop_assert_eq!(found, expected);
        }
    }

    #[test]
    fn a_draft_is_a_manifest_with_its_keys_in_order() {
        let mut draft = Draft::new("What should hold.");
        draft.table("defaults", "").set("ttl", "10m").set("authority", "main");
        draft
            .named("authority", "main", "Where certificates are issued.")
            .set("agree_to_terms", true)
            .note("once you have read them")
            .set("directory", "https://authority.example/directory")
            .hint("contact", texts(&["mailto:tls@larkfield.example"]));
        draft.named("zone", "larkfield.example", "").set("driver", "none");
        let text = draft.to_text();
        assert_eq!(
            text,
            "# What should hold.
manifest = 1

[defaults]
authority = \"main\"
ttl = \"10m\"

# Where certificates are issued.
[authority.main]
directory = \"https://authority.example/directory\"
agree_to_terms = true                    # once you have read them
# contact = [\"mailto:tls@larkfield.example\"]

[zone.\"larkfield.example\"]
driver = \"none\"
"
        );
        let mut problems = Diagnostics::default();
        let manifest = read(&text, &mut problems);
        assert!(problems.is_empty(), "{problems:?}");
        assert_eq!((manifest.zones.len(), manifest.authorities.len()), (1, 1));
    }
}
