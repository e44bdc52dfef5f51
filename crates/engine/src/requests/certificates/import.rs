//! Importing a certificate out of loose files.

use jiff::Timestamp;
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::Origin;
use pindrel_core::judging::findings::{CertificateCause, Code, Finding, Report};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_keys::ChainError;
use pindrel_keys::bundle::{Bundle, BundleError, LooseFile};
use secrecy::SecretString;

use super::request_row;
use crate::context::claims::certificate_claim;
use crate::drivers::{trusted_elsewhere, trusted_of_authority};
use crate::failure::{seal_failed, state_failed};
use crate::home::certificates::held_of;
use crate::home::keys::key_row;
use crate::requests::certificates::CertificateRequests;

/// What an import came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImportSummary {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The names it covers.
    pub names: Vec<Hostname>,
    /// Until when it is valid.
    pub not_after: Timestamp,
    /// How many certificates the chain has.
    pub chain_length: usize,
    /// What was left out, each as a sentence.
    pub left_out: Vec<String>,
}

impl CertificateRequests {
    /// Imports a certificate out of loose files, checked against the manifest.
    ///
    /// # Errors
    /// A [`Finding`] says which file is wrong and why.
    pub async fn import(
        &self,
        id: CertificateId,
        files: &[LooseFile],
        password: Option<&SecretString>,
    ) -> Result<ImportSummary, Finding> {
        let wanted = self.context.desired.certificate(id);
        let waiting = self.context.state.signing_request(&wanted.name).await.map_err(state_failed)?;
        let present = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let held = match (&waiting, &present) {
            (Some(row), _) => Some(("the signing request", self.keys.open(&request_row(&wanted.name), &row.key)?)),
            (None, Some(row)) => Some(("the state", self.keys.of(row)?)),
            (None, None) => None,
        };
        let lent = held.as_ref().map(|(place, key)| (*place, key));
        let bundle =
            Bundle::assemble(files, lent, password, self.context.drivers.pkcs12()).map_err(|error| refused(&error))?;
        let Bundle { chain, key, left_out } = bundle;
        let key = key.or(held.map(|(_, key)| key));
        let key = key.ok_or_else(|| Finding::certificate(wanted, CertificateCause::ImportWithoutKey))?;
        let trusted = match wanted.authority {
            Some(authority) => trusted_of_authority(self.context.desired.authority(authority)),
            None => trusted_elsewhere(&wanted.terms),
        };
        let roots = self.context.drivers.roots(&trusted)?;
        let shown = files.iter().map(|file| file.name.as_str()).collect::<Vec<_>>().join(", ");
        chain.verify(&key.public_key(), &wanted.names, &roots, self.context.clock.now()).map_err(|error| {
            let remedy = match &error {
                ChainError::IntermediateMissing(name) => {
                    format!("Add the file of the intermediate certificate \"{name}\", or name its root in issued_roots")
                }
                ChainError::NameMissing(_) => {
                    "Have one issued for all names, or remove the name from the manifest".into()
                }
                _ => "Have it issued again".into(),
            };
            let says = format!("the certificate in {shown} cannot be used: {error}");
            Finding::reported(Report::new(Code::ImportRefused, says, remedy))
        })?;
        let summary = ImportSummary {
            sha256: chain.fingerprint(),
            names: chain.names().to_vec(),
            not_after: chain.leaf().not_after,
            chain_length: chain.certificates().len(),
            left_out,
        };
        let kind = key.request_signer().ok().map(|key| key.kind());
        let held = held_of(&chain, Origin::Elsewhere, String::new(), kind);
        let sealed = self.context.vault.seal(&key_row(&wanted.name, ""), key.pkcs8()).map_err(seal_failed)?;
        self.context
            .journalled("certificate-import", &wanted.name, &summary.sha256.to_string(), async {
                let key = certificate_claim(&wanted.name);
                let stored = self
                    .context
                    .claimed(&key, async |claim| self.certificates.persist(claim, id, held, &chain, sealed, 0).await);
                stored.await?;
                self.context.state.forget_signing_request(&wanted.name).await.map_err(state_failed)
            })
            .await?;
        Ok(summary)
    }
}

fn refused(error: &BundleError) -> Finding {
    let remedy = match error {
        BundleError::Unusable { .. } => "Leave that file out, or add the right one",
        BundleError::Protected { .. } => "Give its password with --password env:NAME or file:PATH",
        BundleError::NoLeaf(_) => "Add the file of the server's certificate",
        BundleError::SeveralLeaves(_) => "Give the files of one certificate only, or add its private key",
        BundleError::SeveralKeys(_) => "Give one private key only",
        BundleError::OtherKey { .. } => "Give the certificate that belongs to this key, or the key that belongs to it",
        _ => "Have it issued again",
    };
    Finding::reported(Report::new(Code::ImportRefused, error.to_string(), remedy))
}
