//! `pindrel completions`

use clap::Args;
use clap_complete::Shell;
use clap_complete::env::Shells;

use crate::completion::VARIABLE;
use crate::error::{CliError, Status};

/// Write the completions for a shell
///
/// For example, for bash: pindrel completions bash > ~/.local/share/bash-completion/completions/pindrel
///
/// The shell then asks the program itself, so that it also offers the hostnames and certificates of
/// the manifest that the line is about.
#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    shell: Shell,
}

pub(crate) fn run(args: &CompletionsArgs) -> Result<Status, CliError> {
    let mut text = Vec::new();
    if let Some(shell) = Shells::builtins().completer(&args.shell.to_string()) {
        shell.write_registration(VARIABLE, "pindrel", "pindrel", "pindrel", &mut text)?;
    }
    std::io::Write::write_all(&mut std::io::stdout(), &text)?;
    Ok(Status::Done)
}
