//! `pindrel account change-key`

use std::path::PathBuf;

use clap::Args;

use super::{authority, read_key};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Give an account another key
///
/// Both keys are kept until the authority has confirmed the change. The new one is of the
/// kind that account_key says in the manifest.
#[derive(Debug, Args)]
pub(crate) struct ChangeKeyArgs {
    /// The authority's name in the manifest; may be left out where there is one
    authority: Option<String>,

    /// Use this private key (PEM or JWK), not a new one
    #[arg(long, value_name = "PATH")]
    key: Option<PathBuf>,
}

pub(super) async fn run(context: &Context, args: &ChangeKeyArgs) -> Result<Status, CliError> {
    let key = args.key.as_deref().map(read_key).transpose()?;
    let engine = context.changing_engine("account change-key").await?;
    let id = authority(engine.desired(), args.authority.as_deref())?;
    let report = engine.accounts.change_key(id, key).await?;
    output::account::print(context, &[report])?;
    Ok(Status::Done)
}
