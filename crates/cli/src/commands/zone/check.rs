//! `pindrel zone check`

use std::time::Duration;

use clap::Args;
use pindrel_core::zones::zone_data::{Severity, missing_slips, reach_slips, slips};

use super::sides::{ReadArgs, Side, read_files};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Report every mistake in a zone file with its place, and the slips in a zone that servers accept
///
/// A zone file is read as RFC 1035 says, with the files that it includes from its own folder or from
/// that of --include-below; a zone of the manifest is read from
/// its servers. Slips are looked for once everything can be read: aliases beside other records, or
/// leading nowhere; names with the zone's name twice; records that a delegation hides; and more. Of a
/// zone of the manifest also names that lead to an endpoint which has no binding of them, and records
/// that lead to a name outside of the zone that does not exist, which anybody may take over.
///
/// Exit status: 0 no mistake (there may be warnings), 1 mistakes.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone check zones/larkfield.example.zone
  pindrel zone check larkfield.example
  pindrel zone check draft.txt --origin larkfield.example --format json")]
pub(crate) struct CheckArgs {
    /// A zone file, or a zone of the manifest
    #[arg(value_name = "FILE|ZONE")]
    zone: Side,

    #[command(flatten)]
    reading: ReadArgs,
}

pub(super) async fn run(context: &Context, args: &CheckArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    if args.zone.is_manifest() {
        return Err(CliError::Usage {
            says: "this checks zone files and live zones, not the manifest".into(),
            remedy: "Run: pindrel check".into(),
        });
    }
    if let Side::File(path) = &args.zone {
        let files = read_files(path, &args.reading, None)?;
        let slips = if files.mistakes.is_empty() { slips(&files.zone) } else { Vec::new() };
        let is_right = files.mistakes.is_empty() && slips.iter().all(|slip| slip.severity != Severity::Error);
        output::zones::print_check(context, &path.display().to_string(), &files, &slips)?;
        return Ok(if is_right { Status::Done } else { Status::Failed });
    }
    let read = args.zone.read(context, &args.reading, None).await?;
    let mut slips = slips(&read.data);
    // That something is missing cannot be told of a part.
    slips.retain(|slip| read.partial.is_none() || !slip.code.is_of_absence());
    // The endpoints say which of its names they know.
    let (engine, _) = context.engine().await?;
    slips.extend(reach_slips(&read.data, &engine.zones.reached_endpoints().await?));
    if let Some(id) = args.zone.zone().and_then(|name| engine.desired().zone_named(&name)) {
        let within = Duration::from_secs(args.reading.patience.0);
        let missing = engine.zones.missing_outside(id, &read.data, within).await;
        slips.extend(missing_slips(&read.data, &missing));
    }
    output::zones::print_live_check(
        context,
        &read.from,
        &read.data,
        read.partial.as_ref().map(|part| &*part.why),
        &slips,
    )?;
    let is_right = slips.iter().all(|slip| slip.severity != Severity::Error);
    Ok(if is_right { Status::Done } else { Status::Failed })
}
