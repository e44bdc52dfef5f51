//! `binding`: the endpoint knows the hostname, with that certificate and those routes,
//! is done deploying, and serves that certificate on a direct connection.

use super::{Known, Pin, PinReport, PinState};
use crate::endpoint::{Binding, Deployment};
use crate::facts::{BindingView, EndpointView, ServedView};
use crate::findings::{Code, Finding};

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(endpoint) = known.endpoint else { return PinReport::not_looked_at() };
    if let Some(mut report) = endpoint_trouble(known, &endpoint.value) {
        report.seen = Some(endpoint.seen);
        return report;
    }
    let Some(fact) = &known.facts.binding else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn finding(code: Code, says: String, remedy: impl Into<String>) -> Finding {
    Finding::new(code, Pin::Binding, says, remedy)
}

fn endpoint_trouble(known: Known<'_>, view: &EndpointView) -> Option<PinReport> {
    let endpoint = known.desired.endpoint(known.wanted.endpoint);
    let name = &endpoint.name;
    Some(match view {
        EndpointView::Listed(info) if info.custom_hostnames.allowed => return None,
        EndpointView::Listed(info) => {
            let reason = info.custom_hostnames.reason.as_deref().unwrap_or("the platform gives no reason");
            let says = format!("the endpoint {name} takes no custom hostnames: {reason}");
            let remedy = "change the plan or the settings of the endpoint, or choose another endpoint";
            PinReport::new(PinState::Blocked, None, "not allowed").because(finding(
                Code::CustomHostnamesRefused,
                says,
                remedy,
            ))
        }
        EndpointView::NotListed { known } => {
            let says = format!("the platform at {} has no endpoint \"{}\"", endpoint.url, endpoint.id);
            let remedy =
                format!("set the id of [endpoint.{name}] to one that the platform lists: {}", known.join(", "));
            PinReport::new(PinState::Blocked, None, "no such endpoint").because(finding(
                Code::EndpointUnknown,
                says,
                remedy,
            ))
        }
        EndpointView::Refused { why } => {
            let says = format!("the platform at {} does not take the token of [endpoint.{name}]: {why}", endpoint.url);
            let remedy = format!("put a valid token at {}", endpoint.token);
            PinReport::new(PinState::Unknown, None, "token refused").because(finding(
                Code::PlatformRefuses,
                says,
                remedy,
            ))
        }
        EndpointView::Unreachable { why } => {
            let says = format!("the platform at {} does not answer: {why}", endpoint.url);
            let remedy = "wait until it is back, or correct its url, then run settle again";
            PinReport::new(PinState::Unknown, None, "platform silent").because(finding(
                Code::PlatformUnreachable,
                says,
                remedy,
            ))
        }
    })
}

fn judge_view(known: Known<'_>, view: &BindingView) -> PinReport {
    let hostname = &known.wanted.hostname;
    let endpoint = &known.desired.endpoint(known.wanted.endpoint).name;
    match view {
        BindingView::Absent => {
            let says = format!("the endpoint {endpoint} does not know {hostname}");
            PinReport::new(PinState::Loose, None, "none yet").because(finding(
                Code::BindingMissing,
                says,
                "run settle: it binds it",
            ))
        }
        BindingView::Unreachable { why } => {
            let says = format!("the platform of {endpoint} does not say how {hostname} is bound: {why}");
            let remedy = "wait until it is back, then run settle again";
            PinReport::new(PinState::Unknown, None, "platform silent").because(finding(
                Code::PlatformUnreachable,
                says,
                remedy,
            ))
        }
        BindingView::Present { binding, deployment, served } => judge_present(known, binding, deployment, served),
    }
}

fn judge_present(known: Known<'_>, binding: &Binding, deployment: &Deployment, served: &ServedView) -> PinReport {
    let hostname = &known.wanted.hostname;
    let endpoint = &known.desired.endpoint(known.wanted.endpoint).name;
    let wanted = known.certificate.map(|held| known.wanted.binding(held.sha256));
    if wanted.as_ref() != Some(binding) {
        let difference = wanted.as_ref().map_or("its certificate".to_owned(), |wanted| differences(binding, wanted));
        if !known.ours.made_binding(binding) {
            let says =
                format!("{endpoint} has a binding of {hostname} that Pindrel did not make; it differs in {difference}");
            let remedy = "remove that binding on the platform when nobody needs it, then run settle again";
            return PinReport::new(PinState::Blocked, None, "a foreign one").because(finding(
                Code::BindingForeign,
                says,
                remedy,
            ));
        }
        let says = format!("the binding of {hostname} at {endpoint} differs in {difference}");
        return PinReport::new(PinState::Loose, None, "differs").because(finding(
            Code::BindingDiffers,
            says,
            "run settle: it corrects it",
        ));
    }
    match deployment {
        Deployment::Deploying => {
            let says = format!("{endpoint} is still deploying {hostname}");
            PinReport::new(PinState::Working, None, "deploying").because(finding(
                Code::BindingDeploying,
                says,
                "wait: settle does",
            ))
        }
        Deployment::Failed { reason } => {
            let says = format!("{endpoint} gave up deploying {hostname}: {reason}");
            PinReport::new(PinState::Loose, None, "failed").because(finding(
                Code::BindingFailed,
                says,
                "run settle: it tries again",
            ))
        }
        Deployment::Deployed => match served {
            ServedView::Certificate { sha256 } if *sha256 == binding.certificate => {
                let routes = match binding.routes.len() {
                    0 => String::new(),
                    1 => ", 1 route".into(),
                    n => format!(", {n} routes"),
                };
                PinReport { sha256: Some(*sha256), ..PinReport::new(PinState::Held, None, format!("deployed{routes}")) }
            }
            ServedView::NotTried => PinReport::new(PinState::Unknown, None, "not connected yet"),
            other => {
                let got = match other {
                    ServedView::Certificate { sha256 } => format!("serves certificate {}…", sha256.short()),
                    ServedView::Nothing { why } => format!("serves none: {why}"),
                    ServedView::NotTried => String::new(),
                };
                let says = format!(
                    "{endpoint} was given certificate {}… for {hostname} but {got}",
                    binding.certificate.short()
                );
                let remedy =
                    "run settle again; if it stays, reload the endpoint or ask its platform why it keeps the old one";
                PinReport::new(PinState::Loose, None, "serves another").because(finding(
                    Code::ServedCertificateDiffers,
                    says,
                    remedy,
                ))
            }
        },
    }
}

fn differences(is: &Binding, wanted: &Binding) -> String {
    let parts = [
        (is.certificate != wanted.certificate, "its certificate"),
        (is.routes != wanted.routes, "its routes"),
        (is.redirect_to != wanted.redirect_to, "where it redirects to"),
        (is.minimum_tls != wanted.minimum_tls, "its lowest TLS version"),
    ];
    parts.into_iter().filter(|(differs, _)| *differs).map(|(_, what)| what).collect::<Vec<_>>().join(" and ")
}
