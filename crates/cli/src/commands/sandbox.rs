//! `pindrel sandbox`

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use clap::builder::{PossibleValue, StringValueParser, TypedValueParser};
use clap::{Arg, Args, Subcommand};
use pindrel_sandbox::control::{self, Requested};
use pindrel_sandbox::{Listing, NetRange, Options, Sandbox, SandboxError};

use crate::args::Format;
use crate::context::Context;
use crate::demo_manifest;
use crate::error::{CliError, Status};
use crate::output;
use crate::signals::stop_signal;

/// How long a sandbox in the background may take to answer.
const START_PATIENCE: Duration = Duration::from_secs(20);
/// How much is read of what it says when it fails.
const MAX_ERRORS: u64 = 16 * 1024;

/// Run stand-ins for the outside world on loopback
///
/// An ACME authority, DNS servers (a parent, a primary, a secondary that lags, one that somebody
/// else edits, a caching resolver) and an endpoint platform. No root rights are needed; everything listens on
/// addresses 127.47.N.x, with the first N that is free; --net names another range.
#[derive(Debug, Subcommand)]
pub(crate) enum SandboxCommand {
    /// Start the stand-ins and keep them running until Ctrl-C or `sandbox down`
    Up(UpArgs),
    /// Stop the stand-ins of a folder
    Down(FolderArgs),
    /// Show where the stand-ins of a folder listen, and what is broken
    List(FolderArgs),
    /// Break something, to see what happens
    Break(FaultArgs),
    /// Mend what was broken; all of it without a name
    Mend(MendArgs),
    /// Make a record as somebody else would, who knows nothing of Pindrel
    Record(RecordArgs),
}

/// A record of somebody else's.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel sandbox record plates.larkfield.example A 192.0.2.44
  pindrel sandbox record alerts.larkfield.example TXT \"v=spf1 -all\"")]
pub(crate) struct RecordArgs {
    /// Its name, in one of the sandbox's zones
    #[arg(value_name = "NAME")]
    name: String,

    /// Its type: A, AAAA, CNAME or TXT
    #[arg(value_name = "TYPE")]
    record_type: String,

    /// What it holds
    #[arg(value_name = "VALUE")]
    value: String,

    #[command(flatten)]
    place: FolderArgs,
}

/// What to break.
#[derive(Debug, Args)]
pub(crate) struct FaultArgs {
    /// The fault
    #[arg(value_parser = FaultWord)]
    fault: String,

    #[command(flatten)]
    place: FolderArgs,
}

/// What to mend.
#[derive(Debug, Args)]
pub(crate) struct MendArgs {
    /// The fault; all without it
    #[arg(value_parser = FaultWord)]
    fault: Option<String>,

    #[command(flatten)]
    place: FolderArgs,
}

/// Lets help and completions tell the faults that there are; the sandbox judges the word.
#[derive(Debug, Clone)]
struct FaultWord;

impl TypedValueParser for FaultWord {
    type Value = String;

    fn parse_ref(&self, command: &clap::Command, arg: Option<&Arg>, value: &OsStr) -> Result<String, clap::Error> {
        StringValueParser::new().parse_ref(command, arg, value)
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new(Sandbox::fault_words().map(|(word, does)| PossibleValue::new(word).help(does))))
    }
}

/// Where a sandbox keeps what its clients need.
#[derive(Debug, Args)]
pub(crate) struct FolderArgs {
    /// The sandbox's folder
    #[arg(long, value_name = "PATH", default_value = "sandbox")]
    folder: PathBuf,
}

/// How to start a sandbox.
#[derive(Debug, Args)]
pub(crate) struct UpArgs {
    #[command(flatten)]
    place: FolderArgs,

    /// How long the secondary takes to transfer a change, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 800)]
    lag: u64,

    /// The loopback range whose first free network it takes, such as 127.48
    #[arg(long, value_name = "127.N", default_value_t)]
    net: NetRange,

    /// Go on in the background, until `sandbox down`
    #[arg(long)]
    detach: bool,

    /// How long a gateway or balancer takes to deploy, in milliseconds; a distribution takes four times as long
    #[arg(long, value_name = "MS", default_value_t = 600)]
    deploy: u64,
}

pub(crate) async fn run(context: &Context, command: SandboxCommand) -> Result<Status, CliError> {
    context.refuse_csv()?;
    match command {
        SandboxCommand::Up(args) => up(context, &args).await,
        SandboxCommand::Down(args) => down(&args.folder).await,
        SandboxCommand::List(args) => list(context, &args.folder).await,
        SandboxCommand::Break(args) => switch(context, &args.place.folder, &args.fault, true).await,
        SandboxCommand::Record(args) => record(&args).await,
        SandboxCommand::Mend(args) => {
            switch(context, &args.place.folder, args.fault.as_deref().unwrap_or_default(), false).await
        }
    }
}

pub(crate) fn failed(error: &SandboxError) -> CliError {
    CliError::Sandbox {
        says: format!("the sandbox did not start: {error}"),
        remedy: "Free that address or folder, or name another range with --net, then start it again".into(),
    }
}

async fn up(context: &Context, args: &UpArgs) -> Result<Status, CliError> {
    let folder = &args.place.folder;
    if control::list(folder).await.is_some() {
        let says = format!("a sandbox runs in {} already", folder.display());
        return Err(CliError::Sandbox { says, remedy: "Use it, or stop it with: pindrel sandbox down".into() });
    }
    let _ = std::fs::remove_file(folder.join(control::SOCKET));
    if args.detach {
        let (lag, deploy, net) = (args.lag.to_string(), args.deploy.to_string(), args.net.to_string());
        let listing = start_detached(folder, &["--lag", &lag, "--deploy", &deploy, "--net", &net]).await?;
        output::sandbox::print(context, folder, &listing, &[])?;
        if !context.quiet && context.format == Format::Text {
            output::sandbox::print_how_to_go_on(folder, &folder.join("pindrel.toml"), true)?;
        }
        return Ok(Status::Done);
    }
    let options = Options {
        net: args.net,
        lag: Duration::from_millis(args.lag),
        deploy: Duration::from_millis(args.deploy),
        ..Options::default()
    };
    let sandbox = Sandbox::start(folder, options).await.map_err(|error| failed(&error))?;
    let manifest = folder.join("pindrel.toml");
    // The sandbox's own files stand beside it.
    let text = demo_manifest::manifest(sandbox.listing()).replace("sandbox/", "");
    let is_made = write_new(&manifest, &text)?;
    output::sandbox::print(context, folder, sandbox.listing(), &[])?;
    if !context.quiet && context.format == Format::Text {
        output::sandbox::print_how_to_go_on(folder, &manifest, false)?;
    }
    let ended = until_stopped(sandbox).await;
    // One that somebody has changed since stays.
    if is_made && std::fs::read_to_string(&manifest).is_ok_and(|now| now == text) {
        let _ = std::fs::remove_file(&manifest);
        let _ = std::fs::remove_dir(folder);
    }
    ended
}

/// Starts a sandbox in a process of its own, which goes on when this one ends, and waits until it
/// answers.
pub(crate) async fn start_detached(folder: &Path, more: &[&str]) -> Result<Listing, CliError> {
    use std::os::unix::process::CommandExt as _;
    let mut child = std::process::Command::new(std::env::current_exe()?)
        .args(["sandbox", "up", "--quiet", "--folder"])
        .arg(folder)
        .args(more)
        .env_remove("PINDREL_DETACH")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        // What ends the terminal's foreground does not end it.
        .process_group(0)
        .spawn()?;
    let begun = std::time::Instant::now();
    while begun.elapsed() < START_PATIENCE {
        if let Some(listing) = control::list(folder).await {
            return Ok(listing);
        }
        if child.try_wait()?.is_some() {
            let mut why = String::new();
            if let Some(errors) = child.stderr.take() {
                std::io::Read::read_to_string(&mut std::io::Read::take(errors, MAX_ERRORS), &mut why)?;
            }
            let why = why.lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
            return Err(CliError::Sandbox { says: why, remedy: "Free that address or folder".into() });
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let _ = child.kill();
    let says = format!("the sandbox did not answer within {} s", START_PATIENCE.as_secs());
    Err(CliError::Sandbox { says, remedy: "Start it in the foreground with: pindrel sandbox up".into() })
}

/// Writes a file, unless there is one; says whether it was written.
fn write_new(path: &Path, text: &str) -> Result<bool, CliError> {
    let opened = std::fs::File::options().write(true).create_new(true).open(path);
    match opened {
        Ok(mut file) => {
            let written = std::io::Write::write_all(&mut file, text.as_bytes());
            written.map(|()| true).map_err(|error| CliError::file(path, "written", &error))
        }
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(false),
        Err(error) => Err(CliError::file(path, "written", &error)),
    }
}

/// Keeps a sandbox running until Ctrl-C, a request to end, or `sandbox down`.
pub(crate) async fn until_stopped(sandbox: Sandbox) -> Result<Status, CliError> {
    let told = tokio::select! {
        told = control::until_told_to_stop(&sandbox) => told.map_err(|error| failed(&error)),
        signal = stop_signal() => signal.map(drop).map_err(CliError::from),
    };
    sandbox.stop().await;
    told.map(|()| Status::Done)
}

fn absent(folder: &Path) -> CliError {
    CliError::Sandbox {
        says: format!("no sandbox runs in {}", folder.display()),
        remedy: "Start one with: pindrel sandbox up".into(),
    }
}

async fn down(folder: &Path) -> Result<Status, CliError> {
    if control::stop(folder).await { Ok(Status::Done) } else { Err(absent(folder)) }
}

async fn list(context: &Context, folder: &Path) -> Result<Status, CliError> {
    let listing = control::list(folder).await.ok_or_else(|| absent(folder))?;
    let faults = control::faults(folder).await.unwrap_or_default();
    output::sandbox::print(context, folder, &listing, &faults)?;
    Ok(Status::Done)
}

async fn record(args: &RecordArgs) -> Result<Status, CliError> {
    let RecordArgs { place, name, record_type, value } = args;
    match control::record(&place.folder, name, record_type, value).await {
        Requested::Done => Ok(Status::Done),
        Requested::NoSandbox => Err(absent(&place.folder)),
        Requested::Unknown => Err(CliError::Usage {
            says: format!("no record {name} {record_type} {value} can be made in the sandbox"),
            remedy: "Name a name in one of its zones, and A, AAAA, CNAME or TXT with what belongs to it".into(),
        }),
    }
}

async fn switch(context: &Context, folder: &Path, fault: &str, on: bool) -> Result<Status, CliError> {
    match control::switch(folder, fault, on).await {
        Requested::Done => {
            let broken = control::faults(folder).await.unwrap_or_default();
            output::sandbox::print_faults(context, &broken)?;
            Ok(Status::Done)
        }
        Requested::NoSandbox => Err(absent(folder)),
        Requested::Unknown => Err(CliError::Usage {
            says: format!("there is no fault \"{fault}\""),
            remedy: format!(
                "There are: {}",
                Sandbox::fault_words().map(|(word, _)| word).collect::<Vec<_>>().join(", ")
            ),
        }),
    }
}
