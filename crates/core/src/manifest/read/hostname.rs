//! The tables `[hostname."NAME"]`.

use std::str::FromStr;

use super::common::{TTL_HELP, owned, parse_name, read_path, read_secret, read_words};
use crate::endpoint::{ClientNeed, Route, TlsVersion};
use crate::expectation::{Expectation, SampleMethod};
use crate::manifest::section::Section;
use crate::manifest::{At, ClientCertificatesEntry, Diagnostics, HostnameEntry};
use crate::name::Hostname;

pub(super) const HOSTNAME_KEYS: &[&str] = &[
    "endpoint",
    "routes",
    "also",
    "expect",
    "certificate",
    "authority",
    "ttl",
    "minimum_tls",
    "client_certificates",
    "probe_as",
    "labels",
    "note",
];
pub(super) const ROUTE_KEYS: &[&str] = &["prefix", "service", "release", "expect"];
pub(super) const EXPECT_KEYS: &[&str] = &["path", "status", "body", "method", "origin"];
pub(super) const CLIENT_KEYS: &[&str] = &["roots", "need", "probe_with"];

pub(super) fn read_hostname(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<HostnameEntry> {
    let hostname = parse_name::<Hostname>(name, problems);
    let endpoint = section.text("endpoint", problems);
    let written = section.inner_list("routes", ROUTE_KEYS, problems);
    // Room for no more than are there: most hostnames have one, and there may be many hostnames.
    let mut routes = Vec::with_capacity(written.len());
    let mut samples = Vec::new();
    for section in &written {
        let Some(route) = read_route(section, problems) else { continue };
        let same = |other: &Route| other.prefix.trim_end_matches('/') == route.prefix.trim_end_matches('/');
        if routes.iter().any(same) {
            let span = section.text("prefix", problems).map_or_else(|| section.span(), |prefix| prefix.span);
            let message = format!("the prefix {} is given twice, and only the first route would be used", route.prefix);
            problems.report("duplicate", span, message, "keep one of the two");
        }
        if let Some(expect) = section.inner("expect", EXPECT_KEYS, problems) {
            samples.push(read_expectation(&expect, Expectation::at(&route.prefix), problems));
        }
        routes.push(route);
    }
    let also = section.texts("also", problems).into_iter().filter_map(|name| parse_name(name, problems)).collect();
    let probe_as = section.text("probe_as", problems);
    if let Some(hostname) = &hostname {
        check_probe_label(&hostname.value, probe_as.as_ref(), section, problems);
    }
    let expect = section
        .inner("expect", EXPECT_KEYS, problems)
        .map(|expect| read_expectation(&expect, Expectation::for_routes(&routes), problems));
    Some(HostnameEntry {
        hostname: hostname?,
        endpoint: endpoint.map(owned),
        certificate: section.text("certificate", problems).map(owned),
        authority: section.text("authority", problems).map(owned),
        routes,
        also,
        ttl: section.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value),
        minimum_tls: section
            .parsed("minimum_tls", "write \"1.2\" or \"1.3\"", problems)
            .map_or(TlsVersion::V1_2, |version| version.value),
        client_certificates: section
            .inner("client_certificates", CLIENT_KEYS, problems)
            .and_then(|clients| read_client_certificates(&clients, problems)),
        expect,
        samples,
        probe_as: probe_as.map(owned),
        labels: read_words(section, "labels", problems),
        note: section.plain_text("note", problems),
    })
}

fn check_probe_label(hostname: &Hostname, label: Option<&At<&str>>, section: &Section<'_>, problems: &mut Diagnostics) {
    match label {
        None if hostname.is_wildcard() => section.missing("probe_as", "\"LABEL\"", problems),
        Some(label) if !hostname.is_wildcard() => problems.report(
            "bad-value",
            label.span.clone(),
            format!("{hostname} is not a wildcard: it is looked up under its own name"),
            "remove probe_as",
        ),
        Some(label) if label.value.contains('.') || hostname.probed_as(label.value).is_err() => problems.report(
            "bad-name",
            label.span.clone(),
            format!("\"{}\" cannot replace the * in {hostname}", label.value),
            "write one label of letters, digits and hyphens",
        ),
        _ => {}
    }
}

fn read_client_certificates(section: &Section<'_>, problems: &mut Diagnostics) -> Option<ClientCertificatesEntry> {
    if section.value("roots").is_none() {
        section.missing("roots", "\"clients.pem\"", problems);
    }
    let need = section.parsed::<ClientNeed>("need", "write \"required\" or \"optional\"", problems);
    let need = need.map_or(ClientNeed::Required, |need| need.value);
    let probe_with =
        section.value("probe_with").and_then(|_| read_secret(section, "probe_with", "PROBE_PEM", problems));
    Some(ClientCertificatesEntry { roots: read_path(section, "roots", problems)?, need, probe_with })
}

fn read_route(section: &Section<'_>, problems: &mut Diagnostics) -> Option<Route> {
    let prefix = section.needed_text("prefix", "\"/v1\"", problems);
    let service = section.needed_text("service", "\"NAME\"", problems);
    let release = section.text("release", problems).map(|release| release.value.to_owned());
    let prefix = prefix?;
    if !is_path(prefix.value) {
        problems.report(
            "bad-value",
            prefix.span,
            format!("\"{}\" is not a path", prefix.value),
            "write a path that starts with a slash, such as \"/v1\"",
        );
        return None;
    }
    Some(Route { prefix: prefix.value.to_owned(), service: service?.value.to_owned(), release })
}

fn read_expectation(section: &Section<'_>, usual: Expectation, problems: &mut Diagnostics) -> Expectation {
    let path = section.text("path", problems);
    if let Some(path) = &path
        && !is_path(path.value)
    {
        problems.report(
            "bad-value",
            path.span.clone(),
            format!("\"{}\" is not a path", path.value),
            "write the path alone, such as \"/v2/ready\"; the host is the hostname",
        );
    }
    let status =
        section.parsed::<StatusRange>("status", "write a status or a range, such as \"200\" or \"200-299\"", problems);
    Expectation {
        path: path.map_or(usual.path, |path| path.value.to_owned()),
        status: status.map_or(usual.status, |range| (range.value.0, range.value.1)),
        body: section.plain_text("body", problems),
        method: section
            .parsed::<SampleMethod>("method", "write \"GET\", \"HEAD\" or \"OPTIONS\"", problems)
            .map_or(usual.method, |method| method.value),
        origin: read_request_origin(section, problems),
    }
}

/// Reads the `Origin` of a sample request (RFC 6454 §7): a scheme, a host and perhaps a port.
fn read_request_origin(section: &Section<'_>, problems: &mut Diagnostics) -> Option<String> {
    let origin = section.text("origin", problems)?;
    let is_origin = url::Url::parse(origin.value)
        .is_ok_and(|url| url.has_host() && url.origin().ascii_serialization() == origin.value);
    if !is_origin {
        problems.report(
            "bad-value",
            origin.span,
            format!("\"{}\" is not an origin", origin.value),
            "write a scheme and a host, such as \"https://larkfield.example\"",
        );
        return None;
    }
    Some(origin.value.to_owned())
}

/// A status or a range of them, as in `200-299`.
struct StatusRange(u16, u16);

impl FromStr for StatusRange {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (low, high) = text.split_once('-').unwrap_or((text, text));
        match (low.parse(), high.parse()) {
            (Ok(low), Ok(high)) if (100..=599).contains(&low) && (low..=599).contains(&high) => {
                Ok(StatusRange(low, high))
            }
            _ => Err(format!("\"{text}\" is not an HTTP status")),
        }
    }
}

fn is_path(text: &str) -> bool {
    text.starts_with('/') && !text.contains(|c: char| c.is_whitespace() || c.is_control() || c == '#')
}
