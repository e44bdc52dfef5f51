//! The tables `[endpoint.NAME]`.

use std::net::IpAddr;
use std::sync::LazyLock;

use super::common::{
    owned, parse_name, read_default_name, read_driver, read_path, read_program_words, read_secret, read_url,
};
use super::health::read_endpoint_health;
use super::web_server::{read_document_name, read_nginx};
use crate::desired::StaticEndpoint;
use crate::endpoints::endpoint::{OriginConnection, OriginScheme};
use crate::endpoints::load_balancer::LoadBalancer;
use crate::manifest::section::{Section, parse};
use crate::manifest::{At, Diagnostics, EndpointDriverEntry, EndpointEntry};
use crate::names::name::{DnsName, Hostname};

/// What reads the keys of one driver.
type Reader = fn(&Section<'_>, &mut Diagnostics) -> Option<EndpointDriverEntry>;

/// The keys of `origin` where a platform is told how to speak to it.
pub(super) const PLATFORM_ORIGIN_KEYS: &[&str] = &["scheme", "verify", "server_name"];

/// The keys of every endpoint.
const COMMON_KEYS: [&str; 4] = ["kind", "driver", "health", "health_terms"];
/// The drivers with the keys that each has besides, and what reads them.
const DRIVERS: [(&str, &[&str], Reader); 5] = [
    ("haproxy", &["socket", "folder", "list", "default_name", "addresses", "port"], read_haproxy),
    ("http", &["id", "url", "token", "api_roots", "calls_per_second", "origin", "default_document"], read_http),
    ("program", &["id", "program", "token", "calls_per_second", "origin", "default_document"], read_program),
    ("static", &["default_name", "addresses", "port"], read_static),
    (
        "nginx",
        &[
            "folder",
            "services",
            "service",
            "listen",
            "listen_http",
            "default_name",
            "test",
            "reload",
            "origin",
            "default_document",
        ],
        read_nginx,
    ),
];

/// The keys of all drivers, each once.
pub(super) static ENDPOINT_KEYS: LazyLock<Vec<&str>> = LazyLock::new(|| {
    let mut keys = COMMON_KEYS.to_vec();
    for key in DRIVERS.iter().flat_map(|(_, own, _)| *own) {
        if !keys.contains(key) {
            keys.push(key);
        }
    }
    keys
});

pub(super) fn read_endpoint(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<EndpointEntry> {
    let kind = section.needed_text("kind", "\"gateway\"", problems);
    let kind = kind.and_then(|kind| parse(kind, "write \"gateway\", \"distribution\" or \"balancer\"", problems));
    let driver = section.text("driver", problems).map(|driver| driver.value);
    let Some((_, own, read)) = DRIVERS.iter().find(|(name, ..)| Some(*name) == driver) else {
        // What else the table needs depends on the driver.
        read_driver(section, &DRIVERS.map(|(name, ..)| name), problems);
        return None;
    };
    for key in ENDPOINT_KEYS.iter().filter(|key| !COMMON_KEYS.contains(key) && !own.contains(key)) {
        let owners = DRIVERS.iter().filter(|(_, keys, _)| keys.contains(key));
        let owners = owners.map(|(name, ..)| format!("\"{name}\"")).collect::<Vec<_>>().join(" and ");
        section.refuse(key, &format!("\"{key}\" belongs to the driver {owners}"), problems);
    }
    let driver = read(section, problems);
    let id = section.text("id", problems).map_or(name.value, |id| id.value).to_owned();
    // A web server is written to; a platform is told.
    let is_told = matches!(driver, Some(EndpointDriverEntry::Http { .. } | EndpointDriverEntry::Program { .. }));
    let origin = if is_told { read_origin_connection(section, problems) } else { None };
    let default_document = if is_told { read_document_name(section, problems) } else { None };
    let health = read_endpoint_health(section, problems);
    Some(EndpointEntry { name: owned(name), id, kind: kind?.value, driver: driver?, default_document, origin, health })
}

fn read_origin_connection(section: &Section<'_>, problems: &mut Diagnostics) -> Option<OriginConnection> {
    let origin = section.inner("origin", PLATFORM_ORIGIN_KEYS, problems)?;
    let scheme = origin.parsed::<OriginScheme>("scheme", "write \"https\" or \"http\"", problems);
    let server_name = origin.text("server_name", problems);
    Some(OriginConnection {
        scheme: scheme.map_or(OriginScheme::Https, |scheme| scheme.value),
        verify: origin.truth("verify", problems).is_none_or(|verify| verify.value),
        server_name: server_name.and_then(|name| parse_name::<Hostname>(name, problems)).map(|name| name.value),
    })
}

fn read_http(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointDriverEntry> {
    let url = read_url(section, "url", "\"https://127.0.0.1:9443\"", problems);
    let token = read_secret(section, "token", "EDGE_TOKEN", problems);
    let api_roots = read_path(section, "api_roots", problems);
    let calls_per_second = read_pace(section, problems);
    Some(EndpointDriverEntry::Http { url: url?, token: token?, api_roots, calls_per_second })
}

fn read_pace(section: &Section<'_>, problems: &mut Diagnostics) -> Option<u32> {
    section.number("calls_per_second", 1..=10_000, problems).map(|calls| calls.value)
}

fn read_program(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointDriverEntry> {
    let words = read_program_words(section, "[\"python3\", \"adapter.py\"]", problems);
    let token = section.value("token").and_then(|_| read_secret(section, "token", "EDGE_TOKEN", problems));
    let calls_per_second = read_pace(section, problems);
    Some(EndpointDriverEntry::Program { words: words?, token, calls_per_second })
}

fn read_static(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointDriverEntry> {
    let default_name = section.needed_text("default_name", "\"edge7.vendor.test.\"", problems);
    let default_name = default_name.and_then(|name| parse_name::<DnsName>(name, problems));
    let (addresses, port) = read_place(section, problems);
    Some(EndpointDriverEntry::Static(StaticEndpoint { default_name: default_name?.value, addresses, port }))
}

fn read_haproxy(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointDriverEntry> {
    for (key, example) in [("socket", "\"/run/haproxy/admin.sock\""), ("folder", "\"/etc/haproxy/pindrel\"")] {
        if section.value(key).is_none() {
            section.missing(key, example, problems);
        }
    }
    let mut path = |key| {
        let path = read_path(section, key, problems)?;
        if key != "socket"
            && path.value.to_str().is_none_or(|text| text.contains(|c: char| c.is_whitespace() || c == ';'))
        {
            let message = format!("\"{}\" cannot be named in a command of the balancer", path.value.display());
            problems.report("bad-value", path.span, message, "choose a path without spaces and semicolons");
            return None;
        }
        Some(path.value)
    };
    let (socket, folder, list) = (path("socket"), path("folder"), path("list"));
    let default_name = read_default_name(section, problems);
    let (addresses, port) = read_place(section, problems);
    let folder = folder?;
    let list = list.unwrap_or_else(|| folder.join("list.txt"));
    Some(EndpointDriverEntry::Haproxy(LoadBalancer { socket: socket?, folder, list, default_name, addresses, port }))
}

/// Reads the addresses and the port of an endpoint that no platform tells.
fn read_place(section: &Section<'_>, problems: &mut Diagnostics) -> (Vec<IpAddr>, u16) {
    let addresses = section.parsed_list::<IpAddr>("addresses", "write an address, such as \"192.0.2.80\"", problems);
    if addresses.is_empty()
        && section.value("addresses").is_none_or(|value| value.get_ref().as_array().is_some_and(|list| list.is_empty()))
    {
        section.missing("addresses", "[\"192.0.2.80\"]", problems);
    }
    let port = section.number("port", 1..=65_535, problems).map_or(443, |port| port.value);
    (addresses.into_iter().map(|address| address.value).collect(), u16::try_from(port).unwrap_or(443))
}
