//! Having a certificate issued, or making a self-signed one.

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::Origin;
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_keys::Chain;
use pindrel_state::Claim;

use super::Progress;
use crate::acme::orders::OrderRequest;
use crate::failure::{internal, key_failed, seal_failed};
use crate::requests::certificates::{held_of, key_row};
use crate::run::Engine;

/// How long a self-signed certificate is valid, in days.
const SELF_SIGNED_DAYS: i64 = 30;

impl Engine {
    pub(super) async fn issue(&self, id: CertificateId, claim: &Claim) -> Result<Progress, Finding> {
        match self.desired.certificate(id).authority {
            Some(authority) => self.order(&OrderRequest { certificate: id, authority, rehearsal: false }, claim).await,
            None => self.sign_itself(id, claim).await.map(|()| Progress::Done),
        }
    }

    /// Makes a self-signed certificate, for a first bring-up.
    async fn sign_itself(&self, id: CertificateId, claim: &Claim) -> Result<(), Finding> {
        let wanted = self.desired.certificate(id);
        if wanted.terms.issued_by != Origin::SelfSigned {
            let says = format!("the certificate \"{}\" is issued elsewhere", wanted.name);
            let remedy = format!("Import it with: pindrel cert import {} FILES", wanted.name);
            return Err(Finding::of(Code::CertificateAwaited, says, remedy));
        }
        let key = self.drivers.keys().certificate_key(wanted.terms.key).await.map_err(key_failed)?;
        let pem = key.self_signed(&wanted.names, self.clock.now(), SELF_SIGNED_DAYS).map_err(key_failed)?;
        let chain = Chain::from_pem(&pem).map_err(|error| internal(error.to_string()))?;
        let held = held_of(&chain, Origin::SelfSigned, String::new(), Some(wanted.terms.key));
        let sealed = self.vault.seal(&key_row(&wanted.name, ""), key.pkcs8()).map_err(seal_failed)?;
        self.persist_certificate(claim, id, held, &chain, sealed, 0).await
    }
}
