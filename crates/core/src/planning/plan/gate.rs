//! Whether a piece of work may begin. A gate looks only at what its work touches, so that
//! one silent server stops nothing else.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::Work;
use crate::desired::{CertificateId, Desired, EndpointId, ZoneId};
use crate::judging::facts::{EndpointView, Knowledge, Origin, RetiringId};
use crate::judging::findings::{Code, EndpointCause, Finding, LeftoverCause};
use crate::judging::pin::PinState;
use crate::judging::pins::{Known, PinReport, Pins, judge_zone};

/// Whether a piece of work may begin.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Gate {
    /// It may.
    Go,
    /// Not now: something is down, or a peer has said when to come back. Each finding says
    /// when trying again helps.
    Until(Vec<Finding>),
    /// A person is needed first.
    Person(Vec<Finding>),
}

/// Says whether `work` may begin at `now`. `pins` are those of the hostname that it is for,
/// `certificate` is the judgement of the certificate that it is about.
pub fn gate(
    work: Work,
    desired: &Desired,
    knowledge: &Knowledge,
    pins: Option<&Pins>,
    certificate: Option<&PinReport>,
    now: Timestamp,
) -> Gate {
    match work {
        Work::Register(_) | Work::Deliver(_) | Work::Answer(_) => Gate::Go,
        Work::Mark(zone) => gate_of_zone(zone, desired, knowledge),
        Work::Rehearse(id) => gate_of_challenges(id, desired, knowledge, now),
        Work::Issue(id) => {
            if desired.certificate(id).terms.issued_by == Origin::Elsewhere {
                return Gate::Person(certificate.map_or_else(Vec::new, |report| report.findings.clone()));
            }
            let hold = knowledge.holds.get(&id).filter(|(until, _)| *until > now);
            match hold {
                Some((_, finding)) => Gate::Until(vec![finding.clone()]),
                None => gate_of_challenges(id, desired, knowledge, now),
            }
        }
        // What the platform of this hostname's endpoint does not allow stops the whole way to it.
        Work::Store(_, at) | Work::Bind(_, at) | Work::Connect(_, at) => match pins.map(|pins| pins.binding_at(at)) {
            Some(report) if report.is_in_force() => Gate::Go,
            Some(report) if report.state == PinState::Blocked => Gate::Person(report.findings.clone()),
            Some(report) if is_only_down(work, desired, knowledge, report) => Gate::Until(report.findings.clone()),
            Some(report) => outage(&report.findings),
            None => Gate::Go,
        },
        Work::Unbind(_, endpoint) => gate_of_platform(endpoint, desired, knowledge),
        Work::RemoveAlias(id) => gate_of_removal(id, desired, knowledge),
        Work::Alias(_) | Work::LowerTtl(_) | Work::RaiseTtl(_) => {
            let Some(pins) = pins else { return Gate::Go };
            let reports = [&pins.alias, &pins.zone];
            // What somebody else makes is waited for.
            let is_awaited = |finding: &&Finding| finding.code() == Code::AliasAwaited;
            let persons: Vec<Finding> = reports
                .iter()
                .filter(|report| report.state == PinState::Blocked)
                .flat_map(|report| report.findings.iter().filter(|finding| !is_awaited(finding)).cloned())
                .collect();
            if !persons.is_empty() {
                Gate::Person(persons)
            } else if is_changeable(work, desired, knowledge) {
                Gate::Go
            } else {
                outage(&reports.iter().flat_map(|report| report.findings.iter().cloned()).collect::<Vec<_>>())
            }
        }
    }
}

/// What is down is waited for by whoever checks it, and not in vain here.
fn is_only_down(work: Work, desired: &Desired, knowledge: &Knowledge, report: &PinReport) -> bool {
    let (Work::Bind(hostname, at) | Work::Connect(hostname, at)) = work else { return false };
    Known::about(desired, knowledge, hostname).at(at).is_only_down(report)
}

/// Says whether the server that takes changes of an alias answers: those that do not are behind, and hold nothing up.
fn is_changeable(work: Work, desired: &Desired, knowledge: &Knowledge) -> bool {
    let Work::Alias(id) = work else { return false };
    let known = Known::about(desired, knowledge, id);
    let is_first_serving = known.zone.is_some_and(|zone| zone.value.is_first_serving());
    is_first_serving && known.alias.is_some_and(|alias| alias.value.is_first_answering())
}

fn gate_of_platform(id: EndpointId, desired: &Desired, knowledge: &Knowledge) -> Gate {
    let Some(EndpointView::Unreachable { why, .. }) = knowledge.endpoints.get(&id).map(|fact| &fact.value) else {
        return Gate::Go;
    };
    let endpoint = desired.endpoint(id);
    Gate::Until(vec![Finding::endpoint(&endpoint.name, EndpointCause::unreachable(endpoint, why))])
}

fn gate_of_removal(id: RetiringId, desired: &Desired, knowledge: &Knowledge) -> Gate {
    let retiring = knowledge.retiring(id);
    let Some(zone) = retiring.zone else {
        return Gate::Person(vec![Finding::leftover(&retiring.hostname, LeftoverCause::NoZone)]);
    };
    gate_of_zone(zone, desired, knowledge)
}

fn gate_of_zone(zone: ZoneId, desired: &Desired, knowledge: &Knowledge) -> Gate {
    let Some(fact) = knowledge.zones.get(&zone) else { return Gate::Go };
    let report = judge_zone(desired.zone(zone), fact);
    if report.state == PinState::Blocked { Gate::Person(report.findings) } else { outage(&report.findings) }
}

fn outage(findings: &[Finding]) -> Gate {
    let down: Vec<Finding> = findings.iter().filter(|finding| finding.code().is_outage()).cloned().collect();
    if down.is_empty() { Gate::Go } else { Gate::Until(down) }
}

/// An authority asks every server of the zones where the challenges are: one that is down
/// or wrong fails the validation. Near the end of a certificate it is tried all the same, as long as the server
/// that takes changes is not the one that is down: most authorities ask another one.
fn gate_of_challenges(id: CertificateId, desired: &Desired, knowledge: &Knowledge, now: Timestamp) -> Gate {
    let wanted = desired.certificate(id);
    if wanted.authority.is_none() {
        return Gate::Go;
    }
    let zones: BTreeSet<ZoneId> = wanted
        .names
        .iter()
        .filter_map(|name| match knowledge.challenge_targets.get(&name.challenge_name()) {
            Some(target) => Some(target.zone),
            None => desired.zone_of(name),
        })
        .collect();
    let is_urgent = knowledge.certificate(id).is_some_and(|held| held.is_near_its_end(now));
    let (mut down, mut persons) = (Vec::new(), Vec::new());
    for zone in zones {
        let Some(fact) = knowledge.zones.get(&zone) else { continue };
        let report = judge_zone(desired.zone(zone), fact);
        match report.state {
            PinState::Blocked => persons.extend(report.findings),
            _ if is_urgent && fact.value.is_first_serving() => {}
            _ => down.extend(report.findings.into_iter().filter(|finding| finding.code() == Code::ServerUnreachable)),
        }
    }
    if !down.is_empty() {
        Gate::Until(down)
    } else if persons.is_empty() {
        Gate::Go
    } else {
        Gate::Person(persons)
    }
}
