//! `answer`: through every resolver a client gets that very certificate, fully
//! verified, and the expected HTTP answer.

use super::{Known, Pin, PinReport, PinState};
use crate::facts::{AnswerView, Met, ResolverAnswer};
use crate::findings::{Code, Finding};

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = &known.facts.answer else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn judge_view(known: Known<'_>, view: &AnswerView) -> PinReport {
    let findings: Vec<Finding> = view.through.iter().filter_map(|answer| trouble(known, answer)).collect();
    let met = view.through.iter().find_map(|answer| match &answer.met {
        Met::Answered { sha256, status, .. } => Some((*sha256, *status)),
        _ => None,
    });
    let (state, detail) = match (findings.first(), met) {
        (None, Some((_, status))) => (PinState::Held, format!("status {status}")),
        (None, None) => return PinReport::not_looked_at(),
        (Some(first), _) => (PinState::Loose, first.code.as_str().to_owned()),
    };
    PinReport {
        sha256: met.map(|(sha256, _)| sha256),
        status: met.map(|(_, status)| status),
        findings,
        ..PinReport::new(state, None, detail)
    }
}

fn trouble(known: Known<'_>, answer: &ResolverAnswer) -> Option<Finding> {
    let finding = |code, says: String, remedy: &str| Some(Finding::new(code, Pin::Answer, says, remedy));
    let wanted = known.wanted;
    let asked = &wanted.probed_as;
    let resolver = answer.resolver;
    match &answer.met {
        Met::Unresolved { why, for_secs } => {
            let until = for_secs.map_or(String::new(), |secs| format!(", and may say so for {secs} s more"));
            let says = format!("the resolver {resolver} gives no address for {asked}: {why}{until}");
            let remedy = match for_secs {
                Some(_) => "wait until the cached answer is over, then run settle again",
                None => "see whether that resolver reaches the zone's servers and those above, then run settle again",
            };
            finding(Code::AnswerUnresolved, says, remedy)
        }
        Met::NotConnected { address, why } => {
            let says = format!("{asked} leads to {address}, where no connection comes about: {why}");
            finding(Code::AnswerUnreachable, says, "see whether the endpoint runs and lets clients in")
        }
        Met::Unverified { address, why, .. } => {
            let says = format!("{asked} at {address} serves a certificate that a client does not accept: {why}");
            finding(
                Code::AnswerUnverified,
                says,
                "see whether the name leads to the right endpoint, and issued_roots to the right roots",
            )
        }
        Met::NoAnswer { address, why, .. } => {
            let says = format!("{asked} at {address} gives no HTTP answer: {why}");
            finding(Code::AnswerUnexpected, says, "see what the service behind the endpoint logs")
        }
        Met::Answered { address, sha256, status, location, body_as_expected } => {
            if let Some(held) = known.certificate.filter(|held| held.sha256 != *sha256) {
                let says = format!(
                    "clients of {asked} are served certificate {}… at {address}, not the present {}…",
                    sha256.short(),
                    held.sha256.short()
                );
                return finding(Code::AnswerStale, says, "run settle again; if it stays, reload the endpoint");
            }
            let expect = &wanted.expect;
            let place = format!("https://{asked}{}", expect.path);
            if !(expect.status.0..=expect.status.1).contains(status) {
                let says = format!("{place} answers with status {status}, not {}", status_words(expect.status));
                return finding(
                    Code::AnswerUnexpected,
                    says,
                    "see whether the routes and the expectation are right, and what the service logs",
                );
            }
            if *body_as_expected == Some(false) {
                let says = format!("the body of {place} does not hold the expected text");
                return finding(
                    Code::AnswerUnexpected,
                    says,
                    "see whether the expectation is right, and what the service logs",
                );
            }
            if let Some(primary) = &wanted.redirect_to
                && !location.as_ref().is_some_and(|location| leads_to(location, primary.as_str()))
            {
                let to = location.as_deref().unwrap_or("nowhere");
                let says = format!("{place} redirects to {to}, not to {primary}");
                return finding(Code::AnswerUnexpected, says, "see whether the endpoint's redirect is in force");
            }
            None
        }
    }
}

fn status_words((low, high): (u16, u16)) -> String {
    if low == high { low.to_string() } else { format!("{low} to {high}") }
}

/// Says whether a `Location` leads to `host` over HTTPS, on whatever port.
fn leads_to(location: &str, host: &str) -> bool {
    url::Url::parse(location).is_ok_and(|url| url.scheme() == "https" && url.host_str() == Some(host))
}
