//! Talking to a sandbox that runs: one line each way over a socket in its folder.

use std::path::Path;
use std::time::Duration;

use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::{UnixListener, UnixStream};

use crate::{Listing, Sandbox, SandboxError};

/// The socket's name in the folder.
pub const SOCKET: &str = "control.sock";
/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// The longest answer.
const MAX_ANSWER: u64 = 64 * 1024;

/// Waits until somebody asks the sandbox to stop, answering who asks what it is.
///
/// # Errors
/// [`SandboxError::File`] when the socket cannot be made.
pub async fn until_told_to_stop(sandbox: &Sandbox) -> Result<(), SandboxError> {
    let path = sandbox.folder().join(SOCKET);
    let listener = UnixListener::bind(&path).map_err(|source| SandboxError::File { path, source })?;
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        let mut stream = BufReader::new(stream);
        let mut line = String::new();
        let read = tokio::time::timeout(PATIENCE, (&mut stream).take(64).read_line(&mut line)).await;
        if !matches!(read, Ok(Ok(_))) {
            continue;
        }
        let answer = match line.trim() {
            "list" => serde_json::to_string(sandbox.listing()).unwrap_or_default(),
            "stop" => "stopping".into(),
            _ => "unknown".into(),
        };
        let _ = stream.write_all(format!("{answer}\n").as_bytes()).await;
        if line.trim() == "stop" {
            return Ok(());
        }
    }
}

/// Returns where everything is, if a sandbox runs in that folder.
pub async fn list(folder: &Path) -> Option<Listing> {
    serde_json::from_str(&ask(folder, "list").await?).ok()
}

/// Asks the sandbox in that folder to stop; says whether there was one.
pub async fn stop(folder: &Path) -> bool {
    ask(folder, "stop").await.is_some()
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
