//! What a person does with certificates: look at them, import and export them, have them
//! renewed or revoked.

mod export;
mod import;
mod list;
mod renew;
mod request;
mod revoke;
mod show;

use std::sync::Arc;

use pindrel_core::judging::findings::{CertificateCause, Finding};

use crate::acme::accounts::Accounts;
use crate::acme::spending::RateLimits;
use crate::context::Context;
use crate::home::certificates::Certificates;
use crate::home::keys::SealedKeys;
use crate::run::attempts::Attempts;

pub use export::{ExportForm, write_export};
pub use import::ImportSummary;
pub use list::{CertificateReport, CertificateUse};
pub use revoke::{RevocationKey, RevocationRequest, RevokeReason};
pub use show::{CertificateDetails, PastCertificate};

/// The row that the key of a signing request is sealed for.
fn request_row(name: &str) -> String {
    format!("signing request/{name}")
}

fn unknown(name: &str) -> Finding {
    Finding::certificate(name, CertificateCause::Unknown)
}

/// What a person asks about certificates.
pub struct CertificateRequests {
    pub(crate) context: Arc<Context>,
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) attempts: Arc<Attempts>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) keys: Arc<SealedKeys>,
    pub(crate) rate_limits: Arc<RateLimits>,
}
