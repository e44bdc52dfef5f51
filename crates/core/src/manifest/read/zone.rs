//! The tables `[zone."NAME"]`.

use std::collections::HashMap;
use std::net::SocketAddr;

use super::common::{NameServer, SPAN_HELP, TTL_HELP, parse_name, read_driver, read_secret, read_span};
use crate::manifest::section::{Section, parse};
use crate::manifest::{At, Diagnostics, TsigEntry, ZoneEntry};
use crate::name::DnsName;
use crate::values::{TsigAlgorithm, Ttl};

pub(super) const ZONE_KEYS: &[&str] =
    &["driver", "servers", "parents", "tsig", "resolvers", "least_wait", "challenge_ttl"];
/// The longest additional wait for a challenge record, and the longest TTL of one, in seconds.
const LONGEST_CHALLENGE_SECS: u64 = 3_600;
pub(super) const TSIG_KEYS: &[&str] = &["name", "algorithm", "secret"];
const ADDRESS_HELP: &str = "write an address with a port, such as \"127.0.0.1:53\" or \"[::1]:53\"";

pub(super) fn read_zone(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<ZoneEntry> {
    let name = parse_name::<DnsName>(name, problems);
    if let Some(name) = name.as_ref().filter(|name| name.value.as_str().starts_with("*.")) {
        let message = format!("{} is a wildcard, and no zone has such a name", name.value);
        problems.report("bad-name", name.span.clone(), message, "write the name of the zone itself");
    }
    read_driver(section, &["rfc2136"], problems);
    let servers = read_servers(section, "servers", problems);
    let parents = read_servers(section, "parents", problems);
    let resolvers = read_servers(section, "resolvers", problems);
    if section.value("tsig").is_none() {
        section.missing(
            "tsig",
            "{ name = \"pindrel.\", algorithm = \"hmac-sha256\", secret = \"env:TSIG_SECRET\" }",
            problems,
        );
    }
    let tsig = section.inner("tsig", TSIG_KEYS, problems).and_then(|tsig| {
        let name = tsig.needed_text("name", "\"pindrel.\"", problems);
        let name = name.and_then(|name| parse(name, "write the key's name as the server has it", problems));
        let secret = read_secret(&tsig, "secret", "TSIG_SECRET", problems);
        let algorithm = match tsig.value("algorithm") {
            None => Some(TsigAlgorithm::HmacSha256),
            Some(_) => tsig
                .parsed("algorithm", "write \"hmac-sha256\", \"hmac-sha384\" or \"hmac-sha512\"", problems)
                .map(|algorithm| algorithm.value),
        };
        Some(TsigEntry { name: name?.value, algorithm: algorithm?, secret: secret? })
    });
    let least_wait = read_span(section, "least_wait", problems).unwrap_or_default();
    let challenge_ttl =
        section.parsed::<Ttl>("challenge_ttl", TTL_HELP, problems).map_or(Ttl::CHALLENGE, |ttl| ttl.value);
    for (key, secs) in [("least_wait", least_wait.as_secs()), ("challenge_ttl", challenge_ttl.as_secs().into())] {
        if secs > LONGEST_CHALLENGE_SECS {
            let span = section.span_of(key).unwrap_or_default();
            problems.report(
                "bad-value",
                span,
                format!("\"{key}\" is at most {} min", LONGEST_CHALLENGE_SECS / 60),
                SPAN_HELP,
            );
        }
    }
    Some(ZoneEntry { name: name?, servers, parents, resolvers, tsig: tsig?, least_wait, challenge_ttl })
}

pub(super) fn report_repeated_zones(zones: &[ZoneEntry], problems: &mut Diagnostics) {
    let mut seen = HashMap::new();
    for zone in zones {
        if seen.insert(&zone.name.value, ()).is_some() {
            problems.report(
                "duplicate",
                zone.name.span.clone(),
                format!("the zone {} is given twice (case and the final dot do not count)", zone.name.value),
                "keep one of the two",
            );
        }
    }
}

fn read_servers(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Vec<SocketAddr> {
    section.parsed_list::<NameServer>(key, ADDRESS_HELP, problems).into_iter().map(|server| server.value.0).collect()
}
