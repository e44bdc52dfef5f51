//! `pindrel health`

mod forecast;
mod history;
mod hold;
mod list;
mod run;

use clap::Subcommand;
use pindrel_core::desired::{CheckId, Desired};

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;

/// Check endpoints and what they depend on: run, list, history, forecast, hold
#[derive(Debug, Subcommand)]
pub(crate) enum HealthCommand {
    Run(run::RunArgs),
    List(list::ListArgs),
    History(history::HistoryArgs),
    Forecast(forecast::ForecastArgs),
    Hold(hold::HoldArgs),
}

impl HealthCommand {
    /// The list, as the demo shows it.
    pub(crate) fn list() -> HealthCommand {
        HealthCommand::List(list::ListArgs {})
    }
}

pub(crate) async fn run(context: &Context, command: &HealthCommand) -> Result<Status, CliError> {
    match command {
        HealthCommand::Run(args) => run::run(context, args).await,
        HealthCommand::List(args) => list::run(context, args).await,
        HealthCommand::History(args) => history::run(context, args).await,
        HealthCommand::Forecast(args) => forecast::run(context, args).await,
        HealthCommand::Hold(args) => hold::run(context, args).await,
    }
}

/// Returns the check that was asked for.
fn named(desired: &Desired, name: &str) -> Result<CheckId, CliError> {
    desired.check_ids().find(|id| desired.check(*id).name == name).ok_or_else(|| {
        if desired.checks.is_empty() {
            return without_checks();
        }
        let says = format!("the manifest has no health check \"{name}\"");
        names::unknown(says, name, desired.checks.iter().map(|check| check.name.as_str()), "pindrel health list")
    })
}

/// The error that the manifest has no health checks.
fn without_checks() -> CliError {
    CliError::Usage {
        says: "the manifest has no health checks".into(),
        remedy: "Add one to an endpoint: health = \"https://queue.larkfield.example/ready\"".into(),
    }
}
