//! Internationalised names as people read them (RFC 5890): Unicode where that deceives nobody, else the A-label.

use std::borrow::Cow;

use unicode_security::mixed_script::is_potential_mixed_script_confusable_char;
use unicode_security::restriction_level::{RestrictionLevel, RestrictionLevelDetection as _};
use unicode_security::skeleton;

/// How an A-label begins (RFC 5890 §2.3.2.1).
const PREFIX: &str = "xn--";

/// What begins a change of colour on a terminal.
const ESCAPE: char = '\u{1b}';

/// Why a label is not what it looks like.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Deceptive {
    /// Its letters are of several scripts that are not written together.
    MixedScripts,
    /// All its letters look like ASCII letters of another word.
    LooksLikeAscii,
}

/// Returns the Unicode form of an A-label.
fn unicode_label(label: &str) -> Option<String> {
    let (unicode, result) = idna::domain_to_unicode(label);
    let is_same = |ascii: String| ascii.eq_ignore_ascii_case(label);
    (result.is_ok() && unicode != label && idna::domain_to_ascii_strict(&unicode).is_ok_and(is_same)).then_some(unicode)
}

/// Says whether a label in Unicode may be taken for another one (UTS #39 §5.2, §4).
fn deceptive(label: &str) -> Option<Deceptive> {
    if label.is_ascii() {
        return None;
    }
    // Latin beside Cyrillic or Greek is not, beside Han and Kana it is.
    if !label.check_restriction_level(RestrictionLevel::HighlyRestrictive) {
        return Some(Deceptive::MixedScripts);
    }
    let letters = || label.chars().filter(|c| c.is_alphabetic());
    let is_alike = letters().all(is_potential_mixed_script_confusable_char);
    (is_alike && skeleton(label).all(|c| c.is_ascii())).then_some(Deceptive::LooksLikeAscii)
}

/// Returns the first label of a name, in Unicode, that may be taken for another one, and why.
pub fn deceptive_label(name: &str) -> Option<(String, Deceptive)> {
    let labels = name.split('.').filter(|label| label.starts_with(PREFIX)).filter_map(unicode_label);
    labels.filter_map(|label| deceptive(&label).map(|why| (label, why))).next()
}

/// Returns a text with the names in it in Unicode; labels that may be taken for others stay A-labels. `pad` is told
/// both forms of a name, and says what follows it: columns stay where they are with it.
pub fn in_unicode(text: &str, pad: impl Fn(&str, &str) -> String) -> Cow<'_, str> {
    if !text.contains(PREFIX) {
        return text.into();
    }
    let is_of_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | '*');
    let mut written = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(begin) = rest.find(|c| c == ESCAPE || is_of_name(c)) {
        let (before, from) = rest.split_at(begin);
        if from.starts_with(ESCAPE) {
            // A colour: it ends with its first letter (ECMA-48 §5.4).
            let end = from.find(|c: char| c.is_ascii_alphabetic()).map_or(from.len(), |at| at + 1);
            written.push_str(before);
            written.push_str(&from[..end]);
            rest = &from[end..];
            continue;
        }
        let (name, after) = from.split_at(from.find(|c| !is_of_name(c)).unwrap_or(from.len()));
        written.push_str(before);
        let labels =
            name.split('.').map(|label| match label.starts_with(PREFIX).then(|| unicode_label(label)).flatten() {
                Some(unicode) if deceptive(&unicode).is_none() => unicode,
                _ => label.to_owned(),
            });
        let shown = labels.collect::<Vec<_>>().join(".");
        written.push_str(&shown);
        if shown != name {
            written.push_str(&pad(name, &shown));
        }
        rest = after;
    }
    written.push_str(rest);
    written.into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_shown_in_unicode_unless_they_deceive() {
        let ascii = |name: &str| idna::domain_to_ascii_strict(name).unwrap();
        for (name, why) in [
            ("sternwärte.larkfield.example", None),
            ("天文台.larkfield.example", None),
            // Kanji and kana are written together, and so is Latin with either.
            ("天文だいabc.larkfield.example", None),
            ("обсерватория.larkfield.example", None),
            ("аpi.larkfield.example", Some(Deceptive::MixedScripts)),
            ("sternwаrte.larkfield.example", Some(Deceptive::MixedScripts)),
            ("рор.larkfield.example", Some(Deceptive::LooksLikeAscii)),
        ] {
            let alabel = ascii(name);
            let found = deceptive_label(&alabel);
            assert_eq!(found.map(|(_, why)| why), why, "{name}");
            let shown = if why.is_none() { name } else { &alabel };
            let sentence = |name: &str| format!("the alias of *.{name} → {name}: \"{name}.\"");
            assert_eq!(in_unicode(&sentence(&alabel), |_, _| String::new()), sentence(shown));
        }
    }

    #[test]
    fn what_is_no_name_stays_as_it_is() {
        for text in ["", "xn--", "xn--\u{7f}", "a xn--99999999 b", "xn--a.xn---.xn--é", "XN--BCHER-KVA", "xn--bcher-kv"]
        {
            assert_eq!(in_unicode(text, |_, _| String::new()), text);
        }
        let coloured = in_unicode("\u{1b}[2mxn--bcher-kva.example\u{1b}[0m \u{1b}", |_, _| String::new());
        assert_eq!(coloured, "\u{1b}[2mbücher.example\u{1b}[0m \u{1b}");
        let padded = in_unicode("xn--bcher-kva.example  held", |ascii, shown| {
            " ".repeat(ascii.chars().count() - shown.chars().count())
        });
        assert_eq!(padded, "bücher.example         held");
    }
}
