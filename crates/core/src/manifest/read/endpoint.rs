//! The tables `[endpoint.NAME]`.

use std::net::IpAddr;

use super::common::{
    owned, parse_name, read_default_name, read_driver, read_path, read_program_words, read_secret, read_url,
};
use super::health::read_endpoint_health;
use super::web_server::{read_document_name, read_nginx};
use crate::desired::StaticEndpoint;
use crate::endpoints::endpoint::{OriginConnection, OriginScheme};
use crate::endpoints::load_balancer::LoadBalancer;
use crate::manifest::describe::ORIGIN_OF_PLATFORM;
use crate::manifest::section::Section;
use crate::manifest::{At, Diagnostics, EndpointDriverEntry, EndpointEntry};
use crate::names::name::{DnsName, Hostname};

/// What reads the keys of one driver.
type Reader = fn(&Section<'_>, &mut Diagnostics) -> Option<EndpointDriverEntry>;

/// The drivers, and what reads the keys of each.
const DRIVERS: [(&str, Reader); 5] = [
    ("haproxy", read_haproxy),
    ("http", read_http),
    ("program", read_program),
    ("static", read_static),
    ("nginx", read_nginx),
];

pub(super) fn read_endpoint(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<EndpointEntry> {
    if section.value("kind").is_none() {
        section.missing("kind", "\"gateway\"", problems);
    }
    let kind = section.word("kind", problems);
    // What else the table needs depends on the driver.
    let read = read_driver(section, &DRIVERS, problems)?;
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
    let origin = section.inner_as(&ORIGIN_OF_PLATFORM, "origin", problems)?;
    let scheme = origin.word::<OriginScheme>("scheme", problems);
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
    section.number("calls_per_second", problems).map(|calls| calls.value)
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
    let port = section.number("port", problems).map_or(443, |port| port.value);
    (addresses.into_iter().map(|address| address.value).collect(), u16::try_from(port).unwrap_or(443))
}
