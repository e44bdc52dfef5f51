//! What others say, made fit to be shown: an authority, a platform, a certificate may hold
//! any text, and a terminal obeys some of it. And what the operating system says, in plain words.

use std::error::Error;
use std::io;

/// Returns a text as one line that a terminal only shows: line ends and tabs become spaces,
/// other control characters, and marks that turn the direction of writing (UAX #9 §2), the
/// replacement character.
pub fn one_line(text: impl Into<String>) -> String {
    let text = text.into();
    if !text.contains(is_obeyed) {
        return text;
    }
    let shown = |c: char| match c {
        '\n' | '\r' | '\t' => ' ',
        c if is_obeyed(c) => char::REPLACEMENT_CHARACTER,
        c => c,
    };
    text.chars().map(shown).collect()
}

/// Returns a text as one line of at most `most` characters; of a longer one the beginning.
pub fn bounded_line(text: impl Into<String>, most: usize) -> String {
    let mut text = text.into();
    if let Some((end, _)) = text.char_indices().nth(most) {
        let last = text[..end].char_indices().next_back().map_or(0, |(last, _)| last);
        text.truncate(last);
        text.push('…');
    }
    one_line(text)
}

/// Joins texts as in a sentence, with `last` before the last one: `a, b and c`.
pub fn series(texts: &[String], last: &str) -> String {
    match texts {
        [first @ .., end] if !first.is_empty() => format!("{}{last}{end}", first.join(", ")),
        texts => texts.concat(),
    }
}

/// Returns a text as one word of a shell's command line: as it is where a shell takes it as it is, else in quotes.
pub fn shell_word(text: impl std::fmt::Display) -> String {
    let text = one_line(text.to_string());
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:=@%+,".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) { text } else { format!("'{}'", text.replace('\'', "'\\''")) }
}

/// Says an error of the operating system in plain words, as the end of a sentence.
pub fn io_reason(error: &io::Error) -> String {
    let words = match error.kind() {
        io::ErrorKind::NotFound => "there is no such file",
        io::ErrorKind::PermissionDenied => "permission denied",
        io::ErrorKind::InvalidData => "it is not text",
        io::ErrorKind::StorageFull => "the disk is full",
        io::ErrorKind::QuotaExceeded => "the disk quota is exceeded",
        io::ErrorKind::ReadOnlyFilesystem => "the file system is read-only",
        io::ErrorKind::IsADirectory => "it is a directory",
        io::ErrorKind::NotADirectory => "a part of its path is not a directory",
        _ => return without_number(&error.to_string()).to_owned(),
    };
    words.into()
}

/// Writes an error and what caused it as one sentence.
pub fn with_causes(error: &(dyn Error + 'static)) -> String {
    let mut says = String::new();
    let mut next = Some(error);
    while let Some(error) = next {
        let reason = error.downcast_ref().map_or_else(|| without_number(&error.to_string()).to_owned(), io_reason);
        // A wrapper that only repeats what it wraps adds nothing.
        if !says.ends_with(&reason) {
            says.push_str(if says.is_empty() { "" } else { ": " });
            says.push_str(&reason);
        }
        next = error.source();
    }
    says
}

/// Takes away the number that the standard library puts after a text of the operating system.
fn without_number(text: &str) -> &str {
    text.split(" (os error").next().unwrap_or(text)
}

fn is_obeyed(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_terminal_has_nothing_to_obey() {
        for (text, expected) in [
            ("caf\u{e9} \u{2192} ok", "caf\u{e9} \u{2192} ok"),
            ("two\r\nlines\tand", "two  lines and"),
            ("\u{1b}[2Jgone\u{7}", "\u{fffd}[2Jgone\u{fffd}"),
            ("\u{9b}2J", "\u{fffd}2J"),
            ("gpj.\u{202e}exe", "gpj.\u{fffd}exe"),
        ] {
            assert_eq!(one_line(text), expected);
        }
    }

    #[test]
    fn a_word_of_a_command_line_is_one_word_and_runs_nothing() {
        for (text, expected) in [
            ("/etc/pindrel/roots.pem", "/etc/pindrel/roots.pem"),
            ("https://a.example/v2/?q=1", "'https://a.example/v2/?q=1'"),
            ("/tmp/$(touch x)/r.pem", "'/tmp/$(touch x)/r.pem'"),
            ("it's", "'it'\\''s'"),
            ("*.larkfield.example", "'*.larkfield.example'"),
            ("", "''"),
            ("two\nlines", "'two lines'"),
        ] {
            assert_eq!(shell_word(text), expected);
        }
        let long = bounded_line("é".repeat(600), 500);
        assert!(long.chars().count() == 500 && long.ends_with('…'), "{long}");
        assert_eq!(bounded_line("é".repeat(500), 500), "é".repeat(500));
    }

    proptest! {
        #[test]
        fn once_is_as_good_as_twice(text in any::<String>()) {
            let once = one_line(text.clone());
            prop_assert_eq!(once.chars().count(), text.chars().count());
            prop_assert!(!once.contains(is_obeyed));
            prop_assert_eq!(one_line(once.clone()), once);
        }
    }
}
