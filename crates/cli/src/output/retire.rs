//! What is taken away, and what was.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::names::name::Hostname;
use pindrel_engine::Leftover;
use serde_json::json;

use super::finding::print_evidence;
use super::{VERSION, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Shows what would be taken away, before that is asked for.
pub(crate) fn print_found(found: &[Leftover]) -> Result<(), CliError> {
    let mut out = super::stderr();
    for leftover in found {
        writeln!(out, "{}", style::paint(style::STRONG, leftover.hostname.as_str()))?;
        print_evidence(&mut out, Timestamp::now(), &leftover.finding.words().evidence)?;
    }
    Ok(())
}

/// Says that there is nothing to take away.
pub(crate) fn print_nothing(context: &Context) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(
            &json!({ "version": VERSION, "event": "summary", "at": Timestamp::now(), "retired": 0, "leftovers": 0 }),
        );
    }
    writeln!(super::stdout(), "Nothing is left of them.")?;
    Ok(())
}

/// Says what is no longer known.
pub(crate) fn print_forgotten(context: &Context, hostnames: &[Hostname]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "forgotten": hostnames }));
    }
    for hostname in hostnames {
        writeln!(super::stdout(), "Forgot what was left of {hostname}.")?;
    }
    Ok(())
}
