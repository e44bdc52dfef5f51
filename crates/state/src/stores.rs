//! The copies of certificates that were put into the stores of sites.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::values::Fingerprint;

use crate::StateError;

/// A copy of a certificate in the store of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoredCopy {
    /// The base URL of the platform.
    pub platform: String,
    /// The site whose store it is in.
    pub site: String,
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The certificate's name in the manifest.
    pub certificate: String,
}

/// What a state knows of copies in stores.
#[async_trait]
pub trait Stores {
    /// Notes that a copy is about to be put into a store, where it is wanted.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written.
    async fn record_copy(&self, copy: &StoredCopy) -> Result<(), StateError>;
    /// Notes that what used a copy is gone, so that it may go too.
    async fn release_copy(&self, platform: &str, site: &str, sha256: Fingerprint) -> Result<(), StateError>;
    /// Returns the copies that may go, of released and of replaced certificates, as far as none was
    /// tried to be removed since `since`.
    async fn copies_to_remove(&self, since: Timestamp) -> Result<Vec<StoredCopy>, StateError>;
    /// Notes that a copy could not be removed yet.
    async fn keep_copy(&self, copy: &StoredCopy, tried: Timestamp) -> Result<(), StateError>;
    /// Forgets a copy that is gone.
    async fn forget_copy(&self, copy: &StoredCopy) -> Result<(), StateError>;
}
