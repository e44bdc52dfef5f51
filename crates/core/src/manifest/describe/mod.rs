//! What a manifest may say: each of its tables described once, in the files below.
//!
//! From a description come the keys that the reader knows and the bounds that it holds values to, the JSON Schema for
//! editors ([`schema`]), the tables of `docs/manifest.md` ([`key_table`]), what is suggested for a misspelt key, and
//! the order in which manifests are written ([`super::Draft`]).

mod authority;
mod certificate;
mod endpoint;
mod health;
mod hostname;
mod markdown;
mod root;
mod schema;
mod zone;

use std::ops::RangeInclusive;

pub use markdown::key_table;
pub use schema::schema;

pub(super) use endpoint::{ORIGIN_OF_PLATFORM, ORIGIN_OF_SERVER, SERVICE_PLACE};
pub(super) use health::{ENDPOINT_HEALTH, HEALTH};
pub(super) use markdown::duration;
pub(super) use root::MANIFEST;

/// A table of the manifest.
#[derive(Debug)]
pub struct Table {
    /// What it is called, as in `zone`; unique among all tables.
    pub name: &'static str,
    /// Its keys, in the order in which they are written.
    pub keys: &'static [Key],
}

/// A key of a table.
#[derive(Debug)]
pub struct Key {
    /// The key.
    pub name: &'static str,
    /// What it holds.
    pub kind: Kind,
    /// What it means, as one line of Markdown.
    pub doc: &'static str,
    /// The drivers that it belongs to; all where there are none.
    pub of: &'static [&'static str],
    /// The drivers, of those that it belongs to, that need it; [`EACH`] where all do, or the table has none.
    pub needed_by: &'static [&'static str],
    /// What holds where it is left out, as Markdown; empty for nothing.
    pub default: &'static str,
    /// What a text must match, as a regular expression of JSON Schema (ECMA-262); empty for anything.
    pub pattern: &'static str,
}

/// A key that is needed wherever it may stand.
pub const EACH: &[&str] = &["*"];

/// What a key holds.
#[derive(Debug)]
pub enum Kind {
    /// The version of the manifest.
    Version,
    /// A text.
    Text,
    /// A path, relative to the manifest's folder.
    Path,
    /// A URL over HTTPS.
    Url,
    /// Where a secret is, as in `env:NAME`.
    Secret,
    /// True or false.
    Truth,
    /// True alone.
    Agreed,
    /// One of these words.
    Word(&'static [&'static str]),
    /// A whole number.
    Number(RangeInclusive<u32>),
    /// A duration with its unit, as in `20s`: the least and the longest, in seconds.
    Duration(RangeInclusive<u64>),
    /// A list, with how many entries.
    List(&'static Kind, RangeInclusive<usize>),
    /// A table.
    Table(&'static Table),
    /// Tables by names that the manifest gives.
    Named(&'static Table),
    /// Values by names that the manifest gives.
    Map(&'static Kind),
    /// One of several.
    Either(&'static [Kind]),
}

/// A list of texts.
pub(super) const TEXTS: Kind = Kind::List(&Kind::Text, 0..=usize::MAX);
/// A list of texts that holds one.
pub(super) const SOME_TEXTS: Kind = Kind::List(&Kind::Text, 1..=usize::MAX);
/// Any duration.
pub(super) const DURATION: Kind = Kind::Duration(0..=u64::MAX);
/// How long before its end a certificate may be renewed: half of its life is used at least, and none lives for 20 years.
const RENEW: Kind = Kind::Duration(1..=3_650 * 86_400);

impl Key {
    const fn new(name: &'static str, kind: Kind, doc: &'static str) -> Key {
        Key { name, kind, doc, of: &[], needed_by: &[], default: "", pattern: "" }
    }

    /// Of these drivers alone.
    const fn of(self, of: &'static [&'static str]) -> Key {
        Key { of, ..self }
    }

    const fn needed(self) -> Key {
        Key { needed_by: EACH, ..self }
    }

    const fn needed_by(self, needed_by: &'static [&'static str]) -> Key {
        Key { needed_by, ..self }
    }

    const fn default(self, default: &'static str) -> Key {
        Key { default, ..self }
    }

    const fn matching(self, pattern: &'static str) -> Key {
        Key { pattern, ..self }
    }

    /// Says whether it belongs to a driver.
    pub fn is_of(&self, driver: &str) -> bool {
        self.of.is_empty() || self.of.contains(&driver)
    }
}

impl Table {
    /// Returns the names of its keys.
    pub fn names(&self) -> impl Iterator<Item = &'static str> {
        self.keys.iter().map(|key| key.name)
    }

    /// Returns a key.
    pub fn key(&self, name: &str) -> Option<&'static Key> {
        self.keys.iter().find(|key| key.name == name)
    }
}

/// Returns every table, the whole manifest first.
pub fn tables() -> Vec<&'static Table> {
    let mut tables = vec![&MANIFEST];
    let mut next = 0;
    while let Some(table) = tables.get(next).copied() {
        for key in table.keys {
            add(&key.kind, &mut tables);
        }
        next += 1;
    }
    tables
}

fn add(kind: &'static Kind, tables: &mut Vec<&'static Table>) {
    match kind {
        Kind::Table(table) | Kind::Named(table) => {
            tables.extend((!tables.iter().any(|known| known.name == table.name)).then_some(*table));
        }
        Kind::List(kind, _) | Kind::Map(kind) => add(kind, tables),
        Kind::Either(kinds) => kinds.iter().for_each(|kind| add(kind, tables)),
        _ => {}
    }
}

#[cfg(test)]
mod tests;
