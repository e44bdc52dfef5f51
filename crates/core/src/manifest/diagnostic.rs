//! Mistakes in a manifest, each with its place and what to write instead.

use super::{MOST_NAMES, Span};
use crate::text::display_text::one_line;

/// From how many mistakes on near names are no longer searched for.
const MOST_SEARCHED: usize = 100;
/// The most known names that a help shows.
const MOST_NAMED: usize = 12;

/// One mistake.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Diagnostic {
    /// A stable kebab-case word for programs.
    pub code: &'static str,
    /// What is wrong, as one sentence without a full stop.
    pub message: String,
    /// Where it stands.
    pub span: Span,
    /// What to write instead.
    pub help: Option<String>,
}

/// All mistakes found so far.
#[derive(Debug, Default)]
pub struct Diagnostics {
    found: Vec<Diagnostic>,
}

impl Diagnostics {
    /// Adds a mistake with what to write instead.
    pub fn report(&mut self, code: &'static str, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.found.push(Diagnostic { code, message: one_line(message), span, help: Some(help.into()) });
    }

    /// Adds a mistake that explains itself.
    pub fn report_plain(&mut self, code: &'static str, span: Span, message: impl Into<String>) {
        self.found.push(Diagnostic { code, message: one_line(message), span, help: None });
    }

    /// Adds that a certificate has too many names.
    pub(crate) fn report_too_many_names(&mut self, span: Span, count: usize) {
        let message = format!("a certificate has at most {MOST_NAMES} names, and this one has {count}");
        self.report("bad-value", span, message, "declare a second certificate for the rest");
    }

    /// What to write in place of an unknown name: the near one, else some of the known ones.
    /// After many mistakes, none is looked for.
    pub(crate) fn suggest<'k>(&self, word: &str, known: impl Iterator<Item = &'k str>) -> Option<String> {
        if self.found.len() >= MOST_SEARCHED {
            return None;
        }
        let mut known: Vec<&str> = known.collect();
        known.sort_unstable();
        match nearest(word, known.iter().copied()) {
            Some(near) => Some(format!("did you mean \"{near}\"?")),
            None => some_of(&known).map(|some| format!("there are: {some}")),
        }
    }

    /// Adds all of another collection.
    pub(super) fn extend(&mut self, other: Diagnostics) {
        self.found.extend(other.found);
    }

    /// Says whether there is none.
    pub fn is_empty(&self) -> bool {
        self.found.is_empty()
    }

    /// Returns the mistakes in the order of the text.
    pub fn into_sorted(mut self) -> Vec<Diagnostic> {
        self.found.sort_by_key(|found| (found.span.start, found.span.end));
        self.found
    }
}

/// Names some of many words.
pub(crate) fn some_of(words: &[&str]) -> Option<String> {
    match words {
        [] => None,
        words if words.len() > MOST_NAMED => {
            let (some, more) = (words[..MOST_NAMED].join(", "), words.len() - MOST_NAMED);
            Some(format!("{some} and {more} more"))
        }
        words => Some(words.join(", ")),
    }
}

/// A line and a column, both counted from one; the column in characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

/// Finds lines and columns of byte offsets in one text.
#[derive(Debug)]
pub struct LineIndex<'t> {
    text: &'t str,
    starts: Vec<usize>,
}

impl<'t> LineIndex<'t> {
    /// Notes where the lines of `text` start.
    pub fn new(text: &'t str) -> Self {
        let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        LineIndex { text, starts }
    }

    /// Returns the place of a byte offset; past the end, the last place.
    pub fn place(&self, offset: usize) -> Place {
        let offset = offset.min(self.text.len());
        let line = self.starts.partition_point(|start| *start <= offset);
        let before = self.text.get(self.starts[line - 1]..offset).unwrap_or_default();
        Place { line, column: before.chars().count() + 1 }
    }
}

/// Returns the candidate most like `word`, if any is like it at all.
pub fn nearest<'c>(word: &str, candidates: impl IntoIterator<Item = &'c str>) -> Option<&'c str> {
    let limit = (word.chars().count() / 3).max(1) + 1;
    candidates
        .into_iter()
        .map(|candidate| (edits(word, candidate), candidate))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// The number of single-character edits that make `left` into `right`.
fn edits(left: &str, right: &str) -> usize {
    let right: Vec<char> = right.chars().collect();
    let mut row: Vec<usize> = (0..=right.len()).collect();
    for (i, l) in left.chars().enumerate() {
        let mut diagonal = row[0];
        row[0] = i + 1;
        for (j, r) in right.iter().enumerate() {
            let replace = diagonal + usize::from(!l.eq_ignore_ascii_case(r));
            diagonal = row[j + 1];
            row[j + 1] = replace.min(row[j] + 1).min(diagonal + 1);
        }
    }
    row[right.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_characters_and_survive_any_offset() {
        let text = "one\nzwölf\n";
        let index = LineIndex::new(text);
        assert_eq!(index.place(0), Place { line: 1, column: 1 });
        assert_eq!(index.place(text.find('l').unwrap()), Place { line: 2, column: 4 });
        assert_eq!(index.place(7), Place { line: 2, column: 1 }, "inside a character");
        assert_eq!(index.place(999), Place { line: 3, column: 1 });
    }

    #[test]
    fn a_slip_is_near_and_another_word_is_not() {
        let known = ["directory", "contact", "agree_to_terms"];
        assert_eq!(nearest("directroy", known), Some("directory"));
        assert_eq!(nearest("agree-to-terms", known), Some("agree_to_terms"));
        assert_eq!(nearest("telescope", known), None);
    }
}
