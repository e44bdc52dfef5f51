//! The runs that were, and what each has changed.

use pindrel_state::{RunChange, RunRow};

use super::status::Reports;
use crate::failure::EngineError;
use crate::home::MOST_CHANGES;

impl Reports {
    /// Returns the newest runs that changed something, the oldest of them first.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn runs(&self, most: u32) -> Result<Vec<RunRow>, EngineError> {
        Ok(self.context.state.runs(most).await?)
    }

    /// Returns what a run changed, by hostname.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn run_changes(&self, run: i64) -> Result<Vec<RunChange>, EngineError> {
        Ok(self.context.state.run_changes(run, MOST_CHANGES).await?)
    }
}
