//! A process of its own, without rights, for what reads files of others: it may compute, read its standard input and
//! write its standard output, and nothing else. Whatever takes it over can open no file, reach nobody and start nothing.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use nix::libc;
use nix::sys::resource::{Resource, setrlimit};
use seccompiler::{SeccompAction, SeccompFilter};

/// How much memory the process may have, in bytes, and how much processor time, in seconds.
const MEMORY: u64 = 1 << 30;
const PROCESSOR_SECS: u64 = 20;
/// How often it is looked whether it has ended.
const LOOK_EVERY: Duration = Duration::from_millis(2);

/// Takes all rights away from this process but those to compute, to read and to write what is open; for good.
///
/// # Errors
/// What could not be taken away: then nothing of others is read.
pub fn confine() -> Result<(), String> {
    let failed = |what: &str, error: &dyn std::fmt::Display| format!("{what}: {error}");
    for (resource, most) in [
        (Resource::RLIMIT_AS, MEMORY),
        (Resource::RLIMIT_CPU, PROCESSOR_SECS),
        (Resource::RLIMIT_FSIZE, 0),
        (Resource::RLIMIT_CORE, 0),
    ] {
        setrlimit(resource, most, most).map_err(|error| failed("its limits cannot be set", &error))?;
    }
    let allowed = [
        libc::SYS_read,
        libc::SYS_write,
        libc::SYS_close,
        libc::SYS_brk,
        libc::SYS_mmap,
        libc::SYS_munmap,
        libc::SYS_mremap,
        libc::SYS_mprotect,
        libc::SYS_madvise,
        libc::SYS_futex,
        libc::SYS_getrandom,
        libc::SYS_clock_gettime,
        libc::SYS_sched_yield,
        libc::SYS_sigaltstack,
        libc::SYS_rt_sigaction,
        libc::SYS_rt_sigprocmask,
        libc::SYS_rt_sigreturn,
        libc::SYS_exit,
        libc::SYS_exit_group,
    ];
    let rules: BTreeMap<i64, Vec<_>> = allowed.into_iter().map(|call| (call, Vec::new())).collect();
    let here = std::env::consts::ARCH.try_into().map_err(|error| failed("this processor is not known", &error))?;
    let filter = SeccompFilter::new(rules, SeccompAction::KillProcess, SeccompAction::Allow, here);
    let program: seccompiler::BpfProgram =
        filter.and_then(TryInto::try_into).map_err(|error| failed("the filter cannot be made", &error))?;
    // This also bars it from rights that a program file would give it.
    seccompiler::apply_filter(&program).map_err(|error| failed("its rights cannot be taken away", &error))
}

/// Runs a program that confines itself, with one argument and nothing of this process's environment; returns what it
/// writes where it ends with 0.
///
/// # Errors
/// How it failed, as the end of a sentence.
pub fn run_confined(
    program: &Path,
    argument: &str,
    input: &[u8],
    most: usize,
    within: Duration,
) -> Result<Vec<u8>, String> {
    let lost = |error: std::io::Error| error.to_string();
    let mut child = Command::new(program)
        .arg(argument)
        .env_clear()
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .map_err(lost)?;
    let (stdin, stdout) = (child.stdin.take(), child.stdout.take());
    let (ended, output) = std::thread::scope(|scope| {
        scope.spawn(|| stdin.map(|mut stdin| stdin.write_all(input)));
        let reading = scope.spawn(|| {
            let mut output = Vec::new();
            let most = u64::try_from(most).unwrap_or(u64::MAX);
            stdout.map(|stdout| stdout.take(most + 1).read_to_end(&mut output));
            output
        });
        let begun = Instant::now();
        let ended = loop {
            match child.try_wait() {
                Ok(None) if begun.elapsed() < within => std::thread::sleep(LOOK_EVERY),
                Ok(Some(status)) => break Ok(status),
                Ok(None) => break Err(format!("it did not end within {} s", within.as_secs())),
                Err(error) => break Err(lost(error)),
            }
        };
        if ended.is_err() {
            let _ = child.kill();
            let _ = child.wait();
        }
        (ended, reading.join().unwrap_or_default())
    });
    match ended? {
        status if status.success() && output.len() <= most => Ok(output),
        status if status.success() => Err(format!("it has more than {most} bytes")),
        status => Err(format!("it was ended ({status})")),
    }
}
