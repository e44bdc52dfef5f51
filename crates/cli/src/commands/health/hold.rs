//! `pindrel health hold`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;

use crate::args::{Until, parse_until};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output::log;

/// Take an endpoint out of answers, as for maintenance, or give it back
///
/// Hostnames with several endpoints are no longer led to it, from the next decision on: `keep`
/// sees it within seconds, `settle` when it runs. It stays bound, and is still checked. It comes
/// back at the time that is named, or with --release.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel health hold queue-north --until 2h --because \"new disks\"
  pindrel health hold queue-north --release")]
pub(crate) struct HoldArgs {
    /// The endpoint's name in the manifest
    #[arg(value_name = "ENDPOINT", add = ArgValueCandidates::new(completion::endpoints))]
    endpoint: String,

    /// Until this time, or for this long: 2026-11-24T05:00:00Z, 2h; until it is released where not given
    #[arg(long, value_name = "TIME", value_parser = parse_until)]
    until: Option<Until>,

    /// Why
    #[arg(long, value_name = "TEXT", required_unless_present = "release")]
    because: Option<String>,

    /// Give it back
    #[arg(long, conflicts_with_all = ["until", "because"])]
    release: bool,
}

pub(super) async fn run(context: &Context, args: &HoldArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let engine = context.changing_engine("health hold").await?;
    let name = &args.endpoint;
    if args.release {
        let was_held = engine.health.release_endpoint(name).await?;
        let says = if was_held { "is given back to answers" } else { "was not held" };
        log::say(&format!("{name} {says}"));
        return Ok(Status::Done);
    }
    let until = args.until.map(|until| until.after(Timestamp::now()));
    if until.is_some_and(|until| until <= Timestamp::now()) {
        let (says, remedy) = ("that time is over already".into(), "Name a time to come, or a span such as 2h".into());
        return Err(CliError::Usage { says, remedy });
    }
    let because = args.because.as_deref().unwrap_or_default().trim();
    if because.is_empty() {
        let (says, remedy) = ("no reason is given".into(), "Say why, as in --because \"new disks\"".into());
        return Err(CliError::Usage { says, remedy });
    }
    engine.health.hold_endpoint(name, until, because).await?;
    let end = until.map_or_else(|| "until it is released".to_owned(), |until| format!("until {until:.0}"));
    log::say(&crate::output::for_people_now(&format!("{name} is held out of answers {end}: {because}")));
    Ok(Status::Done)
}
