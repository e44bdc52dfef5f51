//! A temporary folder in which the built program runs.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::Value;
use tempfile::TempDir;

/// A temporary folder with a manifest.
pub struct Workspace {
    folder: TempDir,
    program: PathBuf,
    env: Vec<(String, String)>,
}

/// What a run of the program gave.
#[derive(Debug)]
pub struct Ran {
    /// The exit status.
    pub status: i32,
    /// Standard output.
    pub stdout: String,
    /// Standard error.
    pub stderr: String,
}

impl Ran {
    /// Panics with everything unless the exit status is this one.
    #[track_caller]
    pub fn ended(self, status: i32) -> Ran {
        assert_eq!(self.status, status, "--- stdout\n{}\n--- stderr\n{}", self.stdout, self.stderr);
        self
    }

    /// Reads standard output as one JSON document.
    #[track_caller]
    pub fn json(&self) -> Value {
        serde_json::from_str(&self.stdout)
            .unwrap_or_else(|error| panic!("no JSON ({error}): {}{}", self.stdout, self.stderr))
    }

    /// Reads standard output as one JSON object a line.
    #[track_caller]
    pub fn events(&self) -> Vec<Value> {
        let read = |line: &str| serde_json::from_str(line).unwrap_or_else(|error| panic!("no JSON ({error}): {line}"));
        self.stdout.lines().map(read).collect()
    }

    /// Returns the last event, which sums a run up.
    #[track_caller]
    pub fn summary(&self) -> Value {
        let last = self.events().pop().unwrap_or_else(|| panic!("no events: {}", self.stderr));
        assert_eq!(last["event"], "summary", "{last}");
        last
    }
}

impl Workspace {
    /// Makes a folder for `program`.
    pub fn new(program: &str) -> Workspace {
        let folder =
            TempDir::with_prefix("pindrel-test-").unwrap_or_else(|error| panic!("no temporary folder: {error}"));
        Workspace { folder, program: program.into(), env: Vec::new() }
    }

    /// Returns the folder.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Writes a file, making its folders.
    pub fn write(&self, name: &str, text: &str) {
        let path = self.path().join(name);
        let made = path.parent().map_or(Ok(()), std::fs::create_dir_all).and_then(|()| std::fs::write(&path, text));
        made.unwrap_or_else(|error| panic!("{} cannot be written: {error}", path.display()));
    }

    /// Reads a file.
    pub fn read(&self, name: &str) -> String {
        let path = self.path().join(name);
        std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{} cannot be read: {error}", path.display()))
    }

    /// Sets a variable for all later runs.
    pub fn set(&mut self, name: &str, value: &str) {
        self.env.retain(|(known, _)| known != name);
        self.env.push((name.into(), value.into()));
    }

    /// Takes a variable away again.
    pub fn unset(&mut self, name: &str) {
        self.env.retain(|(known, _)| known != name);
    }

    /// Returns a command that runs the program here with a clean environment.
    pub fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(&self.program);
        command.args(args).current_dir(self.path()).env_clear().stdin(Stdio::null());
        command.envs(self.env.iter().map(|(name, value)| (name, value)));
        command
    }

    /// Runs the program here and waits for its end.
    pub fn run(&self, args: &[&str]) -> Ran {
        let output = self.command(args).output().unwrap_or_else(|error| panic!("the program does not start: {error}"));
        Ran {
            status: output.status.code().unwrap_or(-1),
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }
}
