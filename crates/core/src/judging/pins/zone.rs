//! `zone`: delegated to its servers, each of which serves it alike.

use std::net::SocketAddr;

use jiff::{SignedDuration, Timestamp};

use super::{Known, PinReport, PinState};
use crate::desired::Zone;
use crate::judging::facts::{DelegationView, Fact, Marker, ServerStatus, ServerView, ZoneView};
use crate::judging::findings::{Code, Finding, ZoneCause};
use crate::names::name::DnsName;

/// How long before signatures end that is told: most signers make new ones a week before.
const SIGNATURES_LEFT: SignedDuration = SignedDuration::from_hours(3 * 24);

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.zone else { return PinReport::not_looked_at() };
    let zone = known.desired.zone(known.wanted.zone);
    judge_fact(zone, fact)
}

pub(super) fn judge_fact(zone: &Zone, fact: &Fact<ZoneView>) -> PinReport {
    let (view, seen) = (&fact.value, fact.seen);
    let ending = signatures(view, seen);
    let glue = missing_glue(view);
    let is_lost = matches!(glue, Some(ZoneCause::GlueMissing { is_all: true, .. }));
    let dead = delegation_dead(view);
    let silent = server_outage(view).filter(|outage| !is_part_of(dead.as_ref(), outage));
    let found = [
        // What keeps everybody from the zone comes before a single server.
        glue.clone().filter(|_| is_lost),
        dead,
        silent,
        delegation(view),
        servers(view),
        keys(view),
        (view.validates == Some(false)).then_some(ZoneCause::Bogus),
        ending.over,
        zone.lacks_marker(view).then_some(ZoneCause::Unmarked),
    ];
    // What works today, and is not as it should be.
    let odd = [
        some(&view.parents_differing).map(ZoneCause::ParentsDiffer),
        some(&view.aliased_servers).map(ZoneCause::ServersAliased),
        some(&view.without_tcp).map(ZoneCause::WithoutTcp),
        glue.filter(|_| !is_lost),
        stale_glue(view),
        ending.soon,
        marked_by_others(zone, view),
    ];
    let finding = |cause| Finding::zone(&zone.name, cause);
    let mut findings: Vec<Finding> = found.into_iter().flatten().map(finding).collect();
    let state = match findings.first().map(Finding::code) {
        None => PinState::Held,
        Some(Code::ServerUnreachable | Code::ParentUnreachable) => PinState::Unknown,
        Some(Code::ZoneUnmarked) => PinState::Loose,
        Some(_) => PinState::Blocked,
    };
    findings.extend(odd.into_iter().flatten().map(finding));
    let serving = view.servers.iter().filter(|server| matches!(server.status, ServerStatus::Serves { .. })).count();
    let asked = view.servers_in_reach().count();
    let left_out = match view.servers.len() - asked {
        0 => String::new(),
        left => format!(", {left} left out: no route to their addresses from here"),
    };
    let detail = match state {
        PinState::Held if asked == 1 => format!("its one server answers{left_out}"),
        PinState::Held => format!("{serving} of {asked} servers answer alike{left_out}"),
        _ => format!("{serving} of {asked} servers answer{left_out}"),
    };
    PinReport { findings, ..PinReport::new(state, Some(seen), detail) }
}

/// What is seen, where something is.
fn some<T: Clone>(seen: &[T]) -> Option<Vec<T>> {
    (!seen.is_empty()).then(|| seen.to_vec())
}

fn marked_by_others(zone: &Zone, view: &ZoneView) -> Option<ZoneCause> {
    let Some(Marker::Others(others)) = view.marker.as_ref().filter(|_| zone.marker) else { return None };
    Some(ZoneCause::MarkedByOthers { owner: zone.marker_owner(), others: others.clone() })
}

fn server_outage(view: &ZoneView) -> Option<ZoneCause> {
    if view.servers.is_empty() {
        return Some(ZoneCause::NoServerKnown);
    }
    let silent = view.servers_in_reach().filter_map(|server| match &server.status {
        ServerStatus::Unreachable { why } => Some((server.server, why.clone())),
        _ => None,
    });
    ZoneCause::silent(silent, &view.servers_within)
}

fn missing_glue(view: &ZoneView) -> Option<ZoneCause> {
    let DelegationView::Delegated { name_servers, .. } = &view.delegation else { return None };
    let lacking = view.servers_within.iter().filter(|server| server.lacks_glue());
    let servers = some(&lacking.cloned().collect::<Vec<_>>())?;
    let is_all = name_servers.iter().all(|name| servers.iter().any(|server| server.name == *name));
    Some(ZoneCause::GlueMissing { servers, is_all })
}

fn stale_glue(view: &ZoneView) -> Option<ZoneCause> {
    let stale = view.servers_within.iter().filter(|server| server.has_stale_glue());
    some(&stale.cloned().collect::<Vec<_>>()).map(ZoneCause::GlueDiffers)
}

/// Where only servers answer that the delegation does not name, which nobody else asks.
fn delegation_dead(view: &ZoneView) -> Option<ZoneCause> {
    let DelegationView::Delegated { addresses, .. } = &view.delegation else { return None };
    let is_serving = |server: &ServerView| matches!(server.status, ServerStatus::Serves { .. });
    if !view.servers.iter().any(is_serving) {
        return None;
    }
    let delegated = view.servers_in_reach().filter(|server| addresses.contains(&server.server.ip()));
    let dead: Option<Vec<(SocketAddr, String)>> = delegated
        .map(|server| match &server.status {
            ServerStatus::Serves { .. } => None,
            ServerStatus::Lame { how } => Some((server.server, how.to_string())),
            ServerStatus::Unreachable { why } => Some((server.server, why.to_string())),
        })
        .collect();
    dead.filter(|dead| !dead.is_empty()).map(ZoneCause::DelegationDead)
}

/// Says whether all servers that do not answer are among those of a dead delegation.
fn is_part_of(dead: Option<&ZoneCause>, outage: &ZoneCause) -> bool {
    let (Some(ZoneCause::DelegationDead(dead)), ZoneCause::ServersSilent { silent, .. }) = (dead, outage) else {
        return false;
    };
    silent.iter().all(|(server, _)| dead.iter().any(|(told, _)| told == server))
}

fn delegation(view: &ZoneView) -> Option<ZoneCause> {
    match &view.delegation {
        DelegationView::Delegated { by, name_servers, addresses } => {
            let own = view.own_name_servers()?;
            // A primary that the delegation does not name is hidden from resolvers, as is usual.
            (own != name_servers).then(|| ZoneCause::DelegationDiffers {
                by: *by,
                delegated: name_servers.clone(),
                own: own.to_vec(),
                addresses: addresses.clone(),
            })
        }
        DelegationView::Missing { by } => Some(ZoneCause::NotDelegated { by: *by }),
        DelegationView::AskedBelow { servers } => Some(ZoneCause::ParentsBelow(servers.clone())),
        DelegationView::Unreachable { why } => Some(ZoneCause::ParentsSilent { why: why.clone() }),
    }
}

fn servers(view: &ZoneView) -> Option<ZoneCause> {
    let lame = view.servers.iter().filter_map(|server| match &server.status {
        ServerStatus::Lame { how } => Some((server.server, how.clone())),
        _ => None,
    });
    if let Some(lame) = some(&lame.collect::<Vec<_>>()) {
        return Some(ZoneCause::ServersLame(lame));
    }
    let said = view.servers.iter().filter_map(|server| match &server.status {
        ServerStatus::Serves { name_servers, .. } => Some((server.server, name_servers.as_slice())),
        _ => None,
    });
    let said: Vec<(_, &[DnsName])> = said.collect();
    let differs = said.windows(2).any(|pair| pair[0].1 != pair[1].1);
    let owned = said.into_iter().map(|(server, names)| (server, names.to_vec()));
    differs.then(|| ZoneCause::ServersDiffer(owned.collect()))
}

fn keys(view: &ZoneView) -> Option<ZoneCause> {
    some(&view.signed.as_ref()?.without_key).map(ZoneCause::KeysUnmatched)
}

/// Signatures that have ended, and that end soon.
struct Ending {
    over: Option<ZoneCause>,
    soon: Option<ZoneCause>,
}

fn signatures(view: &ZoneView, now: Timestamp) -> Ending {
    let ends = view.signed.as_ref().map_or(&[][..], |signed| &signed.ends);
    let (over, left): (Vec<_>, Vec<_>) = ends.iter().copied().partition(|(_, at)| *at <= now);
    let soon: Vec<_> = left.into_iter().filter(|(_, at)| at.duration_since(now) < SIGNATURES_LEFT).collect();
    Ending { over: some(&over).map(ZoneCause::SignaturesEnded), soon: some(&soon).map(ZoneCause::SignaturesEnding) }
}
