//! Where the stand-ins listen.

use std::io::Write as _;
use std::path::Path;

use pindrel_sandbox::{ELSEWHERE_ZONE, Listing, TSIG_NAME, ZONE};
use serde::Serialize;

use super::{VERSION, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

#[derive(Serialize)]
struct Document<'l> {
    version: u32,
    faults: &'l [String],
    #[serde(flatten)]
    listing: &'l Listing,
}

/// Writes where everything is.
pub(crate) fn print(context: &Context, folder: &Path, listing: &Listing, faults: &[String]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&Document { version: VERSION, faults, listing });
    }
    let mut out = super::stdout();
    let mut line = |what: &str, place: &str, more: &str| {
        writeln!(out, "{:14}{place:42}{}", what, style::paint(style::FAINT, more))
    };
    line("authority", &listing.directory, "an ACME directory")?;
    line("practice", &listing.practice, "an ACME directory for rehearsals")?;
    line("parent", &listing.parent.to_string(), "delegates example. and test.")?;
    line("primary", &listing.primary.to_string(), &format!("serves {ZONE}, takes updates with the key {TSIG_NAME}."))?;
    line("secondary", &listing.secondary.to_string(), "lags behind the primary")?;
    let of_others = format!("serves {ELSEWHERE_ZONE}, which somebody else edits");
    line("elsewhere", &listing.elsewhere.to_string(), &of_others)?;
    line("resolver", &listing.resolver.to_string(), "caches, absent names too")?;
    line("platform", &listing.platform, "speaks the endpoint protocol")?;
    for endpoint in &listing.endpoints {
        let what = format!("  {}", endpoint.id);
        line(&what, &endpoint.default_name, &format!("{} at {}", endpoint.kind, endpoint.address))?;
    }
    line("folder", &folder.display().to_string(), "roots, tsig.secret, edge.token, sandbox.json")?;
    for fault in faults {
        line("broken", fault, "mended with: pindrel sandbox mend")?;
    }
    Ok(())
}

/// Says how a sandbox is used, and how it ends.
pub(crate) fn print_how_to_go_on(folder: &Path, manifest: &Path, detached: bool) -> Result<(), CliError> {
    let mut out = super::stdout();
    let command = |text: String| style::paint(style::COMMAND, text);
    let settle = command(format!("pindrel -m {} settle", manifest.display()));
    let down = command(format!("pindrel sandbox down --folder {}", folder.display()));
    if detached {
        writeln!(out, "Try: {settle}\nRunning in the background until: {down}")?;
    } else {
        writeln!(out, "In another terminal: {settle}\nRunning until Ctrl-C, or from elsewhere: {down}")?;
    }
    Ok(())
}

/// Tells what is broken now.
pub(crate) fn print_faults(context: &Context, broken: &[String]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&serde_json::json!({ "version": VERSION, "faults": broken }));
    }
    let mut out = super::stdout();
    match broken {
        [] => writeln!(out, "Nothing is broken.")?,
        broken => writeln!(out, "Broken: {}.", broken.join(", "))?,
    }
    Ok(())
}
