//! `pindrel state reassign`

use clap::Args;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Make the state one of this manifest and these values
///
/// A state remembers which manifest it is of, and with which file of --values: with another one, whatever the first
/// wants would look left over. This is for a file of values that was renamed, and for a manifest that takes the place of
/// another one.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel state reassign
  pindrel --values production.toml state reassign")]
pub(crate) struct ReassignArgs {}

pub(super) async fn run(context: &Context, _args: &ReassignArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    context.load_to_look()?;
    output::journal::print_origin(context, &context.reassign().await?)?;
    Ok(Status::Done)
}
