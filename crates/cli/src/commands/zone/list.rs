//! `pindrel zone list`

use clap::Args;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// List the zones of the manifest: how each is changed, its servers, and whether they agree
///
/// Each zone is looked at: its delegation from the servers of the zone above, and every server
/// of its own. Exit status: 0 all held, 3 otherwise.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone list
  pindrel zone list --format json")]
pub(crate) struct ListArgs {}

pub(super) async fn run(context: &Context, _args: &ListArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let reports = engine.zones.reports().await?;
    output::zones::print_list(context, &reports)?;
    Ok(if reports.iter().all(|report| report.state == pindrel_core::judging::pins::PinState::Held) {
        Status::Done
    } else {
        Status::NotHeld
    })
}
