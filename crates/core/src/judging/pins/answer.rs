//! `answer`: through every resolver a client gets that very certificate, fully
//! verified, and the expected HTTP answer.

use super::{Known, Pin, PinReport, PinState};
use crate::desired::WantedHostname;
use crate::endpoints::endpoint::ClientNeed;
use crate::endpoints::expectation::{Expectation, SampleMethod};
use crate::judging::facts::{AnswerView, ClientOutcome, ResolverAnswer, SampleAnswer, SampleOutcome};
use crate::judging::findings::{Code, Finding};
use crate::zones::resolver::ResolverAddress;

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.answer else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn judge_view(known: Known<'_>, view: &AnswerView) -> PinReport {
    let findings: Vec<Finding> = view.through.iter().filter_map(|answer| finding_for(known, answer)).collect();
    let met = view.through.iter().find_map(|answer| match &answer.outcome {
        ClientOutcome::Answered { sha256, status, .. } => Some((*sha256, *status)),
        _ => None,
    });
    let refused = view.through.iter().any(|answer| matches!(answer.outcome, ClientOutcome::NoAnswer { .. }));
    let (state, detail) = match (findings.first(), met) {
        (None, Some((_, status))) => (PinState::Held, format!("status {status}")),
        (None, None) if refused => (PinState::Held, "refused without a certificate".into()),
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

/// What is wrong with what clients get through one resolver.
fn finding_for(known: Known<'_>, answer: &ResolverAnswer) -> Option<Finding> {
    let required = known.wanted.client_certificates.as_ref().is_some_and(|own| own.need == ClientNeed::Required);
    if !required {
        return finding_for_outcome(known, &answer.resolver, &answer.outcome);
    }
    // One that must be refused, and where a certificate was shown, one that must be answered.
    match &answer.without_certificate {
        Some(bare) => finding_for_refusal(known, &answer.resolver, bare)
            .or_else(|| finding_for_outcome(known, &answer.resolver, &answer.outcome)),
        None => finding_for_refusal(known, &answer.resolver, &answer.outcome),
    }
}

/// A client that shows no certificate is refused: in TLS, or with a status that says so.
fn finding_for_refusal(known: Known<'_>, resolver: &ResolverAddress, outcome: &ClientOutcome) -> Option<Finding> {
    match outcome {
        ClientOutcome::NoAnswer { .. } => None,
        ClientOutcome::Answered { status: 400..=499, .. } => None,
        ClientOutcome::Answered { status, .. } => {
            let asked = place_of(known.wanted, &known.wanted.expect);
            let says = format!("{asked} answers clients without a certificate, with status {status}");
            let remedy = "Run settle; if that does not help, check on the platform why it asks for none";
            Some(Finding::new(Code::ClientCertificateNotRequired, Pin::Answer, says, remedy))
        }
        other => finding_for_outcome(known, resolver, other),
    }
}

fn finding_for_outcome(known: Known<'_>, resolver: &ResolverAddress, outcome: &ClientOutcome) -> Option<Finding> {
    let finding = |code, says: String, remedy: &str| Some(Finding::new(code, Pin::Answer, says, remedy));
    let wanted = known.wanted;
    let asked = &wanted.probed_as;
    match outcome {
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
            let endpoint = &known.desired.endpoint(known.at).name;
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
        ClientOutcome::Answered { address, sha256, status, location, body, samples } => {
            let current = known.current_certificates();
            if let Some(current) = current.first().filter(|_| !current.contains(sha256)) {
                let says = format!(
                    "clients of {asked} get certificate {}… at {address}, not the current {}…",
                    sha256.short(),
                    current.short()
                );
                return finding(Code::AnswerStale, says, "Run settle; if that does not help, reload the endpoint");
            }
            let remedy = "Check the routes, the expectation in the manifest, and the logs of the service";
            let (location, body) = (location.clone(), body.clone());
            let own = SampleOutcome::Answered { status: *status, location, body };
            let routes = samples.iter().map(|answer| (&answer.sample, &answer.outcome));
            std::iter::once((&wanted.expect, &own)).chain(routes).find_map(|(sample, outcome)| {
                let difference = sample_difference(wanted, sample, outcome)?;
                finding(Code::AnswerUnexpected, format!("{} {difference}", place_of(wanted, sample)), remedy)
            })
        }
    }
}

/// Names a sample request.
pub(super) fn place_of(wanted: &WantedHostname, sample: &Expectation) -> String {
    let method = if sample.method == SampleMethod::Get { String::new() } else { format!("{} ", sample.method) };
    format!("{method}https://{}{}", wanted.probed_as, sample.path)
}

/// Says whether a sample request was not answered as expected.
pub fn differs_from_sample(wanted: &WantedHostname, answer: &SampleAnswer) -> bool {
    sample_difference(wanted, &answer.sample, &answer.outcome).is_some()
}

/// Says in what an answer differs from what is expected, a redirect to the primary name included.
pub(super) fn sample_difference(
    wanted: &WantedHostname,
    sample: &Expectation,
    outcome: &SampleOutcome,
) -> Option<String> {
    outcome.difference(sample).or_else(|| {
        let (primary, SampleOutcome::Answered { location, .. }) = (wanted.redirect_to.as_ref()?, outcome) else {
            return None;
        };
        let leads = location.as_ref().is_some_and(|location| leads_to(location, primary.as_str()));
        (!leads).then(|| format!("redirects to {}, not to {primary}", location.as_deref().unwrap_or("nowhere")))
    })
}

/// Says whether a `Location` leads to `host` over HTTPS, on whatever port.
fn leads_to(location: &str, host: &str) -> bool {
    url::Url::parse(location).is_ok_and(|url| url.scheme() == "https" && url.host_str() == Some(host))
}
