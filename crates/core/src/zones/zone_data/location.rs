//! The data of LOC records (RFC 1876).

use std::fmt::Write as _;

/// The middle of the scales: the equator, the prime meridian (RFC 1876 §2).
const MIDDLE: u32 = 1 << 31;
/// The altitude of nought, in centimetres: 100 km below the reference spheroid.
const BELOW: i64 = 10_000_000;

/// Reads a location out of its words; an error is the word that is wrong.
pub(super) fn parse(words: &[&str]) -> Result<[u8; 16], usize> {
    let mut at = 0;
    let latitude = angle(words, &mut at, 90, ('N', 'S'))?;
    let longitude = angle(words, &mut at, 180, ('E', 'W'))?;
    let altitude =
        words.get(at).and_then(|word| centimetres(word)?.checked_add(BELOW)).and_then(|cm| u32::try_from(cm).ok());
    let altitude = altitude.ok_or(at)?;
    // The size, and the horizontal and the vertical precision, where they are not written (RFC 1876 §3).
    let mut precisions = [0x12, 0x16, 0x13];
    for precision in &mut precisions {
        at += 1;
        if let Some(word) = words.get(at) {
            *precision = centimetres(word).and_then(scaled).ok_or(at)?;
        }
    }
    if at + 1 < words.len() {
        return Err(at + 1);
    }
    let mut data = [0; 16];
    data[1..4].copy_from_slice(&precisions);
    data[4..8].copy_from_slice(&latitude.to_be_bytes());
    data[8..12].copy_from_slice(&longitude.to_be_bytes());
    data[12..].copy_from_slice(&altitude.to_be_bytes());
    Ok(data)
}

fn angle(words: &[&str], at: &mut usize, most: u32, sides: (char, char)) -> Result<u32, usize> {
    let mut thousandths = 0_u64;
    for (unit, bound) in [(3_600_000_u64, u64::from(most) + 1), (60_000, 60), (1_000, 60)] {
        let word = *words.get(*at).ok_or(*at)?;
        let side = word.chars().next().filter(|_| word.len() == 1 && unit < 3_600_000);
        if side.is_some_and(|side| side.is_ascii_alphabetic()) {
            break;
        }
        let value = if unit == 1_000 {
            decimal(word, 3)
        } else {
            word.parse::<u64>().ok().and_then(|value| value.checked_mul(1_000))
        };
        let value = value.filter(|value| *value < bound * 1_000).ok_or(*at)?;
        thousandths += value * unit / 1_000;
        *at += 1;
    }
    let side = words.get(*at).ok_or(*at)?;
    let thousandths = u32::try_from(thousandths).ok().filter(|value| *value <= most * 3_600_000).ok_or(*at)?;
    let value = match side.to_ascii_uppercase() {
        side if side == sides.0.to_string() => MIDDLE + thousandths,
        side if side == sides.1.to_string() => MIDDLE - thousandths,
        _ => return Err(*at),
    };
    *at += 1;
    Ok(value)
}

/// A number with that many digits at most after its point, in the smallest of them.
fn decimal(word: &str, digits: usize) -> Option<u64> {
    let (whole, part) = word.split_once('.').unwrap_or((word, ""));
    let is_number = |text: &str| text.bytes().all(|octet| octet.is_ascii_digit());
    if whole.is_empty() || !is_number(whole) || !is_number(part) || part.len() > digits {
        return None;
    }
    format!("{whole}{part:0<digits$}").parse().ok()
}

/// Metres with or without `m`, in centimetres.
fn centimetres(word: &str) -> Option<i64> {
    let word = word.strip_suffix(['m', 'M']).unwrap_or(word);
    let (sign, word) = word.strip_prefix('-').map_or((1, word), |word| (-1, word));
    i64::try_from(decimal(word, 2)?).ok().map(|value| sign * value)
}

/// A digit and a power of ten in centimetres, each in four bits.
fn scaled(cm: i64) -> Option<u8> {
    let mut value = u64::try_from(cm).ok().filter(|value| *value <= 9_000_000_000)?;
    let mut power = 0_u8;
    while value > 9 {
        value /= 10;
        power += 1;
    }
    Some((value as u8) << 4 | power)
}

/// Writes a location; `None` where the octets are of another version or out of its bounds.
pub(super) fn write(data: &[u8; 16], out: &mut String) -> Option<()> {
    if data[0] != 0 || data[1..4].iter().any(|scaled| scaled >> 4 > 9 || scaled & 15 > 9) {
        return None;
    }
    let number = |at: usize| u32::from_be_bytes([data[at], data[at + 1], data[at + 2], data[at + 3]]);
    for (at, most, sides) in [(4, 90, ('N', 'S')), (8, 180, ('E', 'W'))] {
        let side = if number(at) >= MIDDLE { sides.0 } else { sides.1 };
        let thousandths = number(at).abs_diff(MIDDLE);
        if thousandths > most * 3_600_000 {
            return None;
        }
        let (degrees, minutes) = (thousandths / 3_600_000, thousandths / 60_000 % 60);
        let (seconds, part) = (thousandths / 1_000 % 60, thousandths % 1_000);
        write!(out, "{degrees} {minutes} {seconds}.{part:03} {side} ").ok()?;
    }
    let metres = |cm: i64| {
        let sign = if cm < 0 { "-" } else { "" };
        format!("{sign}{}.{:02}m", cm.abs() / 100, cm.abs() % 100)
    };
    out.push_str(&metres(i64::from(number(12)) - BELOW));
    for scaled in &data[1..4] {
        write!(out, " {}", metres(i64::from(scaled >> 4) * 10_i64.pow((scaled & 15).into()))).ok()?;
    }
    Some(())
}
