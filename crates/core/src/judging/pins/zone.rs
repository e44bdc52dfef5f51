//! `zone`: delegated to its servers, each of which serves it alike.

use std::net::SocketAddr;

use jiff::{SignedDuration, Timestamp};

use super::{Known, Pin, PinReport, PinState};
use crate::desired::Zone;
use crate::judging::facts::{DelegationView, Fact, Marker, ServerStatus, ZoneView};
use crate::judging::findings::{Code, Finding};
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
    let mut findings: Vec<Finding> = [
        server_outage(zone, view),
        delegation(zone, view),
        servers(zone, view),
        keys(zone, view),
        signatures(zone, view),
        signatures_ending(zone, view, seen, Ends::Over),
        unmarked(zone, view),
    ]
    .into_iter()
    .flatten()
    .collect();
    let state = match findings.iter().map(|finding| finding.code).next() {
        None => PinState::Held,
        Some(Code::ServerUnreachable | Code::ParentUnreachable) => PinState::Unknown,
        Some(Code::ZoneUnmarked) => PinState::Loose,
        Some(_) => PinState::Blocked,
    };
    // What works today, and is not as it should be.
    let odd = [
        parents(zone, view),
        aliased_servers(zone, view),
        without_tcp(zone, view),
        stale_glue(zone, view),
        signatures_ending(zone, view, seen, Ends::Soon),
        marked_by_others(zone, view),
    ];
    findings.extend(odd.into_iter().flatten());
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

fn unmarked(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    zone.lacks_marker(view).then(|| {
        let says = format!("the zone {} has no marker yet", zone.name);
        Finding::new(Code::ZoneUnmarked, Pin::Zone, says, "Run settle: it adds the marker")
    })
}

fn marked_by_others(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    let Some(Marker::Others(others)) = view.marker.as_ref().filter(|_| zone.marker) else { return None };
    let says = format!("another installation of Pindrel has marked the zone {} as its own", zone.name);
    let owner = zone.marker_owner().map_or_else(String::new, |owner| format!(" of {owner}"));
    let remedy = format!(
        "Make sure that no hostname is held by both; once the other installation is gone, delete the TXT record{owner}"
    );
    Some(Finding::new(Code::ZoneMarkedByOther, Pin::Zone, says, remedy).seen(others.clone()))
}

fn server_outage(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    let silent = view.servers_in_reach().filter_map(|server| match &server.status {
        ServerStatus::Unreachable { why } => Some((server.server, why)),
        _ => None,
    });
    let silent: Vec<_> = silent.collect();
    let evidence: Vec<String> = silent.iter().map(|(server, why)| format!("{server}: {why}")).collect();
    let names: Vec<String> = silent.iter().map(|(server, _)| server.to_string()).collect();
    if view.servers.is_empty() {
        let says = format!("no server of the zone {} is known", zone.name);
        return Some(Finding::new(
            Code::ServerUnreachable,
            Pin::Zone,
            says,
            "Name its servers in the manifest, or have the zone delegated",
        ));
    }
    (!names.is_empty()).then(|| {
        let verb = if names.len() > 1 { "do" } else { "does" };
        let says = format!("{} of the zone {} {verb} not answer", names.join(" and "), zone.name);
        // The zone itself knows nothing of that address.
        let is_stale = |server: &SocketAddr| {
            view.stale_glue.iter().any(|one| one.glue.contains(&server.ip()) && !one.own.contains(&server.ip()))
        };
        let remedy = if silent.iter().all(|(server, _)| is_stale(server)) {
            "At the registrar, correct the glue records: no server of the zone has that address any longer"
        } else {
            "Start that server, or allow UDP and TCP from this host to it"
        };
        Finding::new(Code::ServerUnreachable, Pin::Zone, says, remedy).seen(evidence)
    })
}

fn delegation(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    match &view.delegation {
        DelegationView::Delegated { by, name_servers, addresses } => {
            let own = view.own_name_servers()?;
            // A primary that the delegation does not name is hidden from resolvers, as is usual.
            if own == name_servers {
                return None;
            }
            let says = format!("the delegation of {} names other servers than the zone's own NS set", zone.name);
            let remedy = format!("At the registrar, delegate {} to {}", zone.name, listed(own));
            let finding = Finding::new(Code::DelegationDiffers, Pin::Zone, says, remedy);
            Some(finding.seen([
                format!("delegated to {} (according to {by})", listed(name_servers)),
                format!("NS set of the zone: {}", listed(own)),
                format!("addresses in the delegation: {}", listed(addresses)),
            ]))
        }
        DelegationView::Missing { by } => {
            let says = format!("{} is not delegated", zone.name);
            let remedy = format!("At the registrar, delegate {} to its name servers", zone.name);
            Some(
                Finding::new(Code::DelegationMissing, Pin::Zone, says, remedy)
                    .seen([format!("{by} returned no delegation of {}", zone.name)]),
            )
        }
        DelegationView::Unreachable { why } => {
            let says =
                format!("the parent servers of {} do not answer, so its delegation cannot be checked", zone.name);
            let remedy = format!("Name reachable parents in [zone.\"{}\"], or try again", zone.name);
            Some(Finding::new(Code::ParentUnreachable, Pin::Zone, says, remedy).seen([why.to_string()]))
        }
    }
}

fn servers(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    let lame: Vec<String> = view
        .servers
        .iter()
        .filter_map(|server| match &server.status {
            ServerStatus::Lame { how } => Some(format!("{}: {how}", server.server)),
            _ => None,
        })
        .collect();
    if !lame.is_empty() {
        let says = format!("a server named for {} is not authoritative for it", zone.name);
        let remedy =
            format!("Load {} on that server, or remove it from the zone's NS set and its delegation", zone.name);
        return Some(Finding::new(Code::ServerLame, Pin::Zone, says, remedy).seen(lame));
    }
    let said: Vec<(String, &[DnsName])> = view
        .servers
        .iter()
        .filter_map(|server| match &server.status {
            ServerStatus::Serves { name_servers, .. } => Some((server.server.to_string(), name_servers.as_slice())),
            _ => None,
        })
        .collect();
    if said.windows(2).all(|pair| pair[0].1 == pair[1].1) {
        return None;
    }
    let says = format!("the servers of {} return different NS sets", zone.name);
    let remedy = "Make sure that all servers transfer the zone from the same primary";
    let evidence = said.into_iter().map(|(server, names)| format!("{server}: {}", listed(names)));
    Some(Finding::new(Code::ServersDiffer, Pin::Zone, says, remedy).seen(evidence))
}

fn signatures(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    (view.validates == Some(false)).then(|| {
        let says = format!("{} is signed, but its signatures do not validate", zone.name);
        let remedy = "Sign the zone again, or make the DS records in the parent zone match its keys";
        Finding::new(Code::ZoneBogus, Pin::Zone, says, remedy)
    })
}

fn keys(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    let without = &view.signed.as_ref()?.without_key;
    (!without.is_empty()).then(|| {
        let says =
            format!("no DS record of {} in the zone above matches a key that {} has", zone.name, listed(without));
        let remedy = "Enter the DS records of the zone's present keys at the registrar, or put the old key back";
        Finding::new(Code::KeysUnmatched, Pin::Zone, says, remedy)
    })
}

/// Which signatures are told.
#[derive(PartialEq, Eq)]
enum Ends {
    /// Those that have ended.
    Over,
    /// Those that end soon.
    Soon,
}

fn signatures_ending(zone: &Zone, view: &ZoneView, now: Timestamp, which: Ends) -> Option<Finding> {
    let ends = view.signed.as_ref()?.ends.iter();
    let left = |at: Timestamp| at.duration_since(now);
    let ending: Vec<String> = ends
        .filter(|(_, at)| match which {
            Ends::Over => left(*at) <= SignedDuration::ZERO,
            Ends::Soon => left(*at) > SignedDuration::ZERO && left(*at) < SIGNATURES_LEFT,
        })
        .map(|(server, at)| format!("{server}: {at:.0}"))
        .collect();
    (!ending.is_empty()).then(|| {
        let says = match which {
            Ends::Over => format!("signatures of {} have ended", zone.name),
            Ends::Soon => format!("signatures of {} end soon", zone.name),
        };
        let remedy = "Have the zone signed again, and check why that has not happened by itself";
        Finding::new(Code::SignaturesEnding, Pin::Zone, says, remedy).seen(ending)
    })
}

fn parents(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    (!view.parents_differing.is_empty()).then(|| {
        let says = format!("servers of the zone above say different things of the delegation of {}", zone.name);
        let remedy = "Ask the registrar why: clients get either answer";
        let evidence = view.parents_differing.iter().map(|server| format!("{server} says something else"));
        Finding::new(Code::ParentsDiffer, Pin::Zone, says, remedy).seen(evidence)
    })
}

fn aliased_servers(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    (!view.aliased_servers.is_empty()).then(|| {
        let says = format!("{} names a server by an alias: {}", zone.name, listed(&view.aliased_servers));
        let remedy = "Name the server by a name that has addresses of its own (RFC 2181 §10.3)";
        Finding::new(Code::NameServerAliased, Pin::Zone, says, remedy)
    })
}

fn stale_glue(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    (!view.stale_glue.is_empty()).then(|| {
        let names: Vec<&DnsName> = view.stale_glue.iter().map(|one| &one.name).collect();
        let says = format!("the zone above has other addresses of {} than {} itself", listed(&names), zone.name);
        let evidence = view.stale_glue.iter().map(|one| {
            format!("{}: {} in the zone above, {} in the zone", one.name, listed(&one.glue), listed(&one.own))
        });
        let remedy = "At the registrar, correct the glue records: clients that do not know the zone yet go there";
        Finding::new(Code::GlueDiffers, Pin::Zone, says, remedy).seen(evidence)
    })
}

fn without_tcp(zone: &Zone, view: &ZoneView) -> Option<Finding> {
    (!view.without_tcp.is_empty()).then(|| {
        let says = format!("a server of {} answers over UDP and not over TCP", zone.name);
        let remedy = "Open TCP at that server: long answers and transfers need it (RFC 7766)";
        let evidence = view.without_tcp.iter().map(|(server, why)| format!("{server}: {why}"));
        Finding::new(Code::ServerWithoutTcp, Pin::Zone, says, remedy).seen(evidence)
    })
}

fn listed<T: ToString>(items: &[T]) -> String {
    if items.is_empty() { "none".into() } else { items.iter().map(T::to_string).collect::<Vec<_>>().join(", ") }
}
