//! The endpoint protocol over standard input and output: one process and one line each way for a call.

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use async_trait::async_trait;
use pindrel_core::judging::facts::Unreachable;
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tokio::sync::Semaphore;
use url::Url;

use super::{Call, Carrier, Condition, Method, ProtocolPlatform, Reply, Target, under};
use crate::EdgeError;

/// The version of the messages.
const VERSION: u32 = 1;
/// How long a call may take.
const PATIENCE: Duration = Duration::from_secs(60);
/// The longest reply that is read, in bytes.
const MAX_REPLY: usize = 1 << 20;
/// How many calls run at once.
const AT_ONCE: usize = 4;

/// A program that speaks for a platform.
#[derive(Debug, Clone)]
pub struct AdapterProgram {
    /// The program and its arguments.
    pub words: Vec<String>,
    /// The folder that it is run in.
    pub folder: PathBuf,
    /// What it is given to sign in with.
    pub token: Option<SecretString>,
}

impl fmt::Display for AdapterProgram {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.words.join(" "))
    }
}

impl ProtocolPlatform {
    /// Makes a driver for the platform that `program` speaks for. It makes at most `calls_per_second` calls
    /// a second, where that is given.
    pub fn by_program(program: AdapterProgram, calls_per_second: Option<u32>) -> ProtocolPlatform {
        let token = program.token.clone();
        let program = Program { program, turns: Semaphore::new(AT_ONCE) };
        ProtocolPlatform::over(program, token.as_ref(), calls_per_second)
    }
}

struct Program {
    program: AdapterProgram,
    turns: Semaphore,
}

#[derive(Serialize)]
struct Request<'r> {
    version: u32,
    method: Method,
    path: &'r str,
    #[serde(skip_serializing_if = "Option::is_none")]
    token: Option<&'r str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    if_match: Option<&'r str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    if_none_match: Option<&'r str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    body: Option<&'r Value>,
}

#[derive(Deserialize)]
struct Response {
    status: u16,
    #[serde(default)]
    etag: Option<String>,
    #[serde(default)]
    next: Option<String>,
    #[serde(default)]
    retry_after: Option<u32>,
    #[serde(default)]
    body: Value,
}

impl Program {
    fn path(target: &Target) -> String {
        match target {
            Target::Path(segments) => {
                let base = Url::parse("https://adapter.test/").map(|base| under(&base, segments));
                base.map(|url| url.path().to_owned()).unwrap_or_default()
            }
            Target::Page(link) => link.clone(),
        }
    }
}

#[async_trait]
impl Carrier for Program {
    fn place(&self, target: &Target) -> String {
        format!("{} {}", self.program, Program::path(target))
    }

    fn platform(&self) -> String {
        self.program.to_string()
    }

    async fn call(&self, call: &Call<'_>) -> Result<Reply, EdgeError> {
        let malformed = |why: String| EdgeError::Malformed { url: self.place(call.target), why };
        let path = Program::path(call.target);
        let (if_match, if_none_match) = match &call.condition {
            None => (None, None),
            Some(Condition::Absent) => (None, Some("*")),
            Some(Condition::Unchanged(etag)) => (Some(etag.as_str()), None),
        };
        let request = Request {
            version: VERSION,
            method: call.method,
            path: &path,
            token: self.program.token.as_ref().map(|token| token.expose_secret()),
            if_match,
            if_none_match,
            body: call.body.as_ref(),
        };
        let mut line = serde_json::to_vec(&request).map_err(|error| malformed(error.to_string()))?;
        line.push(b'\n');
        let _turn = self.turns.acquire().await;
        let program = pindrel_machine::Program {
            words: &self.program.words,
            folder: Some(&self.program.folder),
            variables: &[],
            input: &line,
            most: MAX_REPLY,
            within: PATIENCE,
        };
        let output = program.output().await.map_err(|says| EdgeError::Unreachable {
            url: self.platform(),
            why: Unreachable::Other { detail: says },
        })?;
        if output.len() > MAX_REPLY {
            return Err(malformed(format!("it is longer than {MAX_REPLY} bytes")));
        }
        let response: Response = serde_json::from_slice(&output).map_err(|error| malformed(error.to_string()))?;
        Ok(Reply {
            status: response.status,
            etag: response.etag,
            next: response.next,
            retry_after: response.retry_after.map(|seconds| Duration::from_secs(seconds.into())),
            body: Ok(response.body),
            length: output.len(),
        })
    }
}
