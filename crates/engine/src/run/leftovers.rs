//! What Pindrel wrote for hostnames that the manifest no longer names, and that is still there.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::ZoneId;
use pindrel_core::judging::facts::{BindingView, Fact, HostnameFacts, HostnameKnowledge, Ownership, Retiring};
use pindrel_core::judging::findings::{AliasCause, Finding, LeftPart, LeftoverCause, MachineCause};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::moves::former_endpoints;
use pindrel_core::zones::records::in_words;
use pindrel_state::HostnameRow;

use crate::context::Context;
use crate::context::scope::{Aim, LeftoverScope, Scope};
use crate::events::{Event, LeftoverKind};
use crate::failure::{EngineError, state_failed};
use crate::observe::alias::AliasObserver;
use crate::observe::binding;
use crate::observe::endpoint::EndpointObserver;
use crate::observe::survey::{Surveyor, Unlisted};
use crate::observe::zone::ZoneObserver;

/// A hostname that the manifest no longer names, for which something is still there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// The hostname.
    pub hostname: Hostname,
    /// What is there; at least an alias or a binding, or what could not be looked at.
    pub what: Vec<LeftoverKind>,
    /// The same in a sentence, with what to do.
    pub finding: Finding,
}

impl From<Leftover> for Event {
    fn from(Leftover { hostname, what, finding }: Leftover) -> Event {
        Event::LeftOver { hostname, what, finding }
    }
}

fn named(unlisted: &[Unlisted]) -> Vec<Hostname> {
    unlisted.iter().filter_map(|one| one.hostname.parse().ok()).collect()
}

/// How many leftovers a run looks at, each with questions to every server of its zone.
const MOST_LOOKED_AT: usize = 200;

/// What is left over of hostnames that the manifest no longer names, and retiring it.
pub struct Retirer {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) endpoints: Arc<EndpointObserver>,
    pub(crate) surveyor: Arc<Surveyor>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Retirer {
    /// Returns what is left over of hostnames that the state knows and the manifest does not
    /// name. With `forget`, what is gone is forgotten; then the caller holds the lock of the
    /// state. Of very many, those are looked at that were not for the longest time; of the others, what was written is
    /// reported as still there.
    pub(crate) async fn leftovers(&self, unlisted: &[Unlisted], forget: bool) -> Result<Vec<Leftover>, EngineError> {
        let hostnames = named(unlisted);
        let mut owned = self.context.state.owned_among(&hostnames).await?;
        if forget {
            self.context.state.forget_unowned(&hostnames).await?;
        }
        if owned.len() > MOST_LOOKED_AT {
            let seen: HashMap<&str, i64> = unlisted.iter().map(|one| (one.hostname.as_str(), one.seen_secs)).collect();
            owned.sort_by_key(|(hostname, _)| seen.get(hostname.as_str()).copied());
        }
        let others = owned.split_off(owned.len().min(MOST_LOOKED_AT));
        let rows = self.rows(owned.into_iter().map(|(hostname, _)| hostname).collect()).await?;
        // Each zone once, however many hostnames lie in it.
        let zones: BTreeSet<ZoneId> = rows.iter().filter_map(|row| self.zone_to_ask(row)).collect();
        for zone in zones {
            self.zones.know(zone).await?;
        }
        let looks = stream::iter(rows)
            .map(async |row| self.leftover(row, forget).await)
            .buffered(self.context.bounds.at_once)
            .collect::<Vec<_>>();
        let mut found: Vec<Leftover> =
            looks.await.into_iter().filter_map(Result::transpose).collect::<Result<_, _>>()?;
        found.extend(self.as_written(others).await?);
        found.sort_by(|left, right| left.hostname.as_str().cmp(right.hostname.as_str()));
        Ok(found)
    }

    /// Returns what was written for hostnames that the manifest does not name, and not looked at again.
    pub(crate) async fn stored_leftovers(&self, unlisted: &[Unlisted]) -> Result<Vec<Leftover>, EngineError> {
        self.as_written(self.context.state.owned_among(&named(unlisted)).await?).await
    }

    /// What is left over of hostnames that are not looked at: whatever was written for them.
    async fn as_written(&self, owned: Vec<(Hostname, Ownership)>) -> Result<Vec<Leftover>, EngineError> {
        let mut found = Vec::new();
        for (hostname, ownership) in owned {
            found.extend(self.of_parts(&hostname, &ownership, &HostnameFacts::default()).await?);
        }
        Ok(found)
    }

    /// What is known of some hostnames, in their order.
    async fn rows(&self, hostnames: Vec<Hostname>) -> Result<Vec<HostnameRow>, EngineError> {
        let reads = stream::iter(hostnames).map(async |hostname| self.context.state.hostname(&hostname).await);
        let rows: Vec<_> = reads.buffered(self.context.bounds.at_once).collect().await;
        Ok(rows.into_iter().filter_map(Result::transpose).collect::<Result<_, _>>()?)
    }

    /// The hostnames that the state knows and the manifest does not name.
    pub(crate) async fn unlisted(&self) -> Result<Vec<Unlisted>, EngineError> {
        let listed: HashSet<&str> =
            self.context.desired.hostnames.iter().map(|wanted| wanted.hostname.as_str()).collect();
        let mut unlisted = Vec::new();
        self.surveyor
            .each_summary(|summary| {
                let is_listed = listed.contains(summary.hostname.as_str());
                unlisted.extend((!is_listed).then_some(Unlisted::from(summary)));
            })
            .await?;
        Ok(unlisted)
    }

    /// Loads what is known of the hostnames that are being taken away, looked at anew: those that the run
    /// is about, and those of which an earlier run began to.
    pub(crate) async fn load(&self, scope: &Scope, aim: Aim, unlisted: &[Unlisted]) -> Result<(), EngineError> {
        if aim == Aim::Rehearse {
            return Ok(());
        }
        let are_asked_for = matches!(scope.leftovers, LeftoverScope::Retire(_));
        let (mut endpoints, mut zones) = (BTreeSet::new(), BTreeSet::new());
        let mut owned = self.context.state.owned_among(&named(unlisted)).await?;
        owned.retain(|(_, ownership)| are_asked_for || ownership.retiring.is_some());
        let rows = self.rows(owned.into_iter().map(|(hostname, _)| hostname).collect()).await?;
        for row in &rows {
            endpoints.extend(row.ownership.bindings.keys().filter_map(|key| self.context.desired.endpoint_at(key)));
            zones.extend(self.context.desired.zone_of(&row.hostname));
        }
        if rows.is_empty() {
            return Ok(());
        }
        for zone in zones {
            self.zones.know(zone).await?;
        }
        self.endpoints.look_at(endpoints).await?;
        let looks = stream::iter(rows).map(async |mut row| {
            self.look_at_leftover(&mut row).await?;
            let zone = self.context.desired.zone_of(&row.hostname);
            let HostnameRow { hostname, facts, ownership, .. } = row;
            Ok::<_, EngineError>(Retiring { hostname, zone, known: HostnameKnowledge { facts, ownership } })
        });
        let retiring: Vec<_> = looks.buffered(self.context.bounds.at_once).collect().await;
        let retiring = retiring.into_iter().collect::<Result<Vec<_>, _>>()?;
        self.context.known().retiring = retiring;
        Ok(())
    }

    /// Returns which of the hostnames that the state knows and the manifest does not name have anything
    /// left; of those that are named, or of all.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn retirable(&self, names: Option<&[Hostname]>) -> Result<Vec<Leftover>, EngineError> {
        let mut unlisted = self.unlisted().await?;
        if let Some(names) = names {
            unlisted.retain(|known| names.iter().any(|name| name.as_str() == known.hostname));
        }
        self.leftovers(&unlisted, true).await
    }

    /// Returns which of some hostnames, for which Pindrel has made nothing, have an alias all the same, or may have
    /// one: a server that does not answer cannot be asked.
    ///
    /// # Errors
    /// [`EngineError`] when what was found of their zones cannot be written.
    pub async fn made_by_others(&self, names: &[Hostname]) -> Result<Vec<Leftover>, EngineError> {
        let zones: BTreeSet<ZoneId> = names.iter().filter_map(|name| self.context.desired.zone_of(name)).collect();
        for zone in zones {
            self.zones.know(zone).await?;
        }
        let looks = stream::iter(names).map(async |hostname| self.made_by_others_for(hostname).await);
        let found: Vec<_> = looks.buffered(self.context.bounds.at_once).collect().await;
        Ok(found.into_iter().flatten().collect())
    }

    async fn made_by_others_for(&self, hostname: &Hostname) -> Option<Leftover> {
        let zone = self.context.desired.zone_of(hostname)?;
        let (owner, apex) = (hostname.owner(), &self.context.desired.zone(zone).name);
        let view = self.aliases.view(zone, &owner).await;
        let gives = view.servers.iter().find_map(|server| {
            let sets = server.gives.as_ref().ok().filter(|sets| !sets.is_empty())?;
            Some((server.server, sets))
        });
        let finding = match (gives, view.silent()) {
            (Some((server, sets)), _) => {
                // What a wildcard gives is nobody's record of this name.
                if self.aliases.wildcard_beside(server, &owner, apex, sets).await.is_some() {
                    return None;
                }
                Finding::leftover(hostname, LeftoverCause::NotOurs { gives: in_words(sets) })
            }
            (None, Some((server, why))) => {
                Finding::alias(hostname, AliasCause::Unseen { server: Some((server, why.clone())) })
            }
            (None, None) => return None,
        };
        Some(Leftover { hostname: hostname.clone(), what: vec![LeftoverKind::Alias], finding })
    }

    /// Notes that hostnames are being taken away, so that each later run goes on with it.
    ///
    /// # Errors
    /// A [`Finding`] when the state cannot be written.
    pub async fn begin(&self, hostnames: &[Hostname]) -> Result<(), Finding> {
        for hostname in hostnames {
            if self.context.state.hostname(hostname).await.map_err(state_failed)?.is_none() {
                continue;
            }
            let now = self.context.clock.now();
            let retire = |own: &mut Ownership| {
                own.retiring.get_or_insert(now);
            };
            let key = format!("retire {hostname}");
            let record = self.context.claimed(&key, async |claim| {
                self.context.state.change_ownership(claim, hostname, &retire).await.map(drop).map_err(state_failed)
            });
            self.context.journalled("retire", hostname.as_str(), "begun", record).await?;
        }
        Ok(())
    }

    /// Forgets what Pindrel wrote for hostnames, wherever it may still be: a person has seen to it.
    ///
    /// # Errors
    /// A [`Finding`] when the state cannot be written.
    pub async fn forget(&self, hostnames: &[Hostname]) -> Result<(), Finding> {
        for hostname in hostnames {
            let forget = async {
                let listed = self.context.desired.hostnames.iter().find(|wanted| wanted.hostname == *hostname);
                let Some(wanted) = listed else {
                    let Some(row) = self.context.state.hostname(hostname).await.map_err(state_failed)? else {
                        return Ok(());
                    };
                    let is_forgotten = self.context.state.forget_hostname(hostname, &row.ownership).await;
                    return match is_forgotten.map_err(state_failed)? {
                        true => Ok(()),
                        false => Err(changed_meanwhile(hostname)),
                    };
                };
                // Of one that the manifest names, only what is at former endpoints is forgotten.
                let Some(row) = self.context.state.hostname(hostname).await.map_err(state_failed)? else {
                    return Ok(());
                };
                let former: Vec<_> = former_endpoints(&self.context.desired, wanted, &row.ownership).cloned().collect();
                let forget = |own: &mut Ownership| former.iter().for_each(|key| own.binding_gone(key));
                self.context
                    .claimed(&format!("retire {hostname}"), async |claim| {
                        self.context
                            .state
                            .change_ownership(claim, hostname, &forget)
                            .await
                            .map(drop)
                            .map_err(state_failed)
                    })
                    .await
            };
            self.context.journalled("retire", hostname.as_str(), "forgotten", forget).await?;
        }
        Ok(())
    }

    async fn leftover(&self, mut row: HostnameRow, forget: bool) -> Result<Option<Leftover>, EngineError> {
        let hostname = row.hostname.clone();
        if !row.ownership.is_empty() {
            self.look_at_leftover(&mut row).await?;
        }
        let found = self.of_parts(&hostname, &row.ownership, &row.facts).await?;
        if found.is_none() && forget {
            // What somebody else has written for it meanwhile stays.
            self.context.state.forget_hostname(&hostname, &row.ownership).await?;
        }
        Ok(found)
    }

    /// What is left over of a hostname, as far as is known of what was written for it.
    async fn of_parts(
        &self,
        hostname: &Hostname,
        ownership: &Ownership,
        facts: &HostnameFacts,
    ) -> Result<Option<Leftover>, EngineError> {
        let (mut what, mut parts) = (Vec::new(), Vec::new());
        if !ownership.alias.is_empty() {
            match facts.alias.as_ref().map(|fact| fact.value.servers.iter().map(|server| &server.gives)) {
                None => {
                    what.push(LeftoverKind::Alias);
                    parts.push(LeftPart::Alias { gives: None });
                }
                Some(mut gives) => {
                    let own = gives.find_map(|gives| match gives {
                        Ok(sets) if ownership.wrote_alias(sets) => Some(in_words(sets)),
                        Ok(_) => None,
                        Err(why) => Some(why.to_string()),
                    });
                    if own.is_some() {
                        what.push(LeftoverKind::Alias);
                        parts.push(LeftPart::Alias { gives: own });
                    }
                }
            }
        }
        for key in ownership.bindings.keys() {
            let endpoint = self.context.desired.endpoints.iter().find(|endpoint| endpoint.key() == *key);
            let name = endpoint.map_or_else(|| key.to_string(), |endpoint| endpoint.name.clone());
            let standing = match facts.bindings.get(key).map(|fact| &fact.value) {
                Some(BindingView::Absent | BindingView::Unmanaged { .. }) => continue,
                Some(BindingView::Present { binding, .. }) if !ownership.wrote_binding(key, binding) => continue,
                Some(BindingView::Present { binding, .. }) => Some(binding.certificate_in_words()),
                Some(BindingView::Unreachable { why }) => Some(why.to_string()),
                None => None,
            };
            what.push(LeftoverKind::Binding);
            parts.push(LeftPart::Binding { endpoint: name, is: standing });
        }
        if what.is_empty() {
            return Ok(None);
        }
        if self.has_leftover_certificate(hostname).await? {
            what.push(LeftoverKind::Certificate);
            parts.push(LeftPart::Certificate);
        }
        let retiring = ownership.retiring.is_some();
        let forgotten = ownership.former_alias.and_then(|former| former.forgotten_at());
        let until = forgotten.filter(|at| retiring && self.context.clock.now() < *at);
        let finding = Finding::leftover(hostname, LeftoverCause::StillThere { parts, retiring, until });
        Ok(Some(Leftover { hostname: hostname.clone(), what, finding }))
    }

    /// The zone where the alias of such a hostname is to be looked at again.
    fn zone_to_ask(&self, row: &HostnameRow) -> Option<ZoneId> {
        let now = self.context.clock.now();
        let is_fresh = row.facts.alias.as_ref().is_some_and(|fact| self.context.is_fresh(fact.seen.as_second(), now));
        if row.ownership.is_empty() || is_fresh { None } else { self.context.desired.zone_of(&row.hostname) }
    }

    /// Looks again at what is older than the age allowed, and stores it.
    async fn look_at_leftover(&self, row: &mut HostnameRow) -> Result<(), EngineError> {
        let now = self.context.clock.now();
        let mut changed = false;
        if let Some(zone) = self.zone_to_ask(row) {
            let value = self.aliases.view(zone, &row.hostname.owner()).await;
            row.facts.alias = Some(Fact { seen: self.context.clock.now(), value });
            changed = true;
        }
        for key in row.ownership.bindings.keys() {
            let Some(endpoint) = self.context.desired.endpoints.iter().find(|endpoint| endpoint.key() == *key) else {
                row.facts.bindings.remove(key);
                continue;
            };
            if row.facts.bindings.get(key).is_some_and(|fact| self.context.is_fresh(fact.seen.as_second(), now)) {
                continue;
            }
            // Its secret cannot be read: the command says so where it matters.
            let Ok(platform) = self.context.drivers.platform(endpoint) else { continue };
            let value = binding::managed(platform.as_ref(), &endpoint.id, &row.hostname).await;
            row.facts.bindings.insert(key.clone(), Fact { seen: self.context.clock.now(), value });
            changed = true;
        }
        if changed {
            (row.held, row.wanted) = (false, 0);
            self.context.state.persist_hostnames(vec![row.clone()]).await?;
        }
        Ok(())
    }

    /// Says whether a valid certificate is kept under the hostname's own name.
    async fn has_leftover_certificate(&self, hostname: &Hostname) -> Result<bool, EngineError> {
        let name = hostname.as_str();
        if self.context.desired.certificate_named(name).is_some() {
            return Ok(false);
        }
        let now = self.context.clock.now();
        let row = self.context.state.certificate(name).await?;
        Ok(row.is_some_and(|row| row.held.revoked.is_none() && now < row.held.not_after))
    }
}

fn changed_meanwhile(hostname: &Hostname) -> Finding {
    Finding::machine(MachineCause::ChangedElsewhere { hostname: hostname.clone() })
}
