//! Revocation (RFC 8555 §7.6).

use pindrel_acme::RequestSigner;
use pindrel_core::facts::{Origin, ReplaceReason};
use pindrel_core::findings::{Code, Finding};
use pindrel_core::values::Fingerprint;
use pindrel_state::CertificateRow;

use super::unknown;
use crate::acme::Signing;
use crate::failure::{EngineError, key_failed, state_failed, transport_failed};
use crate::run::Engine;

/// Why a certificate is revoked (RFC 5280 §5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum RevokeReason {
    Unspecified,
    KeyCompromise,
    AffiliationChanged,
    Superseded,
    CessationOfOperation,
}

impl RevokeReason {
    fn code(self) -> u8 {
        match self {
            RevokeReason::Unspecified => 0,
            RevokeReason::KeyCompromise => 1,
            RevokeReason::AffiliationChanged => 3,
            RevokeReason::Superseded => 4,
            RevokeReason::CessationOfOperation => 5,
        }
    }
}

/// Which key signs a revocation (RFC 8555 §7.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RevocationKey {
    /// The account's.
    Account,
    /// The certificate's own.
    Certificate,
}

impl Engine {
    /// Revokes the present certificate of a name, which the manifest need no longer hold, and marks it
    /// to be replaced unless told otherwise; after a key compromise the next one always has a new key.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn revoke(
        &self,
        name: &str,
        reason: RevokeReason,
        by: RevocationKey,
        replace: bool,
    ) -> Result<Fingerprint, Finding> {
        let wanted = self.desired.certificate_named(name);
        let mut row = self.state.certificate(name).await.map_err(state_failed)?.ok_or_else(|| unknown(name))?;
        // Known before the authority hears of it: what is stopped half-way is gone on with,
        // and a compromised key is never used again.
        row.revoking = Some(reason.code());
        if reason == RevokeReason::KeyCompromise {
            row.held.replace = Some(ReplaceReason::KeyCompromised);
        } else if replace {
            row.held.replace = Some(ReplaceReason::Revoked);
        }
        let rule = wanted.map_or_else(Default::default, |id| self.desired.certificate(id).terms.renewal);
        row.renew_at = row.held.due_at(rule);
        self.state.update_certificate(&row).await.map_err(state_failed)?;
        let sha256 = row.held.sha256;
        self.revoke_row(row.clone(), by).await?;
        (row.revoking, row.held.revoked) = (None, Some(self.clock.now()));
        if let Some(id) = wanted {
            self.know_certificate(id, row).await;
        }
        Ok(sha256)
    }

    /// Asks the authority to revoke, and notes that it has; one that is revoked already is
    /// as good.
    async fn revoke_row(&self, mut row: CertificateRow, by: RevocationKey) -> Result<(), Finding> {
        let authority = self.desired.authority_at(&row.held.authority);
        let Some(authority) = authority.filter(|_| row.held.origin == Origin::Authority) else {
            row.revoking = None;
            self.state.update_certificate(&row).await.map_err(state_failed)?;
            let says = format!("the certificate \"{}\" was issued by no authority of the manifest", row.name);
            return Err(Finding::of(Code::AuthorityRefuses, says, "Have it revoked where it was issued"));
        };
        let (chain, key) = self.chain_and_key(&row)?;
        let leaf = &chain.certificates()[0];
        let reason = row.revoking.unwrap_or(0);
        let (name, sha256) = (row.name.clone(), row.held.sha256.to_string());
        self.journalled("certificate-revoke", &name, &sha256, async {
            match by {
                RevocationKey::Account => {
                    let account = self.account(authority).await?;
                    let signer = Signing(&account.key);
                    let revoked = account.authority.revoke(&signer, Some(&account.url), leaf, reason).await;
                    revoked.map_err(transport_failed)?;
                }
                RevocationKey::Certificate => {
                    let connected = self.authority(authority).await?;
                    let signer = key.request_signer().map_err(key_failed)?;
                    let signer: &dyn RequestSigner = &Signing(&signer);
                    connected.revoke(signer, None, leaf, reason).await.map_err(transport_failed)?;
                }
            }
            (row.held.revoked, row.revoking) = (Some(self.clock.now()), None);
            self.state.update_certificate(&row).await.map_err(state_failed)
        })
        .await
    }

    /// Goes on with revocations that an earlier run did not see confirmed.
    pub(crate) async fn finish_revocations(&self) -> Result<(), EngineError> {
        for row in self.state.certificates_to_revoke().await? {
            let name = row.name.clone();
            if let Err(finding) = self.revoke_row(row, RevocationKey::Account).await {
                self.note(format!("the certificate \"{name}\" is not revoked yet: {}", finding.says));
            }
        }
        Ok(())
    }
}
