//! `pindrel endpoint`

use clap::{Args, Subcommand};

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Look at endpoints: list
#[derive(Debug, Subcommand)]
pub(crate) enum EndpointCommand {
    List(ListArgs),
}

/// List what each endpoint of the manifest offers, what is bound there, and what its store holds
///
/// Asks each platform. Exit status: 0 done, 1 a platform does not answer.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel endpoint list
  pindrel endpoint list --format json")]
pub(crate) struct ListArgs {}

pub(crate) async fn run(context: &Context, command: &EndpointCommand) -> Result<Status, CliError> {
    let EndpointCommand::List(ListArgs {}) = command;
    let (engine, _) = context.engine().await?;
    let reports = engine.endpoint_reports().await?;
    output::endpoints::print(context, &reports)?;
    Ok(if reports.iter().all(|report| report.trouble.is_none()) { Status::Done } else { Status::Failed })
}
