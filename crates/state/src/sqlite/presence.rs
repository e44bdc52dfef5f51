//! Which processes are at work on a file: each holds a lock on a small file of its own, which the operating system takes
//! back when the process ends, however it ends.

use std::collections::HashSet;
use std::fs::{File, TryLockError};
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use crate::claims::Presence;

/// The folder of the lock files, beside the database.
const FOLDER: &str = "workers";

/// Counts the presences of this process.
static COUNT: AtomicU64 = AtomicU64::new(0);

/// Who is at work, and how that is shown.
pub(super) enum Presences {
    /// By locked files in a folder.
    Files(PathBuf),
    /// Within this process, for a state in memory.
    Memory(Arc<Mutex<HashSet<String>>>),
}

impl Default for Presences {
    fn default() -> Presences {
        Presences::Memory(Arc::default())
    }
}

/// What ends with the worker.
struct InMemory {
    token: String,
    living: Arc<Mutex<HashSet<String>>>,
}

impl Drop for InMemory {
    fn drop(&mut self) {
        self.living.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.token);
    }
}

/// A locked file, which goes with the worker; what a killed process leaves, others take away.
struct Locked {
    path: PathBuf,
    #[expect(dead_code, reason = "its lock is held, not used")]
    file: File,
}

impl Drop for Locked {
    fn drop(&mut self) {
        // Still locked: nobody else has come to use it.
        let _ = std::fs::remove_file(&self.path);
        // Only the last one succeeds.
        let _ = self.path.parent().map(std::fs::remove_dir);
    }
}

impl Presences {
    /// Those of the processes that use the database at `path`.
    pub(super) fn beside(path: &Path) -> Presences {
        Presences::Files(path.with_file_name(FOLDER))
    }

    pub(super) fn begin(&self) -> std::io::Result<Presence> {
        loop {
            let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
            let count = COUNT.fetch_add(1, Ordering::Relaxed);
            let token = format!("{}-{}-{count}", std::process::id(), since.as_nanos());
            match self {
                Presences::Memory(living) => {
                    living.lock().unwrap_or_else(PoisonError::into_inner).insert(token.clone());
                    let held = InMemory { token: token.clone(), living: living.clone() };
                    return Ok(Presence { token, held: Box::new(held) });
                }
                Presences::Files(folder) => {
                    let path = folder.join(&token);
                    // The folder may go, and the file may be taken for one that was left, before it is locked.
                    let Some(file) = create(folder, &path)? else { continue };
                    if file.try_lock().is_ok() && is_at(&file, &path)? {
                        return Ok(Presence { token, held: Box::new(Locked { path, file }) });
                    }
                }
            }
        }
    }

    /// Says whether somebody shows this; takes away what a dead process left.
    pub(super) fn has(&self, token: &str) -> std::io::Result<bool> {
        let folder = match self {
            Presences::Memory(living) => {
                return Ok(living.lock().unwrap_or_else(PoisonError::into_inner).contains(token));
            }
            Presences::Files(folder) => folder,
        };
        // What no process of this machine wrote is no path.
        if token.contains(['/', '\0']) {
            return Ok(false);
        }
        let path = folder.join(token);
        let file = match File::options().read(true).write(true).custom_flags(nix::libc::O_NOFOLLOW).open(&path) {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(false),
            Err(error) => return Err(error),
        };
        match file.try_lock() {
            Ok(()) => {
                if is_at(&file, &path)? {
                    std::fs::remove_file(&path)?;
                }
                Ok(false)
            }
            Err(TryLockError::WouldBlock) => Ok(true),
            Err(TryLockError::Error(error)) => Err(error),
        }
    }
}

/// Makes a new file; `None` where the folder went meanwhile.
fn create(folder: &Path, path: &Path) -> std::io::Result<Option<File>> {
    super::private_folder(folder)?;
    match File::options().write(true).create_new(true).mode(0o600).open(path) {
        Ok(file) => Ok(Some(file)),
        Err(error) if matches!(error.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::AlreadyExists) => {
            Ok(None)
        }
        Err(error) => Err(error),
    }
}

/// Says whether a file is still the one at its path.
fn is_at(file: &File, path: &Path) -> std::io::Result<bool> {
    let own = file.metadata()?;
    match std::fs::metadata(path) {
        Ok(there) => Ok((own.dev(), own.ino()) == (there.dev(), there.ino())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_present_until_it_ends_and_leaves_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let beside = || Presences::beside(&folder.path().join("state.sqlite"));
        let (one, other) = (beside(), beside());
        let (first, second) = (one.begin().unwrap(), one.begin().unwrap());
        assert!(other.has(&first.token).unwrap() && one.has(&second.token).unwrap());
        let token = first.token.clone();
        drop(first);
        assert!(!other.has(&token).unwrap());
        // What a killed process leaves is a file without a lock.
        let left = folder.path().join(FOLDER).join("4711-1-0");
        std::fs::write(&left, "").unwrap();
        assert!(!other.has("4711-1-0").unwrap() && !left.exists());
        assert!(!other.has("../state.sqlite").unwrap(), "no path leads out of the folder");
        drop(second);
        assert!(!folder.path().join(FOLDER).exists());
    }
}
