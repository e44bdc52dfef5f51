//! Trusted roots: the public ones of this system, or those of a PEM text.

use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, TrustAnchor};

/// Reads roots out of PEM text.
///
/// # Errors
/// Says which certificate cannot be read, or that there is none.
pub fn from_pem(pem: &[u8]) -> Result<Vec<TrustAnchor<'static>>, String> {
    let mut anchors = Vec::new();
    for (index, certificate) in CertificateDer::pem_slice_iter(pem).enumerate() {
        let certificate = certificate.map_err(|error| error.to_string())?;
        let anchor = webpki::anchor_from_trusted_cert(&certificate)
            .map_err(|error| format!("certificate {} cannot be read: {error}", index + 1))?;
        anchors.push(anchor.to_owned());
    }
    if anchors.is_empty() { Err("there is no certificate in it".into()) } else { Ok(anchors) }
}

/// Returns the roots that this system trusts; none where it has no store of them.
pub fn public() -> Vec<TrustAnchor<'static>> {
    let found = rustls_native_certs::load_native_certs().certs;
    found
        .iter()
        .filter_map(|certificate| webpki::anchor_from_trusted_cert(certificate).ok().map(|a| a.to_owned()))
        .collect()
}
