//! `binding`: the endpoint knows the hostname, with that certificate and those routes,
//! is done deploying, and serves that certificate on a direct connection.

use jiff::Timestamp;

use super::answer::{place_of, sample_difference};
use super::{Known, Pin, PinReport, PinState};
use crate::desired::{Desired, Endpoint, EndpointDriver, EndpointId, ProgramPlatform};
use crate::endpoints::endpoint::{AskedRecord, Binding, Deployment, KeepRecord, TlsVersion};
use crate::judging::facts::{BindingView, EndpointView, SampleOutcome, ServedView, Unreachable};
use crate::judging::findings::{Again, Code, Finding};
use crate::names::name::Hostname;
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
    let says = format!("the record that {} asked for at {} is no longer needed", endpoint.name, record.name);
    let finding = finding(Code::AskedRecordLeft, says, "Run settle: it removes the record");
    PinReport { state: PinState::Loose, detail: Some("a record is left".into()), ..report }.because(finding)
}

/// A hostname that has moved is held once it is no longer bound where it was.
fn judge_former(known: Known<'_>, held: PinReport, now: Timestamp) -> PinReport {
    let (Some(ownership), hostname) = (known.ownership, &known.wanted.hostname) else { return held };
    let Some(key) = moves::former_endpoints(known.desired, known.wanted, ownership).next() else { return held };
    let Some(id) = known.desired.endpoint_at(key) else {
        let says = format!("{hostname} is still bound at {key}, which is no longer in the manifest");
        let remedy = format!(
            "Put that endpoint back into the manifest until the binding is removed; or delete it there, then run: pindrel retire --forget {hostname}"
        );
        let finding = finding(Code::FormerBinding, says, remedy).again(Again::Person);
        return PinReport { state: PinState::Blocked, ..held }.because(finding);
    };
    let name = &known.desired.endpoint(id).name;
    match ownership.former_alias.and_then(|former| former.forgotten_at()) {
        Some(until) if now < until => {
            let says =
                format!("{hostname} has moved, and is bound at {name} until caches have forgotten its old alias");
            let remedy = format!("Wait until {until:.0}: the next settle after that removes the binding");
            let finding = finding(Code::FormerBinding, says, remedy).again(Again::At(until));
            let detail = Some("moved, still bound elsewhere".into());
            PinReport { state: PinState::Working, detail, ..held }.because(finding)
        }
        _ => {
            let says = format!("{hostname} has moved, and is still bound at {name}");
            let finding = finding(Code::FormerBinding, says, "Run settle: it removes the binding");
            PinReport { state: PinState::Loose, detail: Some("still bound elsewhere".into()), ..held }.because(finding)
        }
    }
}

fn judge_wanted(known: Known<'_>) -> PinReport {
    let Some(endpoint) = known.endpoint else { return PinReport::not_looked_at() };
    if let Some(mut report) = report_for_endpoint(known.desired.endpoint(known.at), &endpoint.value) {
        report.seen = Some(endpoint.seen);
        return report;
    }
    let Some(fact) = known.binding else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn finding(code: Code, says: String, remedy: impl Into<String>) -> Finding {
    Finding::new(code, Pin::Binding, says, remedy)
}

pub(super) fn report_for_endpoint(endpoint: &Endpoint, view: &EndpointView) -> Option<PinReport> {
    let name = &endpoint.name;
    Some(match view {
        EndpointView::Listed(info) if info.custom_hostnames.allowed => return None,
        EndpointView::Listed(info) => {
            let reason = info.custom_hostnames.reason.as_deref().unwrap_or("its platform states no reason");
            let says = format!("the endpoint {name} does not accept custom hostnames: {reason}");
            let remedy = "Change the plan or the settings of the endpoint, or choose another endpoint";
            PinReport::new(PinState::Blocked, None, "not allowed").because(finding(
                Code::CustomHostnamesRefused,
                says,
                remedy,
            ))
        }
        EndpointView::NotListed { known } => {
            let says = format!("the platform at {} has no endpoint \"{}\"", endpoint.platform(), endpoint.id);
            let remedy =
                format!("Set the id of [endpoint.{name}] to one that the platform lists: {}", known.join(", "));
            PinReport::new(PinState::Blocked, None, "no such endpoint").because(finding(
                Code::EndpointUnknown,
                says,
                remedy,
            ))
        }
        EndpointView::Refused { status, detail } => {
            let says = format!(
                "the platform at {} refused the token of [endpoint.{name}] (status {status})",
                endpoint.platform()
            );
            let remedy = match &endpoint.driver {
                EndpointDriver::Http(http) => format!("Put a valid token at {}", http.token),
                EndpointDriver::Program(ProgramPlatform { token: Some(token), .. }) => {
                    format!("Put a valid token at {token}")
                }
                EndpointDriver::Program(_) => "Give the program what it signs in with".into(),
                _ => "Configure the endpoint where it is configured".into(),
            };
            PinReport::new(PinState::Unknown, None, "token refused")
                .because(finding(Code::PlatformRefuses, says, remedy).seen([format!("the platform said: {detail}")]))
        }
        EndpointView::Unreachable { why, .. } => {
            PinReport::new(PinState::Unknown, None, "platform unreachable").because(platform_unreachable(endpoint, why))
        }
    })
}

/// Says that the platform of an endpoint does not answer, and what to do about it.
pub(crate) fn platform_unreachable(endpoint: &Endpoint, why: &Unreachable) -> Finding {
    let says = format!("the platform at {} does not answer: {why}", endpoint.platform());
    let remedy = match &endpoint.driver {
        EndpointDriver::Haproxy(_) => "Start the load balancer, or correct its socket",
        EndpointDriver::Program(_) => "Correct what the program reports, or its command line",
        EndpointDriver::Nginx(_) => "Make sure that its folder can be read",
        _ => "Wait until it is reachable again, or correct its url",
    };
    finding(Code::PlatformUnreachable, says, remedy)
}

fn judge_view(known: Known<'_>, view: &BindingView) -> PinReport {
    let hostname = &known.wanted.hostname;
    let endpoint = &known.desired.endpoint(known.at).name;
    match view {
        BindingView::Absent => {
            if let Some(report) = not_offered(known).or_else(|| full(known)) {
                return report;
            }
            let says = format!("the endpoint {endpoint} has no binding of {hostname}");
            PinReport::new(PinState::Loose, None, "none yet").because(finding(
                Code::BindingMissing,
                says,
                "Run settle: it creates the binding",
            ))
        }
        BindingView::Unreachable { why } => {
            let says = format!("the platform of {endpoint} did not return the binding of {hostname}: {why}");
            let remedy = "Wait until it is reachable again";
            PinReport::new(PinState::Unknown, None, "platform unreachable").because(finding(
                Code::PlatformUnreachable,
                says,
                remedy,
            ))
        }
        BindingView::Unmanaged { served } => judge_unmanaged(known, served),
        BindingView::Present { binding, deployment, lacking, served, .. } => {
            judge_present(known, binding, deployment, lacking, served)
        }
    }
}

/// What an endpoint cannot do is known before a certificate is ordered for it.
fn not_offered(known: Known<'_>) -> Option<PinReport> {
    let EndpointView::Listed(info) = &known.endpoint?.value else { return None };
    let (wanted, name) = (known.wanted, &known.desired.endpoint(known.at).name);
    // Whatever the certificate will be.
    let certificate = (!wanted.is_issued_by_platform(known.desired)).then(|| Fingerprint::of(&[]));
    let lacked = info.offers.lacking(&wanted.binding(known.desired, known.at, certificate))?;
    let says = format!("the endpoint {name} does not offer {lacked}, which {} needs", wanted.hostname);
    let remedy = "Remove that from the manifest, or choose an endpoint that offers it";
    Some(PinReport::new(PinState::Blocked, None, "not offered").because(finding(Code::NotOffered, says, remedy)))
}

/// What is full is known before a certificate is ordered for it.
fn full(known: Known<'_>) -> Option<PinReport> {
    let EndpointView::Listed(info) = &known.endpoint?.value else { return None };
    let (hostname, name) = (&known.wanted.hostname, &known.desired.endpoint(known.at).name);
    let (what, quota) = match (info.quotas.hostnames, info.quotas.certificates) {
        (Some(quota), _) if quota.is_reached() => (format!("the endpoint {name} takes"), quota),
        (_, Some(quota)) if quota.is_reached() => {
            (format!("the certificate store of {}, which {name} uses, takes", info.certificate_site), quota)
        }
        _ => return None,
    };
    let says = format!("{what} no more than {}, and has {}: {hostname} cannot be bound", quota.most, quota.used);
    let remedy = "Raise the quota at the platform, or remove what is no longer used there";
    Some(PinReport::new(PinState::Blocked, None, "quota reached").because(finding(Code::QuotaReached, says, remedy)))
}

/// An endpoint that somebody else configures is judged by what it serves.
fn judge_unmanaged(known: Known<'_>, served: &ServedView) -> PinReport {
    let (hostname, name) = (&known.wanted.hostname, &known.desired.endpoint(known.at).name);
    let wanted = known.certificate.map(|held| held.sha256);
    match (served, wanted) {
        (ServedView::Certificate { sha256, .. }, Some(wanted)) if *sha256 == wanted => {
            let held = PinReport { sha256: Some(wanted), ..PinReport::new(PinState::Held, None, "served") };
            judge_samples(known, served, held)
        }
        (ServedView::NotTried, _) => PinReport::new(PinState::Unknown, None, "not connected yet"),
        _ => {
            let says = format!("{name} does not serve the certificate of {hostname}: it {}", got(served));
            let remedy = format!(
                "Deliver the certificate to files that {name} reads, with a command in `after` that makes it read them"
            );
            PinReport::new(PinState::Loose, None, "serves another").because(finding(
                Code::ServedCertificateDiffers,
                says,
                remedy,
            ))
        }
    }
}

/// What a direct connection was served, as the end of a sentence.
fn got(served: &ServedView) -> String {
    match served {
        ServedView::Certificate { sha256, .. } => format!("serves certificate {}…", sha256.short()),
        ServedView::Failed { address: Some(address), why } => format!("serves none at {address}: {why}"),
        ServedView::Failed { address: None, why } => format!("serves none: {why}"),
        ServedView::NotTried => "was not asked".into(),
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
        let (hostname, endpoint) = (&known.wanted.hostname, &known.desired.endpoint(known.at).name);
        let says = format!("{endpoint} answers clients with TLS 1.2 for {hostname}, with status {status}");
        let remedy = "Run settle; if that does not help, set TLS 1.3 as the lowest version on the platform";
        let finding = finding(Code::OldTlsServed, says, remedy);
        return PinReport { state: PinState::Loose, detail: Some("takes TLS 1.2".into()), ..held }.because(finding);
    }
    let (wanted, endpoint) = (known.wanted, &known.desired.endpoint(known.at).name);
    let differs = samples.iter().filter(|answer| wanted.all_samples().any(|sample| *sample == answer.sample));
    let mut evidence = differs.filter_map(|answer| {
        let difference = sample_difference(wanted, &answer.sample, &answer.outcome)?;
        Some(format!("{} at {}: {difference}", place_of(wanted, &answer.sample), answer.address))
    });
    let Some(first) = evidence.next() else { return held };
    let says = format!("{endpoint} does not answer for {} as expected: {first}", wanted.hostname);
    let (under, remedy) = match default_name.as_deref() {
        Some(SampleOutcome::Failed { why }) => (
            format!("under its default name it does not answer either: {why}"),
            "Check the service behind the endpoint; the alias stays where it is until then",
        ),
        Some(SampleOutcome::Answered { status: status @ 500.., .. }) => (
            format!("under its default name it answers with status {status} too"),
            "Check the service behind the endpoint; the alias stays where it is until then",
        ),
        Some(SampleOutcome::Answered { status, .. }) => (
            format!("under its default name it answers with status {status}"),
            "Check the routes and the expectation in the manifest; the alias stays where it is until then",
        ),
        None => (String::new(), "Check the routes, the expectation in the manifest, and the service behind it"),
    };
    let finding = finding(Code::ServedAnswerDiffers, says, remedy);
    let finding = finding.seen(evidence.chain(Some(under).filter(|under| !under.is_empty())));
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
    let hostname = &known.wanted.hostname;
    let endpoint = known.desired.endpoint(known.at);
    let name = &endpoint.name;
    let wanted = known.wanted_binding();
    if wanted.as_ref() != Some(binding) {
        if let Some(report) = not_offered(known) {
            return report;
        }
        let difference = wanted.as_ref().map_or("its certificate".to_owned(), |wanted| differences(binding, wanted));
        if !known.may_change(binding) {
            let says =
                format!("{name} has a binding of {hostname} that Pindrel did not create; it differs in {difference}");
            let remedy = foreign_remedy(hostname);
            return PinReport::new(PinState::Blocked, None, "a foreign binding").because(finding(
                Code::BindingForeign,
                says,
                remedy,
            ));
        }
        let says = format!("the binding of {hostname} at {name} differs in {difference}");
        return PinReport::new(PinState::Loose, None, "differs").because(finding(
            Code::BindingDiffers,
            says,
            "Run settle: it corrects the binding",
        ));
    }
    if let Some(record) = lacking.first() {
        let says = format!(
            "{name} asks for the record {} {} {:?}, which is missing",
            record.name, record.record_type, record.value
        );
        return PinReport::new(PinState::Loose, None, "a record is missing").because(finding(
            Code::AskedRecordMissing,
            says,
            "Run settle: it makes the record",
        ));
    }
    match deployment {
        Deployment::Deploying => {
            let says = format!("{name} is still deploying {hostname}");
            PinReport::new(PinState::Working, None, "deploying").because(finding(
                Code::BindingDeploying,
                says,
                "Wait: settle waits for it",
            ))
        }
        Deployment::Failed { reason } => {
            let says = format!("{name} failed to deploy {hostname}: {reason}");
            PinReport::new(PinState::Loose, None, "failed").because(finding(
                Code::BindingFailed,
                says,
                "Run settle: it tries again",
            ))
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
            other => {
                let (given, got) = (binding.certificate_in_words(), got(other));
                let says = format!("{name} was given {given} for {hostname} but {got}");
                let remedy = "Run settle; if that does not help, reload the endpoint or ask its platform";
                PinReport::new(PinState::Loose, None, "serves another").because(finding(
                    Code::ServedCertificateDiffers,
                    says,
                    remedy,
                ))
            }
        },
    }
}

/// What to do about a binding that Pindrel did not create.
pub fn foreign_remedy(hostname: &Hostname) -> String {
    format!(
        "If it is yours, take it over with: pindrel adopt binding {hostname}; else remove it on the platform once nobody needs it"
    )
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
