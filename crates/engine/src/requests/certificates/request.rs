//! Signing requests for certificates that are issued elsewhere.

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::ReplaceReason;
use pindrel_core::judging::findings::Finding;
use pindrel_keys::pem;
use pindrel_state::SigningRequestRow;

use super::request_row;
use crate::failure::{key_failed, seal_failed, state_failed};
use crate::requests::certificates::CertificateRequests;

impl CertificateRequests {
    /// Makes a key and a signing request for a certificate that is issued elsewhere; the key stays
    /// sealed in the state. Returns the request in PEM.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn signing_request(&self, id: CertificateId) -> Result<String, Finding> {
        let wanted = self.context.desired.certificate(id);
        let present = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let kept = present.filter(|row| {
            wanted.terms.reuse_key && row.held.key.is_some() && row.held.replace != Some(ReplaceReason::KeyCompromised)
        });
        let waiting = self
            .context
            .state
            .signing_request(&wanted.name)
            .await
            .map_err(state_failed)?
            .filter(|row| row.names == wanted.names);
        let key = match (waiting, kept) {
            // Asking twice gives the same key: the issuer may have the first request already.
            (Some(row), _) => self.keys.open(&request_row(&wanted.name), &row.key)?,
            (None, Some(row)) => self.keys.of(&row)?,
            (None, None) => self.context.drivers.keys().certificate_key(wanted.terms.key).await.map_err(key_failed)?,
        };
        let row = SigningRequestRow {
            certificate: wanted.name.clone(),
            names: wanted.names.clone(),
            at: self.context.clock.now(),
            key: self.context.vault.seal(&request_row(&wanted.name), key.pkcs8()).map_err(seal_failed)?,
        };
        self.context.state.persist_signing_request(&row).await.map_err(state_failed)?;
        let request = key.signing_request(&wanted.names).map_err(key_failed)?;
        Ok(pem::encode("CERTIFICATE REQUEST", &request))
    }
}
