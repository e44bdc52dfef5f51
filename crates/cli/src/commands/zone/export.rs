//! `pindrel zone export`

use clap::Args;

use super::sides::{ReadArgs, Side};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Write a zone as a canonical zone file, as JSON or as CSV
///
/// The zone is transferred (AXFR), with the TSIG key of the manifest; where the server refuses
/// that, the names of the manifest are asked for one by one, and it is said that the rest is
/// missing. One record a line, names in full, sorted as RFC 4034 sorts them.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone export larkfield.example > larkfield.example.zone
  pindrel zone export larkfield.example@192.0.2.53 --format json
  pindrel zone export old.zone --origin larkfield.example --format csv")]
pub(crate) struct ExportArgs {
    /// A zone of the manifest, ZONE@SERVER, or a zone file
    #[arg(value_name = "ZONE")]
    zone: Side,

    #[command(flatten)]
    reading: ReadArgs,
}

pub(super) async fn run(context: &Context, args: &ExportArgs) -> Result<Status, CliError> {
    let read = args.zone.read(context, &args.reading, None).await?;
    output::zones::print_zone(context, &read.data, read.partial.as_ref().map(|part| &*part.why))?;
    Ok(Status::Done)
}
