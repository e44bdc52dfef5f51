//! How a command's error is told: one sentence, its cause, and what to do.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::text::display_text::{one_line, with_causes};
use serde_json::{Value, json};

use super::finding::print_remedy;
use super::times::for_people;
use super::{VERSION, diagnostics, log, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// What every command that cannot do what was asked writes with `--format json`: the form of `check`.
fn print_document(one: &Value) {
    let _ = super::json(&json!({ "version": VERSION, "errors": [one], "warnings": [] }));
}

/// An error as a member of that document.
fn as_json(error: &CliError, says: &str, help: &str) -> Value {
    let mut one = json!({ "code": error.code(), "message": says, "help": help });
    let (file, line) = error.place();
    if let Some(file) = file {
        one["file"] = json!(file);
    }
    if let Some(line) = line {
        one["line"] = json!(line);
    }
    one
}

/// Writes what is wrong with a command line that was typed for a program to read the answer.
pub(crate) fn print_usage(error: &clap::Error) {
    let text = error.render().to_string();
    let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty());
    let message = lines.next().unwrap_or_default();
    let message = message.strip_prefix("error: ").unwrap_or(message);
    let usage = lines.find(|line| line.starts_with("Usage:")).unwrap_or("See pindrel --help");
    print_document(&json!({ "code": "usage", "message": one_line(message), "help": one_line(usage) }));
}

/// Writes an error; nothing is left to do when that fails too.
pub(crate) fn print(context: &Context, error: &CliError) {
    if let CliError::Manifest(mistakes) = error {
        let _ = diagnostics::print_errors(context, mistakes);
        return;
    }
    if let CliError::ZoneFile(mistakes) = error {
        let _ = super::zones::print_errors(context, mistakes);
        return;
    }
    let (says, remedy) = (one_line(with_causes(error)), one_line(error.remedy()));
    if context.format == Format::Json {
        print_document(&as_json(error, &says, &remedy));
        return;
    }
    if log::is_json() {
        return log::fail(&format!("{says} → {remedy}"));
    }
    let mut err = super::stderr();
    let now = Timestamp::now();
    let _ = writeln!(err, "{} {}", style::paint(style::BAD, "error:"), for_people(now, &says));
    let _ = print_remedy(&mut err, now, &remedy, None);
}
