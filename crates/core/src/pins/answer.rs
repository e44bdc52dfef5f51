//! `answer`: through every resolver a client gets that very certificate, fully
//! verified, and the expected HTTP answer.

use super::{Known, Pin, PinReport, PinState};
use crate::facts::{AnswerView, ClientOutcome, ResolverAnswer};
use crate::findings::{Code, Finding};

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.answer else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn judge_view(known: Known<'_>, view: &AnswerView) -> PinReport {
    let findings: Vec<Finding> = view.through.iter().filter_map(|answer| trouble(known, answer)).collect();
    let met = view.through.iter().find_map(|answer| match &answer.outcome {
        ClientOutcome::Answered { sha256, status, .. } => Some((*sha256, *status)),
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
    match &answer.outcome {
        ClientOutcome::Unresolved { why, for_secs } => {
            let until = for_secs.map_or(String::new(), |secs| format!(", and may cache that for {secs} s"));
            let says = format!("the resolver {resolver} returned no address for {asked}: {why}{until}");
            let remedy = match for_secs {
                Some(_) => "Wait until the cached answer expires",
                None => "Make sure that this resolver can reach the zone's servers and their parents",
            };
            finding(Code::AnswerUnresolved, says, remedy)
        }
        ClientOutcome::Elsewhere { address, for_secs } => {
            let endpoint = &known.desired.endpoint(wanted.endpoint).name;
            let says = format!(
                "the resolver {resolver} returns {address} for {asked}, which is not an address of {endpoint}, and may keep that for {for_secs} s"
            );
            finding(Code::AnswerStale, says, "Wait until the cached answer expires")
        }
        ClientOutcome::NotConnected { address, why } => {
            let says = format!("{asked} resolves to {address}, which cannot be connected to: {why}");
            finding(Code::AnswerUnreachable, says, "Check that the endpoint runs and accepts connections from here")
        }
        ClientOutcome::Unverified { address, why, .. } => {
            let says = format!("clients do not accept the certificate of {asked} at {address}: {why}");
            finding(
                Code::AnswerUnverified,
                says,
                "Check that the name resolves to the right endpoint and that issued_roots names the right roots",
            )
        }
        ClientOutcome::NoAnswer { address, why, .. } => {
            let says = format!("{asked} at {address} returned no HTTP response: {why}");
            finding(Code::AnswerUnexpected, says, "Check the logs of the service behind the endpoint")
        }
        ClientOutcome::Answered { address, sha256, status, location, body } => {
            if let Some(held) = known.certificate.filter(|held| held.sha256 != *sha256) {
                let says = format!(
                    "clients of {asked} get certificate {}… at {address}, not the current {}…",
                    sha256.short(),
                    held.sha256.short()
                );
                return finding(Code::AnswerStale, says, "Run settle; if that does not help, reload the endpoint");
            }
            let expect = &wanted.expect;
            let place = format!("https://{asked}{}", expect.path);
            let remedy = "Check the routes, the expectation in the manifest, and the logs of the service";
            if !(expect.status.0..=expect.status.1).contains(status) {
                let says = format!("{place} returned status {status}, not {}", status_words(expect.status));
                return finding(Code::AnswerUnexpected, says, remedy);
            }
            if let Some(text) = &expect.body
                && !body.as_ref().is_some_and(|body| body.text == *text && body.found)
            {
                let says = format!("the body of {place} does not contain the expected text \"{text}\"");
                return finding(Code::AnswerUnexpected, says, remedy);
            }
            if let Some(primary) = &wanted.redirect_to
                && !location.as_ref().is_some_and(|location| leads_to(location, primary.as_str()))
            {
                let to = location.as_deref().unwrap_or("nowhere");
                let says = format!("{place} redirects to {to}, not to {primary}");
                return finding(Code::AnswerUnexpected, says, "Check that the endpoint's redirect is in force");
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
