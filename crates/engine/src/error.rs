//! What stops a whole run, and what stops one step.

use pindrel_acme::TransportError;
use pindrel_core::acme::order::OrderError;
use pindrel_core::display_text::one_line;
use pindrel_core::values::SecretRef;
use pindrel_dns::UpdateError;
use pindrel_edge::EdgeError;
use pindrel_keys::{KeyError, SealError};
use pindrel_state::StateError;

/// Why a run could not begin or go on.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The state cannot be read or written.
    #[error(transparent)]
    State(#[from] StateError),
    /// A secret in the state cannot be sealed or opened.
    #[error(transparent)]
    Seal(#[from] SealError),
    /// The sealing key is not the one that the state was made with.
    #[error("the sealing key {given} is not the one that this state was made with ({made_with})")]
    WrongSealingKey {
        /// The id of the key given.
        given: String,
        /// The id of the key that the state was made with.
        made_with: String,
    },
    /// The sealing key's file cannot be read or made.
    #[error("the sealing key {path} cannot be used")]
    SealingKey {
        /// The file.
        path: std::path::PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// Others can read the sealing key's file.
    #[error("the sealing key {path} has mode {mode:o}, so others can read it")]
    SealingKeyOpen {
        /// The file.
        path: std::path::PathBuf,
        /// Its permission bits.
        mode: u32,
    },
}

impl EngineError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> &'static str {
        match self {
            EngineError::State(StateError::Newer { .. }) => {
                "use a Pindrel at least as new as the one that wrote the state"
            }
            EngineError::State(StateError::Torn { .. }) => "restore the state from its backup",
            EngineError::State(_) => "see that the file and its folder can be written and the disk is not full",
            EngineError::WrongSealingKey { .. } | EngineError::Seal(SealError::OtherKey { .. }) => {
                "give the key that the state was made with: beside the state in sealing.key, or in PINDREL_SEALING_KEY"
            }
            EngineError::SealingKey { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
                "restore sealing.key from its backup, or give the key in PINDREL_SEALING_KEY"
            }
            EngineError::SealingKey { .. } => "see that the folder can be written and the disk is not full",
            EngineError::SealingKeyOpen { .. } => "make it its owner's alone: chmod 600",
            EngineError::Seal(_) => "restore the state and its sealing.key from the same backup",
        }
    }
}

/// Why one step came to nothing: a sentence and a remedy for the person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepFailure {
    /// What went wrong.
    pub says: String,
    /// What to do.
    pub remedy: String,
}

impl StepFailure {
    pub(crate) fn new(says: impl Into<String>, remedy: impl Into<String>) -> StepFailure {
        StepFailure { says: one_line(says), remedy: one_line(remedy) }
    }

    pub(crate) fn secret(reference: &SecretRef, why: &str) -> StepFailure {
        StepFailure::new(
            format!("the secret at {reference} cannot be read: {why}"),
            "put the secret where the manifest says",
        )
    }
}

macro_rules! failure_from {
    ($($error:ty),+) => {
        $(impl From<$error> for StepFailure {
            fn from(error: $error) -> StepFailure {
                StepFailure::new(error.to_string(), error.remedy())
            }
        })+
    };
}
failure_from!(TransportError, OrderError, UpdateError, EdgeError);

impl From<EngineError> for StepFailure {
    fn from(error: EngineError) -> StepFailure {
        let cause = std::error::Error::source(&error).map_or(String::new(), |source| format!(": {source}"));
        StepFailure::new(format!("{error}{cause}"), error.remedy())
    }
}

impl From<StateError> for StepFailure {
    fn from(error: StateError) -> StepFailure {
        EngineError::from(error).into()
    }
}

impl From<SealError> for StepFailure {
    fn from(error: SealError) -> StepFailure {
        EngineError::from(error).into()
    }
}

impl From<KeyError> for StepFailure {
    fn from(error: KeyError) -> StepFailure {
        StepFailure::new(error.to_string(), "restore the state from its backup")
    }
}
