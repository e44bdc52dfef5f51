//! Pointing the alias record at the endpoint, on every server.

use std::sync::PoisonError;

use pindrel_core::desired::HostnameId;
use pindrel_core::judging::facts::AliasView;
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::{Known, PinReport, PinState};
use pindrel_core::planning::moves::longest_ttl;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::zones::records::{NameChange, RecordSet, ZoneChange, in_words, same_data};
use pindrel_dns::ZoneError;
use pindrel_state::Claim;

use super::{Progress, Wait};
use crate::failure::internal;
use crate::run::Engine;

impl Engine {
    pub(super) async fn alias(&self, id: HostnameId, claim: &Claim) -> Result<Progress, Finding> {
        let wanted = self.desired.hostname(id);
        let hostname = &wanted.hostname;
        let mut fact = self.observe_alias(id).await;
        let mut pins = self.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
        let sets = Known::about(&self.desired, &self.known(), id).wanted_alias();
        let sets = sets.ok_or_else(|| internal(format!("no target of {hostname} is known")))?;
        if self.desired.is_handed_off(wanted.zone) {
            return self.await_alias(id, &fact.value, &sets, &pins.alias, claim).await;
        }
        if pins.alias.state == PinState::Loose {
            let servers = self.zone_servers(wanted.zone);
            let driver = self.drivers.zone(self.desired.zone(wanted.zone), &servers)?;
            let change = NameChange {
                owner: hostname.owner(),
                // What a wildcard gives is not there: the name must not be in use.
                expected: if fact.value.wildcard.is_some() { Vec::new() } else { first_gives(&fact.value) },
                wanted: sets.clone(),
                place: self.alias_place(wanted.zone, &hostname.owner()),
            };
            let (present, replaced, now) = (first_gives(&fact.value), longest_ttl(&fact.value), self.clock.now());
            let is_switch = Known::about(&self.desired, &self.known(), id).is_switch();
            self.record_ownership(claim, id, |own| {
                own.intend_alias(&present, sets.clone());
                if is_switch {
                    own.switched = Some(now);
                }
                // It is wanted, whatever was begun before.
                own.retiring = None;
                if let Some(ttl) = replaced {
                    own.replace_alias(ttl, false, now);
                }
            })
            .await?;
            let changed = driver.change(&ZoneChange::Replace(change)).await;
            match changed {
                // It has the same records as the wildcard, of its own.
                Err(ZoneError::Changed { .. }) if fact.value.wildcard.is_some() => fact.value.wildcard = None,
                Err(ZoneError::Changed { .. })
                    if same_data(&first_gives(&fact.value), &first_gives(&self.observe_alias(id).await.value)) =>
                {
                    // Nobody changed what was seen: something else is there, and stays.
                    let says = format!(
                        "{hostname} has records of a type that cannot stand beside an alias, and that Pindrel does not look for"
                    );
                    let remedy = format!("Find them with: dig {hostname} ANY; delete them, or let the name be");
                    return Err(Finding::of(Code::AliasConflict, says, remedy));
                }
                changed => {
                    changed.map_err(|error| error.finding(Pin::Alias))?;
                    let written = self.clock.now();
                    self.aliases_written.lock().unwrap_or_else(PoisonError::into_inner).insert(id, written);
                    fact = self.observe_alias(id).await;
                }
            }
            pins = self.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
        }
        // The pin reports a server that does not answer; the others have the new records.
        let is_written = Known::about(&self.desired, &self.known(), id).is_alias_written();
        match pins.alias.state {
            PinState::Unknown if is_written => {
                self.confirm_alias(claim, id, &fact.value).await?;
                Ok(Progress::Done)
            }
            PinState::Held => {
                self.confirm_alias(claim, id, &fact.value).await?;
                Ok(Progress::Done)
            }
            // What was just written is not on every server yet.
            PinState::Working | PinState::Loose => {
                let lagging = lagging(&fact.value, &sets);
                let says = format!("the alias of {hostname} has still not propagated to {}", lagging.join(" and "));
                let remedy = "Check why that server does not transfer the zone";
                Ok(Progress::NotYet(Wait {
                    until: None,
                    topic: "transfer",
                    what: format!("the alias to propagate to {}", lagging.join(" and ")),
                    within: Some(self.bounds.patience),
                    finding: Finding::of(Code::AliasLagging, says, remedy),
                }))
            }
            PinState::Blocked | PinState::Unknown => Err(pins.alias.findings.into_iter().next().unwrap_or_else(|| {
                let says = format!("the records of {hostname} cannot be looked up");
                Finding::new(Code::ServerUnreachable, Pin::Alias, says, "Make sure that the zone's servers answer")
            })),
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
        let hostname = &self.desired.hostname(id).hostname;
        if pin.state == PinState::Held {
            let (made, now) = (first_gives(view), self.clock.now());
            let own = self.ownership_of(HostnameRef::Wanted(id));
            if !own.wrote_alias(&made) {
                self.record_ownership(claim, id, |own| {
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
        let finding = pin.findings.first().cloned().unwrap_or_else(|| {
            let says = format!("the alias of {hostname} has not propagated to every server yet");
            Finding::of(Code::AliasLagging, says, "Wait until the zone is transferred")
        });
        if pin.state == PinState::Unknown {
            return Err(finding);
        }
        let what = match pin.state {
            PinState::Blocked => {
                format!("somebody else to point {hostname} at its endpoint (pindrel handoff {hostname})")
            }
            _ => format!("the alias to propagate to {}", lagging(view, sets).join(" and ")),
        };
        Ok(Progress::NotYet(Wait { until: None, topic: "handoff", what, within: None, finding }))
    }

    /// What was intended is there: from now on it is what was made. Caches start to forget
    /// what was there before once no server returns it any longer.
    pub(super) async fn confirm_alias(&self, claim: &Claim, id: HostnameId, view: &AliasView) -> Result<(), Finding> {
        let (own, present) = (self.ownership_of(HostnameRef::Wanted(id)), first_gives(view));
        let is_everywhere = view.silent().is_none();
        let is_former_gone = is_everywhere && own.former_alias.is_some_and(|former| former.gone.is_none());
        if own.alias.intended.is_some() || is_former_gone {
            let now = self.clock.now();
            self.record_ownership(claim, id, |own| {
                own.confirm_alias(&present);
                if is_everywhere {
                    own.alias_gone(now);
                }
            })
            .await?;
        }
        Ok(())
    }
}

pub(super) fn first_gives(view: &AliasView) -> Vec<RecordSet> {
    view.servers.first().and_then(|server| server.gives.clone().ok()).unwrap_or_default()
}

/// The servers that do not give these sets, with what they give.
pub(super) fn lagging(view: &AliasView, sets: &[RecordSet]) -> Vec<String> {
    let lags = view.lagging(sets).map(|server| match &server.gives {
        Ok(gives) => format!("{} (it returns {})", server.server, in_words(gives)),
        Err(why) => format!("{} ({why})", server.server),
    });
    lags.collect()
}
