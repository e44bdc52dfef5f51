//! `alias`: every authoritative server gives the alias record, and nothing beside it.

use super::{Known, Pin, PinReport, PinState};
use crate::health::policy::Reason;
use crate::judging::facts::{AliasView, SampleAnswer, SampleOutcome, ServerRecords, Unreachable};
use crate::judging::findings::{Code, Finding};
use crate::zones::records::{RecordSet, in_words, same_data};

/// The most record sets that are named as leading to records of others.
const MOST_DEPENDENTS: usize = 5;

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.alias else { return PinReport::not_looked_at() };
    let Some(wanted) = known.wanted_alias() else {
        return PinReport::new(PinState::Unknown, Some(fact.seen), "no target known");
    };
    let mut report = judge_view(known, &fact.value, &wanted);
    report.seen = Some(fact.seen);
    report
}

fn finding(code: Code, says: String, remedy: impl Into<String>) -> Finding {
    Finding::new(code, Pin::Alias, says, remedy)
}

fn judge_view(known: Known<'_>, view: &AliasView, wanted: &[RecordSet]) -> PinReport {
    let hostname = &known.wanted.hostname;
    let unanswered = |(server, why): (std::net::SocketAddr, &Unreachable)| {
        let says = format!("{server} did not return the records of {hostname}: {why}");
        let remedy = format!("Start that server, or allow UDP and TCP {} from this host to it", server.port());
        PinReport::new(PinState::Unknown, None, "a server does not answer").because(finding(
            Code::ServerUnreachable,
            says,
            remedy,
        ))
    };
    let gives = |server: &'_ ServerRecords| server.gives.clone().unwrap_or_default();
    let first = match view.servers.first().map(|first| (first.server, &first.gives)) {
        None => return PinReport::not_looked_at(),
        // The one that takes changes: nothing can be judged without it.
        Some((server, Err(why))) => return unanswered((server, why)),
        Some((_, Ok(first))) => first.clone(),
    };
    if same_data(&first, wanted) {
        let lagging = view.behind(wanted);
        let lagging: Vec<String> =
            lagging.map(|server| format!("{} returns {}", server.server, in_words(&gives(server)))).collect();
        if !lagging.is_empty() {
            let says = format!("the alias of {hostname} has not propagated to every server yet");
            let remedy = "Wait until the zone is transferred: settle waits for it";
            return PinReport::new(PinState::Working, None, "not on every server")
                .because(finding(Code::AliasLagging, says, remedy).seen(lagging));
        }
        let has_ttl = |sets: &[RecordSet]| sets.iter().zip(wanted).all(|(is, wanted)| is.ttl() == wanted.ttl());
        // A server that changes the TTL it was given is not told again and again.
        // Nor is a TTL in a zone of somebody else's ours to say.
        let is_theirs = known.desired.is_handed_off(known.wanted.zone);
        let is_refused = is_theirs || known.ownership.is_some_and(|own| own.alias.made.as_deref() == Some(wanted));
        if !has_ttl(&first) && !is_refused && known.ownership.is_some_and(|own| own.wrote_alias(&first)) {
            let says = format!("the alias of {hostname} does not have the TTL that the manifest says");
            return PinReport::new(PinState::Loose, None, "other TTL").because(finding(
                Code::AliasDiffers,
                says,
                "Run settle: it corrects the record",
            ));
        }
        let is_written = known.ownership.is_some_and(|own| own.alias.intended.as_deref() == Some(wanted));
        let old: Vec<String> = view
            .servers
            .iter()
            .filter(|server| is_written && has_ttl(&first) && !has_ttl(&gives(server)))
            .map(|server| format!("{} returns the old TTL", server.server))
            .collect();
        if !old.is_empty() {
            let says = format!("the TTL of the alias of {hostname} has not propagated to every server yet");
            let remedy = "Wait until the zone is transferred: settle waits for it";
            return PinReport::new(PinState::Working, None, "not on every server")
                .because(finding(Code::AliasLagging, says, remedy).seen(old));
        }
        // As far as anybody answers it is as it should be.
        if let Some(silent) = view.silent() {
            return unanswered(silent);
        }
        let detail = match known.choice().filter(|choice| choice.reason != Reason::Preferred) {
            Some(choice) => format!("{} ({})", in_words(wanted), choice.reason),
            None => in_words(wanted),
        };
        return PinReport::new(PinState::Held, None, detail);
    }
    if let Some(dname) = &view.dname {
        let says = format!(
            "{hostname} can have no alias record: the DNAME record of {dname} leads all below it elsewhere, here to {}",
            in_words(&first)
        );
        let remedy = format!("Delete that DNAME record once nobody needs it, or choose a hostname outside {dname}");
        return PinReport::new(PinState::Blocked, None, "below a DNAME")
            .because(finding(Code::AliasRedirected, says, remedy).seen([present(&first)]));
    }
    if known.desired.is_handed_off(known.wanted.zone) {
        return awaited(known, &first, wanted);
    }
    let wildcard = view.wildcard.as_ref().filter(|_| !known.ownership.is_some_and(|own| own.wrote_alias(&first)));
    if first.is_empty() || wildcard.is_some() {
        let says = match wildcard {
            None => format!("{hostname} has no alias record yet"),
            Some(wildcard) => format!("{hostname} has no alias record of its own yet: {wildcard} answers for it"),
        };
        let remedy = "Run settle: it creates the record";
        return PinReport::new(PinState::Loose, None, "none yet").because(finding(Code::AliasMissing, says, remedy));
    }
    let mut evidence = vec![present(&first), format!("wanted: {}", in_words(wanted))];
    evidence.extend(view.since.map(|since| format!("it has been so since {since:.0} at least")));
    evidence.extend(view.leads.as_ref().map(leads));
    if !view.dependents.is_empty() {
        let named =
            view.dependents.iter().take(MOST_DEPENDENTS).map(|one| format!("{} of {}", one.record_type, one.owner));
        let named = named.collect::<Vec<_>>().join(", ");
        let more = match view.dependents.len().saturating_sub(MOST_DEPENDENTS) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        evidence.push(format!("what leads to it in the zone: {named}{more}"));
    }
    if known.ownership.is_some_and(|own| own.wrote_alias(&first)) {
        let says = format!("the alias of {hostname} points elsewhere");
        return PinReport::new(PinState::Loose, None, "points elsewhere")
            .because(finding(Code::AliasDiffers, says, "Run settle: it corrects the record").seen(evidence));
    }
    let is_own = |set: &RecordSet| known.ownership.is_some_and(|own| own.wrote_set(set));
    let may_go = |set: &RecordSet| known.wanted.replace.contains(set.record_type()) || is_own(set);
    if first.iter().all(may_go) {
        let says = format!("{hostname} has records of others, which the manifest says may go: {}", in_words(&first));
        return PinReport::new(PinState::Loose, None, "records to replace")
            .because(finding(Code::AliasReplaces, says, "Run settle: it replaces them").seen(evidence));
    }
    if let Some(target) = &view.dangling {
        let says = format!(
            "{hostname} is an alias of {target}, which does not exist: whoever gets that name gets its traffic"
        );
        let remedy = format!(
            "Delete that record; or run: pindrel adopt alias {hostname}, and then settle, which points it at the endpoint"
        );
        return PinReport::new(PinState::Blocked, None, "a dangling alias")
            .because(finding(Code::AliasDangling, says, remedy).seen(evidence));
    }
    let says = format!("{hostname} has records that Pindrel did not create: {}", in_words(&first));
    let types: Vec<String> =
        first.iter().filter(|set| !may_go(set)).map(|set| format!("\"{}\"", set.record_type())).collect();
    let remedy = format!(
        "Once nobody needs them, write replace = [{}] in [hostname.\"{hostname}\"]; if they are yours, take them over with: pindrel adopt alias {hostname}",
        types.join(", ")
    );
    PinReport::new(PinState::Blocked, None, "foreign records")
        .because(finding(Code::AliasConflict, says, remedy).seen(evidence))
}

/// What is there, with its TTL: how long caches keep it once it is gone.
fn present(sets: &[RecordSet]) -> String {
    let ttl = sets.iter().map(RecordSet::ttl).max();
    let ttl = ttl.map_or_else(String::new, |ttl| format!(", TTL {} s", ttl.as_secs()));
    format!("present: {}{ttl}", in_words(sets))
}

/// What answers where the records of somebody else lead.
fn leads(answer: &SampleAnswer) -> String {
    match &answer.outcome {
        SampleOutcome::Answered { status, .. } => format!("{} answers there with status {status}", answer.address),
        SampleOutcome::Failed { why } => format!("{} does not answer there: {why}", answer.address),
    }
}

/// What somebody else is to make.
fn awaited(known: Known<'_>, first: &[RecordSet], wanted: &[RecordSet]) -> PinReport {
    let (hostname, zone) = (&known.wanted.hostname, &known.desired.zone(known.wanted.zone).name);
    let says = format!("whoever edits {zone} has not pointed {hostname} at its endpoint yet");
    let remedy = format!("Send them what is to be made, as listed by: pindrel handoff {hostname}");
    let evidence = [format!("present: {}", in_words(first)), format!("wanted: {}", in_words(wanted))];
    PinReport::new(PinState::Blocked, None, "to be made by somebody else")
        .because(finding(Code::AliasAwaited, says, remedy).seen(evidence))
}
