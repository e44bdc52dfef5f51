//! Trusted roots: the public ones of this system, or those of a PEM text.

use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, TrustAnchor};

use crate::pem;

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

/// Returns the certificates in PEM text as PEM, and nothing else that stands there.
pub fn plain_pem(text: &[u8]) -> String {
    let certificates = CertificateDer::pem_slice_iter(text).filter_map(Result::ok);
    certificates.map(|certificate| pem::encode("CERTIFICATE", &certificate)).collect()
}

/// Returns the roots that this system trusts; none where it has no store of them.
pub fn public() -> Vec<TrustAnchor<'static>> {
    let found = rustls_native_certs::load_native_certs().certs;
    found
        .iter()
        .filter_map(|certificate| webpki::anchor_from_trusted_cert(certificate).ok().map(|a| a.to_owned()))
        .collect()
}

#[cfg(test)]
mod tests {
    use rcgen::{BasicConstraints, CertificateParams, IsCa, KeyPair};

    use super::*;

    fn root() -> rcgen::Certificate {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.self_signed(&KeyPair::generate().unwrap()).unwrap()
    }

    #[test]
    fn roots_are_read_among_other_text_and_a_bad_one_is_named() {
        let [first, second] = [root(), root()];
        let ours = pem::encode("CERTIFICATE", first.der());
        // Another program's PEM of the same bytes is the same text.
        assert_eq!(ours.replace('\n', ""), first.pem().replace(['\r', '\n'], ""));
        let bundle = format!("# the roots of the observatory\n{ours}\n{}", second.pem().replace('\n', "\r\n"));
        assert_eq!(from_pem(bundle.as_bytes()).unwrap().len(), 2);
        let key = pem::encode("PRIVATE KEY", b"no certificate");
        let plain = plain_pem(format!("{bundle}{key}").as_bytes());
        assert_eq!(plain, ours + &pem::encode("CERTIFICATE", second.der()), "a key that stands there is not told");
        let ours = pem::encode("CERTIFICATE", first.der());
        let wrong = pem::encode("CERTIFICATE", b"no certificate");
        for (text, says) in [
            (String::new(), "no certificate in it"),
            (key, "no certificate in it"),
            (format!("{ours}{wrong}"), "certificate 2 cannot be read"),
            (ours[..ours.len() / 2].to_owned(), ""),
        ] {
            let error = from_pem(text.as_bytes()).unwrap_err();
            assert!(error.contains(says) && !error.is_empty(), "{error}");
        }
    }

    proptest::proptest! {
        /// What is written comes back, whatever it is.
        #[test]
        fn pem_comes_back(bytes in proptest::collection::vec(proptest::num::u8::ANY, 1..300)) {
            let text = pem::encode("CERTIFICATE", &bytes);
            proptest::prop_assert!(text.lines().all(|line| line.len() <= 64), "RFC 7468 §2");
            let read = CertificateDer::from_pem_slice(text.as_bytes()).unwrap();
            proptest::prop_assert_eq!(&read[..], &bytes[..]);
        }
    }
}
