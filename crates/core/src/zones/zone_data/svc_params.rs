//! The parameters of SVCB and HTTPS records (RFC 9460 §2.1 and appendix A).

use std::fmt::Write as _;
use std::net::{Ipv4Addr, Ipv6Addr};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;

use super::token::{Token, push_quoted, unescaped};

const KEYS: &[&str] = &["mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ech", "ipv6hint", "dohpath"];

fn key_number(name: &[u8]) -> Option<u16> {
    let name = std::str::from_utf8(name).ok()?;
    match KEYS.iter().position(|key| *key == name) {
        Some(number) => Some(number as u16),
        None => {
            let digits = name.strip_prefix("key")?;
            let is_plain = digits == "0" || !digits.starts_with('0');
            number(digits.as_bytes()).filter(|_| is_plain)
        }
    }
}

/// A number of digits alone.
fn number(text: &[u8]) -> Option<u16> {
    parsed(text).filter(|_| text.iter().all(u8::is_ascii_digit))
}

fn key_name(number: u16) -> String {
    KEYS.get(usize::from(number)).map_or_else(|| format!("key{number}"), |key| (*key).to_owned())
}

/// Reads pairs; an error says which token is wrong, and how.
pub(super) fn parse(tokens: &[Token<'_>], wire: &mut Vec<u8>) -> Result<(), (usize, String)> {
    let mut pairs: Vec<(u16, Vec<u8>)> = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        if token.is_quoted {
            return Err((at, "stands in quotes as a whole, and only its value may".to_owned()));
        }
        let (name, value) = match token.text.iter().position(|octet| *octet == b'=') {
            Some(equals) => (&token.text[..equals], Some(&token.text[equals + 1..])),
            None => (token.text, None),
        };
        let key = key_number(name).ok_or_else(|| (at, "is not a service parameter".to_owned()))?;
        let value = value.map(|value| value.strip_prefix(b"\"").map_or(value, |v| v.strip_suffix(b"\"").unwrap_or(v)));
        // What is named by its number is written as octets.
        let read = if name.starts_with(b"key") { read_octets(key, value) } else { read_value(key, value) };
        let value = read.ok_or_else(|| (at, "has a value that its key cannot have".to_owned()))?;
        if pairs.iter().any(|(other, _)| *other == key) {
            return Err((at, "gives its key a second time".to_owned()));
        }
        pairs.push((key, value));
    }
    pairs.sort();
    for (key, value) in pairs {
        wire.extend_from_slice(&key.to_be_bytes());
        wire.extend_from_slice(&u16::try_from(value.len()).unwrap_or(u16::MAX).to_be_bytes());
        wire.extend_from_slice(&value);
    }
    Ok(())
}

/// What parameters that are each right may not be together, read from the wire.
pub(super) fn inconsistency(mut data: &[u8]) -> Option<String> {
    let (mut present, mut mandatory) = (Vec::new(), Vec::new());
    while let Some((head, after)) = data.split_at_checked(4) {
        let key = u16::from_be_bytes([head[0], head[1]]);
        let (value, after) = after.split_at_checked(u16::from_be_bytes([head[2], head[3]]).into())?;
        present.push(key);
        if key == 0 {
            mandatory = value.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]])).collect();
        }
        data = after;
    }
    if present.contains(&2) && !present.contains(&1) {
        return Some("no-default-alpn stands without alpn (RFC 9460 §7.1.1)".into());
    }
    if mandatory.contains(&0) {
        return Some("mandatory names itself (RFC 9460 §8)".into());
    }
    if mandatory.windows(2).any(|pair| pair[0] == pair[1]) {
        return Some("mandatory names a key twice (RFC 9460 §8)".into());
    }
    let absent = mandatory.into_iter().find(|key| !present.contains(key))?;
    Some(format!("mandatory names {}, which is not there (RFC 9460 §8)", key_name(absent)))
}

/// The value of a key that is written by its number (RFC 9460 §2.1), where that key may have it.
fn read_octets(key: u16, value: Option<&[u8]>) -> Option<Vec<u8>> {
    let octets = unescaped(value.unwrap_or_default())?;
    write_value(key, &octets, &mut String::new()).map(|()| octets)
}

/// The parts of a list: escapes are read first, then commas, before which a backslash stands where they belong to
/// a part (RFC 9460 appendix A.1).
fn list(text: &[u8]) -> Option<Vec<Vec<u8>>> {
    let text = unescaped(text)?;
    let mut parts = vec![Vec::new()];
    let mut octets = text.into_iter();
    while let Some(octet) = octets.next() {
        match octet {
            b',' => parts.push(Vec::new()),
            b'\\' => parts.last_mut()?.push(octets.next()?),
            octet => parts.last_mut()?.push(octet),
        }
    }
    parts.iter().all(|part| !part.is_empty()).then_some(parts)
}

fn parsed<T: std::str::FromStr>(part: &[u8]) -> Option<T> {
    std::str::from_utf8(part).ok()?.parse().ok()
}

fn read_value(key: u16, value: Option<&[u8]>) -> Option<Vec<u8>> {
    let Some(value) = value else {
        return (key == 2 || key >= KEYS.len() as u16).then(Vec::new);
    };
    Some(match key {
        0 => {
            let mut keys = list(value)?.iter().map(|part| key_number(part)).collect::<Option<Vec<u16>>>()?;
            keys.sort_unstable();
            keys.iter().flat_map(|key| key.to_be_bytes()).collect()
        }
        1 => {
            let mut ids = Vec::new();
            for id in list(value)? {
                ids.push(u8::try_from(id.len()).ok()?);
                ids.extend_from_slice(&id);
            }
            ids
        }
        2 => return None,
        3 => number(value)?.to_be_bytes().to_vec(),
        4 => list(value)?
            .iter()
            .map(|part| Some(parsed::<Ipv4Addr>(part)?.octets()))
            .collect::<Option<Vec<_>>>()?
            .concat(),
        5 => BASE64.decode(value).ok()?,
        6 => list(value)?
            .iter()
            .map(|part| Some(parsed::<Ipv6Addr>(part)?.octets()))
            .collect::<Option<Vec<_>>>()?
            .concat(),
        _ => unescaped(value)?,
    })
}

/// Writes pairs; `None` where the octets are none.
pub(super) fn write(data: &[u8], out: &mut String) -> Option<()> {
    let mut rest = data;
    let mut last = None;
    while !rest.is_empty() {
        let (head, after) = rest.split_at_checked(4)?;
        let key = u16::from_be_bytes([head[0], head[1]]);
        let (value, after) = after.split_at_checked(u16::from_be_bytes([head[2], head[3]]).into())?;
        rest = after;
        if last.is_some_and(|last| last >= key) {
            return None;
        }
        if last.is_some() {
            out.push(' ');
        }
        last = Some(key);
        out.push_str(&key_name(key));
        write_value(key, value, out)?;
    }
    Some(())
}

fn write_value(key: u16, value: &[u8], out: &mut String) -> Option<()> {
    let joined = |parts: Vec<String>| format!("={}", parts.join(","));
    let text = match key {
        0 if value.len().is_multiple_of(2) && !value.is_empty() => {
            joined(value.chunks(2).map(|pair| key_name(u16::from_be_bytes([pair[0], pair[1]]))).collect())
        }
        1 => {
            let (mut ids, mut rest) = (Vec::new(), value);
            while let Some((length, after)) = rest.split_first() {
                let (id, after) = after.split_at_checked((*length).into()).filter(|(id, _)| !id.is_empty())?;
                for octet in id {
                    if matches!(octet, b',' | b'\\') {
                        ids.push(b'\\');
                    }
                    ids.push(*octet);
                }
                ids.push(b',');
                rest = after;
            }
            ids.pop()?;
            let is_plain = ids.iter().all(|octet| octet.is_ascii_alphanumeric() || b",-./".contains(octet));
            if is_plain {
                format!("={}", String::from_utf8_lossy(&ids))
            } else {
                let mut quoted = String::from("=");
                push_quoted(&mut quoted, &ids);
                quoted
            }
        }
        2 if value.is_empty() => String::new(),
        3 => format!("={}", u16::from_be_bytes(value.try_into().ok()?)),
        4 if value.len().is_multiple_of(4) && !value.is_empty() => joined(
            value
                .chunks(4)
                .filter_map(|octets| Some(Ipv4Addr::from(<[u8; 4]>::try_from(octets).ok()?).to_string()))
                .collect(),
        ),
        5 => format!("={}", BASE64.encode(value)),
        6 if value.len().is_multiple_of(16) && !value.is_empty() => joined(
            value
                .chunks(16)
                .filter_map(|octets| Some(Ipv6Addr::from(<[u8; 16]>::try_from(octets).ok()?).to_string()))
                .collect(),
        ),
        0 | 2 | 4 | 6 => return None,
        _ if value.is_empty() => String::new(),
        _ => {
            let mut quoted = String::from("=");
            push_quoted(&mut quoted, value);
            quoted
        }
    };
    out.write_str(&text).ok()
}
