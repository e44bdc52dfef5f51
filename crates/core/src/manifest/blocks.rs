//! Splits a large manifest at the tables of its hostnames, so that each can be parsed,
//! read and forgotten by itself.

use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::Range;

use toml_parser::Source;
use toml_parser::lexer::TokenKind;

/// A manifest in parts.
pub(super) struct Blocks<'t> {
    /// All but the hostnames, at the same offsets.
    pub(super) rest: Cow<'t, str>,
    /// The tables of one hostname each, with the tables below it.
    pub(super) hostnames: Vec<Range<usize>>,
}

/// Splits a text; `None` where the tables of a hostname do not stand together, so that only
/// the whole text makes sense.
pub(super) fn split(text: &str) -> Option<Blocks<'_>> {
    let mut hostnames: Vec<Range<usize>> = Vec::new();
    let mut names: HashSet<&str> = HashSet::new();
    // The name of the hostname whose block is open.
    let mut open: Option<&str> = None;
    let mut contiguous = true;
    for header in headers(text) {
        let Header { start, first, second } = header;
        let name = second.filter(|_| first == "hostname");
        if name.is_some() && name == open {
            continue;
        }
        if let (Some(_), Some(block)) = (open, hostnames.last_mut()) {
            block.end = start;
        }
        match name {
            // An escape may hide that two names are one.
            Some(name) if !name.contains('\\') && names.insert(name) => hostnames.push(start..text.len()),
            Some(_) => return None,
            None => contiguous = contiguous && hostnames.is_empty(),
        }
        open = name;
    }
    let rest = match hostnames.first() {
        None => Cow::Borrowed(text),
        Some(first) if contiguous => Cow::Borrowed(text.get(..first.start)?),
        Some(_) => {
            let mut blotted = text.as_bytes().to_vec();
            for block in &hostnames {
                blotted.get_mut(block.clone())?.fill(b' ');
            }
            Cow::Owned(String::from_utf8(blotted).ok()?)
        }
    };
    Some(Blocks { rest, hostnames })
}

/// The header of a table, as in `[hostname."api.larkfield.example"]`.
struct Header<'t> {
    start: usize,
    /// The first two keys of its path, without their quotes.
    first: &'t str,
    second: Option<&'t str>,
}

/// Finds the headers of tables: brackets at the start of a line that is not within a value.
fn headers(text: &str) -> impl Iterator<Item = Header<'_>> {
    let mut tokens = Source::new(text).lex();
    let mut depth = 0usize;
    let mut line_start = true;
    std::iter::from_fn(move || {
        loop {
            let token = tokens.next()?;
            match token.kind() {
                TokenKind::Newline => line_start = depth == 0,
                TokenKind::Whitespace | TokenKind::Comment => {}
                TokenKind::LeftSquareBracket if line_start => {
                    let start = token.span().start();
                    let mut keys =
                        tokens.by_ref().take_while(|token| token.kind() != TokenKind::Newline).filter_map(|token| {
                            match token.kind() {
                                TokenKind::Atom | TokenKind::BasicString | TokenKind::LiteralString => {
                                    text.get(token.span().start()..token.span().end())
                                }
                                _ => None,
                            }
                        });
                    let first = keys.next().map_or("", unquoted);
                    let second = keys.next().map(unquoted);
                    // The rest of the line belongs to the header.
                    keys.for_each(drop);
                    line_start = true;
                    return Some(Header { start, first, second });
                }
                TokenKind::LeftSquareBracket | TokenKind::LeftCurlyBracket => {
                    depth += 1;
                    line_start = false;
                }
                TokenKind::RightSquareBracket | TokenKind::RightCurlyBracket => depth = depth.saturating_sub(1),
                TokenKind::Eof => return None,
                _ => line_start = false,
            }
        }
    })
}

fn unquoted(key: &str) -> &str {
    let inner = |quote| key.strip_prefix(quote)?.strip_suffix(quote);
    inner('"').or_else(|| inner('\'')).unwrap_or(key)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::read::{read_in_blocks, read_whole};
    use super::super::{Diagnostic, Diagnostics};
    use super::*;

    fn parts(text: &str) -> Option<Vec<&str>> {
        split(text).map(|blocks| blocks.hostnames.into_iter().map(|block| text[block].trim()).collect())
    }

    #[test]
    fn a_block_is_a_hostname_with_all_that_stands_below_it() {
        let text = "manifest = 1 # [hostname.no]\n[hostname.a]\nx = [\n  [1],\n]\n  [hostname.a.expect]\ny = \"\"\"\n[hostname.no]\n\"\"\"\n[hostname.\"b.c\"] # one\n";
        let [first, second] = parts(text).unwrap().try_into().unwrap();
        assert!(first.starts_with("[hostname.a]") && first.ends_with("\"\"\""), "{first}");
        assert_eq!(second, "[hostname.\"b.c\"] # one");
        let between = "[hostname.a]\n[zone.z]\n[hostname.b]\n";
        let blocks = split(between).unwrap();
        assert_eq!(blocks.rest, "             [zone.z]\n             ");
        assert!(split("[hostname.a]\n[hostname.b]\n[hostname.'a'.expect]\n").is_none(), "not together");
        assert!(split("[hostname.a]\n[hostname.\"\\u0061\"]\n").is_none(), "an escape");
        assert!(both("[hostname]\na = { endpoint = 'x' }\n[hostname.b]\n").is_none(), "a table of its own");
    }

    fn both(text: &str) -> Option<[(String, Vec<Diagnostic>); 2]> {
        let mut in_blocks = Diagnostics::default();
        let manifest = read_in_blocks(text, &mut in_blocks)?;
        let mut whole = Diagnostics::default();
        let expected = read_whole(text, &mut whole);
        Some([(format!("{manifest:?}"), in_blocks.into_sorted()), (format!("{expected:?}"), whole.into_sorted())])
    }

    proptest! {
        /// Read in blocks or as a whole, a manifest says the same, mistakes and places too.
        #[test]
        fn says_the_same_as_the_whole(tables in prop::collection::vec(0usize..8, 0..9)) {
            let mut text = String::from("manifest = 1\n\n[authority.main]\ndirectory = \"https://a.example/\"\nagree_to_terms = true\n");
            for (n, table) in tables.into_iter().enumerate() {
                text.push_str(&match table {
                    0 => format!("\n[hostname.\"n{n}.larkfield.example\"]\nendpoint = \"catalogue\"\n"),
                    1 => format!("\n[hostname.\"n{n}.larkfield.example\"] # é\nendpoint = 3\nroutes = [\n  {{ prefix = \"/v1\", service = \"a\" }},\n]\n"),
                    2 => format!("[hostname.'n{n}.larkfield.example']\nendpoint = \"a\"\n[hostname.'n{n}.larkfield.example'.expect]\npath = \"x\"\n"),
                    3 => format!("[zone.\"z{n}.example\"]\ndriver = \"other\"\n"),
                    4 => format!("  [hostname.\"not a name {n}\"]\nendpoint = \"a\"\nunknown = true\n"),
                    5 => format!("[certificate.c{n}]\nnames = [\"c{n}.larkfield.example\"]\nnote = '''\n[hostname.no]\n'''\n"),
                    6 => format!("[[hostname.\"n{n}.larkfield.example\".routes]]\nprefix = \"/\"\nservice = \"a\"\n"),
                    _ => "# [hostname.comment]\n\n".to_owned(),
                });
            }
            let [in_blocks, whole] = both(&text).unwrap();
            prop_assert_eq!(in_blocks, whole);
        }
    }
}
