//! `pindrel zone compare`

use clap::Args;
use pindrel_core::judging::name_servers::hindrance;
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::zone_data::{Compared, compare};

use super::sides::{ReadArgs, Side};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// Show what differs between two zones, by record sets
///
/// Each side is a zone file, a zone of the manifest as its servers have it, ZONE@SERVER for one
/// server, or the word `manifest` for the alias records that the manifest wants. The order of
/// records, how they are written, the serial and signatures do not count.
///
/// Between two servers of one zone it is also said what comes of a change of name servers from the
/// left to the right one: what would be lost, the NS set for the zone above, until when the old
/// servers have to go on serving, and whether a signed zone stays valid.
///
/// Exit status: 0 no difference, 3 a difference, 1 a side cannot be read.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone compare larkfield.example.zone larkfield.example
  pindrel zone compare larkfield.example@192.0.2.53 larkfield.example@198.51.100.53
  pindrel zone compare manifest larkfield.example
  pindrel zone compare old.zone new.zone --origin larkfield.example --ttls --format json")]
pub(crate) struct CompareArgs {
    /// The left side, such as what is
    #[arg(value_name = "LEFT")]
    left: Side,

    /// The right side, such as what shall be
    #[arg(value_name = "RIGHT")]
    right: Side,

    #[command(flatten)]
    reading: ReadArgs,

    /// Compare TTLs as well
    #[arg(long)]
    ttls: bool,

    /// Compare the serial and what signing made as well
    #[arg(long)]
    all: bool,
}

pub(super) async fn run(context: &Context, args: &CompareArgs) -> Result<Status, CliError> {
    let zone = args.right.zone().or_else(|| args.left.zone());
    let left = args.left.read(context, &args.reading, zone.as_ref()).await?;
    let right = args.right.read(context, &args.reading, zone.as_ref()).await?;
    let mut differences = compare(&left.data, &right.data, Compared { all: args.all, ttls: args.ttls });
    for (side, read) in [(&args.left, &left), (&args.right, &right)] {
        // What was not looked at does not differ.
        if let Some(part) = &read.partial {
            differences.retain(|one| part.names.contains(&one.name));
        }
        // The manifest speaks of aliases alone.
        if side.is_manifest() {
            differences.retain(|one| read.data.at(&one.name).any(|entry| entry.code == one.code));
        }
    }
    let change = args.name_server_change(context).await?;
    output::zones::print_differences(context, (&left, &right), &differences, args.ttls, change.as_ref())?;
    let is_hindered = change.is_some_and(|change| hindrance(&change).is_some());
    Ok(if differences.is_empty() && !is_hindered { Status::Done } else { Status::NotHeld })
}

impl CompareArgs {
    /// What a change from one server of a zone to another brings, where both sides are such.
    async fn name_server_change(&self, context: &Context) -> Result<Option<NameServerChange>, CliError> {
        let (Side::Zone(name, from), Side::Zone(other, to)) = (&self.left, &self.right) else { return Ok(None) };
        if name != other || from == to {
            return Ok(None);
        }
        let (engine, _) = context.engine().await?;
        let id = names::zone(engine.desired(), name)?;
        Ok(Some(engine.zones.name_server_change(id, [*from, *to]).await?))
    }
}

impl output::zones::Source for super::sides::Read {
    fn from(&self) -> &str {
        &self.from
    }

    fn partial(&self) -> Option<&str> {
        self.partial.as_ref().map(|part| &*part.why)
    }

    fn len(&self) -> usize {
        self.data.len()
    }
}
