//! What a person does with certificates: look at them, import and export them, have them
//! renewed or revoked.

mod export;
mod import;
mod list;
mod renew;
mod request;
mod revoke;
mod show;

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::{HeldCertificate, Origin};
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::values::KeyKind;
use pindrel_keys::{CertificateKey, Chain};
use pindrel_state::{CertificateRow, Claim, SealedBytes};
use secrecy::ExposeSecret as _;

use crate::failure::{key_failed, seal_failed, state_failed};
use crate::run::Engine;

pub use export::ExportForm;
pub use import::ImportSummary;
pub use list::{CertificateReport, CertificateUse};
pub use revoke::{RevocationKey, RevocationRequest, RevokeReason};
pub use show::{CertificateDetails, PastCertificate};

/// The row that a certificate key is sealed for: the same for the order and for the
/// certificate that it becomes.
pub(crate) fn key_row(certificate: &str, directory: &str) -> String {
    format!("certificate/{certificate}/{directory}")
}

/// The row that the key of a signing request is sealed for.
fn request_row(name: &str) -> String {
    format!("signing request/{name}")
}

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

fn unknown(name: &str) -> Finding {
    let says = format!("there is no certificate \"{name}\"");
    Finding::of(Code::CertificateMissing, says, "List the names with: pindrel cert list")
}

impl Engine {
    pub(crate) fn certificate_key(&self, row: &CertificateRow) -> Result<CertificateKey, Finding> {
        self.open_key(&key_row(&row.name, &row.held.authority), &row.key)
    }

    /// Opens a certificate's key that was sealed for `row`.
    pub(crate) fn open_key(&self, row: &str, sealed: &SealedBytes) -> Result<CertificateKey, Finding> {
        let key = self.vault.unseal(row, sealed).map_err(seal_failed)?;
        CertificateKey::from_pkcs8(key.expose_secret()).map_err(key_failed)
    }

    /// The chain and the key of a certificate, which must be one another's: a state in which
    /// rows were exchanged must not be delivered.
    pub(crate) fn chain_and_key(&self, row: &CertificateRow) -> Result<(Chain, CertificateKey), Finding> {
        let (chain, key) = (chain_of(row)?, self.certificate_key(row)?);
        let same = chain.fingerprint() == row.held.sha256 && key.public_key() == chain.public_key();
        if same { Ok((chain, key)) } else { Err(corrupt(row, "its chain and its key do not belong together")) }
    }

    /// Stores a certificate as the present one, and judges anew what uses it.
    pub(crate) async fn persist_certificate(
        &self,
        claim: &Claim,
        id: CertificateId,
        held: HeldCertificate,
        chain: &Chain,
        key: SealedBytes,
        order: i64,
    ) -> Result<(), Finding> {
        let wanted = self.desired.certificate(id);
        let row = CertificateRow {
            name: wanted.name.clone(),
            renew_at: held.due_at(wanted.terms.renewal),
            held,
            chain: chain.pem(),
            key,
            kept: self.clock.now(),
            revocation: None,
            ask_again: None,
        };
        self.state.persist_certificate(claim, &row, order).await.map_err(state_failed)?;
        self.know_certificate(id, row).await;
        let covered: Vec<_> = {
            let known = self.known();
            let uses =
                |hostname: &pindrel_core::desired::HostnameId| self.desired.hostname(*hostname).certificate == id;
            known.hostnames.keys().copied().filter(uses).collect()
        };
        for hostname in covered {
            self.persist_hostname(hostname).await?;
        }
        Ok(())
    }

    /// Changes what may change of a certificate that is stored, as it is stored by now; returns what that is then.
    pub(crate) async fn change_certificate(
        &self,
        row: &CertificateRow,
        change: &(dyn Fn(&mut CertificateRow) + Sync),
    ) -> Result<Option<CertificateRow>, Finding> {
        self.state.change_certificate(&row.name, row.held.sha256, change).await.map_err(state_failed)
    }
}

pub(crate) fn chain_of(row: &CertificateRow) -> Result<Chain, Finding> {
    Chain::from_pem(&row.chain).map_err(|error| corrupt(row, &error.to_string()))
}

fn corrupt(row: &CertificateRow, why: &str) -> Finding {
    let says = format!("the certificate \"{}\" in the state is corrupt: {why}", row.name);
    Finding::of(Code::StateUnusable, says, "Restore the state from its backup")
}
