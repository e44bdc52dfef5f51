//! `$GENERATE`: many records by one line, as operators of one widespread name server write them. It is no part of
//! RFC 1035; its rules are those of that server.

use super::mistake::{MistakeCode, Told};
use crate::zones::zone_data::rdata::Token;

/// The most records of one line.
const MOST: u32 = 1 << 20;
/// The widest number that is written.
const WIDEST: usize = 255;

/// What one line asks for.
#[derive(Debug, Clone, Copy)]
pub(super) struct Generate<'t> {
    from: u32,
    to: u32,
    step: u32,
    /// The name, with the number in it.
    owner: &'t [u8],
    /// A TTL, a class and the type.
    middle: &'t [Token<'t>],
    /// The data, with the number in it: one word, or what stands in one pair of quotes.
    data: &'t [u8],
}

/// How a number is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Base {
    Decimal,
    Octal,
    Hex,
    UpperHex,
    /// Hexadecimal digits, the last first, with dots between: the labels of reverse names (RFC 3596 §2.5).
    Nibbles,
    UpperNibbles,
}

impl<'t> Generate<'t> {
    /// Reads the words of a line.
    pub(super) fn parse(words: &'t [Token<'t>]) -> Result<Generate<'t>, Told> {
        let wrong = |at: Option<usize>, says: String| -> Told {
            let help = "write such as: $GENERATE 1-99 host$ A 192.0.2.$".to_owned();
            (MistakeCode::Generate, at, says, help)
        };
        let range = words.get(1).ok_or_else(|| wrong(None, "a range is missing".into()))?;
        let text = std::str::from_utf8(range.text).unwrap_or_default();
        let (ends, step) = text.split_once('/').unwrap_or((text, "1"));
        let number = |text: &str| text.parse::<u32>().ok().filter(|number| i32::try_from(*number).is_ok());
        let ends = ends.split_once('-').and_then(|(from, to)| Some((number(from)?, number(to)?)));
        let (Some((from, to)), Some(step)) = (ends, number(step).filter(|step| *step > 0)) else {
            return Err(wrong(Some(1), format!("\"{text}\" is not a range")));
        };
        if from > to {
            return Err(wrong(Some(1), format!("the range {text} begins after its end")));
        }
        if (to - from) / step >= MOST {
            return Err(wrong(Some(1), format!("the range {text} makes more than {MOST} records")));
        }
        let is_before_type = |word: &&Token<'_>| {
            word.text.first().is_some_and(u8::is_ascii_digit) || word.text.eq_ignore_ascii_case(b"IN")
        };
        let skipped = words.iter().skip(3).take_while(is_before_type).count();
        let data_at = 4 + skipped;
        let (Some(owner), Some(data)) = (words.get(2), words.get(data_at)) else {
            return Err(wrong(None, "the name, the type or the data of the records is missing".into()));
        };
        if words.len() > data_at + 1 {
            let says = "the data of $GENERATE is one word, or several in quotes".to_owned();
            return Err((
                MistakeCode::Generate,
                Some(data_at + 1),
                says,
                "put all of the data into one pair of quotes".into(),
            ));
        }
        let middle = &words[3..data_at];
        Ok(Generate { from, to, step, owner: owner.text, middle, data: data.text })
    }

    /// Writes the record of a number.
    pub(super) fn write(&self, number: u32, out: &mut Vec<u8>) -> Result<(), String> {
        out.clear();
        expand(self.owner, number, out)?;
        for word in self.middle {
            out.push(b' ');
            out.extend_from_slice(word.text);
        }
        out.push(b' ');
        expand(self.data, number, out)
    }

    /// The numbers, one for each record.
    pub(super) fn numbers(&self) -> impl Iterator<Item = u32> + use<> {
        (self.from..=self.to).step_by(self.step as usize)
    }
}

/// Writes a text: `$` is the number, `${OFFSET,WIDTH,BASE}` another form of it, `$$` and `\$` a dollar sign.
fn expand(template: &[u8], number: u32, out: &mut Vec<u8>) -> Result<(), String> {
    let mut rest = template;
    while let Some((first, after)) = rest.split_first() {
        rest = after;
        match (first, after.first()) {
            (b'\\', Some(next)) => {
                out.extend_from_slice(&[b'\\', *next]);
                rest = &after[1..];
            }
            (b'$', Some(b'$')) => {
                out.extend_from_slice(b"\\$");
                rest = &after[1..];
            }
            (b'$', Some(b'{')) => {
                let end = after.iter().position(|octet| *octet == b'}');
                let end = end.ok_or("a brace that is opened after $ is not closed")?;
                let form = std::str::from_utf8(&after[1..end]).unwrap_or_default();
                out.extend_from_slice(written(form, number)?.as_bytes());
                rest = &after[end + 1..];
            }
            (b'$', _) => out.extend_from_slice(number.to_string().as_bytes()),
            (octet, _) => out.push(*octet),
        }
    }
    Ok(())
}

fn written(form: &str, number: u32) -> Result<String, String> {
    let wrong =
        || format!("\"${{{form}}}\" is not a form of the number: write an offset, a width and d, o, x, X, n or N");
    let mut parts = form.split(',');
    let offset: i32 = parts.next().and_then(|offset| offset.trim().parse().ok()).ok_or_else(wrong)?;
    let width = parts.next().map_or(Some(0), |width| width.trim().parse().ok());
    let width: usize = width.filter(|width| *width <= WIDEST).ok_or_else(wrong)?;
    let base = match parts.next().map(str::trim) {
        None | Some("d") => Base::Decimal,
        Some("o") => Base::Octal,
        Some("x") => Base::Hex,
        Some("X") => Base::UpperHex,
        Some("n") => Base::Nibbles,
        Some("N") => Base::UpperNibbles,
        Some(_) => return Err(wrong()),
    };
    if parts.next().is_some() {
        return Err(wrong());
    }
    let value = i32::try_from(number).ok().and_then(|number| number.checked_add(offset));
    let value = value.ok_or_else(|| format!("{number} with the offset {offset} is no number of 32 bits"))?;
    Ok(match base {
        Base::Decimal => format!("{value:0width$}"),
        Base::Octal => format!("{value:0width$o}"),
        Base::Hex => format!("{value:0width$x}"),
        Base::UpperHex => format!("{value:0width$X}"),
        Base::Nibbles => nibbles(value.cast_unsigned(), width),
        Base::UpperNibbles => nibbles(value.cast_unsigned(), width).to_ascii_uppercase(),
    })
}

/// The digits from the last to the first, with dots; the dots count in the width.
fn nibbles(mut value: u32, width: usize) -> String {
    let mut text = String::new();
    loop {
        text.push(char::from_digit(value & 0xf, 16).unwrap_or('0'));
        value >>= 4;
        if value == 0 && text.len() >= width {
            return text;
        }
        text.push('.');
        if value == 0 && text.len() >= width {
            return text;
        }
    }
}
