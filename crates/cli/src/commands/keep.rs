//! `pindrel keep`

use std::collections::BTreeSet;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use clap::Args;
use notify::{RecursiveMode, Watcher as _};
use pindrel_core::desired::Desired;
use pindrel_core::planning::undo::KeptBack;
use pindrel_core::text::display_text::with_causes;
use pindrel_engine::drivers::{Drivers, RealDrivers, SystemClock};
use pindrel_engine::{Access, Aim, Home, KeepCommand, KeepSetup, Listener, Scope, keep, keep_once};
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::mpsc;

use crate::args::{MAX_AGE, RunBounds};
use crate::context::{Context, Loaded, bounds};
use crate::error::{CliError, Status};
use crate::last_good::LastGood;
use crate::output;
use crate::output::keep::Keeping;
use crate::signals::stop_signal;
use crate::supervisor;
use crate::watching::{TURN_EVERY, Watching, serve};

/// How many orders may wait.
const ORDERS: usize = 8;
/// How long after a change of the manifest it is read: editors write in several goes.
const SETTLED: Duration = Duration::from_millis(300);
/// How often a manifest is looked at whose folder cannot be watched.
const LOOK_EVERY: Duration = Duration::from_secs(5);
/// How often it is told that the state is still waited for.
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// Run on: check health, fail over and back, renew what is due, and look at every hostname
///
/// Makes every health check at its interval and switches aliases as the policies say, renews
/// certificates in time, takes up what waits, and looks at each hostname at least every hour
/// (look_every under [keep]). Runs in the foreground: a table on a terminal, a line for each
/// change in a pipe, JSON events with --format json. The manifest is read again when it changes
/// or on SIGHUP; one with mistakes is told, and the last good one stays in force.
///
/// SIGTERM and Ctrl-C hand the work back within ten seconds and end with 0. Several
/// keep share one state, and settle and the other commands may run beside them.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel keep
  pindrel keep --once
  pindrel keep --format json >> events.jsonl")]
pub(crate) struct KeepArgs {
    /// Make every check and settle what is due once, and end, as for a timer; exit status as of settle
    #[arg(long)]
    once: bool,

    #[command(flatten)]
    bounds: RunBounds,
}

pub(crate) async fn run(context: &Context, args: &KeepArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    if args.once {
        let mut loaded = context.load()?;
        output::diagnostics::warn(&loaded.mistakes);
        let home = context.open(&mut loaded, Access::Change).await?;
        return once(context, args, loaded, home).await;
    }
    // What is written while it is read is noticed afterwards.
    let before = stamp(&context.manifest);
    let (mut loaded, broken) = load_or_last_good(context)?;
    let seen = stamps(&loaded.files).into_iter().skip(1);
    let seen = std::iter::once(before).chain(seen).collect();
    output::diagnostics::warn(&loaded.mistakes);
    let Some(home) = open_when_there(context, &mut loaded).await? else { return Ok(Status::Done) };
    LastGood::keep(context, &loaded);
    let (orders, taken) = mpsc::channel(ORDERS);
    let (files, kept_back) = (loaded.files.clone(), loaded.kept_back.clone());
    let watched = Watched { files, seen, kept_back, home: home.clone() };
    run_on(context, loaded, home, args.bounds, taken, async |keeping| {
        if let Some(mistake) = &broken {
            keeping.watching.broken(mistake);
        }
        watch(context, watched, orders, keeping).await
    })
    .await?;
    Ok(Status::Done)
}

/// Reads the manifest; one with mistakes is told, and the last one without any is taken up in its place, where one is
/// known: a supervisor that starts `keep` again and again would leave nothing in place. Returns the first mistake as well.
fn load_or_last_good(context: &Context) -> Result<(Loaded, Option<String>), CliError> {
    let error = match context.load() {
        Err(error @ (CliError::Manifest(_) | CliError::Encoding { .. })) => error,
        loaded => return Ok((loaded?, None)),
    };
    let Some(kept) = LastGood::read(context) else { return Err(error) };
    let Ok(loaded) = kept.load(context) else { return Err(error) };
    let mistake = output::keep::first_mistake(&error);
    output::keep::note_first(
        context,
        &format!("the manifest cannot be used, so the last good one, of {:.0}, is in force: {mistake}", kept.at),
    );
    Ok((loaded, Some(mistake)))
}

/// Opens the state. A database that does not answer is waited for: it may start after this machine's services. Nothing
/// comes back where a signal ends the wait.
async fn open_when_there(context: &Context, loaded: &mut Loaded) -> Result<Option<Home>, CliError> {
    let mut pauses = [1, 2, 5, 10].into_iter().chain(std::iter::repeat(30)).map(Duration::from_secs);
    let mut told: Option<Instant> = None;
    let stop = stop_signal();
    tokio::pin!(stop);
    loop {
        let opened = tokio::select! {
            opened = context.open(loaded, Access::Change) => opened,
            signal = &mut stop => return signal.map(|_| None).map_err(CliError::from),
        };
        let error = match opened {
            Err(CliError::Engine(error)) if error.may_pass() && context.state_location()?.is_shared() => error,
            opened => return opened.map(Some),
        };
        let why = with_causes(&error);
        supervisor::starts_later(&why);
        if told.is_none_or(|told| told.elapsed() >= TELL_AGAIN) {
            told = Some(Instant::now());
            output::keep::note_first(context, &format!("waiting for the state: {why}"));
        }
        tokio::select! {
            signal = &mut stop => return signal.map(|_| None).map_err(CliError::from),
            () = tokio::time::sleep(pauses.next().unwrap_or(TELL_AGAIN)) => {}
        }
    }
}

/// Runs on as long as something else takes: what the demo shows.
pub(crate) async fn run_until(context: &Context, story: impl Future<Output = ()>) -> Result<(), CliError> {
    let (orders, taken) = mpsc::channel(ORDERS);
    let mut loaded = context.load()?;
    let home = context.open(&mut loaded, Access::Change).await?;
    run_on(context, loaded, home, RunBounds::default(), taken, async |_| {
        story.await;
        let _ = orders.send(KeepCommand::Stop).await;
        std::future::pending().await
    })
    .await
}

/// Runs on until an order says to stop. `outside` sends orders beside it, and ends only with an error.
async fn run_on(
    context: &Context,
    loaded: Loaded,
    home: Home,
    limits: RunBounds,
    taken: mpsc::Receiver<KeepCommand>,
    outside: impl AsyncFnOnce(Arc<Keeping>) -> Result<(), CliError>,
) -> Result<(), CliError> {
    let desired = Arc::new(loaded.desired);
    let watching = Watching::new(desired.clone(), loaded.folder.clone(), home.clone());
    let keeping = Keeping::start(context, &desired, watching.clone());
    for kept in &loaded.kept_back {
        keeping.note(&output::undo::kept_back_note(kept));
    }
    let turn_every = keeping.supervisor.alive_every.into_iter().chain([TURN_EVERY]).min();
    let setup = KeepSetup { turn_every, ..setup(desired, loaded.folder, home, limits, keeping.clone()) };
    let summary = tokio::select! {
        summary = keep(setup, taken) => summary,
        Err(error) = outside(keeping.clone()) => Err(error)?,
        never = serve(watching, |says: &str| keeping.note(says)) => match never {},
    };
    keeping.finish(&summary?)
}

fn setup(
    desired: Arc<Desired>,
    folder: PathBuf,
    home: Home,
    limits: RunBounds,
    listener: Arc<dyn Listener>,
) -> KeepSetup {
    let (of_folder, patience) = (folder.clone(), limits.patience.0);
    KeepSetup {
        desired,
        folder,
        home,
        bounds: bounds(MAX_AGE, limits),
        listener,
        make_drivers: Arc::new(move || -> Arc<dyn Drivers> {
            Arc::new(RealDrivers::new(&of_folder, Duration::from_secs(patience)))
        }),
        clock: Arc::new(SystemClock::default()),
        turn_every: None,
    }
}

async fn once(context: &Context, args: &KeepArgs, loaded: Loaded, home: Home) -> Result<Status, CliError> {
    let scope = Scope::all(&loaded.desired);
    let progress = output::progress::start(context, &loaded.desired, &scope, Aim::Hold);
    let setup = setup(Arc::new(loaded.desired), loaded.folder, home, args.bounds, progress.listener());
    let summary = tokio::select! {
        summary = keep_once(setup) => summary?,
        signal = stop_signal() => return Err(CliError::Interrupted { signal: signal?, under_way: progress.abandon() }),
    };
    progress.finish(&summary)?;
    Ok(super::settle::status_of(&summary))
}

/// What is watched outside of a process that runs on.
struct Watched {
    /// The files of the manifest, its own first.
    files: Vec<PathBuf>,
    /// What they were when they were read.
    seen: Vec<Stamp>,
    /// What an undoing keeps back.
    kept_back: Vec<KeptBack>,
    /// The state, where another process may keep something back.
    home: Home,
}

/// Passes on what somebody outside wants: a stop, another manifest, or that something is kept back.
async fn watch(
    context: &Context,
    watched: Watched,
    orders: mpsc::Sender<KeepCommand>,
    keeping: Arc<Keeping>,
) -> Result<(), CliError> {
    let mut hangup = signal(SignalKind::hangup())?;
    let on_terminal = std::io::stderr().is_terminal();
    let (changed, mut changes) = mpsc::channel(1);
    let Watched { mut files, mut seen, mut kept_back, home } = watched;
    let (tell_undone, mut undone) = mpsc::channel(1);
    let looking = look_for_undone(&home, kept_back.clone(), tell_undone);
    tokio::pin!(looking);
    let mut watcher = watch_files(&files, changed.clone());
    if let Err(why) = &watcher {
        keeping.note(&format!("the manifest's folder cannot be watched ({why}): it is looked at every 5 s instead"));
    }
    let mut is_first = true;
    let stop = stop_signal();
    tokio::pin!(stop);
    loop {
        let (mut was_told, mut is_asked, mut is_undone) = (false, false, false);
        tokio::select! {
            biased;
            // What was changed before it was watched.
            () = std::future::ready(()), if std::mem::take(&mut is_first) => {}
            signal = &mut stop => {
                signal?;
                supervisor::stops();
                let _ = orders.send(KeepCommand::Stop).await;
                // The loop ends by itself; a second signal ends the process at once.
                stop_signal().await?;
                std::process::exit(130);
            }
            _ = hangup.recv() => {
                // The same signal says that the terminal is gone, and then nobody looks any longer.
                if on_terminal && !std::io::stderr().is_terminal() {
                    let _ = orders.send(KeepCommand::Stop).await;
                    std::future::pending::<()>().await;
                }
                is_asked = true;
            }
            Some(()) = changes.recv() => was_told = true,
            () = tokio::time::sleep(LOOK_EVERY), if watcher.is_err() => {}
            Some(now) = undone.recv() => {
                kept_back = now;
                (is_asked, is_undone) = (true, true);
            }
            () = &mut looking => {}
        }
        if was_told {
            tokio::time::sleep(SETTLED).await;
            while changes.try_recv().is_ok() {}
        }
        let now = stamps(&files);
        // A file that is new among several is seen by its folder alone.
        if now == seen && !is_asked && !(was_told && files.len() > 1) {
            continue;
        }
        seen = now;
        match context.load() {
            Ok(mut loaded) => {
                LastGood::keep(context, &loaded);
                keeping.note(match is_undone {
                    true => "another process has undone a run, or follows the manifest again",
                    false => "the manifest has changed, and is taken up",
                });
                loaded.keep_back(kept_back.clone());
                for kept in &loaded.kept_back {
                    keeping.note(&output::undo::kept_back_note(kept));
                }
                if loaded.files != files {
                    files = loaded.files;
                    watcher = watch_files(&files, changed.clone());
                    seen = stamps(&files);
                }
                let desired = Arc::new(loaded.desired);
                keeping.replace(&desired);
                if orders.send(KeepCommand::Manifest(desired)).await.is_err() {
                    return Ok(());
                }
            }
            Err(error) => keeping.broken(&error),
        }
    }
}

/// Tells whenever something else is kept back than before, as another process has stored it. While the state does not
/// answer nothing is told.
async fn look_for_undone(home: &Home, mut last: Vec<KeptBack>, tell: mpsc::Sender<Vec<KeptBack>>) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        if let Ok(Ok(now)) = tokio::time::timeout(LOOK_EVERY, home.kept_back()).await
            && now != last
        {
            last.clone_from(&now);
            // The receiver lives as long as this does.
            let _ = tell.send(now).await;
        }
    }
}

/// What tells one version of a file from the next: its time, its length and its number; nothing where it is not there.
type Stamp = Option<(std::time::SystemTime, u64, u64)>;

fn stamp(path: &Path) -> Stamp {
    use std::os::unix::fs::MetadataExt as _;
    let metadata = std::fs::metadata(path).ok()?;
    Some((metadata.modified().ok()?, metadata.len(), metadata.ino()))
}

fn stamps(files: &[PathBuf]) -> Vec<Stamp> {
    files.iter().map(|path| stamp(path)).collect()
}

/// Watches the folders of files, since editors put another file in the place of one.
fn watch_files(files: &[PathBuf], changed: mpsc::Sender<()>) -> notify::Result<notify::RecommendedWatcher> {
    let folder = |path: &Path| match path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        Some(folder) => folder.to_owned(),
        None => PathBuf::from("."),
    };
    let folders: BTreeSet<PathBuf> = files.iter().map(|path| folder(path)).collect();
    let first = files.first().and_then(|path| path.file_name()).map(PathBuf::from);
    // Beside one file alone much else may be written; among several a new one may be included.
    let is_alone = files.len() == 1;
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let is_it = |event: notify::Event| {
            let name = |path: &PathBuf| path.file_name().map(PathBuf::from);
            let is_toml = |path: &PathBuf| path.extension().is_some_and(|end| end == "toml");
            !event.kind.is_access()
                && event.paths.iter().any(|path| name(path) == first || (!is_alone && is_toml(path)))
        };
        if event.is_ok_and(is_it) {
            // One that waits already is enough.
            let _ = changed.try_send(());
        }
    })?;
    for folder in folders {
        watcher.watch(&folder, RecursiveMode::NonRecursive)?;
    }
    Ok(watcher)
}
