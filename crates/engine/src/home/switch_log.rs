//! A write-ahead log of the aliases that were switched while the state did not answer: a file for each hostname in
//! `.pindrel/switches`, beside the manifest. It is written before the records are, and replayed into the state before
//! anything is judged by that, so that the records are never taken for somebody else's.

use std::fs::{DirBuilder, File};
use std::io;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use pindrel_core::judging::facts::{AliasChange, Ownership};
use pindrel_core::names::name::Hostname;
use pindrel_machine::{read_at_most, replace_file};
use pindrel_state::{Entry, Moment};
use tokio::sync::Mutex;

use super::Home;
use super::leases::{Granted, alias_claim};
use crate::drivers::Clock;
use crate::failure::{EngineError, state_failed};

const FOLDER: &str = "switches";
/// The file that is locked while one of the others is replaced or removed.
const LOCK: &str = "lock";
const EXTENSION: &str = "json";
/// The longest file that is read.
const MAX_BYTES: u64 = 1 << 20;

/// The switches that are not in the state yet.
#[derive(Debug)]
pub(crate) struct SwitchLog {
    folder: PathBuf,
    /// How many this process has added, and one for those of processes that were killed.
    added: AtomicU64,
    /// How many of these have been replayed.
    replayed: Mutex<u64>,
}

impl SwitchLog {
    /// That of a manifest in `folder`.
    pub(crate) fn beside(folder: &Path) -> SwitchLog {
        SwitchLog { folder: folder.join(".pindrel").join(FOLDER), added: AtomicU64::new(1), replayed: Mutex::new(0) }
    }

    /// Adds a change of what was written of an alias; it is on the disk when this returns.
    pub(crate) async fn add(self: &Arc<Self>, hostname: &Hostname, change: AliasChange) -> Result<(), EngineError> {
        let (log, hostname) = (self.clone(), hostname.clone());
        let added = tokio::task::spawn_blocking(move || log.add_now(&hostname, change)).await;
        added.map_err(|error| failed(&self.folder, error.into()))?
    }

    fn add_now(&self, hostname: &Hostname, change: AliasChange) -> Result<(), EngineError> {
        let path = self.path_of(hostname);
        let failed = |source| failed(&path, source);
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder).map_err(failed)?;
        let _lock = self.lock().map_err(failed)?;
        let change = match read(&path)? {
            Some(earlier) => earlier.then(change),
            None => change,
        };
        let text = serde_json::to_vec(&change).map_err(|error| failed(error.into()))?;
        replace_file(&path, &text, 0o600, (None, None)).map_err(failed)?;
        self.added.fetch_add(1, Ordering::Relaxed);
        Ok(())
    }

    fn lock(&self) -> io::Result<File> {
        let file = File::options().create(true).truncate(false).write(true).open(self.folder.join(LOCK))?;
        file.lock()?;
        Ok(file)
    }

    fn path_of(&self, hostname: &Hostname) -> PathBuf {
        self.folder.join(format!("{hostname}.{EXTENSION}"))
    }

    /// The switches that are there.
    fn all(&self) -> Result<Vec<(Hostname, AliasChange)>, EngineError> {
        let entries = match self.folder.read_dir() {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(failed(&self.folder, error)),
        };
        let mut all = Vec::new();
        for entry in entries {
            let path = entry.map_err(|error| failed(&self.folder, error))?.path();
            let is_one = path.extension().is_some_and(|extension| extension == EXTENSION);
            let name = path.file_stem().and_then(|stem| stem.to_str()).filter(|_| is_one);
            if let Some(hostname) = name.and_then(|name| name.parse::<Hostname>().ok())
                && let Some(change) = read(&path)?
            {
                all.push((hostname, change));
            }
        }
        Ok(all)
    }

    /// Removes a switch that was replayed, unless another has been added since.
    fn remove(&self, hostname: &Hostname, change: &AliasChange) -> Result<(), EngineError> {
        let path = self.path_of(hostname);
        let _lock = self.lock().map_err(|error| failed(&path, error))?;
        let is_same = read(&path)?.as_ref() == Some(change);
        if is_same { std::fs::remove_file(&path).map_err(|error| failed(&path, error)) } else { Ok(()) }
    }

    /// Stores all switches of the log in the state, and removes them from the log.
    ///
    /// # Errors
    /// [`EngineError`] where a file cannot be read or the state cannot be written: then it stays.
    pub(crate) async fn replay(&self, home: &Home, command: &str, clock: &Arc<dyn Clock>) -> Result<(), EngineError> {
        let mut replayed = self.replayed.lock().await;
        let added = self.added.load(Ordering::Relaxed);
        if *replayed < added {
            self.replay_all(home, command, clock).await?;
            *replayed = added;
        }
        Ok(())
    }

    async fn replay_all(&self, home: &Home, command: &str, clock: &Arc<dyn Clock>) -> Result<(), EngineError> {
        for (hostname, change) in self.all()? {
            let key = alias_claim(&hostname);
            let held = match home.leases.claim(&key, command, clock).await? {
                Granted::Yes(held) => held,
                // It is replayed once that has ended.
                Granted::HeldBy(worker) => return Err(EngineError::ReplayWaits { hostname, worker }),
            };
            let stored = held.during(async |claim| {
                let take = |own: &mut Ownership| own.take_alias_change(&change);
                home.state.change_ownership(claim, &hostname, &take).await.map_err(state_failed)?;
                let entry = Entry {
                    at: clock.now(),
                    moment: Moment::Done,
                    action: "alias".to_owned(),
                    subject: hostname.to_string(),
                    detail: "was switched while the state did not answer".to_owned(),
                };
                home.state.journal(&entry, None).await.map_err(state_failed)
            });
            stored
                .await
                .map_err(|finding| EngineError::ReplayFailed { hostname: hostname.clone(), says: finding.says() })?;
            self.remove(&hostname, &change)?;
        }
        Ok(())
    }
}

fn read(path: &Path) -> Result<Option<AliasChange>, EngineError> {
    match read_at_most(path, MAX_BYTES) {
        Ok(bytes) => {
            let corrupt = |why: String| EngineError::SwitchCorrupt { path: path.to_owned(), why };
            serde_json::from_slice(&bytes).map(Some).map_err(|error| corrupt(error.to_string()))
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(failed(path, error)),
    }
}

fn failed(path: &Path, source: io::Error) -> EngineError {
    EngineError::SwitchLog { path: path.to_owned(), source }
}

#[cfg(test)]
mod tests {
    use pindrel_core::judging::facts::Written;
    use pindrel_core::values::Ttl;
    use pindrel_core::zones::records::{RecordData, RecordSet};
    use pindrel_keys::SealingKey;
    use pindrel_state::{Claim, SqliteState};

    use super::*;
    use crate::drivers::SystemClock;

    fn to(address: u8) -> Written<Vec<RecordSet>> {
        let data = RecordData::A([192, 0, 2, address].into());
        Written { made: Some(RecordSet::group([(Ttl::HOUR, data)])), ..Written::default() }
    }

    fn change(from: u8, there: u8) -> AliasChange {
        AliasChange { before: to(from), after: to(there), former_alias: None, switched: None }
    }

    /// What was switched reaches the state once, whoever logged it; a torn file loses nothing, and is named.
    #[tokio::test]
    async fn what_was_logged_is_replayed_once_and_a_torn_file_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let key = SealingKey::from_text(&SealingKey::generate().unwrap()).unwrap();
        let home = Home::with(Arc::new(SqliteState::in_memory().unwrap()), key);
        let clock: Arc<dyn Clock> = Arc::new(SystemClock::default());
        let name: Hostname = "tonight.larkfield.example".parse().unwrap();
        // Changes what the state counts as Pindrel's own, and returns it.
        let own = async |change: &(dyn Fn(&mut Ownership) + Sync)| {
            let Ok(Granted::Yes(held)) = home.leases.claim("of the test", "test", &clock).await else { panic!("free") };
            let work = async |claim: &Claim| Ok(home.state.change_ownership(claim, &name, change).await.unwrap());
            held.during(work).await.unwrap().alias
        };
        own(&|own| own.alias = to(0)).await;
        let log = Arc::new(SwitchLog::beside(folder.path()));
        log.replay(&home, "keep", &clock).await.unwrap();
        log.add(&name, change(0, 1)).await.unwrap();
        log.add(&name, change(1, 2)).await.unwrap();
        let path = log.path_of(&name);
        let whole = std::fs::read(&path).unwrap();
        std::fs::write(&path, &whole[..whole.len() / 2]).unwrap();
        let other = Arc::new(SwitchLog::beside(folder.path()));
        let error = other.replay(&home, "settle", &clock).await.unwrap_err();
        assert!(error.to_string().contains("tonight.larkfield.example.json is not what keep wrote there"), "{error}");
        assert!(path.exists() && other.add(&name, change(2, 3)).await.is_err(), "it is not written over");
        std::fs::write(&path, whole).unwrap();
        assert_eq!(own(&|_| ()).await, to(0));
        for whoever in [&other, &log] {
            whoever.replay(&home, "settle", &clock).await.unwrap();
            assert!(!path.exists());
            assert_eq!(own(&|_| ()).await, to(2), "both switches at once");
        }
    }
}
