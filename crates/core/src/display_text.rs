//! What others say, made fit to be shown: an authority, a platform, a certificate may hold
//! any text, and a terminal obeys some of it.

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
