//! What a run changes, kept so that it can be undone.

use std::sync::PoisonError;
use std::sync::atomic::Ordering;

use pindrel_core::desired::EndpointId;
use pindrel_core::judging::facts::{EndpointKey, EndpointView, HostnameFacts, Ownership};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::HostnameForm;
use pindrel_core::zones::records::RecordSet;

use super::hostnames::Hostnames;
use crate::failure::EngineError;

impl Hostnames {
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
        let begin = || self.context.state.begin_run(self.context.clock.now(), &self.context.command);
        let id = *self.record.id.get_or_try_init(begin).await?;
        self.context.state.record_before(id, hostname, &self.form(facts, before)).await?;
        self.record.changed.lock().unwrap_or_else(PoisonError::into_inner).insert(hostname.clone());
        Ok(())
    }

    /// Keeps what the hostnames are like now that this run has changed.
    pub(crate) async fn end_recording(&self) -> Result<(), EngineError> {
        let Some(id) = self.record.id.get() else { return Ok(()) };
        let changed = self.record.changed.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let mut after = Vec::with_capacity(changed.len());
        for hostname in changed {
            let row = self.context.state.hostname(&hostname).await?;
            let form = row.map(|row| self.form(&row.facts, &row.ownership)).unwrap_or_default();
            after.push((hostname, form));
        }
        Ok(self.context.state.end_run(*id, self.context.clock.now(), &after).await?)
    }

    /// What a hostname is like, as far as Pindrel made it.
    fn form(&self, facts: &HostnameFacts, ownership: &Ownership) -> HostnameForm {
        let known = self.context.known();
        HostnameForm::of(ownership, |sets: &[RecordSet]| {
            let ids = (0u32..).map(EndpointId).take(self.context.desired.endpoints.len());
            let leads = |key: &EndpointKey, id: EndpointId| match known.endpoints.get(&id).map(|fact| &fact.value) {
                Some(EndpointView::Listed(info)) => {
                    let reply = facts.bindings.get(key).and_then(|fact| fact.value.reply());
                    info.is_led_to(sets, reply.and_then(|reply| reply.target.as_ref()))
                }
                _ => false,
            };
            ids.map(|id| (self.context.desired.endpoint(id).key(), id))
                .find(|(key, id)| leads(key, *id))
                .map(|(key, _)| key)
        })
    }
}
