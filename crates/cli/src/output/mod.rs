//! How results are written: one module for each, all formats in it.

pub(crate) mod demo;
pub(crate) mod diagnostics;
pub(crate) mod errors;
pub(crate) mod progress;
pub(crate) mod sandbox;
pub(crate) mod status;
pub(crate) mod steps;
mod style;

use std::io::Write as _;

use serde::Serialize;

use crate::error::CliError;

/// The version of all JSON documents.
pub(crate) const VERSION: u32 = 1;

/// Writes one JSON document on one line.
pub(crate) fn json(value: &impl Serialize) -> Result<(), CliError> {
    let mut out = std::io::stdout().lock();
    serde_json::to_writer(&mut out, value).map_err(std::io::Error::from)?;
    Ok(out.write_all(b"\n")?)
}

/// Writes a number with its noun: `1 hostname`, `4 hostnames`.
pub(crate) fn count(number: usize, noun: &str) -> String {
    if number == 1 { format!("1 {noun}") } else { format!("{number} {noun}s") }
}

/// Writes a span of time in its largest unit: `12 s`, `5 m`, `3 h`, `40 d`.
pub(crate) fn age(seconds: i64) -> String {
    match seconds.max(0) {
        s @ 0..120 => format!("{s} s"),
        s @ 120..7200 => format!("{} m", s / 60),
        s @ 7200..172_800 => format!("{} h", s / 3600),
        s => format!("{} d", s / 86_400),
    }
}
