//! Account keys: ES256 (RFC 7518 §3.4).

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use aws_lc_rs::{hmac, signature};
use pindrel_core::acme::jws::Jwk;
use secrecy::{ExposeSecret, SecretSlice};

use crate::KeyError;

/// The key of an account at an authority.
#[derive(Debug)]
pub struct AccountKey {
    pair: EcdsaKeyPair,
    jwk: Jwk,
    pkcs8: SecretSlice<u8>,
}

impl AccountKey {
    /// Makes a new key.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system gives no randomness.
    pub fn generate() -> Result<AccountKey, KeyError> {
        let random = SystemRandom::new();
        let pkcs8 = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random)
            .map_err(|_| KeyError::Failed("make an account key"))?;
        AccountKey::from_pkcs8(pkcs8.as_ref())
    }

    /// Reads a key in PKCS#8 DER.
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is no P-256 key.
    pub fn from_pkcs8(der: &[u8]) -> Result<AccountKey, KeyError> {
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, der).map_err(|_| KeyError::Unreadable)?;
        let jwk = Jwk::from_uncompressed(pair.public_key().as_ref()).ok_or(KeyError::Unreadable)?;
        Ok(AccountKey { pair, jwk, pkcs8: der.to_vec().into() })
    }

    /// Returns the public half.
    pub fn jwk(&self) -> &Jwk {
        &self.jwk
    }

    /// Returns the key in PKCS#8 DER, to be sealed.
    pub fn pkcs8(&self) -> &[u8] {
        self.pkcs8.expose_secret()
    }

    /// Signs as ES256: r and s, 32 bytes each.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system gives no randomness.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let random = SystemRandom::new();
        let signature: signature::Signature =
            self.pair.sign(&random, message).map_err(|_| KeyError::Failed("sign a request"))?;
        Ok(signature.as_ref().to_vec())
    }
}

/// Computes HMAC-SHA-256 (RFC 2104), for external account binding.
pub fn hmac_sha256(key: &[u8], message: &[u8]) -> Vec<u8> {
    hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), message).as_ref().to_vec()
}
