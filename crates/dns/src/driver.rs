//! The seam behind which zones are changed.

use async_trait::async_trait;
use pindrel_core::findings::{Code, Finding};
use pindrel_core::pin::Pin;
use pindrel_core::records::ZoneChange;

/// Changes one zone. Every change is verified by reading the server that took it; doing it
/// twice is the same as doing it once.
#[async_trait]
pub trait ZoneDriver: Send + Sync {
    /// Makes one change.
    ///
    /// # Errors
    /// [`ZoneError`]; nothing is changed then, or the next look tells.
    async fn change(&self, change: &ZoneChange) -> Result<(), ZoneError>;
}

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
        Finding::new(code, pin, says, remedy)
    }
}
