//! `pindrel state`

mod journal;
mod reassign;
mod runs;

use clap::Subcommand;

use crate::context::Context;
use crate::error::{CliError, Status};

/// Look into the state, and say which manifest it is of: journal, runs, reassign
#[derive(Debug, Subcommand)]
pub(crate) enum StateCommand {
    Journal(journal::JournalArgs),
    Runs(runs::RunsArgs),
    Reassign(reassign::ReassignArgs),
}

pub(crate) async fn run(context: &Context, command: &StateCommand) -> Result<Status, CliError> {
    match command {
        StateCommand::Journal(args) => journal::run(context, args).await,
        StateCommand::Runs(args) => runs::run(context, args).await,
        StateCommand::Reassign(args) => reassign::run(context, args).await,
    }
}
