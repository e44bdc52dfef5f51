//! Certificate keys and their signing requests (RFC 2986).

use jiff::Timestamp;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::KeyKind;
use rcgen::{
    CertificateParams, DistinguishedName, ExtendedKeyUsagePurpose, KeyPair, KeyUsagePurpose, PKCS_ECDSA_P256_SHA256,
    PKCS_ECDSA_P384_SHA384, PKCS_RSA_SHA256, PublicKeyData, RsaKeySize,
};
use rustls_pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use secrecy::{ExposeSecret, SecretSlice, SecretString};

use crate::{AccountKey, KeyError};

/// The private key of a certificate.
pub struct CertificateKey {
    pair: KeyPair,
    pkcs8: SecretSlice<u8>,
}

impl CertificateKey {
    /// Makes a new key.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system returned no random bytes, or the kind is none
    /// that authorities issue for.
    pub fn generate(kind: KeyKind) -> Result<CertificateKey, KeyError> {
        let pair = match kind {
            KeyKind::EcdsaP256 => KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256),
            KeyKind::EcdsaP384 => KeyPair::generate_for(&PKCS_ECDSA_P384_SHA384),
            KeyKind::Rsa2048 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_2048),
            KeyKind::Rsa3072 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_3072),
            KeyKind::Rsa4096 => KeyPair::generate_rsa_for(&PKCS_RSA_SHA256, RsaKeySize::_4096),
            KeyKind::Ed25519 => return Err(KeyError::Failed("make an Ed25519 key for a certificate")),
        };
        let pair = pair.map_err(|_| KeyError::Failed("make a certificate key"))?;
        let pkcs8 = pair.serialize_der().into();
        Ok(CertificateKey { pair, pkcs8 })
    }

    /// Reads a key in PKCS#8 DER.
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is no key that can sign.
    pub fn from_pkcs8(der: &[u8]) -> Result<CertificateKey, KeyError> {
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(der.to_vec()));
        CertificateKey::from_der(&key)
    }

    /// Reads a key in PKCS#8, PKCS#1 or SEC 1 DER.
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is no key that can sign.
    pub fn from_der(key: &PrivateKeyDer<'_>) -> Result<CertificateKey, KeyError> {
        let pair = KeyPair::try_from(key).map_err(|_| KeyError::Unreadable)?;
        let pkcs8 = match key {
            PrivateKeyDer::Pkcs8(key) => key.secret_pkcs8_der().to_vec(),
            // The other forms are made into PKCS#8 by the code that reads account keys.
            other => crate::account::from_der(other)?.pkcs8().to_vec(),
        };
        Ok(CertificateKey { pair, pkcs8: pkcs8.into() })
    }

    /// Returns the key in PKCS#8 DER, to be sealed.
    pub fn pkcs8(&self) -> &[u8] {
        self.pkcs8.expose_secret()
    }

    /// Returns the key in PEM, for the certificate store of a site.
    pub fn pem(&self) -> SecretString {
        crate::pem::encode("PRIVATE KEY", self.pkcs8()).into()
    }

    /// Returns the SubjectPublicKeyInfo in DER, as a certificate holds it.
    pub fn public_key(&self) -> Vec<u8> {
        self.pair.subject_public_key_info()
    }

    /// Returns the key as one that signs requests in its own name, as revocation by
    /// certificate key needs (RFC 8555 §7.6).
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is of a kind that signs no requests.
    pub fn request_signer(&self) -> Result<AccountKey, KeyError> {
        AccountKey::from_pkcs8(self.pkcs8())
    }

    /// Makes a signing request for `names` in DER, with an empty subject: the names
    /// stand in the subject alternative name alone (RFC 9525 §2).
    ///
    /// # Errors
    /// [`KeyError::Request`] when a name cannot be encoded.
    pub fn signing_request(&self, names: &[Hostname]) -> Result<Vec<u8>, KeyError> {
        let request = for_names(names)?.serialize_request(&self.pair).map_err(KeyError::Request)?;
        Ok(request.der().to_vec())
    }

    /// Makes a self-signed certificate in PEM, for a first bring-up.
    ///
    /// # Errors
    /// [`KeyError::Request`] when a name cannot be encoded.
    pub fn self_signed(&self, names: &[Hostname], now: Timestamp, days: i64) -> Result<String, KeyError> {
        let mut params = for_names(names)?;
        let moment = |seconds: i64| {
            rcgen::date_time_ymd(1970, 1, 1) + std::time::Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
        };
        params.not_before = moment(now.as_second());
        params.not_after = moment(now.as_second() + days * 86_400);
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        Ok(params.self_signed(&self.pair).map_err(KeyError::Request)?.pem())
    }
}

fn for_names(names: &[Hostname]) -> Result<CertificateParams, KeyError> {
    let names: Vec<String> = names.iter().map(|name| name.as_str().to_owned()).collect();
    let mut params = CertificateParams::new(names).map_err(KeyError::Request)?;
    params.distinguished_name = DistinguishedName::new();
    Ok(params)
}

impl std::fmt::Debug for CertificateKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("CertificateKey(..)")
    }
}
