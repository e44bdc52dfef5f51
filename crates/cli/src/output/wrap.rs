//! Sentences for people: names in Unicode, and on a terminal broken between words, continued under where they begin.

use std::borrow::Cow;
use std::io::{self, Write};

use pindrel_core::names::unicode::in_unicode;
use unicode_width::UnicodeWidthStr as _;

/// Below this width nothing is broken: it would only be harder to read.
const LEAST: usize = 40;
/// Marks that a line may begin with; what they are about begins after them.
const MARKS: [&str; 7] = ["→", "✕", "◇", "◈", "·", "!", "◆"];

/// Standard output for text: names are written in Unicode, and on a terminal lines that are too long are broken
/// between words.
pub(crate) fn stdout() -> Wrapped<anstream::AutoStream<io::Stdout>> {
    let width = terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0));
    Wrapped { out: anstream::stdout(), width: width.filter(|width| *width >= LEAST), line: Vec::new() }
}

/// Standard error for text: names are written in Unicode, and lines as they are.
pub(crate) fn stderr() -> Wrapped<anstream::AutoStream<io::Stderr>> {
    Wrapped { out: anstream::stderr(), width: None, line: Vec::new() }
}

/// Writes a sentence's names in Unicode.
pub(crate) fn named(text: &str) -> Cow<'_, str> {
    in_unicode(text, |_, _| String::new())
}

/// Writes the names of a line of a table in Unicode, each with as many blanks as keep what follows in its column.
pub(crate) fn named_in_columns(line: &str) -> Cow<'_, str> {
    in_unicode(line, |ascii, shown| " ".repeat(ascii.width().saturating_sub(shown.width())))
}

/// Makes a text ready for standard error: names in Unicode, and broken between words for a terminal.
pub(crate) fn for_stderr(text: &str) -> String {
    let text = &*named(text);
    let width = terminal_size::terminal_size_of(io::stderr()).map(|(width, _)| usize::from(width.0));
    match width.filter(|width| *width >= LEAST) {
        Some(width) => text.lines().map(|line| broken(line, width)).collect::<Vec<_>>().join("\n"),
        None => text.to_owned(),
    }
}

/// A writer that breaks lines.
pub(crate) struct Wrapped<W: Write> {
    out: W,
    width: Option<usize>,
    line: Vec<u8>,
}

impl<W: Write> Write for Wrapped<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        for byte in bytes {
            self.line.push(*byte);
            if *byte == b'\n' {
                self.end_line()?;
            }
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.end_line()?;
        self.out.flush()
    }
}

impl<W: Write> Wrapped<W> {
    fn end_line(&mut self) -> io::Result<()> {
        let line = std::mem::take(&mut self.line);
        match (std::str::from_utf8(&line).map(named), self.width) {
            (Ok(text), Some(width)) => self.out.write_all(broken(&text, width).as_bytes()),
            (Ok(text), None) => self.out.write_all(text.as_bytes()),
            (Err(_), _) => self.out.write_all(&line),
        }
    }
}

impl<W: Write> Drop for Wrapped<W> {
    fn drop(&mut self) {
        // There is nobody to tell: whoever wants to know flushes.
        let _ = self.end_line();
    }
}

/// Breaks a line between words, as far as there are such places.
fn broken(line: &str, width: usize) -> String {
    let shown = |text: &str| anstream::adapter::strip_str(text).to_string();
    let plain = shown(line);
    if plain.trim_end().chars().count() <= width {
        return line.to_owned();
    }
    let indent = indent_of(&plain).min(width / 2);
    let mut text = String::with_capacity(line.len() + 16);
    let (mut column, mut has_word) = (0, false);
    for part in line.split_inclusive(' ') {
        let word = shown(part);
        let (length, blank) = (word.trim_end().chars().count(), word.trim().is_empty());
        if has_word && !blank && column + length > width {
            text.truncate(text.trim_end_matches(' ').len());
            text.push('\n');
            text.extend(std::iter::repeat_n(' ', indent));
            column = indent;
        }
        text.push_str(part);
        column += word.trim_end_matches('\n').chars().count();
        has_word |= !blank;
    }
    text
}

/// Where a line that is continued goes on: under its first word, or after its mark.
fn indent_of(plain: &str) -> usize {
    let leading = plain.chars().take_while(|c| *c == ' ').count();
    let is_marked = plain.trim_start().split(' ').next().is_some_and(|word| MARKS.contains(&word));
    if leading == 0 || is_marked { leading + 2 } else { leading }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_sentence_goes_on_under_where_it_began() {
        let table = [
            ("short enough\n", "short enough\n"),
            (
                "✕ the alias of api.larkfield.example points elsewhere\n",
                "✕ the alias of\n  api.larkfield.example\n  points elsewhere\n",
            ),
            ("  → Run settle: it corrects the record\n", "  → Run settle: it\n    corrects the record\n"),
            ("    evidence that is long enough to break\n", "    evidence that is\n    long enough to break\n"),
            // A word that is longer than a line stays whole.
            (
                "https://catalogue.larkfield.example/v1 is there\n",
                "https://catalogue.larkfield.example/v1\n  is there\n",
            ),
        ];
        for (line, expected) in table {
            assert_eq!(broken(line, 24), expected);
        }
        let coloured = "\u{1b}[1mfailed\u{1b}[0m api.larkfield.example";
        assert_eq!(broken(coloured, 24), "\u{1b}[1mfailed\u{1b}[0m\n  api.larkfield.example", "colour takes no room");
    }

    proptest! {
        /// Nothing is lost, and no line is longer than it may be unless it is one word.
        #[test]
        fn every_word_stays_and_fits(words in prop::collection::vec("[a-zé→]{1,30}", 1..40), width in 40_usize..100) {
            let line = words.join(" ");
            let text = broken(&line, width);
            prop_assert_eq!(text.split_whitespace().collect::<Vec<_>>(), words);
            for line in text.lines() {
                prop_assert!(line.chars().count() <= width || line.split_whitespace().count() == 1, "{}", line);
            }
        }
    }
}
