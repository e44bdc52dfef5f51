//! `answer`: through every resolver a client gets that very certificate, fully
//! verified, and the expected HTTP answer.

use super::{Known, PinReport, PinState};
use crate::desired::WantedHostname;
use crate::endpoints::endpoint::ClientNeed;
use crate::endpoints::expectation::Expectation;
use crate::judging::facts::{AnswerView, ClientOutcome, ResolverAnswer, SampleAnswer, SampleOutcome};
use crate::judging::findings::{AnswerCause, Finding, Sample, asked_for};
use crate::zones::resolver::ResolverAddress;

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.answer else { return PinReport::not_looked_at() };
    let mut report = judge_view(known, &fact.value);
    report.seen = Some(fact.seen);
    report
}

fn judge_view(known: Known<'_>, view: &AnswerView) -> PinReport {
    let causes = view.through.iter().filter_map(|answer| cause_of(known, answer));
    let findings: Vec<Finding> = causes.map(|cause| Finding::answer(&known.wanted.hostname, cause)).collect();
    let met = view.through.iter().find_map(|answer| match &answer.outcome {
        ClientOutcome::Answered { sha256, status, .. } => Some((*sha256, *status)),
        _ => None,
    });
    let refused = view.through.iter().any(|answer| matches!(answer.outcome, ClientOutcome::NoAnswer { .. }));
    let (state, detail) = match (findings.first(), met) {
        (None, Some((_, status))) => (PinState::Held, format!("status {status}")),
        (None, None) if refused => (PinState::Held, "refused without a certificate".into()),
        (None, None) => return PinReport::not_looked_at(),
        (Some(first), _) => (PinState::Loose, first.code().as_str().to_owned()),
    };
    PinReport {
        sha256: met.map(|(sha256, _)| sha256),
        status: met.map(|(_, status)| status),
        findings,
        ..PinReport::new(state, None, detail)
    }
}

/// What is wrong with what clients get through one resolver.
fn cause_of(known: Known<'_>, answer: &ResolverAnswer) -> Option<AnswerCause> {
    let required = known.wanted.client_certificates.as_ref().is_some_and(|own| own.need == ClientNeed::Required);
    if !required {
        return cause_of_outcome(known, &answer.resolver, &answer.outcome);
    }
    // One that must be refused, and where a certificate was shown, one that must be answered.
    match &answer.without_certificate {
        Some(bare) => cause_of_refusal(known, &answer.resolver, bare)
            .or_else(|| cause_of_outcome(known, &answer.resolver, &answer.outcome)),
        None => cause_of_refusal(known, &answer.resolver, &answer.outcome),
    }
}

/// A client that shows no certificate is refused: in TLS, or with a status that says so.
fn cause_of_refusal(known: Known<'_>, resolver: &ResolverAddress, outcome: &ClientOutcome) -> Option<AnswerCause> {
    match outcome {
        ClientOutcome::NoAnswer { .. } => None,
        ClientOutcome::Answered { status: 400..=499, .. } => None,
        ClientOutcome::Answered { status, .. } => {
            let sample = Sample::of(known.wanted, &known.wanted.expect);
            Some(AnswerCause::CertificateNotRequired { sample, status: *status })
        }
        other => cause_of_outcome(known, resolver, other),
    }
}

fn cause_of_outcome(known: Known<'_>, resolver: &ResolverAddress, outcome: &ClientOutcome) -> Option<AnswerCause> {
    let wanted = known.wanted;
    let (resolver, asked) = (resolver.to_string(), asked_for(wanted));
    Some(match outcome {
        ClientOutcome::Unresolved { why, for_secs } => {
            AnswerCause::Unresolved { resolver, asked, why: why.clone(), for_secs: *for_secs }
        }
        ClientOutcome::Elsewhere { address, for_secs } => {
            let endpoint = known.desired.endpoint(known.at).name.clone();
            AnswerCause::Elsewhere { resolver, asked, address: *address, endpoint, for_secs: *for_secs }
        }
        ClientOutcome::NotConnected { address, why } => {
            AnswerCause::NotConnected { asked, address: *address, why: why.clone() }
        }
        ClientOutcome::Unverified { address, why, .. } => {
            AnswerCause::Unverified { asked, address: *address, why: why.clone() }
        }
        ClientOutcome::NoAnswer { address, why, .. } => {
            AnswerCause::NoResponse { asked, address: *address, why: why.clone() }
        }
        ClientOutcome::Answered { address, sha256, status, location, body, samples } => {
            let current = known.current_certificates();
            if let Some(current) = current.first().filter(|_| !current.contains(sha256)) {
                return Some(AnswerCause::Stale { asked, address: *address, served: *sha256, current: *current });
            }
            let (location, body) = (location.clone(), body.clone());
            let own = SampleOutcome::Answered { status: *status, location, body };
            let routes = samples.iter().map(|answer| (&answer.sample, &answer.outcome));
            return std::iter::once((&wanted.expect, &own)).chain(routes).find_map(|(sample, outcome)| {
                let difference = sample_difference(wanted, sample, outcome)?;
                Some(AnswerCause::Unexpected { sample: Sample::of(wanted, sample), difference })
            });
        }
    })
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
