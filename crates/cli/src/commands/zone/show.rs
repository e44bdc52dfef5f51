//! `pindrel zone show`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::names::name::DnsName;

use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// Show one zone: its delegation, each of its servers, and what is wrong with it
///
/// The zone is looked at: what the servers of the zone above say of it, and what every server of
/// its own says. Nothing is changed. Exit status: 0 held, 3 otherwise.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone show larkfield.example
  pindrel zone show larkfield.example --format json")]
pub(crate) struct ShowArgs {
    /// A zone of the manifest
    #[arg(value_name = "ZONE", add = ArgValueCandidates::new(completion::zones))]
    zone: DnsName,
}

pub(super) async fn run(context: &Context, args: &ShowArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (engine, _) = context.engine().await?;
    let id = names::zone(engine.desired(), &args.zone)?;
    let (report, view) = engine.zones.report(id).await?;
    output::zones::print_zone_view(context, &report, &view)?;
    Ok(if report.findings.is_empty() { Status::Done } else { Status::NotHeld })
}
