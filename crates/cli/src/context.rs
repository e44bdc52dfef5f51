//! What commands share: the options as needed, the manifest, the engine.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use pindrel_core::desired::{Desired, HostnameId, resolve};
use pindrel_core::manifest::{At, Diagnostic, Diagnostics, Manifest, read};
use pindrel_core::values::SecretRef;
use pindrel_engine::drivers::{RealDrivers, SystemClock};
use pindrel_engine::{Bounds, Engine, Home, Listener, Lock, Scope, Setup, StateLocation, files, secrets};
use secrecy::SecretString;

use crate::args::{Color, Common, Format, LogFormat, MAX_AGE, RunBounds, Span};
use crate::error::{CliError, Mistakes};
use crate::names;

/// The longest manifest that is read.
const MAX_MANIFEST_BYTES: u64 = 256 << 20;
/// How long a second run waits for the first.
pub(crate) const LOCK_PATIENCE: Duration = Duration::from_secs(10);

/// Takes the bounds of a run as typed.
pub(crate) fn bounds(max_age: Span, typed: RunBounds) -> Bounds {
    let at_once = usize::try_from(typed.at_once).unwrap_or(usize::MAX);
    Bounds { max_age_secs: max_age.0, at_once, patience: Duration::from_secs(typed.patience.0) }
}

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
}

/// A manifest without mistakes.
#[derive(Debug)]
pub(crate) struct Loaded {
    /// What should hold.
    pub(crate) desired: Desired,
    /// What stops nothing, with the text to show it in.
    pub(crate) mistakes: Mistakes,
    folder: PathBuf,
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
        log_to_stderr(common.verbose, common.log_format);
        Context {
            manifest: common.manifest.clone(),
            format: common.format,
            quiet: common.quiet,
            state: common.state.clone(),
            sealing_key: common.sealing_key.clone(),
        }
    }

    /// Makes the options for a manifest at another place.
    pub(crate) fn for_manifest(&self, manifest: PathBuf) -> Context {
        Context { manifest, format: self.format, quiet: self.quiet, state: None, sealing_key: None }
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

    fn folder(&self) -> PathBuf {
        self.manifest.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned()
    }

    /// Reads the manifest, follows its references, and tries its secrets and files.
    ///
    /// # Errors
    /// [`CliError::Manifest`] holds all mistakes.
    pub(crate) fn load(&self) -> Result<Loaded, CliError> {
        let (desired, mistakes) = self.examine()?;
        if mistakes.errors.is_empty() {
            Ok(Loaded { desired, mistakes, folder: self.folder() })
        } else {
            Err(CliError::Manifest(mistakes))
        }
    }

    /// Reads the manifest with all its mistakes, whatever they are.
    pub(crate) fn examine(&self) -> Result<(Desired, Mistakes), CliError> {
        let text = self.read_manifest()?;
        let mut problems = Diagnostics::default();
        let mut warnings = Diagnostics::default();
        let manifest = read(&text, &mut problems);
        self.try_secrets(&manifest, &mut problems, &mut warnings);
        self.try_files(&manifest, &mut problems);
        let desired = resolve(manifest, &mut problems);
        let file = self.manifest.display().to_string();
        let (errors, warnings) = (problems.into_sorted(), warnings.into_sorted());
        let text = without_secrets(text, &errors);
        Ok((desired, Mistakes { file, text, errors, warnings }))
    }

    /// Reads the manifest; `-` is the standard input.
    fn read_manifest(&self) -> Result<String, CliError> {
        let path = if self.manifest == Path::new("-") { Path::new("/dev/stdin") } else { &self.manifest };
        let bytes = files::read_at_most(path, MAX_MANIFEST_BYTES).map_err(|error| match error.kind() {
            std::io::ErrorKind::NotFound => CliError::NoManifest { path: self.manifest.display().to_string() },
            _ => CliError::file(&self.manifest, "read", &error),
        })?;
        let text = match bytes.strip_prefix(b"\xef\xbb\xbf") {
            Some(rest) => str::from_utf8(rest),
            None => str::from_utf8(&bytes),
        };
        text.map(str::to_owned).map_err(|error| {
            let why = match bytes.as_slice() {
                [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => "it is UTF-16".to_owned(),
                bytes => {
                    let before = &bytes[..error.valid_up_to()];
                    let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
                    let byte = bytes.get(error.valid_up_to()).copied().unwrap_or_default();
                    format!("byte {byte:#04x} in line {line}; perhaps it is Latin-1")
                }
            };
            CliError::Encoding { path: self.manifest.display().to_string(), why }
        })
    }

    fn try_secrets(&self, manifest: &Manifest, problems: &mut Diagnostics, warnings: &mut Diagnostics) {
        let folder = self.folder();
        for secret in manifest.secrets() {
            match secrets::read_any(&secret.value, &folder) {
                Err(why) => problems.report(
                    "unreadable-secret",
                    secret.span.clone(),
                    format!("the secret at {} cannot be read: {why}", secret.value),
                    match &secret.value {
                        SecretRef::Env(name) => format!("Set {name} in the environment, or write \"file:PATH\""),
                        SecretRef::File(_) => {
                            "Put the secret into that file; paths are relative to the manifest's folder".into()
                        }
                    },
                ),
                Ok(_) if secrets::read(&secret.value, &folder).is_err() => warnings.report(
                    "placeholder-secret",
                    secret.span.clone(),
                    format!("{} still contains the placeholder that init wrote", secret.value),
                    "Put the secret there before the first settle",
                ),
                Ok(_) => {}
            }
        }
    }

    fn try_files(&self, manifest: &Manifest, problems: &mut Diagnostics) {
        let folder = self.folder();
        let authorities = manifest.authorities.iter().flat_map(|entry| [&entry.api_roots, &entry.issued_roots]);
        let endpoints = manifest.endpoints.iter().map(|entry| &entry.api_roots);
        let imported = manifest.certificates.iter().map(|entry| &entry.issued_roots);
        for At { value, span } in authorities.chain(endpoints).chain(imported).flatten() {
            if let Err(why) = secrets::read_roots(&folder.join(value)) {
                let message = format!("{} cannot be used: {why}", value.display());
                let help = "Name a PEM file of root certificates; paths are relative to the manifest's folder";
                problems.report("unreadable-file", span.clone(), message, help);
            }
        }
    }

    /// Makes an engine for looking at what the state knows; the manifest's warnings are
    /// told.
    pub(crate) async fn engine(&self) -> Result<(Engine, Arc<dyn Listener>), CliError> {
        let loaded = self.load()?;
        crate::output::diagnostics::warn(&loaded.mistakes);
        let listener: Arc<dyn Listener> = Arc::new(crate::output::notes::Notes);
        let home = self.home().await?;
        let engine = loaded.engine(home, bounds(MAX_AGE, RunBounds::default()), listener.clone()).await?;
        Ok((engine, listener))
    }

    /// Makes an engine for changing what the state knows, once nobody else does.
    pub(crate) async fn locked_engine(&self, who: &str) -> Result<(Engine, Lock), CliError> {
        let loaded = self.load()?;
        crate::output::diagnostics::warn(&loaded.mistakes);
        let home = self.home().await?;
        let lock = home.lock(who, LOCK_PATIENCE).await?;
        let listener = Arc::new(crate::output::notes::Notes);
        let engine = loaded.engine(home, bounds(MAX_AGE, RunBounds::default()), listener).await?;
        Ok((engine, lock))
    }

    /// Opens the state.
    pub(crate) async fn home(&self) -> Result<Home, CliError> {
        let location = match &self.state {
            Some(text) => StateLocation::parse(text, &self.folder())?,
            None => StateLocation::Sqlite(self.folder().join(".pindrel").join("state.sqlite")),
        };
        let given = match &self.sealing_key {
            Some(path) => Some(Home::read_sealing_key(path)?),
            None => std::env::var("PINDREL_SEALING_KEY").ok().map(SecretString::from),
        };
        Ok(Home::open(&location, given.as_ref()).await?)
    }
}

impl Loaded {
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

    /// Makes the engine for one run.
    pub(crate) async fn engine(
        self,
        home: Home,
        bounds: Bounds,
        listener: Arc<dyn Listener>,
    ) -> Result<Engine, CliError> {
        let Loaded { desired, folder, .. } = self;
        let drivers = Arc::new(RealDrivers::new(&folder));
        let clock = Arc::new(SystemClock::default());
        Ok(Engine::open(Setup { desired, folder, home, bounds, listener, drivers, clock }).await?)
    }
}

/// Blots out every secret that stands in the manifest in clear, since source lines are
/// shown; all places stay what they are.
fn without_secrets(mut text: String, errors: &[Diagnostic]) -> String {
    for error in errors.iter().filter(|error| error.code == "secret-in-clear") {
        let Some(written) = text.get(error.span.clone()) else { continue };
        let quote = written.len() - written.trim_start_matches(['"', '\'']).len();
        let end = error.span.end.saturating_sub(quote);
        let blots = "*".repeat(end.saturating_sub(error.span.start + quote));
        text.replace_range(error.span.start + quote..end.max(error.span.start + quote), &blots);
    }
    text
}

/// Returns one kind of diagnostic with its place, as the JSON contract has it.
pub(crate) fn placed<'d>(
    mistakes: &'d Mistakes,
    of: &'d [Diagnostic],
) -> impl Iterator<Item = (&'d Diagnostic, pindrel_core::manifest::Place)> {
    let index = pindrel_core::manifest::LineIndex::new(&mistakes.text);
    of.iter().map(move |diagnostic| (diagnostic, index.place(diagnostic.span.start)))
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
    let registry = tracing_subscriber::registry().with(Targets::new().with_target("pindrel", level));
    // A second context in one process, as in the demo, keeps the first one's logging.
    let _ = match format {
        LogFormat::Text => registry.with(layer.with_ansi(false)).try_init(),
        LogFormat::Json => registry.with(layer.json()).try_init(),
    };
}
