//! `pindrel cert import`

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::values::SecretRef;

use super::{named, read_files, read_password, secret_place};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Import a certificate that was issued elsewhere, out of loose files in any order
///
/// PEM, DER and PKCS#12 are read. The leaf is found, the chain put in order, a root left
/// out; key, names, validity and strength are checked against the manifest.
#[derive(Debug, Args)]
pub(crate) struct ImportArgs {
    #[command(flatten)]
    what: LooseFilesArgs,
}

// A comment on this type would replace the one of the command that it stands in.
#[derive(Debug, Args)]
pub(crate) struct LooseFilesArgs {
    /// The certificate's name in the manifest, or a hostname that uses it
    #[arg(add = ArgValueCandidates::new(completion::certificates))]
    name: String,

    /// The files: certificate, intermediates, key, or all in one
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,

    /// Where the password of a PKCS#12 file is: env:NAME or file:PATH
    #[arg(long, value_name = "WHERE", value_parser = secret_place)]
    password: Option<SecretRef>,
}

pub(super) async fn run(context: &Context, args: &ImportArgs) -> Result<Status, CliError> {
    import_files(context, "cert import", &args.what).await
}

/// Imports a certificate; `adopt` does the same with one that exists.
pub(crate) async fn import_files(context: &Context, who: &str, what: &LooseFilesArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let files = read_files(&what.files)?;
    let password = read_password(what.password.as_ref())?;
    let engine = context.changing_engine(who).await?;
    let id = named(engine.desired(), &what.name)?;
    let summary = engine.certificates.import(id, &files, password.as_ref()).await?;
    output::certificates::print_import(context, engine.desired(), id, &summary)?;
    Ok(Status::Done)
}
