//! Signing requests for certificates that are issued elsewhere.

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::ReplaceReason;
use pindrel_core::judging::findings::Finding;
use pindrel_keys::pem;
use pindrel_state::SigningRequestRow;

use super::request_row;
use crate::failure::{key_failed, seal_failed, state_failed};
use crate::run::Engine;

impl Engine {
    /// Makes a key and a signing request for a certificate that is issued elsewhere; the key stays
    /// sealed in the state. Returns the request in PEM.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn signing_request(&self, id: CertificateId) -> Result<String, Finding> {
        let wanted = self.desired.certificate(id);
        let present = self.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let kept = present.filter(|row| {
            wanted.terms.reuse_key && row.held.key.is_some() && row.held.replace != Some(ReplaceReason::KeyCompromised)
        });
        let waiting = self
            .state
            .signing_request(&wanted.name)
            .await
            .map_err(state_failed)?
            .filter(|row| row.names == wanted.names);
        let key = match (waiting, kept) {
            // Asking twice gives the same key: the issuer may have the first request already.
            (Some(row), _) => self.open_key(&request_row(&wanted.name), &row.key)?,
            (None, Some(row)) => self.certificate_key(&row)?,
            (None, None) => self.drivers.keys().certificate_key(wanted.terms.key).await.map_err(key_failed)?,
        };
        let row = SigningRequestRow {
            certificate: wanted.name.clone(),
            names: wanted.names.clone(),
            at: self.clock.now(),
            key: self.vault.seal(&request_row(&wanted.name), key.pkcs8()).map_err(seal_failed)?,
        };
        self.state.persist_signing_request(&row).await.map_err(state_failed)?;
        let request = key.signing_request(&wanted.names).map_err(key_failed)?;
        Ok(pem::encode("CERTIFICATE REQUEST", &request))
    }
}
