//! Talking to a sandbox that runs: one line each way over a socket in its folder.

use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::time::Duration;

use futures::StreamExt as _;
use futures::stream::FuturesUnordered;
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::{UnixListener, UnixStream};

use crate::{Listing, Sandbox, SandboxError};

/// The socket's name in the folder.
pub const SOCKET: &str = "control.sock";
/// What is answered to what was done.
const DONE: &str = "done";
/// What is answered to what makes no sense.
const UNKNOWN: &str = "unknown";
/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// How many clients are listened to at once.
const MOST_CLIENTS: usize = 64;
/// The longest question.
const MAX_QUESTION: u64 = 512;
/// The longest answer.
const MAX_ANSWER: u64 = 64 * 1024;

/// Waits until somebody asks the sandbox to stop, answering who asks what it is.
///
/// # Errors
/// [`SandboxError::File`] when the socket cannot be made.
pub async fn until_told_to_stop(sandbox: &Sandbox) -> Result<(), SandboxError> {
    let path = sandbox.folder().join(SOCKET);
    let failed = |source| SandboxError::File { path: path.clone(), source };
    let listener = UnixListener::bind(&path).map_err(failed)?;
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).map_err(failed)?;
    // Whoever says nothing keeps nobody else waiting.
    let mut clients = FuturesUnordered::new();
    loop {
        tokio::select! {
            accepted = listener.accept(), if clients.len() < MOST_CLIENTS => {
                if let Ok((stream, _)) = accepted {
                    clients.push(tokio::time::timeout(PATIENCE, converse(sandbox, stream)));
                }
            }
            Some(ended) = clients.next() => {
                if matches!(ended, Ok(Asked::ToStop)) {
                    return Ok(());
                }
            }
        }
    }
}

/// What a client was about.
enum Asked {
    Otherwise,
    ToStop,
}

/// Answers one client.
async fn converse(sandbox: &Sandbox, stream: UnixStream) -> Asked {
    let mut stream = BufReader::new(stream);
    let mut line = String::new();
    if (&mut stream).take(MAX_QUESTION).read_line(&mut line).await.is_err() {
        return Asked::Otherwise;
    }
    let answer = match line.trim().split_once(' ').unwrap_or((line.trim(), "")) {
        ("list", _) => serde_json::to_string(sandbox.listing()).unwrap_or_default(),
        ("stop", _) => "stopping".into(),
        ("break", word) => switched(sandbox.switch(word, true)),
        ("mend", "") => switched(sandbox.faults().iter().all(|word| sandbox.switch(word, false))),
        ("mend", word) => switched(sandbox.switch(word, false)),
        ("record", line) => {
            let mut words = line.splitn(3, ' ');
            let mut next = || words.next().unwrap_or_default();
            switched(sandbox.record(next(), next(), next()))
        }
        ("faults", _) => sandbox.faults().join(" "),
        _ => UNKNOWN.into(),
    };
    let _ = stream.write_all(format!("{answer}\n").as_bytes()).await;
    if line.trim() == "stop" { Asked::ToStop } else { Asked::Otherwise }
}

/// Returns where everything is, if a sandbox runs in that folder.
pub async fn list(folder: &Path) -> Option<Listing> {
    serde_json::from_str(&ask(folder, "list").await?).ok()
}

/// Asks the sandbox in that folder to stop, and waits a while until it has; says whether there was one.
pub async fn stop(folder: &Path) -> bool {
    let asked = ask(folder, "stop").await.is_some();
    let begun = std::time::Instant::now();
    while asked && folder.join(SOCKET).exists() && begun.elapsed() < PATIENCE {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    asked
}

fn switched(known: bool) -> String {
    if known { DONE.into() } else { UNKNOWN.into() }
}

/// What came of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Requested {
    /// It is done.
    Done,
    /// It makes no sense: there is no such fault, or no such record can be made.
    Unknown,
    /// No sandbox runs in that folder.
    NoSandbox,
}

/// Switches a fault of the sandbox in that folder on; or off, all of them where `word` is
/// empty.
pub async fn switch(folder: &Path, word: &str, on: bool) -> Requested {
    let verb = if on { "break" } else { "mend" };
    match ask(folder, &format!("{verb} {word}")).await.as_deref().map(str::trim) {
        Some(DONE) => Requested::Done,
        Some(_) => Requested::Unknown,
        None => Requested::NoSandbox,
    }
}

/// Makes a record in the sandbox in that folder, as somebody else would.
pub async fn record(folder: &Path, owner: &str, record_type: &str, value: &str) -> Requested {
    match ask(folder, &format!("record {owner} {record_type} {value}")).await.as_deref().map(str::trim) {
        Some(DONE) => Requested::Done,
        Some(_) => Requested::Unknown,
        None => Requested::NoSandbox,
    }
}

/// Returns the faults that are on in the sandbox in that folder.
pub async fn faults(folder: &Path) -> Option<Vec<String>> {
    Some(ask(folder, "faults").await?.split_whitespace().map(str::to_owned).collect())
}

async fn ask(folder: &Path, what: &str) -> Option<String> {
    let exchange = async {
        let mut stream = UnixStream::connect(folder.join(SOCKET)).await.ok()?;
        stream.write_all(format!("{what}\n").as_bytes()).await.ok()?;
        let mut answer = String::new();
        BufReader::new(stream).take(MAX_ANSWER).read_line(&mut answer).await.ok()?;
        Some(answer)
    };
    tokio::time::timeout(PATIENCE, exchange).await.ok()?
}
