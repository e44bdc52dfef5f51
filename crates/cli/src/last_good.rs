//! The last manifest without mistakes that `keep` ran on: what it begins with where the present one cannot be used.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use pindrel_core::manifest::{Diagnostics, Source};
use pindrel_engine::machine;
use serde::{Deserialize, Serialize};

use crate::context::{Context, Loaded};
use crate::error::CliError;
use crate::output::VERSION;

/// Where it lies, beside a state in a file.
const FILE: &str = ".pindrel/last-good.json";
/// The most that is read or written.
const MOST_BYTES: u64 = 64 << 20;
/// Only its owner may see it, as the rest of that folder.
const MODE: u32 = 0o600;

/// A manifest as it was read: the texts of its files, before values were filled in.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct LastGood {
    version: u32,
    /// When it was taken up.
    pub(crate) at: Timestamp,
    /// Its files with their names, its own first.
    files: Vec<(String, String)>,
    values: BTreeMap<String, String>,
}

impl LastGood {
    fn path(folder: &Path) -> PathBuf {
        folder.join(FILE)
    }

    /// Keeps a manifest. What cannot be kept is told in the log: nothing depends on it now.
    pub(crate) fn keep(context: &Context, loaded: &Loaded) {
        let path = LastGood::path(&context.folder());
        let source = &loaded.mistakes.source;
        let files = source.files().map(|(name, text)| (name.to_owned(), text.to_owned())).collect();
        let kept = LastGood { version: VERSION, at: Timestamp::now(), files, values: source.values().clone() };
        let written = serde_json::to_vec(&kept).map_err(std::io::Error::from).and_then(|bytes| {
            std::fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))?;
            machine::replace_file(&path, &bytes, MODE, (None, None))
        });
        if let Err(error) = written {
            tracing::warn!(path = %path.display(), %error, "the manifest is not kept for a later start");
        }
    }

    /// Reads what was kept of the manifest of that name; nothing where there is none that can be read.
    pub(crate) fn read(context: &Context) -> Option<LastGood> {
        let bytes = machine::read_at_most(&LastGood::path(&context.folder()), MOST_BYTES).ok()?;
        let kept: LastGood = serde_json::from_slice(&bytes).ok()?;
        let is_same = kept.files.first().is_some_and(|(name, _)| Path::new(name) == context.manifest);
        (is_same && kept.version == VERSION).then_some(kept)
    }

    /// Takes the manifest up as it was kept.
    pub(crate) fn load(&self, context: &Context) -> Result<Loaded, CliError> {
        let mut problems = Diagnostics::default();
        let source = Source::assemble(self.files.clone(), &self.values, &mut problems);
        let (desired, mistakes) = context.examine_source(source, problems);
        context.loaded_to_change(desired, mistakes)
    }
}
