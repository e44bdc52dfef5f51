//! Why a zone was not changed, whatever changes it.

use pindrel_core::judging::findings::{Code, Finding, Report};
use pindrel_core::judging::pin::Pin;

/// Why a zone was not changed, whatever its driver. Each carries what its driver says of it,
/// as a sentence and a remedy.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.says())]
#[expect(missing_docs, reason = "the sentence and the remedy")]
pub enum ZoneError {
    /// Whoever takes changes could not be reached or read.
    Unreachable { says: String, remedy: String },
    /// The change was refused.
    Refused { says: String, remedy: String },
    /// The credential is not accepted.
    Credential { says: String, remedy: String },
    /// Something changed between looking and changing.
    Changed { says: String, remedy: String },
    /// The change was accepted, and nothing changed.
    WithoutEffect { says: String, remedy: String },
}

impl ZoneError {
    fn parts(&self) -> (Code, &str, &str) {
        match self {
            ZoneError::Unreachable { says, remedy } => (Code::ServerUnreachable, says, remedy),
            ZoneError::Refused { says, remedy } | ZoneError::Credential { says, remedy } => {
                (Code::UpdateRefused, says, remedy)
            }
            ZoneError::Changed { says, remedy } => (Code::RecordsChanged, says, remedy),
            ZoneError::WithoutEffect { says, remedy } => (Code::UpdateWithoutEffect, says, remedy),
        }
    }

    fn says(&self) -> &str {
        self.parts().1
    }

    /// Returns the finding that it is.
    pub fn finding(&self, pin: Pin) -> Finding {
        let (code, says, remedy) = self.parts();
        Finding::reported(Report::new(code, says, remedy).on(pin))
    }
}
