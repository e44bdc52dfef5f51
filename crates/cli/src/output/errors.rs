//! How a command's error is told: one sentence, its cause, and what to do.

use std::error::Error as _;
use std::io::Write as _;

use pindrel_core::display_text::one_line;
use serde_json::json;

use super::{VERSION, diagnostics, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Writes an error; nothing is left to do when that fails too.
pub(crate) fn print(context: &Context, error: &CliError) {
    if let CliError::Manifest(mistakes) = error {
        let _ = diagnostics::print_errors(context, mistakes);
        return;
    }
    let mut says = error.to_string();
    let mut cause = match error {
        // The wrapper repeats what it wraps.
        CliError::Engine(inner) => inner.source(),
        CliError::Lock(inner) => inner.source(),
        other => other.source(),
    };
    while let Some(source) = cause {
        says.push_str(&format!(": {source}"));
        cause = source.source();
    }
    let (says, remedy) = (one_line(says), one_line(error.remedy()));
    if context.format == Format::Json {
        let _ = super::json(&json!({ "version": VERSION, "error": { "says": says, "remedy": remedy } }));
        return;
    }
    let mut err = anstream::stderr();
    let _ = writeln!(err, "{} {says}", style::paint(style::BAD, "error:"));
    let _ = writeln!(err, "  {} {}", style::paint(style::FAINT, "→"), remedy);
}
