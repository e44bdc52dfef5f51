//! What a finding says.

use std::fmt::Display;

use crate::text::display_text::bounded_line;

/// The longest sentence of a finding, in characters: what a peer says within it is shorter.
const LONGEST: usize = 2_000;

/// A finding in words: each part one line of bounded length.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Words {
    /// What is wrong, as one sentence.
    pub says: String,
    /// What was seen.
    pub evidence: Vec<String>,
    /// What to do.
    pub remedy: String,
}

impl Words {
    /// Words without evidence.
    pub(super) fn new(says: impl Into<String>, remedy: impl Into<String>) -> Words {
        Words { says: bounded_line(says, LONGEST), evidence: Vec::new(), remedy: bounded_line(remedy, LONGEST) }
    }

    /// Adds what was seen.
    pub(super) fn seen(mut self, evidence: impl IntoIterator<Item = String>) -> Words {
        self.evidence.extend(evidence.into_iter().map(|text| bounded_line(text, LONGEST)));
        self
    }
}

/// Some things, with commas.
pub(super) fn listed<T: Display>(items: &[T]) -> String {
    if items.is_empty() { "none".into() } else { joined(items, ", ") }
}

/// Some things, each of which counts.
pub(super) fn all_of<T: Display>(items: &[T]) -> String {
    joined(items, " and ")
}

fn joined<T: Display>(items: &[T], between: &str) -> String {
    items.iter().map(T::to_string).collect::<Vec<_>>().join(between)
}
