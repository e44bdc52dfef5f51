//! What is stored of certificates.

use std::sync::Arc;

use pindrel_core::certificates::delivery::Undelivered;
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::{HeldCertificate, Origin};
use pindrel_core::judging::findings::Finding;
use pindrel_core::values::KeyKind;
use pindrel_keys::Chain;
use pindrel_state::{CertificateRow, Claim, SealedBytes};

use super::hostnames::Hostnames;
use crate::context::Context;
use crate::failure::{EngineError, state_failed};
use crate::observe::certificate::DeliveryObserver;

/// What a chain says of its leaf, without advice and with no reason to replace it.
pub(crate) fn held_of(chain: &Chain, origin: Origin, authority: String, key: Option<KeyKind>) -> HeldCertificate {
    HeldCertificate {
        sha256: chain.fingerprint(),
        names: chain.names().to_vec(),
        origin,
        authority,
        key,
        not_before: chain.leaf().not_before,
        not_after: chain.leaf().not_after,
        renewal_id: None,
        window: None,
        replace: None,
        revoked: None,
        ordered: None,
    }
}

/// What is stored of certificates.
pub(crate) struct Certificates {
    pub(crate) context: Arc<Context>,
    pub(crate) deliveries: Arc<DeliveryObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
}

impl Certificates {
    /// Loads from the state, once a run, what is known of a certificate.
    pub(crate) async fn load(&self, id: CertificateId) -> Result<(), EngineError> {
        let known = self.context.known().certificates.contains_key(&id);
        if known {
            return Ok(());
        }
        match self.context.state.certificate(&self.context.desired.certificate(id).name).await? {
            None => {
                self.context.known().certificates.insert(id, None);
            }
            Some(row) => self.know(id, row).await,
        }
        Ok(())
    }

    /// Notes a certificate as the present one, and whether it is delivered.
    pub(crate) async fn know(&self, id: CertificateId, row: CertificateRow) {
        let undelivered = self.deliveries.undelivered(id, &row).await;
        // Where that cannot be seen, the step that delivers fails, and says why.
        let undelivered =
            undelivered.unwrap_or_else(|finding| Undelivered { files: vec![finding.says()], ..Undelivered::default() });
        let mut known = self.context.known();
        known.certificates.insert(id, Some(row.held));
        known.undelivered.insert(id, undelivered);
    }

    /// Stores a certificate as the present one, and judges anew what uses it.
    pub(crate) async fn persist(
        &self,
        claim: &Claim,
        id: CertificateId,
        held: HeldCertificate,
        chain: &Chain,
        key: SealedBytes,
        order: i64,
    ) -> Result<(), Finding> {
        let wanted = self.context.desired.certificate(id);
        let row = CertificateRow {
            name: wanted.name.clone(),
            renew_at: held.due_at(wanted.terms.renewal),
            held,
            chain: chain.pem(),
            key,
            kept: self.context.clock.now(),
            revocation: None,
            ask_again: None,
        };
        self.context.state.persist_certificate(claim, &row, order).await.map_err(state_failed)?;
        self.know(id, row).await;
        let covered: Vec<_> = {
            let known = self.context.known();
            let uses = |hostname: &pindrel_core::desired::HostnameId| {
                self.context.desired.hostname(*hostname).certificate == id
            };
            known.hostnames.keys().copied().filter(uses).collect()
        };
        for hostname in covered {
            self.hostnames.persist(hostname).await?;
        }
        Ok(())
    }

    /// Changes what may change of a certificate that is stored, as it is stored by now; returns what that is then.
    pub(crate) async fn change(
        &self,
        row: &CertificateRow,
        change: &(dyn Fn(&mut CertificateRow) + Sync),
    ) -> Result<Option<CertificateRow>, Finding> {
        self.context.state.change_certificate(&row.name, row.held.sha256, change).await.map_err(state_failed)
    }
}
