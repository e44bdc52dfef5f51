//! `pindrel account register`

use std::path::PathBuf;

use clap::Args;
use pindrel_engine::Registration;

use super::{authority, read_key};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Open an account, or find the one that a key has already
///
/// settle opens accounts by itself; this is for doing it before, with a key from
/// elsewhere, for changed contacts, or to agree to terms that have changed.
#[derive(Debug, Args)]
pub(crate) struct RegisterArgs {
    /// The authority's name in the manifest; may be left out where there is one
    authority: Option<String>,

    /// Use this private key (PEM or JWK), not a new one
    #[arg(long, value_name = "PATH")]
    key: Option<PathBuf>,

    /// Agree to terms of service that have changed; read them first
    #[arg(long)]
    agree: bool,
}

pub(super) async fn run(context: &Context, args: &RegisterArgs) -> Result<Status, CliError> {
    let key = args.key.as_deref().map(read_key).transpose()?;
    let engine = context.changing_engine("account register").await?;
    let id = authority(engine.desired(), args.authority.as_deref())?;
    let how = Registration { key, agree: args.agree };
    let report = engine.accounts.open(id, how).await?;
    output::account::print(context, &[report])?;
    Ok(Status::Done)
}
