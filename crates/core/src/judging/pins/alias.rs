//! `alias`: every authoritative server gives the alias record, and nothing beside it.

use std::net::SocketAddr;

use super::{Known, PinReport, PinState};
use crate::health::policy::Reason;
use crate::judging::facts::{AliasView, ServerRecords, Unreachable};
use crate::judging::findings::{AliasCause, Finding, Found};
use crate::zones::records::{RecordSet, in_words, same_data};

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.alias else { return PinReport::not_looked_at() };
    let Some(wanted) = known.wanted_alias() else {
        return PinReport::new(PinState::Unknown, Some(fact.seen), "no target known");
    };
    let mut report = judge_view(known, &fact.value, &wanted);
    report.seen = Some(fact.seen);
    report
}

fn judge_view(known: Known<'_>, view: &AliasView, wanted: &[RecordSet]) -> PinReport {
    let finding = |cause| Finding::alias(&known.wanted.hostname, cause);
    let report = |state, detail: &str, cause| PinReport::new(state, None, detail).because(finding(cause));
    let unanswered = |(server, why): (SocketAddr, &Unreachable)| {
        let unseen = AliasCause::Unseen { server: Some((server, why.clone())) };
        report(PinState::Unknown, "a server does not answer", unseen)
    };
    let gives = |server: &ServerRecords| server.gives.clone().unwrap_or_default();
    let first = match view.servers.first().map(|first| (first.server, &first.gives)) {
        None => return PinReport::not_looked_at(),
        // The one that takes changes: nothing can be judged without it.
        Some((server, Err(why))) => return unanswered((server, why)),
        Some((_, Ok(first))) => first.clone(),
    };
    if same_data(&first, wanted) {
        let lagging: Vec<ServerRecords> = view.behind(wanted).cloned().collect();
        if !lagging.is_empty() {
            return report(PinState::Working, "not on every server", AliasCause::Lagging(lagging));
        }
        let has_ttl = |sets: &[RecordSet]| sets.iter().zip(wanted).all(|(is, wanted)| is.ttl() == wanted.ttl());
        // A server that changes the TTL it was given is not told again and again.
        // Nor is a TTL in a zone of somebody else's ours to say.
        let is_theirs = known.desired.is_handed_off(known.wanted.zone);
        let is_refused = is_theirs || known.ownership.is_some_and(|own| own.alias.made.as_deref() == Some(wanted));
        if !has_ttl(&first) && !is_refused && known.ownership.is_some_and(|own| own.wrote_alias(&first)) {
            return report(PinState::Loose, "other TTL", AliasCause::OtherTtl);
        }
        let is_written = known.ownership.is_some_and(|own| own.alias.intended.as_deref() == Some(wanted));
        let old = view.servers.iter().filter(|server| is_written && has_ttl(&first) && !has_ttl(&gives(server)));
        let servers: Vec<SocketAddr> = old.map(|server| server.server).collect();
        if !servers.is_empty() {
            return report(PinState::Working, "not on every server", AliasCause::TtlLagging { servers });
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
        let redirected = AliasCause::Redirected { dname: dname.clone(), present: first };
        return report(PinState::Blocked, "below a DNAME", redirected);
    }
    if known.desired.is_handed_off(known.wanted.zone) {
        let zone = known.desired.zone(known.wanted.zone).name.clone();
        let awaited = AliasCause::Awaited { zone, present: first, wanted: wanted.to_vec() };
        return report(PinState::Blocked, "to be made by somebody else", awaited);
    }
    let wildcard = view.wildcard.clone().filter(|_| !known.ownership.is_some_and(|own| own.wrote_alias(&first)));
    if first.is_empty() || wildcard.is_some() {
        return report(PinState::Loose, "none yet", AliasCause::Missing { wildcard });
    }
    let found = Found::new(view, &first, wanted);
    if known.ownership.is_some_and(|own| own.wrote_alias(&first)) {
        return report(PinState::Loose, "points elsewhere", AliasCause::Differs(found));
    }
    let is_own = |set: &RecordSet| known.ownership.is_some_and(|own| own.wrote_set(set));
    let may_go = |set: &RecordSet| known.wanted.replace.contains(set.record_type()) || is_own(set);
    if first.iter().all(may_go) {
        return report(PinState::Loose, "records to replace", AliasCause::Replaces(found));
    }
    if let Some(target) = view.dangling.clone() {
        return report(PinState::Blocked, "a dangling alias", AliasCause::Dangling { target, found });
    }
    let types = first.iter().filter(|set| !may_go(set)).map(RecordSet::record_type).collect();
    report(PinState::Blocked, "foreign records", AliasCause::Conflict { found, types })
}
