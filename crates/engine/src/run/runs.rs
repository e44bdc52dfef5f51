//! What a run changes, kept so that it can be undone, and the runs that were.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use pindrel_core::desired::EndpointId;
use pindrel_core::judging::facts::{EndpointKey, EndpointView, HostnameFacts, Ownership};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::HostnameForm;
use pindrel_core::zones::records::RecordSet;
use pindrel_state::{RunChange, RunRow};
use tokio::sync::OnceCell;

use crate::failure::EngineError;
use crate::run::Engine;

/// The most hostnames of one run that are put back or listed.
pub const MOST_CHANGES: u32 = 100_000;

/// The number of this run, once it has changed something.
#[derive(Default)]
pub(crate) struct RunRecord {
    /// Whether what is recorded is changed in the world, too.
    begun: AtomicBool,
    command: String,
    id: OnceCell<i64>,
    changed: Mutex<BTreeSet<Hostname>>,
}

impl RunRecord {
    /// What was typed, as in `settle`.
    pub(crate) fn command(&self) -> &str {
        if self.command.is_empty() { "settle" } else { &self.command }
    }
}

impl Engine {
    /// Says what was typed, for the list of runs; `settle` unless said.
    #[must_use]
    pub fn called(mut self, command: impl Into<String>) -> Engine {
        self.record.command = command.into();
        self
    }

    /// From here on what is recorded is about to be changed in the world.
    pub(crate) fn begin_recording(&self) {
        self.record.begun.store(true, Ordering::Relaxed);
    }

    /// Keeps what a hostname is like before this run changes it for the first time.
    pub(crate) async fn record_before(
        &self,
        hostname: &Hostname,
        facts: &HostnameFacts,
        before: &Ownership,
        after: &Ownership,
    ) -> Result<(), EngineError> {
        let is_changed = before.alias != after.alias || before.bindings != after.bindings;
        let is_known = || self.record.changed.lock().unwrap_or_else(PoisonError::into_inner).contains(hostname);
        if !self.record.begun.load(Ordering::Relaxed) || !is_changed || is_known() {
            return Ok(());
        }
        let begin = || self.state.begin_run(self.clock.now(), self.record.command());
        let id = *self.record.id.get_or_try_init(begin).await?;
        self.state.record_before(id, hostname, &self.form(facts, before)).await?;
        self.record.changed.lock().unwrap_or_else(PoisonError::into_inner).insert(hostname.clone());
        Ok(())
    }

    /// Keeps what the hostnames are like now that this run has changed.
    pub(crate) async fn end_recording(&self) -> Result<(), EngineError> {
        let Some(id) = self.record.id.get() else { return Ok(()) };
        let changed = self.record.changed.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let mut after = Vec::with_capacity(changed.len());
        for hostname in changed {
            let row = self.state.hostname(&hostname).await?;
            let form = row.map(|row| self.form(&row.facts, &row.ownership)).unwrap_or_default();
            after.push((hostname, form));
        }
        Ok(self.state.end_run(*id, self.clock.now(), &after).await?)
    }

    /// What a hostname is like, as far as Pindrel made it.
    fn form(&self, facts: &HostnameFacts, ownership: &Ownership) -> HostnameForm {
        let known = self.known();
        HostnameForm::of(ownership, |sets: &[RecordSet]| {
            let ids = (0u32..).map(EndpointId).take(self.desired.endpoints.len());
            let leads = |key: &EndpointKey, id: EndpointId| match known.endpoints.get(&id).map(|fact| &fact.value) {
                Some(EndpointView::Listed(info)) => {
                    let reply = facts.bindings.get(key).and_then(|fact| fact.value.reply());
                    info.is_led_to(sets, reply.and_then(|reply| reply.target.as_ref()))
                }
                _ => false,
            };
            ids.map(|id| (self.desired.endpoint(id).key(), id)).find(|(key, id)| leads(key, *id)).map(|(key, _)| key)
        })
    }

    /// Returns the newest runs that changed something, the oldest of them first.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn runs(&self, most: u32) -> Result<Vec<RunRow>, EngineError> {
        Ok(self.state.runs(most).await?)
    }

    /// Returns what a run changed, by hostname.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn run_changes(&self, run: i64) -> Result<Vec<RunChange>, EngineError> {
        Ok(self.state.run_changes(run, MOST_CHANGES).await?)
    }
}
