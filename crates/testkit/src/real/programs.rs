//! Installed programs: found, started, and stopped again.

use std::fs::File;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;

/// Folders that hold servers but are often not on the path.
const SERVER_FOLDERS: [&str; 3] = ["/usr/sbin", "/usr/local/sbin", "/sbin"];

/// Where Debian installs each version of a database server, out of everybody's path.
const VERSIONED_FOLDER: &str = "/usr/lib/postgresql";

/// Returns where a program is installed.
pub fn find(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let versions = std::fs::read_dir(VERSIONED_FOLDER).into_iter().flatten().flatten();
    let mut folders = std::env::split_paths(&path)
        .chain(SERVER_FOLDERS.iter().map(PathBuf::from))
        .chain(versions.map(|version| version.path().join("bin")));
    folders.by_ref().map(|folder| folder.join(name)).find(|candidate| candidate.is_file())
}

/// Returns the first of these programs that is not installed, with its Debian package.
pub fn missing<'p>(programs: &[(&'p str, &'p str)]) -> Option<(&'p str, &'p str)> {
    programs.iter().copied().find(|(program, _)| find(program).is_none())
}

/// Says whether a test can go on: all its programs are there. If not, the test's output
/// says which one is missing, or the test fails where servers are required.
pub fn require(test: &str, programs: &[(&str, &str)]) -> bool {
    let Some((program, package)) = missing(programs) else { return true };
    let says = format!("{test}: not tested, since {program} is not installed (Debian package {package})");
    assert!(std::env::var_os("PINDREL_REQUIRE_SERVERS").is_none(), "{says}");
    // Straight to the file descriptor: the test runner captures what macros print.
    let _ = std::io::Write::write_all(&mut std::io::stderr(), format!("{says}\n").as_bytes());
    false
}

/// A server that runs until it is dropped.
pub struct Program {
    child: Child,
    name: String,
    log: PathBuf,
}

impl Program {
    /// Starts a server, its output going to a log beside its files.
    pub fn start(name: &str, folder: &Path, args: &[&str], env: &[(&str, String)]) -> Program {
        Program::start_as(None, name, folder, args, env)
    }

    /// Starts a server as another user, where `user` names one by its ids.
    pub fn start_as(
        user: Option<(u32, u32)>,
        name: &str,
        folder: &Path,
        args: &[&str],
        env: &[(&str, String)],
    ) -> Program {
        let path = find(name).unwrap_or_else(|| panic!("{name} is not installed"));
        let log = folder.join(format!("{name}.log"));
        let output = File::create(&log).unwrap_or_else(|error| panic!("no log for {name}: {error}"));
        let errors = output.try_clone().unwrap_or_else(|error| panic!("no log for {name}: {error}"));
        let mut command = Command::new(path);
        if let Some((uid, gid)) = user {
            command.uid(uid).gid(gid);
        }
        let child = command
            // Its workers are ended with it.
            .process_group(0)
            .args(args)
            .envs(env.iter().map(|(key, value)| (*key, value.as_str())))
            .current_dir(folder)
            .stdin(Stdio::null())
            .stdout(output)
            .stderr(errors)
            .spawn()
            .unwrap_or_else(|error| panic!("{name} does not start: {error}"));
        Program { child, name: name.into(), log }
    }

    /// Panics with the server's log if it has stopped.
    pub fn assert_running(&mut self) {
        if let Ok(Some(status)) = self.child.try_wait() {
            let log = std::fs::read_to_string(&self.log).unwrap_or_default();
            panic!("{} stopped with {status}:\n{log}", self.name);
        }
    }

    /// Stops the server and its workers at once.
    pub fn kill(&mut self) {
        if matches!(self.child.try_wait(), Ok(None))
            && let Ok(pid) = i32::try_from(self.child.id())
        {
            let _ = killpg(Pid::from_raw(pid), Signal::SIGKILL);
        }
        let _ = self.child.wait();
    }
}

impl Program {
    /// Stops the program and all that it has started where they stand, or lets them go on: a server that hangs.
    pub fn hang(&self, hangs: bool) {
        let signal = if hangs { "-STOP" } else { "-CONT" };
        // The one that starts others first, so that no new one goes on.
        let mut left = vec![self.child.id()];
        while let Some(process) = left.pop() {
            left.extend(children(process));
            let _ = Command::new("kill").args([signal, &process.to_string()]).stderr(Stdio::null()).status();
        }
    }
}

/// The processes that one has started.
fn children(process: u32) -> Vec<u32> {
    let listed = std::fs::read_to_string(format!("/proc/{process}/task/{process}/children")).unwrap_or_default();
    listed.split_whitespace().filter_map(|id| id.parse().ok()).collect()
}

impl Drop for Program {
    fn drop(&mut self) {
        self.kill();
    }
}
