//! The arguments as typed.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, ValueEnum};
use jiff::{SignedDuration, Timestamp};
use pindrel_core::values::parse_duration;

/// How many steps and looks are under way at once, unless asked otherwise.
const AT_ONCE: u64 = 32;
/// How long a run waits for any one thing, unless asked otherwise.
const PATIENCE: Span = Span(600);
/// The longest that a run may be told to wait for any one thing.
const LONGEST_PATIENCE: Span = Span(86_400);
/// How long what was seen is trusted, unless asked otherwise.
pub(crate) const MAX_AGE: Span = Span(60);

/// A span of time as typed, in seconds: `20s`, `10m`, `6h`, `30d`, or a number of seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Span(pub(crate) u64);

impl FromStr for Span {
    type Err = String;

    fn from_str(text: &str) -> Result<Span, String> {
        match text.parse() {
            Ok(secs) => Ok(Span(secs)),
            Err(_) => parse_duration(text)
                .map(|span| Span(span.as_secs()))
                .map_err(|error| format!("{error}; write a number with s, m, h or d, such as \"10m\"")),
        }
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            secs if secs > 0 && secs.is_multiple_of(3600) => write!(f, "{}h", secs / 3600),
            secs if secs > 0 && secs.is_multiple_of(60) => write!(f, "{}m", secs / 60),
            secs => write!(f, "{secs}s"),
        }
    }
}

pub(crate) fn patience(text: &str) -> Result<Span, String> {
    let span: Span = text.parse()?;
    if span > LONGEST_PATIENCE { Err(format!("a run waits at most {LONGEST_PATIENCE}")) } else { Ok(span) }
}

/// What every command takes.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Common options")]
pub(crate) struct Common {
    /// The manifest
    #[arg(short, long, global = true, value_name = "PATH", default_value = "pindrel.toml", env = "PINDREL_MANIFEST")]
    pub(crate) manifest: PathBuf,

    /// A file of values that stand for those of the manifest: the same set-up under another domain
    #[arg(long, global = true, value_name = "PATH", env = "PINDREL_VALUES")]
    pub(crate) values: Option<PathBuf>,

    /// The state: a path, sqlite:PATH or postgres://USER@HOST/DATABASE?password=env:NAME
    /// [default: .pindrel/state.sqlite beside the manifest]
    #[arg(long, global = true, value_name = "URL", env = "PINDREL_STATE", hide_env_values = true)]
    pub(crate) state: Option<String>,

    /// The file of the key that seals secrets in the state; PINDREL_SEALING_KEY may hold the key
    /// itself [default: sealing.key beside a state in a file]
    #[arg(long, global = true, value_name = "PATH", env = "PINDREL_SEALING_KEY_FILE")]
    pub(crate) sealing_key: Option<PathBuf>,

    /// How results are written; csv where the result is a list
    #[arg(long, global = true, value_name = "FORMAT", default_value = "text", env = "PINDREL_FORMAT")]
    pub(crate) format: Format,

    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", env = "PINDREL_COLOR")]
    pub(crate) color: Color,

    /// Say less: no progress, and nothing of a run after which all is held
    #[arg(short, long, global = true, env = "PINDREL_QUIET")]
    pub(crate) quiet: bool,

    /// Log more to standard error; repeat for more
    #[arg(short, long, global = true, action = clap::ArgAction::Count, env = "PINDREL_VERBOSE")]
    pub(crate) verbose: u8,

    /// How log lines are written
    #[arg(long, global = true, value_name = "FORMAT", default_value = "text", env = "PINDREL_LOG_FORMAT")]
    pub(crate) log_format: LogFormat,
}

/// How fast a run goes on, and how long it waits.
#[derive(Debug, Clone, Copy, Args)]
pub(crate) struct RunBounds {
    /// How many steps may be under way at once
    #[arg(long, value_name = "N", default_value_t = AT_ONCE, value_parser = clap::value_parser!(u64).range(1..=1000))]
    pub(crate) at_once: u64,

    /// How long to wait for any one thing: a zone transfer, a deployment, an authority
    #[arg(long, value_name = "DURATION", default_value_t = PATIENCE, value_parser = patience)]
    pub(crate) patience: Span,
}

impl Default for RunBounds {
    fn default() -> Self {
        RunBounds { at_once: AT_ONCE, patience: PATIENCE }
    }
}

/// How results are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// Tables and sentences for people
    Text,
    /// JSON as `pindrel schema` describes it
    Json,
    /// Comma-separated values, where the result is a list
    Csv,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// How log lines are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum LogFormat {
    /// One line of text each
    Text,
    /// One JSON object each
    Json,
}

/// A time, or how far it is from now.
#[derive(Debug, Clone, Copy)]
pub(crate) enum When {
    Time(Timestamp),
    Away(SignedDuration),
}

/// From when on something is shown.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Since(When);

impl Since {
    /// Returns the time, with now as the end of a span.
    pub(crate) fn before(self, now: Timestamp) -> Timestamp {
        match self.0 {
            When::Time(time) => time,
            When::Away(span) => now.checked_sub(span).unwrap_or(Timestamp::MIN),
        }
    }
}

/// Until when something holds.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Until(When);

impl Until {
    /// Returns the time, with now as the begin of a span.
    pub(crate) fn after(self, now: Timestamp) -> Timestamp {
        match self.0 {
            When::Time(time) => time,
            When::Away(span) => now.checked_add(span).unwrap_or(Timestamp::MAX),
        }
    }
}

fn parse_when(text: &str) -> Result<When, String> {
    if let Ok(time) = text.parse() {
        return Ok(When::Time(time));
    }
    let span = parse_duration(text).map_err(|_| "write a time such as 2026-11-24T01:00:00Z, or a span such as 7d")?;
    SignedDuration::try_from(span).map(When::Away).map_err(|error| error.to_string())
}

/// Reads a time, or a span that ends now.
pub(crate) fn parse_since(text: &str) -> Result<Since, String> {
    parse_when(text).map(Since)
}

/// Reads a time, or a span that begins now.
pub(crate) fn parse_until(text: &str) -> Result<Until, String> {
    parse_when(text).map(Until)
}
