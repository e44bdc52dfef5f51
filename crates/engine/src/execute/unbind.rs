//! Taking away what is no longer used: an alias, then, once caches have forgotten it, a binding.

use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::{EndpointId, ZoneId};
use pindrel_core::judging::facts::{
    AliasView, BindingView, Fact, FormerAlias, HostnameFacts, Ownership, RetiringId, ServerRecords, Written,
};
use pindrel_core::judging::findings::{AliasCause, BindingCause, Finding, LeftoverCause, lagging_in_words};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::Known;
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::moves::longest_ttl;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{NameChange, RecordSet, ZoneChange, in_words};
use pindrel_state::{Claim, HostnameRow};

use crate::context::Context;
use crate::context::progress::{Progress, Wait};
use crate::execute::asked_records::AskedRecords;
use crate::failure::state_failed;
use crate::home::hostnames::Hostnames;
use crate::observe::alias::AliasObserver;
use crate::observe::zone::ZoneObserver;

/// How long an old alias of which nothing is recorded is taken to be cached.
const UNRECORDED_TTL: Ttl = Ttl::TEN_MINUTES;
/// The same where no server gives one and Pindrel wrote none: only what somebody else had there, and deleted before
/// anybody looked, can be in a cache.
const UNSEEN_TTL: Ttl = Ttl::MINUTE;

/// The steps that take away what is wanted no longer, from the outside in.
pub(crate) struct Remover {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) asked_records: Arc<AskedRecords>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Remover {
    /// Deletes the alias records of a hostname that is taken away, on every server; those that somebody
    /// else made stay.
    pub(crate) async fn remove_alias(&self, id: RetiringId, claim: &Claim) -> Result<Progress, Finding> {
        let whose = HostnameRef::Retiring(id);
        let (hostname, zone) = {
            let known = self.context.known();
            let retiring = known.retiring(id);
            (retiring.hostname.clone(), retiring.zone)
        };
        let zone = zone.ok_or_else(|| Finding::leftover(&hostname, LeftoverCause::NoZone))?;
        let servers = self.zones.servers(zone);
        let owner = hostname.owner();
        let place = self.aliases.place(zone, &owner);
        let mut view = self.aliases.view(zone, &owner).await;
        let present = view.first_gives();
        let is_handed_off = self.context.desired.is_handed_off(zone);
        if self.context.ownership_of(whose).wrote_alias(&present) && !is_handed_off {
            let (replaced, now) = (longest_ttl(&view).unwrap_or(UNRECORDED_TTL), self.context.clock.now());
            self.hostnames.record_ownership_of(claim, whose, |own| own.replace_alias(replaced, false, now)).await?;
            let driver = self.context.drivers.zone(self.context.desired.zone(zone), &servers)?;
            let change = NameChange { owner: owner.clone(), expected: present.clone(), wanted: Vec::new(), place };
            let changed = driver.change(&ZoneChange::Replace(change)).await;
            changed.map_err(|error| error.finding(Pin::Alias))?;
            view = self.aliases.view(zone, &owner).await;
        }
        self.persist_retiring(id, |facts| {
            facts.alias = Some(Fact { seen: self.context.clock.now(), value: view.clone() })
        })
        .await?;
        if let Some((server, why)) = view.silent() {
            return Err(Finding::alias(&hostname, AliasCause::Unseen { server: Some((server, why.clone())) }));
        }
        let own = self.context.ownership_of(whose);
        let still = |server: &&ServerRecords| server.gives.as_ref().is_ok_and(|sets| own.wrote_alias(sets));
        if let Some(server) = view.servers.iter().find(still) {
            if is_handed_off {
                self.foresee_removal(whose, longest_ttl(&view).unwrap_or(UNRECORDED_TTL), claim).await?;
                return Ok(Progress::NotYet(self.wait_for_removal(&hostname, zone, &present)));
            }
            let lagging = lagging_in_words(view.lagging(&[]));
            let by = server.server;
            return Ok(Progress::NotYet(Wait {
                until: None,
                topic: "transfer",
                what: format!("the removal of the alias to propagate to {lagging}"),
                within: Some(self.context.bounds.patience),
                finding: Finding::alias(&hostname, AliasCause::StillReturned { by }),
            }));
        }
        let now = self.context.clock.now();
        self.hostnames
            .record_ownership_of(claim, whose, |own| {
                if own.former_alias.is_none() {
                    own.replace_alias(own.alias_ttl().unwrap_or(UNRECORDED_TTL), false, now);
                }
                own.alias_gone(now);
                own.alias = Written::default();
            })
            .await?;
        Ok(Progress::Done)
    }

    /// Takes away the binding of a hostname at an endpoint where clients are no longer led.
    pub(crate) async fn unbind(&self, whose: HostnameRef, at: EndpointId, claim: &Claim) -> Result<Progress, Finding> {
        let hostname = self.context.hostname_of(whose);
        let endpoint = self.context.desired.endpoint(at);
        let (key, name) = (endpoint.key(), &endpoint.name);
        let now = self.context.clock.now();
        if let Some(wait) = self.check_unled(whose, at, claim).await? {
            return Ok(Progress::NotYet(wait));
        }
        let own = self.context.ownership_of(whose);
        if own.former_alias.is_none_or(|former| former.gone.is_none()) {
            // What was before is not known, or was not seen to go: it counts from now.
            let ttl = match whose {
                HostnameRef::Wanted(id) => self.context.desired.hostname(id).ttl,
                HostnameRef::Retiring(_) => own.alias_ttl().unwrap_or(UNSEEN_TTL),
            };
            self.hostnames
                .record_ownership_of(claim, whose, |own| {
                    own.former_alias.get_or_insert(FormerAlias { ttl, gone: None, lowered: false });
                    own.alias_gone(now);
                })
                .await?;
        }
        let own = self.context.ownership_of(whose);
        if own.former_alias.and_then(|former| former.forgotten_at()).is_some_and(|until| now < until) {
            let until = forgotten_at(&own);
            let stays = Finding::binding(&hostname, name, BindingCause::BoundForCaches { until });
            return Ok(Progress::NotYet(wait_for_caches(until, stays)));
        }
        let platform = self.context.drivers.platform(endpoint)?;
        let present = platform.binding(&endpoint.id, &hostname).await.map_err(|error| error.finding())?;
        match present {
            None => {}
            Some(bound) if own.wrote_binding(&key, &bound.binding) => {
                // What used the copy in the store is gone: known before it is.
                if let Some(info) = self.context.endpoint_info(at) {
                    let (platform, site) = (endpoint.platform(), &info.certificate_site);
                    if let Some(sha256) = bound.binding.certificate {
                        let released = self.context.state.release_copy(&platform, site, sha256).await;
                        released.map_err(state_failed)?;
                    }
                }
                let deleted = platform.delete_binding(&endpoint.id, &hostname, &bound).await;
                deleted.map_err(|error| error.finding())?;
                if platform.binding(&endpoint.id, &hostname).await.map_err(|error| error.finding())?.is_some() {
                    return Err(Finding::binding(&hostname, name, BindingCause::NotRemoved));
                }
            }
            Some(_) => {
                self.context
                    .note(format!("the binding of {hostname} at {name} was changed by someone else, and stays"));
            }
        }
        self.asked_records.clear_asked_records(whose, &key, true, claim).await?;
        let absent = Fact { seen: self.context.clock.now(), value: BindingView::Absent };
        match whose {
            HostnameRef::Wanted(id) => {
                self.hostnames.record_ownership_of(claim, whose, |own| own.binding_gone(&key)).await?;
                self.hostnames.record_facts(id, |facts| drop(facts.bindings.insert(key.clone(), absent))).await?;
            }
            HostnameRef::Retiring(id) => {
                self.persist_retiring(id, |facts| drop(facts.bindings.insert(key.clone(), absent))).await?;
                self.hostnames.record_ownership_of(claim, whose, |own| own.binding_gone(&key)).await?;
            }
        }
        Ok(Progress::Done)
    }

    /// Makes sure that no server leads to what is about to be taken away: the world may have changed
    /// since that was planned. In a zone of somebody else's, returns what is waited for.
    async fn check_unled(&self, whose: HostnameRef, at: EndpointId, claim: &Claim) -> Result<Option<Wait>, Finding> {
        let endpoint = &self.context.desired.endpoint(at).name;
        let led = async |hostname: &Hostname, view: &AliasView, zone: ZoneId| {
            self.foresee_removal(whose, longest_ttl(view).unwrap_or(UNRECORDED_TTL), claim).await?;
            if self.context.desired.is_handed_off(zone) {
                return Ok(Some(self.wait_for_removal(hostname, zone, &view.first_gives())));
            }
            let records = in_words(&view.first_gives());
            Err(Finding::binding(hostname, endpoint, BindingCause::LeadsHere { records }))
        };
        match whose {
            HostnameRef::Wanted(id) => {
                let fact = self.aliases.observe(id).await;
                self.hostnames.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
                let here = Known::about(&self.context.desired, &self.context.known(), id).is_aliased_as_wanted();
                let wanted = self.context.desired.hostname(id);
                match fact.value.silent() {
                    _ if here => Ok(None),
                    // Clients that ask that one may still be led to what would be taken away.
                    Some((server, why)) => {
                        let unseen = BindingCause::LeadUnseen { server, why: why.clone() };
                        Err(Finding::binding(&wanted.hostname, endpoint, unseen))
                    }
                    None => led(&wanted.hostname, &fact.value, wanted.zone).await,
                }
            }
            HostnameRef::Retiring(id) => {
                let known = self.context.known().retiring(id).clone();
                let Some(zone) = known.zone else { return Ok(None) };
                let view = self.aliases.view(zone, &known.hostname.owner()).await;
                let Some(info) = self.context.endpoint_info(at) else { return Ok(None) };
                let bound = known.known.facts.bindings.get(&self.context.desired.endpoint(at).key());
                let target = bound.and_then(|fact| fact.value.reply()?.target.clone());
                let leads = |server: &ServerRecords| {
                    server.gives.as_ref().is_ok_and(|sets| info.is_led_to(sets, target.as_ref()))
                };
                if view.servers.iter().any(leads) { led(&known.hostname, &view, zone).await } else { Ok(None) }
            }
        }
    }

    /// Notes how long caches will keep what somebody else is about to delete: once it is gone, nobody can tell.
    async fn foresee_removal(&self, whose: HostnameRef, ttl: Ttl, claim: &Claim) -> Result<(), Finding> {
        let foreseen = |former: FormerAlias| former.gone.is_none() && former.ttl >= ttl;
        if self.context.ownership_of(whose).former_alias.is_some_and(foreseen) {
            return Ok(());
        }
        let now = self.context.clock.now();
        Ok(self.hostnames.record_ownership_of(claim, whose, |own| own.replace_alias(ttl, false, now)).await?)
    }

    /// What is waited for where somebody else is to delete an alias.
    fn wait_for_removal(&self, hostname: &Hostname, zone: ZoneId, present: &[RecordSet]) -> Wait {
        let (zone, present) = (&self.context.desired.zone(zone).name, in_words(present));
        let awaited = AliasCause::RemovalAwaited { zone: zone.clone(), present: present.clone() };
        Wait {
            until: None,
            topic: "handoff",
            what: format!("somebody else to delete {hostname} {present}"),
            within: None,
            finding: Finding::alias(hostname, awaited),
        }
    }

    /// Stores what was seen of a hostname that is taken away.
    async fn persist_retiring(&self, id: RetiringId, change: impl FnOnce(&mut HostnameFacts)) -> Result<(), Finding> {
        let row = {
            let mut known = self.context.known();
            let retiring = &mut known.retiring[id.0 as usize];
            change(&mut retiring.known.facts);
            HostnameRow {
                hostname: retiring.hostname.clone(),
                wanted: 0,
                held: false,
                seen_secs: 0,
                due_secs: 0,
                facts: retiring.known.facts.clone(),
                ownership: retiring.known.ownership.clone(),
            }
        };
        self.context.state.persist_hostnames(vec![row]).await.map_err(state_failed)
    }
}

/// When no cache returns what the alias was before, where that is known.
pub(crate) fn forgotten_at(own: &Ownership) -> Option<Timestamp> {
    own.former_alias.and_then(|former| former.forgotten_at())
}

/// The wait until no cache returns what the alias was before.
pub(crate) fn wait_for_caches(until: Option<Timestamp>, finding: Finding) -> Wait {
    Wait { until, topic: "caches", what: "caches to forget the old alias".into(), within: None, finding }
}
