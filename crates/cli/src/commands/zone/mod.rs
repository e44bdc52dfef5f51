//! `pindrel zone`

mod check;
mod compare;
mod conformance;
mod export;
mod import;
mod list;
mod sides;

use clap::Subcommand;

use crate::context::Context;
use crate::error::{CliError, Status};

/// Look at whole zones: list, check, export, compare, import, conformance
#[derive(Debug, Subcommand)]
pub(crate) enum ZoneCommand {
    List(list::ListArgs),
    Check(check::CheckArgs),
    Export(export::ExportArgs),
    Compare(compare::CompareArgs),
    Import(import::ImportArgs),
    Conformance(conformance::ConformanceArgs),
}

pub(crate) async fn run(context: &Context, command: &ZoneCommand) -> Result<Status, CliError> {
    match command {
        ZoneCommand::List(args) => list::run(context, args).await,
        ZoneCommand::Check(args) => check::run(context, args).await,
        ZoneCommand::Export(args) => export::run(context, args).await,
        ZoneCommand::Compare(args) => compare::run(context, args).await,
        ZoneCommand::Conformance(args) => conformance::run(context, args).await,
        ZoneCommand::Import(args) => import::run(context, args).await,
    }
}
