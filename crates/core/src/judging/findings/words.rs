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
    /// What is left to do after a run that could not mend it, where the remedy begins with such a run.
    pub after_settle: Option<String>,
}

impl Words {
    /// Words without evidence.
    pub(super) fn new(says: impl Into<String>, remedy: impl Into<String>) -> Words {
        let (says, remedy) = (bounded_line(says, LONGEST), bounded_line(remedy, LONGEST));
        Words { says, evidence: Vec::new(), remedy, after_settle: None }
    }

    /// Words of what a run of settle usually mends; `otherwise`, in lower case, is what to do where it does not.
    pub(super) fn settle_or(says: impl Into<String>, otherwise: &str) -> Words {
        let mut letters = otherwise.chars();
        let after_settle = letters.next().map(|first| first.to_uppercase().chain(letters).collect());
        Words { after_settle, ..Words::new(says, format!("Run settle; if that does not help, {otherwise}")) }
    }

    /// Returns the same as it reads at the end of a run that could not mend it.
    #[must_use]
    pub fn after_settle(mut self) -> Words {
        if let Some(remedy) = self.after_settle.take() {
            self.remedy = remedy;
        }
        self
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
