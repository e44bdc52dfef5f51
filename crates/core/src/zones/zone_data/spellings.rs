//! How names are spelled: they are compared without their case, and shown as whoever made them wrote them (RFC 4343 §4).

use std::collections::BTreeMap;

use super::NameKey;

/// The names of a zone that are not all in lower case, each as it was written first.
#[derive(Debug, Default)]
pub(super) struct Spellings {
    written: BTreeMap<NameKey, String>,
    octets: usize,
}

impl Spellings {
    /// Takes a name as it is written, in full. What is in lower case needs no room.
    pub(super) fn note(&mut self, text: &str) {
        let is_cased = text.bytes().any(|octet| octet.is_ascii_uppercase());
        let Some(name) = is_cased.then(|| NameKey::parse(text.as_bytes(), &NameKey::root()).ok()).flatten() else {
            return;
        };
        let mut written = text.to_owned();
        if !written.ends_with('.') {
            written.push('.');
        }
        self.written.entry(name).or_insert_with(|| {
            self.octets += 2 * written.len();
            written
        });
    }

    /// How much room the names take.
    pub(super) fn octets(&self) -> usize {
        self.octets
    }

    /// Returns a name as it is to be shown.
    pub(super) fn shown(&self, name: &NameKey) -> String {
        self.written.get(name).cloned().unwrap_or_else(|| name.to_string())
    }
}
