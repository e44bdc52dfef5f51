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
    /// Somebody else has it.
    #[error("another run holds the state: {holder}; waited {waited_secs} s for it")]
    Held {
        /// Who, as the holder wrote it.
        holder: String,
        /// How long was waited.
        waited_secs: u64,
    },
}

/// The exclusive right to change a state, given back when dropped. The operating
/// system takes it back from a process that was killed.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

impl Lock {
    /// Takes the lock at `path`, waiting at most `patience`; `who` is told to others
    /// that wait.
    ///
    /// # Errors
    /// [`LockError::Held`] when the time is over.
    pub fn take(path: &Path, who: &str, now: Timestamp, patience: Duration) -> Result<Lock, LockError> {
        let failed = |source| LockError::File { path: path.to_owned(), source };
        let mut file =
            File::options().create(true).truncate(false).read(true).write(true).open(path).map_err(failed)?;
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
                Err(TryLockError::WouldBlock) => std::thread::sleep(LOOK_EVERY),
            }
        }
        let line = format!("{who} (process {}) since {now:.0}\n", std::process::id());
        file.set_len(0).and_then(|()| file.rewind()).and_then(|()| file.write_all(line.as_bytes())).map_err(failed)?;
        Ok(Lock { _file: file })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_waits_a_bounded_time_and_is_told_who_holds_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        let now = Timestamp::UNIX_EPOCH;
        let first = Lock::take(&path, "settle", now, Duration::ZERO).unwrap();
        let error = Lock::take(&path, "settle", now, Duration::from_millis(150)).unwrap_err().to_string();
        assert!(error.contains("settle (process ") && error.contains("since 1970-01-01T00:00:00Z"), "{error}");
        drop(first);
        Lock::take(&path, "settle", now, Duration::ZERO).unwrap();
    }
}
