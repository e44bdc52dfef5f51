//! The balancer's runtime socket: one command, one answer.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::io_reason;
use pindrel_core::text::sent_secrets::SentSecrets;
use secrecy::{ExposeSecret as _, SecretString};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UnixStream;
use tokio::time::timeout;

use crate::{EdgeError, ServerState};

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(10);
/// The longest answer.
const MAX_ANSWER: u64 = 16 << 20;
/// How many lines of an answer to a change are shown, and how many servers are reported.
const MOST_LINES: usize = 10;
const MOST_SERVERS: usize = 10_000;
/// How an answer says that a change was made.
const SUCCESS: &str = "Success!";

/// How an answer says that another change is under way, and how long that is waited for.
const LOCKED: &str = "currently locked";
const LOCKED_PATIENCE: Duration = Duration::from_secs(5);
const LOCKED_PAUSE: Duration = Duration::from_millis(100);

/// The socket.
pub(super) struct Runtime {
    socket: PathBuf,
    /// The keys that went through it.
    sent: Mutex<SentSecrets>,
}

/// An entry of the certificate list, as it is loaded.
pub(super) struct Line {
    pub(super) file: PathBuf,
    number: String,
    options: String,
    names: Vec<String>,
}

impl Line {
    pub(super) fn is(&self, file: &Path, options: &str, hostname: &Hostname) -> bool {
        self.file == file && self.options == options && self.names == [hostname.as_str()]
    }
}

impl Runtime {
    pub(super) fn at(socket: PathBuf) -> Runtime {
        Runtime { socket, sent: Mutex::default() }
    }

    fn sent(&self) -> MutexGuard<'_, SentSecrets> {
        self.sent.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn ask(&self, command: &str) -> Result<String, EdgeError> {
        let exchange = async {
            let mut stream = UnixStream::connect(&self.socket).await?;
            stream.write_all(format!("{command}\n").as_bytes()).await?;
            stream.shutdown().await?;
            let mut answer = Vec::new();
            stream.take(MAX_ANSWER).read_to_end(&mut answer).await?;
            Ok::<_, std::io::Error>(String::from_utf8_lossy(&answer).into_owned())
        };
        let url = self.socket.display().to_string();
        match timeout(PATIENCE, exchange).await {
            Ok(Ok(answer)) => Ok(answer),
            Ok(Err(error)) => {
                Err(EdgeError::Unreachable { url, why: Unreachable::from_io(error.kind(), io_reason(&error)) })
            }
            Err(_) => Err(EdgeError::Unreachable { url, why: Unreachable::TimedOut { after_ms: 10_000 } }),
        }
    }

    /// Asks again while another command about certificates is under way inside the balancer: a change, or
    /// only a look.
    async fn ask_until_free(&self, command: &str) -> Result<String, EdgeError> {
        let begun = Instant::now();
        loop {
            let answer = self.ask(command).await?;
            if !answer.contains(LOCKED) || begun.elapsed() > LOCKED_PATIENCE {
                return Ok(answer);
            }
            tokio::time::sleep(LOCKED_PAUSE).await;
        }
    }

    /// Asks for a change; anything but one of these words in the answer is a failure.
    async fn change(&self, shown: &str, command: &str, expected: &[&str]) -> Result<(), EdgeError> {
        let answer = self.ask_until_free(command).await?;
        if expected.iter().any(|word| answer.contains(word)) {
            return Ok(());
        }
        let lines = answer.lines().map(str::trim).filter(|line| !line.is_empty()).take(MOST_LINES);
        let says = self.sent().shown(&lines.collect::<Vec<_>>().join("; "));
        Err(EdgeError::Command { command: shown.to_owned(), says })
    }

    /// Returns what the certificate list has loaded.
    pub(super) async fn entries(&self, list: &Path) -> Result<Vec<Line>, EdgeError> {
        let command = format!("show ssl crt-list -n {}", list.display());
        let answer = self.ask_until_free(&command).await?;
        if !answer.trim_start().starts_with('#') {
            let says = self.sent().shown(answer.trim());
            return Err(EdgeError::Command { command, says });
        }
        Ok(answer.lines().filter_map(line).collect())
    }

    /// Returns the serial number of a certificate that is loaded, in upper-case hexadecimal.
    pub(super) async fn serial(&self, file: &Path) -> Result<Option<String>, EdgeError> {
        let answer = self.ask_until_free(&format!("show ssl cert {}", file.display())).await?;
        Ok(answer.lines().find_map(|line| line.strip_prefix("Serial: ")).map(|serial| serial.trim().to_uppercase()))
    }

    /// Replaces a certificate with its key in one transaction, which is given up where it fails.
    pub(super) async fn replace_certificate(&self, file: &Path, bundle: &SecretString) -> Result<(), EdgeError> {
        let file = file.display();
        self.change("new ssl cert", &format!("new ssl cert {file}"), &["New empty", "already exists"]).await?;
        self.sent().remember(bundle.expose_secret());
        // An empty line ends what is sent.
        let text: String = bundle.expose_secret().lines().filter(|line| !line.trim().is_empty()).fold(
            String::new(),
            |mut text, line| {
                text.push_str(line);
                text.push('\n');
                text
            },
        );
        let set = self.change("set ssl cert", &format!("set ssl cert {file} <<\n{text}"), &["Transaction"]).await;
        let committed = match set {
            Ok(()) => self.change("commit ssl cert", &format!("commit ssl cert {file}"), &[SUCCESS]).await,
            Err(error) => Err(error),
        };
        if let Err(error) = committed {
            // Whatever comes of it: what was served before is served on.
            let _ = self.ask(&format!("abort ssl cert {file}")).await;
            return Err(error);
        }
        Ok(())
    }

    pub(super) async fn delete_certificate(&self, file: &Path) -> Result<(), EdgeError> {
        let command = format!("del ssl cert {}", file.display());
        self.change("del ssl cert", &command, &["deleted!", "doesn't exist"]).await
    }

    pub(super) async fn add_entry(
        &self,
        list: &Path,
        file: &Path,
        options: &str,
        hostname: &Hostname,
    ) -> Result<(), EdgeError> {
        let (list, file) = (list.display(), file.display());
        let command = format!("add ssl crt-list {list} <<\n{file} {options} {hostname}\n");
        self.change("add ssl crt-list", &command, &[SUCCESS]).await
    }

    pub(super) async fn delete_entry(&self, list: &Path, line: &Line) -> Result<(), EdgeError> {
        let command = format!("del ssl crt-list {} {}:{}", list.display(), line.file.display(), line.number);
        self.change("del ssl crt-list", &command, &["deleted in crtlist"]).await
    }

    /// Returns how the balancer sees its own servers.
    pub(super) async fn servers(&self) -> Result<Vec<ServerState>, EdgeError> {
        let answer = self.ask("show stat").await?;
        Ok(server_states(&answer, &self.sent()))
    }
}

/// Reads how a balancer sees its servers: a table whose first line names the columns.
fn server_states(answer: &str, sent: &SentSecrets) -> Vec<ServerState> {
    let mut lines = answer.lines();
    let heads: Vec<&str> =
        lines.next().unwrap_or_default().trim_start_matches("# ").split(',').map(str::trim).collect();
    let column = |name: &str| heads.iter().position(|head| *head == name);
    let (Some(group), Some(server), Some(status)) = (column("pxname"), column("svname"), column("status")) else {
        return Vec::new();
    };
    let last = column("last_chk");
    let state = |line: &str| {
        let cells: Vec<&str> = line.split(',').collect();
        let cell = |at: usize| cells.get(at).map(|cell| sent.shown(cell)).unwrap_or_default();
        let name = cell(server);
        (!name.is_empty() && name != "FRONTEND" && name != "BACKEND").then(|| ServerState {
            group: cell(group),
            server: name,
            status: cell(status),
            last_check: last.map(cell).filter(|text| !text.is_empty()),
        })
    };
    lines.take(MOST_SERVERS).filter_map(state).collect()
}

/// Takes some octets as answers of a balancer that was sent a key.
#[cfg(feature = "hostile")]
pub(super) fn read_any(octets: &[u8]) {
    let answer = String::from_utf8_lossy(octets);
    let sent = SentSecrets::from_iter(["MIGHAgEAMBMGByqGSM49AgEGCCqGSM49AwEHBG0wawIBAQQg"]);
    let is_clean =
        |text: &str| sent.is_free_of(text) && !text.chars().any(char::is_control) && text.chars().count() <= 500;
    let states = server_states(&answer, &sent);
    assert!(states.iter().all(|state| is_clean(&state.server) && is_clean(&state.status)), "{states:?}");
    assert!(is_clean(&sent.shown(&answer)));
    let _: Vec<Line> = answer.lines().filter_map(line).collect();
}

/// Reads `FILE:NUMBER [OPTIONS] NAMES`.
fn line(text: &str) -> Option<Line> {
    let text = text.trim();
    if text.is_empty() || text.starts_with('#') {
        return None;
    }
    let (place, rest) = text.split_once(' ').unwrap_or((text, ""));
    let (file, number) = place.rsplit_once(':')?;
    let (options, names) = match rest.trim_start().split_once(']') {
        Some((options, names)) if rest.trim_start().starts_with('[') => (format!("{options}]"), names),
        _ => (String::new(), rest),
    };
    let names = names.split_whitespace().map(str::to_owned).collect();
    Some(Line { file: file.into(), number: number.to_owned(), options, names })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_a_certificate_list_are_read_with_and_without_options_and_names() {
        type Read<'r> = Option<(&'r str, &'r str, &'r str, &'r [&'r str])>;
        let table: [(&str, Read<'_>); 8] = [
            (
                "/etc/a.pem:2 [ssl-min-ver TLSv1.2] a.example",
                Some(("/etc/a.pem", "2", "[ssl-min-ver TLSv1.2]", &["a.example"])),
            ),
            ("/etc/a.pem:12", Some(("/etc/a.pem", "12", "", &[]))),
            ("/etc/a.pem:1 a.example !b.a.example", Some(("/etc/a.pem", "1", "", &["a.example", "!b.a.example"]))),
            ("  /etc/a:b.pem:3 *.a.example  ", Some(("/etc/a:b.pem", "3", "", &["*.a.example"]))),
            ("/etc/a.pem:4 [verify none", Some(("/etc/a.pem", "4", "", &["[verify", "none"]))),
            ("# /etc/list.txt", None),
            ("", None),
            ("/etc/a.pem", None),
        ];
        for (text, expected) in table {
            let read = line(text);
            let parts = read.as_ref().map(|line| {
                let names: Vec<&str> = line.names.iter().map(String::as_str).collect();
                (line.file.to_str().unwrap_or_default(), line.number.as_str(), line.options.as_str(), names)
            });
            let expected = expected.map(|(file, number, options, names)| (file, number, options, names.to_vec()));
            assert_eq!(parts, expected, "{text:?}");
        }
    }
}
