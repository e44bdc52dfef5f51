//! What an authority issued: read, and checked before anything is given to an endpoint.

use jiff::Timestamp;
use pindrel_core::name::Hostname;
use pindrel_core::values::Fingerprint;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName, TrustAnchor, UnixTime};
use webpki::{EndEntityCert, KeyUsage};
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};

/// How far an authority's clock may be ahead of ours.
const CLOCK_SKEW_SECS: i64 = 300;

/// A certificate with those above it, leaf first.
#[derive(Debug, Clone)]
pub struct Chain {
    certificates: Vec<CertificateDer<'static>>,
    names: Vec<Hostname>,
    not_before: Timestamp,
    not_after: Timestamp,
    public_key: Vec<u8>,
}

/// Why a chain is not what was ordered.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ChainError {
    /// There is no certificate in the text, or one cannot be read.
    #[error("it cannot be read: {0}")]
    Unreadable(String),
    /// The leaf is for another key.
    #[error("its key is not the one that Pindrel made")]
    OtherKey,
    /// A name is missing.
    #[error("it does not cover {0}")]
    NameMissing(Hostname),
    /// It is not valid at this time.
    #[error("it is valid from {0} to {1}, which does not include now; compare the clocks")]
    NotNow(Timestamp, Timestamp),
    /// It does not lead to a trusted root.
    #[error("it does not end at a trusted root: {0}")]
    Untrusted(String),
}

impl Chain {
    /// Reads certificates out of PEM text (RFC 7468), leaf first.
    ///
    /// # Errors
    /// [`ChainError::Unreadable`].
    pub fn from_pem(pem: &str) -> Result<Chain, ChainError> {
        let unreadable = |why: &dyn std::fmt::Display| ChainError::Unreadable(why.to_string());
        let certificates: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(pem.as_bytes())
            .collect::<Result<_, _>>()
            .map_err(|error| unreadable(&error))?;
        let leaf = certificates.first().ok_or_else(|| unreadable(&"there is no certificate in it"))?;
        let (_, parsed) = X509Certificate::from_der(leaf).map_err(|error| unreadable(&error))?;
        let alternative = parsed.subject_alternative_name().map_err(|error| unreadable(&error))?;
        let names = alternative.iter().flat_map(|extension| &extension.value.general_names);
        let names = names.filter_map(|name| match name {
            GeneralName::DNSName(name) => name.parse().ok(),
            _ => None,
        });
        let time = |seconds| Timestamp::from_second(seconds).map_err(|error| unreadable(&error));
        Ok(Chain {
            names: names.collect(),
            not_before: time(parsed.validity().not_before.timestamp())?,
            not_after: time(parsed.validity().not_after.timestamp())?,
            public_key: parsed.public_key().raw.to_vec(),
            certificates,
        })
    }

    /// Returns the fingerprint of the leaf.
    pub fn fingerprint(&self) -> Fingerprint {
        Fingerprint::of(&self.certificates[0])
    }

    /// Returns the names that the leaf covers.
    pub fn names(&self) -> &[Hostname] {
        &self.names
    }

    /// Returns from when the leaf is valid.
    pub fn not_before(&self) -> Timestamp {
        self.not_before
    }

    /// Returns until when the leaf is valid.
    pub fn not_after(&self) -> Timestamp {
        self.not_after
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
        if let Some(missing) = names.iter().find(|name| !self.names.contains(name)) {
            return Err(ChainError::NameMissing(missing.clone()));
        }
        let starts = self.not_before.as_second() - CLOCK_SKEW_SECS;
        if now.as_second() < starts || now >= self.not_after {
            return Err(ChainError::NotNow(self.not_before, self.not_after));
        }
        let untrusted = |error: webpki::Error| ChainError::Untrusted(error.to_string());
        let leaf = EndEntityCert::try_from(&self.certificates[0]).map_err(untrusted)?;
        let moment = now.max(self.not_before).as_second();
        let time = UnixTime::since_unix_epoch(std::time::Duration::from_secs(moment.try_into().unwrap_or(0)));
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
