//! Commands on this machine: argument lists, in a clean environment, within a time, with a bound on what is
//! kept of what they say.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::Command;
use tokio::time::timeout;

/// How much of what a command says is shown.
const MAX_SHOWN: usize = 8 * 1024;
/// The variables of this process that a command sees.
const PASSED_ON: [&str; 2] = ["HOME", "LANG"];

/// A command with what it is given.
pub(crate) struct Exchange<'e> {
    /// The program and its arguments.
    pub(crate) words: &'e [String],
    /// The folder that it is run in; this process's own when absent.
    pub(crate) folder: Option<&'e Path>,
    /// What it reads on standard input.
    pub(crate) input: &'e [u8],
    /// The longest output that can be used, in bytes; of a longer one, the last `most + 1` bytes are kept.
    pub(crate) most: usize,
    /// How long it may take.
    pub(crate) within: Duration,
}

/// Runs a command to its end, for what it does.
///
/// # Errors
/// How it failed, as the end of a sentence.
pub(crate) async fn run(words: &[String], within: Duration) -> Result<(), String> {
    exchange(&Exchange { words, folder: None, input: b"", most: MAX_SHOWN, within }).await.map(|_| ())
}

/// Runs a program of the manifest to its end, in a folder, for how it ends.
///
/// # Errors
/// How it failed, as the end of a sentence.
pub async fn run_program(words: &[String], folder: &Path, within: Duration) -> Result<(), String> {
    exchange(&Exchange { words, folder: Some(folder), input: b"", most: MAX_SHOWN, within }).await.map(|_| ())
}

/// Runs a command to its end, for its output.
///
/// # Errors
/// How it failed, as the end of a sentence.
pub(crate) async fn exchange(exchange: &Exchange<'_>) -> Result<Vec<u8>, String> {
    let (program, arguments) = exchange.words.split_first().ok_or("it is empty")?;
    let mut command = Command::new(program);
    command
        .args(arguments)
        .env_clear()
        .env("PATH", std::env::var_os("PATH").unwrap_or_else(|| "/usr/sbin:/usr/bin:/sbin:/bin".into()))
        .envs(PASSED_ON.iter().filter_map(|name| Some((name, std::env::var_os(name)?))))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .kill_on_drop(true);
    if let Some(folder) = exchange.folder {
        command.current_dir(folder);
    }
    let mut child = command.spawn().map_err(|error| format!("it cannot be started: {error}"))?;
    let (input, out, err) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let given = async {
        // A command that reads nothing, or not all, is judged by how it ends.
        if let Some(mut input) = input {
            let _ = input.write_all(exchange.input).await;
        }
    };
    let ended = async {
        let (output, errors, ()) = tokio::join!(end_of(out, exchange.most + 1), end_of(err, MAX_SHOWN), given);
        (child.wait().await, output, errors)
    };
    let late = |_| format!("it did not end within {} s", exchange.within.as_secs());
    let (status, output, errors) = timeout(exchange.within, ended).await.map_err(late)?;
    match status {
        Ok(status) if status.success() => Ok(output),
        Ok(status) => {
            let how = status.code().map_or_else(|| "a signal".to_owned(), |code| format!("exit status {code}"));
            let said = if errors.is_empty() { &output[output.len().saturating_sub(MAX_SHOWN)..] } else { &errors };
            let said = as_one_line(said);
            Err(if said.is_empty() { how } else { format!("{how}: {said}") })
        }
        Err(error) => Err(error.to_string()),
    }
}

/// Reads a stream to its end and keeps the last bytes of it.
async fn end_of(stream: Option<impl AsyncRead + Unpin>, most: usize) -> Vec<u8> {
    let Some(mut stream) = stream else { return Vec::new() };
    let (mut kept, mut chunk) = (Vec::new(), vec![0; 4096]);
    while let Ok(length @ 1..) = stream.read(&mut chunk).await {
        kept.extend_from_slice(&chunk[..length]);
        let over = kept.len().saturating_sub(most);
        kept.drain(..over);
    }
    kept
}

fn as_one_line(said: &[u8]) -> String {
    let text = String::from_utf8_lossy(said);
    text.lines().map(str::trim).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("; ")
}
