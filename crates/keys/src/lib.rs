//! Keys and certificates: generation, signing, signing requests, sealing, and the
//! reading and checking of what an authority issued.
//!
//! This crate does no I/O but for [`roots::public`], which reads the system's roots.
//! Private keys leave it only sealed ([`seal`]) or on their way to an endpoint.

mod account;
pub mod bundle;
mod certificate;
mod chain;
mod chain_error;
mod details;
mod distrust;
pub mod pem;
pub mod roots;
mod seal;

pub use account::{AccountKey, external_mac};
pub use certificate::CertificateKey;
pub use chain::Chain;
pub use chain_error::ChainError;
pub use details::{Details, Extension, details};
pub use distrust::{distrust_in, untrusted};
pub use seal::{SealError, Sealed, SealingKey};

/// Why a key could not be made or used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// The bytes are no key of this kind.
    #[error("the stored private key cannot be read")]
    Unreadable,
    /// The system gave no randomness, or a signature failed.
    #[error("the cryptographic library could not {0}")]
    Failed(&'static str),
    /// A key that came from elsewhere cannot be used.
    #[error("{0}")]
    Foreign(String),
    /// A certificate signing request could not be built.
    #[error("the signing request could not be built")]
    Request(#[source] rcgen::Error),
}
