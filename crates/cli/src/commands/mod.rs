//! One file a command.

pub(crate) mod account;
pub(crate) mod adopt;
pub(crate) mod cert;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod init;
pub(crate) mod man;
pub(crate) mod sandbox;
pub(crate) mod schema;
pub(crate) mod settle;
pub(crate) mod status;

use crate::args::Command;
use crate::context::Context;
use crate::error::{CliError, Status};

/// Runs one command.
pub(crate) fn run(context: &Context, command: Command) -> Result<Status, CliError> {
    match command {
        Command::Init(args) => init::run(context, &args),
        Command::Check(args) => check::run(context, &args),
        Command::Settle(args) => settle::run(context, &args),
        Command::Cert(command) => cert::run(context, &command),
        Command::Account(command) => account::run(context, &command),
        Command::Adopt(command) => adopt::run(context, &command),
        Command::Status(args) => status::run(context, &args),
        Command::Sandbox(command) => sandbox::run(context, command),
        Command::Demo(args) => demo::run(context, &args),
        Command::Schema(args) => schema::run(context, &args),
        Command::Completions(args) => completions::run(&args),
        Command::Man(args) => man::run(&args),
    }
}
