//! How a command's error is told: one sentence, its cause, and what to do.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::text::display_text::{one_line, with_causes};
use serde_json::json;

use super::finding::print_remedy;
use super::times::for_people;
use super::{VERSION, diagnostics, log, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

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
        let _ = super::json(&json!({ "version": VERSION, "error": { "says": says, "remedy": remedy } }));
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
