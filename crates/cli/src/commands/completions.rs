//! `pindrel completions`

use clap::{Args, CommandFactory as _};
use clap_complete::Shell;

use crate::args::Cli;
use crate::error::{CliError, Status};

/// Write the completions for a shell
///
/// For example, for bash: pindrel completions bash > ~/.local/share/bash-completion/completions/pindrel
#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

pub(crate) fn run(args: &CompletionsArgs) -> Result<Status, CliError> {
    // The generator panics when its writer fails, so it writes into memory.
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "pindrel", &mut text);
    std::io::Write::write_all(&mut std::io::stdout(), &text)?;
    Ok(Status::Done)
}
