//! Why the TLS library does not accept a server's certificate, as one of the reasons that Pindrel knows.

use std::error::Error;

use pindrel_core::judging::facts::Untrusted;
use rustls::{CertificateError, OtherError};

/// Returns why a certificate is not accepted.
pub fn untrusted(reason: &CertificateError) -> Untrusted {
    match reason {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => Untrusted::Expired,
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => Untrusted::NotYetValid,
        // Its issuer has the name of one that is trusted, but not its key.
        CertificateError::UnknownIssuer | CertificateError::BadSignature => Untrusted::UnknownIssuer,
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => Untrusted::OtherName,
        CertificateError::Revoked => Untrusted::Revoked,
        CertificateError::Other(OtherError(error))
            if matches!(error.downcast_ref(), Some(webpki::Error::CaUsedAsEndEntity)) =>
        {
            Untrusted::OfAuthority
        }
        other => Untrusted::Other { detail: other.to_string() },
    }
}

/// Returns why the certificate was not accepted over which an error came about, if that is what it is about.
pub fn distrust_in(error: &(dyn Error + 'static)) -> Option<Untrusted> {
    if let Some(rustls::Error::InvalidCertificate(reason)) = error.downcast_ref() {
        return Some(untrusted(reason));
    }
    // What an error of the operating system carries is no source of it.
    let carried = error.downcast_ref::<std::io::Error>().and_then(|io| io.get_ref());
    let carried = carried.map(|inner| inner as &(dyn Error + 'static));
    carried.or_else(|| error.source()).and_then(distrust_in)
}
