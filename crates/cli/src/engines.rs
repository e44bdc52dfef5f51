//! The engine of a command that asks or changes one thing: manifest, state and what listens, put together.

use std::sync::Arc;

use pindrel_engine::{Access, Engine, Listener};

use crate::args::{MAX_AGE, RunBounds, Span};
use crate::context::{Context, bounds};
use crate::error::CliError;
use crate::output::diagnostics::warn;
use crate::output::notes::Notes;

impl Context {
    /// Makes an engine for looking at what the state knows; the manifest's warnings are
    /// told.
    pub(crate) async fn engine(&self) -> Result<(Engine, Arc<dyn Listener>), CliError> {
        self.engine_within(RunBounds::default().patience).await
    }

    /// The same, where nothing is waited for longer than that.
    pub(crate) async fn engine_within(&self, patience: Span) -> Result<(Engine, Arc<dyn Listener>), CliError> {
        let mut loaded = self.load_to_look()?;
        warn(&loaded.mistakes);
        let listener: Arc<dyn Listener> = Arc::new(Notes);
        let home = self.open(&mut loaded, Access::Read).await?;
        let limits = RunBounds { patience, ..RunBounds::default() };
        let engine = loaded.engine("pindrel", home, bounds(MAX_AGE, limits), listener.clone()).await?;
        Ok((engine, listener))
    }

    /// Makes an engine for changing what the state knows; `command` is what was typed.
    pub(crate) async fn changing_engine(&self, command: &str) -> Result<Engine, CliError> {
        let mut loaded = self.load()?;
        warn(&loaded.mistakes);
        let home = self.open(&mut loaded, Access::Change).await?;
        let listener = Arc::new(Notes);
        loaded.engine(command, home, bounds(MAX_AGE, RunBounds::default()), listener).await
    }
}
