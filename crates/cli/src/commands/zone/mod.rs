//! `pindrel zone`

mod check;
mod compare;
mod conformance;
mod export;
mod import;
mod list;
mod show;
mod sides;
mod watch;

use clap::Subcommand;

use crate::context::Context;
use crate::error::{CliError, Status};

/// Look at zones: list, show, watch a change spread; check, compare, export and import whole ones
#[derive(Debug, Subcommand)]
pub(crate) enum ZoneCommand {
    List(list::ListArgs),
    Check(check::CheckArgs),
    Export(export::ExportArgs),
    Compare(compare::CompareArgs),
    Import(import::ImportArgs),
    Show(show::ShowArgs),
    Watch(watch::WatchArgs),
    Conformance(conformance::ConformanceArgs),
}

pub(crate) async fn run(context: &Context, command: &ZoneCommand) -> Result<Status, CliError> {
    match command {
        ZoneCommand::List(args) => list::run(context, args).await,
        ZoneCommand::Check(args) => check::run(context, args).await,
        ZoneCommand::Export(args) => export::run(context, args).await,
        ZoneCommand::Compare(args) => compare::run(context, args).await,
        ZoneCommand::Show(args) => show::run(context, args).await,
        ZoneCommand::Watch(args) => watch::run(context, args).await,
        ZoneCommand::Conformance(args) => conformance::run(context, args).await,
        ZoneCommand::Import(args) => import::run(context, args).await,
    }
}
