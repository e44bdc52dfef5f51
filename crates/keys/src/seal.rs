//! Sealing: secrets at rest under AES-256-GCM, bound to the row they stand in.

use aws_lc_rs::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use aws_lc_rs::digest;
use aws_lc_rs::rand::{SecureRandom as _, SystemRandom};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use secrecy::{ExposeSecret as _, SecretSlice, SecretString};
use zeroize::Zeroize as _;

/// The bytes of a sealing key.
const KEY_BYTES: usize = 32;

/// A sealed secret and the id of the key that opens it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sealed {
    /// The first 16 hex digits of the key's SHA-256.
    pub key_id: String,
    /// The nonce and the encrypted secret with its tag.
    pub bytes: Vec<u8>,
}

/// Why a secret could not be sealed or opened.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum SealError {
    /// The text is not 32 bytes in base64.
    #[error("the sealing key is not 32 bytes in base64")]
    BadKey,
    /// It was sealed with another key.
    #[error("this was sealed with the key {sealed_with}, and the key given is {given}")]
    OtherKey {
        /// The id of the key it was sealed with.
        sealed_with: String,
        /// The id of the key given.
        given: String,
    },
    /// It was changed, or stands in another row than the one it was sealed for.
    #[error("a sealed secret was changed or moved")]
    Torn,
    /// The system gave no randomness.
    #[error("the system returned no random bytes")]
    NoRandomness,
}

/// The key that seals all secrets of one state.
pub struct SealingKey {
    key: LessSafeKey,
    id: String,
}

impl SealingKey {
    /// Makes the text of a new key: 32 random bytes in base64.
    ///
    /// # Errors
    /// [`SealError::NoRandomness`].
    pub fn generate() -> Result<SecretString, SealError> {
        let mut bytes = [0; KEY_BYTES];
        SystemRandom::new().fill(&mut bytes).map_err(|_| SealError::NoRandomness)?;
        let text = STANDARD.encode(bytes);
        bytes.zeroize();
        Ok(text.into())
    }

    /// Reads a key from its text.
    ///
    /// # Errors
    /// [`SealError::BadKey`].
    pub fn from_text(text: &SecretString) -> Result<SealingKey, SealError> {
        let mut bytes = STANDARD.decode(text.expose_secret().trim()).map_err(|_| SealError::BadKey)?;
        let unbound = UnboundKey::new(&AES_256_GCM, &bytes).map_err(|_| SealError::BadKey);
        let id =
            digest::digest(&digest::SHA256, &bytes).as_ref()[..8].iter().map(|byte| format!("{byte:02x}")).collect();
        bytes.zeroize();
        Ok(SealingKey { key: LessSafeKey::new(unbound?), id })
    }

    /// Returns the id, which may be shown.
    pub fn id(&self) -> &str {
        &self.id
    }

    /// Seals a secret for the row that `row` names.
    ///
    /// # Errors
    /// [`SealError::NoRandomness`].
    pub fn seal(&self, row: &str, secret: &[u8]) -> Result<Sealed, SealError> {
        let mut nonce = [0; NONCE_LEN];
        SystemRandom::new().fill(&mut nonce).map_err(|_| SealError::NoRandomness)?;
        let mut bytes = secret.to_vec();
        self.key
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), Aad::from(row.as_bytes()), &mut bytes)
            .map_err(|_| SealError::NoRandomness)?;
        bytes.splice(0..0, nonce);
        Ok(Sealed { key_id: self.id.clone(), bytes })
    }

    /// Opens what was sealed for the row that `row` names.
    ///
    /// # Errors
    /// [`SealError::OtherKey`] or [`SealError::Torn`].
    pub fn open(&self, row: &str, sealed: &Sealed) -> Result<SecretSlice<u8>, SealError> {
        if sealed.key_id != self.id {
            return Err(SealError::OtherKey { sealed_with: sealed.key_id.clone(), given: self.id.clone() });
        }
        let (nonce, encrypted) = sealed.bytes.split_at_checked(NONCE_LEN).ok_or(SealError::Torn)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).map_err(|_| SealError::Torn)?;
        let mut bytes = encrypted.to_vec();
        let length =
            self.key.open_in_place(nonce, Aad::from(row.as_bytes()), &mut bytes).map_err(|_| SealError::Torn)?.len();
        bytes.truncate(length);
        Ok(bytes.into())
    }
}

impl std::fmt::Debug for SealingKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SealingKey({})", self.id)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn opens_only_with_its_key_in_its_row_unchanged() {
        let key = SealingKey::from_text(&SealingKey::generate().unwrap()).unwrap();
        let sealed = key.seal("certificate/a", b"secret").unwrap();
        assert_eq!(key.open("certificate/a", &sealed).unwrap().expose_secret(), b"secret");
        assert_eq!(key.open("certificate/b", &sealed).unwrap_err(), SealError::Torn);
        for position in 0..sealed.bytes.len() {
            let mut torn = sealed.clone();
            torn.bytes[position] ^= 1;
            assert_eq!(key.open("certificate/a", &torn).unwrap_err(), SealError::Torn);
        }
        let short = Sealed { bytes: vec![1, 2], ..sealed.clone() };
        assert_eq!(key.open("certificate/a", &short).unwrap_err(), SealError::Torn);
        let other = SealingKey::from_text(&SealingKey::generate().unwrap()).unwrap();
        assert!(matches!(other.open("certificate/a", &sealed), Err(SealError::OtherKey { .. })));
    }
}
