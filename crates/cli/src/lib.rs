//! The command line of Pindrel: arguments, output, progress, one file a command.
//!
//! A command gathers its inputs, calls the engine or the core, and hands what comes
//! back to [`output`]; it does not format. Results go to standard output, progress and
//! logs to standard error, and every ending maps to one exit status ([`error`]).

mod args;
mod commands;
mod completion;
mod context;
mod demo_manifest;
mod engines;
mod environment;
mod error;
mod examine;
mod last_good;
mod names;
mod origin;
mod output;
mod signals;
mod supervisor;
mod watching;

use std::process::ExitCode;

use clap::{CommandFactory as _, FromArgMatches as _, Parser};

use pindrel_engine::drivers::{OPEN_PKCS12, open_pkcs12_confined};

use crate::args::Common;
use crate::commands::Command;
use crate::context::{Context, block_on};
use crate::error::Status;

/// Holds custom hostnames in place: certificate, binding, alias, answer.
///
/// One manifest says which hostnames should lead to which API gateways, CDN
/// distributions and load-balanced endpoints. Pindrel issues the certificates, binds
/// the names, makes the alias records in the order that protects traffic, and verifies
/// each by looking at the world.
#[derive(Debug, Parser)]
#[command(name = "pindrel", version, propagate_version = true, max_term_width = 100)]
#[command(
    after_help = "To see it work, with nothing to set up:  pindrel demo\nExit status: 0 done or held, 1 something failed, 2 the command line or the manifest is wrong,\n3 nothing failed but something is not held, 101 a bug in Pindrel,\n130 and 143 stopped by Ctrl-C or SIGTERM.\nEvery option can be an environment variable: --dry-run is PINDREL_DRY_RUN=1, --only A --only B is PINDREL_ONLY=A,B."
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) common: Common,
}

/// The whole command line.
fn program() -> clap::Command {
    environment::with_variables(commands::all(Cli::command()))
}

/// What is typed, once it is understood.
fn understood(matches: &clap::ArgMatches) -> Result<(Cli, Command), clap::Error> {
    Ok((Cli::from_arg_matches(matches)?, Command::from_arg_matches(matches)?))
}

/// Runs the program with the arguments and the environment of this process.
pub fn main() -> ExitCode {
    // Run by itself, to read what others made without any rights.
    if std::env::args_os().nth(1).is_some_and(|first| first == OPEN_PKCS12) {
        return open_pkcs12_confined();
    }
    completion::answer_shell(program);
    let typed: Vec<_> = std::env::args_os().collect();
    let mut command = environment::with_variables(commands::typed(Cli::command(), &typed));
    let matches = command.try_get_matches_from_mut(&typed);
    let (cli, command) = match matches.and_then(|matches| understood(&matches)) {
        Ok(understood) => understood,
        Err(error) => {
            let error = environment::explained(error, &command, &typed);
            if error.use_stderr() && environment::wants_json(&typed) {
                output::errors::print_usage(&error);
                return Status::Wrong.into();
            }
            error.exit()
        }
    };
    let context = Context::new(&cli.common);
    output::notes::warn(&environment::misspelt(program));
    let ended = block_on(commands::run(&context, command, program));
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
