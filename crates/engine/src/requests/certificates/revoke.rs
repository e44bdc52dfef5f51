//! Revocation (RFC 8555 §7.6).

use pindrel_acme::RequestSigner;
use pindrel_core::desired::AuthorityId;
use pindrel_core::judging::facts::{Origin, ReplaceReason};
use pindrel_core::judging::findings::{Again, CertificateCause, Finding};
use pindrel_core::values::Fingerprint;
use pindrel_state::{CertificateRow, Claim, Revocation};

use super::unknown;
use crate::acme::accounts::Signing;
use crate::failure::{EngineError, key_failed, state_failed, transport_failed};
use crate::requests::certificates::CertificateRequests;

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

/// Which certificate is revoked, and how.
#[derive(Debug, Clone)]
pub struct RevocationRequest {
    /// The certificate's name, which the manifest need no longer hold.
    pub name: String,
    /// For one that another replaced: how the fingerprint of its leaf begins, in lower-case hexadecimal.
    pub former: Option<String>,
    /// Why.
    pub reason: RevokeReason,
    /// Which key signs; the account's unless said, and the certificate's own for one that was imported.
    pub by: Option<RevocationKey>,
    /// Who is asked, unless the authority that issued it.
    pub authority: Option<AuthorityId>,
    /// Whether the present one is replaced by the next settle.
    pub replace: bool,
}

impl CertificateRequests {
    /// Revokes the present certificate of a name, or one before it, and marks the present one to be
    /// replaced unless told otherwise; after a key compromise the next one always has a new key.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn revoke(&self, request: &RevocationRequest) -> Result<Fingerprint, Finding> {
        let wanted = self.context.desired.certificate_named(&request.name);
        let before = self.certificate_to_revoke(request).await?;
        let imported = before.held.origin == Origin::Elsewhere;
        let by_own_key = request.by.map_or(imported, |by| by == RevocationKey::Certificate);
        let authority = match request.authority {
            Some(id) => self.context.desired.authority(id).directory.to_string(),
            None if before.held.origin == Origin::Authority => String::new(),
            None => return Err(issuer_unknown(&before)),
        };
        // Known before the authority hears of it: what is stopped half-way is gone on with,
        // and a compromised key is never used again.
        let revocation = Revocation { reason: request.reason.code(), by_own_key, authority };
        let rule = wanted.map_or_else(Default::default, |id| self.context.desired.certificate(id).terms.renewal);
        let begin = |row: &mut CertificateRow| {
            row.revocation = Some(revocation.clone());
            if request.former.is_some() {
                return;
            }
            if request.reason == RevokeReason::KeyCompromise {
                row.held.replace = Some(ReplaceReason::KeyCompromised);
            } else if request.replace {
                row.held.replace = Some(ReplaceReason::Revoked);
            }
            row.renew_at = row.held.due_at(rule);
        };
        let begun = self.certificates.change(&before, &begin).await?;
        let mut row = begun.ok_or_else(|| unknown(&request.name))?;
        let sha256 = row.held.sha256;
        let revoked = self.context.claimed(&revocation_claim(&row), async |_| self.revoke_row(&mut row).await).await;
        if let Err(finding) = revoked {
            // What is refused is not tried another way, nor again: a person decides.
            if finding.again() == Again::Person {
                let undo = |row: &mut CertificateRow| {
                    row.revocation.clone_from(&before.revocation);
                    if row.held.replace != Some(ReplaceReason::KeyCompromised) {
                        row.held.replace.clone_from(&before.held.replace);
                        row.renew_at = before.renew_at;
                    }
                };
                self.certificates.change(&before, &undo).await?;
            }
            return Err(finding);
        }
        if let Some(id) = wanted.filter(|_| request.former.is_none()) {
            self.certificates.know(id, row).await;
        }
        Ok(sha256)
    }

    /// The row of the certificate that is meant.
    async fn certificate_to_revoke(&self, request: &RevocationRequest) -> Result<CertificateRow, Finding> {
        let name = &request.name;
        let history = self.context.state.certificate_history(name).await.map_err(state_failed)?;
        let Some(former) = &request.former else {
            return history.into_iter().next().ok_or_else(|| unknown(name));
        };
        let mut meant = history.into_iter().skip(1).filter(|row| row.held.sha256.to_string().starts_with(former));
        match (meant.next(), meant.next()) {
            (Some(row), None) => Ok(row),
            (first, _) => {
                let unclear =
                    CertificateCause::FormerUnclear { fingerprint: former.to_owned(), several: first.is_some() };
                Err(Finding::certificate(name, unclear))
            }
        }
    }

    /// Asks the authority to revoke, and notes that it has; one that is revoked already is
    /// as good.
    async fn revoke_row(&self, row: &mut CertificateRow) -> Result<(), Finding> {
        let Some(Revocation { reason, by_own_key, authority }) = row.revocation.clone() else { return Ok(()) };
        let directory = if authority.is_empty() { &row.held.authority } else { &authority };
        let Some(authority) = self.context.desired.authority_at(directory) else {
            let gone = CertificateCause::RevokerGone { directory: directory.clone() };
            return Err(Finding::certificate(&row.name, gone));
        };
        let (chain, key) = self.keys.chain_and_key(row)?;
        let leaf = &chain.certificates()[0];
        let (name, sha256) = (row.name.clone(), row.held.sha256.to_string());
        self.context
            .journalled("certificate-revoke", &name, &sha256, async {
                if by_own_key {
                    let connected = self.accounts.authority(authority).await?;
                    let signer = key.request_signer().map_err(key_failed)?;
                    let signer: &dyn RequestSigner = &Signing(&signer);
                    connected.revoke(signer, None, leaf, reason).await.map_err(transport_failed)?;
                } else {
                    let account = self.accounts.account(authority).await?;
                    let signer = Signing(&account.key);
                    let revoked = account.authority.revoke(&signer, Some(&account.url), leaf, reason).await;
                    revoked.map_err(transport_failed)?;
                }
                let now = self.context.clock.now();
                let revoked = |row: &mut CertificateRow| (row.held.revoked, row.revocation) = (Some(now), None);
                revoked(row);
                self.certificates.change(row, &revoked).await.map(drop)
            })
            .await
    }

    /// Goes on with revocations that an earlier run did not see confirmed.
    pub(crate) async fn finish_revocations(&self) -> Result<(), EngineError> {
        for row in self.context.state.certificates_to_revoke().await? {
            let finish = async |_: &Claim| {
                let history = self.context.state.certificate_history(&row.name).await.map_err(state_failed)?;
                let still = history.into_iter().find(|now| now.held.sha256 == row.held.sha256);
                match still.filter(|now| now.revocation.is_some()) {
                    Some(mut row) => self.revoke_row(&mut row).await,
                    None => Ok(()),
                }
            };
            if let Err(finding) = self.context.claimed_if_free(&revocation_claim(&row), finish).await {
                self.context.note(format!("the certificate \"{}\" is not revoked yet: {}", row.name, finding.says()));
                self.context.note(finding.remedy());
            }
        }
        Ok(())
    }
}

fn revocation_claim(row: &CertificateRow) -> String {
    format!("revocation {}", row.held.sha256)
}

fn issuer_unknown(row: &CertificateRow) -> Finding {
    Finding::certificate(&row.name, CertificateCause::IssuerUnknown { origin: row.held.origin })
}
