//! What servers on this machine have in common: one endpoint, one site, one store.

use std::collections::HashMap;
use std::net::IpAddr;
use std::path::Path;

use pindrel_core::endpoints::endpoint::{Binding, EndpointInfo, EndpointKind, Offers};
use pindrel_core::endpoints::unready::Unready;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Fingerprint;
use pindrel_machine::may_write;

use crate::{EdgeError, StoredCertificate};

/// Where everything is said to be: there is no other site.
const SITE: &str = "local";

/// The one endpoint of a server, as a platform would list it.
pub(crate) fn endpoint(
    name: &str,
    kind: EndpointKind,
    default_name: Option<&DnsName>,
    addresses: Vec<IpAddr>,
    port: u16,
    offers: Offers,
) -> EndpointInfo {
    let default_name = default_name.cloned();
    EndpointInfo { default_name, port, offers, ..EndpointInfo::plain(name, kind, SITE, addresses) }
}

/// Says that this user may not write a folder, or the one above it that is there.
pub(crate) fn unwritable(folder: &Path) -> Option<Unready> {
    let there = folder.ancestors().find(|folder| folder.exists())?;
    (!may_write(there)).then(|| Unready::Unwritable { folder: there.to_owned() })
}

/// A binding's certificate, or the refusal of one that is to be issued here.
pub(crate) fn certificate_of(url: &str, binding: &Binding) -> Result<Fingerprint, EdgeError> {
    binding.certificate.ok_or_else(|| EdgeError::Refused {
        url: url.to_owned(),
        what: "the binding",
        status: 422,
        detail: "it issues no certificates".into(),
    })
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
