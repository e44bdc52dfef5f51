//! Deciding what an alias should give: by the verdicts of this process, and by what the state says of the hostname at
//! that moment, since a pass, another command or another process may have changed it.

use futures::StreamExt as _;
use futures::stream;
use pindrel_core::desired::EndpointId;
use pindrel_core::facts::{EndpointView, Fact, HeldCertificate, HostnameKnowledge};
use pindrel_state::{State, StateError};

use super::*;

/// The most switches under way at once; as many hostnames are decided about at a time.
const SWITCHES_AT_ONCE: usize = 256;
/// How many reads of the state are under way at once.
const READS_AT_ONCE: usize = 16;
/// How long the state may take to say what it knows of hostnames; without it is decided by what was known before.
const RECALLED_WITHIN: Duration = Duration::from_secs(5);

/// What the state says of one hostname.
struct Recalled {
    id: HostnameId,
    own: Option<HostnameKnowledge>,
    certificate: Option<HeldCertificate>,
    endpoints: Vec<(EndpointId, Fact<EndpointView>)>,
}

/// What the state says of the hostnames that are to be decided about.
pub(super) struct Recall {
    generation: u64,
    ids: Vec<HostnameId>,
    said: Vec<Result<Recalled, StateError>>,
}

async fn recall(desired: &Desired, state: &dyn State, id: HostnameId) -> Result<Recalled, StateError> {
    let wanted = desired.hostname(id);
    let row = state.hostname(&wanted.hostname).await?;
    let own = row.map(|row| HostnameKnowledge { facts: row.facts, ownership: row.ownership });
    let certificate = state.certificate(&desired.certificate(wanted.certificate).name).await?.map(|row| row.held);
    let mut endpoints = Vec::new();
    for endpoint in wanted.endpoints() {
        if let Some(fact) = state.endpoint(&desired.endpoint(endpoint).key()).await? {
            endpoints.push((endpoint, fact));
        }
    }
    Ok(Recalled { id, own, certificate, endpoints })
}

impl Keeper {
    /// Has it decided anew what an alias should give.
    pub(super) fn decide(&mut self, id: HostnameId) {
        self.to_decide.insert(id);
    }

    /// Has it decided anew at a time of day.
    fn decide_at(&mut self, id: HostnameId, at: Timestamp, now: Timestamp) {
        let pause = Duration::try_from(at.duration_since(now)).unwrap_or_default();
        self.schedule.add(self.kit.clock.elapsed() + pause, Task::Decide(id));
    }

    /// Asks the state about the next hostnames that are to be decided about.
    pub(super) fn begin_recall(&mut self) {
        let places = SWITCHES_AT_ONCE.saturating_sub(self.switching.len());
        if self.sent.contains(&Errand::Recall) || self.to_decide.is_empty() || places == 0 {
            return;
        }
        let ids: Vec<HostnameId> = std::iter::from_fn(|| self.to_decide.pop_first()).take(places).collect();
        let (kit, desired, generation) = (self.kit.clone(), self.desired.clone(), self.generation);
        self.send(Errand::Recall, async move {
            let mut recall = Recall { generation, said: Vec::with_capacity(ids.len()), ids };
            let state = &*kit.home.state;
            let reads = stream::iter(recall.ids.clone()).map(|id| self::recall(&desired, state, id));
            let mut reads = reads.buffer_unordered(READS_AT_ONCE);
            let reading = async {
                while let Some(said) = reads.next().await {
                    recall.said.push(said);
                }
            };
            let _ = within(&*kit.clock, RECALLED_WITHIN, reading).await;
            drop(reads);
            Some(Reply::Recalled(recall))
        });
    }

    pub(super) fn recalled(&mut self, recall: Recall) {
        if recall.generation != self.generation {
            return;
        }
        for said in recall.said {
            match said {
                Ok(said) => self.know(said),
                Err(error) => tracing::warn!(%error, "the state does not say what is known of a hostname"),
            }
        }
        for id in recall.ids {
            self.decide_now(id);
        }
    }

    /// Takes over what the state says, but for what a switch of this process is changing.
    fn know(&mut self, said: Recalled) {
        let Recalled { id, own, certificate, endpoints } = said;
        if self.is_switching(id) {
            return;
        }
        if let Some(mut own) = own {
            // What this process saw last may be newer than what a run has stored since.
            own.facts.take_later_alias(self.known.hostnames.remove(&id).and_then(|known| known.facts.alias));
            self.known.hostnames.insert(id, own);
        }
        self.known.certificates.insert(self.desired.hostname(id).certificate, certificate);
        for (endpoint, fact) in endpoints {
            if self.known.endpoints.get(&endpoint).is_none_or(|known| known.seen < fact.seen) {
                self.known.endpoints.insert(endpoint, fact);
            }
        }
    }

    /// Whether a switch of this hostname is under way.
    pub(super) fn is_switching(&self, id: HostnameId) -> bool {
        self.switches.get(&id).is_some_and(|switching| switching.is_under_way)
    }

    /// Decides what an alias should give, and begins to give it where that is something else.
    fn decide_now(&mut self, id: HostnameId) {
        if self.is_switching(id) {
            // It is decided again when that has ended.
            return;
        }
        let now = self.kit.clock.now();
        let choice = Known::about(&self.desired, &self.known, id).decide(now);
        if let Some(choice) = choice {
            if let Some(again) = choice.again_at {
                self.decide_at(id, again, now);
            }
            self.known.choices.insert(id, choice);
        }
        let known = Known::about(&self.desired, &self.known, id);
        let (led, to) = (known.aliased_at(), known.given());
        if led == to {
            self.tell_choice(id);
        }
        let known = Known::about(&self.desired, &self.known, id);
        // What leads nowhere, as where somebody else has changed it, still has to leave what it was last led to.
        let leads_nowhere = led.is_empty();
        let from = if leads_nowhere { known.written_to() } else { led };
        // An alias that never led anywhere, or moves from elsewhere, is a pass's work.
        if from.is_empty() || known.is_alias_written() || known.wanted_alias().is_none() {
            return;
        }
        if from == to && (leads_nowhere || !self.may_change_addresses(id, now)) {
            return;
        }
        let elapsed = self.kit.clock.elapsed();
        if self.switches.get(&id).is_some_and(|switching| elapsed < switching.not_before) {
            return;
        }
        let seen = self.failing_since(id, &from);
        self.begin_switch(id, from, to, seen);
    }

    /// Whether the addresses of an alias may change: once in its TTL.
    fn may_change_addresses(&mut self, id: HostnameId, now: Timestamp) -> bool {
        let wanted = self.desired.hostname(id);
        let switched = self.known.hostnames.get(&id).and_then(|own| own.ownership.switched);
        let ttl = SignedDuration::from_secs(i64::from(wanted.ttl.as_secs()));
        let free_at = switched.and_then(|at| at.checked_add(ttl).ok());
        match free_at.filter(|at| now < *at) {
            None => true,
            Some(at) => {
                self.decide_at(id, at, now);
                false
            }
        }
    }

    /// When the failures began that are the reason to leave endpoints.
    fn failing_since(&self, id: HostnameId, from: &[EndpointId]) -> Option<Timestamp> {
        let members = &self.desired.hostname(id).placement.members;
        let left = members.iter().filter(|member| from.contains(&member.endpoint)).filter_map(|member| member.check);
        let checks = with_members(&self.desired, left);
        checks.iter().filter_map(|check| self.known.verdicts.get(check)?.failing_since()).min()
    }
}
