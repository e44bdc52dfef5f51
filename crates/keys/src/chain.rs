//! A certificate with those above it: read, and checked before anything is given to an
//! endpoint.

use jiff::Timestamp;
use pindrel_core::certificates::acme::renewal_info::certificate_id;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName, TrustAnchor, UnixTime};
use webpki::{EndEntityCert, KeyUsage};
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::chain_error::ChainError;
use crate::details::{Details, details};
use crate::pem;

/// How far an authority's clock may be ahead of ours.
const CLOCK_SKEW_SECS: i64 = 300;
/// The most certificates of one chain.
const MOST_CERTIFICATES: usize = 16;

/// A certificate with those above it, leaf first.
#[derive(Debug, Clone)]
pub struct Chain {
    certificates: Vec<CertificateDer<'static>>,
    names: Vec<Hostname>,
    leaf: Details,
    public_key: Vec<u8>,
}

impl Chain {
    /// Reads certificates out of PEM text (RFC 7468), leaf first.
    ///
    /// # Errors
    /// [`ChainError::Unreadable`].
    pub fn from_pem(pem: &str) -> Result<Chain, ChainError> {
        let certificates: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
        Chain::from_der(certificates.map_err(|error| ChainError::Unreadable(error.to_string()))?)
    }

    /// Takes certificates in DER, leaf first; a root at the end is left out.
    ///
    /// # Errors
    /// [`ChainError::Unreadable`].
    pub fn from_der(mut certificates: Vec<CertificateDer<'static>>) -> Result<Chain, ChainError> {
        let unreadable = |why: &str| ChainError::Unreadable(why.to_owned());
        if certificates.len() > MOST_CERTIFICATES {
            return Err(unreadable("it has too many certificates"));
        }
        // Clients have the root: with it left out a chain has one form, whoever gives it.
        while certificates.len() > 1 && certificates.last().is_some_and(is_self_issued) {
            certificates.pop();
        }
        let first = certificates.first().ok_or_else(|| unreadable("there is no certificate in it"))?;
        let leaf = details(first)?;
        let (_, parsed) = X509Certificate::from_der(first).map_err(|error| unreadable(&error.to_string()))?;
        Ok(Chain {
            names: leaf.names.iter().filter_map(|name| name.parse().ok()).collect(),
            public_key: parsed.public_key().raw.to_vec(),
            leaf,
            certificates,
        })
    }

    /// Returns the fingerprint of the leaf.
    pub fn fingerprint(&self) -> Fingerprint {
        self.leaf.sha256
    }

    /// Returns the names that the leaf covers.
    pub fn names(&self) -> &[Hostname] {
        &self.names
    }

    /// Returns what the leaf says.
    pub fn leaf(&self) -> &Details {
        &self.leaf
    }

    /// Returns the SubjectPublicKeyInfo of the leaf in DER.
    pub fn public_key(&self) -> &[u8] {
        &self.public_key
    }

    /// Returns the certificates in DER, leaf first.
    pub fn certificates(&self) -> &[CertificateDer<'static>] {
        &self.certificates
    }

    /// Returns the chain in PEM, leaf first.
    pub fn pem(&self) -> String {
        self.certificates.iter().map(|certificate| pem::encode("CERTIFICATE", certificate)).collect()
    }

    /// Returns the name by which its authority gives renewal information on it
    /// (RFC 9773 §4.1); `None` where the leaf names no authority key.
    pub fn certificate_id(&self) -> Option<String> {
        let authority = self.leaf.authority_key_id.as_ref()?;
        Some(certificate_id(authority, &self.leaf.raw_serial))
    }

    /// Returns the name of whoever issued the last certificate: the root that the chain
    /// leads to, in the notation of RFC 4514.
    pub fn root_name(&self) -> String {
        let last = self.certificates.last().and_then(|last| details(last).ok());
        last.map_or_else(|| self.leaf.issuer.clone(), |last| last.issuer)
    }

    /// Checks that the leaf is for `public_key` (a SubjectPublicKeyInfo in DER), covers
    /// all `names`, is valid at `now` and leads to one of `roots`.
    ///
    /// # Errors
    /// The first of these that does not hold.
    pub fn verify(
        &self,
        public_key: &[u8],
        names: &[Hostname],
        roots: &[TrustAnchor<'static>],
        now: Timestamp,
    ) -> Result<(), ChainError> {
        if self.public_key != public_key {
            return Err(ChainError::OtherKey);
        }
        if let Some(missing) = names.iter().find(|name| !self.names.iter().any(|own| own.covers(name) || own == *name))
        {
            return Err(ChainError::NameMissing(missing.clone()));
        }
        let (not_before, not_after) = (self.leaf.not_before, self.leaf.not_after);
        if now.as_second() < not_before.as_second() - CLOCK_SKEW_SECS || now >= not_after {
            return Err(ChainError::NotNow(not_before, not_after));
        }
        for certificate in &self.certificates {
            if let Some(weakness) = details(certificate)?.weakness {
                return Err(ChainError::Weak(weakness));
            }
        }
        self.verify_path(names, roots, now.max(not_before))
    }

    fn verify_path(
        &self,
        names: &[Hostname],
        roots: &[TrustAnchor<'static>],
        moment: Timestamp,
    ) -> Result<(), ChainError> {
        let untrusted = |error: webpki::Error| match error {
            webpki::Error::UnknownIssuer => ChainError::IntermediateMissing(self.root_name()),
            other => ChainError::Untrusted(other.to_string()),
        };
        let leaf = EndEntityCert::try_from(&self.certificates[0]).map_err(untrusted)?;
        let seconds = u64::try_from(moment.as_second()).unwrap_or(0);
        let time = UnixTime::since_unix_epoch(std::time::Duration::from_secs(seconds));
        leaf.verify_for_usage(
            webpki::ALL_VERIFICATION_ALGS,
            roots,
            &self.certificates[1..],
            time,
            KeyUsage::server_auth(),
            None,
            None,
        )
        .map_err(untrusted)?;
        for name in names.iter().filter(|name| !name.is_wildcard()) {
            let name = ServerName::try_from(name.as_str()).map_err(|_| ChainError::NameMissing(name.clone()))?;
            leaf.verify_is_valid_for_subject_name(&name).map_err(untrusted)?;
        }
        Ok(())
    }
}

fn is_self_issued(certificate: &CertificateDer<'static>) -> bool {
    let parsed = X509Certificate::from_der(certificate);
    parsed.is_ok_and(|(_, parsed)| parsed.issuer().as_raw() == parsed.subject().as_raw())
}
