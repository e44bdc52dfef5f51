//! Changing a zone that stands in a file (RFC 1035 §5): only the lines concerned change, then the commands follow
//! that make the name server read it.

use std::io;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::certificates::delivery::Command;
use pindrel_core::names::name::DnsName;
use pindrel_core::text::display_text::{io_reason, shell_word};
use pindrel_core::zones::rights::RightsView;
use pindrel_core::zones::zone_data::{NameKey, ZoneData};
use pindrel_core::zones::zone_file::{EditError, SetEdit, edit};
use pindrel_machine::{Program, read_regular, replace_file_unless};
use tokio::sync::Mutex;

use crate::driver::{TriedRights, ZoneDriver};
use crate::sets::SetChange;
use crate::transfer::open_transfers;
use crate::zone_error::ZoneError;
use crate::zone_files::{self, ReadFiles};

/// The longest zone file that is changed, in bytes.
const MAX_BYTES: u64 = 256 << 20;

/// Changes of files one after another: each reads the whole, and the commands are about the whole.
static TURN: Mutex<()> = Mutex::const_new(());

/// The driver for zones in files.
#[derive(Debug, Clone)]
pub struct ZoneFile {
    name: DnsName,
    zone: NameKey,
    path: PathBuf,
    folder: PathBuf,
    /// Where files that it includes may lie, besides its own folder.
    include_below: Option<PathBuf>,
    after: Vec<Command>,
}

impl ZoneFile {
    /// Makes a driver for the zone in the file at `path`, with the commands that follow a change, run in `folder`.
    pub fn new(zone: &DnsName, path: PathBuf, folder: PathBuf, after: Vec<Command>) -> ZoneFile {
        ZoneFile { name: zone.clone(), zone: NameKey::from(zone), path, folder, include_below: None, after }
    }

    /// Allows it to include files below another folder than its own.
    #[must_use]
    pub fn including_below(self, include_below: Option<PathBuf>) -> ZoneFile {
        ZoneFile { include_below, ..self }
    }

    fn refused(&self, says: impl std::fmt::Display, remedy: impl Into<String>) -> ZoneError {
        ZoneError::Refused { says: format!("{} is not changed: {says}", self.path.display()), remedy: remedy.into() }
    }

    fn unreadable(&self, why: impl std::fmt::Display, remedy: impl Into<String>) -> ZoneError {
        ZoneError::Unreachable { says: format!("{} cannot be read: {why}", self.path.display()), remedy: remedy.into() }
    }

    fn io(&self, error: &io::Error) -> ZoneError {
        self.unreadable(io_reason(error), "Make sure that the file is there and that this user may read it")
    }

    fn read_files(&self) -> Result<ReadFiles, ZoneError> {
        let read = zone_files::read(&self.path, &self.zone, Some(self.zone.clone()), self.include_below.as_deref())
            .map_err(|error| self.io(&error))?;
        match read.mistakes.first() {
            None => Ok(read),
            Some(mistake) => {
                let file = read.files.get(usize::from(mistake.place.file)).unwrap_or(&self.path);
                Err(self.unreadable(
                    format!("{}:{}: {}", file.display(), mistake.place.line, mistake.says),
                    format!(
                        "Correct it; all its mistakes are listed by: pindrel zone check {}",
                        shell_word(self.path.display())
                    ),
                ))
            }
        }
    }

    /// Writes the changes; says whether there were any.
    fn write(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        // Where the name leads to, so that a link stays one.
        let path = self.path.canonicalize().map_err(|error| self.io(&error))?;
        self.require_static(&path)?;
        let metadata = std::fs::metadata(&path).map_err(|error| self.io(&error))?;
        let text = read_regular(&path, MAX_BYTES).map_err(|error| self.io(&error))?;
        let now = self.read_files()?;
        for change in changes {
            self.require_as_expected(change, &now)?;
        }
        let edits: Vec<SetEdit> = changes
            .iter()
            .map(|change| SetEdit {
                owner: change.owner.clone(),
                code: change.code,
                ttl: change.ttl,
                data: change.wanted.clone(),
            })
            .collect();
        let edited = edit(&text, &self.zone, &edits, Timestamp::now()).map_err(|error| match error {
            EditError::Mistake(_) | EditError::NoSoa | _ => self.refused(error, "Correct the file, then run settle"),
        })?;
        if edited == text {
            return Ok(());
        }
        let owner = (Some(metadata.uid()), Some(metadata.gid()));
        let unchanged = || Ok((read_regular(&path, MAX_BYTES)? != text).then_some(()));
        match replace_file_unless(&path, &edited, metadata.mode() & 0o7777, owner, unchanged) {
            Ok(None) => Ok(()),
            Ok(Some(())) => Err(self.changed()),
            Err(error) => Err(self.refused(
                io_reason(&error),
                "Make sure that this user may write there and give the file to its owner, and that the disk is not full",
            )),
        }
    }

    fn changed(&self) -> ZoneError {
        ZoneError::Changed {
            says: format!("{} was changed by someone else in the meantime", self.path.display()),
            remedy: "Run settle: it looks again before it changes anything".into(),
        }
    }

    /// Refuses a file that a name server writes itself: what is written into it is lost.
    fn require_static(&self, path: &Path) -> Result<(), ZoneError> {
        let mut journal = path.as_os_str().to_owned();
        journal.push(".jnl");
        if Path::new(&journal).exists() {
            let says = format!("the zone takes dynamic updates ({} is there)", Path::new(&journal).display());
            return Err(self.refused(says, "Write driver = \"rfc2136\" for this zone, or turn dynamic updates off"));
        }
        Ok(())
    }

    /// Finds out whether the file can be changed at all, without changing it.
    fn try_to_open(&self) -> Result<(), ZoneError> {
        let path = self.path.canonicalize().map_err(|error| self.io(&error))?;
        self.require_static(&path)?;
        self.read_files()?;
        let opened = std::fs::OpenOptions::new().append(true).open(&path);
        let remedy = "Make sure that this user may write there, and that the file system is not read-only";
        opened.map(drop).map_err(|error| self.refused(io_reason(&error), remedy))
    }

    fn require_as_expected(&self, change: &SetChange, now: &ReadFiles) -> Result<(), ZoneError> {
        let found: Vec<_> = now.zone.at(&change.owner).filter(|entry| entry.code == change.code).collect();
        if let Some(entry) = found.iter().find(|entry| entry.place.file > 0) {
            let file = now.files.get(usize::from(entry.place.file)).unwrap_or(&self.path);
            let says = format!(
                "{} {} stands in line {} of {}, which it includes",
                change.owner,
                change.code,
                entry.place.line,
                file.display()
            );
            return Err(self.refused(says, "Put that record into the zone's own file, or change it by hand"));
        }
        let (mut found, mut expected): (Vec<&[u8]>, Vec<&[u8]>) =
            (found.iter().map(|entry| entry.data).collect(), change.expected.iter().map(Vec::as_slice).collect());
        found.sort_unstable();
        expected.sort_unstable();
        if found == expected { Ok(()) } else { Err(self.changed()) }
    }

    async fn follow_up(&self) -> Result<(), ZoneError> {
        for command in &self.after {
            let program = Program {
                folder: Some(&self.folder),
                ..Program::command(&command.run, command.within.max(Duration::from_secs(1)))
            };
            program.run_for_message().await.map_err(|why| ZoneError::Refused {
                says: format!("{} is written, but the command `{command}` failed: {why}", self.path.display()),
                remedy: "Correct what it says; the next settle runs it again".into(),
            })?;
        }
        Ok(())
    }
}

#[async_trait]
impl ZoneDriver for ZoneFile {
    fn zone(&self) -> &DnsName {
        &self.name
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        let own = self.clone();
        blocking(move || own.read_files().map(|read| read.zone)).await
    }

    async fn rights(&self, tried: &TriedRights<'_>) -> Result<RightsView, ZoneError> {
        let own = self.clone();
        blocking(move || own.try_to_open()).await?;
        let beyond = open_transfers(&self.name, tried.servers).await;
        Ok(RightsView { beyond, ..RightsView::default() })
    }

    /// Where there is nothing to change the commands run all the same: a run may have been stopped before them.
    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        let _turn = TURN.lock().await;
        let (own, changes) = (self.clone(), changes.to_vec());
        blocking(move || own.write(&changes)).await?;
        self.follow_up().await
    }
}

async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, ZoneError> + Send + 'static,
) -> Result<T, ZoneError> {
    tokio::task::spawn_blocking(work).await.unwrap_or_else(|error| {
        Err(ZoneError::Unreachable {
            says: error.to_string(),
            remedy: "Report this: it is a fault of Pindrel's".into(),
        })
    })
}
