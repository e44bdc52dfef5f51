//! Changing record sets in the text of a zone file: only the lines concerned change, comments, order and alignment
//! stay, and the serial is raised.

use std::ops::Range;

use jiff::Timestamp;
use jiff::tz::Offset;

use super::lex::tokens;
use super::mistake::Mistake;
use super::read::{Reader, Sink};
use crate::zones::zone_data::rdata::{self, Token};
use crate::zones::zone_data::{NameKey, Place, TypeCode};

/// What the records of one name and type shall be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetEdit {
    /// The name.
    pub owner: NameKey,
    /// The type.
    pub code: TypeCode,
    /// The TTL of the set in seconds.
    pub ttl: u32,
    /// Its data as on the wire, with names in lower case; none where the set shall go.
    pub data: Vec<Vec<u8>>,
}

/// Why a file was not changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EditError {
    /// It cannot be read as it stands.
    #[error("line {} of the zone file cannot be read: {}", .0.place.line, .0.says)]
    Mistake(Box<Mistake>),
    /// Records that are to change stand for others as well.
    #[error("the records of {owner} are made by $GENERATE in line {line} of the zone file")]
    Generated {
        /// The name.
        owner: NameKey,
        /// The line, from 1.
        line: usize,
    },
    /// It has no SOA record whose serial could be raised.
    #[error("the zone file has no SOA record")]
    NoSoa,
}

/// Where one record stands in the text.
#[derive(Debug)]
struct Standing {
    owner: NameKey,
    code: TypeCode,
    ttl: u32,
    data: Vec<u8>,
    /// Its lines, from 0.
    lines: Range<usize>,
    origin: NameKey,
    /// Whether its TTL is written at it.
    default_ttl: Option<u32>,
    /// Whether its line stands for many records.
    is_generated: bool,
}

#[derive(Default)]
struct Collected {
    records: Vec<Standing>,
    mistake: Option<Mistake>,
    line: usize,
    origin: NameKey,
    default_ttl: Option<u32>,
    is_generated: bool,
}

impl Sink for Collected {
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place) {
        self.records.push(Standing {
            owner: owner.clone(),
            code,
            ttl,
            data: data.to_vec(),
            lines: place.line as usize - 1..self.line + 1,
            origin: self.origin.clone(),
            default_ttl: self.default_ttl,
            is_generated: self.is_generated,
        });
    }

    fn mistake(&mut self, mistake: Mistake) {
        self.mistake.get_or_insert(mistake);
    }
}

/// Returns the text with some record sets changed and the serial raised, or the same text where all of them are as
/// they shall be. What stands in included files is not seen, and not changed.
///
/// # Errors
/// [`EditError`].
pub fn edit(text: &[u8], zone: &NameKey, edits: &[SetEdit], now: Timestamp) -> Result<Vec<u8>, EditError> {
    let lines: Vec<&[u8]> = text.split_inclusive(|octet| *octet == b'\n').collect();
    let records = collect(&lines, zone)?;
    // What each line becomes; what is added follows a line.
    let mut changed: Vec<Option<Vec<u8>>> = vec![None; lines.len()];
    let mut added: Vec<Vec<u8>> = vec![Vec::new(); lines.len() + 1];
    let mut gone = vec![false; records.len()];
    let mut is_changed = false;
    for set in edits {
        let own: Vec<usize> =
            (0..records.len()).filter(|at| records[*at].owner == set.owner && records[*at].code == set.code).collect();
        let mut missing: Vec<&Vec<u8>> = Vec::new();
        for data in &set.data {
            if !own.iter().any(|at| records[*at].data == *data) && !missing.contains(&data) {
                missing.push(data);
            }
        }
        let mut missing = missing.into_iter();
        for at in own {
            let record = &records[at];
            let data = if set.data.contains(&record.data) { Some(&record.data) } else { missing.next() };
            match data {
                Some(data) if *data == record.data && record.ttl == set.ttl => {}
                _ if record.is_generated => {
                    let line = record.lines.start + 1;
                    return Err(EditError::Generated { owner: record.owner.clone(), line });
                }
                Some(data) => {
                    is_changed = true;
                    let text = lines[record.lines.clone()].concat();
                    changed[record.lines.start] = Some(rewritten(&text, record, set.ttl, data));
                    changed[record.lines.start + 1..record.lines.end].fill(Some(Vec::new()));
                }
                None => {
                    (is_changed, gone[at]) = (true, true);
                    changed[record.lines.clone()].fill(Some(Vec::new()));
                }
            }
        }
        let anchor = anchor(&records, set);
        for data in missing {
            is_changed = true;
            let (line, after) = match anchor {
                Some(at) => (new_line(set, data, &records[at], &lines), records[at].lines.end),
                None => (plain_line(set, data), lines.len()),
            };
            added[after].extend_from_slice(&line);
        }
    }
    if !is_changed {
        return Ok(text.to_vec());
    }
    name_what_inherits(&records, &gone, &lines, &mut changed);
    let soa = records.iter().position(|record| record.code == TypeCode::SOA).ok_or(EditError::NoSoa)?;
    raise(&records[soa], &lines, &mut changed, now);
    let mut out = Vec::with_capacity(text.len() + 256);
    for (at, line) in lines.iter().enumerate() {
        push_lines(&mut out, &added[at]);
        out.extend_from_slice(changed[at].as_deref().unwrap_or(line));
    }
    push_lines(&mut out, &added[lines.len()]);
    Ok(out)
}

/// Adds lines, after the end of a last line that had none.
fn push_lines(out: &mut Vec<u8>, lines: &[u8]) {
    if !lines.is_empty() && out.last().is_some_and(|last| *last != b'\n') {
        out.push(b'\n');
    }
    out.extend_from_slice(lines);
}

fn collect(lines: &[&[u8]], zone: &NameKey) -> Result<Vec<Standing>, EditError> {
    let mut reader = Reader::new(zone.clone(), 0);
    let mut collected = Collected { origin: zone.clone(), ..Collected::default() };
    for (at, line) in lines.iter().enumerate() {
        collected.line = at;
        // A directive stands in one line.
        collected.is_generated = line.first() == Some(&b'$');
        reader.line(line, &mut collected);
        collected.origin.clone_from(reader.origin());
        collected.default_ttl = reader.default_ttl();
    }
    reader.end(&mut collected);
    match collected.mistake {
        Some(mistake) => Err(EditError::Mistake(Box::new(mistake))),
        None => Ok(collected.records),
    }
}

/// The record that a new one of a set is written after: the last of its set, else of its name, else the last of all
/// that lie in the zone where the file names its names by themselves.
fn anchor(records: &[Standing], set: &SetEdit) -> Option<usize> {
    let last = |is: &dyn Fn(&Standing) -> bool| records.iter().rposition(|record| !record.is_generated && is(record));
    last(&|record| record.owner == set.owner && record.code == set.code)
        .or_else(|| last(&|record| record.owner == set.owner))
        .or_else(|| last(&|_| true))
}

/// The words before the data: the name where one is written, a TTL and a class, the type; and where the data begins.
fn head<'t>(words: &[Token<'t>], text: &[u8]) -> (usize, Option<usize>) {
    let begins = usize::from(!matches!(text.first(), Some(b' ' | b'\t')));
    let is_number = |word: &Token<'_>| word.text.first().is_some_and(u8::is_ascii_digit);
    let is_class = |word: &Token<'_>| {
        word.text.eq_ignore_ascii_case(b"IN")
            || word.text.get(..5).is_some_and(|head| head.eq_ignore_ascii_case(b"CLASS"))
    };
    let (mut ttl, mut has_class, mut at) = (None, false, begins);
    while let Some(word) = words.get(at) {
        if ttl.is_none() && is_number(word) {
            ttl = Some(at);
        } else if !has_class && is_class(word) {
            has_class = true;
        } else {
            break;
        }
        at += 1;
    }
    (at + 1, ttl)
}

/// An entry with other data, and its TTL where that is another; the rest stays as it is written.
fn rewritten(text: &[u8], record: &Standing, ttl: u32, data: &[u8]) -> Vec<u8> {
    let mut words = Vec::new();
    tokens(text, &mut words);
    let (data_at, ttl_at) = head(&words, text);
    let end_of = |word: &Token<'_>| word.at + word.text.len() + if word.is_quoted { 2 } else { 0 };
    let mut out = Vec::with_capacity(text.len());
    let mut from = 0;
    if record.ttl != ttl {
        let written = ttl.to_string();
        match ttl_at.and_then(|at| words.get(at)) {
            Some(word) => {
                out.extend_from_slice(&text[..word.at]);
                out.extend_from_slice(written.as_bytes());
                from = end_of(word);
            }
            None => {
                let first =
                    words.get(usize::from(!matches!(text.first(), Some(b' ' | b'\t')))).map_or(0, |word| word.at);
                out.extend_from_slice(&text[..first]);
                out.extend_from_slice(format!("{written} ").as_bytes());
                from = first;
            }
        }
    }
    if record.data == data {
        out.extend_from_slice(&text[from..]);
        return out;
    }
    let (begin, end) = match (words.get(data_at), words.last()) {
        (Some(first), Some(last)) => (first.at, end_of(last)),
        _ => (text.len(), text.len()),
    };
    // Where the data stands in several lines, what joins them goes with it.
    let is_joined = text[begin..end].contains(&b'\n') || text[..begin].contains(&b'(');
    out.extend_from_slice(&text[from..begin]);
    if is_joined && let Some(open) = out.iter().rposition(|octet| *octet == b'(') {
        out.remove(open);
    }
    out.extend_from_slice(rdata::presentation(record.code, data).as_bytes());
    let rest = &text[end..];
    match rest.iter().position(|octet| *octet == b')').filter(|_| is_joined) {
        Some(close) => out.extend_from_slice(&rest[close + 1..]),
        None => out.extend_from_slice(rest),
    }
    out
}

fn plain_line(set: &SetEdit, data: &[u8]) -> Vec<u8> {
    let data = rdata::presentation(set.code, data);
    format!("{}\t{}\tIN\t{}\t{data}\n", set.owner, set.ttl, set.code).into_bytes()
}

/// A new record in the manner of the one that it follows.
fn new_line(set: &SetEdit, data: &[u8], after: &Standing, lines: &[&[u8]]) -> Vec<u8> {
    let model = lines[after.lines.start];
    let mut words = Vec::new();
    tokens(model, &mut words);
    let (data_at, ttl_at) = head(&words, model);
    let has_owner = !matches!(model.first(), Some(b' ' | b'\t'));
    let is_absolute = has_owner && words.first().is_some_and(|word| word.text.ends_with(b".") && word.text != b"@");
    let owner = if is_absolute { set.owner.to_string() } else { set.owner.relative_to(&after.origin) };
    let has_class = words[..data_at.min(words.len())].iter().any(|word| word.text.eq_ignore_ascii_case(b"IN"));
    let mut fields: Vec<(usize, String)> = vec![(0, owner)];
    if ttl_at.is_some() || after.default_ttl != Some(set.ttl) {
        fields.push((ttl_at.map_or(0, |at| words[at].at), set.ttl.to_string()));
    }
    let middle = |position: usize| words.get(position).map_or(0, |word| word.at);
    if has_class {
        let at = words[..data_at.min(words.len())].iter().find(|word| word.text.eq_ignore_ascii_case(b"IN"));
        fields.push((at.map_or(0, |word| word.at), "IN".into()));
    }
    fields.push((middle(data_at - 1), set.code.to_string()));
    fields.push((middle(data_at), rdata::presentation(set.code, data)));
    // Blanks as the model has them: tabs, or spaces up to the same columns.
    let has_tabs = model.contains(&b'\t');
    let mut line = String::new();
    for (position, (column, text)) in fields.iter().enumerate() {
        if position > 0 {
            if has_tabs {
                line.push('\t');
            } else {
                line.push(' ');
                while line.len() < *column {
                    line.push(' ');
                }
            }
        }
        line.push_str(text);
    }
    line.push_str(if model.ends_with(b"\r\n") { "\r\n" } else { "\n" });
    line.into_bytes()
}

/// Where the record that named its name is gone, the next one names it.
fn name_what_inherits(records: &[Standing], gone: &[bool], lines: &[&[u8]], changed: &mut [Option<Vec<u8>>]) {
    let inherits = |record: &Standing| matches!(lines[record.lines.start].first(), Some(b' ' | b'\t'));
    let mut lost = false;
    for (at, record) in records.iter().enumerate().filter(|(_, record)| !record.is_generated) {
        if !inherits(record) {
            lost = false;
        }
        if gone[at] {
            lost |= !inherits(record);
        } else if lost && inherits(record) {
            let line = changed[record.lines.start].clone().unwrap_or_else(|| lines[record.lines.start].to_vec());
            let blanks = line.iter().take_while(|octet| matches!(octet, b' ' | b'\t')).count();
            let mut named = record.owner.relative_to(&record.origin).into_bytes();
            // The name takes the room of the blanks, as far as they are enough.
            let kept = if line[..blanks].contains(&b'\t') { 0 } else { named.len().min(blanks - 1) };
            named.extend_from_slice(&line[kept..]);
            changed[record.lines.start] = Some(named);
            lost = false;
        }
    }
}

/// Writes a greater serial, in the manner of the one that is there.
fn raise(soa: &Standing, lines: &[&[u8]], changed: &mut [Option<Vec<u8>>], now: Timestamp) {
    let first = soa.lines.start;
    let text = match &changed[first] {
        Some(text) => text.clone(),
        None => lines[soa.lines.clone()].concat(),
    };
    let mut words = Vec::new();
    tokens(&text, &mut words);
    let (data_at, _) = head(&words, &text);
    let Some(word) = words.get(data_at + 2) else { return };
    let Some(old) = std::str::from_utf8(word.text).ok().and_then(|serial| serial.parse().ok()) else { return };
    let new = next_serial(old, now).to_string();
    let raised = [&text[..word.at], new.as_bytes(), &text[word.at + word.text.len()..]].concat();
    changed[soa.lines.clone()].fill(Some(Vec::new()));
    changed[first] = Some(raised);
}

/// Returns a serial that is greater (RFC 1982 §3.1): a date and two digits, a Unix time or a counter, as the old one.
pub(super) fn next_serial(old: u32, now: Timestamp) -> u32 {
    let next = match old.wrapping_add(1) {
        0 => 1,
        next => next,
    };
    let today = Offset::UTC.to_datetime(now).date();
    let today = u32::try_from(today.year()).unwrap_or(0) * 1_000_000
        + u32::from(today.month().unsigned_abs()) * 10_000
        + u32::from(today.day().unsigned_abs()) * 100;
    let (year, month, day) = (old / 1_000_000, old / 10_000 % 100, old / 100 % 100);
    let is_date = (1_985..2_200).contains(&year) && (1..=12).contains(&month) && (1..=31).contains(&day);
    let unix = u32::try_from(now.as_second()).unwrap_or(0);
    let wanted = if is_date {
        today + 1
    } else if (1_000_000_000..=unix).contains(&old) {
        unix
    } else {
        next
    };
    // Greater as serials are compared.
    if wanted.wrapping_sub(next) < 0x8000_0000 { wanted } else { next }
}
