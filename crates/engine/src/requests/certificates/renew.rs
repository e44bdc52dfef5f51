//! Asking for a renewal.

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::{Origin, ReplaceReason};
use pindrel_core::judging::findings::{CertificateCause, Finding};
use pindrel_state::CertificateRow;

use crate::failure::state_failed;
use crate::requests::certificates::CertificateRequests;

impl CertificateRequests {
    /// Requests that certificates be replaced by the next settle, whether or not they are due.
    ///
    /// # Errors
    /// A [`Finding`] when one is issued elsewhere, so that Pindrel cannot renew it.
    pub async fn request_renewal(&self, ids: &[CertificateId]) -> Result<(), Finding> {
        for id in ids {
            let wanted = self.context.desired.certificate(*id);
            if wanted.terms.issued_by == Origin::Elsewhere {
                return Err(Finding::certificate(wanted, CertificateCause::IssuedElsewhere { import: false }));
            }
            // A wish that is refused at once is not kept.
            if let Some(finding) = self.rate_limits.held_back(*id).await? {
                return Err(finding);
            }
            // One that is not there yet is issued by the settle that follows.
            let row = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
            let Some(row) = row else { continue };
            let now = self.context.clock.now();
            let request = |row: &mut CertificateRow| {
                if row.held.replace != Some(ReplaceReason::KeyCompromised) {
                    row.held.replace = Some(ReplaceReason::Requested(now));
                }
                row.renew_at = row.held.due_at(wanted.terms.renewal);
            };
            if let Some(row) = self.certificates.change(&row, &request).await? {
                self.certificates.know(*id, row).await;
            }
        }
        Ok(())
    }

    /// Withdraws the requests that certificates be replaced before they are due; returns the names of
    /// those that had one.
    ///
    /// # Errors
    /// A [`Finding`] when the state cannot be written.
    pub async fn withdraw_renewal(&self, ids: &[CertificateId]) -> Result<Vec<String>, Finding> {
        let mut withdrawn = Vec::new();
        for id in ids {
            let wanted = self.context.desired.certificate(*id);
            let row = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
            let requested = |row: &CertificateRow| matches!(row.held.replace, Some(ReplaceReason::Requested(_)));
            let Some(row) = row.filter(requested) else { continue };
            let withdraw = |row: &mut CertificateRow| {
                if requested(row) {
                    row.held.replace = None;
                    row.renew_at = row.held.due_at(wanted.terms.renewal);
                }
            };
            self.certificates.change(&row, &withdraw).await?;
            withdrawn.push(wanted.name.clone());
        }
        Ok(withdrawn)
    }
}
