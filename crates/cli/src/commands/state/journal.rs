//! `pindrel state journal`

use clap::{Args, ValueEnum};
use jiff::Timestamp;
use pindrel_engine::{JournalFilter, Moment};

use crate::args::{Since, parse_since};
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Show what was done, when, and how it ended
///
/// Every step and every request that changes something is written down before it begins and
/// after it ends. Entries are kept for ninety days.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel state journal --since 1d
  pindrel state journal --about api.larkfield.example --moment failed
  pindrel state journal --action order-ask --most 10 --format json")]
pub(crate) struct JournalArgs {
    /// Only entries since this time, or of this last while: 2026-11-24T01:00:00Z, 90m, 7d
    #[arg(long, value_name = "TIME", value_parser = parse_since)]
    since: Option<Since>,

    /// Only entries about this hostname, certificate or directory URL
    #[arg(long, value_name = "NAME")]
    about: Option<String>,

    /// Only entries of this action, such as issue, bind or order-finalize
    #[arg(long, value_name = "ACTION")]
    action: Option<String>,

    /// Only entries of this moment
    #[arg(long, value_name = "MOMENT")]
    moment: Option<MomentArg>,

    /// The newest so many entries
    #[arg(long, value_name = "N", default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    most: u32,
}

/// A moment of a step.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum MomentArg {
    /// It was about to begin
    Begun,
    /// It was done
    Done,
    /// It was put off to a later run
    Waiting,
    /// It failed
    Failed,
}

pub(super) async fn run(context: &Context, args: &JournalArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let since = args.since.map(|since| since.before(Timestamp::now()));
    let moment = args.moment.map(|moment| match moment {
        MomentArg::Begun => Moment::Begun,
        MomentArg::Done => Moment::Done,
        MomentArg::Waiting => Moment::Waiting,
        MomentArg::Failed => Moment::Failed,
    });
    // One more tells whether there are more.
    let most = args.most.saturating_add(1);
    let filter = JournalFilter { since, action: args.action.clone(), subject: args.about.clone(), moment, most };
    let mut entries = engine.journal_entries(&filter).await?;
    let is_cut = entries.len() > args.most as usize;
    if is_cut {
        entries.remove(0);
    }
    output::journal::print(context, &entries, is_cut)?;
    Ok(Status::Done)
}
