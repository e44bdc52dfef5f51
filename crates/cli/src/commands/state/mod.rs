//! `pindrel state`

mod journal;
mod runs;

use clap::Subcommand;

use crate::context::Context;
use crate::error::{CliError, Status};

/// Look into the state: journal, runs
#[derive(Debug, Subcommand)]
pub(crate) enum StateCommand {
    Journal(journal::JournalArgs),
    Runs(runs::RunsArgs),
}

pub(crate) async fn run(context: &Context, command: &StateCommand) -> Result<Status, CliError> {
    match command {
        StateCommand::Journal(args) => journal::run(context, args).await,
        StateCommand::Runs(args) => runs::run(context, args).await,
    }
}
