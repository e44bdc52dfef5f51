//! Entries of a zone file: words, quoted strings, comments, and what parentheses join.

use crate::zones::zone_data::rdata::Token;

/// What is wrong with the way in which an entry is written, and where, in bytes from its beginning.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Wrong {
    /// A quote that its line does not close.
    OpenQuote(usize),
    /// A closing parenthesis that none has opened.
    NotOpened(usize),
}

/// Returns how many parentheses are open after some text, of `depth` before it, and where the first was opened.
pub(super) fn nesting(text: &[u8], mut depth: u32) -> Result<(u32, Option<usize>), Wrong> {
    let mut opened = None;
    let mut at = 0;
    while at < text.len() {
        match text[at] {
            b';' => at = end_of_line(text, at),
            b'\\' => at += 1,
            b'"' => at = closing_quote(text, at).ok_or(Wrong::OpenQuote(at))?,
            b'(' => {
                depth += 1;
                opened = opened.or(Some(at));
            }
            b')' => depth = depth.checked_sub(1).ok_or(Wrong::NotOpened(at))?,
            _ => {}
        }
        at += 1;
    }
    Ok((depth, opened.filter(|_| depth > 0)))
}

fn end_of_line(text: &[u8], from: usize) -> usize {
    text[from..].iter().position(|octet| *octet == b'\n').map_or(text.len(), |length| from + length)
}

/// Where a string ends that begins at a quote; it does not go over the end of its line.
fn closing_quote(text: &[u8], from: usize) -> Option<usize> {
    let mut at = from + 1;
    while at < text.len() {
        match text[at] {
            b'"' => return Some(at),
            b'\n' => return None,
            b'\\' => at += 1,
            _ => {}
        }
        at += 1;
    }
    None
}

/// The words of an entry. Quotes within a word belong to it, as in `alpn="h2,h3"`.
pub(super) fn tokens<'t>(text: &'t [u8], tokens: &mut Vec<Token<'t>>) {
    tokens.clear();
    let mut at = 0;
    while at < text.len() {
        match text[at] {
            b' ' | b'\t' | b'\r' | b'\n' | b'(' | b')' => at += 1,
            b';' => at = end_of_line(text, at),
            b'"' => {
                let end = closing_quote(text, at).unwrap_or(text.len());
                tokens.push(Token { text: &text[at + 1..end], at, is_quoted: true });
                at = end + 1;
            }
            _ => {
                let begin = at;
                while at < text.len() {
                    match text[at] {
                        b' ' | b'\t' | b'\r' | b'\n' | b'(' | b')' | b';' => break,
                        b'\\' => at += 2,
                        b'"' => at = closing_quote(text, at).unwrap_or(text.len()) + 1,
                        _ => at += 1,
                    }
                }
                at = at.min(text.len());
                tokens.push(Token { text: &text[begin..at], at: begin, is_quoted: false });
            }
        }
    }
}
