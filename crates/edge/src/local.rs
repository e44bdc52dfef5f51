//! What servers on this machine have in common: one endpoint, one site, one store.

use std::collections::HashMap;
use std::net::IpAddr;

use pindrel_core::endpoint::{CustomHostnames, EndpointInfo, EndpointKind, Quotas};
use pindrel_core::name::DnsName;
use pindrel_core::values::Fingerprint;

use crate::StoredCertificate;

/// Where everything is said to be: there is no other site.
const SITE: &str = "local";

/// The one endpoint of a server, as a platform would list it.
pub(crate) fn endpoint(
    name: &str,
    kind: EndpointKind,
    default_name: Option<&DnsName>,
    addresses: Vec<IpAddr>,
    port: u16,
) -> EndpointInfo {
    EndpointInfo {
        id: name.to_owned(),
        kind,
        site: SITE.into(),
        default_name: default_name.cloned(),
        addresses,
        port,
        certificate_site: SITE.into(),
        custom_hostnames: CustomHostnames::default(),
        quotas: Quotas::default(),
    }
}

/// The certificates of a store, each with how many of the bindings use it.
pub(crate) fn stored(
    certificates: impl IntoIterator<Item = Fingerprint>,
    bound: impl IntoIterator<Item = Fingerprint>,
) -> Vec<StoredCertificate> {
    let mut uses: HashMap<Fingerprint, u64> = HashMap::new();
    for sha256 in bound {
        *uses.entry(sha256).or_default() += 1;
    }
    let listed = certificates.into_iter().map(|sha256| StoredCertificate {
        sha256,
        names: Vec::new(),
        not_after: None,
        used_by: Some(uses.get(&sha256).copied().unwrap_or(0)),
    });
    listed.collect()
}
