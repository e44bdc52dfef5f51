//! Commands that a server on this machine is told by: argument lists, in a clean environment, within a
//! time, with the end of what they say.

use std::process::Stdio;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _};
use tokio::process::Command;
use tokio::time::timeout;

/// How much of what a command says is kept.
const MAX_OUTPUT: usize = 8 * 1024;

/// Runs a command to its end; returns what it said where it failed, in its own words.
///
/// # Errors
/// How it failed, as the end of a sentence.
pub(crate) async fn run(words: &[String], within: Duration) -> Result<(), String> {
    let (program, arguments) = words.split_first().ok_or("it is empty")?;
    let mut child = Command::new(program)
        .args(arguments)
        .env_clear()
        .env("PATH", std::env::var_os("PATH").unwrap_or_else(|| "/usr/sbin:/usr/bin:/sbin:/bin".into()))
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| format!("it cannot be started: {error}"))?;
    let (out, err) = (child.stdout.take(), child.stderr.take());
    let ended = async {
        let said = tokio::join!(end_of(err), end_of(out));
        (child.wait().await, said)
    };
    let (status, (errors, output)) =
        timeout(within, ended).await.map_err(|_| format!("it did not end within {} s", within.as_secs()))?;
    let said = if errors.is_empty() { output } else { errors };
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => {
            let how = status.code().map_or_else(|| "a signal".to_owned(), |code| format!("exit status {code}"));
            Err(if said.is_empty() { how } else { format!("{how}: {said}") })
        }
        Err(error) => Err(error.to_string()),
    }
}

/// The end of what is said, as one line.
async fn end_of(stream: Option<impl AsyncRead + Unpin>) -> String {
    let Some(mut stream) = stream else { return String::new() };
    let (mut kept, mut chunk) = (Vec::new(), vec![0; 4096]);
    while let Ok(length @ 1..) = stream.read(&mut chunk).await {
        kept.extend_from_slice(&chunk[..length]);
        let over = kept.len().saturating_sub(MAX_OUTPUT);
        kept.drain(..over);
    }
    let text = String::from_utf8_lossy(&kept).into_owned();
    text.lines().map(str::trim).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("; ")
}
