//! The tables `[hostname."NAME"]`.

use std::str::FromStr;

use super::common::{TTL_HELP, owned, parse_name, read_words};
use crate::endpoint::{Route, TlsVersion};
use crate::expectation::Expectation;
use crate::manifest::section::Section;
use crate::manifest::{At, Diagnostics, HostnameEntry};
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
    "probe_as",
    "labels",
    "note",
];
pub(super) const ROUTE_KEYS: &[&str] = &["prefix", "service", "release"];
pub(super) const EXPECT_KEYS: &[&str] = &["path", "status", "body"];

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
    for section in &written {
        let Some(route) = read_route(section, problems) else { continue };
        if routes.iter().any(|other: &Route| other.prefix == route.prefix) {
            let span = section.text("prefix", problems).map_or_else(|| section.span(), |prefix| prefix.span);
            let message = format!("the prefix {} is given twice, and only the first route would be used", route.prefix);
            problems.report("duplicate", span, message, "keep one of the two");
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
        expect,
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
        body: section.text("body", problems).map(|body| body.value.to_owned()),
    }
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
