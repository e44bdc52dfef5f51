//! `pindrel check`

use clap::Args;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Read the manifest and report every mistake with its place
///
/// Nothing outside this machine is asked. Secrets and root certificates that the
/// manifest refers to are read, and never shown.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct CheckArgs {}

pub(crate) fn run(context: &Context, _args: &CheckArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (desired, mistakes) = context.examine()?;
    output::diagnostics::print(context, &desired, &mistakes)?;
    Ok(if mistakes.errors.is_empty() { Status::Done } else { Status::Wrong })
}
