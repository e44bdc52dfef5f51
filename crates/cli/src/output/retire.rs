//! What is taken away, and what was.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::series;
use pindrel_engine::{Event, Leftover, Summary};
use serde_json::json;

use super::finding::print_evidence;
use super::status::print_leftover;
use super::{EventLine, VERSION, style};
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

/// Says that there is nothing to take away of the hostnames named, or of all; and what of them others have made.
pub(crate) fn print_untouched(
    context: &Context,
    named: Option<&[Hostname]>,
    foreign: &[Leftover],
) -> Result<(), CliError> {
    let now = Timestamp::now();
    if context.format == Format::Json {
        for leftover in foreign {
            super::json(&EventLine::new(&leftover.clone().into()))?;
        }
        let summary = Summary { leftovers: foreign.len(), ..Summary::default() };
        return super::json(&EventLine::new(&Event::Summary(summary)));
    }
    let mut out = super::stdout();
    for leftover in foreign {
        print_leftover(&mut out, now, &leftover.finding)?;
    }
    let is_gone = |name: &&Hostname| !foreign.iter().any(|leftover| leftover.hostname == **name);
    match named {
        None => writeln!(out, "Nothing is left over.")?,
        Some(named) => {
            let gone: Vec<String> = named.iter().filter(is_gone).map(ToString::to_string).collect();
            if !gone.is_empty() {
                writeln!(out, "Nothing is left of {}.", series(&gone, " and "))?;
            }
        }
    }
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
