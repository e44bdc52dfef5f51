//! From the health checks of a manifest to what is checked: names given, references followed, and each
//! hostname's endpoints under the check that judges them.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use super::resolve::{HostnameHealth, Resolver, reference};
use super::{CheckId, Desired, EndpointId, HostnameId, PlacedEndpoint, Placement, WantedHostname};
use crate::health::policy::Policy;
use crate::health::{CheckTerms, CheckTrust, Checked, Combination, HealthCheck, Host, HttpRequest, TlsListener};
use crate::manifest::{At, CheckedEntry, EndpointEntry, EndpointHealthEntry, HealthEntry, RequestEntry, Span};
use crate::names::name::Hostname;

impl Resolver<'_> {
    /// Adds all checks, and says of each hostname's endpoints which one judges it.
    pub(super) fn checks(
        &mut self,
        endpoints: &[EndpointEntry],
        named: Vec<HealthEntry>,
        hostnames: Vec<HostnameHealth>,
    ) {
        let mut named_ids: HashMap<String, CheckId> = HashMap::new();
        let of_endpoints = self.checks_of_endpoints(endpoints, &mut named_ids);
        let mut combinations: Vec<(CheckId, Vec<At<String>>)> = Vec::new();
        for HealthEntry { name, what, terms } in named {
            if named_ids.contains_key(&name.value) {
                let message =
                    format!("[health.{0}] has the name of [endpoint.{0}], which has a check of its own", name.value);
                self.problems.report("duplicate", name.span, message, "give it another name");
                continue;
            }
            let what = match what {
                CheckedEntry::Tcp(place) => Checked::Tcp(place),
                CheckedEntry::Dns { server, name } => Checked::Dns { server, name },
                CheckedEntry::Program(words) => Checked::Program(words),
                CheckedEntry::Url(request) => match self.request(request, None) {
                    Some(request) => Checked::Url(request),
                    None => continue,
                },
                CheckedEntry::Tls { place, name: sni, days_left, verify, roots } => {
                    let of_host = match &place.value.host {
                        Host::Name(name) => name.as_str().parse::<Hostname>().ok(),
                        Host::Address(_) => None,
                    };
                    let Some(name) = sni.map(|name| name.value).or(of_host) else {
                        let message = format!("[health.{}] does not say which name the certificate is for", name.value);
                        self.problems.report(
                            "missing-key",
                            place.span,
                            message,
                            "add: name = \"db.larkfield.example\"",
                        );
                        continue;
                    };
                    let trust = self.trust(&name, verify, roots.map(|path| path.value));
                    Checked::Tls(TlsListener { place: place.value, name, days_left, trust })
                }
                CheckedEntry::Combination { of, need } => {
                    combinations.push((CheckId(self.desired.checks.len() as u32), of));
                    Checked::Combination(Combination { of: Vec::new(), need })
                }
            };
            named_ids.insert(name.value.clone(), self.add_check(name.value, what, terms));
        }
        self.members(&named_ids, combinations);
        self.judge_hostnames(&of_endpoints, &named_ids, hostnames);
    }

    fn add_check(&mut self, name: String, what: Checked, terms: CheckTerms) -> CheckId {
        self.desired.checks.push(HealthCheck { name, what, terms });
        CheckId(self.desired.checks.len() as u32 - 1)
    }

    fn checks_of_endpoints(
        &mut self,
        endpoints: &[EndpointEntry],
        named_ids: &mut HashMap<String, CheckId>,
    ) -> HashMap<EndpointId, CheckId> {
        let mut at: HashMap<EndpointId, HostnameId> = HashMap::new();
        if endpoints.iter().any(|entry| entry.health.as_ref().is_some_and(|health| health.request.name.is_none())) {
            for id in self.desired.hostname_ids().filter(|id| self.desired.hostname(*id).redirect_to.is_none()) {
                for endpoint in self.desired.hostname(id).endpoints() {
                    at.entry(endpoint).or_insert(id);
                }
            }
        }
        let mut of_endpoints = HashMap::new();
        for (entry, endpoint) in endpoints.iter().zip((0..).map(EndpointId)) {
            let Some(EndpointHealthEntry { request, terms }) = entry.health.clone() else { continue };
            let bound = at.get(&endpoint).map(|id| self.desired.hostname(*id).clone());
            if request.name.is_none() && bound.is_none() {
                let message =
                    format!("no hostname is at [endpoint.{}] that its health check could ask for", entry.name.value);
                let help = "write the name in a url, or add a hostname at that endpoint";
                self.problems.report("missing-key", request.span, message, help);
                continue;
            }
            let Some(request) = self.request(request, bound.as_ref()) else { continue };
            let name = entry.name.value.clone();
            let id = self.add_check(name.clone(), Checked::Endpoint { endpoint, request }, terms);
            named_ids.insert(name, id);
            of_endpoints.insert(endpoint, id);
        }
        of_endpoints
    }

    /// A request, asking for `bound` where it names no hostname itself.
    fn request(&mut self, entry: RequestEntry, bound: Option<&WantedHostname>) -> Option<HttpRequest> {
        let asked_as = match (&entry.label, &bound) {
            (None, _) => bound.map(|wanted| wanted.probed_as.clone()),
            (Some(label), Some(wanted)) if wanted.hostname.is_wildcard() && entry.name.is_none() => {
                match wanted.hostname.probed_as(&label.value) {
                    Ok(name) => Some(name),
                    Err(_) => {
                        let message = format!("\"{}\" cannot replace the * in {}", label.value, wanted.hostname);
                        let help = "write one label of letters, digits and hyphens";
                        self.problems.report("bad-name", label.span.clone(), message, help);
                        return None;
                    }
                }
            }
            (Some(label), _) => {
                let message = "a label replaces the * of a wildcard, and the check asks for a whole name";
                self.problems.report("bad-value", label.span.clone(), message, "remove label");
                return None;
            }
        };
        let name = entry.name.map(|name| name.value).or(asked_as)?;
        let trust = self.trust(&name, entry.verify && entry.exchange.is_tls, entry.roots.map(|path| path.value));
        Some(HttpRequest { name, exchange: entry.exchange, trust })
    }

    /// Whom a check of a name trusts: the roots that are named, else the issuer of its certificate.
    fn trust(&self, name: &Hostname, verify: bool, roots: Option<std::path::PathBuf>) -> CheckTrust {
        if !verify {
            return CheckTrust::Anyone;
        }
        if roots.is_some() {
            return CheckTrust::Roots(roots);
        }
        let covering = self.desired.hostnames.iter().find(|wanted| wanted.hostname.covers(name));
        covering.map_or(CheckTrust::Roots(None), |wanted| CheckTrust::Issuer(wanted.certificate))
    }

    /// Follows the names in combinations.
    fn members(&mut self, named_ids: &HashMap<String, CheckId>, combinations: Vec<(CheckId, Vec<At<String>>)>) {
        let mut spans: BTreeMap<CheckId, Span> = BTreeMap::new();
        for (id, names) in combinations {
            let mut of = Vec::with_capacity(names.len());
            for name in &names {
                spans.entry(id).or_insert_with(|| name.span.clone());
                let Some(member) = self.check_reference(named_ids, name) else { continue };
                if of.contains(&member) {
                    let message = format!("the check \"{}\" is named twice", name.value);
                    self.problems.report("duplicate", name.span.clone(), message, "keep one of the two");
                } else {
                    of.push(member);
                }
            }
            if let Checked::Combination(combination) = &mut self.desired.checks[id.0 as usize].what {
                combination.of = of;
            }
        }
        for (id, span) in spans {
            if let Some(through) = loop_through(&self.desired, id) {
                let message = format!("the check \"{}\" is made of itself: {through}", self.desired.check(id).name);
                self.problems.report("loop", span, message, "take one of them out of the other's \"of\"");
                // Nothing may follow it round and round.
                if let Checked::Combination(combination) = &mut self.desired.checks[id.0 as usize].what {
                    combination.of.clear();
                }
            }
        }
    }

    fn check_reference(&mut self, named_ids: &HashMap<String, CheckId>, name: &At<String>) -> Option<CheckId> {
        if !named_ids.contains_key(&name.value) && self.endpoints.contains_key(&name.value) {
            let message = format!("[endpoint.{}] has no health check", name.value);
            let help = "add to it: health = \"https://queue.larkfield.example/ready\"";
            self.problems.report("unknown-reference", name.span.clone(), message, help);
            return None;
        }
        reference(named_ids, &self.mistaken, name, "health", self.problems)
    }

    /// Says which check judges each endpoint of each hostname.
    fn judge_hostnames(
        &mut self,
        of_endpoints: &HashMap<EndpointId, CheckId>,
        named_ids: &HashMap<String, CheckId>,
        hostnames: Vec<HostnameHealth>,
    ) {
        if self.desired.checks.is_empty() && hostnames.is_empty() {
            return;
        }
        let mut special: HashMap<HostnameId, HashMap<EndpointId, CheckId>> = HashMap::new();
        for HostnameHealth { ids, judged_by, health } in hostnames {
            let Some(first) = ids.first().copied() else { continue };
            let wanted = self.desired.hostname(first).clone();
            let mut own: HashMap<EndpointId, CheckId> = HashMap::new();
            if let Some(health) = health {
                let EndpointHealthEntry { request, terms } = *health;
                if let Some(name) = request.name.as_ref().filter(|name| !wanted.hostname.covers(&name.value)) {
                    let message = format!("the health check of {} asks for {}", wanted.hostname, name.value);
                    let help = "ask for the hostname itself, or write the check in the endpoint's table";
                    self.problems.report("bad-value", name.span.clone(), message, help);
                    continue;
                }
                let Some(request) = self.request(request, Some(&wanted)) else { continue };
                for endpoint in wanted.endpoints() {
                    let name = format!("{}/{}", wanted.hostname, self.desired.endpoint(endpoint).name);
                    let what = Checked::Endpoint { endpoint, request: request.clone() };
                    own.insert(endpoint, self.add_check(name, what, terms));
                }
            }
            if let Some(name) = judged_by {
                let Some(judge) = self.check_reference(named_ids, &name) else { continue };
                let judged = self.judged(&wanted.placement, judge);
                let all_alike = judged.len() == wanted.placement.members.len() && judged.len() > 1;
                if all_alike && wanted.placement.policy == Policy::Standby {
                    let message = format!(
                        "the check \"{}\" judges all endpoints of {} alike, so that none can stand in for another",
                        name.value, wanted.hostname
                    );
                    let help = "combine it from the check of the first endpoint and what that depends on";
                    self.problems.report("bad-value", name.span, message, help);
                }
                own.extend(judged.into_iter().map(|endpoint| (endpoint, judge)));
            }
            special.extend(ids.into_iter().map(|id| (id, own.clone())));
        }
        let mut singles: HashMap<EndpointId, Arc<Placement>> = HashMap::new();
        for n in 0..self.desired.hostnames.len() {
            let own = special.get(&HostnameId(n as u32));
            let wanted = &mut self.desired.hostnames[n];
            let check =
                |endpoint| own.and_then(|own| own.get(&endpoint)).or_else(|| of_endpoints.get(&endpoint)).copied();
            let judge = |member: &PlacedEndpoint| PlacedEndpoint { check: check(member.endpoint), ..*member };
            let members: Vec<PlacedEndpoint> = wanted.placement.members.iter().map(judge).collect();
            if members == wanted.placement.members {
                continue;
            }
            let placement = Placement { members, ..(*wanted.placement).clone() };
            // Hostnames at one endpoint share what is the same for all of them.
            wanted.placement = match (own, placement.policy) {
                (None, Policy::Single) => {
                    singles.entry(placement.members[0].endpoint).or_insert_with(|| Arc::new(placement)).clone()
                }
                _ => Arc::new(placement),
            };
        }
    }

    /// The endpoints of a placement that a check judges: those whose own check it is made of, else all.
    fn judged(&self, placement: &Placement, judge: CheckId) -> Vec<EndpointId> {
        let mut looked_at = BTreeSet::new();
        collect_endpoints(&self.desired, judge, &mut BTreeSet::new(), &mut looked_at);
        let all = placement.members.iter().map(|member| member.endpoint);
        let own: Vec<EndpointId> = all.clone().filter(|endpoint| looked_at.contains(endpoint)).collect();
        if own.is_empty() { all.collect() } else { own }
    }
}

fn collect_endpoints(
    desired: &Desired,
    id: CheckId,
    seen: &mut BTreeSet<CheckId>,
    endpoints: &mut BTreeSet<EndpointId>,
) {
    if !seen.insert(id) {
        return;
    }
    match &desired.check(id).what {
        Checked::Endpoint { endpoint, .. } => {
            endpoints.insert(*endpoint);
        }
        Checked::Combination(combination) => {
            combination.of.iter().for_each(|member| collect_endpoints(desired, *member, seen, endpoints));
        }
        _ => {}
    }
}

/// Returns the way from a combination back to itself, if there is one.
fn loop_through(desired: &Desired, start: CheckId) -> Option<String> {
    let mut seen = BTreeSet::new();
    let mut left = vec![vec![start]];
    while let Some(way) = left.pop() {
        let last = *way.last()?;
        for member in desired.check(last).combination().map_or(&[][..], |combination| &combination.of) {
            if *member == start {
                let names = way.iter().chain([member]).map(|id| desired.check(*id).name.as_str());
                return Some(names.collect::<Vec<_>>().join(" → "));
            }
            if seen.insert(*member) {
                left.push(way.iter().copied().chain([*member]).collect());
            }
        }
    }
    None
}
