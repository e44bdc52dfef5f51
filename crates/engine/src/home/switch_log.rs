//! What aliases were switched to while the state could not be told: a file for each hostname in `.pindrel/switches`, beside
//! the manifest, until the state has it. It is written before the records are, so that no records are ever nobody's.

use std::fs::{DirBuilder, File};
use std::io;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use pindrel_core::judging::facts::{AliasChange, Ownership};
use pindrel_core::judging::findings::Finding;
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

/// The switches that the state does not know of.
#[derive(Debug)]
pub(crate) struct SwitchLog {
    folder: PathBuf,
    /// How many this process has added, and one for those of processes that were killed.
    added: AtomicU64,
    /// How many of these the state has been told of.
    told: Mutex<u64>,
}

impl SwitchLog {
    /// That of a manifest in `folder`.
    pub(crate) fn beside(folder: &Path) -> SwitchLog {
        SwitchLog { folder: folder.join(".pindrel").join(FOLDER), added: AtomicU64::new(1), told: Mutex::new(0) }
    }

    /// Adds a change of what was written of an alias; it is on the disk when this returns.
    pub(crate) async fn add(self: &Arc<Self>, hostname: &Hostname, change: AliasChange) -> Result<(), EngineError> {
        let (log, hostname) = (self.clone(), hostname.clone());
        let added = tokio::task::spawn_blocking(move || log.add_now(&hostname, change)).await;
        added.map_err(|error| failed(&self.folder, error.into()))?
    }

    fn add_now(&self, hostname: &Hostname, change: AliasChange) -> Result<(), EngineError> {
        let path = self.path_of(hostname);
        let adding = || {
            DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)?;
            let _lock = self.lock()?;
            let change = match read(&path)? {
                Some(earlier) => earlier.then(change),
                None => change,
            };
            replace_file(&path, &serde_json::to_vec(&change)?, 0o600, (None, None))
        };
        adding().map_err(|source| failed(&path, source))?;
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
                && let Some(change) = read(&path).map_err(|error| failed(&path, error))?
            {
                all.push((hostname, change));
            }
        }
        Ok(all)
    }

    /// Removes a switch that the state has, unless another has come since.
    fn remove(&self, hostname: &Hostname, change: &AliasChange) -> io::Result<()> {
        let _lock = self.lock()?;
        let path = self.path_of(hostname);
        if read(&path)?.as_ref() == Some(change) { std::fs::remove_file(path) } else { Ok(()) }
    }

    /// Tells the state of all switches that it does not know of.
    ///
    /// # Errors
    /// [`EngineError`] where a file cannot be read, or the state does not take it: then it stays.
    pub(crate) async fn hand_over(
        &self,
        home: &Home,
        command: &str,
        clock: &Arc<dyn Clock>,
    ) -> Result<(), EngineError> {
        let mut told = self.told.lock().await;
        let added = self.added.load(Ordering::Relaxed);
        if *told < added {
            self.hand_over_all(home, command, clock).await?;
            *told = added;
        }
        Ok(())
    }

    async fn hand_over_all(&self, home: &Home, command: &str, clock: &Arc<dyn Clock>) -> Result<(), EngineError> {
        for (hostname, change) in self.all()? {
            let key = alias_claim(&hostname);
            let held = match home.leases.claim(&key, command, clock).await? {
                Granted::Yes(held) => held,
                // It is told when that has ended.
                Granted::HeldBy(worker) => return Err(EngineError::SwitchesWait { hostname, worker }),
            };
            let told = held.during(async |claim| {
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
            told.await
                .map_err(|Finding { says, .. }| EngineError::SwitchesUntold { hostname: hostname.clone(), says })?;
            self.remove(&hostname, &change).map_err(|error| failed(&self.path_of(&hostname), error))?;
        }
        Ok(())
    }
}

fn read(path: &Path) -> io::Result<Option<AliasChange>> {
    match read_at_most(path, MAX_BYTES) {
        Ok(bytes) => Ok(Some(serde_json::from_slice(&bytes)?)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

fn failed(path: &Path, source: io::Error) -> EngineError {
    EngineError::SwitchLog { path: path.to_owned(), source }
}
