//! All that is known of one certificate.

use jiff::Timestamp;
use pindrel_core::judging::findings::Finding;
use pindrel_core::values::Fingerprint;
use pindrel_keys::{Chain, Details, details};
use pindrel_state::CommandRun;
use serde::Serialize;

use super::{CertificateReport, unknown};
use crate::failure::state_failed;
use crate::home::keys::chain_of;
use crate::requests::certificates::CertificateRequests;

/// All that is known of one certificate.
#[derive(Debug, Clone)]
pub struct CertificateDetails {
    /// As in the list.
    pub report: CertificateReport,
    /// What each certificate of the chain says, leaf first.
    pub chain: Vec<Details>,
    /// The root that the chain leads to.
    pub root: Option<String>,
    /// What the authority advised last.
    pub window: Option<pindrel_core::certificates::renewal::RenewalWindow>,
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
    /// How the commands went that follow it.
    pub commands: Vec<CommandRun>,
    /// Those before it, the newest first.
    pub former: Vec<PastCertificate>,
}

/// A certificate that another one replaced.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PastCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// From when it was valid.
    pub not_before: Timestamp,
    /// Until when it was valid.
    pub not_after: Timestamp,
    /// When it was stored.
    pub kept: Timestamp,
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
}

impl CertificateRequests {
    /// Returns all that is known of one certificate.
    ///
    /// # Errors
    /// A [`Finding`] when there is none of that name, or the state cannot be read.
    pub async fn details(&self, name: &str) -> Result<CertificateDetails, Finding> {
        let report = self.reports().await?.into_iter().find(|report| report.name == name);
        let report = report.ok_or_else(|| unknown(name))?;
        let mut history = self.context.state.certificate_history(name).await.map_err(state_failed)?.into_iter();
        let present = history.next();
        let former = history.map(|row| PastCertificate {
            sha256: row.held.sha256,
            not_before: row.held.not_before,
            not_after: row.held.not_after,
            kept: row.kept,
            revoked: row.held.revoked,
        });
        let former = former.collect();
        let chain = present.as_ref().map(chain_of).transpose()?;
        let read = chain.iter().flat_map(Chain::certificates).filter_map(|certificate| details(certificate).ok());
        Ok(CertificateDetails {
            chain: read.collect(),
            root: chain.as_ref().map(Chain::root_name),
            window: present.as_ref().and_then(|row| row.held.window.clone()),
            revoked: present.as_ref().and_then(|row| row.held.revoked),
            commands: self.context.state.command_runs(name).await.map_err(state_failed)?,
            former,
            report,
        })
    }
}
