//! The tables `[zone."NAME"]`.

use std::collections::HashMap;
use std::net::SocketAddr;

use url::Url;

use super::certificate::read_command;
use super::common::{NameServer, parse_name, read_driver, read_path, read_program_words, read_secret};
use crate::desired::{PowerDnsApi, Tsig, ZoneDriver, ZoneFile, ZoneProgram};
use crate::manifest::section::{Section, parse};
use crate::manifest::{At, Diagnostics, ZoneEntry};
use crate::names::name::DnsName;
use crate::values::{SecretRef, TsigAlgorithm, Ttl};
use crate::zones::resolver::ResolverAddress;

/// What reads the keys of one driver; beside the driver comes the place of its secret.
type Reader = fn(&Section<'_>, &mut Diagnostics) -> Option<(ZoneDriver, Option<At<SecretRef>>)>;

/// The drivers, and what reads the keys of each.
const DRIVERS: [(&str, Reader); 5] = [
    ("rfc2136", read_rfc2136),
    ("powerdns", read_powerdns),
    ("file", read_file),
    ("program", read_program),
    ("none", |_, _| Some((ZoneDriver::None, None))),
];
const RESOLVER_HELP: &str =
    "write \"192.0.2.53\", \"tls://192.0.2.53\" or \"https://resolver.larkfield.test/dns-query\"";
const ADDRESS_HELP: &str = "write an address with a port, such as \"127.0.0.1:53\" or \"[::1]:53\"";

pub(super) fn read_zone(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<ZoneEntry> {
    let name = parse_name::<DnsName>(name, problems);
    if let Some(name) = name.as_ref().filter(|name| name.value.as_str().starts_with("*.")) {
        let message = format!("{} is a wildcard, and no zone has such a name", name.value);
        problems.report("bad-name", name.span.clone(), message, "write the name of the zone itself");
    }
    // What else the table needs depends on the driver.
    let driver = read_driver(section, &DRIVERS, problems).and_then(|read| read(section, problems));
    let servers = read_servers(section, "servers", problems);
    let update = section.parsed::<NameServer>("update", ADDRESS_HELP, problems).map(|server| server.value.0);
    let parents = read_servers(section, "parents", problems);
    let resolvers = section.parsed_list::<ResolverAddress>("resolvers", RESOLVER_HELP, problems);
    let resolvers: Vec<ResolverAddress> = resolvers.into_iter().map(|resolver| resolver.value).collect();
    let resolver_roots = read_path(section, "resolver_roots", problems);
    let least_wait = section.duration("least_wait", problems).unwrap_or_default();
    let challenge_ttl = section.duration("challenge_ttl", problems);
    let challenge_ttl = challenge_ttl.and_then(|ttl| Ttl::try_from(u32::try_from(ttl.as_secs()).ok()?).ok());
    let challenge_ttl = challenge_ttl.unwrap_or(Ttl::CHALLENGE);
    let marker = section.truth("marker", problems).is_some_and(|marker| marker.value);
    if marker && matches!(driver, Some((ZoneDriver::None, _))) {
        let span = section.span_of("marker").unwrap_or_default();
        let message = "a zone that somebody else edits is not marked";
        problems.report("bad-value", span, message, "remove \"marker\"");
    }
    let (driver, secret) = driver?;
    let name = name?;
    Some(ZoneEntry {
        name,
        servers,
        update,
        parents,
        resolvers,
        resolver_roots,
        driver,
        marker,
        secret,
        least_wait,
        challenge_ttl,
    })
}

fn read_rfc2136(section: &Section<'_>, problems: &mut Diagnostics) -> Option<(ZoneDriver, Option<At<SecretRef>>)> {
    if section.value("tsig").is_none() {
        section.missing(
            "tsig",
            "{ name = \"pindrel.\", algorithm = \"hmac-sha256\", secret = \"env:TSIG_SECRET\" }",
            problems,
        );
    }
    let tsig = section.inner("tsig", problems)?;
    let name = tsig.needed_text("name", "\"pindrel.\"", problems);
    let name = name.and_then(|name| parse(name, "write the key's name as the server has it", problems));
    let secret = read_secret(&tsig, "secret", "TSIG_SECRET", problems);
    let algorithm = match tsig.value("algorithm") {
        None => Some(TsigAlgorithm::HmacSha256),
        Some(_) => tsig.word("algorithm", problems).map(|algorithm| algorithm.value),
    };
    let (name, algorithm, secret) = (name?.value, algorithm?, secret?);
    Some((ZoneDriver::Rfc2136(Tsig { name, algorithm, secret: secret.value.clone() }), Some(secret)))
}

fn read_powerdns(section: &Section<'_>, problems: &mut Diagnostics) -> Option<(ZoneDriver, Option<At<SecretRef>>)> {
    const HELP: &str = "write the URL that the API is at, such as \"http://127.0.0.1:8081\"";
    let url = section.needed_text("url", "\"http://127.0.0.1:8081\"", problems);
    let url = url.and_then(|text| {
        let url: At<Url> = parse(text, HELP, problems)?;
        let is_here = match url.value.host() {
            Some(url::Host::Ipv4(address)) => address.is_loopback(),
            Some(url::Host::Ipv6(address)) => address.is_loopback(),
            Some(url::Host::Domain(name)) => name == "localhost",
            None => false,
        };
        let message = match url.value.scheme() {
            _ if !url.value.has_host() => "\"url\" names no host",
            _ if url.value.path().contains("/api/v1") => "\"url\" holds the path of the API, which is added to it",
            _ if !url.value.username().is_empty() || url.value.password().is_some() => "\"url\" holds a password",
            "https" => return Some(url.value),
            "http" if is_here => return Some(url.value),
            "http" => "over http:// the API key would cross the network in the clear",
            _ => "\"url\" is not an http or https URL",
        };
        let help = match url.value.as_str().split_once("/api/v1") {
            Some((plain, _)) if url.value.path().contains("/api/v1") => format!("write \"{plain}\""),
            _ if is_here => HELP.to_owned(),
            _ => "write an https:// URL, or the API's address on this machine".to_owned(),
        };
        problems.report("bad-value", url.span, message, help);
        None
    });
    let token = read_secret(section, "token", "PDNS_KEY", problems);
    let api_roots = read_path(section, "api_roots", problems).map(|path| path.value);
    let (url, token) = (url?, token?);
    Some((ZoneDriver::PowerDns(PowerDnsApi { url, token: token.value.clone(), api_roots }), Some(token)))
}

fn read_file(section: &Section<'_>, problems: &mut Diagnostics) -> Option<(ZoneDriver, Option<At<SecretRef>>)> {
    if section.value("file").is_none() {
        section.missing("file", "\"zones/larkfield.example.zone\"", problems);
    }
    let file = read_path(section, "file", problems);
    let after = section.inner_list("after", problems);
    let after = after.iter().filter_map(|entry| read_command(entry, problems)).collect();
    let include_below = read_path(section, "include_below", problems).map(|path| path.value);
    Some((ZoneDriver::File(ZoneFile { file: file?.value, include_below, after }), None))
}

fn read_program(section: &Section<'_>, problems: &mut Diagnostics) -> Option<(ZoneDriver, Option<At<SecretRef>>)> {
    let words = read_program_words(section, "[\"./adapters/my-dns\"]", problems);
    let token = section.value("token").and_then(|_| read_secret(section, "token", "DNS_TOKEN", problems));
    let program = ZoneProgram { words: words?, token: token.as_ref().map(|token| token.value.clone()) };
    Some((ZoneDriver::Program(program), token))
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
