//! `pindrel state`

mod journal;

use clap::Subcommand;

use crate::context::Context;
use crate::error::{CliError, Status};

/// Look into the state: journal
#[derive(Debug, Subcommand)]
pub(crate) enum StateCommand {
    Journal(journal::JournalArgs),
}

pub(crate) async fn run(context: &Context, command: &StateCommand) -> Result<Status, CliError> {
    let StateCommand::Journal(args) = command;
    journal::run(context, args).await
}
