//! Which manifest a state is of, with which set of values: with another one, all that the first wants would look left
//! over.

use std::path::Path;

use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::KeptBack;
use pindrel_engine::{Access, Home, ManifestOrigin};

use crate::context::{Context, Loaded};
use crate::error::CliError;

/// The most hostnames of a state that are compared with a manifest.
const MOST_COMPARED: usize = 50;
/// The most that are named.
const MOST_NAMED: usize = 3;

/// Where the manifest and the values are that are used now.
pub(crate) fn present(context: &Context) -> Result<ManifestOrigin, CliError> {
    let location = context.state_location()?;
    let real = |path: &Path| std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    // A folder may be moved as a whole; machines that share a database may each have another.
    let own = location.folder().map(|folder| real(&folder));
    let written = |path: &Path| -> String {
        let path = real(path);
        let folders = own.iter().flat_map(|own| own.parent().into_iter().chain([own.as_path()]));
        let below = folders.filter_map(|folder| path.strip_prefix(folder).ok()).next();
        below.unwrap_or(&path).display().to_string()
    };
    let values = context.values().map(|path| match location.is_shared() {
        true => path.file_name().unwrap_or_default().to_string_lossy().into_owned(),
        false => written(path),
    });
    Ok(ManifestOrigin { manifest: written(&context.manifest), values })
}

/// Refuses a manifest, or a set of values, that a state is not of; notes what a new one is of.
pub(crate) async fn check(context: &Context, home: &Home, loaded: &Loaded, access: Access) -> Result<(), CliError> {
    let now = present(context)?;
    let then = home.origin().await?;
    if let Some(then) = then.as_ref().filter(|then| then.values != now.values) {
        let set = |values: &Option<String>| match values {
            Some(file) => format!("those of {file}"),
            None => "those of the manifest itself".into(),
        };
        return Err(CliError::Usage {
            says: format!(
                "this state was made with other values: with {}, not with {}",
                set(&then.values),
                set(&now.values)
            ),
            remedy: format!(
                "Give each set of values a state of its own, as with --state practice.sqlite; if the file was renamed: {REASSIGN}"
            ),
        });
    }
    if then.as_ref().is_some_and(|then| then.manifest == now.manifest) {
        return Ok(());
    }
    let wanted: Vec<Hostname> = loaded.desired.hostnames.iter().map(|wanted| wanted.hostname.clone()).collect();
    if !wanted.is_empty() && !home.owns_any(&wanted).await? {
        let others = home.owned_hostnames(MOST_COMPARED).await?;
        if let [_, ..] = others.as_slice() {
            let named: Vec<&str> = others.iter().take(MOST_NAMED).map(Hostname::as_str).collect();
            let of = then.map_or_else(|| "another manifest".into(), |then| then.manifest);
            return Err(CliError::Usage {
                says: format!(
                    "this state is of {of}: it has {}, and none of this manifest's hostnames",
                    named.join(", ")
                ),
                remedy: format!(
                    "Give each manifest a state of its own with --state; if this one takes the other's place: {REASSIGN}"
                ),
            });
        }
    }
    if access == Access::Change {
        home.persist_origin(&now).await?;
    }
    Ok(())
}

/// What makes a state one of the present manifest.
const REASSIGN: &str = "pindrel state reassign";

impl Context {
    /// Opens the state, and keeps back what an undoing keeps back there.
    pub(crate) async fn open(&self, loaded: &mut Loaded, access: Access) -> Result<Home, CliError> {
        self.open_and_redo(loaded, access, |_| false).await
    }

    /// Does the same, but lets go of what `is_redone` says.
    pub(crate) async fn open_and_redo(
        &self,
        loaded: &mut Loaded,
        access: Access,
        is_redone: impl Fn(&KeptBack) -> bool,
    ) -> Result<Home, CliError> {
        let home = self.home(access).await?;
        check(self, &home, loaded, access).await?;
        let (redone, others): (Vec<_>, Vec<_>) = home.kept_back().await?.into_iter().partition(is_redone);
        let mut over = loaded.keep_back(others);
        over.extend(redone.into_iter().map(|kept| kept.hostname));
        if access == Access::Change {
            home.keep_back_no_longer(&over).await?;
        }
        Ok(home)
    }

    /// Makes the state one of the present manifest and values.
    pub(crate) async fn reassign(&self) -> Result<ManifestOrigin, CliError> {
        let (home, now) = (self.home(Access::Change).await?, present(self)?);
        home.persist_origin(&now).await?;
        Ok(now)
    }
}
