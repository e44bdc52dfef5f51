//! Words of a record as they are written in a zone file (RFC 1035 §5.1).

use super::name::{escape, unescape};

/// One word or quoted string of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Token<'t> {
    /// As it is written, without the quotes around it; escapes stand as they are.
    pub text: &'t [u8],
    /// Its offset in the entry, in bytes.
    pub at: usize,
    /// Whether it stood in quotes.
    pub is_quoted: bool,
}

/// Reads the escapes of a string (RFC 1035 §5.1).
pub(crate) fn unescaped(text: &[u8]) -> Option<Vec<u8>> {
    let mut octets = Vec::with_capacity(text.len());
    let mut rest = text;
    while let [octet, after @ ..] = rest {
        rest = after;
        if *octet == b'\\' {
            let (octet, taken) = unescape(rest)?;
            octets.push(octet);
            rest = &rest[taken..];
        } else {
            octets.push(*octet);
        }
    }
    Some(octets)
}

/// Writes a string in quotes.
pub(crate) fn push_quoted(out: &mut String, octets: &[u8]) {
    out.push('"');
    for octet in octets {
        match octet {
            b' ' => out.push(' '),
            octet => drop(escape(out, *octet, b"\"\\")),
        }
    }
    out.push('"');
}
