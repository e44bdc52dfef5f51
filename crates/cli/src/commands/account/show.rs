//! `pindrel account show`

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use pindrel_core::desired::AuthorityId;
use pindrel_engine::{ExportForm, write_export};
use secrecy::ExposeSecret as _;

use super::authority;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Show the accounts, as the authorities have them
///
/// With --export-key the account's private key is written to a file of mode 0600, to
/// be used elsewhere.
#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The authority's name in the manifest; all without it
    authority: Option<String>,

    /// Write the account's private key to this file
    #[arg(long, value_name = "PATH")]
    export_key: Option<PathBuf>,

    /// The form of a key that is taken out
    #[arg(long, value_name = "FORM", default_value = "pem", requires = "export_key")]
    r#as: Form,
}

/// The form of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Form {
    /// PKCS#8 in PEM
    Pem,
    /// A JSON Web Key
    Jwk,
}

pub(super) async fn run(context: &Context, args: &ShowArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let desired = engine.desired();
    if let Some(path) = &args.export_key {
        let id = authority(desired, args.authority.as_deref())?;
        let key = engine.accounts.export_key(id, args.r#as == Form::Jwk).await?;
        write_export(path, key.expose_secret().as_bytes(), ExportForm::Key)?;
        output::account::print_exported_key(context, &desired.authority(id).name, path)?;
        return Ok(Status::Done);
    }
    let ids = match &args.authority {
        Some(name) => vec![authority(desired, Some(name))?],
        None => (0..desired.authorities.len() as u32).map(AuthorityId).collect(),
    };
    let reports = engine.accounts.reports(&ids).await?;
    output::account::print(context, &reports)?;
    let failed = reports.iter().any(|report| report.unreachable.is_some());
    Ok(if failed { Status::Failed } else { Status::Done })
}
