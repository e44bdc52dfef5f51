//! Certificates outside of Pindrel: files of the form that a server wants, replaced as a
//! whole, and the commands that follow.

use std::io::Write as _;
use std::os::unix::fs::{PermissionsExt as _, fchown};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::{Arc, Mutex, PoisonError};

use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use pindrel_core::delivery::{Command, Contents, Delivery, Piece};
use pindrel_core::desired::CertificateId;
use pindrel_core::display_text::io_reason;
use pindrel_core::findings::{Code, Finding};
use pindrel_core::name::Hostname;
use pindrel_keys::bundle::pkcs12;
use pindrel_keys::{CertificateKey, Chain, pem};
use pindrel_state::{CertificateRow, CommandRun, Moment};
use secrecy::{ExposeSecret as _, SecretString};
use tokio::io::AsyncReadExt as _;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use zeroize::Zeroizing;

use super::{Progress, Wait};
use crate::failure::{internal, secret_unreadable, state_failed};
use crate::files;
use crate::run::Engine;

/// How much of a command's output is kept: its end.
const KEPT_OUTPUT: usize = 2000;
/// The most output of a command that is held while it runs.
const MAX_OUTPUT: usize = 16 * 1024;
/// How long the output of a command that has ended may take to end too.
const OUTPUT_PATIENCE: std::time::Duration = std::time::Duration::from_millis(300);
/// What the names of files begin with that are not whole yet.
const TEMPORARY: &str = ".pindrel-";
/// The age from which such a file counts as abandoned.
const ABANDONED: std::time::Duration = std::time::Duration::from_secs(600);
/// How long listeners may take to serve what was delivered.
const SERVED: std::time::Duration = std::time::Duration::from_secs(30);
/// How long a command that must end may take to end by itself.
const TERM_PATIENCE: std::time::Duration = std::time::Duration::from_secs(2);

impl Engine {
    /// Writes a certificate to its files, runs the commands that follow, and waits until its
    /// listeners serve it.
    pub(crate) async fn deliver(&self, id: CertificateId, hostname: &Hostname) -> Result<Progress, Finding> {
        let wanted = self.desired.certificate(id);
        let row = self.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| internal(format!("the state has no certificate \"{}\"", wanted.name)))?;
        let (chain, key) = self.chain_and_key(&row)?;
        let mut is_changed = false;
        for delivery in &wanted.terms.deliveries {
            if self.contains(delivery, &chain, &key)? {
                continue;
            }
            // Known before anything is written: what follows a file follows a repaired one too.
            if !is_changed {
                is_changed = true;
                self.expect_commands(id, &row).await?;
            }
            let place = delivery.file.display().to_string();
            let write = async { self.write(delivery, &chain, &key) };
            self.journalled("deliver-file", &wanted.name, &place, write).await?;
        }
        let mut failures = Vec::new();
        for (command, _) in self.open_commands(id, &row).await? {
            let shown = command.to_string();
            let what = format!("the command `{shown}` to end");
            self.tell_waiting(hostname, "deliver", what);
            self.journal(Moment::Begun, "command", &wanted.name, shown.clone()).await?;
            let ended = self.run_command(command, &row).await;
            let says = match &ended {
                Ok(output) => (!output.is_empty()).then(|| output.clone()),
                Err(why) => Some(why.clone()),
            };
            self.persist_run(command, &row, ended.is_ok(), says).await?;
            let moment = if ended.is_ok() { Moment::Done } else { Moment::Failed };
            self.journal(moment, "command", &wanted.name, shown.clone()).await?;
            if let Err(why) = ended {
                failures.push(format!("the command `{shown}` failed: {why}"));
            }
        }
        self.know_certificate(id, row).await;
        if failures.is_empty() {
            return Ok(self.served_yet(id));
        }
        let says = format!("the certificate \"{}\" was delivered, but {}", wanted.name, failures.join("; and "));
        Err(Finding::of(Code::CommandFailed, says, "Correct what the command reports; the next settle runs it again"))
    }

    /// Notes that every command has to run again.
    async fn expect_commands(&self, id: CertificateId, row: &CertificateRow) -> Result<(), Finding> {
        for command in &self.desired.certificate(id).terms.after {
            self.persist_run(command, row, false, None).await?;
        }
        Ok(())
    }

    async fn persist_run(
        &self,
        command: &Command,
        row: &CertificateRow,
        succeeded: bool,
        says: Option<String>,
    ) -> Result<(), Finding> {
        let run = CommandRun {
            certificate: row.name.clone(),
            command: command.to_string(),
            sha256: row.held.sha256,
            at: self.clock.now(),
            succeeded,
            says,
        };
        self.state.persist_command_run(&run).await.map_err(state_failed)
    }

    /// Waits for the listeners that do not serve the certificate yet.
    fn served_yet(&self, id: CertificateId) -> Progress {
        let left: Vec<String> = {
            let known = self.known();
            let listeners = known.undelivered.get(&id).map(|undelivered| &undelivered.listeners);
            listeners.into_iter().flatten().map(|(address, _)| address.to_string()).collect()
        };
        let report = self.judge_certificate(id, self.clock.now());
        match report.findings.into_iter().find(|finding| finding.code == Code::ServedCertificateDiffers) {
            None => Progress::Done,
            Some(finding) => Progress::NotYet(Wait {
                until: None,
                topic: "served",
                what: format!("{} to serve the certificate", left.join(" and ")),
                within: Some(SERVED),
                finding,
            }),
        }
    }

    pub(crate) fn delivery_password(&self, delivery: &Delivery) -> Result<SecretString, Finding> {
        let reference = delivery.password.as_ref().ok_or_else(|| {
            let says = format!("{} has no password", delivery.file.display());
            Finding::of(Code::DeliveryFailed, says, "Write password in its table")
        })?;
        self.drivers.secret(reference).map_err(|why| secret_unreadable(reference, &why))
    }

    /// Writes a file beside the old one, and puts it in its place once it is whole.
    fn write(&self, delivery: &Delivery, chain: &Chain, key: &CertificateKey) -> Result<(), Finding> {
        let path = self.folder.join(&delivery.file);
        let bytes = match &delivery.contents {
            Contents::Pem(pieces) => pem_of(pieces, chain, key),
            Contents::Pkcs12 => {
                let alias = chain.leaf().names.first().map_or("certificate", String::as_str);
                let made = pkcs12(chain, key, alias, &self.delivery_password(delivery)?);
                let failed = |error| internal(format!("{} cannot be made: {error}", path.display()));
                Zeroizing::new(made.map_err(failed)?)
            }
        };
        let owner = (owner_id(delivery)?, group_id(delivery)?);
        replace_file(&path, &bytes, delivery.mode.bits(), owner).map_err(|error| {
            let says = format!("{} cannot be written: {}", path.display(), io_reason(&error));
            let remedy =
                "Make sure that its folder exists, that this user may write there, and that the disk is not full";
            Finding::of(Code::DeliveryFailed, says, remedy)
        })
    }

    /// Runs a command with a clean environment; its output comes back, or how it failed.
    async fn run_command(&self, command: &Command, row: &CertificateRow) -> Result<String, String> {
        let (program, arguments) = command.run.split_first().ok_or("it is empty")?;
        let names = row.held.names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" ");
        let mut child = tokio::process::Command::new(program)
            .args(arguments)
            .current_dir(&self.folder)
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap_or_else(|| "/usr/sbin:/usr/bin:/sbin:/bin".into()))
            .env("PINDREL_CERTIFICATE", &row.name)
            .env("PINDREL_NAMES", names)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            // A group of its own, so that all it starts can be ended with it.
            .process_group(0)
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| format!("it cannot be started: {}", io_reason(&error)))?;
        let mut group = ProcessGroup(child.id().and_then(|id| i32::try_from(id).ok()).map(Pid::from_raw));
        let said = [read_output(child.stderr.take()), read_output(child.stdout.take())];
        let Ok(status) = timeout(command.within, child.wait()).await else {
            group.signal(Signal::SIGTERM);
            let _ = timeout(TERM_PATIENCE, child.wait()).await;
            return Err(format!("it did not exit within {} s and was killed", command.within.as_secs()));
        };
        // What it left running on purpose goes on.
        group.0 = None;
        let said = said.map(|output| output.finish());
        let said = futures::future::join_all(said).await.into_iter().find(|text| !text.is_empty()).unwrap_or_default();
        match status {
            Ok(status) if status.success() => Ok(said),
            Ok(status) => {
                let how = status
                    .code()
                    .map_or_else(|| "it was killed by a signal".to_owned(), |code| format!("exit status {code}"));
                Err(if said.is_empty() { how } else { format!("{how}: {said}") })
            }
            Err(error) => Err(error.to_string()),
        }
    }
}

/// The processes of a command that has not ended: killed as a whole when nothing waits for them, as
/// when the run is stopped.
struct ProcessGroup(Option<Pid>);

impl ProcessGroup {
    fn signal(&self, signal: Signal) {
        if let Some(group) = self.0 {
            // It fails where the group has already ended by itself.
            let _ = killpg(group, signal);
        }
    }
}

impl Drop for ProcessGroup {
    fn drop(&mut self) {
        self.signal(Signal::SIGKILL);
    }
}

/// What a command says, while it is read.
struct Output {
    kept: Arc<Mutex<Vec<u8>>>,
    reading: JoinHandle<()>,
}

fn read_output(stream: Option<impl tokio::io::AsyncRead + Unpin + Send + 'static>) -> Output {
    let kept = Arc::new(Mutex::new(Vec::new()));
    let keeping = kept.clone();
    let reading = tokio::spawn(async move {
        let Some(mut stream) = stream else { return };
        let mut chunk = vec![0; 4096];
        while let Ok(length @ 1..) = stream.read(&mut chunk).await {
            let mut kept = keeping.lock().unwrap_or_else(PoisonError::into_inner);
            kept.extend_from_slice(&chunk[..length]);
            let over = kept.len().saturating_sub(MAX_OUTPUT);
            kept.drain(..over);
        }
    });
    Output { kept, reading }
}

impl Output {
    /// The end of what was said. What a command left running may hold its output open for
    /// ever; the command has ended all the same.
    async fn finish(self) -> String {
        let Output { kept, mut reading } = self;
        let _ = timeout(OUTPUT_PATIENCE, &mut reading).await;
        reading.abort();
        let bytes = std::mem::take(&mut *kept.lock().unwrap_or_else(PoisonError::into_inner));
        let text: String = String::from_utf8_lossy(&bytes).chars().filter(|c| !c.is_control() || *c == '\n').collect();
        last_part(text.trim())
    }
}

fn last_part(text: &str) -> String {
    let skip = text.chars().count().saturating_sub(KEPT_OUTPUT);
    text.chars().skip(skip).collect()
}

pub(crate) fn pem_of(pieces: &[Piece], chain: &Chain, key: &CertificateKey) -> Zeroizing<Vec<u8>> {
    let certificates = chain.certificates();
    let mut text = Zeroizing::new(Vec::new());
    for piece in pieces {
        match piece {
            Piece::Key => text.extend_from_slice(key.pem().expose_secret().as_bytes()),
            Piece::Leaf => text.extend_from_slice(pem::encode("CERTIFICATE", &certificates[0]).as_bytes()),
            Piece::Intermediates => certificates[1..]
                .iter()
                .for_each(|certificate| text.extend_from_slice(pem::encode("CERTIFICATE", certificate).as_bytes())),
        }
    }
    text
}

/// Puts a whole file in the place of another: a reader sees the old one or the new one,
/// never a part.
pub(crate) fn replace_file(
    path: &Path,
    bytes: &[u8],
    mode: u32,
    (user, group): (Option<u32>, Option<u32>),
) -> std::io::Result<()> {
    let (mut file, folder) = temporary_beside(path)?;
    sweep(&folder);
    file.write_all(bytes)?;
    file.as_file().set_permissions(std::fs::Permissions::from_mode(mode))?;
    if user.is_some() || group.is_some() {
        // By its descriptor: a link that was put in the place of its name is not followed.
        fchown(file.as_file(), user, group)?;
    }
    file.as_file().sync_all()?;
    file.persist(path).map_err(|error| error.error)?;
    // The name is permanently in the folder only once the folder is written too.
    std::fs::File::open(folder)?.sync_all()
}

/// Makes a file that is not there yet, whole or not at all.
pub(crate) fn create_file(path: &Path, bytes: &[u8], mode: u32) -> std::io::Result<()> {
    let (mut file, folder) = temporary_beside(path)?;
    file.write_all(bytes)?;
    file.as_file().set_permissions(std::fs::Permissions::from_mode(mode))?;
    file.as_file().sync_all()?;
    file.persist_noclobber(path).map_err(|error| error.error)?;
    std::fs::File::open(folder)?.sync_all()
}

/// Removes what a run left behind that was killed between writing a file and giving it its name: it
/// may hold a private key.
fn sweep(folder: &Path) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for entry in entries.flatten().filter(|entry| entry.file_name().to_string_lossy().starts_with(TEMPORARY)) {
        let old = entry.metadata().is_ok_and(|metadata| {
            let age = metadata.modified().ok().and_then(|modified| modified.elapsed().ok());
            metadata.is_file() && age.is_some_and(|age| age > ABANDONED)
        });
        if old {
            // Whoever may not remove it did not write it.
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

fn temporary_beside(path: &Path) -> std::io::Result<(tempfile::NamedTempFile, PathBuf)> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.map_or_else(|| PathBuf::from("."), Path::to_owned);
    Ok((tempfile::Builder::new().prefix(TEMPORARY).tempfile_in(&folder)?, folder))
}

pub(crate) fn owner_id(delivery: &Delivery) -> Result<Option<u32>, Finding> {
    let Some(name) = &delivery.owner else { return Ok(None) };
    files::user_id(name).map(Some).ok_or_else(|| nobody("user", name, delivery))
}

pub(crate) fn group_id(delivery: &Delivery) -> Result<Option<u32>, Finding> {
    let Some(name) = &delivery.group else { return Ok(None) };
    files::group_id(name).map(Some).ok_or_else(|| nobody("group", name, delivery))
}

fn nobody(what: &str, name: &str, delivery: &Delivery) -> Finding {
    let says = format!("{} should belong to the {what} {name}, which does not exist", delivery.file.display());
    Finding::of(Code::DeliveryFailed, says, format!("Correct the {what} in the manifest, or create it"))
}

#[cfg(test)]
mod tests {
    use std::io::Read as _;

    use tokio::io::AsyncWriteExt as _;

    use super::*;
    use crate::observe::read_bounded;

    fn names(folder: &Path) -> Vec<String> {
        let files = std::fs::read_dir(folder).unwrap();
        files.map(|file| file.unwrap().file_name().to_string_lossy().into_owned()).collect()
    }

    #[test]
    fn a_file_is_replaced_as_a_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("site.pem");
        for (bytes, mode) in [(&b"old"[..], 0o644), (b"new and longer", 0o600), (b"", 0o440)] {
            // Whoever has it open goes on reading the old one.
            let before = std::fs::File::open(&path).ok();
            replace_file(&path, bytes, mode, (None, None)).unwrap();
            let (read, metadata) = read_bounded(&path).unwrap();
            let found = metadata.permissions().mode() & 0o777;
            assert_eq!((&read[..], found), (bytes, mode));
            if let Some(mut before) = before {
                let mut text = Vec::new();
                before.read_to_end(&mut text).unwrap();
                assert_ne!(text, bytes);
            }
        }
        // What a killed run left is swept, and what is being written is not.
        let left = folder.path().join(".pindrel-left");
        std::fs::write(&left, "a private key").unwrap();
        replace_file(&path, b"", 0o440, (None, None)).unwrap();
        assert!(left.exists());
        let long_ago = std::time::SystemTime::now() - ABANDONED - std::time::Duration::from_secs(1);
        std::fs::File::options().write(true).open(&left).unwrap().set_modified(long_ago).unwrap();
        replace_file(&path, b"", 0o440, (None, None)).unwrap();
        assert!(!left.exists());
        // A folder in its place, and a folder that is not there: nothing is left behind.
        let taken = folder.path().join("taken");
        std::fs::create_dir(&taken).unwrap();
        assert!(replace_file(&taken, b"bytes", 0o600, (None, None)).is_err());
        assert!(replace_file(&folder.path().join("none/site.pem"), b"bytes", 0o600, (None, None)).is_err());
        let mut left = names(folder.path());
        left.sort();
        assert_eq!(left, ["site.pem", "taken"]);
    }

    #[tokio::test]
    async fn the_end_of_what_a_command_says_is_kept_and_only_shown() {
        let said = |text: Vec<u8>| async move { read_output(Some(std::io::Cursor::new(text))).finish().await };
        assert_eq!(said(b"  one\ntwo\x1b[2J\r\n\n".to_vec()).await, "one\ntwo[2J");
        let long = format!("begin{}end", "é".repeat(MAX_OUTPUT));
        let kept = said(long.into_bytes()).await;
        assert_eq!(kept.chars().count(), KEPT_OUTPUT);
        assert!(kept.ends_with("éend"), "its end says why it failed");
        // What a command left running may hold its output open for ever.
        let (held, mut writer) = tokio::io::duplex(64);
        writer.write_all(b"reloaded").await.unwrap();
        let begun = std::time::Instant::now();
        assert_eq!(read_output(Some(held)).finish().await, "reloaded");
        assert!(begun.elapsed() < std::time::Duration::from_secs(20));
        drop(writer);
    }
}
