//! Figures with their aims, as benches find them and as `measure` writes them down.

#![allow(clippy::print_stdout, reason = "a bench prints")]

use std::fmt;
use std::fs::File;
use std::io::Write as _;

use serde::{Deserialize, Serialize};

/// The variable that names the file where figures are collected.
pub const COLLECTED: &str = "PINDREL_FIGURES";

/// What a figure should be.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub enum Aim {
    /// No more.
    AtMost(f64),
    /// No less.
    AtLeast(f64),
}

impl fmt::Display for Aim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Aim::AtMost(most) => write!(f, "≤ {most}"),
            Aim::AtLeast(least) => write!(f, "≥ {least}"),
        }
    }
}

/// One figure of a bench.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// What was measured, and beside what.
    pub what: String,
    /// What came out.
    pub value: f64,
    /// What it should be.
    pub aim: Aim,
}

impl Figure {
    /// By how much it misses its aim, in per cent of that; `None` where it does not.
    pub fn missed_by(&self) -> Option<f64> {
        let (over, aim) = match self.aim {
            Aim::AtMost(most) => (self.value - most, most),
            Aim::AtLeast(least) => (least - self.value, least),
        };
        // What is shown as the aim is the aim.
        (over > 0.005).then(|| 100.0 * over / aim)
    }

    /// Its row of the table in `README.md`.
    pub fn row(&self) -> String {
        let Figure { what, value, aim } = self;
        format!("| {what} | {value:.2} | {aim}{} |", self.verdict())
    }

    fn verdict(&self) -> String {
        self.missed_by().map_or_else(String::new, |by| format!(", missed by {by:.0} %"))
    }
}

impl fmt::Display for Figure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Figure { what, value, aim } = self;
        write!(f, "{what}: {value:.2} (aim {aim}{})", self.verdict())
    }
}

/// Prints a figure, and collects it where `measure` runs the bench.
///
/// # Panics
/// Where it is to be collected and cannot be.
pub fn figure(what: impl Into<String>, value: f64, aim: Aim) {
    let figure = Figure { what: what.into(), value, aim };
    println!("* {figure}");
    let Some(path) = std::env::var_os(COLLECTED) else { return };
    let line = serde_json::to_string(&figure).unwrap_or_else(|error| panic!("{error}"));
    let file = File::options().append(true).create(true).open(&path);
    file.and_then(|mut file| writeln!(file, "{line}")).unwrap_or_else(|error| panic!("{error}"));
}
