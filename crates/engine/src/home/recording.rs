//! What a run changes, kept so that it can be undone.

use std::collections::HashMap;
use std::sync::PoisonError;
use std::sync::atomic::Ordering;

use pindrel_core::desired::EndpointId;
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::facts::{AliasView, EndpointKey, HostnameFacts, Ownership};
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
        self.context.state.record_before(id, hostname, &self.form(facts, before).await?).await?;
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
            let form = match row {
                // What is there afterwards is its own, or nothing.
                Some(row) => self.form(&HostnameFacts { alias: None, ..row.facts }, &row.ownership).await?,
                None => HostnameForm::default(),
            };
            after.push((hostname, form));
        }
        Ok(self.context.state.end_run(*id, self.context.clock.now(), &after).await?)
    }

    /// What a hostname is like.
    async fn form(&self, facts: &HostnameFacts, ownership: &Ownership) -> Result<HostnameForm, EngineError> {
        let alias = facts.alias.as_ref().map(|fact| &fact.value);
        // What a wildcard gives is no alias of its own.
        let seen = alias.filter(|alias| alias.wildcard.is_none()).map(AliasView::first_gives).unwrap_or_default();
        let form = HostnameForm::of(ownership, &seen, |sets| {
            let known = self.context.known();
            self.led_to(facts, sets, |id| known.endpoint_info(id))
        });
        if form.at.is_some() || form.alias.is_empty() {
            return Ok(form);
        }
        // It was at an endpoint that this run has nothing to do with.
        let infos = self.record.infos.get_or_try_init(|| self.all_infos()).await?;
        let at = self.led_to(facts, &form.alias, |id| infos.get(&id));
        Ok(HostnameForm { at, ..form })
    }

    /// What is known of every endpoint of the manifest, read once in a run.
    async fn all_infos(&self) -> Result<HashMap<EndpointId, EndpointInfo>, EngineError> {
        let mut infos = HashMap::new();
        for id in self.context.desired.endpoint_ids() {
            let endpoint = self.context.desired.endpoint(id);
            let info = match endpoint.static_info() {
                Some(info) => Some(info),
                None => self.context.state.endpoint(&endpoint.key()).await?.and_then(|fact| fact.value.info().cloned()),
            };
            infos.extend(info.map(|info| (id, info)));
        }
        Ok(infos)
    }

    /// The first endpoint that alias records lead to, of those of which `info` says something.
    fn led_to<'i>(
        &self,
        facts: &HostnameFacts,
        sets: &[RecordSet],
        info: impl Fn(EndpointId) -> Option<&'i EndpointInfo>,
    ) -> Option<EndpointKey> {
        let keys = self.context.desired.endpoint_ids().map(|id| (id, self.context.desired.endpoint(id).key()));
        let mut led = keys.filter(|(id, key)| {
            let reply = facts.bindings.get(key).and_then(|fact| fact.value.reply());
            info(*id).is_some_and(|info| info.is_led_to(sets, reply.and_then(|reply| reply.target.as_ref())))
        });
        led.next().map(|(_, key)| key)
    }
}
