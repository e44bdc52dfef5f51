//! `pindrel state runs`

use clap::Args;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// List the runs that changed something, with what each changed
///
/// Each run keeps what it replaced, for ninety days: `pindrel settle --undo RUN` puts it back.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel state runs
  pindrel state runs --most 3 --format json")]
pub(crate) struct RunsArgs {
    /// The newest so many runs
    #[arg(long, value_name = "N", default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..=1_000))]
    most: u32,
}

pub(super) async fn run(context: &Context, args: &RunsArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let mut runs = Vec::new();
    for run in engine.reports.runs(args.most).await? {
        let changes = engine.reports.run_changes(run.id).await?;
        runs.push((run, changes));
    }
    output::undo::print_runs(context, engine.desired(), &runs)?;
    Ok(Status::Done)
}
