//! What is stored of hostnames: facts, what Pindrel counts as its own, and what an alias should give.

use std::collections::{BTreeSet, HashMap};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::Timestamp;
use pindrel_core::desired::{Digests, EndpointId, HostnameId};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::health::policy::Choice;
use pindrel_core::judging::facts::{AliasChange, HostnameFacts, HostnameKnowledge, Ownership};
use pindrel_core::judging::pins::{Known, Pin, PinState, Pins};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_state::{Claim, HostnameRow};
use tokio::sync::OnceCell;

use super::switch_log::SwitchLog;
use crate::context::Context;
use crate::events::Event;
use crate::failure::EngineError;

/// The number of this run, once it has changed something.
#[derive(Default)]
pub(crate) struct RunRecord {
    /// Whether what is recorded is changed in the world, too.
    pub(super) begun: AtomicBool,
    pub(super) id: OnceCell<i64>,
    pub(super) changed: Mutex<BTreeSet<Hostname>>,
    /// What is known of all endpoints, once that was needed.
    pub(super) infos: OnceCell<HashMap<EndpointId, EndpointInfo>>,
}

/// Who makes the checks, and switches aliases from one endpoint of a hostname to another.
pub(crate) enum Failover {
    /// This run.
    Here,
    /// A process that keeps running, beside this run.
    Elsewhere,
    /// This run, while the state does not answer: each change is logged before it is made.
    Logged(Arc<SwitchLog>),
}

/// What is stored of hostnames.
pub(crate) struct Hostnames {
    pub(crate) context: Arc<Context>,
    pub(crate) digests: Digests,
    pub(crate) failover: Failover,
    pub(crate) record: RunRecord,
    pub(crate) reported: Mutex<HashMap<HostnameId, PinStates>>,
}

/// How the pins of a hostname stood when they were last reported.
pub(crate) type PinStates = [(Pin, PinState); 5];

impl Hostnames {
    /// Changes the known facts of a hostname, stores them and reports its pins.
    pub(crate) async fn record_facts(
        &self,
        id: HostnameId,
        change: impl FnOnce(&mut HostnameFacts),
    ) -> Result<Pins, EngineError> {
        change(&mut self.context.known().hostnames.entry(id).or_default().facts);
        self.persist(id).await
    }

    /// Where somebody else switches aliases, takes over what has been written and seen by that since, and decides anew.
    pub(crate) async fn follow_switches(&self, id: HostnameId) -> Result<(), EngineError> {
        let wanted = self.context.desired.hostname(id);
        if !self.is_without_failover() || !wanted.follows_checks(&self.context.desired) {
            return Ok(());
        }
        if let Some(row) = self.context.state.hostname(&wanted.hostname).await? {
            let mut known = self.context.known();
            let own = known.hostnames.entry(id).or_default();
            own.ownership = row.ownership;
            own.facts.take_later_alias(row.facts.alias);
        }
        self.choose(id);
        Ok(())
    }

    /// Decides what the alias of a hostname should give, where there is something to choose from.
    pub(crate) fn choose(&self, id: HostnameId) -> Option<Choice> {
        let now = self.context.clock.now();
        let mut known = self.context.known();
        let about = Known::about(&self.context.desired, &known, id);
        let mut choice = about.decide(now)?;
        let given = about.aliased_at();
        if self.is_without_failover() && !given.is_empty() {
            choice.give = given;
        }
        known.choices.insert(id, choice.clone());
        Some(choice)
    }

    /// Says whether somebody else makes checks and switches aliases.
    pub(crate) fn is_without_failover(&self) -> bool {
        matches!(self.failover, Failover::Elsewhere)
    }

    /// Stores what is known of a hostname, and reports its pins.
    pub(crate) async fn persist(&self, id: HostnameId) -> Result<Pins, EngineError> {
        self.follow_switches(id).await?;
        let pins = self.context.judge(id, self.context.clock.now());
        let wanted = self.context.desired.hostname(id);
        let row = {
            let known = self.context.known();
            let own = known.hostnames.get(&id).cloned().unwrap_or_default();
            let facts = &own.facts;
            let mut seen = vec![
                known.zones.get(&wanted.zone).map(|fact| fact.seen),
                facts.alias.as_ref().map(|fact| fact.seen),
                facts.answer.as_ref().map(|fact| fact.seen),
            ];
            for endpoint in wanted.endpoints() {
                let key = self.context.desired.endpoint(endpoint).key();
                seen.push(facts.bindings.get(&key).map(|fact| fact.seen));
            }
            let oldest = seen.into_iter().map(|seen| seen.map_or(0, Timestamp::as_second)).min();
            HostnameRow {
                hostname: wanted.hostname.clone(),
                wanted: self.digests.of(&self.context.desired, id),
                held: pins.held(),
                seen_secs: oldest.unwrap_or(0),
                due_secs: known.certificate(wanted.certificate).map_or(0, |held| {
                    held.due_at(self.context.desired.certificate(wanted.certificate).terms.renewal).as_second()
                }),
                facts: own.facts,
                ownership: own.ownership,
            }
        };
        self.context.state.persist_hostnames(vec![row]).await?;
        self.report(id, &pins);
        Ok(pins)
    }

    /// Takes how the pins stand by what was loaded as what they change from.
    pub(crate) fn report_from_here(&self, id: HostnameId) {
        let pins = self.context.judge(id, self.context.clock.now());
        self.reported.lock().unwrap_or_else(PoisonError::into_inner).insert(id, pins.states());
    }

    /// Reports how the pins of a hostname stand, and which of them have changed.
    fn report(&self, id: HostnameId, pins: &Pins) {
        let hostname = &self.context.desired.hostname(id).hostname;
        let now = pins.states();
        let before = self.reported.lock().unwrap_or_else(PoisonError::into_inner).insert(id, now);
        for ((pin, from), (_, to)) in before.into_iter().flatten().zip(now).filter(|((_, from), (_, to))| from != to) {
            self.context.listener.on(Event::Changed { hostname: hostname.clone(), pin, from, to });
        }
        self.context.listener.on(Event::Pins { hostname: hostname.clone(), pins: now.into_iter().collect() });
    }

    /// Changes what Pindrel counts as its own, and stores it before anything is done. The change is made to what the
    /// state has at that moment: another run may have changed another part of it.
    pub(crate) async fn record_ownership(
        &self,
        claim: &Claim,
        id: HostnameId,
        change: impl Fn(&mut Ownership) + Sync,
    ) -> Result<(), EngineError> {
        let hostname = &self.context.desired.hostname(id).hostname;
        let known = self.context.known().hostnames.entry(id).or_default().clone();
        let stored = self.change_ownership(claim, hostname, &known, &change).await?;
        self.context.known().hostnames.entry(id).or_default().ownership = stored;
        Ok(())
    }

    async fn change_ownership(
        &self,
        claim: &Claim,
        hostname: &Hostname,
        known: &HostnameKnowledge,
        change: &(dyn Fn(&mut Ownership) + Sync),
    ) -> Result<Ownership, EngineError> {
        let mut after = known.ownership.clone();
        change(&mut after);
        self.record_before(hostname, &known.facts, &known.ownership, &after).await?;
        let stored = self.context.state.change_ownership(claim, hostname, change).await?;
        if let Failover::Logged(log) = &self.failover {
            log.add(hostname, AliasChange::between(&known.ownership, &stored)).await?;
        }
        Ok(stored)
    }

    /// The same as [`Hostnames::record_ownership`] for any hostname.
    pub(crate) async fn record_ownership_of(
        &self,
        claim: &Claim,
        whose: HostnameRef,
        change: impl Fn(&mut Ownership) + Sync,
    ) -> Result<(), EngineError> {
        let id = match whose {
            HostnameRef::Wanted(id) => return self.record_ownership(claim, id, change).await,
            HostnameRef::Retiring(id) => id,
        };
        let retiring = self.context.known().retiring[id.0 as usize].clone();
        let stored = self.change_ownership(claim, &retiring.hostname, &retiring.known, &change).await?;
        self.context.known().retiring[id.0 as usize].known.ownership = stored;
        Ok(())
    }
}
