//! `pindrel health history`

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;

use super::named;
use crate::args::{Since, parse_since};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Show when a check's verdict changed and what failed, and draw its latencies over time
///
/// Results are kept by the minute for two hours, by ten minutes for two days and by the hour
/// for ninety days; verdict changes and failures with their times for ninety days.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel health history queue-north
  pindrel health history queue-north --since 7d --format csv
  pindrel health history queue-north --since 2h --png queue-north.png")]
pub(crate) struct HistoryArgs {
    /// The check, as `health list` names it
    #[arg(value_name = "NAME", add = ArgValueCandidates::new(completion::checks))]
    name: String,

    /// From this time on, or of this last while: 2026-11-24T01:00:00Z, 90m, 7d
    #[arg(long, value_name = "TIME", default_value = "1d", value_parser = parse_since)]
    since: Since,

    /// Draw latencies, failures and verdicts into this file
    #[arg(long, value_name = "FILE")]
    svg: Option<PathBuf>,

    /// The same as a picture of 1280 by 800
    #[arg(long, value_name = "FILE")]
    png: Option<PathBuf>,
}

pub(super) async fn run(context: &Context, args: &HistoryArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let id = named(engine.desired(), &args.name)?;
    let now = Timestamp::now();
    let since = args.since.before(now);
    let history = engine.health.history(id, since).await?;
    let drawn = [(&args.svg, output::plot::svg as output::plot::Draw), (&args.png, output::plot::png)];
    for (file, draw) in drawn.into_iter().filter_map(|(file, draw)| Some((file.as_ref()?, draw))) {
        let bytes = draw(&history, since, now).map_err(|why| CliError::Usage {
            says: format!("the history cannot be drawn: {why}"),
            remedy: "Choose a longer time with --since".into(),
        })?;
        output::plot::write(file, &bytes)?;
    }
    if args.svg.is_none() && args.png.is_none() {
        output::health::print_history(context, &history)?;
    }
    Ok(Status::Done)
}
