//! What is to be done for one check.

use std::net::SocketAddr;
use std::time::Duration;

use pindrel_core::desired::CertificateId;
use pindrel_core::endpoint::EndpointInfo;
use pindrel_core::health::{CheckTrust, Checked, HealthCheck};

use crate::drivers::Trusted;

/// The most addresses of one endpoint that are checked.
const MOST_ADDRESSES: usize = 16;

/// One check, ready to be made.
#[derive(Debug, Clone)]
pub struct CheckJob {
    /// What is looked at.
    pub what: Checked,
    /// For an endpoint: its addresses, with the port.
    pub addresses: Vec<SocketAddr>,
    /// Whom its certificate must come from.
    pub trusted: Trusted,
    /// How long it may take.
    pub within: Duration,
}

fn trust(check: &HealthCheck) -> Option<&CheckTrust> {
    match &check.what {
        Checked::Endpoint { request, .. } | Checked::Url(request) => Some(&request.trust),
        Checked::Tls(listener) => Some(&listener.trust),
        _ => None,
    }
}

/// Returns the certificate of the manifest whose issuer a check trusts.
pub(crate) fn issuer(check: &HealthCheck) -> Option<CertificateId> {
    match trust(check) {
        Some(CheckTrust::Issuer(certificate)) => Some(*certificate),
        _ => None,
    }
}

/// Makes a check ready, by what is known of its endpoint; `None` for one that looks at nothing itself.
/// `issuer` is what clients of the certificate trust whose issuer it trusts.
pub(crate) fn job(check: &HealthCheck, info: Option<&EndpointInfo>, issuer: Option<Trusted>) -> Option<CheckJob> {
    let trusted = match trust(check) {
        None | Some(CheckTrust::Anyone) => Trusted::Anyone,
        Some(CheckTrust::Roots(roots)) => Trusted::Roots(roots.clone()),
        Some(CheckTrust::Issuer(_)) => issuer.unwrap_or(Trusted::Roots(None)),
    };
    let addresses = match &check.what {
        Checked::Combination(_) => return None,
        Checked::Endpoint { request, .. } => info.map_or_else(Vec::new, |info| {
            let port = request.exchange.port.unwrap_or(info.port);
            info.addresses.iter().take(MOST_ADDRESSES).map(|address| SocketAddr::new(*address, port)).collect()
        }),
        _ => Vec::new(),
    };
    Some(CheckJob { what: check.what.clone(), addresses, trusted, within: check.terms.timeout })
}
