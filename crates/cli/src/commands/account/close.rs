//! `pindrel account close`

use clap::Args;

use super::authority;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Close an account permanently
///
/// Certificates stay valid, but nothing can be ordered or revoked with the account any
/// more. The next settle opens another one.
#[derive(Debug, Args)]
pub(crate) struct CloseArgs {
    /// The authority's name in the manifest
    authority: String,

    /// Say that it is meant: a closed account cannot be opened again
    #[arg(long)]
    permanently: bool,
}

pub(super) async fn run(context: &Context, args: &CloseArgs) -> Result<Status, CliError> {
    if !args.permanently {
        return Err(CliError::Usage {
            says: "a closed account cannot be opened again".into(),
            remedy: format!("To close it all the same: pindrel account close {} --permanently", args.authority),
        });
    }
    let engine = context.changing_engine("account close").await?;
    let id = authority(engine.desired(), Some(&args.authority))?;
    let report = engine.accounts.close(id).await?;
    output::account::print(context, &[report])?;
    Ok(Status::Done)
}
