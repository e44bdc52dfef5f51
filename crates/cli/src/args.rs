//! The arguments as typed.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

/// How many steps and looks are under way at once, unless asked otherwise.
const AT_ONCE: u64 = 32;
/// How long a run waits for any one thing, unless asked otherwise, in seconds.
const PATIENCE_SECS: u64 = 600;
/// How long what was seen is trusted, unless asked otherwise, in seconds.
pub(crate) const MAX_AGE_SECS: u64 = 60;

/// What every command takes.
#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Common options")]
pub(crate) struct Common {
    /// The manifest
    #[arg(short, long, global = true, value_name = "PATH", default_value = "pindrel.toml", env = "PINDREL_MANIFEST")]
    pub(crate) manifest: PathBuf,

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

    /// Say less: no progress
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
    #[arg(long, value_name = "N", default_value_t = AT_ONCE, value_parser = clap::value_parser!(u64).range(1..=1000), env = "PINDREL_AT_ONCE")]
    pub(crate) at_once: u64,

    /// How long to wait for any one thing: a zone transfer, a deployment, an authority
    #[arg(long, value_name = "SECONDS", default_value_t = PATIENCE_SECS, value_parser = clap::value_parser!(u64).range(..=86_400), env = "PINDREL_PATIENCE")]
    pub(crate) patience: u64,
}

impl Default for RunBounds {
    fn default() -> Self {
        RunBounds { at_once: AT_ONCE, patience: PATIENCE_SECS }
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
