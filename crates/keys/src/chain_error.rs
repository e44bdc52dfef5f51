//! What can be wrong with a chain.

use jiff::Timestamp;
use pindrel_core::names::name::Hostname;

/// Why a chain is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ChainError {
    /// There is no certificate in the text, or one cannot be read.
    #[error("it cannot be read: {0}")]
    Unreadable(String),
    /// The leaf is for another key.
    #[error("its key is not the one that Pindrel made")]
    OtherKey,
    /// A name is missing.
    #[error("it does not cover {0}")]
    NameMissing(Hostname),
    /// It is not valid at this time.
    #[error("it is valid from {0} to {1}, which does not include now; compare the clocks")]
    NotNow(Timestamp, Timestamp),
    /// It does not lead to a trusted root.
    #[error("it does not end at a trusted root: {0}")]
    Untrusted(String),
    /// A certificate that leads to a root is not there.
    #[error("the intermediate certificate \"{0}\" is missing, and no trusted root has that name")]
    IntermediateMissing(String),
    /// A key or signature is too weak.
    #[error("{0}")]
    Weak(String),
}
