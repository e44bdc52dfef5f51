//! What Pindrel wrote for hostnames that the manifest no longer names, and that is still there.

use std::collections::{BTreeSet, HashSet};

use futures::StreamExt as _;
use futures::stream;
use pindrel_core::desired::ZoneId;
use pindrel_core::facts::{BindingView, Fact};
use pindrel_core::findings::{Code, Finding};
use pindrel_core::name::Hostname;
use pindrel_core::records::in_words;
use pindrel_state::HostnameRow;
use serde::Serialize;

use crate::failure::EngineError;
use crate::observe::binding;
use crate::run::Engine;

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

/// What can be left over of a hostname.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LeftoverKind {
    /// Its alias records.
    Alias,
    /// Its binding at an endpoint.
    Binding,
    /// Its certificate, valid still.
    Certificate,
}

impl LeftoverKind {
    /// Returns the word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            LeftoverKind::Alias => "alias",
            LeftoverKind::Binding => "binding",
            LeftoverKind::Certificate => "certificate",
        }
    }
}

impl Engine {
    /// Returns what is left over of hostnames that the state knows and the manifest does not
    /// name. With `forget`, what is gone is forgotten; then the caller holds the lock of the
    /// state.
    pub(crate) async fn leftovers(&self, unlisted: &[String], forget: bool) -> Result<Vec<Leftover>, EngineError> {
        let mut rows = Vec::new();
        for hostname in unlisted.iter().filter_map(|name| name.parse::<Hostname>().ok()) {
            rows.extend(self.state.hostname(&hostname).await?);
        }
        // Each zone once, however many hostnames lie in it.
        let zones: BTreeSet<ZoneId> = rows.iter().filter_map(|row| self.zone_to_ask(row)).collect();
        for zone in zones {
            self.know_zone(zone).await?;
        }
        let looks = stream::iter(rows)
            .map(async |row| self.leftover(row, forget).await)
            .buffered(self.bounds.at_once)
            .collect::<Vec<_>>();
        looks.await.into_iter().filter_map(Result::transpose).collect()
    }

    /// The hostnames that the state knows and the manifest does not name.
    pub(crate) async fn unlisted(&self) -> Result<Vec<String>, EngineError> {
        let listed: HashSet<&str> = self.desired.hostnames.iter().map(|wanted| wanted.hostname.as_str()).collect();
        let mut unlisted = Vec::new();
        self.each_summary(|summary| {
            let is_listed = listed.contains(summary.hostname.as_str());
            unlisted.extend((!is_listed).then_some(summary.hostname));
        })
        .await?;
        Ok(unlisted)
    }

    async fn leftover(&self, mut row: HostnameRow, forget: bool) -> Result<Option<Leftover>, EngineError> {
        let hostname = row.hostname.clone();
        if !row.ownership.is_empty() {
            self.look_at_leftover(&mut row).await?;
        }
        let (mut what, mut there, mut evidence) = (Vec::new(), Vec::new(), Vec::new());
        if !row.ownership.alias.is_empty() {
            match row.facts.alias.as_ref().map(|fact| fact.value.servers.iter().map(|server| &server.gives)) {
                None => {
                    what.push(LeftoverKind::Alias);
                    there.push("its alias".to_owned());
                    evidence.push("its zone is not in the manifest, so its alias cannot be looked up".to_owned());
                }
                Some(mut gives) => {
                    let own = gives.find_map(|gives| match gives {
                        Ok(sets) if row.ownership.wrote_alias(sets) => Some(in_words(sets)),
                        Ok(_) => None,
                        Err(why) => Some(why.to_string()),
                    });
                    if let Some(own) = own {
                        what.push(LeftoverKind::Alias);
                        there.push("its alias".to_owned());
                        evidence.push(format!("alias: {own}"));
                    }
                }
            }
        }
        for key in row.ownership.bindings.keys() {
            let endpoint = self.desired.endpoints.iter().find(|endpoint| endpoint.key() == *key);
            let name = endpoint.map_or_else(|| key.to_string(), |endpoint| endpoint.name.clone());
            let standing = match row.facts.bindings.get(key).map(|fact| &fact.value) {
                Some(BindingView::Absent | BindingView::Unmanaged { .. }) => continue,
                Some(BindingView::Present { binding, .. }) if !row.ownership.wrote_binding(key, binding) => continue,
                Some(BindingView::Present { binding, .. }) => format!("certificate {}…", binding.certificate.short()),
                Some(BindingView::Unreachable { why }) => why.to_string(),
                None => "its endpoint is not in the manifest, so it cannot be looked up".to_owned(),
            };
            what.push(LeftoverKind::Binding);
            there.push(format!("its binding at {name}"));
            evidence.push(format!("binding at {name}: {standing}"));
        }
        if what.is_empty() {
            if forget {
                self.state.forget_hostname(&hostname).await?;
            }
            return Ok(None);
        }
        if self.has_leftover_certificate(&hostname).await? {
            what.push(LeftoverKind::Certificate);
            there.push("its certificate".to_owned());
        }
        let are = if there.len() == 1 { "is" } else { "are" };
        let says = format!("{hostname} is no longer in the manifest, but {} {are} still there", listed(&there));
        let remedy = "Delete the alias first and, once its TTL has passed, the binding; or put the hostname back";
        Ok(Some(Leftover { hostname, what, finding: Finding::of(Code::LeftOver, says, remedy).seen(evidence) }))
    }

    /// The zone where the alias of such a hostname is to be looked at again.
    fn zone_to_ask(&self, row: &HostnameRow) -> Option<ZoneId> {
        let now = self.clock.now();
        let is_fresh = row.facts.alias.as_ref().is_some_and(|fact| self.is_fresh(fact.seen.as_second(), now));
        if row.ownership.is_empty() || is_fresh { None } else { self.desired.zone_of(&row.hostname) }
    }

    /// Looks again at what is older than the age allowed, and stores it.
    async fn look_at_leftover(&self, row: &mut HostnameRow) -> Result<(), EngineError> {
        let now = self.clock.now();
        let mut changed = false;
        if let Some(zone) = self.zone_to_ask(row) {
            let owner = row.hostname.owner();
            let at_apex = self.desired.zone(zone).name == owner;
            let value = self.drivers.lookups().alias(&self.zone_servers(zone), &owner, at_apex).await;
            row.facts.alias = Some(Fact { seen: self.clock.now(), value });
            changed = true;
        }
        for key in row.ownership.bindings.keys() {
            let Some(endpoint) = self.desired.endpoints.iter().find(|endpoint| endpoint.key() == *key) else {
                row.facts.bindings.remove(key);
                continue;
            };
            if row.facts.bindings.get(key).is_some_and(|fact| self.is_fresh(fact.seen.as_second(), now)) {
                continue;
            }
            // Its secret cannot be read: the command says so where it matters.
            let Ok(platform) = self.drivers.platform(endpoint) else { continue };
            let value = binding::managed(platform.as_ref(), &endpoint.id, &row.hostname).await;
            row.facts.bindings.insert(key.clone(), Fact { seen: self.clock.now(), value });
            changed = true;
        }
        if changed {
            (row.held, row.wanted) = (false, 0);
            self.state.persist_hostnames(vec![row.clone()]).await?;
        }
        Ok(())
    }

    /// Says whether a valid certificate is kept under the hostname's own name.
    async fn has_leftover_certificate(&self, hostname: &Hostname) -> Result<bool, EngineError> {
        let name = hostname.as_str();
        if self.desired.certificate_named(name).is_some() {
            return Ok(false);
        }
        let now = self.clock.now();
        let row = self.state.certificate(name).await?;
        Ok(row.is_some_and(|row| row.held.revoked.is_none() && now < row.held.not_after))
    }
}

fn listed(parts: &[String]) -> String {
    match parts {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}
