//! Loose files of certificates and keys, in any form and any order, put together: what
//! comes from where a certificate was bought.

mod pkcs7;

use p12_keystore::{
    Certificate as P12Certificate, EncryptionAlgorithm, KeyStore, KeyStoreEntry, MacAlgorithm, Pkcs12Archive,
    PrivateKey, PrivateKeyChain,
};
use pkcs8::EncryptedPrivateKeyInfoRef;
use rustls_pki_types::pem::{PemObject as _, SectionKind};
use rustls_pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::details::{Details, details};
use crate::{CertificateKey, Chain, ChainError};

/// The most certificates and keys in all files together.
const MOST_PIECES: usize = 64;
/// How often the password of a PKCS#12 file is hashed (RFC 8018 §4.2).
const PKCS12_ITERATIONS: u32 = 100_000;

/// One file.
#[derive(Debug, Clone)]
pub struct LooseFile {
    /// Its name, for messages.
    pub name: String,
    /// What it holds.
    pub bytes: Vec<u8>,
}

impl LooseFile {
    fn unusable(&self, why: impl Into<String>) -> BundleError {
        BundleError::Unusable { file: self.name.clone(), why: why.into() }
    }
}

/// Opens PKCS#12 files (RFC 7292). Those who read them are young and large, and the files come from anywhere: they are
/// read where that can do no harm.
pub trait OpenPkcs12: Send + Sync {
    /// Opens a file with a password, which may be empty.
    ///
    /// # Errors
    /// [`Unopened`].
    fn open(&self, file: &[u8], password: &SecretString) -> Result<OpenedPkcs12, Unopened>;
}

/// What a PKCS#12 file holds.
#[derive(Serialize, Deserialize)]
pub struct OpenedPkcs12 {
    /// Private keys as PKCS#8, each in DER.
    pub keys: Vec<Zeroizing<Vec<u8>>>,
    /// Certificates in DER.
    pub certificates: Vec<Vec<u8>>,
}

/// Why a PKCS#12 file was not opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unopened {
    /// The password is another one, or the file is damaged or uses an obsolete cipher.
    Password,
    /// It was not read to its end, for this reason.
    Unread(String),
}

/// Opens PKCS#12 files in this very process.
#[derive(Debug, Clone, Copy, Default)]
pub struct OpenHere;

impl OpenPkcs12 for OpenHere {
    fn open(&self, file: &[u8], password: &SecretString) -> Result<OpenedPkcs12, Unopened> {
        let archive = Pkcs12Archive::from_pkcs12(file, password.expose_secret()).map_err(|_| Unopened::Password)?;
        Ok(OpenedPkcs12 {
            keys: archive.keys.iter().map(|bag| bag.key.as_der().to_vec().into()).collect(),
            certificates: archive.certs.iter().map(|bag| bag.cert.as_der().to_vec()).collect(),
        })
    }
}

/// What some files make up.
#[derive(Debug)]
pub struct Bundle {
    /// The leaf and those above it in order, without the root.
    pub chain: Chain,
    /// The leaf's private key, where it was among the files.
    pub key: Option<CertificateKey>,
    /// What was left out, each as a sentence.
    pub left_out: Vec<String>,
}

/// Why files do not make up a certificate.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BundleError {
    /// A file holds nothing usable.
    #[error("{file} holds neither a certificate nor a private key: {why}")]
    Unusable {
        /// The file.
        file: String,
        /// What was tried.
        why: String,
    },
    /// A file is protected, and the password does not open it.
    #[error("{file} {why}")]
    Protected {
        /// The file.
        file: String,
        /// Why it does not open.
        why: String,
    },
    /// No certificate of a server is among the files.
    #[error("none of the files holds a server's certificate; {0}")]
    NoLeaf(String),
    /// Several certificates could be meant.
    #[error("several certificates could be the server's: {0}")]
    SeveralLeaves(String),
    /// Several private keys are among the files.
    #[error("there are several private keys, in {0}")]
    SeveralKeys(String),
    /// The key is not the one of any certificate.
    #[error("the private key in {key} does not match any of the certificates in {certificates}")]
    OtherKey {
        /// Where the key is.
        key: String,
        /// Where the certificates are.
        certificates: String,
    },
    /// More than any bundle holds.
    #[error("the files hold more than {MOST_PIECES} certificates and keys")]
    TooMany,
    /// The chain itself is wrong.
    #[error(transparent)]
    Chain(#[from] ChainError),
}

struct Found {
    file: String,
    der: CertificateDer<'static>,
    says: Details,
}

#[derive(Default)]
struct Pieces {
    certificates: Vec<Found>,
    keys: Vec<(String, CertificateKey)>,
}

impl Bundle {
    /// Puts files together. `held` is a key that is known already, as from a signing
    /// request; `password` opens encrypted private keys and, by way of `pkcs12`, PKCS#12 files.
    ///
    /// # Errors
    /// [`BundleError`] names the file that it is about.
    pub fn assemble(
        files: &[LooseFile],
        held: Option<(&str, &CertificateKey)>,
        password: Option<&SecretString>,
        pkcs12: &dyn OpenPkcs12,
    ) -> Result<Bundle, BundleError> {
        let mut pieces = Pieces::default();
        for file in files {
            pieces.read(file, password, pkcs12)?;
            if pieces.certificates.len() + pieces.keys.len() > MOST_PIECES {
                return Err(BundleError::TooMany);
            }
        }
        let Pieces { certificates, mut keys } = pieces;
        keys.dedup_by(|left, right| left.1.public_key() == right.1.public_key());
        if keys.len() > 1 {
            return Err(BundleError::SeveralKeys(
                keys.iter().map(|(file, _)| file.as_str()).collect::<Vec<_>>().join(", "),
            ));
        }
        let key = keys.pop();
        let known = key.as_ref().map(|(file, key)| (file.as_str(), key)).or(held);
        let leaf = find_leaf(&certificates, known)?;
        let mut left_out = Vec::new();
        let chain = climb(&certificates, leaf, &mut left_out)?;
        Ok(Bundle { chain, key: key.map(|(_, key)| key), left_out })
    }
}

impl Pieces {
    fn read(
        &mut self,
        file: &LooseFile,
        password: Option<&SecretString>,
        pkcs12: &dyn OpenPkcs12,
    ) -> Result<(), BundleError> {
        let unusable = |why: &str| file.unusable(why);
        let holds = |text: &[u8]| file.bytes.windows(text.len()).any(|window| window == text);
        if holds(b"-----BEGIN ") {
            if holds(b"Proc-Type: 4,ENCRYPTED") {
                let how = "convert it with: openssl pkcs8 -topk8";
                return Err(unusable(&format!("its private key is encrypted in an obsolete form; {how}")));
            }
            let mut found = false;
            for section in <(SectionKind, Vec<u8>)>::pem_slice_iter(&file.bytes) {
                let (kind, der) = section.map_err(|error| unusable(&format!("as PEM, {error}")))?;
                match kind {
                    SectionKind::Certificate => {
                        self.certificate(file, der)?;
                        found = true;
                    }
                    SectionKind::PrivateKey | SectionKind::RsaPrivateKey | SectionKind::EcPrivateKey => {
                        let key = private_key(kind, der).ok_or_else(|| unusable("its private key cannot be read"))?;
                        self.keys.push((file.name.clone(), key));
                        found = true;
                    }
                    _ => {}
                }
            }
            if holds(b"BEGIN ENCRYPTED PRIVATE KEY") || holds(b"BEGIN PKCS7") || holds(b"BEGIN CMS") {
                found |= self.wrapped(file, password)?;
            }
            let none = || unusable("none of its PEM sections holds a certificate or a private key");
            return found.then_some(()).ok_or_else(none);
        }
        if let Some(certificates) = pkcs7::certificates(&file.bytes) {
            return certificates.into_iter().try_for_each(|der| self.certificate(file, der));
        }
        if let Ok(encrypted) = EncryptedPrivateKeyInfoRef::try_from(file.bytes.as_slice()) {
            return self.encrypted(file, &encrypted, password);
        }
        if details(&file.bytes).is_ok() {
            return self.certificate(file, file.bytes.clone());
        }
        if let Ok(key) = PrivateKeyDer::try_from(file.bytes.as_slice())
            && let Ok(key) = CertificateKey::from_der(&key.clone_key())
        {
            self.keys.push((file.name.clone(), key));
            return Ok(());
        }
        self.pkcs12(file, password, pkcs12)
    }

    /// Reads the PEM sections that hold more than one certificate, or a key under a password; says whether
    /// there was any.
    fn wrapped(&mut self, file: &LooseFile, password: Option<&SecretString>) -> Result<bool, BundleError> {
        let unusable = |why: String| file.unusable(why);
        let mut found = false;
        for section in pem::parse_many(&file.bytes).map_err(|error| unusable(format!("as PEM, {error}")))? {
            match section.tag() {
                "ENCRYPTED PRIVATE KEY" => {
                    let damaged = || unusable("its encrypted private key is damaged".into());
                    let encrypted = EncryptedPrivateKeyInfoRef::try_from(section.contents()).map_err(|_| damaged())?;
                    self.encrypted(file, &encrypted, password)?;
                }
                "PKCS7" | "CMS" => {
                    let certificates = pkcs7::certificates(section.contents());
                    let certificates = certificates.ok_or_else(|| unusable("its PKCS#7 section is damaged".into()))?;
                    certificates.into_iter().try_for_each(|der| self.certificate(file, der))?;
                }
                _ => continue,
            }
            found = true;
        }
        Ok(found)
    }

    /// Reads a private key under a password (RFC 5958 §3, RFC 8018 §6.2).
    fn encrypted(
        &mut self,
        file: &LooseFile,
        encrypted: &EncryptedPrivateKeyInfoRef<'_>,
        password: Option<&SecretString>,
    ) -> Result<(), BundleError> {
        let protected = |why: &str| BundleError::Protected { file: file.name.clone(), why: why.to_owned() };
        let password = password.ok_or_else(|| protected("holds an encrypted private key, which needs a password"))?;
        let opened = encrypted.decrypt(password.expose_secret()).map_err(|_| {
            protected("holds an encrypted private key that this password does not open, or with an obsolete cipher")
        })?;
        let key = CertificateKey::from_pkcs8(opened.as_bytes());
        let unreadable = |_| protected("holds an encrypted private key of a kind that cannot be used");
        self.keys.push((file.name.clone(), key.map_err(unreadable)?));
        Ok(())
    }

    fn certificate(&mut self, file: &LooseFile, der: Vec<u8>) -> Result<(), BundleError> {
        let damaged = |error| file.unusable(format!("a certificate in it is damaged: {error}"));
        let says = details(&der).map_err(damaged)?;
        if !self.certificates.iter().any(|known| known.says.sha256 == says.sha256) {
            self.certificates.push(Found { file: file.name.clone(), der: der.into(), says });
        }
        Ok(())
    }

    fn pkcs12(
        &mut self,
        file: &LooseFile,
        password: Option<&SecretString>,
        pkcs12: &dyn OpenPkcs12,
    ) -> Result<(), BundleError> {
        let unusable = |why: &str| file.unusable(why);
        // A PKCS#12 file is a SEQUENCE that starts with the version 3 (RFC 7292 §4).
        if !is_pkcs12(&file.bytes) {
            return Err(unusable("it is neither PEM, DER, PKCS#7 nor PKCS#12"));
        }
        let protected = |why: &str| BundleError::Protected { file: file.name.clone(), why: why.to_owned() };
        let opened = pkcs12.open(&file.bytes, password.unwrap_or(&SecretString::default()));
        let opened = opened.map_err(|error| match (error, password) {
            (Unopened::Unread(why), _) => unusable(&format!("as PKCS#12, {why}")),
            (Unopened::Password, Some(_)) => {
                protected("is a PKCS#12 file that this password does not open, or that uses an obsolete cipher")
            }
            (Unopened::Password, None) => protected("is a PKCS#12 file that needs a password"),
        })?;
        if opened.keys.len() + opened.certificates.len() > MOST_PIECES {
            return Err(BundleError::TooMany);
        }
        for key in opened.keys {
            let key = CertificateKey::from_der(&PrivatePkcs8KeyDer::from(key.as_slice()).into());
            self.keys.push((file.name.clone(), key.map_err(|_| unusable("its private key cannot be read"))?));
        }
        for certificate in opened.certificates {
            self.certificate(file, certificate)?;
        }
        Ok(())
    }
}

fn private_key(kind: SectionKind, der: Vec<u8>) -> Option<CertificateKey> {
    let key = match kind {
        SectionKind::RsaPrivateKey => PrivateKeyDer::Pkcs1(der.into()),
        SectionKind::EcPrivateKey => PrivateKeyDer::Sec1(der.into()),
        _ => PrivateKeyDer::Pkcs8(der.into()),
    };
    CertificateKey::from_der(&key).ok()
}

fn is_pkcs12(bytes: &[u8]) -> bool {
    let header = match bytes {
        [0x30, length, ..] if *length < 0x80 => 2,
        [0x30, length, ..] => 2 + usize::from(length & 0x7f),
        _ => return false,
    };
    bytes.get(header..header + 3) == Some(&[0x02, 0x01, 0x03])
}

fn find_leaf(certificates: &[Found], key: Option<(&str, &CertificateKey)>) -> Result<usize, BundleError> {
    if certificates.is_empty() {
        return Err(BundleError::NoLeaf("they hold no certificate at all".into()));
    }
    if let Some((file, key)) = key {
        let own = pindrel_core::values::Fingerprint::of(&key.public_key());
        return certificates.iter().position(|found| found.says.key_sha256 == own).ok_or_else(|| {
            let mut files: Vec<&str> = certificates.iter().map(|found| found.file.as_str()).collect();
            files.dedup();
            BundleError::OtherKey { key: file.to_owned(), certificates: files.join(", ") }
        });
    }
    let leaves: Vec<usize> = (0..certificates.len()).filter(|n| !certificates[*n].says.authority).collect();
    match leaves.as_slice() {
        [leaf] => Ok(*leaf),
        [] => {
            let said: Vec<String> = certificates
                .iter()
                .map(|found| format!("{} is \"{}\", an authority's", found.file, found.says.subject))
                .collect();
            Err(BundleError::NoLeaf(said.join("; ")))
        }
        several => {
            let said = several
                .iter()
                .map(|n| format!("{} ({})", certificates[*n].file, certificates[*n].says.names.join(", ")));
            Err(BundleError::SeveralLeaves(said.collect::<Vec<_>>().join("; ")))
        }
    }
}

/// Follows the issuers from the leaf; a root is left out, since clients have it.
fn climb(certificates: &[Found], leaf: usize, left_out: &mut Vec<String>) -> Result<Chain, ChainError> {
    let mut used = vec![leaf];
    let mut at = leaf;
    loop {
        let below = &certificates[at].says;
        if below.issuer == below.subject && !below.subject.is_empty() {
            break;
        }
        let issues = |found: &Found| {
            let same_key = match (&below.authority_key_id, &found.says.subject_key_id) {
                (Some(named), Some(own)) => named == own,
                _ => true,
            };
            found.says.authority && found.says.subject == below.issuer && same_key
        };
        let above = (0..certificates.len()).find(|n| !used.contains(n) && issues(&certificates[*n]));
        let Some(above) = above else { break };
        let says = &certificates[above].says;
        used.push(above);
        at = above;
        if says.issuer == says.subject {
            used.pop();
            left_out.push(format!(
                "the root \"{}\" ({}) is left out: clients have it",
                says.subject, certificates[above].file
            ));
            break;
        }
    }
    for (n, found) in certificates.iter().enumerate() {
        let is_root = found.says.issuer == found.says.subject;
        let told = is_root && left_out.iter().any(|said| said.contains(&found.file));
        if !used.contains(&n) && !told {
            left_out
                .push(format!("\"{}\" ({}) is left out: it is not part of the chain", found.says.subject, found.file));
        }
    }
    Chain::from_der(used.into_iter().map(|n| certificates[n].der.clone()).collect())
}

/// Writes a chain with its key as PKCS#12 (RFC 7292) with today's algorithms: PBES2 with
/// AES-256 and HMAC-SHA-256.
///
/// # Errors
/// [`ChainError::Unreadable`] when the library cannot take them.
pub fn pkcs12(
    chain: &Chain,
    key: &CertificateKey,
    alias: &str,
    password: &SecretString,
) -> Result<Vec<u8>, ChainError> {
    let failed = |error: p12_keystore::error::Error| ChainError::Unreadable(error.to_string());
    let certificates: Result<Vec<P12Certificate>, _> =
        chain.certificates().iter().map(|certificate| P12Certificate::from_der(certificate)).collect();
    let key = PrivateKey::from_der(key.pkcs8()).map_err(failed)?;
    let own_id = chain.fingerprint().as_bytes()[..20].to_vec();
    let entry = PrivateKeyChain::new(own_id, key, certificates.map_err(failed)?);
    let mut store = KeyStore::new();
    store.add_entry(alias, KeyStoreEntry::PrivateKeyChain(entry));
    store
        .writer(password.expose_secret())
        .encryption_algorithm(EncryptionAlgorithm::PbeWithHmacSha256AndAes256)
        .encryption_iterations(PKCS12_ITERATIONS)
        .mac_algorithm(MacAlgorithm::HmacSha256)
        .mac_iterations(PKCS12_ITERATIONS)
        .write()
        .map_err(failed)
}

#[cfg(test)]
mod tests;
