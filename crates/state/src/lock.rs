//! One process at a time changes a state; the second is told who the first is.

use std::fs::{File, TryLockError};
use std::io::{Read as _, Seek as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use jiff::Timestamp;

/// How often a waiting process looks again.
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Why the lock was not had.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LockError {
    /// The lock file cannot be opened or written.
    #[error("the lock {path} cannot be used")]
    File {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// The database cannot be asked for it.
    #[error("the lock of the state cannot be taken")]
    Database(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// Somebody else has it.
    #[error("another run holds the state: {holder}; waited {waited_secs} s for it")]
    Held {
        /// Who, as the holder wrote it.
        holder: String,
        /// How long was waited.
        waited_secs: u64,
    },
}

/// What is locked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LockKind {
    /// The state, for a run that changes it.
    Run,
    /// The right to keep running on it.
    Keep,
}

/// The exclusive right to change a state, given back when dropped. The operating system,
/// or the database, takes it back from a process that was killed.
#[must_use = "it is given back at once when dropped"]
pub struct Lock(#[expect(dead_code, reason = "it is held, not used")] Box<dyn std::any::Any + Send + Sync>);

impl std::fmt::Debug for Lock {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Lock")
    }
}

impl Lock {
    /// Holds something whose end gives the right back.
    pub(crate) fn holding(holder: impl std::any::Any + Send + Sync) -> Lock {
        Lock(Box::new(holder))
    }

    /// Takes the lock file at `path`, waiting at most `patience`; `who` is shown to others
    /// that wait.
    pub(crate) async fn file(path: &Path, who: &str, now: Timestamp, patience: Duration) -> Result<Lock, LockError> {
        let failed = |source| LockError::File { path: path.to_owned(), source };
        let mut file = open(path).map_err(failed)?;
        let begun = Instant::now();
        loop {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(error)) => return Err(failed(error)),
                Err(TryLockError::WouldBlock) if begun.elapsed() >= patience => {
                    let mut holder = String::new();
                    let read = (&file).take(300).read_to_string(&mut holder);
                    let known = read.is_ok() && !holder.is_empty();
                    let holder = if known { holder.trim().to_owned() } else { "unknown".to_owned() };
                    return Err(LockError::Held { holder, waited_secs: begun.elapsed().as_secs() });
                }
                Err(TryLockError::WouldBlock) => tokio::time::sleep(LOOK_EVERY).await,
            }
        }
        let line = holder_line(who, now);
        file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(line.as_bytes())).map_err(failed)?;
        Ok(Lock::holding(file))
    }
}

/// Opens the lock file, and not what a link leads to: whatever is there is truncated.
fn open(path: &Path) -> std::io::Result<File> {
    let mut options = File::options();
    options.create(true).truncate(false).read(true).write(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600).custom_flags(nix::libc::O_NOFOLLOW | nix::libc::O_NONBLOCK);
    }
    options.open(path)
}

/// What others that wait are shown.
pub(crate) fn holder_line(who: &str, now: Timestamp) -> String {
    format!("{who} (process {}) since {now:.0}\n", std::process::id())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_second_waits_a_bounded_time_and_is_told_who_holds_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        let now = Timestamp::UNIX_EPOCH;
        let first = Lock::file(&path, "settle", now, Duration::ZERO).await.unwrap();
        let error = Lock::file(&path, "settle", now, Duration::from_millis(150)).await.unwrap_err().to_string();
        assert!(error.contains("settle (process ") && error.contains("since 1970-01-01T00:00:00Z"), "{error}");
        drop(first);
        drop(Lock::file(&path, "settle", now, Duration::ZERO).await.unwrap());
        // A link in its place is not followed.
        let precious = folder.path().join("precious");
        std::fs::write(&precious, "precious").unwrap();
        let link = folder.path().join("link");
        std::os::unix::fs::symlink(&precious, &link).unwrap();
        assert!(matches!(Lock::file(&link, "settle", now, Duration::ZERO).await.unwrap_err(), LockError::File { .. }));
        assert_eq!(std::fs::read(&precious).unwrap(), b"precious");
    }
}
