//! `pindrel account`

mod change_key;
mod close;
mod register;
mod resume;
mod show;

use std::path::Path;

use clap::Subcommand;
use pindrel_core::desired::{AuthorityId, Desired};
use pindrel_engine::{AccountKey, machine};
use secrecy::SecretString;

use crate::context::Context;
use crate::error::{CliError, Status};

/// The longest file of a key that is read.
const MAX_KEY_BYTES: u64 = 64 * 1024;

/// Look after accounts at authorities: show, register, change-key, close, resume
#[derive(Debug, Subcommand)]
pub(crate) enum AccountCommand {
    Show(show::ShowArgs),
    Register(register::RegisterArgs),
    ChangeKey(change_key::ChangeKeyArgs),
    Close(close::CloseArgs),
    Resume(resume::ResumeArgs),
}

pub(crate) async fn run(context: &Context, command: &AccountCommand) -> Result<Status, CliError> {
    context.refuse_csv()?;
    match command {
        AccountCommand::Show(args) => show::run(context, args).await,
        AccountCommand::Register(args) => register::run(context, args).await,
        AccountCommand::ChangeKey(args) => change_key::run(context, args).await,
        AccountCommand::Close(args) => close::run(context, args).await,
        AccountCommand::Resume(args) => resume::run(context, args).await,
    }
}

/// Finds an authority by its name; without one there must be a single one.
pub(super) fn authority(desired: &Desired, name: Option<&str>) -> Result<AuthorityId, CliError> {
    let known = || desired.authorities.iter().map(|authority| authority.name.as_str()).collect::<Vec<_>>().join(", ");
    match name {
        Some(name) => desired.authority_named(name).ok_or_else(|| CliError::Usage {
            says: format!("the manifest has no [authority.{name}]"),
            remedy: format!("Name one of: {}", known()),
        }),
        None if desired.authorities.len() == 1 => Ok(AuthorityId(0)),
        None => {
            Err(CliError::Usage { says: "no authority is named".into(), remedy: format!("Name one of: {}", known()) })
        }
    }
}

/// Reads a private key, as PEM or JWK.
fn read_key(path: &Path) -> Result<AccountKey, CliError> {
    let failed = |error: std::io::Error| CliError::file(path, "read", &error);
    let text = SecretString::from(machine::read_text(path, MAX_KEY_BYTES).map_err(failed)?);
    AccountKey::from_text(&text).map_err(|error| CliError::Usage {
        says: format!("{} cannot be used as an account key: {error}", path.display()),
        remedy: "Give a private key as PEM or JWK: ECDSA on P-256 or P-384, RSA, or Ed25519".into(),
    })
}
