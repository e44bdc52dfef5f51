//! `pindrel demo`

use std::fs;
use std::io::Write as _;
use std::path::Path;

use clap::Args;
use pindrel_sandbox::{DEFAULT_NET, Listing, Options, Sandbox};

use crate::commands::{cert, check, sandbox, settle, status};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output::demo as say;
use crate::signals::stop_signal;

/// The demo's manifest, written for the sandbox's first network.
const MANIFEST: &str = include_str!("../../../../demo/pindrel.toml");

/// Do the whole job on the demo data in a fresh sandbox
///
/// Starts the sandbox in a temporary folder, checks the demo manifest of Larkfield Sky
/// Survey, settles it and shows the status. Takes some ten seconds and leaves nothing
/// behind.
#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Leave the sandbox running and say how to go on by hand
    #[arg(long)]
    stay: bool,
}

pub(crate) async fn run(context: &Context, args: &DemoArgs) -> Result<Status, CliError> {
    let folder = tempfile::Builder::new().prefix("pindrel-demo-").tempdir()?;
    let ended = {
        let begun = show(context, folder.path());
        tokio::select! {
            ended = begun => ended?,
            signal = stop_signal() => return Err(CliError::Interrupted { signal: signal?, under_way: Vec::new() }),
        }
    };
    let (sandbox, status) = ended;
    say::print_curl(folder.path(), sandbox.listing())?;
    if args.stay {
        say::stay(folder.path())?;
        sandbox::until_stopped(sandbox).await?;
    } else {
        sandbox.stop().await;
        say::cleaned_up()?;
    }
    std::io::stdout().flush()?;
    Ok(status)
}

/// The demo's manifest for a sandbox: another one may have the first network.
pub(crate) fn manifest(listing: &Listing) -> String {
    MANIFEST.replace(&format!("{DEFAULT_NET}."), &format!("{}.", listing.net))
}

async fn show(context: &Context, folder: &Path) -> Result<(Sandbox, Status), CliError> {
    say::opening(folder)?;
    let sandbox =
        Sandbox::start(&folder.join("sandbox"), Options::default()).await.map_err(|error| sandbox::failed(&error))?;
    let manifest = folder.join("pindrel.toml");
    fs::write(&manifest, self::manifest(sandbox.listing()))
        .map_err(|error| CliError::file(&manifest, "written", &error))?;
    let context = context.for_manifest(manifest);

    say::step("check", "The manifest says which hostnames should lead where. First it is read for mistakes.")?;
    check::run(&context, &check::CheckArgs::default())?;
    say::step("settle --dry-run", "What would be done, in the order that protects traffic:")?;
    settle::run(&context, &settle::SettleArgs { dry_run: true, ..settle::SettleArgs::default() }).await?;
    say::step("settle", "Now it is done, each step verified by looking at the world.")?;
    settle::run(&context, &settle::SettleArgs::default()).await?;
    say::step("settle", "A second time there is nothing to do.")?;
    settle::run(&context, &settle::SettleArgs::default()).await?;
    say::step("cert renew api.larkfield.example", "A renewal, long before it is due: issued, bound, and seen served.")?;
    cert::renew(&context, "api.larkfield.example").await?;
    say::step("cert list", "The certificates:")?;
    cert::list(&context, &cert::ListArgs::default()).await?;
    say::step("status", "The status now:")?;
    let status = status::run(&context, &status::StatusArgs::default()).await?;
    Ok((sandbox, status))
}
