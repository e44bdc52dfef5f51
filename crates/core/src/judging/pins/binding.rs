//! `binding`: the endpoint knows the hostname, with that certificate and those routes,
//! is done deploying, and serves that certificate on a direct connection.

use jiff::Timestamp;

use super::answer::sample_difference;
use super::{Known, PinReport, PinState};
use crate::desired::{Desired, Endpoint, EndpointId};
use crate::endpoints::endpoint::{AskedRecord, Binding, Deployment, KeepRecord, NameLeads, TlsVersion};
use crate::judging::facts::{BindingView, EndpointView, ServedView};
use crate::judging::findings::{BindingCause, DefaultNameAnswer, EndpointCause, Finding, Sample, SampleDifference};
use crate::planning::moves;
use crate::values::Fingerprint;

/// What the bindings at several endpoints come to: the one that is furthest from being held speaks for all.
pub(super) fn of_all(desired: &Desired, bindings: &[(EndpointId, PinReport)]) -> PinReport {
    let far = |report: &PinReport| match report.state {
        PinState::Held => 0,
        PinState::Unknown => 1,
        PinState::Working => 2,
        PinState::Loose => 3,
        PinState::Blocked => 4,
    };
    let Some((worst, report)) = bindings.iter().rev().max_by_key(|(_, report)| far(report)) else {
        return PinReport::not_looked_at();
    };
    if bindings.len() == 1 {
        return report.clone();
    }
    let detail = match report.state {
        PinState::Held => Some(format!("at {} endpoints", bindings.len())),
        _ => report.detail.as_ref().map(|detail| format!("{}: {detail}", desired.endpoint(*worst).name)),
    };
    // What all of them have in common is told once.
    let mut findings: Vec<Finding> = Vec::new();
    for finding in bindings.iter().flat_map(|(_, report)| &report.findings) {
        if !findings.contains(finding) {
            findings.push(finding.clone());
        }
    }
    let seen = bindings.iter().filter_map(|(_, report)| report.seen).min();
    PinReport { detail, findings, seen, ..report.clone() }
}

pub(super) fn judge(known: Known<'_>, now: Timestamp) -> PinReport {
    let report = judge_left_records(known, judge_wanted(known));
    if report.state == PinState::Held && known.is_aliased_as_wanted() {
        judge_former(known, report, now)
    } else {
        report
    }
}

/// A record that was needed until the binding was deployed is taken away then; a run may have been stopped
/// before.
fn judge_left_records(known: Known<'_>, report: PinReport) -> PinReport {
    let endpoint = known.desired.endpoint(known.at);
    let made = known.ownership.and_then(|own| own.records.get(&endpoint.key()));
    let left = made.and_then(|made| made.iter().find(|record| record.keep == KeepRecord::UntilDeployed));
    let Some(record) = left.filter(|_| report.state == PinState::Held) else { return report };
    let finding = finding(known, BindingCause::RecordLeft { name: record.name.clone() });
    PinReport { state: PinState::Loose, detail: Some("a record is left".into()), ..report }.because(finding)
}

/// A hostname that has moved is held once it is no longer bound where it was.
fn judge_former(known: Known<'_>, held: PinReport, now: Timestamp) -> PinReport {
    let Some(ownership) = known.ownership else { return held };
    let Some(key) = moves::former_endpoints(known.desired, known.wanted, ownership).next() else { return held };
    let Some(id) = known.desired.endpoint_at(key) else {
        let finding = finding(known, BindingCause::FormerGone { at: key.clone() });
        return PinReport { state: PinState::Blocked, ..held }.because(finding);
    };
    let former = |until| finding(known.at(id), BindingCause::Former { until });
    match ownership.former_alias.and_then(|former| former.forgotten_at()) {
        Some(until) if now < until => {
            let detail = Some("moved, still bound elsewhere".into());
            PinReport { state: PinState::Working, detail, ..held }.because(former(Some(until)))
        }
        _ => {
            let detail = Some("still bound elsewhere".into());
            PinReport { state: PinState::Loose, detail, ..held }.because(former(None))
        }
    }
}

fn judge_wanted(known: Known<'_>) -> PinReport {
    let Some(endpoint) = known.endpoint else { return PinReport::not_looked_at() };
    if let Some(mut report) = report_for_endpoint(known.desired.endpoint(known.at), &endpoint.value) {
        report.seen = Some(endpoint.seen);
        return report;
    }
    if let Some(mut report) = leads_nowhere(known) {
        report.seen = Some(endpoint.seen);
        return report;
    }
    let Some(fact) = known.binding else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

/// What is wrong with a hostname at the endpoint that is looked at.
fn finding(known: Known<'_>, cause: BindingCause) -> Finding {
    Finding::binding(&known.wanted.hostname, &known.desired.endpoint(known.at).name, cause)
}

fn report(known: Known<'_>, state: PinState, detail: &str, cause: BindingCause) -> PinReport {
    PinReport::new(state, None, detail).because(finding(known, cause))
}

pub(super) fn report_for_endpoint(endpoint: &Endpoint, view: &EndpointView) -> Option<PinReport> {
    let (state, detail, cause) = match view {
        EndpointView::Listed(info) if info.custom_hostnames.allowed => return None,
        EndpointView::Listed(info) => {
            let reason = info.custom_hostnames.reason.clone();
            (PinState::Blocked, "not allowed", EndpointCause::CustomHostnamesRefused { reason })
        }
        EndpointView::NotListed { known } => {
            let (platform, id, known) = (endpoint.platform(), endpoint.id.clone(), known.clone());
            (PinState::Blocked, "no such endpoint", EndpointCause::NotListed { platform, id, known })
        }
        EndpointView::Refused { status, detail } => {
            let (platform, said, token) = (endpoint.platform(), detail.clone(), (&endpoint.driver).into());
            let refused = EndpointCause::TokenRefused { platform, status: *status, said, token };
            (PinState::Unknown, "token refused", refused)
        }
        EndpointView::Unreachable { why, .. } => {
            (PinState::Unknown, "platform unreachable", EndpointCause::unreachable(endpoint, why))
        }
    };
    Some(PinReport::new(state, None, detail).because(Finding::endpoint(&endpoint.name, cause)))
}

fn judge_view(known: Known<'_>, view: &BindingView) -> PinReport {
    match view {
        BindingView::Absent => not_offered(known)
            .or_else(|| full(known))
            .unwrap_or_else(|| report(known, PinState::Loose, "none yet", BindingCause::Missing)),
        BindingView::Unreachable { why } => {
            report(known, PinState::Unknown, "platform unreachable", BindingCause::Unseen { why: why.clone() })
        }
        BindingView::Unmanaged { served } => judge_unmanaged(known, served),
        BindingView::Present { binding, deployment, lacking, served, .. } => {
            judge_present(known, binding, deployment, lacking, served)
        }
    }
}

/// An alias that points at a name without an address leads nobody anywhere.
fn leads_nowhere(known: Known<'_>) -> Option<PinReport> {
    let endpoint = known.desired.endpoint(known.at);
    let finding = name_leads_nowhere(endpoint, &known.endpoint?.value);
    let finding = finding.filter(|_| known.wanted.points_at_name(known.desired))?;
    Some(PinReport::new(PinState::Blocked, None, "its name leads nowhere").because(finding))
}

/// The default name of an endpoint, where that has no address.
pub(super) fn name_leads_nowhere(endpoint: &Endpoint, view: &EndpointView) -> Option<Finding> {
    let EndpointView::Listed(info) = view else { return None };
    let (Some(NameLeads::Nowhere { exists }), Some(name)) = (&info.leads, &info.default_name) else { return None };
    let cause = EndpointCause::NameLeadsNowhere { name: name.clone(), exists: *exists };
    (!info.own_targets).then(|| Finding::endpoint(&endpoint.name, cause))
}

/// What clients reach by the name that the alias points at is not what was listed, and serves something else.
fn led_elsewhere(known: Known<'_>, served: &ServedView) -> Option<PinReport> {
    let (ServedView::Failed { address: Some(address), why }, Some(info)) = (served, known.info()) else { return None };
    let name = info.default_name.as_ref().filter(|_| info.led_beside().any(|led| led == address.ip()))?;
    let cause = BindingCause::NameLeadsElsewhere { name: name.clone(), address: *address, why: why.clone() };
    Some(report(known, PinState::Loose, "its name leads elsewhere", cause))
}

/// What an endpoint cannot do is known before a certificate is ordered for it.
pub(super) fn not_offered(known: Known<'_>) -> Option<PinReport> {
    let EndpointView::Listed(info) = &known.endpoint?.value else { return None };
    let wanted = known.wanted;
    // Whatever the certificate will be.
    let certificate = (!wanted.is_issued_by_platform(known.desired)).then(|| Fingerprint::of(&[]));
    let lacked = info.offers.lacking(&wanted.binding(known.desired, known.at, certificate))?;
    Some(report(known, PinState::Blocked, "not offered", BindingCause::NotOffered { lacked: lacked.to_string() }))
}

/// What is full is known before a certificate is ordered for it.
pub(super) fn full(known: Known<'_>) -> Option<PinReport> {
    let EndpointView::Listed(info) = &known.endpoint?.value else { return None };
    let (store, quota) = match (info.quotas.hostnames, info.quotas.certificates) {
        (Some(quota), _) if quota.is_reached() => (None, quota),
        (_, Some(quota)) if quota.is_reached() => (Some(info.certificate_site.clone()), quota),
        _ => return None,
    };
    let reached = BindingCause::QuotaReached { store, most: quota.most, used: quota.used };
    Some(report(known, PinState::Blocked, "quota reached", reached))
}

/// An endpoint that somebody else configures is judged by what it serves.
fn judge_unmanaged(known: Known<'_>, served: &ServedView) -> PinReport {
    let wanted = known.certificate.map(|held| held.sha256);
    match (served, wanted) {
        (ServedView::Certificate { sha256, .. }, Some(wanted)) if *sha256 == wanted => {
            let held = PinReport { sha256: Some(wanted), ..PinReport::new(PinState::Held, None, "served") };
            judge_samples(known, served, held)
        }
        (ServedView::NotTried, _) => PinReport::new(PinState::Unknown, None, "not connected yet"),
        _ => led_elsewhere(known, served).unwrap_or_else(|| {
            report(known, PinState::Loose, "serves another", BindingCause::NotServed { got: served.into() })
        }),
    }
}

/// Before an alias leads to an endpoint, requests that are made there directly are answered as expected.
fn judge_samples(known: Known<'_>, served: &ServedView, held: PinReport) -> PinReport {
    let ServedView::Certificate { samples, tls12_status, default_name, .. } = served else { return held };
    if known.is_aliased_here() {
        return held;
    }
    // A server whose addresses are shared may be able to say no only once it knows the name (426).
    if let Some(status) = tls12_status.filter(|status| *status != 426)
        && known.wanted.minimum_tls == TlsVersion::V1_3
    {
        let finding = finding(known, BindingCause::OldTls { status });
        return PinReport { state: PinState::Loose, detail: Some("takes TLS 1.2".into()), ..held }.because(finding);
    }
    let wanted = known.wanted;
    let asked = samples.iter().filter(|answer| wanted.all_samples().any(|sample| *sample == answer.sample));
    let differing = asked.filter_map(|answer| {
        let difference = sample_difference(wanted, &answer.sample, &answer.outcome)?;
        Some(SampleDifference { sample: Sample::of(wanted, &answer.sample), address: answer.address, difference })
    });
    let samples: Vec<SampleDifference> = differing.collect();
    if samples.is_empty() {
        return held;
    }
    let default_name = default_name.as_deref().map(DefaultNameAnswer::from);
    let finding = finding(known, BindingCause::AnswersOtherwise { samples, default_name });
    PinReport { state: PinState::Loose, detail: Some("answers otherwise".into()), ..held }.because(finding)
}

fn judge_present(
    known: Known<'_>,
    binding: &Binding,
    deployment: &Deployment,
    lacking: &[AskedRecord],
    served: &ServedView,
) -> PinReport {
    let expected = binding.certificate.or_else(|| known.issued().map(|issued| issued.sha256));
    let wanted = known.wanted_binding();
    if wanted.as_ref() != Some(binding) {
        if let Some(report) = not_offered(known) {
            return report;
        }
        let difference = wanted.as_ref().map_or("its certificate".to_owned(), |wanted| differences(binding, wanted));
        if !known.may_change(binding) {
            let foreign = BindingCause::Foreign { difference: Some(difference) };
            return report(known, PinState::Blocked, "a foreign binding", foreign);
        }
        return report(known, PinState::Loose, "differs", BindingCause::Differs { difference });
    }
    if let Some(record) = lacking.first() {
        return report(known, PinState::Loose, "a record is missing", BindingCause::RecordMissing(record.clone()));
    }
    match deployment {
        Deployment::Deploying => {
            report(known, PinState::Working, "deploying", BindingCause::Deploying { waited: false })
        }
        Deployment::Failed { reason } => {
            let failed = BindingCause::DeployFailed { reason: reason.clone(), tried: false };
            report(known, PinState::Loose, "failed", failed)
        }
        Deployment::Deployed => match served {
            ServedView::Certificate { sha256, .. } if expected.is_none_or(|expected| expected == *sha256) => {
                let routes = match binding.routes.len() {
                    0 => String::new(),
                    1 => ", 1 route".into(),
                    n => format!(", {n} routes"),
                };
                let held = PinReport::new(PinState::Held, None, format!("deployed{routes}"));
                judge_samples(known, served, PinReport { sha256: Some(*sha256), ..held })
            }
            ServedView::NotTried => PinReport::new(PinState::Unknown, None, "not connected yet"),
            other => led_elsewhere(known, other).unwrap_or_else(|| {
                let given = binding.certificate_in_words();
                report(known, PinState::Loose, "serves another", BindingCause::ServesOther { given, got: other.into() })
            }),
        },
    }
}

/// Names what differs between two bindings.
pub fn differences(is: &Binding, wanted: &Binding) -> String {
    let parts = [
        (is.certificate != wanted.certificate, "its certificate"),
        (is.routes != wanted.routes, "its routes"),
        (is.redirect_to != wanted.redirect_to, "its redirect"),
        (is.minimum_tls != wanted.minimum_tls, "its minimum TLS version"),
        (is.client_certificates != wanted.client_certificates, "its client certificates"),
        (is.default_document != wanted.default_document, "its default document"),
        (is.origin != wanted.origin, "how it speaks to its origin"),
    ];
    parts.into_iter().filter(|(differs, _)| *differs).map(|(_, what)| what).collect::<Vec<_>>().join(" and ")
}
