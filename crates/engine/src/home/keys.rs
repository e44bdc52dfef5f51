//! The keys of certificates, sealed in the state.

use std::sync::Arc;

use pindrel_core::judging::findings::{CertificateCause, Finding};
use pindrel_keys::{CertificateKey, Chain};
use pindrel_state::{CertificateRow, SealedBytes};
use secrecy::ExposeSecret as _;

use crate::context::Context;
use crate::failure::{key_failed, seal_failed};

/// The row that a certificate key is sealed for: the same for the order and for the
/// certificate that it becomes.
pub(crate) fn key_row(certificate: &str, directory: &str) -> String {
    format!("certificate/{certificate}/{directory}")
}

/// The keys of certificates, sealed in the state.
pub(crate) struct SealedKeys {
    pub(crate) context: Arc<Context>,
}

impl SealedKeys {
    pub(crate) fn of(&self, row: &CertificateRow) -> Result<CertificateKey, Finding> {
        self.open(&key_row(&row.name, &row.held.authority), &row.key)
    }

    /// Opens a certificate's key that was sealed for `row`.
    pub(crate) fn open(&self, row: &str, sealed: &SealedBytes) -> Result<CertificateKey, Finding> {
        let key = self.context.vault.unseal(row, sealed).map_err(seal_failed)?;
        CertificateKey::from_pkcs8(key.expose_secret()).map_err(key_failed)
    }

    /// The chain and the key of a certificate, which must be one another's: a state in which
    /// rows were exchanged must not be delivered.
    pub(crate) fn chain_and_key(&self, row: &CertificateRow) -> Result<(Chain, CertificateKey), Finding> {
        let (chain, key) = (chain_of(row)?, self.of(row)?);
        let same = chain.fingerprint() == row.held.sha256 && key.public_key() == chain.public_key();
        if same { Ok((chain, key)) } else { Err(corrupt(row, "its chain and its key do not belong together")) }
    }
}

pub(crate) fn chain_of(row: &CertificateRow) -> Result<Chain, Finding> {
    Chain::from_pem(&row.chain).map_err(|error| corrupt(row, &error.to_string()))
}

fn corrupt(row: &CertificateRow, why: &str) -> Finding {
    Finding::certificate(&row.name, CertificateCause::Corrupt { why: why.to_owned() })
}
