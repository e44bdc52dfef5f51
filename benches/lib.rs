//! What the benches share: made-up worlds of any size, and runs of the built program
//! with their time, processor time and peak memory.

pub mod distance;
pub mod figures;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use pindrel_core::desired::{Desired, resolve};
use pindrel_core::judging::facts::{HostnameFacts, Ownership};
use pindrel_core::manifest::{Diagnostics, read};
use pindrel_state::{HostnameRow, Hostnames, SqliteState};

/// The sealing key of all states, made up.
pub const SEALING_KEY: &str = "c2VhbGluZyBrZXkgb2YgdGhlIGJlbmNoZXMgMzIgYnk=\n";

/// Returns a manifest of that many hostnames behind one gateway.
pub fn manifest(hostnames: usize) -> String {
    let mut text = String::from(
        r#"manifest = 1

[authority.main]
directory = "https://127.0.0.1:4430/directory"
contact = ["mailto:tls@larkfield.example"]
agree_to_terms = true

[zone."larkfield.example"]
driver = "rfc2136"
servers = ["127.0.0.1:5301", "127.0.0.1:5302"]
tsig = { name = "pindrel.", algorithm = "hmac-sha256", secret = "env:TSIG_SECRET" }

[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "https://127.0.0.1:9443"
token = "env:EDGE_TOKEN"
"#,
    );
    for n in 0..hostnames {
        text.push_str(&format!(
            "\n[hostname.\"tenant-{n:06}.larkfield.example\"]\nendpoint = \"catalogue\"\n\
             routes = [{{ prefix = \"/v2\", service = \"catalogue\", release = \"live\" }}]\n\
             expect = {{ path = \"/v2/\", status = \"200\" }}\n"
        ));
    }
    text
}

/// Reads a manifest that has no mistakes.
///
/// # Panics
/// When it has some.
pub fn desired(text: &str) -> Desired {
    let mut problems = Diagnostics::default();
    let desired = resolve(read(text, &mut problems), &mut problems);
    assert!(problems.is_empty(), "the manifest of the benches has mistakes");
    desired
}

/// Writes a manifest and a state in which all its hostnames are held by fresh facts.
///
/// # Panics
/// When the folder cannot be written.
pub fn settled_folder(folder: &Path, hostnames: usize) {
    let text = manifest(hostnames);
    std::fs::write(folder.join("pindrel.toml"), &text).unwrap_or_else(|error| panic!("{error}"));
    let path = folder.join(".pindrel/state.sqlite");
    let state = SqliteState::open(&path, pindrel_state::Access::Change).unwrap_or_else(|error| panic!("{error}"));
    runtime().block_on(hold_all(&state, &text));
    let key = folder.join(".pindrel/sealing.key");
    std::fs::write(&key, SEALING_KEY).unwrap_or_else(|error| panic!("{error}"));
    let private = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    std::fs::set_permissions(&key, private).unwrap_or_else(|error| panic!("{error}"));
}

/// Writes into a state that all hostnames of a manifest are held by fresh facts.
///
/// # Panics
/// When the state cannot be written.
pub async fn hold_all(state: &(impl Hostnames + ?Sized), manifest: &str) {
    let desired = desired(manifest);
    let digests = desired.digests();
    let now = Timestamp::now().as_second();
    let rows = desired.hostname_ids().map(|id| HostnameRow {
        hostname: desired.hostname(id).hostname.clone(),
        wanted: digests.of(&desired, id),
        held: true,
        seen_secs: now,
        due_secs: now + 60 * 86_400,
        facts: HostnameFacts::default(),
        ownership: Ownership::default(),
    });
    state.persist_hostnames(rows.collect()).await.unwrap_or_else(|error| panic!("{error}"));
}

/// Makes a runtime to wait for the state on.
///
/// # Panics
/// When there is none to be had.
pub fn runtime() -> tokio::runtime::Runtime {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    runtime.unwrap_or_else(|error| panic!("{error}"))
}

/// Builds the release program and returns where it is.
///
/// # Panics
/// When it does not build.
pub fn program() -> PathBuf {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let built =
        Command::new(env!("CARGO")).args(["build", "--release", "-q", "-p", "pindrel"]).current_dir(&root).status();
    assert!(built.is_ok_and(|status| status.success()), "the program does not build");
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| "target".into(), PathBuf::from);
    let program = root.join(target).join("release/pindrel");
    program.canonicalize().unwrap_or_else(|error| panic!("{}: {error}", program.display()))
}

/// What one run of a program took.
#[derive(Debug, Clone, Copy, Default)]
pub struct Cost {
    /// From start to end.
    pub wall: Duration,
    /// Processor time, of all threads.
    pub cpu: Duration,
    /// The most memory that it had at once, in KiB.
    pub peak_kib: u64,
    /// Its exit status.
    pub status: i32,
}

/// Runs a program to its end, looking at `/proc` while it runs.
///
/// # Panics
/// When it does not start.
pub fn run(command: &mut Command) -> (Cost, String) {
    let begun = Instant::now();
    let mut child = command
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap_or_else(|error| panic!("{error}"));
    let place = PathBuf::from(format!("/proc/{}", child.id()));
    let mut output = child.stdout.take();
    let reader = std::thread::spawn(move || {
        let mut text = String::new();
        if let Some(output) = &mut output {
            let _ = std::io::Read::read_to_string(output, &mut text);
        }
        text
    });
    let mut cost = Cost::default();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap_or_else(|error| panic!("{error}")) {
            break status;
        }
        cost.peak_kib = cost.peak_kib.max(peak_kib(&place).unwrap_or(0));
        cost.cpu = cost.cpu.max(cpu(&place).unwrap_or_default());
        std::thread::sleep(Duration::from_micros(500));
    };
    cost.wall = begun.elapsed();
    cost.status = status.code().unwrap_or(-1);
    (cost, reader.join().unwrap_or_default())
}

fn peak_kib(place: &Path) -> Option<u64> {
    let status = std::fs::read_to_string(place.join("status")).ok()?;
    status.lines().find_map(|line| line.strip_prefix("VmHWM:"))?.split_whitespace().next()?.parse().ok()
}

/// User and system time in clock ticks of a hundredth of a second.
fn cpu(place: &Path) -> Option<Duration> {
    let stat = std::fs::read_to_string(place.join("stat")).ok()?;
    let mut fields = stat.rsplit_once(')')?.1.split_whitespace().skip(11);
    let ticks: u64 = fields.next()?.parse::<u64>().ok()? + fields.next()?.parse::<u64>().ok()?;
    Some(Duration::from_millis(ticks * 10))
}

/// Returns the median.
pub fn median<T: Copy + PartialOrd>(mut values: Vec<T>) -> Option<T> {
    values.sort_by(|left, right| left.partial_cmp(right).unwrap_or(std::cmp::Ordering::Equal));
    values.get(values.len() / 2).copied()
}
