//! `pindrel account resume`

use clap::Args;

use super::authority;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Send orders again to an authority that has refused them for a time
///
/// After a refusal for too many orders nothing is ordered until the time that the authority
/// named. This forgets that time: for when the authority has raised the limit.
#[derive(Debug, Args)]
pub(crate) struct ResumeArgs {
    /// The authority's name in the manifest; may be left out where there is one
    authority: Option<String>,
}

pub(super) async fn run(context: &Context, args: &ResumeArgs) -> Result<Status, CliError> {
    let engine = context.changing_engine("account resume").await?;
    let id = authority(engine.desired(), args.authority.as_deref())?;
    let lifted = engine.resume_orders(id).await?;
    output::account::print_resumed(context, &engine.desired().authority(id).name, lifted)?;
    Ok(Status::Done)
}
