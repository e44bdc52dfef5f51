//! `pindrel health list`

use clap::Args;
use pindrel_core::health::Verdict;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// List the verdict of every health check, since when, and how long answers took
///
/// What `keep` and `health run` have found, with the median and the 95th percentile of the last
/// hour; endpoints that are held out of answers stand below. A verdict without a result for three
/// intervals is stale, and does not count as up. Nothing is connected to.
///
/// Exit status: 0 all up, 3 otherwise.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel health list
  pindrel health list --format json")]
pub(crate) struct ListArgs {}

pub(super) async fn run(context: &Context, _args: &ListArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let reports = engine.health.list().await?;
    let holds = engine.health.endpoint_holds().await?;
    output::health::print_list(context, &reports, &holds)?;
    let is_up = reports.iter().all(|report| report.verdict() == Verdict::Up);
    Ok(if is_up && holds.is_empty() { Status::Done } else { Status::NotHeld })
}
