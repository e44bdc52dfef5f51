//! The command line of Pindrel: arguments, output, progress, one file a command.
//!
//! A command gathers its inputs, calls the engine or the core, and hands what comes
//! back to [`output`]; it does not format. Results go to standard output, progress and
//! logs to standard error, and every ending maps to one exit status ([`error`]).

mod args;
mod commands;
mod context;
mod error;
mod output;

use std::process::ExitCode;

use clap::Parser as _;

use crate::args::Cli;
use crate::context::Context;
use crate::error::Status;

/// Runs the program with the arguments and the environment of this process.
pub fn main() -> ExitCode {
    let cli = Cli::parse();
    let context = Context::new(&cli.common);
    let ended = commands::run(&context, cli.command);
    let status = match ended {
        Ok(status) => status,
        Err(error) if error.is_closed_pipe() => Status::Done,
        Err(error) => {
            output::errors::print(&context, &error);
            error.status()
        }
    };
    ExitCode::from(status)
}
