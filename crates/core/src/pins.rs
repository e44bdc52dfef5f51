//! The five pins: judging facts against what is wanted.

use jiff::Timestamp;
use serde::Serialize;

mod alias;
mod answer;
mod binding;
mod certificate;
mod zone;

use crate::delivery::Undelivered;
use crate::desired::HostnameId;
use crate::desired::{Desired, WantedCertificate, WantedHostname};
use crate::endpoint::{Binding, EndpointInfo, IssuedCertificate};
use crate::facts::{
    AliasView, AnswerView, BindingView, EndpointView, Fact, HeldCertificate, HostnameKnowledge, Knowledge, Ownership,
    ZoneView,
};
use crate::findings::{Code, Finding};
use crate::moves;
use crate::name::DnsName;
use crate::records::RecordSet;
use crate::values::Fingerprint;

pub use crate::pin::{Pin, PinState};
pub use answer::differs_from_sample;
pub(crate) use binding::platform_unreachable;
pub use binding::{differences, foreign_remedy};

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
        let elsewhere = |finding: &Finding| finding.code == Code::FormerBinding;
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

/// All that is known about one hostname at its endpoint.
#[derive(Debug, Clone, Copy)]
pub struct Known<'k> {
    /// What should hold.
    pub desired: &'k Desired,
    /// What should hold for this hostname.
    pub wanted: &'k WantedHostname,
    /// What was seen of its zone.
    pub zone: Option<&'k Fact<ZoneView>>,
    /// What was seen of its endpoint.
    pub endpoint: Option<&'k Fact<EndpointView>>,
    /// The certificate that Pindrel holds for it.
    pub certificate: Option<&'k HeldCertificate>,
    /// What is still to be done for that certificate outside of Pindrel.
    pub undelivered: Option<&'k Undelivered>,
    /// What its endpoint knows of it.
    pub binding: Option<&'k Fact<BindingView>>,
    /// What its zone's servers give.
    pub alias: Option<&'k Fact<AliasView>>,
    /// What clients get.
    pub answer: Option<&'k Fact<AnswerView>>,
    /// What Pindrel wrote for it.
    pub ownership: Option<&'k Ownership>,
}

impl<'k> Known<'k> {
    /// Selects what is known about one hostname.
    pub fn about(desired: &'k Desired, knowledge: &'k Knowledge, id: HostnameId) -> Known<'k> {
        let wanted = desired.hostname(id);
        let own: Option<&HostnameKnowledge> = knowledge.hostnames.get(&id);
        let facts = own.map(|own| &own.facts);
        Known {
            desired,
            wanted,
            zone: knowledge.zones.get(&wanted.zone),
            endpoint: knowledge.endpoints.get(&wanted.endpoint),
            certificate: knowledge.certificate(wanted.certificate),
            undelivered: knowledge.undelivered.get(&wanted.certificate),
            binding: facts.and_then(|facts| facts.bindings.get(&desired.endpoint(wanted.endpoint).key())),
            alias: facts.and_then(|facts| facts.alias.as_ref()),
            answer: facts.and_then(|facts| facts.answer.as_ref()),
            ownership: own.map(|own| &own.ownership),
        }
    }

    /// Says whether Pindrel may change a binding that is there: it wrote it; or nothing is
    /// recorded of that hostname, as after a lost state, and what proves it to be the manifest's is
    /// that [every server leads to this endpoint](Known::is_aliased_here) and that it differs from
    /// what is wanted in its certificate alone.
    pub fn may_change(&self, binding: &Binding) -> bool {
        let key = self.desired.endpoint(self.wanted.endpoint).key();
        if self.ownership.is_some_and(|own| own.wrote_binding(&key, binding)) {
            return true;
        }
        let recorded = self.ownership.is_some_and(|own| !own.is_empty());
        !recorded && self.wanted.binding(self.desired, binding.certificate) == *binding && self.is_aliased_here()
    }

    /// Returns the binding that should be there; `None` as long as there is no certificate for it.
    pub fn wanted_binding(&self) -> Option<Binding> {
        if self.wanted.is_issued_by_platform(self.desired) {
            return Some(self.wanted.binding(self.desired, None));
        }
        self.certificate.map(|held| self.wanted.binding(self.desired, Some(held.sha256)))
    }

    /// Returns the certificate that clients should get now, as far as it is known.
    pub fn current_certificate(&self) -> Option<Fingerprint> {
        let issued = || self.issued().map(|issued| issued.sha256);
        self.certificate.map(|held| held.sha256).or_else(issued)
    }

    /// Returns the certificate that the platform has issued for it.
    pub fn issued(&self) -> Option<&'k IssuedCertificate> {
        self.binding?.value.reply()?.issued.as_ref()
    }

    /// Returns the name that its alias points at, where the platform gives it one of its own.
    pub fn target(&self) -> Option<&'k DnsName> {
        self.binding?.value.reply()?.target.as_ref()
    }

    /// Returns the alias records that should be there now: while the hostname moves, with a low TTL.
    pub fn wanted_alias(&self, endpoint: &EndpointInfo) -> Vec<RecordSet> {
        let ttl = moves::alias_ttl(self.desired, self.wanted, self.ownership);
        self.wanted.alias_for(self.desired, endpoint, self.target(), ttl)
    }

    /// Returns the alias records that the manifest wants, with their usual TTL.
    pub fn manifest_alias(&self, endpoint: &EndpointInfo) -> Vec<RecordSet> {
        self.wanted.alias_for(self.desired, endpoint, self.target(), self.wanted.ttl)
    }

    /// Says whether every server of the zone gives the alias that the manifest wants.
    pub fn is_aliased_here(&self) -> bool {
        let (Some(alias), Some(EndpointView::Listed(info))) = (self.alias, self.endpoint.map(|fact| &fact.value))
        else {
            return false;
        };
        let wanted = self.wanted_alias(info);
        !alias.value.servers.is_empty() && alias.value.lagging(&wanted).next().is_none()
    }

    fn judge_certificate(&self, now: Timestamp) -> PinReport {
        if self.wanted.is_issued_by_platform(self.desired) {
            return certificate::judge_issued(*self, now);
        }
        let wanted = self.desired.certificate(self.wanted.certificate);
        judge_certificate(self.desired, wanted, self.certificate, self.undelivered, now)
    }
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
pub fn judge_zone(zone: &crate::desired::Zone, view: &ZoneView) -> PinReport {
    zone::judge_view(zone, view)
}

/// The five judgements of one hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Pins {
    /// The zone is delegated and served.
    pub zone: PinReport,
    /// A valid certificate covers the name.
    pub certificate: PinReport,
    /// The endpoint knows the hostname.
    pub binding: PinReport,
    /// The alias record points at the endpoint.
    pub alias: PinReport,
    /// A client gets the expected answer.
    pub answer: PinReport,
}

impl Pins {
    /// Judges what is known at `now`.
    pub fn judge(known: Known<'_>, now: Timestamp) -> Pins {
        Pins {
            zone: zone::judge(known),
            certificate: known.judge_certificate(now),
            binding: binding::judge(known, now),
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

    /// Returns all judgements in their order.
    pub fn iter(&self) -> impl Iterator<Item = (Pin, &PinReport)> {
        Pin::ALL.into_iter().map(|pin| (pin, self.get(pin)))
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
