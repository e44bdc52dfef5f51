//! `zone`: delegated to its servers, each of which serves it alike.

use super::{Known, Pin, PinReport, PinState};
use crate::desired::Zone;
use crate::facts::{DelegationView, ServerStatus, ZoneView};
use crate::findings::{Code, Finding};
use crate::name::DnsName;

pub(super) fn judge(known: Known<'_>) -> PinReport {
    let Some(fact) = known.zone else { return PinReport::not_looked_at() };
    let zone = known.desired.zone(known.wanted.zone);
    let mut report = judge_view(zone, &fact.value);
    report.seen = Some(fact.seen);
    report
}

pub(super) fn judge_view(zone: &Zone, view: &ZoneView) -> PinReport {
    let findings: Vec<Finding> =
        [server_outage(zone, view), delegation(zone, view), servers(zone, view), signatures(zone, view)]
            .into_iter()
            .flatten()
            .collect();
    let serving = view.servers.iter().filter(|server| matches!(server.status, ServerStatus::Serves { .. })).count();
    let state = match findings.iter().map(|finding| finding.code).next() {
        None => PinState::Held,
        Some(Code::ServerUnreachable | Code::ParentUnreachable) => PinState::Unknown,
        Some(_) => PinState::Blocked,
    };
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
    PinReport { findings, ..PinReport::new(state, None, detail) }
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
        let says = format!("{} of the zone {} does not answer", names.join(" and "), zone.name);
        Finding::new(
            Code::ServerUnreachable,
            Pin::Zone,
            says,
            "Start that server, or allow UDP and TCP from this host to it",
        )
        .seen(evidence)
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

fn listed<T: ToString>(items: &[T]) -> String {
    if items.is_empty() { "none".into() } else { items.iter().map(T::to_string).collect::<Vec<_>>().join(", ") }
}
