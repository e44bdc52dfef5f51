//! Slips that show only beside the endpoints: names of a zone that lead to one which does not know them, and names whose
//! addresses lead to different ones.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::ops::ControlFlow;

use super::rdata::target;
use super::{MOST_SLIPS, NameKey, Severity, Slip, SlipCode, TypeCode, ZoneData, ZoneEntry};
use crate::names::name::{DnsName, Hostname};

/// An endpoint, and the hostnames that it knows.
#[derive(Debug, Clone)]
pub struct ReachedEndpoint {
    /// Its name in the manifest.
    pub name: String,
    /// What aliases point at.
    pub default_name: Option<DnsName>,
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
    /// The hostnames that are bound there.
    pub bound: Vec<Hostname>,
}

impl ReachedEndpoint {
    fn is_reached_by(&self, entry: &ZoneEntry<'_>) -> bool {
        match entry.code {
            TypeCode::CNAME | TypeCode::ALIAS => self
                .default_name
                .as_ref()
                .is_some_and(|name| target(entry.code, entry.data) == Some(NameKey::from(name))),
            _ => address(entry).is_some_and(|address| self.addresses.contains(&address)),
        }
    }

    fn knows(&self, name: &Hostname) -> bool {
        self.bound.iter().any(|bound| bound.covers(name))
    }
}

fn address(entry: &ZoneEntry<'_>) -> Option<IpAddr> {
    match entry.code {
        TypeCode::A => <[u8; 4]>::try_from(entry.data).ok().map(IpAddr::from),
        TypeCode::AAAA => <[u8; 16]>::try_from(entry.data).ok().map(IpAddr::from),
        _ => None,
    }
}

/// Looks for names of a zone that lead to endpoints as they should not; [`MOST_SLIPS`] at most.
pub fn reach_slips(zone: &ZoneData, endpoints: &[ReachedEndpoint]) -> Vec<Slip> {
    let mut found = Vec::new();
    zone.each_name(|name| {
        look_at(name, endpoints, &mut found);
        if found.len() >= MOST_SLIPS { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    found.truncate(MOST_SLIPS);
    found
}

fn look_at(name: &[ZoneEntry<'_>], endpoints: &[ReachedEndpoint], found: &mut Vec<Slip>) {
    let Some(first) = name.first() else { return };
    let owner = first.owner();
    // The servers of zones and of mail may be where endpoints are, and are no hostnames.
    let Some(hostname) = owner.to_dns_name().and_then(|name| name.as_str().parse::<Hostname>().ok()) else { return };
    let slip = |code, place, says, help: &str| Slip {
        code,
        severity: Severity::Warning,
        place,
        name: owner.clone(),
        says,
        help: help.into(),
    };
    let plain = owner.to_string();
    let plain = plain.trim_end_matches('.');
    let reached: Vec<(&ReachedEndpoint, &ZoneEntry<'_>)> = endpoints
        .iter()
        .filter_map(|endpoint| Some((endpoint, name.iter().find(|entry| endpoint.is_reached_by(entry))?)))
        .collect();
    if !reached.is_empty() && !reached.iter().any(|(endpoint, _)| endpoint.knows(&hostname)) {
        let names: Vec<&str> = reached.iter().map(|(endpoint, _)| endpoint.name.as_str()).collect();
        let says = format!("{plain} leads to the endpoint {}, which has no binding of it", names.join(" and "));
        let help = "Add it to the manifest as a hostname of that endpoint, or delete the record";
        found.push(slip(SlipCode::Unbound, reached[0].1.place, says, help));
    }
    let by = |code: TypeCode| -> Option<BTreeSet<&str>> {
        let own: Vec<&ZoneEntry<'_>> = name.iter().filter(|entry| entry.code == code).collect();
        let reached = endpoints.iter().filter(|endpoint| own.iter().any(|entry| endpoint.is_reached_by(entry)));
        (!own.is_empty()).then(|| reached.map(|endpoint| endpoint.name.as_str()).collect())
    };
    if let (Some(v4), Some(v6)) = (by(TypeCode::A), by(TypeCode::AAAA))
        && v4 != v6
    {
        let listed = |names: &BTreeSet<&str>| match names.len() {
            0 => "none of the endpoints".to_owned(),
            _ => names.iter().copied().collect::<Vec<_>>().join(" and "),
        };
        let says = format!("the A records of {plain} lead to {}, and its AAAA records to {}", listed(&v4), listed(&v6));
        let help = "Correct the records of one family: clients take either";
        found.push(slip(SlipCode::FamiliesDiffer, first.place, says, help));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zones::zone_data::{Place, ZoneBuilder};

    #[test]
    fn names_that_lead_to_endpoints_that_do_not_know_them_are_told() {
        let endpoint = |name: &str, last: u8, bound: &[&str]| ReachedEndpoint {
            name: name.into(),
            default_name: format!("{name}.edge.test").parse().ok(),
            addresses: vec![[192, 0, 2, last].into(), [0x2001, 0xdb8, 0, 0, 0, 0, 0, u16::from(last)].into()],
            bound: bound.iter().map(|name| name.parse().unwrap()).collect(),
        };
        let endpoints = [
            endpoint("catalogue", 1, &["api.larkfield.example", "*.stations.larkfield.example"]),
            endpoint("plates", 2, &["api.larkfield.example"]),
        ];
        let alias = |to: &str| {
            let mut wire = Vec::new();
            NameKey::from(&to.parse::<DnsName>().unwrap()).push_wire(&mut wire);
            (TypeCode::CNAME, wire)
        };
        let v4 = |last: u8| (TypeCode::A, vec![192, 0, 2, last]);
        let v6 = |last: u8| (TypeCode::AAAA, [&[0x20, 0x01, 0x0d, 0xb8][..], &[0; 11], &[last]].concat());
        type Row<'r> = (&'r str, Vec<(TypeCode, Vec<u8>)>, Option<(SlipCode, &'r str)>);
        let table: [Row<'_>; 11] = [
            ("api", vec![alias("catalogue.edge.test")], None),
            ("api", vec![alias("plates.edge.test")], None),
            ("lowell.stations", vec![alias("catalogue.edge.test")], None),
            ("docs", vec![alias("elsewhere.test")], None),
            ("docs", vec![alias("plates.edge.test")], Some((SlipCode::Unbound, "leads to the endpoint plates, which"))),
            ("a.b.stations", vec![alias("catalogue.edge.test")], Some((SlipCode::Unbound, "endpoint catalogue"))),
            ("docs", vec![v4(1), v4(2)], Some((SlipCode::Unbound, "endpoint catalogue and plates"))),
            ("api", vec![v4(1), v6(1)], None),
            (
                "api",
                vec![v4(1), v6(2)],
                Some((SlipCode::FamiliesDiffer, "lead to catalogue, and its AAAA records to plates")),
            ),
            ("api", vec![v4(1), v6(9)], Some((SlipCode::FamiliesDiffer, "AAAA records to none of the endpoints"))),
            ("ns1", vec![v4(7), v6(8)], None),
        ];
        for (label, records, expected) in table {
            let mut zone = ZoneBuilder::default();
            let owner = NameKey::parse(format!("{label}.larkfield.example.").as_bytes(), &NameKey::root()).unwrap();
            for (code, data) in &records {
                zone.add(&owner, *code, 60, data, Place::default()).unwrap();
            }
            let found = reach_slips(&zone.finish(None), &endpoints);
            match (&found[..], expected) {
                ([], None) => {}
                ([slip], Some((code, says))) if slip.code == code && slip.says.contains(says) => {}
                (found, expected) => panic!("{label} {records:?}: {found:?}, not {expected:?}"),
            }
        }
    }
}
