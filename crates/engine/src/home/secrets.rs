//! Secrets: read where the manifest says, and opened from the state.

use std::path::Path;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use pindrel_core::text::display_text::io_reason;
use pindrel_core::values::SecretRef;
use pindrel_keys::{SealError, Sealed, SealingKey, roots};
use pindrel_state::{SealedBytes, State};
use rustls_pki_types::TrustAnchor;
use secrecy::{ExposeSecret as _, SecretSlice, SecretString};
use zeroize::Zeroizing;

use crate::failure::EngineError;

/// The longest secret that is read.
const MAX_SECRET_BYTES: u64 = 16 * 1024;
/// The longest file of roots that is read.
pub(crate) const MAX_ROOTS_BYTES: u64 = 16 << 20;
/// The longest file of roots for client certificates that is read: platforms are told all of it.
const MAX_TRUST_BUNDLE_BYTES: u64 = 256 * 1024;
/// The line that `init` writes where a secret is still to be put.
pub const PLACEHOLDER: &str = "replace-this-line-with-the-secret";
/// The row whose opening proves the sealing key.
pub(crate) const CHECK_ROW: &str = "sealing-check";

/// Reads a secret; paths are relative to `folder`, and white space at the end (the
/// line end that editors add) is left out.
///
/// # Errors
/// A part of a sentence that says why not, without the secret.
pub fn read(reference: &SecretRef, folder: &Path) -> Result<SecretString, String> {
    let secret = read_any(reference, folder)?;
    if secret.expose_secret() == PLACEHOLDER {
        Err("it still contains the placeholder that init wrote".into())
    } else {
        Ok(secret)
    }
}

/// Reads a secret, be it the line that `init` writes.
///
/// # Errors
/// A part of a sentence that says why not, without the secret.
pub fn read_any(reference: &SecretRef, folder: &Path) -> Result<SecretString, String> {
    let text = match reference {
        SecretRef::Env(name) => std::env::var(name).map_err(|error| match error {
            std::env::VarError::NotPresent => format!("the environment variable {name} is not set"),
            std::env::VarError::NotUnicode(_) => format!("the environment variable {name} is not text"),
        })?,
        SecretRef::File(path) => {
            pindrel_machine::read_text(&folder.join(path), MAX_SECRET_BYTES).map_err(|error| io_reason(&error))?
        }
    };
    let text = Zeroizing::new(text);
    let text = text.trim_end();
    if text.is_empty() { Err("it is empty".into()) } else { Ok(text.into()) }
}

/// Says whether a secret is base64, as TSIG keys are.
pub fn is_base64(secret: &SecretString) -> bool {
    STANDARD.decode(secret.expose_secret()).is_ok_and(|key| !key.is_empty())
}

/// Reads a PEM file of root certificates.
///
/// # Errors
/// A part of a sentence that says why not.
pub fn read_roots(path: &Path) -> Result<Vec<TrustAnchor<'static>>, String> {
    roots::from_pem(&pindrel_machine::read_at_most(path, MAX_ROOTS_BYTES).map_err(|error| io_reason(&error))?)
}

/// Reads the roots for client certificates; what else stands in the file is left out, a private key above
/// all: the text is told to platforms.
///
/// # Errors
/// A part of a sentence that says why not.
pub fn read_trust_bundle(path: &Path) -> Result<String, String> {
    let bytes = pindrel_machine::read_at_most(path, MAX_TRUST_BUNDLE_BYTES).map_err(|error| io_reason(&error))?;
    roots::from_pem(&bytes)?;
    Ok(roots::plain_pem(&bytes))
}

/// The key that opens the secrets of a state.
pub(crate) struct Vault {
    key: Arc<SealingKey>,
}

impl Vault {
    /// Proves that the key is the one that the state was made with; a new state is
    /// made with this one.
    pub(crate) async fn open(key: Arc<SealingKey>, state: &dyn State) -> Result<Vault, EngineError> {
        let vault = Vault { key };
        let check = match state.value(CHECK_ROW).await? {
            Some(check) => check,
            None => state.persist_first_value(CHECK_ROW, &vault.seal(CHECK_ROW, b"pindrel")?).await?,
        };
        match vault.unseal(CHECK_ROW, &check) {
            Ok(_) => Ok(vault),
            Err(SealError::OtherKey { sealed_with, given }) => {
                Err(EngineError::WrongSealingKey { given, made_with: sealed_with })
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Returns the id of the key, by which an installation is told from others.
    pub(crate) fn id(&self) -> &str {
        self.key.id()
    }

    pub(crate) fn seal(&self, row: &str, secret: &[u8]) -> Result<SealedBytes, SealError> {
        let sealed = self.key.seal(row, secret)?;
        Ok(SealedBytes { key_id: sealed.key_id, bytes: sealed.bytes })
    }

    pub(crate) fn unseal(&self, row: &str, sealed: &SealedBytes) -> Result<SecretSlice<u8>, SealError> {
        self.key.open(row, &Sealed { key_id: sealed.key_id.clone(), bytes: sealed.bytes.clone() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_read_without_its_line_end_and_within_bounds() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, bytes: &[u8]| std::fs::write(folder.path().join(name), bytes).unwrap();
        write("good", "sécret with blanks inside \r\n\n".as_bytes());
        write("blank", b" \n");
        write("bytes", b"\xff\xfe planted");
        write("waiting", format!("{PLACEHOLDER}\n").as_bytes());
        write("long", &vec![b'x'; 16 * 1024 + 1]);
        write("full", &vec![b'x'; 16 * 1024]);
        let read = |name: &str| read(&SecretRef::File(name.into()), folder.path());
        assert_eq!(read("good").unwrap().expose_secret(), "sécret with blanks inside");
        assert_eq!(read("full").unwrap().expose_secret().len(), 16 * 1024);
        for (name, says) in [
            ("blank", "it is empty"),
            ("bytes", "it is not text"),
            ("waiting", "the placeholder that init wrote"),
            ("long", "more than 16384 bytes"),
            ("none", "there is no such file"),
            // A file without an end, and one that is none.
            ("/dev/zero", "more than 16384 bytes"),
            (".", "directory"),
        ] {
            let why = read(name).unwrap_err();
            assert!(why.contains(says) && !why.contains("planted"), "{name}: {why}");
        }
        assert!(read_roots(Path::new("/dev/zero")).unwrap_err().contains("more than"));
    }
}
