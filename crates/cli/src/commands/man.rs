//! `pindrel man`

use std::path::PathBuf;

use clap::Args;

use crate::error::{CliError, Status};

/// Write the manual pages
///
/// Without --folder the page of pindrel itself goes to standard output, to be read with
/// `man -l -`.
#[derive(Debug, Args)]
pub(crate) struct ManArgs {
    /// Write the pages of all commands into this folder
    #[arg(long, value_name = "PATH")]
    folder: Option<PathBuf>,
}

pub(crate) fn run(args: &ManArgs, program: clap::Command) -> Result<Status, CliError> {
    match &args.folder {
        None => clap_mangen::Man::new(program).render(&mut std::io::stdout())?,
        Some(folder) => {
            std::fs::create_dir_all(folder)
                .and_then(|()| clap_mangen::generate_to(program, folder))
                .map_err(|error| CliError::file(folder, "written", &error))?;
        }
    }
    Ok(Status::Done)
}
