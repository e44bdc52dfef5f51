//! `pindrel adopt`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use pindrel_core::values::SecretRef;

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
/// It is checked like one that is brought in, and used as it is. When it is due, the
/// authority that the manifest names for it issues the next one.
#[derive(Debug, Args)]
pub(crate) struct CertificateArgs {
    /// The certificate's name in the manifest, or a hostname that uses it
    name: String,

    /// The files: certificate, intermediates, key, or all in one
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,

    /// Where the password of a PKCS#12 file is: env:NAME or file:PATH
    #[arg(long, value_name = "WHERE", value_parser = cert::secret_place)]
    password: Option<SecretRef>,
}

pub(crate) fn run(context: &Context, command: &AdoptCommand) -> Result<Status, CliError> {
    let AdoptCommand::Certificate(args) = command;
    cert::bring_in(context, "adopt certificate", &args.name, &args.files, args.password.as_ref())
}
