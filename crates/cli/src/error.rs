//! What a command can end with, and which exit status that is.

use std::borrow::Cow;
use std::process::ExitCode;

use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::manifest::{Diagnostic, Source};
use pindrel_core::text::display_text::io_reason;
use pindrel_engine::EngineError;

/// How the program ends. The table in `docs/exit-status.md` says the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Status {
    /// Done, all held, nothing to do.
    Done,
    /// Something failed.
    Failed,
    /// The command line or the manifest is wrong.
    Wrong,
    /// Nothing failed, but something is not held, or there are steps.
    NotHeld,
    /// A signal ended the run.
    Stopped(Signal),
}

/// What a run is stopped by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Signal {
    /// Ctrl-C.
    Interrupt,
    /// SIGTERM.
    Terminate,
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> ExitCode {
        ExitCode::from(match status {
            Status::Done => 0,
            Status::Failed => 1,
            Status::Wrong => 2,
            Status::NotHeld => 3,
            // As shells count the end by a signal.
            Status::Stopped(Signal::Interrupt) => 130,
            Status::Stopped(Signal::Terminate) => 143,
        })
    }
}

/// Why a command did not do what was asked.
#[derive(Debug, thiserror::Error)]
pub(crate) enum CliError {
    /// The manifest has mistakes.
    #[error("the manifest has mistakes")]
    Manifest(Box<Mistakes>),
    /// A zone file has mistakes.
    #[error("the zone file has mistakes")]
    ZoneFile(Box<ZoneMistakes>),
    /// The command line asks for what is not there.
    #[error("{says}")]
    Usage {
        /// What is wrong.
        says: String,
        /// What to write instead.
        remedy: String,
    },
    /// A file cannot be read or written.
    #[error("{path} cannot be {doing}: {why}")]
    File {
        /// The file.
        path: String,
        /// Read, written or made.
        doing: &'static str,
        /// Why.
        why: String,
    },
    /// The state cannot be used.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// What was asked for could not be done.
    #[error("{}", .0.says())]
    Finding(Box<Finding>),
    /// The sandbox did not start, or is not there.
    #[error("{says}")]
    Sandbox {
        /// What is wrong.
        says: String,
        /// What to do.
        remedy: String,
    },
    /// The output cannot be written.
    #[error("the output cannot be written")]
    Output(#[from] std::io::Error),
    /// A signal stopped the run.
    #[error("{}", interrupted(*.signal, .under_way))]
    Interrupted {
        /// Which.
        signal: Signal,
        /// The steps that it stopped.
        under_way: Vec<String>,
    },
    /// The manifest is not there.
    #[error("there is no manifest {path}")]
    NoManifest {
        /// Its path.
        path: String,
    },
    /// The manifest is not text that can be read.
    #[error("{path} is not UTF-8 text: {why}")]
    Encoding {
        /// Its path.
        path: String,
        /// What it is instead, or where it goes wrong.
        why: String,
        /// The line where it goes wrong, counted from one, where one does.
        line: Option<usize>,
    },
}

/// The mistakes of a zone file, with what is needed to show them.
#[derive(Debug)]
pub(crate) struct ZoneMistakes {
    /// What was read.
    pub(crate) files: pindrel_engine::zone_files::ReadFiles,
}

/// The mistakes of one manifest, with what is needed to show them.
#[derive(Debug)]
pub(crate) struct Mistakes {
    /// The text, with the files that it came from.
    pub(crate) source: Source,
    /// The mistakes, in the order of the text.
    pub(crate) errors: Vec<Diagnostic>,
    /// What stops nothing.
    pub(crate) warnings: Vec<Diagnostic>,
}

/// The most steps that are named when a run is stopped.
const MOST_NAMED: usize = 5;

fn interrupted(signal: Signal, under_way: &[String]) -> String {
    let by = match signal {
        Signal::Interrupt => "interrupted",
        Signal::Terminate => "stopped by SIGTERM",
    };
    match under_way {
        [] => format!("{by}; no step was under way"),
        steps => {
            let named = steps[..steps.len().min(MOST_NAMED)].join(", ");
            let more = match steps.len().saturating_sub(MOST_NAMED) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            format!("{by}; put off to the next run: {named}{more}")
        }
    }
}

impl From<Finding> for CliError {
    fn from(finding: Finding) -> CliError {
        CliError::Finding(Box::new(finding))
    }
}

impl CliError {
    /// Returns the exit status.
    pub(crate) fn status(&self) -> Status {
        match self {
            CliError::Manifest(_)
            | CliError::NoManifest { .. }
            | CliError::Encoding { .. }
            | CliError::Usage { .. }
            | CliError::Engine(EngineError::StateLocation { .. }) => Status::Wrong,
            CliError::Interrupted { signal, .. } => Status::Stopped(*signal),
            CliError::File { .. }
            | CliError::ZoneFile(_)
            | CliError::Engine(_)
            | CliError::Finding(_)
            | CliError::Sandbox { .. }
            | CliError::Output(_) => Status::Failed,
        }
    }

    /// Returns the stable word for it, as programs read it.
    pub(crate) fn code(&self) -> &'static str {
        match self {
            CliError::Manifest(_) => "manifest",
            CliError::ZoneFile(_) => "zone-file",
            CliError::Usage { .. } => "usage",
            CliError::File { .. } => "file",
            CliError::Engine(EngineError::StateLocation { .. }) => "usage",
            CliError::Engine(EngineError::Fault) => Code::InternalFault.as_str(),
            CliError::Engine(_) => Code::StateUnusable.as_str(),
            CliError::Finding(finding) => finding.code().as_str(),
            CliError::Sandbox { .. } => "sandbox",
            CliError::Output(_) => "output",
            CliError::Interrupted { .. } => "interrupted",
            CliError::NoManifest { .. } => "no-manifest",
            CliError::Encoding { .. } => "encoding",
        }
    }

    /// Returns the file that it is about, and the line in it, counted from one.
    pub(crate) fn place(&self) -> (Option<&str>, Option<usize>) {
        match self {
            CliError::File { path, .. } | CliError::NoManifest { path } => (Some(path), None),
            CliError::Encoding { path, line, .. } => (Some(path), *line),
            _ => (None, None),
        }
    }

    /// Returns what to do about it.
    pub(crate) fn remedy(&self) -> Cow<'_, str> {
        Cow::Borrowed(match self {
            CliError::Manifest(_) | CliError::ZoneFile(_) => "Correct them",
            CliError::Usage { remedy, .. } | CliError::Sandbox { remedy, .. } => remedy,
            CliError::File { .. } => "Check the path and its permissions",
            CliError::Engine(error) => error.remedy(),
            CliError::Finding(finding) => return Cow::Owned(finding.remedy()),
            CliError::Output(_) => "Make sure that the disk is not full",
            CliError::Interrupted { .. } => "Run settle: it resumes where this run stopped",
            CliError::NoManifest { .. } => {
                "Name it with --manifest, write one with: pindrel init; or see the whole job with: pindrel demo"
            }
            CliError::Encoding { .. } => "Save it as UTF-8",
        })
    }

    /// Says whether the reader of the output went away, which is no error.
    pub(crate) fn is_closed_pipe(&self) -> bool {
        matches!(self, CliError::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe)
    }

    /// Says that a file cannot be used.
    pub(crate) fn file(path: &std::path::Path, doing: &'static str, error: &std::io::Error) -> CliError {
        CliError::File { path: path.display().to_string(), doing, why: io_reason(error) }
    }
}
