//! `pindrel health run`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::desired::CheckId;
use pindrel_core::health::CheckResult;

use super::{named, without_checks};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Make health checks once, now, and show what came back
///
/// Each address of an endpoint is connected to directly, with the hostname as SNI and Host.
/// How long the parts took is shown: the connection, TLS, the first byte of the response.
/// The results count for the verdicts, as those of `keep` do.
///
/// Exit status: 0 all passed, 1 one failed, 3 one cannot be made from here.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel health run
  pindrel health run queue-north
  pindrel health run --format json")]
pub(crate) struct RunArgs {
    /// Only these checks, with those that they are combined from
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(completion::checks))]
    names: Vec<String>,
}

pub(super) async fn run(context: &Context, args: &RunArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let desired = engine.desired();
    if desired.checks.is_empty() {
        return Err(without_checks());
    }
    let ids: Result<Vec<CheckId>, CliError> = match args.names.as_slice() {
        [] => Ok(desired.check_ids().collect()),
        names => names.iter().map(|name| named(desired, name)).collect(),
    };
    let runs = engine.health.run(&ids?).await?;
    output::health::print_runs(context, &runs)?;
    let results = || runs.iter().flat_map(|run| &run.results).map(|(_, measured)| &measured.result);
    Ok(if results().any(|result| matches!(result, CheckResult::Failed(_))) {
        Status::Failed
    } else if results().any(|result| matches!(result, CheckResult::Impossible(_))) {
        Status::NotHeld
    } else {
        Status::Done
    })
}
