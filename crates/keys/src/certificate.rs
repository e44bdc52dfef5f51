//! Certificate keys and their signing requests (RFC 2986).

use pindrel_core::name::Hostname;
use rcgen::{CertificateParams, DistinguishedName, KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData};
use rustls_pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use secrecy::{ExposeSecret, SecretSlice, SecretString};

use crate::KeyError;

/// The private key of a certificate.
pub struct CertificateKey {
    pair: KeyPair,
    pkcs8: SecretSlice<u8>,
}

impl CertificateKey {
    /// Makes a new key on the curve P-256.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system gives no randomness.
    pub fn generate() -> Result<CertificateKey, KeyError> {
        let pair =
            KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).map_err(|_| KeyError::Failed("make a certificate key"))?;
        let pkcs8 = pair.serialize_der().into();
        Ok(CertificateKey { pair, pkcs8 })
    }

    /// Reads a key in PKCS#8 DER.
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is no key that can sign.
    pub fn from_pkcs8(der: &[u8]) -> Result<CertificateKey, KeyError> {
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(der.to_vec()));
        let pair = KeyPair::try_from(&key).map_err(|_| KeyError::Unreadable)?;
        Ok(CertificateKey { pair, pkcs8: der.to_vec().into() })
    }

    /// Returns the key in PKCS#8 DER, to be sealed.
    pub fn pkcs8(&self) -> &[u8] {
        self.pkcs8.expose_secret()
    }

    /// Returns the key in PEM, for the certificate store of a site.
    pub fn pem(&self) -> SecretString {
        self.pair.serialize_pem().into()
    }

    /// Returns the SubjectPublicKeyInfo in DER, as a certificate holds it.
    pub fn public_key(&self) -> Vec<u8> {
        self.pair.subject_public_key_info()
    }

    /// Makes a signing request for `names` in DER, with an empty subject: the names
    /// stand in the subject alternative name alone (RFC 9525 §2).
    ///
    /// # Errors
    /// [`KeyError::Request`] when a name cannot be encoded.
    pub fn signing_request(&self, names: &[Hostname]) -> Result<Vec<u8>, KeyError> {
        let names: Vec<String> = names.iter().map(|name| name.as_str().to_owned()).collect();
        let mut params = CertificateParams::new(names).map_err(KeyError::Request)?;
        params.distinguished_name = DistinguishedName::new();
        let request = params.serialize_request(&self.pair).map_err(KeyError::Request)?;
        Ok(request.der().to_vec())
    }
}

impl std::fmt::Debug for CertificateKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("CertificateKey(..)")
    }
}
