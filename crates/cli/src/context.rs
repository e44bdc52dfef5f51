//! What commands share: the options as needed, the manifest, the engine.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use pindrel_core::desired::{Desired, HostnameId};
use pindrel_core::manifest::Diagnostic;
use pindrel_core::manifest::{LineIndex, Place};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::{KeepingBack, KeptBack, keep_back};
use pindrel_engine::drivers::{Clock, RealDrivers, SystemClock};
use pindrel_engine::{Access, Bounds, Engine, Home, Listener, Scope, Setup, StateLocation};
use secrecy::SecretString;

use crate::args::{Color, Common, Format, LogFormat, RunBounds, Span};
use crate::error::{CliError, Mistakes};
use crate::names;
use crate::output::log::Sentences;

/// Takes the bounds of a run as typed.
pub(crate) fn bounds(max_age: Span, typed: RunBounds) -> Bounds {
    let at_once = usize::try_from(typed.at_once).unwrap_or(usize::MAX);
    let patience = Duration::from_secs(typed.patience.0);
    Bounds { max_age_secs: max_age.0, at_once, patience, skip_ttl_wait: false }
}

/// What a state is opened for by a command that may only say what it would do.
pub(crate) fn access(only_looks: bool) -> Access {
    if only_looks { Access::Read } else { Access::Change }
}

/// The code of a secret that is not there: only a command that changes something needs it.
pub(crate) const UNREADABLE_SECRET: &str = "unreadable-secret";

/// The options as needed.
pub(crate) struct Context {
    /// The manifest's path as given.
    pub(crate) manifest: PathBuf,
    /// How results are written.
    pub(crate) format: Format,
    /// Whether to say less.
    pub(crate) quiet: bool,
    state: Option<String>,
    sealing_key: Option<PathBuf>,
    /// The file of another set of values.
    values: Option<PathBuf>,
}

/// A manifest without mistakes.
#[derive(Debug)]
pub(crate) struct Loaded {
    /// What should hold.
    pub(crate) desired: Desired,
    /// What stops nothing, with the text to show it in.
    pub(crate) mistakes: Mistakes,
    /// The folder of the manifest.
    pub(crate) folder: PathBuf,
    /// The files of the manifest, the one that is named first.
    pub(crate) files: Vec<PathBuf>,
    /// What is not as the manifest wants it, since a run was undone.
    pub(crate) kept_back: Vec<KeptBack>,
}

impl Context {
    /// Takes the common options, and sets colour and logging up.
    pub(crate) fn new(common: &Common) -> Context {
        let choice = match common.color {
            Color::Auto => anstream::ColorChoice::Auto,
            Color::Always => anstream::ColorChoice::Always,
            Color::Never => anstream::ColorChoice::Never,
        };
        choice.write_global();
        crate::output::log::set_json(common.log_format == LogFormat::Json);
        log_to_stderr(common.verbose, common.log_format);
        Context {
            manifest: common.manifest.clone(),
            format: common.format,
            quiet: common.quiet,
            state: common.state.clone(),
            sealing_key: common.sealing_key.clone(),
            values: common.values.clone(),
        }
    }

    /// Makes the options for a manifest at another place.
    pub(crate) fn for_manifest(&self, manifest: PathBuf) -> Context {
        Context { manifest, format: self.format, quiet: self.quiet, state: None, sealing_key: None, values: None }
    }

    /// Refuses a format that a command does not have.
    pub(crate) fn refuse_csv(&self) -> Result<(), CliError> {
        if self.format != Format::Csv {
            return Ok(());
        }
        Err(CliError::Usage {
            says: "this result is not a list, so it has no CSV form".into(),
            remedy: "Use --format text or json".into(),
        })
    }

    /// Returns the file of another set of values, where one is named.
    pub(crate) fn values(&self) -> Option<&Path> {
        self.values.as_deref()
    }

    pub(crate) fn folder(&self) -> PathBuf {
        self.manifest.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned()
    }

    /// Reads the manifest, follows its references, and tries its secrets and files.
    ///
    /// # Errors
    /// [`CliError::Manifest`] holds all mistakes.
    pub(crate) fn load(&self) -> Result<Loaded, CliError> {
        let (desired, mistakes) = self.examine()?;
        self.loaded_to_change(desired, mistakes)
    }

    /// Takes up a manifest for a command that changes something: a secret that cannot be read is a mistake then.
    pub(crate) fn loaded_to_change(&self, desired: Desired, mut mistakes: Mistakes) -> Result<Loaded, CliError> {
        let (missing, others) = mistakes.warnings.into_iter().partition(|warning| warning.code == UNREADABLE_SECRET);
        mistakes.warnings = others;
        mistakes.errors.extend::<Vec<_>>(missing);
        mistakes.errors.sort_by_key(|error| error.span.start);
        self.loaded(desired, mistakes)
    }

    /// Does the same for a command that only looks: where a secret cannot be read, what needs it is not looked at, and
    /// that is found there.
    ///
    /// # Errors
    /// [`CliError::Manifest`] holds all mistakes.
    pub(crate) fn load_to_look(&self) -> Result<Loaded, CliError> {
        let (desired, mistakes) = self.examine()?;
        self.loaded(desired, mistakes)
    }

    fn loaded(&self, desired: Desired, mut mistakes: Mistakes) -> Result<Loaded, CliError> {
        // What may not be meant is for check to say; what would fail is said each time.
        mistakes.warnings.retain(|warning| ["placeholder-secret", UNREADABLE_SECRET].contains(&warning.code));
        if mistakes.errors.is_empty() {
            let files = mistakes.source.files().map(|(name, _)| PathBuf::from(name)).collect();
            Ok(Loaded { desired, mistakes, folder: self.folder(), files, kept_back: Vec::new() })
        } else {
            Err(CliError::Manifest(Box::new(mistakes)))
        }
    }

    /// Where the state is.
    pub(crate) fn state_location(&self) -> Result<StateLocation, CliError> {
        Ok(match &self.state {
            Some(text) => StateLocation::parse(text, &self.folder())?,
            None => StateLocation::Sqlite(self.folder().join(".pindrel").join("state.sqlite")),
        })
    }

    /// The files that Pindrel keeps for itself; none where it cannot be told which.
    pub(crate) fn kept_files(&self) -> Vec<PathBuf> {
        let state = self.state_location().map_or_else(|_| Vec::new(), |location| location.files());
        state.into_iter().chain(self.sealing_key.clone()).collect()
    }

    /// Opens the state.
    pub(crate) async fn home(&self, access: Access) -> Result<Home, CliError> {
        let location = self.state_location()?;
        let given = match &self.sealing_key {
            Some(path) => Some(Home::read_sealing_key(path)?),
            None => std::env::var("PINDREL_SEALING_KEY").ok().map(SecretString::from),
        };
        let home = Home::open(&location, given.as_ref(), access).await?;
        if access == Access::Change {
            let clock: Arc<dyn Clock> = Arc::new(SystemClock::default());
            home.replay_switches(&self.folder(), "pindrel", &clock).await?;
        }
        Ok(home)
    }
}

impl Loaded {
    /// Keeps back what an undoing keeps back; returns the hostnames that are kept back no longer.
    pub(crate) fn keep_back(&mut self, kept: Vec<KeptBack>) -> Vec<Hostname> {
        let KeepingBack { desired, kept, over } = keep_back(std::mem::take(&mut self.desired), kept);
        (self.desired, self.kept_back) = (desired, kept);
        over
    }

    /// Returns what was asked for by its names, hostnames and certificates that no hostname
    /// uses; or all.
    pub(crate) fn scope(&self, only: &[String]) -> Result<Scope, CliError> {
        if only.is_empty() {
            return Ok(Scope::all(&self.desired));
        }
        let unused = self.desired.unused_certificates();
        let mut scope = Scope::default();
        for name in only {
            let is_asked_for = |id: &HostnameId| names::matches(&self.desired.hostname(*id).hostname, name);
            let certificate = self.desired.certificate_named(name);
            if let Some(id) = self.desired.hostname_ids().find(is_asked_for) {
                scope.hostnames.push(id);
            } else if let Some(id) = certificate.filter(|id| unused.contains(id)) {
                scope.certificates.push(id);
            } else if let Some(id) = certificate {
                scope.hostnames.extend(Scope::of_certificates(&self.desired, &[id]).hostnames);
            } else {
                let hostnames = self.desired.hostnames.iter().map(|wanted| wanted.hostname.as_str());
                let certificates = unused.iter().map(|id| self.desired.certificate(*id).name.as_str());
                let says = format!("the manifest has no hostname and no certificate \"{name}\"");
                return Err(names::unknown(says, name, hostnames.chain(certificates), "pindrel status"));
            }
        }
        scope.hostnames.sort_unstable();
        scope.hostnames.dedup();
        scope.certificates.sort_unstable();
        scope.certificates.dedup();
        Ok(scope)
    }

    /// Returns the hostname that was asked for.
    pub(crate) fn hostname(&self, name: &str) -> Result<HostnameId, CliError> {
        let is_asked_for = |id: &HostnameId| names::matches(&self.desired.hostname(*id).hostname, name);
        self.desired.hostname_ids().find(is_asked_for).ok_or_else(|| {
            let hostnames = self.desired.hostnames.iter().map(|wanted| wanted.hostname.as_str());
            let says = format!("the manifest has no hostname \"{name}\"");
            names::unknown(says, name, hostnames, "pindrel status")
        })
    }

    /// Makes the engine for one run; `command` is what was typed.
    pub(crate) async fn engine(
        self,
        command: &str,
        home: Home,
        bounds: Bounds,
        listener: Arc<dyn Listener>,
    ) -> Result<Engine, CliError> {
        let Loaded { desired, folder, .. } = self;
        let drivers = Arc::new(RealDrivers::new(&folder, bounds.patience));
        let clock = Arc::new(SystemClock::default());
        let (desired, command) = (Arc::new(desired), command.to_owned());
        Ok(Engine::open(Setup { desired, folder, home, bounds, listener, drivers, clock, command }).await?)
    }
}

/// A diagnostic where it stands.
pub(crate) struct Placed<'d> {
    pub(crate) diagnostic: &'d Diagnostic,
    /// The name of its file, and the text of that.
    pub(crate) file: &'d str,
    pub(crate) text: &'d str,
    /// Where it is there.
    pub(crate) span: std::ops::Range<usize>,
    pub(crate) place: Place,
}

/// Returns one kind of diagnostic with its place, as the JSON contract has it.
pub(crate) fn placed<'d>(mistakes: &'d Mistakes, of: &'d [Diagnostic]) -> impl Iterator<Item = Placed<'d>> {
    let files: Vec<(&str, &str, LineIndex)> =
        mistakes.source.files().map(|(name, text)| (name, text, LineIndex::new(text))).collect();
    of.iter().map(move |diagnostic| {
        let (file, span) = mistakes.source.locate(&diagnostic.span);
        let (name, text, index) = &files[file];
        Placed { diagnostic, file: name, text, place: index.place(span.start), span }
    })
}

/// Makes a runtime for the commands that need one.
pub(crate) fn block_on<T>(work: impl Future<Output = Result<T, CliError>>) -> Result<T, CliError> {
    tokio::runtime::Builder::new_multi_thread().enable_all().build()?.block_on(work)
}

/// Log lines of Pindrel's own crates only: what libraries log may hold what they carry.
fn log_to_stderr(verbose: u8, format: LogFormat) {
    use tracing_subscriber::filter::{LevelFilter, Targets};
    use tracing_subscriber::layer::SubscriberExt as _;
    use tracing_subscriber::util::SubscriberInitExt as _;

    let level = match verbose {
        0 => LevelFilter::WARN,
        1 => LevelFilter::INFO,
        2 => LevelFilter::DEBUG,
        _ => LevelFilter::TRACE,
    };
    let layer = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    let sentences = Sentences { with_places: verbose > 0 };
    let registry = tracing_subscriber::registry().with(Targets::new().with_target("pindrel", level));
    // A second context in one process, as in the demo, keeps the first one's logging.
    let _ = match format {
        LogFormat::Text => registry.with(layer.with_ansi(false).event_format(sentences)).try_init(),
        LogFormat::Json => registry.with(layer.json()).try_init(),
    };
}
