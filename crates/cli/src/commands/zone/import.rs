//! `pindrel zone import`

use std::path::PathBuf;

use clap::Args;
use pindrel_core::judging::findings::{Finding, ZoneCause};
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::zone_data::{NameKey, Severity, slips};

use super::sides::{ReadArgs, read_files};
use crate::context::Context;
use crate::error::{CliError, Status, ZoneMistakes};
use crate::names;
use crate::output;

/// Bring the records of a zone file into a zone of the manifest
///
/// Shows what would change; `--yes` does it. Each record set is changed only where it is still
/// what was shown, and all else stays as it is: sets that the file does not have, unless
/// `--delete` says so, the SOA record, and the zone's own NS records.
///
/// Exit status: 0 done or nothing to do, 3 there are changes and `--yes` was not given, 1 failed.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone import larkfield.example.zone --into larkfield.example
  pindrel zone import larkfield.example.zone --into larkfield.example --yes")]
pub(crate) struct ImportArgs {
    /// The zone file
    file: PathBuf,

    /// The zone of the manifest
    #[arg(long, value_name = "ZONE")]
    into: DnsName,

    #[command(flatten)]
    reading: ReadArgs,

    /// Delete record sets that the file does not have
    #[arg(long)]
    delete: bool,

    /// Change the zone
    #[arg(long)]
    yes: bool,
}

pub(super) async fn run(context: &Context, args: &ImportArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let zone = NameKey::from(&args.into);
    let origin = args.reading.origin.clone().unwrap_or_else(|| zone.clone());
    let files = read_files(&args.file, &ReadArgs { origin: Some(origin), ..args.reading.clone() }, None)?;
    if !files.mistakes.is_empty() {
        return Err(CliError::ZoneFile(Box::new(ZoneMistakes { files })));
    }
    let outside = files.zone.entries().find(|entry| !entry.owner().is_within(&zone));
    if let Some(entry) = outside {
        return Err(CliError::Usage {
            says: format!(
                "{} in line {} of {} does not lie in {}",
                entry.owner(),
                entry.place.line,
                args.file.display(),
                args.into
            ),
            remedy: "Name the zone that the file is of with --into, or its names' origin with --origin".into(),
        });
    }
    let wrong: Vec<_> = slips(&files.zone).into_iter().filter(|slip| slip.severity == Severity::Error).collect();
    // A part of a zone has no SOA and NS records.
    let wrong: Vec<_> = wrong.into_iter().filter(|slip| slip.place.line > 0).collect();
    if let Some(slip) = wrong.first() {
        return Err(CliError::Usage {
            says: format!("{}:{}: {}", args.file.display(), slip.place.line, slip.says),
            remedy: slip.help.clone(),
        });
    }
    let engine = match args.yes {
        true => context.changing_engine("zone import").await?,
        false => context.engine_within(args.reading.patience).await?.0,
    };
    let id = names::zone(engine.desired(), &args.into)?;
    let finding = |finding| CliError::Finding(Box::new(finding));
    let import = engine.zones.import_changes(id, &files.zone, args.delete).await.map_err(finding)?;
    let changes = &import.differences;
    if let Some(part) = import.seen.partial.as_ref().filter(|_| args.delete) {
        return Err(CliError::Usage {
            says: format!("what {} has beside the file cannot be told: {}", args.into, part.why),
            remedy: "Allow the TSIG key of the zone to transfer it, or leave --delete out".into(),
        });
    }
    if !args.yes || changes.is_empty() {
        output::zones::print_import(context, args.into.as_str(), changes, false)?;
        return Ok(if changes.is_empty() { Status::Done } else { Status::NotHeld });
    }
    let left = engine.zones.import_records(id, &import, &files.zone, args.delete).await.map_err(finding)?;
    let Some(first) = left.first() else {
        output::zones::print_import(context, args.into.as_str(), changes, true)?;
        return Ok(Status::Done);
    };
    let first = format!("{} {}", first.name, first.code);
    let apex = &engine.desired().zone(id).name;
    Err(Finding::zone(apex, ZoneCause::ImportWithoutEffect { differing: left.len(), first }).into())
}
