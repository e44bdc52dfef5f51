//! `pindrel completions`

use clap::Args;
use clap_complete::Shell;

use crate::error::{CliError, Status};

/// Write the completions for a shell
///
/// For example, for bash: pindrel completions bash > ~/.local/share/bash-completion/completions/pindrel
#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

pub(crate) fn run(args: &CompletionsArgs, mut program: clap::Command) -> Result<Status, CliError> {
    // The generator panics when its writer fails, so it writes into memory.
    let mut text = Vec::new();
    clap_complete::generate(args.shell, &mut program, "pindrel", &mut text);
    std::io::Write::write_all(&mut std::io::stdout(), &text)?;
    Ok(Status::Done)
}
