//! Where a run's state lives on disk: the database, the key that seals its secrets,
//! and the lock.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use jiff::Timestamp;
use pindrel_keys::SealingKey;
use pindrel_state::{Lock, LockError, SqliteState, State};
use secrecy::{ExposeSecret as _, SecretString};
use zeroize::Zeroizing;

use crate::deliver::replace_file;
use crate::error::EngineError;
use crate::secrets::CHECK_ROW;

/// The name of the sealing key's file, beside the database.
const KEY_FILE: &str = "sealing.key";
/// The name of the lock's file, beside the database.
const LOCK_FILE: &str = "lock";

/// An opened state with the key that seals its secrets.
pub struct Home {
    pub(crate) state: Arc<dyn State>,
    pub(crate) sealing: SealingKey,
    folder: PathBuf,
}

impl Home {
    /// Opens the SQLite state at `path`. The sealing key is `given`, else it is read
    /// from `sealing.key` beside it; a new state makes one.
    ///
    /// # Errors
    /// [`EngineError`].
    pub fn open(path: &Path, given: Option<&SecretString>) -> Result<Home, EngineError> {
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
        let state = SqliteState::open(path)?;
        let sealing = match given {
            Some(text) => SealingKey::from_text(text)?,
            None => {
                // A state in which nothing is sealed yet is new, however far it got.
                let is_new = state.value(CHECK_ROW)?.is_none();
                SealingKey::from_text(&sealing_text(&folder.join(KEY_FILE), is_new)?)?
            }
        };
        Ok(Home { state: Arc::new(state), sealing, folder })
    }

    /// Takes the right to change the state, waiting at most `patience`.
    ///
    /// # Errors
    /// [`LockError::Held`] says who has it.
    pub fn lock(&self, who: &str, patience: Duration) -> Result<Lock, LockError> {
        Lock::take(&self.folder.join(LOCK_FILE), who, Timestamp::now(), patience)
    }
}

fn sealing_text(path: &Path, may_make: bool) -> Result<SecretString, EngineError> {
    let failed = |source| EngineError::SealingKey { path: path.to_owned(), source };
    match std::fs::read_to_string(path) {
        Ok(text) => {
            check_private(path)?;
            Ok(text.into())
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && may_make => {
            let text = SealingKey::generate()?;
            let line = Zeroizing::new(format!("{}\n", text.expose_secret()));
            replace_file(path, line.as_bytes(), 0o600, (None, None)).map_err(failed)?;
            Ok(text)
        }
        Err(error) => Err(failed(error)),
    }
}

#[cfg(unix)]
fn check_private(path: &Path) -> Result<(), EngineError> {
    use std::os::unix::fs::PermissionsExt as _;
    let metadata =
        std::fs::metadata(path).map_err(|source| EngineError::SealingKey { path: path.to_owned(), source })?;
    let mode = metadata.permissions().mode() & 0o777;
    if mode & 0o077 == 0 { Ok(()) } else { Err(EngineError::SealingKeyOpen { path: path.to_owned(), mode }) }
}

#[cfg(not(unix))]
fn check_private(_path: &Path) -> Result<(), EngineError> {
    Ok(())
}
