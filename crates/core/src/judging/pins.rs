//! The five pins: judging facts against what is wanted.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use jiff::Timestamp;
use serde::Serialize;

mod alias;
mod answer;
mod binding;
mod certificate;
mod zone;

use crate::certificates::delivery::Undelivered;
use crate::desired::{
    AliasTarget, CheckId, Desired, EndpointId, HostnameId, PlacedEndpoint, WantedCertificate, WantedHostname,
};
use crate::endpoints::endpoint::{Binding, Deployment, EndpointInfo, IssuedCertificate};
use crate::health::Verdict;
use crate::health::policy::{self, Choice, Given, Health, Member, Readiness, Rules};
use crate::judging::facts::{
    AliasView, AnswerView, BindingView, EndpointView, Fact, HeldCertificate, HostnameKnowledge, Knowledge, Ownership,
    ZoneView,
};
use crate::judging::findings::{Code, Finding};
use crate::names::name::DnsName;
use crate::planning::moves;
use crate::values::{Fingerprint, Ttl};
use crate::zones::records::{AliasPlace, RecordData, RecordSet, same_data};

pub use crate::judging::pin::{Pin, PinState};
pub use answer::differs_from_sample;
pub use binding::differences;

/// The judgement of one pin.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PinReport {
    /// How it holds.
    pub state: PinState,
    /// When the youngest fact behind it was seen.
    pub seen: Option<Timestamp>,
    /// What was seen, in a few words.
    pub detail: Option<String>,
    /// When the certificate expires.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expires: Option<Timestamp>,
    /// When the certificate is due.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub renew_at: Option<Timestamp>,
    /// The certificate's fingerprint.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<Fingerprint>,
    /// The HTTP status of the answer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// What is wrong.
    pub findings: Vec<Finding>,
}

impl PinReport {
    fn new(state: PinState, seen: Option<Timestamp>, detail: impl Into<String>) -> Self {
        PinReport {
            state,
            seen,
            detail: Some(detail.into()),
            expires: None,
            renew_at: None,
            sha256: None,
            status: None,
            findings: Vec::new(),
        }
    }

    /// Says whether a binding is in force where it is wanted, whatever is left of it elsewhere.
    pub fn is_in_force(&self) -> bool {
        let elsewhere = |finding: &Finding| finding.code() == Code::FormerBinding;
        self.state == PinState::Held || (!self.findings.is_empty() && self.findings.iter().all(elsewhere))
    }

    fn because(mut self, finding: Finding) -> Self {
        self.findings.push(finding);
        self
    }

    fn not_looked_at() -> Self {
        PinReport { detail: None, ..PinReport::new(PinState::Unknown, None, "") }
    }
}

/// All that is known about one hostname at one of its endpoints.
#[derive(Debug, Clone, Copy)]
pub struct Known<'k> {
    /// What should hold.
    pub desired: &'k Desired,
    /// All that is known.
    knowledge: &'k Knowledge,
    /// The hostname.
    id: HostnameId,
    /// The endpoint that this is about.
    pub at: EndpointId,
    /// What should hold for this hostname.
    pub wanted: &'k WantedHostname,
    /// What was seen of its zone.
    pub zone: Option<&'k Fact<ZoneView>>,
    /// What was seen of that endpoint.
    pub endpoint: Option<&'k Fact<EndpointView>>,
    /// The certificate that Pindrel holds for it.
    pub certificate: Option<&'k HeldCertificate>,
    /// What is still to be done for that certificate outside of Pindrel.
    pub undelivered: Option<&'k Undelivered>,
    /// What that endpoint knows of it.
    pub binding: Option<&'k Fact<BindingView>>,
    /// What its zone's servers give.
    pub alias: Option<&'k Fact<AliasView>>,
    /// What clients get.
    pub answer: Option<&'k Fact<AnswerView>>,
    /// What Pindrel wrote for it.
    pub ownership: Option<&'k Ownership>,
}

impl<'k> Known<'k> {
    /// Selects what is known about one hostname, at the endpoint that its alias should give first.
    pub fn about(desired: &'k Desired, knowledge: &'k Knowledge, id: HostnameId) -> Known<'k> {
        let wanted = desired.hostname(id);
        let own: Option<&HostnameKnowledge> = knowledge.hostnames.get(&id);
        let facts = own.map(|own| &own.facts);
        let known = Known {
            desired,
            knowledge,
            id,
            at: wanted.first_endpoint(),
            wanted,
            zone: knowledge.zones.get(&wanted.zone),
            endpoint: None,
            certificate: knowledge.certificate(wanted.certificate),
            undelivered: knowledge.undelivered.get(&wanted.certificate),
            binding: None,
            alias: facts.and_then(|facts| facts.alias.as_ref()),
            answer: facts.and_then(|facts| facts.answer.as_ref()),
            ownership: own.map(|own| &own.ownership),
        };
        known.at(known.given().first().copied().unwrap_or(known.at))
    }

    /// Selects what is known about it at one of its endpoints.
    pub fn at(self, endpoint: EndpointId) -> Known<'k> {
        let facts = self.knowledge.hostnames.get(&self.id).map(|own| &own.facts);
        Known {
            at: endpoint,
            endpoint: self.knowledge.endpoints.get(&endpoint),
            binding: facts.and_then(|facts| facts.bindings.get(&self.desired.endpoint(endpoint).key())),
            ..self
        }
    }

    /// Returns what is known about it at each of its endpoints.
    pub fn everywhere(self) -> impl Iterator<Item = Known<'k>> {
        self.wanted.endpoints().map(move |endpoint| self.at(endpoint))
    }

    /// Returns the endpoints that its alias should give, as was decided last.
    pub fn given(&self) -> Vec<EndpointId> {
        match self.knowledge.choices.get(&self.id) {
            Some(choice) => choice.give.clone(),
            None => self.wanted.placement.at_first(),
        }
    }

    /// Returns why its alias should give these, where that was decided.
    pub fn choice(&self) -> Option<&'k Choice> {
        self.knowledge.choices.get(&self.id)
    }

    /// Decides which endpoints its alias should give at `now`; `None` where there is nothing to choose from.
    pub fn decide(&self, now: Timestamp) -> Option<Choice> {
        let placement = &self.wanted.placement;
        if placement.members.len() < 2 {
            return None;
        }
        let members: Vec<Member> = placement.members.iter().map(|member| self.member(member, now)).collect();
        let since = self.ownership.and_then(|own| own.switched);
        let given = Given { endpoints: self.aliased_at(), since };
        // Caches keep the answer for as long as the longest TTL that a server gives it.
        let ttl = self.alias.and_then(|alias| moves::longest_ttl(&alias.value)).unwrap_or(self.wanted.ttl);
        let ttl = Duration::from_secs(u64::from(ttl.max(self.wanted.ttl).as_secs()));
        Some(policy::decide(
            Rules { policy: placement.policy, back_after: placement.back_after, ttl },
            &members,
            &given,
            now,
        ))
    }

    fn member(&self, member: &PlacedEndpoint, now: Timestamp) -> Member {
        let known = self.at(member.endpoint);
        let readiness = match binding::judge(known, now) {
            report if report.is_in_force() => Readiness::Ready,
            // A platform that does not answer has not stopped serving.
            report if report.state == PinState::Unknown && known.was_in_force() => Readiness::Ready,
            // One that is given another certificate serves the one before until then.
            report if known.is_being_changed(&report) => Readiness::Ready,
            report if report.state == PinState::Blocked => Readiness::Barred,
            _ => Readiness::Coming,
        };
        let record = member.check.map(|check| (self.desired.check(check), self.knowledge.verdicts.get(&check)));
        let health = match record {
            None => Health::Unwatched,
            Some((_, None)) => Health::Pending,
            Some((_, Some(record))) => match (record.verdict, record.since) {
                (Verdict::Up, since) => Health::Up(since.filter(|_| record.was_down).unwrap_or(Timestamp::MIN)),
                (Verdict::Down, _) => Health::Down,
                (Verdict::Unknown, _) if record.impossible().is_some() => Health::Unwatched,
                (Verdict::Unknown, _) => Health::Pending,
            },
        };
        let is_drained = self.knowledge.is_drained(member.endpoint, now);
        Member { endpoint: member.endpoint, health, readiness, is_drained }
    }

    /// Says whether the endpoint has been told of the hostname, whatever it serves.
    pub fn is_deployed(&self) -> bool {
        match self.binding.map(|fact| &fact.value) {
            Some(BindingView::Present { deployment, .. }) => *deployment == Deployment::Deployed,
            Some(BindingView::Unmanaged { .. }) => true,
            Some(BindingView::Unreachable { .. }) => self.was_in_force(),
            Some(BindingView::Absent) | None => false,
        }
    }

    /// Says whether a binding here lacks nothing but a server that answers: whoever checks it waits for that.
    pub fn is_only_down(&self, report: &PinReport) -> bool {
        let is_served = |finding: &Finding| {
            matches!(finding.code(), Code::ServedCertificateDiffers | Code::ServedAnswerDiffers | Code::OldTlsServed)
        };
        self.is_down() && self.is_deployed() && !report.findings.is_empty() && report.findings.iter().all(is_served)
    }

    /// Says whether the check that judges this endpoint has concluded that it is down, or that the address is
    /// which a direct connection failed at.
    fn is_down(&self) -> bool {
        let failed_at = match self.binding.map(|fact| &fact.value) {
            Some(BindingView::Present { served, .. } | BindingView::Unmanaged { served }) => served.failed_at(),
            _ => None,
        };
        self.check().is_some_and(|check| self.knowledge.verdict(check) == Verdict::Down)
            || failed_at.is_some_and(|address| self.dead_addresses().contains(&address.ip()))
    }

    /// Returns the check that judges this endpoint.
    fn check(&self) -> Option<CheckId> {
        self.wanted.placement.members.iter().find(|member| member.endpoint == self.at)?.check
    }

    /// Says whether the binding here was in force when its platform last answered.
    fn was_in_force(&self) -> bool {
        let Some(own) = self.ownership else { return false };
        own.bindings.get(&self.desired.endpoint(self.at).key()).is_some_and(|binding| binding.made.is_some())
    }

    /// Says whether the binding here was in force, and only waits to be changed for what is wanted now.
    fn is_being_changed(&self, report: &PinReport) -> bool {
        let is_change = |finding: &Finding| matches!(finding.code(), Code::BindingDiffers | Code::BindingDeploying);
        self.was_in_force() && !report.findings.is_empty() && report.findings.iter().all(is_change)
    }

    /// Returns the endpoints that the zone's first server leads to.
    pub fn aliased_at(&self) -> Vec<EndpointId> {
        match self.alias.and_then(|alias| alias.value.servers.first()).map(|first| &first.gives) {
            Some(Ok(sets)) => self.led_to_by(sets),
            // Where the server that takes changes does not say, what was written last is the best that is known.
            _ => self.written_to(),
        }
    }

    /// Returns the endpoints that the hostname is to leave, and that the zone's first server still leads to.
    pub fn still_aliased_at(&self) -> Vec<EndpointId> {
        let Some(Ok(sets)) = self.alias.and_then(|alias| alias.value.servers.first()).map(|first| &first.gives) else {
            return Vec::new();
        };
        let former =
            self.ownership.map_or_else(Vec::new, |own| moves::former_endpoint_ids(self.desired, self.wanted, own));
        led_to(former.into_iter().map(|at| self.at(at)), sets)
    }

    /// Returns the endpoints that the alias leads to which Pindrel wrote last, whatever stands there now.
    pub fn written_to(&self) -> Vec<EndpointId> {
        let written = self.ownership.and_then(|own| own.alias.made.as_deref());
        written.map_or_else(Vec::new, |sets| self.led_to_by(sets))
    }

    fn led_to_by(&self, sets: &[RecordSet]) -> Vec<EndpointId> {
        led_to(self.everywhere(), sets)
    }

    /// Says whether the alias leads to some of its endpoints, and should lead to others of them.
    pub fn is_switch(&self) -> bool {
        let now = self.aliased_at();
        !now.is_empty() && now != self.given()
    }

    /// Returns what is known of this endpoint.
    pub fn info(&self) -> Option<&'k EndpointInfo> {
        self.endpoint?.value.info()
    }

    /// Returns the addresses of this endpoint that an alias leaves out: those that do not work while others do;
    /// where none does, those that it has left out before, so that the last good answer stays.
    fn left_out(&self) -> Vec<IpAddr> {
        let mut dead = self.dead_addresses();
        if self.check().is_none_or(|check| self.knowledge.verdict(check) != Verdict::Up) {
            let first = self.alias.and_then(|alias| alias.value.servers.first()?.gives.as_ref().ok());
            let given = first.into_iter().flatten().flat_map(RecordSet::data).filter_map(RecordData::address);
            let given: Vec<IpAddr> = given.collect();
            dead.retain(|address| !given.is_empty() && !given.contains(address));
        }
        dead
    }

    /// Returns the addresses of this endpoint that do not work.
    fn dead_addresses(&self) -> Vec<IpAddr> {
        let record = self.check().and_then(|check| self.knowledge.verdicts.get(&check));
        let dead = record.into_iter().flat_map(|record| record.dead_addresses());
        dead.filter_map(|address| address.parse::<SocketAddr>().ok()).map(|address| address.ip()).collect()
    }

    /// Says whether Pindrel may change a binding that is there: it wrote it; or nothing is
    /// recorded of that hostname, as after a lost state, and what proves it to be the manifest's is
    /// that [every server gives the alias that the manifest wants](Known::is_aliased_as_wanted) and that it differs from
    /// what is wanted in its certificate alone.
    pub fn may_change(&self, binding: &Binding) -> bool {
        let key = self.desired.endpoint(self.at).key();
        if self.ownership.is_some_and(|own| own.wrote_binding(&key, binding)) {
            return true;
        }
        let recorded = self.ownership.is_some_and(|own| !own.is_empty());
        !recorded
            && self.wanted.binding(self.desired, self.at, binding.certificate) == *binding
            && self.is_aliased_as_wanted()
    }

    /// Returns the binding that should be there; `None` as long as there is no certificate for it.
    pub fn wanted_binding(&self) -> Option<Binding> {
        if self.wanted.is_issued_by_platform(self.desired) {
            return Some(self.wanted.binding(self.desired, self.at, None));
        }
        self.certificate.map(|held| self.wanted.binding(self.desired, self.at, Some(held.sha256)))
    }

    /// Returns the certificates that clients may get now, as far as they are known: one, unless several
    /// platforms issue their own.
    pub fn current_certificates(&self) -> Vec<Fingerprint> {
        match self.certificate {
            Some(held) => vec![held.sha256],
            None => self.everywhere().filter_map(|known| known.issued()).map(|issued| issued.sha256).collect(),
        }
    }

    /// Returns the certificate that the platform has issued for it.
    pub fn issued(&self) -> Option<&'k IssuedCertificate> {
        self.binding?.value.reply()?.issued.as_ref()
    }

    /// Returns the name that its alias points at, where the platform gives it one of its own.
    pub fn target(&self) -> Option<&'k DnsName> {
        self.binding?.value.reply()?.target.as_ref()
    }

    /// Returns the alias records that should be there now: while the hostname moves, with a low TTL. `None`
    /// where an endpoint that they lead to is not known.
    pub fn wanted_alias(&self) -> Option<Vec<RecordSet>> {
        self.alias_with(moves::alias_ttl(self.desired, self.wanted, self.ownership))
    }

    /// Returns the alias records that the manifest wants, with their usual TTL.
    pub fn manifest_alias(&self) -> Option<Vec<RecordSet>> {
        self.alias_with(self.wanted.ttl)
    }

    /// Returns where its alias stands; an HTTPS record that Pindrel made is looked at until it is gone.
    pub fn alias_place(&self) -> AliasPlace {
        if !self.wanted.is_apex(self.desired) {
            return AliasPlace::Name;
        }
        let has_https = self.ownership.is_some_and(|own| own.made_https());
        if self.wanted.https_alias || has_https { AliasPlace::ApexWithHttps } else { AliasPlace::Apex }
    }

    fn alias_with(&self, ttl: Ttl) -> Option<Vec<RecordSet>> {
        let given: Vec<(Known<'_>, Vec<IpAddr>)> =
            self.given().into_iter().map(|endpoint| self.at(endpoint)).map(|known| (known, known.left_out())).collect();
        let targets: Option<Vec<AliasTarget<'_>>> = given
            .iter()
            .map(|(known, dead)| Some(AliasTarget { info: known.info()?, target: known.target(), dead }))
            .collect();
        Some(self.wanted.alias_to(self.desired, &targets?, ttl))
    }

    /// Says whether every server of the zone gives the alias that the manifest wants.
    pub fn is_aliased_as_wanted(&self) -> bool {
        let Some((alias, wanted)) = self.alias.zip(self.wanted_alias()) else { return false };
        !alias.value.servers.is_empty() && alias.value.lagging(&wanted).next().is_none()
    }

    /// Says whether the server that takes changes gives the alias that the manifest wants, and so does each of the
    /// others that answers: nothing is left to be written. One that is silent may still give something else.
    pub fn is_alias_written(&self) -> bool {
        let Some((alias, wanted)) = self.alias.zip(self.wanted_alias()) else { return false };
        alias.value.is_first_answering() && alias.value.behind(&wanted).next().is_none()
    }

    /// Says whether something else than the alias that is wanted was written last, or is given by a server that answers. One
    /// that is silent says nothing.
    pub fn is_alias_behind(&self) -> bool {
        let Some(wanted) = self.wanted_alias() else { return false };
        let written = self.ownership.and_then(|own| own.alias.made.as_deref());
        written.is_none_or(|written| !same_data(written, &wanted))
            || self.alias.is_some_and(|alias| alias.value.behind(&wanted).next().is_some())
    }

    /// Says whether that alias leads to this endpoint.
    pub fn is_aliased_here(&self) -> bool {
        self.given().contains(&self.at) && self.is_aliased_as_wanted()
    }

    /// Judges its certificate at `now`, whoever issues it.
    pub fn judge_certificate(&self, now: Timestamp) -> PinReport {
        if self.wanted.is_issued_by_platform(self.desired) {
            return certificate::judge_issued(*self, now);
        }
        let wanted = self.desired.certificate(self.wanted.certificate);
        judge_certificate(self.desired, wanted, self.certificate, self.undelivered, now)
    }
}

/// The endpoints among some to which records lead.
fn led_to<'k>(among: impl Iterator<Item = Known<'k>>, sets: &[RecordSet]) -> Vec<EndpointId> {
    if sets.is_empty() {
        return Vec::new();
    }
    let is_led = |known: &Known<'_>| known.info().is_some_and(|info| info.is_led_to(sets, known.target()));
    among.filter(is_led).map(|known| known.at).collect()
}

/// Judges a certificate at `now`, whether or not a hostname uses it.
pub fn judge_certificate(
    desired: &Desired,
    wanted: &WantedCertificate,
    held: Option<&HeldCertificate>,
    undelivered: Option<&Undelivered>,
    now: Timestamp,
) -> PinReport {
    certificate::Judging { desired, wanted, held, undelivered }.judge(now)
}

/// Judges a zone as it was seen, whether or not a hostname lies in it.
pub fn judge_zone(zone: &crate::desired::Zone, fact: &Fact<ZoneView>) -> PinReport {
    zone::judge_fact(zone, fact)
}

/// Judges an endpoint as its platform lists it, whether or not a hostname is bound there.
pub fn judge_endpoint(endpoint: &crate::desired::Endpoint, view: &EndpointView) -> Option<Finding> {
    let report = binding::report_for_endpoint(endpoint, view);
    let found = report.and_then(|report| report.findings.into_iter().next());
    found.or_else(|| binding::name_leads_nowhere(endpoint, view))
}

/// Returns why a hostname cannot be bound at an endpoint, as far as its list says before anything is tried.
pub fn foresee_binding(known: Known<'_>) -> Option<Finding> {
    let report = binding::not_offered(known).or_else(|| binding::full(known));
    report.and_then(|report| report.findings.into_iter().next())
}

/// The five judgements of one hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Pins {
    /// The zone is delegated and served.
    pub zone: PinReport,
    /// A valid certificate covers the name.
    pub certificate: PinReport,
    /// Every endpoint knows the hostname.
    pub binding: PinReport,
    /// The same of each endpoint.
    #[serde(skip)]
    pub bindings: Vec<(EndpointId, PinReport)>,
    /// The alias record points at the endpoint.
    pub alias: PinReport,
    /// A client gets the expected answer.
    pub answer: PinReport,
}

impl Pins {
    /// Judges what is known at `now`.
    pub fn judge(known: Known<'_>, now: Timestamp) -> Pins {
        let bindings: Vec<(EndpointId, PinReport)> =
            known.everywhere().map(|known| (known.at, binding::judge(known, now))).collect();
        Pins {
            zone: zone::judge(known),
            certificate: known.judge_certificate(now),
            binding: binding::of_all(known.desired, &bindings),
            bindings,
            alias: alias::judge(known),
            answer: answer::judge(known),
        }
    }

    /// Returns one judgement.
    pub fn get(&self, pin: Pin) -> &PinReport {
        match pin {
            Pin::Zone => &self.zone,
            Pin::Certificate => &self.certificate,
            Pin::Binding => &self.binding,
            Pin::Alias => &self.alias,
            Pin::Answer => &self.answer,
        }
    }

    /// Returns the judgement of the binding at one endpoint.
    pub fn binding_at(&self, endpoint: EndpointId) -> &PinReport {
        self.bindings.iter().find(|(own, _)| *own == endpoint).map_or(&self.binding, |(_, report)| report)
    }

    /// Returns all judgements in their order.
    pub fn iter(&self) -> impl Iterator<Item = (Pin, &PinReport)> {
        Pin::ALL.into_iter().map(|pin| (pin, self.get(pin)))
    }

    /// Returns how each of them stands, in their order.
    pub fn states(&self) -> [(Pin, PinState); 5] {
        Pin::ALL.map(|pin| (pin, self.get(pin).state))
    }

    /// Says whether all five hold.
    pub fn held(&self) -> bool {
        self.iter().all(|(_, report)| report.state == PinState::Held)
    }

    /// Returns all findings, in the order of the pins.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.iter().flat_map(|(_, report)| &report.findings)
    }
}

#[cfg(test)]
mod tests;
