//! Programs on this machine: argument lists, never a shell line, in a clean environment, within a time for all that
//! they start, with a bound on what is kept of what they say.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWriteExt as _};
use tokio::process::Command;
use tokio::task::JoinHandle;
use tokio::time::timeout;

use crate::host::may_execute;

/// The most that is kept of what a program says about an error, in bytes.
const MAX_SAID: usize = 16 * 1024;
/// How many characters of it are shown: the last ones.
const SHOWN: usize = 2_000;
/// How long the output of a program that has ended may take to end too: what it left running may hold it open.
const OUTPUT_PATIENCE: Duration = Duration::from_millis(300);
/// How long a program that must end may take to end by itself.
const TERM_PATIENCE: Duration = Duration::from_secs(2);
/// The variable by which a program is known with all that it starts, whatever group or parent those choose.
const MARK: &str = "PINDREL_STARTED_BY";
/// How often what is left of a program that must end is looked for: it may start more while it is ended.
const MOST_ROUNDS: usize = 10;
/// The variables of this process that a program sees, beside `PATH`.
const PASSED_ON: [&str; 2] = ["HOME", "LANG"];

/// A program with what it is given.
#[derive(Debug, Clone, Copy)]
pub struct Program<'p> {
    /// The program and its arguments.
    pub words: &'p [String],
    /// The folder that it is run in; this process's own when absent.
    pub folder: Option<&'p Path>,
    /// Variables of its environment, beside the few that every program sees.
    pub variables: &'p [(&'p str, &'p str)],
    /// What it reads on standard input.
    pub input: &'p [u8],
    /// The longest output that can be used, in bytes; of a longer one, the last `most + 1` bytes are kept.
    pub most: usize,
    /// How long it may take, with all that it starts.
    pub within: Duration,
}

impl<'p> Program<'p> {
    /// A command that is run for what it does.
    pub fn command(words: &'p [String], within: Duration) -> Program<'p> {
        Program { words, folder: None, variables: &[], input: b"", most: MAX_SAID, within }
    }

    /// Says whether the system would find the program, as `execvp` looks for it: by its path, or in the folders of
    /// `PATH`.
    pub fn is_there(&self) -> bool {
        let Some(program) = self.words.first() else { return false };
        let here = self.folder.unwrap_or(Path::new("."));
        let is_program = |path: PathBuf| path.is_file() && may_execute(&path);
        if program.contains('/') {
            return is_program(here.join(program));
        }
        std::env::split_paths(&search_path()).any(|folder| is_program(here.join(folder).join(program)))
    }

    /// Runs it to its end; returns its standard output where it ends with 0.
    ///
    /// # Errors
    /// How it failed, as the end of a sentence.
    pub async fn output(&self) -> Result<Vec<u8>, String> {
        self.run().await.map(|(output, _)| output)
    }

    /// Runs it to its end; returns what it said where it ends with 0: on standard error, else on standard output.
    ///
    /// # Errors
    /// How it failed, as the end of a sentence.
    pub async fn run_for_message(&self) -> Result<String, String> {
        self.run().await.map(|(output, errors)| said(&errors, &output))
    }

    async fn run(&self) -> Result<(Vec<u8>, Vec<u8>), String> {
        let (program, arguments) = self.words.split_first().ok_or("it is empty")?;
        let mark = next_mark();
        let mut command = Command::new(program);
        command
            .args(arguments)
            .env_clear()
            .env("PATH", search_path())
            .envs(PASSED_ON.iter().filter_map(|name| Some((name, std::env::var_os(name)?))))
            .envs(self.variables.iter().copied())
            .env(MARK, &mark)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            // A group of its own, so that all it starts can be ended with it.
            .process_group(0)
            .kill_on_drop(true);
        if let Some(folder) = self.folder {
            command.current_dir(folder);
        }
        let mut child = command.spawn().map_err(|error| {
            let text = error.to_string();
            format!("it cannot be started: {}", text.split(" (os error").next().unwrap_or(&text).to_lowercase())
        })?;
        let first = child.id().and_then(|id| i32::try_from(id).ok()).map(Pid::from_raw);
        let mut group = Started(first.map(|first| (first, mark)));
        let (output, errors) = (keep(child.stdout.take(), self.most + 1), keep(child.stderr.take(), MAX_SAID));
        let input = child.stdin.take();
        let ended = timeout(self.within, async {
            // A program that reads nothing, or not all, is judged by how it ends.
            if let Some(mut input) = input {
                let _ = input.write_all(self.input).await;
            }
            child.wait().await
        });
        let Ok(status) = ended.await else {
            group.signal(Signal::SIGTERM);
            let _ = timeout(TERM_PATIENCE, child.wait()).await;
            return Err(format!("it did not exit within {} s and was killed", self.within.as_secs()));
        };
        // What it left running on purpose goes on.
        group.0 = None;
        let (output, errors) = tokio::join!(output.finish(), errors.finish());
        match status {
            Ok(status) if status.success() => Ok((output, errors)),
            Ok(status) => {
                let how = status
                    .code()
                    .map_or_else(|| "it was killed by a signal".to_owned(), |code| format!("exit status {code}"));
                let said = said(&errors, &output);
                Err(if said.is_empty() { how } else { format!("{how}: {said}") })
            }
            Err(error) => Err(error.to_string()),
        }
    }
}

fn search_path() -> OsString {
    std::env::var_os("PATH").unwrap_or_else(|| "/usr/sbin:/usr/bin:/sbin:/bin".into())
}

/// Returns a mark that no other program of this machine has.
fn next_mark() -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
    format!("{}-{}-{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed), since.as_nanos())
}

/// The processes of a program that has not ended, by the first of them and its mark: killed as a whole when nothing waits
/// for them, as when the run is stopped.
struct Started(Option<(Pid, String)>);

impl Started {
    fn signal(&self, signal: Signal) {
        let Some((first, mark)) = &self.0 else { return };
        // What left the group is found before it loses its parent. Each of these fails where it has ended by itself.
        let left = elsewhere(*first, mark);
        let _ = killpg(*first, signal);
        for process in left {
            let _ = kill(process, signal);
        }
    }
}

impl Drop for Started {
    fn drop(&mut self) {
        self.signal(Signal::SIGKILL);
        let Some((first, mark)) = &self.0 else { return };
        for _ in 0..MOST_ROUNDS {
            let left = elsewhere(*first, mark);
            if left.is_empty() {
                break;
            }
            for process in left {
                let _ = kill(process, Signal::SIGKILL);
            }
        }
    }
}

/// The processes that a program started and that are not in its group: those with a parent among its own, and those that
/// bear its mark. What the system does not tell is taken for none.
fn elsewhere(first: Pid, mark: &str) -> Vec<Pid> {
    struct Process {
        id: i32,
        parent: i32,
        group: i32,
        is_marked: bool,
    }
    let mark = format!("{MARK}={mark}");
    let read = |entry: std::fs::DirEntry| {
        let id: i32 = entry.file_name().to_str()?.parse().ok()?;
        let stat = std::fs::read_to_string(entry.path().join("stat")).ok()?;
        // After the name, which may hold anything: state, parent, group.
        let mut fields = stat.rsplit_once(')')?.1.split_whitespace();
        let is_dead = matches!(fields.next()?, "Z" | "X");
        let (parent, group) = (fields.next()?.parse().ok()?, fields.next()?.parse().ok()?);
        let environment = std::fs::read(entry.path().join("environ")).unwrap_or_default();
        let is_marked = environment.split(|byte| *byte == 0).any(|variable| variable == mark.as_bytes());
        (!is_dead).then_some(Process { id, parent, group, is_marked })
    };
    let all: Vec<Process> = std::fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(read).collect();
    let mut own: BTreeSet<i32> = BTreeSet::from([first.as_raw()]);
    own.extend(all.iter().filter(|process| process.is_marked || process.group == first.as_raw()).map(|one| one.id));
    // Children of children, in whatever order they are listed.
    while let Some(found) = all.iter().find(|one| own.contains(&one.parent) && !own.contains(&one.id)) {
        own.insert(found.id);
    }
    let outside = all.iter().filter(|one| own.contains(&one.id) && one.group != first.as_raw());
    outside.map(|one| Pid::from_raw(one.id)).collect()
}

/// The end of a stream, while it is read.
struct Kept {
    bytes: Arc<Mutex<Vec<u8>>>,
    reading: JoinHandle<()>,
}

fn keep(stream: Option<impl AsyncRead + Unpin + Send + 'static>, most: usize) -> Kept {
    let bytes = Arc::new(Mutex::new(Vec::new()));
    let keeping = bytes.clone();
    let reading = tokio::spawn(async move {
        let Some(mut stream) = stream else { return };
        let mut chunk = vec![0; 4096];
        while let Ok(length @ 1..) = stream.read(&mut chunk).await {
            let mut kept = keeping.lock().unwrap_or_else(PoisonError::into_inner);
            kept.extend_from_slice(&chunk[..length]);
            let over = kept.len().saturating_sub(most);
            kept.drain(..over);
        }
    });
    Kept { bytes, reading }
}

impl Kept {
    async fn finish(self) -> Vec<u8> {
        let Kept { bytes, mut reading } = self;
        let _ = timeout(OUTPUT_PATIENCE, &mut reading).await;
        reading.abort();
        std::mem::take(&mut *bytes.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// The end of what a program said, in one line.
fn said(errors: &[u8], output: &[u8]) -> String {
    let line = |said: &[u8]| {
        let text = String::from_utf8_lossy(said);
        let lines = text.lines().map(|line| line.replace(|c: char| c.is_control(), " ").trim().to_owned());
        let text = lines.filter(|line| !line.is_empty()).collect::<Vec<_>>().join("; ");
        text.chars().skip(text.chars().count().saturating_sub(SHOWN)).collect::<String>()
    };
    let said = line(errors);
    if said.is_empty() { line(output) } else { said }
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use super::*;

    fn shell(script: &str) -> Vec<String> {
        ["sh", "-c", script].map(str::to_owned).to_vec()
    }

    #[test]
    fn a_program_is_found_where_the_system_finds_it() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("folder")).unwrap();
        std::fs::write(folder.path().join("text"), "").unwrap();
        std::os::unix::fs::symlink("/bin/sh", folder.path().join("shell")).unwrap();
        let table = [
            ("sh", true),
            ("/bin/sh", true),
            ("./shell", true),
            ("shell", false),
            ("./text", false),
            ("./folder", false),
            ("no-such-program", false),
            ("/no/such/program", false),
            ("", false),
        ];
        for (program, expected) in table {
            let words = [program.to_owned()];
            let command = Program { folder: Some(folder.path()), ..Program::command(&words, Duration::ZERO) };
            assert_eq!(command.is_there(), expected, "{program:?}");
        }
        assert!(!Program::command(&[], Duration::ZERO).is_there());
    }

    #[tokio::test]
    async fn a_program_is_judged_by_how_it_ends_and_what_it_says() {
        let table = [
            ("cat", Ok("given")),
            ("echo $PINDREL_NAMES $PINDREL_UNKNOWN; echo noise >&2", Ok("api.larkfield.example\n")),
            ("exit 3", Err("exit status 3")),
            ("echo one; echo two; exit 1", Err("exit status 1: one; two")),
            ("echo out; printf 'bad\\033[1m\\n\\n line' >&2; exit 1", Err("exit status 1: bad [1m; line")),
            ("kill -9 $$", Err("it was killed by a signal")),
            ("sleep 60 & echo left", Ok("left\n")),
            ("head -c 100000 /dev/zero | tr '\\0' x", Ok(&"x".repeat(101)[..])),
        ];
        for (script, expected) in table {
            let words = shell(script);
            let variables = [("PINDREL_NAMES", "api.larkfield.example")];
            let program = Program {
                words: &words,
                folder: None,
                variables: &variables,
                input: b"given",
                most: 100,
                within: Duration::from_secs(10),
            };
            let output = program.output().await.map(|output| String::from_utf8(output).unwrap());
            assert_eq!(output.as_deref().map_err(String::as_str), expected, "{script}");
        }
        let missing = ["/nowhere/at-all".to_owned()];
        let failed = Program::command(&missing, Duration::from_secs(1)).output().await.unwrap_err();
        assert_eq!(failed, "it cannot be started: no such file or directory");
        assert_eq!(Program::command(&[], Duration::from_secs(1)).output().await.unwrap_err(), "it is empty");
    }

    #[tokio::test]
    async fn a_late_program_is_killed_with_all_that_it_started() {
        let begun = Instant::now();
        let mark = format!("9{:08}", std::process::id());
        // Some leave the group, with and without their parent; one without its environment, too.
        let words = shell(&format!(
            "sleep {mark} & setsid sleep {mark} & (setsid sleep {mark} &); env -i setsid sleep {mark} & \
             trap '' TERM; sleep {mark}; sleep {mark}"
        ));
        let failed = Program::command(&words, Duration::from_millis(200)).output().await.unwrap_err();
        assert_eq!(failed, "it did not exit within 0 s and was killed");
        assert!(begun.elapsed() < Duration::from_secs(10));
        let left = || {
            let of = |entry: std::fs::DirEntry| std::fs::read(entry.path().join("cmdline")).ok();
            let all = std::fs::read_dir("/proc").unwrap().filter_map(|entry| of(entry.ok()?));
            all.filter(|line| line.windows(mark.len()).any(|part| part == mark.as_bytes())).count()
        };
        let deadline = Instant::now() + Duration::from_secs(5);
        while left() > 0 {
            assert!(Instant::now() < deadline, "{} processes are left", left());
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }
}
