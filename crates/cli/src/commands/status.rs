//! `pindrel status`

use std::sync::Arc;

use clap::Args;
use pindrel_core::name::Hostname;

use crate::args::{MAX_AGE_SECS, RunBounds};
use crate::context::{Context, bounds};
use crate::error::{CliError, Status};
use crate::output;

/// Show the five pins of every hostname
///
/// Facts that are older than --max-age are looked at again; nothing is changed. A
/// hostname is held when all five pins are: zone, certificate, binding, alias, answer.
///
/// Exit status: 0 all held, 3 something is not.
#[derive(Debug, Clone, Args)]
pub(crate) struct StatusArgs {
    /// Show this hostname only; may be repeated
    #[arg(long, value_name = "HOSTNAME")]
    pub(crate) only: Vec<Hostname>,

    /// Show only hostnames with this label; may be repeated, and then all must be there
    #[arg(long, value_name = "LABEL")]
    pub(crate) label: Vec<String>,

    /// Look again at what was seen longer ago than this many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = MAX_AGE_SECS, env = "PINDREL_MAX_AGE")]
    pub(crate) max_age: u64,
}

impl Default for StatusArgs {
    fn default() -> Self {
        StatusArgs { only: Vec::new(), label: Vec::new(), max_age: MAX_AGE_SECS }
    }
}

pub(crate) async fn run(context: &Context, args: &StatusArgs) -> Result<Status, CliError> {
    let loaded = context.load()?;
    output::diagnostics::warn(&loaded.mistakes);
    let mut scope = loaded.hostnames(&args.only)?;
    scope.retain(|id| args.label.iter().all(|label| loaded.desired.hostname(*id).labels.contains(label)));
    let engine = loaded.engine(context.home().await?, bounds(args.max_age, RunBounds::default()), Arc::new(())).await?;
    let report = engine.status(&scope).await?;
    output::status::print(context, &report)?;
    let held = report.hostnames.iter().all(|hostname| hostname.pins.held());
    Ok(if held { Status::Done } else { Status::NotHeld })
}
