//! The reader: directives, owners, TTLs and classes, entry by entry.

use std::fmt;

use super::LONGEST_ENTRY;
use super::generate::Generate;
use super::lex::{Wrong, nesting, tokens};
use super::mistake::{Mistake, MistakeCode, Told};
use crate::text::display_text::one_line;
use crate::zones::zone_data::rdata::{self, Token, period};
use crate::zones::zone_data::{NameKey, Place, TypeCode};

/// The longest TTL (RFC 2181 §8).
const LONGEST_TTL: u32 = i32::MAX as u32;
/// What some editors write at the beginning of a file (RFC 3629 §6).
const BYTE_ORDER_MARK: &[u8] = b"\xef\xbb\xbf";
/// How much of a line is shown with a mistake.
const SHOWN: usize = 240;

/// Takes what a reader reads.
pub trait Sink {
    /// A record; its data is as on the wire.
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place);
    /// A name that is not all in lower case, as it is written, in full.
    fn spelling(&mut self, _text: &str) {}
    /// A mistake; reading goes on after it.
    fn mistake(&mut self, mistake: Mistake);
}

/// What an `$INCLUDE` asks for (RFC 1035 §5.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Include {
    /// The file, as it is written.
    pub path: String,
    /// What relative names in it are completed with.
    pub origin: NameKey,
    /// Where it is asked for, so that a file that cannot be read is a mistake there.
    pub place: Place,
    /// The line.
    pub text: String,
}

impl Include {
    /// The mistake that the file cannot be read.
    pub fn unreadable(&self, why: impl fmt::Display) -> Mistake {
        Mistake {
            code: MistakeCode::Include,
            place: self.place,
            column: 1,
            length: u32::try_from(self.text.trim_end().len()).unwrap_or(1).max(1),
            text: self.text.clone(),
            says: format!("{} cannot be included: {why}", self.path),
            help: "name a file that can be read, relative to this one".into(),
        }
    }
}

/// Reads one file of a zone.
#[derive(Debug)]
pub struct Reader {
    origin: NameKey,
    /// The origin as it is written, where it is not all in lower case.
    written_origin: Option<String>,
    owner: Option<NameKey>,
    /// What `$TTL` says (RFC 2308 §4), and the last TTL that was written.
    default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    file: u16,
    line: u32,
    /// An entry whose parentheses are open, with the line where it began.
    pending: Vec<u8>,
    pending_line: u32,
    depth: u32,
    opened: Option<usize>,
    /// Room that is used again for each entry.
    data: Vec<u8>,
    name: NameKey,
}

impl Reader {
    /// Begins a file whose relative names are completed with `origin`.
    pub fn new(origin: NameKey, file: u16) -> Reader {
        Reader {
            origin,
            written_origin: None,
            owner: None,
            default_ttl: None,
            last_ttl: None,
            file,
            line: 0,
            pending: Vec::new(),
            pending_line: 0,
            depth: 0,
            opened: None,
            data: Vec::new(),
            name: NameKey::default(),
        }
    }

    /// Begins a file that this one includes: TTLs hold there as well.
    pub fn included(&self, include: &Include, file: u16) -> Reader {
        let default_ttl = self.default_ttl;
        Reader { default_ttl, last_ttl: self.last_ttl, ..Reader::new(include.origin.clone(), file) }
    }

    /// Reads one line, with or without its end. Returns what is to be read before the next one.
    pub fn line(&mut self, line: &[u8], sink: &mut impl Sink) -> Option<Include> {
        self.line += 1;
        let line = match line.strip_prefix(BYTE_ORDER_MARK).filter(|_| self.line == 1) {
            Some(rest) => {
                let says =
                    "the file begins with a byte order mark, which name servers take for a part of its first word";
                let help = "save it as UTF-8 without a byte order mark";
                sink.mistake(self.mistake(MistakeCode::Syntax, rest, 1, 0, 1, says.into(), help.into()));
                rest
            }
            None => line,
        };
        if line.len() > LONGEST_ENTRY || self.pending.len() + line.len() > LONGEST_ENTRY {
            let (text, at) =
                if self.pending.is_empty() { (line, 0) } else { (&*self.pending, self.opened.unwrap_or(0)) };
            let first = if self.pending.is_empty() { self.line } else { self.pending_line };
            let says = format!("the entry that begins here is longer than {} KiB", LONGEST_ENTRY >> 10);
            let help = "close its parentheses, or split it".into();
            sink.mistake(self.mistake(MistakeCode::TooLong, text, first, at, 1, says, help));
            self.drop_pending();
            return None;
        }
        match nesting(line, self.depth) {
            Err(wrong) => {
                let (at, says, help) = match wrong {
                    Wrong::OpenQuote(at) => (
                        at,
                        "this quote is not closed on its line",
                        "close it, or write \\\" for a quote within a string",
                    ),
                    Wrong::NotOpened(at) => (
                        at,
                        "no parenthesis is open that this one closes",
                        "delete it, or write \\) for one within a word",
                    ),
                };
                sink.mistake(self.mistake(MistakeCode::Syntax, line, self.line, at, 1, says.into(), help.into()));
                self.drop_pending();
                None
            }
            Ok((depth, opened)) => {
                if self.pending.is_empty() && depth == 0 {
                    return self.entry(line, self.line, sink);
                }
                if self.pending.is_empty() {
                    (self.pending_line, self.opened) = (self.line, opened);
                }
                self.pending.extend_from_slice(line);
                if !line.ends_with(b"\n") {
                    self.pending.push(b'\n');
                }
                self.depth = depth;
                if depth > 0 {
                    return None;
                }
                let entry = std::mem::take(&mut self.pending);
                let found = self.entry(&entry, self.pending_line, sink);
                self.pending = entry;
                self.drop_pending();
                found
            }
        }
    }

    /// Ends the file.
    pub fn end(&mut self, sink: &mut impl Sink) {
        if !self.pending.is_empty() {
            let says = "this parenthesis is not closed before the end of the file".to_owned();
            let help = "close it after the last word of the record".to_owned();
            let at = self.opened.unwrap_or(0);
            sink.mistake(self.mistake(MistakeCode::Syntax, &self.pending, self.pending_line, at, 1, says, help));
            self.drop_pending();
        }
    }

    fn drop_pending(&mut self) {
        self.pending.clear();
        (self.depth, self.opened) = (0, None);
    }

    /// A mistake at some bytes of an entry that begins with the line `first`.
    #[expect(clippy::too_many_arguments, reason = "a mistake has that many parts")]
    fn mistake(
        &self,
        code: MistakeCode,
        entry: &[u8],
        first: u32,
        at: usize,
        length: usize,
        says: String,
        help: String,
    ) -> Mistake {
        let at = at.min(entry.len());
        let before = &entry[..at];
        let begin = before.iter().rposition(|octet| *octet == b'\n').map_or(0, |newline| newline + 1);
        let line = entry[begin..].split(|octet| *octet == b'\n').next().unwrap_or_default();
        let lines = before.iter().filter(|octet| **octet == b'\n').count();
        let column = at - begin;
        Mistake {
            code,
            place: Place { file: self.file, line: first + u32::try_from(lines).unwrap_or(0) },
            column: u32::try_from(column).unwrap_or(0) + 1,
            length: u32::try_from(length.min(line.len().saturating_sub(column))).unwrap_or(1).max(1),
            text: shown(line),
            says,
            help,
        }
    }

    fn entry(&mut self, text: &[u8], first: u32, sink: &mut impl Sink) -> Option<Include> {
        let mut words = Vec::with_capacity(8);
        tokens(text, &mut words);
        let leading = words.first()?;
        let result = if leading.at == 0 && leading.text.first() == Some(&b'$') && !leading.is_quoted {
            self.directive(text, &words, first, sink)
        } else {
            self.record(text, &words, first, sink).map(|()| None)
        };
        match result {
            Ok(include) => include,
            Err((code, token, says, help)) => {
                let (at, length) = match token.and_then(|token| words.get(token)) {
                    Some(token) => (token.at, token.text.len() + if token.is_quoted { 2 } else { 0 }),
                    // What is missing is missing after the last word.
                    None => words
                        .last()
                        .map_or((0, 1), |last| (last.at + last.text.len() + usize::from(last.is_quoted) * 2, 1)),
                };
                sink.mistake(self.mistake(code, text, first, at, length, says, help));
                None
            }
        }
    }

    fn directive(
        &mut self,
        text: &[u8],
        words: &[Token<'_>],
        first: u32,
        sink: &mut impl Sink,
    ) -> Result<Option<Include>, Told> {
        let name = words[0].text.to_ascii_uppercase();
        let argument = |what: &str| {
            let missing =
                || (MistakeCode::Directive, None, format!("{what} is missing"), format!("write {what} after it"));
            words.get(1).map(|word| word.text).ok_or_else(missing)
        };
        let most = if name == b"$INCLUDE" { 3 } else { 2 };
        match &name[..] {
            b"$ORIGIN" => {
                let written = argument("a name")?;
                let origin = NameKey::parse(written, &self.origin).map_err(|error| bad_name(1, written, error))?;
                let is_cased = written.ends_with(b".") && written.iter().any(u8::is_ascii_uppercase);
                self.written_origin = is_cased.then(|| String::from_utf8_lossy(written).into_owned());
                self.written_origin.iter().for_each(|origin| sink.spelling(origin));
                self.origin = origin;
            }
            b"$TTL" => {
                let written = argument("a number of seconds")?;
                self.default_ttl = Some(ttl(written, 1)?);
            }
            b"$INCLUDE" => {
                let path =
                    String::from_utf8_lossy(&rdata::unescaped(argument("a file")?).unwrap_or_default()).into_owned();
                let origin = match words.get(2) {
                    Some(word) => {
                        NameKey::parse(word.text, &self.origin).map_err(|error| bad_name(2, word.text, error))?
                    }
                    None => self.origin.clone(),
                };
                let place = Place { file: self.file, line: first };
                let text = shown(text.split(|octet| *octet == b'\n').next().unwrap_or_default());
                if words.len() <= most {
                    return Ok(Some(Include { path, origin, place, text }));
                }
            }
            b"$GENERATE" => {
                return self.generate(words, first, sink).map(|()| None);
            }
            _ => {
                let says = format!("{} is not a directive", shown(words[0].text));
                let help = "$ORIGIN, $TTL, $INCLUDE and $GENERATE are the directives; a name that begins with $ is written \\$"
                    .to_owned();
                return Err((MistakeCode::Directive, Some(0), says, help));
            }
        }
        match words.get(most) {
            Some(word) => {
                let says = format!("\"{}\" is more than {} takes", shown(word.text), String::from_utf8_lossy(&name));
                Err((MistakeCode::Directive, Some(most), says, "delete it".into()))
            }
            None => Ok(None),
        }
    }

    /// Reads the records that one line stands for; the name and the TTL before it stay in force after it.
    fn generate(&mut self, words: &[Token<'_>], first: u32, sink: &mut impl Sink) -> Result<(), Told> {
        let generate = Generate::parse(words)?;
        let (owner, last_ttl) = (self.owner.clone(), self.last_ttl);
        let mut entry = Vec::new();
        let result = generate.numbers().try_for_each(|number| {
            let wrong = |says: String, help: String| (MistakeCode::Generate, Some(0), says, help);
            generate.write(number, &mut entry).map_err(|says| wrong(says, "correct it".into()))?;
            let mut words = Vec::with_capacity(8);
            tokens(&entry, &mut words);
            let read = self.record(&entry, &words, first, sink);
            read.map_err(|(_, _, says, help)| wrong(format!("of the record \"{}\" {says}", shown(&entry)), help))
        });
        (self.owner, self.last_ttl) = (owner, last_ttl);
        result
    }

    /// Tells how a name is spelled that is not all in lower case.
    fn spell(&self, written: &[u8], sink: &mut impl Sink) {
        let is_cased = |octets: &[u8]| octets.iter().any(u8::is_ascii_uppercase);
        let Ok(text) = std::str::from_utf8(written) else { return };
        let is_whole = text.ends_with('.') || text == "@";
        match &self.written_origin {
            _ if is_whole && is_cased(written) => sink.spelling(text),
            Some(origin) if !is_whole => sink.spelling(&format!("{text}.{origin}")),
            None if !is_whole && is_cased(written) => sink.spelling(&format!("{text}.{}", self.origin)),
            _ => {}
        }
    }

    fn record(&mut self, text: &[u8], words: &[Token<'_>], first: u32, sink: &mut impl Sink) -> Result<(), Told> {
        let mut next = 0;
        if matches!(text.first(), Some(b' ' | b'\t')) {
            if self.owner.is_none() {
                let says = "the first record has no name: the line begins with a blank".to_owned();
                return Err((MistakeCode::NoOwner, Some(0), says, "write the name, or @ for the origin".into()));
            }
        } else {
            let written = words[0].text;
            self.name.read(written, &self.origin).map_err(|error| bad_name(0, written, error))?;
            match &mut self.owner {
                Some(owner) => std::mem::swap(owner, &mut self.name),
                None => self.owner = Some(std::mem::take(&mut self.name)),
            }
            next = 1;
        }
        // A TTL and a class in either order (RFC 1035 §5.1), each once.
        let (mut own_ttl, mut has_class) = (None, false);
        let code = loop {
            let Some(word) = words.get(next) else {
                let says = "the type of the record is missing".to_owned();
                return Err((MistakeCode::BadType, None, says, "write a type, such as A, and its data".into()));
            };
            let text = std::str::from_utf8(word.text).unwrap_or_default();
            if !has_class && let Some(is_internet) = class(text) {
                if !is_internet {
                    let says = format!("the class {text} is not IN");
                    return Err((MistakeCode::BadClass, Some(next), says, "write IN, or nothing".into()));
                }
                has_class = true;
            } else if own_ttl.is_none() && text.starts_with(|first: char| first.is_ascii_digit()) {
                own_ttl = Some(ttl(word.text, next)?);
            } else {
                break text.parse::<TypeCode>().map_err(|()| {
                    let says = format!("\"{}\" is not a record type", shown(word.text));
                    (MistakeCode::BadType, Some(next), says, type_help(text, next))
                })?;
            }
            next += 1;
        };
        if code.is_meta() {
            let says = format!("{code} is for questions, and no zone has records of it");
            return Err((MistakeCode::BadType, Some(next), says, "delete the record".into()));
        }
        next += 1;
        self.data.clear();
        if let Err(error) = rdata::parse(code, &words[next..], &self.origin, &mut self.data) {
            let says = format!("the data of {code} is wrong: {}", error.says);
            let help = example(code).map_or_else(
                || "write the data as the standard of the type says".to_owned(),
                |example| format!("write such as: {code} {example}"),
            );
            return Err((MistakeCode::BadData, error.at.map(|at| at + next), says, help));
        }
        let ttl = match own_ttl.or(self.default_ttl).or(self.last_ttl) {
            Some(ttl) => ttl,
            // The TTL of negative answers, where nothing else is said.
            None if code == TypeCode::SOA => {
                self.data.last_chunk::<4>().map_or(0, |minimum| u32::from_be_bytes(*minimum)).min(LONGEST_TTL)
            }
            None => {
                let says = "no TTL is known for this record".to_owned();
                let help = "write $TTL 3600 at the beginning of the file, or a TTL before the type".to_owned();
                return Err((MistakeCode::NoTtl, Some(next - 1), says, help));
            }
        };
        self.last_ttl = Some(ttl);
        let owner = words.first().filter(|_| !matches!(text.first(), Some(b' ' | b'\t'))).map(|word| word.text);
        for written in owner.into_iter().chain(rdata::written_names(code, &words[next..])) {
            self.spell(written, sink);
        }
        if let Some(owner) = &self.owner {
            sink.record(owner, code, ttl, &self.data, Place { file: self.file, line: first });
        }
        Ok(())
    }

    /// Returns what relative names are completed with.
    pub fn origin(&self) -> &NameKey {
        &self.origin
    }

    /// Returns the TTL of a record that has none of its own.
    pub(super) fn default_ttl(&self) -> Option<u32> {
        self.default_ttl.or(self.last_ttl)
    }
}

fn shown(text: &[u8]) -> String {
    let text = String::from_utf8_lossy(text);
    one_line(text.trim_end_matches(['\r', '\n']).chars().take(SHOWN).collect::<String>())
}

fn bad_name(at: usize, written: &[u8], error: impl fmt::Display) -> Told {
    let says = format!("\"{}\" is no name: {error}", shown(written));
    (MistakeCode::BadName, Some(at), says, "write labels of at most 63 characters with dots between them".into())
}

fn ttl(text: &[u8], at: usize) -> Result<u32, Told> {
    let secs = period(text).ok_or_else(|| {
        let says = format!("\"{}\" is not a TTL", shown(text));
        (MistakeCode::BadTtl, Some(at), says, "write seconds, such as 3600, or with units, such as 1h30m".to_owned())
    })?;
    if secs > LONGEST_TTL {
        let says = format!("the TTL {secs} is longer than {LONGEST_TTL}, and counts as nought (RFC 2181 §8)");
        return Err((MistakeCode::BadTtl, Some(at), says, "write a shorter one".into()));
    }
    Ok(secs)
}

/// Whether a word is a class, and whether it is that of the Internet.
fn class(text: &str) -> Option<bool> {
    if text.eq_ignore_ascii_case("IN") {
        return Some(true);
    }
    let is_other = ["CH", "HS", "CS"].iter().any(|class| class.eq_ignore_ascii_case(text));
    let digits = text.get(..5).filter(|head| head.eq_ignore_ascii_case("CLASS")).and_then(|_| text.get(5..));
    match digits.and_then(|digits| digits.parse::<u16>().ok()) {
        Some(number) => Some(number == 1),
        None => is_other.then_some(false),
    }
}

/// What to write in the place of what is no type.
fn type_help(text: &str, at: usize) -> String {
    let upper = text.to_ascii_uppercase();
    let near = TypeCode::NAMED.iter().map(|(name, _)| (distance(&upper, name), *name)).min();
    match near {
        Some((distance, name)) if distance <= 2 && upper.len() > distance => format!("did you mean {name}?"),
        _ if at == 0 => "a line that continues the name above begins with a blank".into(),
        _ => "write a type such as A, AAAA, CNAME, MX or TXT, or TYPE and its number".into(),
    }
}

/// How many letters differ, are missing or are swapped.
fn distance(left: &str, right: &str) -> usize {
    let (left, right): (Vec<char>, Vec<char>) = (left.chars().take(16).collect(), right.chars().collect());
    let mut rows = vec![(0..=right.len()).collect::<Vec<usize>>()];
    for (i, l) in left.iter().enumerate() {
        let mut row = vec![i + 1];
        for (j, r) in right.iter().enumerate() {
            let replaced = rows[i][j] + usize::from(l != r);
            let mut least = replaced.min(rows[i][j + 1] + 1).min(row[j] + 1);
            if i > 0 && j > 0 && *l == right[j - 1] && left[i - 1] == *r {
                least = least.min(rows[i - 1][j - 1] + 1);
            }
            row.push(least);
        }
        rows.push(row);
    }
    rows[left.len()][right.len()]
}

/// Data of a type as it is written, for the types that people write.
fn example(code: TypeCode) -> Option<&'static str> {
    Some(match code {
        TypeCode::A => "192.0.2.1",
        TypeCode::AAAA => "2001:db8::1",
        TypeCode::CNAME | TypeCode::DNAME | TypeCode::NS | TypeCode::PTR => "host.larkfield.example.",
        TypeCode::MX => "10 mail.larkfield.example.",
        TypeCode::TXT | TypeCode::SPF => "\"some text\"",
        TypeCode::SRV => "0 5 443 host.larkfield.example.",
        TypeCode::CAA => "0 issue \"authority.example\"",
        TypeCode::SOA => "ns1.larkfield.example. hostmaster.larkfield.example. 2026112601 1h 15m 4w 5m",
        TypeCode::HTTPS | TypeCode::SVCB => "1 . alpn=h2",
        TypeCode::TLSA | TypeCode::SMIMEA => "3 1 1 and the digest in hexadecimal digits",
        TypeCode::SSHFP => "4 2 and the fingerprint in hexadecimal digits",
        TypeCode::LOC => "48 12 30.0 N 16 22 0.0 E 190m",
        _ => return None,
    })
}
