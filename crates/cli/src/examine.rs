//! The manifest with all its mistakes: those of the text, and those that show only on this machine,
//! where its secrets, roots and files are.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Component, Path, PathBuf};

use pindrel_core::desired::{Desired, ZoneDriver, resolve};
use pindrel_core::manifest::{
    At, Diagnostics, Manifest, Preamble, Source, nearest, other_values, preamble, read_source, review,
};
use pindrel_core::text::display_text::shell_word;
use pindrel_core::values::SecretRef;
use pindrel_engine::{machine, secrets};

use crate::context::{Context, UNREADABLE_SECRET};
use crate::error::{CliError, Mistakes};

/// The longest manifest that is read.
const MAX_MANIFEST_BYTES: u64 = 256 << 20;
/// The longest file of values.
const MAX_VALUES_BYTES: u64 = 1 << 20;
/// The most files that a manifest includes.
const MOST_INCLUDED: usize = 10_000;

impl Context {
    /// Reads the manifest with all its mistakes, whatever they are.
    pub(crate) fn examine(&self) -> Result<(Desired, Mistakes), CliError> {
        let mut problems = Diagnostics::default();
        let source = self.read_source(&mut problems)?;
        Ok(self.examine_source(source, problems))
    }

    /// Judges a manifest of which the mistakes of reading are `problems`.
    pub(crate) fn examine_source(&self, source: Source, mut problems: Diagnostics) -> (Desired, Mistakes) {
        let mut warnings = Diagnostics::default();
        let mut manifest = read_source(&source, &mut problems);
        self.try_secrets(&manifest, &mut problems, &mut warnings);
        self.try_files(&manifest, &mut problems);
        self.read_trust_bundles(&mut manifest, &mut problems);
        self.try_deliveries(&manifest, &mut problems, &mut warnings);
        review(&manifest, &mut warnings);
        let desired = resolve(manifest, &mut problems);
        let (errors, warnings) = (problems.into_sorted(), warnings.into_sorted());
        (desired, Mistakes { source, errors, warnings })
    }

    /// Reads the manifest with the files that it includes and the values that it has.
    fn read_source(&self, problems: &mut Diagnostics) -> Result<Source, CliError> {
        let text = self.read_manifest()?;
        let name = self.manifest.display().to_string();
        let Preamble { include, mut values } = preamble(&text, problems);
        if let Some(path) = self.values() {
            for (name, value) in self.read_values(path, &values)? {
                values.insert(name, value);
            }
        }
        if include.is_empty() && values.is_empty() {
            return Ok(Source::of(name, text));
        }
        let mut taken: BTreeSet<PathBuf> = std::fs::canonicalize(&self.manifest).into_iter().collect();
        let (mut files, mut bytes) = (vec![(name, text)], 0);
        for At { value: pattern, span } in include {
            let mut wrong = |message: String, help: &str| problems.report("bad-include", span.clone(), message, help);
            let whole = self.folder().join(&pattern);
            let Some(paths) = whole.to_str().and_then(|text| glob::glob(text).ok()) else {
                wrong(format!("\"{pattern}\" is no pattern of files"), "write a path, with * for any part of a name");
                continue;
            };
            let mut paths: Vec<PathBuf> = paths.filter_map(Result::ok).filter(|path| path.is_file()).collect();
            paths.sort();
            if paths.is_empty() {
                wrong(
                    format!("there is no file \"{pattern}\""),
                    "create it; paths are relative to the manifest's folder",
                );
            }
            for path in paths {
                // Two patterns may name the same file.
                let Ok(real) = std::fs::canonicalize(&path) else { continue };
                // Whoever may put a link there shows no other file by it.
                if !is_named_by(&real, &self.folder(), &pattern) {
                    let message = format!("{} leads to a file that \"{pattern}\" does not name", path.display());
                    wrong(message, "put the file itself there, or name the one that it leads to");
                    continue;
                }
                if !taken.insert(real) {
                    continue;
                }
                if files.len() > MOST_INCLUDED {
                    wrong(
                        format!("more than {MOST_INCLUDED} files are included"),
                        "put several hostnames into one file",
                    );
                    break;
                }
                let left = MAX_MANIFEST_BYTES.saturating_sub(bytes);
                let text = read_text(&path, left)?;
                bytes += text.len() as u64;
                files.push((path.display().to_string(), text));
            }
        }
        Ok(Source::assemble(files, &values, problems))
    }

    /// Reads another set of values: each stands for one of the manifest's own.
    fn read_values(&self, path: &Path, own: &BTreeMap<String, String>) -> Result<BTreeMap<String, String>, CliError> {
        let text = read_text(path, MAX_VALUES_BYTES)?;
        let mut problems = Diagnostics::default();
        let values = other_values(&text, &mut problems);
        if let Some(unknown) = values.keys().find(|name| !own.contains_key(*name)) {
            let known = own.keys().map(String::as_str);
            let says = format!("{} sets the value \"{unknown}\", which the manifest does not have", path.display());
            let remedy = match nearest(unknown, known) {
                Some(near) => format!("Did you mean \"{near}\"?"),
                None => "Add it to [values] in the manifest".to_owned(),
            };
            return Err(CliError::Usage { says, remedy });
        }
        match problems.into_sorted().into_iter().next() {
            None => Ok(values),
            Some(problem) => Err(CliError::Usage {
                says: format!("{} cannot be used: {}", path.display(), problem.message),
                remedy: "Write NAME = \"…\" for each value".into(),
            }),
        }
    }

    /// Reads the manifest; `-` is the standard input.
    fn read_manifest(&self) -> Result<String, CliError> {
        let path = if self.manifest == Path::new("-") { Path::new("/dev/stdin") } else { &self.manifest };
        if self.manifest != Path::new("-") && !self.manifest.try_exists().unwrap_or(true) {
            return Err(CliError::NoManifest { path: self.manifest.display().to_string() });
        }
        read_text(path, MAX_MANIFEST_BYTES)
    }

    fn try_secrets(&self, manifest: &Manifest, problems: &mut Diagnostics, warnings: &mut Diagnostics) {
        let folder = self.folder();
        for secret in distinct(manifest.secrets()) {
            match secrets::read_any(&secret.value, &folder) {
                Err(why) => warnings.report(
                    UNREADABLE_SECRET,
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
        let state = folder.join(".pindrel");
        if let Some(mode) = open_to_others(&state) {
            warnings.report(
                "open-state",
                0..0,
                format!("every user of this machine can look into {} (mode {mode:04o})", state.display()),
                format!("Run: chmod 700 {}", shell_word(state.display())),
            );
        }
        let signed = manifest.zones.iter().filter(|zone| matches!(zone.driver, ZoneDriver::Rfc2136(_)));
        for tsig in distinct(signed.filter_map(|zone| zone.secret.as_ref())) {
            // A placeholder is reported already.
            let Ok(secret) = secrets::read(&tsig.value, &folder) else { continue };
            if !secrets::is_base64(&secret) {
                problems.report(
                    "unusable-secret",
                    tsig.span.clone(),
                    format!("the secret at {} is not base64, as TSIG keys are", tsig.value),
                    "Put the secret there as the name server's configuration has it",
                );
            }
        }
        for secret in distinct(manifest.secrets()) {
            let SecretRef::File(path) = &secret.value else { continue };
            let path = folder.join(path);
            if let Some(mode) = open_to_others(&path) {
                warnings.report(
                    "open-secret",
                    secret.span.clone(),
                    format!("every user of this machine can read {} (mode {mode:04o})", path.display()),
                    format!("Run: chmod 600 {}", shell_word(path.display())),
                );
            }
        }
    }

    /// Looks whether files can be delivered where the manifest says. What depends on this machine is
    /// a warning: the manifest may be checked on another one.
    fn try_deliveries(&self, manifest: &Manifest, problems: &mut Diagnostics, warnings: &mut Diagnostics) {
        let folder = self.folder();
        let known = |path: &Path| resolved(&folder.join(path));
        let secrets = manifest.secrets().filter_map(|secret| match &secret.value {
            SecretRef::File(path) => Some(path.clone()),
            SecretRef::Env(_) => None,
        });
        let mut taken = vec![(resolved(&self.manifest), "the manifest itself")];
        taken.extend(secrets.map(|path| (known(&path), "a secret that the manifest uses")));
        taken.extend(manifest.roots().map(|root| (known(&root.value), "roots that the manifest uses")));
        taken.extend(self.kept_files().into_iter().map(|path| (resolved(&path), "a file of the state")));
        let state = known(Path::new(".pindrel"));
        for delivery in manifest.certificates.iter().flat_map(|certificate| &certificate.deliver) {
            let At { value, span } = &delivery.file;
            let path = folder.join(value);
            let parent = path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(&folder);
            if path.is_dir() || value.file_name().is_none() {
                let message = format!("{} is a directory", value.display());
                problems.report("bad-delivery", span.clone(), message, "write the file's name as well");
                continue;
            }
            if let Some(what) = machine::not_a_file(&path) {
                let message = format!("{} is {what}, not a file", value.display());
                let help = "name the file itself, or remove what stands in its place";
                problems.report("bad-delivery", span.clone(), message, help);
                continue;
            }
            let real = resolved(&path);
            let is_state = real.starts_with(&state).then_some("a file of the state");
            if let Some(what) = taken.iter().find(|(path, _)| *path == real).map(|(_, what)| *what).or(is_state) {
                let message = format!("{} is {what}, and would be overwritten", value.display());
                problems.report("bad-delivery", span.clone(), message, "deliver to a file of its own");
            } else if !parent.is_dir() {
                let message = format!("the folder of {} does not exist on this machine", value.display());
                warnings.report(
                    "missing-folder",
                    span.clone(),
                    message,
                    format!("Make it: mkdir -p {}", shell_word(parent.display())),
                );
                continue;
            }
            for (what, name, id_of) in [
                ("user", &delivery.owner, machine::user_id as fn(&str) -> Option<u32>),
                ("group", &delivery.group, machine::group_id),
            ] {
                if let Some(name) = name.as_ref().filter(|name| id_of(name).is_none()) {
                    let message = format!("there is no {what} \"{name}\" on this machine");
                    warnings.report(
                        "unknown-owner",
                        span.clone(),
                        message,
                        format!("Correct the {what}, or create it"),
                    );
                }
            }
        }
    }

    /// Reads the roots for client certificates: they are told to endpoints.
    fn read_trust_bundles(&self, manifest: &mut Manifest, problems: &mut Diagnostics) {
        let folder = self.folder();
        let mut bundles = BTreeMap::new();
        for At { value, span } in manifest.client_roots() {
            match secrets::read_trust_bundle(&folder.join(value)) {
                Ok(text) => drop(bundles.insert(value.clone(), text)),
                Err(why) => problems.report(
                    "unreadable-file",
                    span.clone(),
                    format!("{} cannot be used: {why}", value.display()),
                    "Name a PEM file of root certificates; paths are relative to the manifest's folder",
                ),
            }
        }
        manifest.trust_bundles = bundles;
    }

    fn try_files(&self, manifest: &Manifest, problems: &mut Diagnostics) {
        let folder = self.folder();
        for At { value, span } in manifest.roots() {
            if let Err(why) = secrets::read_roots(&folder.join(value)) {
                let message = format!("{} cannot be used: {why}", value.display());
                let help = "Name a PEM file of root certificates; paths are relative to the manifest's folder";
                problems.report("unreadable-file", span.clone(), message, help);
            }
        }
    }
}

/// Says whether a file, wherever a link led, is still one that a pattern of the manifest names.
fn is_named_by(real: &Path, folder: &Path, pattern: &str) -> bool {
    let is_plain = |part: &&std::ffi::OsStr| !part.to_string_lossy().contains(['*', '?', '[']);
    let parts: Vec<&std::ffi::OsStr> = Path::new(pattern).iter().collect();
    // The folders before the first pattern may be links: the manifest names them.
    let plain = parts[..parts.len() - 1].iter().copied().take_while(is_plain).count();
    let base: PathBuf = parts[..plain].iter().collect();
    let rest: PathBuf = parts[plain..].iter().collect();
    let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
    let Ok(base) = folder.join(base).canonicalize() else { return false };
    let whole = format!("{}/{}", glob::Pattern::escape(&base.to_string_lossy()), rest.display());
    let exact = glob::MatchOptions { require_literal_separator: true, ..glob::MatchOptions::new() };
    glob::Pattern::new(&whole).is_ok_and(|pattern| pattern.matches_path_with(real, exact))
}

/// Each secret once, at the first place that names it.
fn distinct<'m>(secrets: impl Iterator<Item = &'m At<SecretRef>>) -> impl Iterator<Item = &'m At<SecretRef>> {
    let mut found = HashSet::new();
    secrets.filter(move |secret| found.insert(&secret.value))
}

/// Reads a text of the manifest.
fn read_text(path: &Path, most: u64) -> Result<String, CliError> {
    let mut bytes = machine::read_at_most(path, most).map_err(|error| CliError::file(path, "read", &error))?;
    // A manifest holds no secrets: it is taken as it is, not copied and wiped.
    let text = String::from_utf8(std::mem::take(&mut *bytes)).map_err(|error| {
        let (upto, bytes) = (error.utf8_error().valid_up_to(), error.as_bytes());
        let (why, line) = match bytes {
            [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => ("it is UTF-16".to_owned(), None),
            bytes => {
                let line = bytes[..upto].iter().filter(|byte| **byte == b'\n').count() + 1;
                let byte = bytes.get(upto).copied().unwrap_or_default();
                (format!("byte {byte:#04x} in line {line}; perhaps it is Latin-1"), Some(line))
            }
        };
        CliError::Encoding { path: path.display().to_string(), why, line }
    })?;
    // A mark at the start says that it is UTF-8, and is no part of the text.
    Ok(text.strip_prefix('\u{feff}').map(str::to_owned).unwrap_or(text))
}

/// Returns the mode of a file or folder that every user may read.
fn open_to_others(path: &Path) -> Option<u32> {
    let mode = std::fs::metadata(path).ok()?.permissions().mode() & 0o777;
    (mode & 0o004 != 0).then_some(mode)
}

/// Where a path leads, as far as it is there: what is not yet is taken as it is written.
fn resolved(path: &Path) -> PathBuf {
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    let mut real = PathBuf::new();
    for part in absolute.components() {
        match part {
            Component::ParentDir => drop(real.pop()),
            Component::CurDir => {}
            part => real.push(part),
        }
        // A link leads on from where it leads to.
        if let Ok(found) = std::fs::canonicalize(&real) {
            real = found;
        }
    }
    real
}
