//! Names outside a zone that its records lead to. Where such a name does not exist, whoever makes it takes over what led
//! to it: the content of an alias, the mail of a domain, all names below a delegation.

use std::collections::BTreeSet;
use std::ops::ControlFlow;

use super::rdata::target;
use super::{MOST_SLIPS, NameKey, Severity, Slip, SlipCode, TypeCode, ZoneData, ZoneEntry};
use crate::names::name::DnsName;

/// The most names outside of one zone that are looked up.
pub const MOST_OUTSIDE: usize = 1_000;

/// What a record that names another host gives it.
fn effect(code: TypeCode) -> Option<&'static str> {
    match code {
        TypeCode::CNAME | TypeCode::ALIAS | TypeCode::DNAME | TypeCode::HTTPS | TypeCode::SVCB => {
            Some("is an alias of")
        }
        TypeCode::MX => Some("receives its mail at"),
        TypeCode::NS => Some("is delegated to"),
        TypeCode::SRV => Some("leads to"),
        _ => None,
    }
}

/// The name outside of the zone that a record leads to.
fn outside(zone: &ZoneData, entry: &ZoneEntry<'_>) -> Option<DnsName> {
    effect(entry.code)?;
    let target = target(entry.code, entry.data)?;
    // "." is no host: no mail, no service, or the name itself (RFC 7505 §3, RFC 2782, RFC 9460 §2.5).
    (target != NameKey::root() && !target.is_within(zone.apex())).then(|| target.to_dns_name()).flatten()
}

/// Returns the names outside of a zone that its records lead to; [`MOST_OUTSIDE`] at most.
pub fn outside_targets(zone: &ZoneData) -> BTreeSet<DnsName> {
    let mut found = BTreeSet::new();
    zone.each_name(|name| {
        found.extend(name.iter().filter_map(|entry| outside(zone, entry)));
        if found.len() >= MOST_OUTSIDE { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    while found.len() > MOST_OUTSIDE {
        found.pop_last();
    }
    found
}

/// Returns a slip for each record that leads to one of the names, which do not exist; [`MOST_SLIPS`] at most.
pub fn missing_slips(zone: &ZoneData, missing: &BTreeSet<DnsName>) -> Vec<Slip> {
    let mut found = Vec::new();
    zone.each_name(|name| {
        found.extend(name.iter().filter_map(|entry| {
            let target = outside(zone, entry).filter(|target| missing.contains(target))?;
            let owner = entry.owner();
            let (plain, effect) = (owner.to_string(), effect(entry.code)?);
            Some(Slip {
                code: SlipCode::OutsideMissing,
                severity: Severity::Error,
                place: entry.place,
                name: owner,
                says: format!(
                    "{} {effect} {target}, which does not exist: whoever creates that name takes it over",
                    plain.trim_end_matches('.')
                ),
                help: format!("Delete the {} record, or create {target} again", entry.code),
            })
        }));
        if found.len() >= MOST_SLIPS { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    found.truncate(MOST_SLIPS);
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zones::zone_data::{Place, ZoneBuilder};

    #[test]
    fn what_leads_to_a_name_outside_that_does_not_exist_can_be_taken_over() {
        let wire = |skipped: &[u8], to: &str| {
            let mut wire = skipped.to_vec();
            NameKey::parse(format!("{to}.").as_bytes(), &NameKey::root()).unwrap().push_wire(&mut wire);
            wire
        };
        let gone = "gone.vendor.test";
        let records = [
            ("larkfield.example.", TypeCode::NS, wire(&[], "ns1.larkfield.example")),
            ("larkfield.example.", TypeCode::MX, wire(&[0, 10], gone)),
            ("shop.larkfield.example.", TypeCode::CNAME, wire(&[], gone)),
            ("docs.larkfield.example.", TypeCode::CNAME, wire(&[], "here.vendor.test")),
            ("inside.larkfield.example.", TypeCode::CNAME, wire(&[], "nothing.larkfield.example")),
            ("no-mail.larkfield.example.", TypeCode::MX, wire(&[0, 0], "")),
            ("lab.larkfield.example.", TypeCode::NS, wire(&[], gone)),
            ("_sip._tcp.larkfield.example.", TypeCode::SRV, wire(&[0; 6], gone)),
            ("4.larkfield.example.", TypeCode::PTR, wire(&[], gone)),
        ];
        let mut zone = ZoneBuilder::default();
        for (owner, code, data) in &records {
            let owner = NameKey::parse(owner.as_bytes(), &NameKey::root()).unwrap();
            zone.add(&owner, *code, 60, data, Place::default()).unwrap();
        }
        let zone = zone.finish("larkfield.example".parse::<DnsName>().ok().as_ref().map(NameKey::from));
        let targets: Vec<String> = outside_targets(&zone).iter().map(DnsName::to_string).collect();
        assert_eq!(targets, ["gone.vendor.test", "here.vendor.test"]);
        let missing = BTreeSet::from([gone.parse().unwrap()]);
        let said: Vec<String> = missing_slips(&zone, &missing).into_iter().map(|slip| slip.says).collect();
        let says = |what: &str| format!("{what} {gone}, which does not exist: whoever creates that name takes it over");
        let expected = [
            "larkfield.example receives its mail at",
            "_sip._tcp.larkfield.example leads to",
            "lab.larkfield.example is delegated to",
            "shop.larkfield.example is an alias of",
        ];
        assert_eq!(said, expected.map(says));
    }
}
