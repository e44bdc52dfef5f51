//! Pointing the alias record at the endpoint, on every server.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::HostnameId;
use pindrel_core::judging::facts::{AliasView, ServerRecords};
use pindrel_core::judging::findings::{AliasCause, Finding, lagging_in_words};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::{Known, PinReport, PinState};
use pindrel_core::planning::moves::longest_ttl;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::zones::records::{NameChange, RecordSet, ZoneChange, same_data};
use pindrel_dns::ZoneError;
use pindrel_state::Claim;

use crate::context::Context;
use crate::context::progress::{Progress, Wait};
use crate::failure::internal;
use crate::home::hostnames::Hostnames;
use crate::observe::alias::AliasObserver;
use crate::observe::answer::AnswerObserver;
use crate::observe::zone::ZoneObserver;

/// After what time a server that was told a TTL gives it, if it ever does: it may answer from a cache of its own.
const TTL_TAKEN_WITHIN: SignedDuration = SignedDuration::from_secs(30);

/// The steps that change what a hostname answers.
pub(crate) struct Switcher {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) answers: Arc<AnswerObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) zones: Arc<ZoneObserver>,
    /// When the primaries of zones took the last change of each alias.
    pub(crate) written: Mutex<HashMap<HostnameId, Timestamp>>,
}

impl Switcher {
    pub(crate) async fn alias(&self, id: HostnameId, claim: &Claim) -> Result<Progress, Finding> {
        let wanted = self.context.desired.hostname(id);
        let hostname = &wanted.hostname;
        let mut fact = self.aliases.observe(id).await;
        let mut pins = self.hostnames.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
        let sets = Known::about(&self.context.desired, &self.context.known(), id).wanted_alias();
        let sets = sets.ok_or_else(|| internal(format!("no target of {hostname} is known")))?;
        if self.context.desired.is_handed_off(wanted.zone) {
            return self.await_alias(id, &fact.value, &sets, &pins.alias, claim).await;
        }
        // Telling a server its TTL again changes nothing.
        let is_told = self.since_told(id, &fact.value, &sets).is_some();
        if pins.alias.state == PinState::Loose && !is_told {
            let servers = self.zones.servers(wanted.zone);
            let driver = self.context.drivers.zone(self.context.desired.zone(wanted.zone), &servers)?;
            let change = NameChange {
                owner: hostname.owner(),
                // What a wildcard gives is not there: the name must not be in use.
                expected: if fact.value.wildcard.is_some() { Vec::new() } else { fact.value.first_gives() },
                wanted: sets.clone(),
                place: self.aliases.place(wanted.zone, &hostname.owner()),
            };
            let (present, replaced, now) =
                (fact.value.first_gives(), longest_ttl(&fact.value), self.context.clock.now());
            let is_switch = Known::about(&self.context.desired, &self.context.known(), id).is_switch();
            // A longer TTL may be cached still when the alias leads elsewhere soon.
            let is_ttl_alone = same_data(&present, &sets);
            self.hostnames
                .record_ownership(claim, id, |own| {
                    own.intend_alias(&present, sets.clone());
                    if is_switch {
                        own.switched = Some(now);
                    }
                    // It is wanted, whatever was begun before.
                    own.retiring = None;
                    if let Some(ttl) = replaced {
                        own.replace_alias(ttl, is_ttl_alone, now);
                    }
                })
                .await?;
            let changed = driver.change(&ZoneChange::Replace(change)).await;
            match changed {
                // It has the same records as the wildcard, of its own.
                Err(ZoneError::Changed { .. }) if fact.value.wildcard.is_some() => fact.value.wildcard = None,
                Err(ZoneError::Changed { .. })
                    if same_data(&fact.value.first_gives(), &self.aliases.observe(id).await.value.first_gives()) =>
                {
                    // Nobody changed what was seen: something else is there, and stays.
                    return Err(Finding::alias(hostname, AliasCause::ConflictHidden));
                }
                changed => {
                    changed.map_err(|error| error.finding(Pin::Alias))?;
                    let written = self.context.clock.now();
                    self.written.lock().unwrap_or_else(PoisonError::into_inner).insert(id, written);
                    fact = self.aliases.observe(id).await;
                }
            }
            pins = self.hostnames.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
        }
        // The pin reports a server that does not answer; the others have the new records.
        let is_written = Known::about(&self.context.desired, &self.context.known(), id).is_alias_written();
        match pins.alias.state {
            PinState::Unknown if is_written => {
                self.confirm_alias(claim, id, &fact.value).await?;
                Ok(Progress::Done)
            }
            PinState::Held => {
                self.confirm_alias(claim, id, &fact.value).await?;
                Ok(Progress::Done)
            }
            // The server goes on to give another TTL than it was told: that is its own way.
            PinState::Loose if self.since_told(id, &fact.value, &sets) >= Some(TTL_TAKEN_WITHIN) => {
                self.confirm_alias(claim, id, &fact.value).await?;
                Ok(Progress::Done)
            }
            // What was just written is not on every server yet.
            PinState::Working | PinState::Loose => {
                let lagging: Vec<ServerRecords> = fact.value.lagging(&sets).cloned().collect();
                Ok(Progress::NotYet(Wait {
                    until: None,
                    topic: "transfer",
                    what: match lagging.is_empty() {
                        true => "the name servers to return the new TTL of the alias".into(),
                        false => format!("the alias to propagate to {}", lagging_in_words(&lagging)),
                    },
                    within: Some(self.context.bounds.patience),
                    finding: Finding::alias(hostname, AliasCause::StillLagging(lagging)),
                }))
            }
            PinState::Blocked | PinState::Unknown => {
                let first = pins.alias.findings.into_iter().next();
                Err(first.unwrap_or_else(|| Finding::alias(hostname, AliasCause::Unseen { server: None })))
            }
        }
    }

    /// Waits until somebody else has made the alias, and notes what they made.
    async fn await_alias(
        &self,
        id: HostnameId,
        view: &AliasView,
        sets: &[RecordSet],
        pin: &PinReport,
        claim: &Claim,
    ) -> Result<Progress, Finding> {
        let hostname = &self.context.desired.hostname(id).hostname;
        if pin.state == PinState::Held {
            let (made, now) = (view.first_gives(), self.context.clock.now());
            let own = self.context.ownership_of(HostnameRef::Wanted(id));
            if !own.wrote_alias(&made) {
                self.hostnames
                    .record_ownership(claim, id, |own| {
                        let before = own.alias.made.iter().flatten().map(RecordSet::ttl).max();
                        if let Some(ttl) = before {
                            own.replace_alias(ttl, false, now);
                            own.alias_gone(now);
                        }
                        own.adopt_alias(made.clone());
                    })
                    .await?;
            }
            return Ok(Progress::Done);
        }
        let lagging = || view.lagging(sets).cloned().collect::<Vec<ServerRecords>>();
        let finding = pin.findings.first().cloned();
        let finding = finding.unwrap_or_else(|| Finding::alias(hostname, AliasCause::Lagging(lagging())));
        if pin.state == PinState::Unknown {
            return Err(finding);
        }
        let what = match pin.state {
            PinState::Blocked => {
                format!("somebody else to point {hostname} at its endpoint (pindrel handoff {hostname})")
            }
            _ => format!("the alias to propagate to {}", lagging_in_words(view.lagging(sets))),
        };
        Ok(Progress::NotYet(Wait { until: None, topic: "handoff", what, within: None, finding }))
    }

    /// What was intended is there: from now on it is what was made. Caches start to forget
    /// what was there before once no server returns it any longer.
    pub(crate) async fn confirm_alias(&self, claim: &Claim, id: HostnameId, view: &AliasView) -> Result<(), Finding> {
        let (own, present) = (self.context.ownership_of(HostnameRef::Wanted(id)), view.first_gives());
        let is_everywhere = view.silent().is_none();
        let is_former_gone = is_everywhere && own.former_alias.is_some_and(|former| former.gone.is_none());
        if own.alias.intended.is_some() || is_former_gone {
            let now = self.context.clock.now();
            self.hostnames
                .record_ownership(claim, id, |own| {
                    own.confirm_alias(&present);
                    if is_everywhere {
                        own.alias_gone(now);
                    }
                })
                .await?;
        }
        Ok(())
    }

    /// How long ago this process wrote the records that are given now, whatever their TTL.
    fn since_told(&self, id: HostnameId, view: &AliasView, sets: &[RecordSet]) -> Option<SignedDuration> {
        let own = self.context.ownership_of(HostnameRef::Wanted(id));
        let is_own = own.alias.intended.as_deref() == Some(sets) && same_data(&view.first_gives(), sets);
        let written = self.alias_written(id).filter(|_| is_own)?;
        Some(self.context.clock.now().duration_since(written))
    }

    /// When the primary of its zone took the last change of an alias.
    pub(crate) fn alias_written(&self, id: HostnameId) -> Option<Timestamp> {
        self.written.lock().unwrap_or_else(PoisonError::into_inner).get(&id).copied()
    }
}
