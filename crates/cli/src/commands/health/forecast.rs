//! `pindrel health forecast`

use clap::Args;

use super::without_checks;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Say what the checks cost, and how long users suffer when an endpoint fails
///
/// For each check: the requests a month, the time until a failure is seen (interval × threshold,
/// and the timeout), the time until the new answer is on all servers, and the TTL for which caches may
/// give the old one. The sum is what users suffer.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel health forecast
  pindrel health forecast --format json")]
pub(crate) struct ForecastArgs {}

pub(super) async fn run(context: &Context, _args: &ForecastArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    if engine.desired().checks.is_empty() {
        return Err(without_checks());
    }
    output::health::print_forecast(context, &engine.health.forecast().await?)?;
    Ok(Status::Done)
}
