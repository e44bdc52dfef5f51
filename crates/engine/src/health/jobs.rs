//! What is to be done for one check.

use std::net::SocketAddr;

use pindrel_core::desired::{CertificateId, Desired};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::health::{CheckTrust, Checked, HealthCheck};
use pindrel_core::values::is_link_local_or_metadata;

use crate::drivers::{CheckJob, Trusted};

/// The most addresses of one endpoint that are checked.
const MOST_ADDRESSES: usize = 16;

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

/// Makes a check ready, by what is known of its endpoint; `None` for one that looks at nothing itself. What a platform
/// says of addresses leads to no link-local one and to no metadata service: those only the manifest may name. `issuer` is
/// what clients of the certificate trust whose issuer it trusts.
pub(crate) fn job(
    desired: &Desired,
    check: &HealthCheck,
    info: Option<&EndpointInfo>,
    issuer: Option<Trusted>,
) -> Option<CheckJob> {
    let trusted = match trust(check) {
        None | Some(CheckTrust::Anyone) => Trusted::Anyone,
        Some(CheckTrust::Roots(roots)) => Trusted::Roots(roots.clone()),
        Some(CheckTrust::Issuer(_)) => issuer.unwrap_or(Trusted::Roots(None)),
    };
    let addresses = match &check.what {
        Checked::Combination(_) => return None,
        Checked::Endpoint { request, .. } => info.map_or_else(Vec::new, |info| {
            let port = request.exchange.port.unwrap_or(info.port);
            let is_named = check.endpoint().is_some_and(|endpoint| desired.endpoint(endpoint).names_addresses());
            let usable = info.addresses.iter().filter(|address| is_named || !is_link_local_or_metadata(**address));
            usable.take(MOST_ADDRESSES).map(|address| SocketAddr::new(*address, port)).collect()
        }),
        _ => Vec::new(),
    };
    Some(CheckJob { what: check.what.clone(), addresses, trusted, within: check.terms.timeout })
}

#[cfg(test)]
mod tests {
    use pindrel_core::desired::resolve;
    use pindrel_core::endpoints::endpoint::EndpointKind;
    use pindrel_core::manifest::{Diagnostics, read};

    use super::*;

    #[test]
    fn a_platform_leads_no_check_to_a_metadata_service_and_the_manifest_may() {
        let drivers = [
            ("driver = \"http\"\nurl = \"https://platform.example\"\ntoken = \"env:T\"", &["192.0.2.1"][..]),
            ("driver = \"program\"\nprogram = [\"true\"]", &["192.0.2.1"]),
            (
                "driver = \"static\"\ndefault_name = \"a.test.\"\naddresses = [\"169.254.169.254\"]",
                &["192.0.2.1", "169.254.169.254", "fe80::1", "fd00:ec2::254"],
            ),
        ];
        for (driver, expected) in drivers {
            let text = format!(
                "manifest = 1\n[zone.\"larkfield.example\"]\ndriver = \"none\"\n[authority.main]\n\
                 directory = \"https://a.example/\"\nagree_to_terms = true\n[endpoint.one]\nkind = \"gateway\"\n{driver}\n\
                 health = {{ url = \"https://api.larkfield.example/ready\" }}\n\
                 [hostname.\"api.larkfield.example\"]\nendpoint = \"one\"\n"
            );
            let mut problems = Diagnostics::default();
            let desired = resolve(read(&text, &mut problems), &mut problems);
            assert!(problems.is_empty(), "{problems:?}");
            let all = ["192.0.2.1", "169.254.169.254", "fe80::1", "fd00:ec2::254"];
            let addresses = all.iter().map(|address| address.parse().unwrap()).collect();
            let info = EndpointInfo::plain("one", EndpointKind::Gateway, "north", addresses);
            let job = job(&desired, &desired.checks[0], Some(&info), None).unwrap();
            let led: Vec<String> = job.addresses.iter().map(|address| address.ip().to_string()).collect();
            assert_eq!(led, expected, "{driver}");
        }
    }
}
