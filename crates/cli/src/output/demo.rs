//! What the demo says between its commands.

use std::io::Write as _;
use std::path::Path;

use pindrel_core::text::display_text::shell_word;
use pindrel_sandbox::Listing;

use super::style;
use crate::error::CliError;

/// Says what is about to be shown.
pub(crate) fn opening(folder: &Path) -> Result<(), CliError> {
    let mut out = super::stdout();
    writeln!(out, "{}", style::paint(style::STRONG, "Larkfield Sky Survey puts its names on three endpoints."))?;
    writeln!(out, "An authority, DNS servers and an endpoint platform start as stand-ins on loopback;")?;
    writeln!(out, "all files are in {}.", folder.display())?;
    Ok(())
}

/// Says what the next command is for, and shows it as it would be typed.
pub(crate) fn step(command: &str, says: &str) -> Result<(), CliError> {
    let mut out = super::stdout();
    writeln!(out, "\n{}", style::paint(style::FAINT, says))?;
    writeln!(out, "{}", style::paint(style::COMMAND, format_args!("$ pindrel {command}")))?;
    Ok(())
}

/// Shows how to see it with another program.
pub(crate) fn print_curl(folder: &Path, listing: &Listing) -> Result<(), CliError> {
    let mut out = super::stdout();
    let Some(gateway) = listing.endpoints.first() else { return Ok(()) };
    writeln!(
        out,
        "\n{}",
        style::paint(style::FAINT, "Any client sees the same (while the sandbox runs: pindrel demo --stay):")
    )?;
    let root = folder.join("sandbox/issuing-root.pem");
    let (ip, port) = (gateway.address.ip(), gateway.address.port());
    let curl = format!(
        "curl --cacert {} --resolve api.larkfield.example:{port}:{ip} https://api.larkfield.example:{port}/v2/",
        shell_word(root.display())
    );
    writeln!(out, "{}", style::paint(style::COMMAND, format_args!("$ {curl}")))?;
    Ok(())
}

/// Says how to go on by hand with the sandbox, which stays up here or in the background.
pub(crate) fn stay(folder: &Path, in_background: bool) -> Result<(), CliError> {
    let (head, end) = if in_background {
        (
            "The sandbox stays up in the background. Go on with:",
            "`pindrel sandbox down` there ends it; the folder stays.",
        )
    } else {
        (
            "The sandbox stays up. In another terminal:",
            "Ctrl-C here, or pindrel sandbox down there, ends it and removes the folder.",
        )
    };
    let mut out = super::stdout();
    writeln!(out, "\n{}", style::paint(style::STRONG, head))?;
    let cd = format!("cd {}", folder.display());
    for command in [cd.as_str(), "pindrel status", "pindrel settle", "pindrel sandbox list"] {
        writeln!(out, "{}", style::paint(style::COMMAND, format_args!("$ {command}")))?;
    }
    writeln!(out, "{end}")?;
    Ok(())
}

/// Says that nothing is left.
pub(crate) fn cleaned_up() -> Result<(), CliError> {
    let mut out = super::stdout();
    writeln!(out, "\nThe sandbox is stopped and its folder removed; nothing is left to clean up.")?;
    Ok(())
}
