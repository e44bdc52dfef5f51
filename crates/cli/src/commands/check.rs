//! `pindrel check`

use std::sync::Arc;

use clap::Args;

use crate::args::{RunBounds, Span};
use crate::context::{Context, bounds};
use crate::error::{CliError, Status};
use crate::output;
use pindrel_engine::Access;

/// Read the manifest and report every mistake with its place
///
/// Without --online nothing outside this machine is asked. Secrets and root certificates that the
/// manifest refers to are read, and never shown.
///
/// With --online all that the manifest depends on is looked at as well, and nothing is changed:
/// delegations and servers, what the credential of each zone may do (too little, or more than is
/// needed), the authorities' directories, CAA records and challenge names, and the platforms of
/// the endpoints.
///
/// Exit status: 0 all is right, 2 the manifest has mistakes, 3 something that it depends on cannot be used.
#[derive(Debug, Clone, Default, Args)]
#[command(after_help = "Examples:
  pindrel check
  pindrel check --online
  pindrel check --format json")]
pub(crate) struct CheckArgs {
    /// Look at all that the manifest depends on as well
    #[arg(long)]
    pub(crate) online: bool,
}

pub(crate) async fn run(context: &Context, args: &CheckArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (desired, mistakes) = context.examine()?;
    if !mistakes.errors.is_empty() || !args.online {
        output::diagnostics::print(context, &desired, &mistakes, None)?;
        return Ok(if mistakes.errors.is_empty() { Status::Done } else { Status::Wrong });
    }
    let mut loaded = context.load_to_look()?;
    let home = context.open(&mut loaded, Access::Read).await?;
    let engine = loaded.engine("check", home, bounds(Span(0), RunBounds::default()), Arc::new(())).await?;
    let reports = engine.reports.online().await?;
    output::diagnostics::print(context, &desired, &mistakes, Some(&reports))?;
    Ok(if output::online::is_hindered(&reports) { Status::NotHeld } else { Status::Done })
}
