//! `pindrel adopt`

use clap::{Args, Subcommand};

use crate::commands::cert;
use crate::context::Context;
use crate::error::{CliError, Status};

/// Take what exists and is right into Pindrel's care
#[derive(Debug, Subcommand)]
pub(crate) enum AdoptCommand {
    Certificate(CertificateArgs),
}

/// Take over a certificate that exists as files
///
/// It is checked like one that is imported, and used as it is. When it is due, the
/// authority that the manifest names for it issues the next one.
#[derive(Debug, Args)]
pub(crate) struct CertificateArgs {
    #[command(flatten)]
    what: cert::LooseFilesArgs,
}

pub(crate) async fn run(context: &Context, command: &AdoptCommand) -> Result<Status, CliError> {
    let AdoptCommand::Certificate(args) = command;
    cert::import_files(context, "adopt certificate", &args.what).await
}
