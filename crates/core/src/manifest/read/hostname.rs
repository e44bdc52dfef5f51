//! The tables `[hostname."NAME"]`.

use super::common::{StatusRange, TTL_HELP, is_path, owned, parse_name, read_path, read_secret};
use super::health::read_endpoint_health;
use toml::de::DeValue;

use crate::endpoints::endpoint::{ClientNeed, Route, TlsVersion};
use crate::endpoints::expectation::{Expectation, SampleMethod};
use crate::manifest::section::Section;
use crate::manifest::{At, ClientCertificatesEntry, Diagnostics, HostnameEntry, PolicyWord};
use crate::names::name::Hostname;
use crate::zones::records::RecordType;

pub(super) fn read_hostname(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<HostnameEntry> {
    let hostname = parse_name::<Hostname>(name, problems);
    let endpoint = section.text("endpoint", problems);
    let endpoints: Vec<At<String>> = section.texts("endpoints", problems).into_iter().map(owned).collect();
    if let Some(span) = section.span_of("endpoints") {
        if endpoint.is_some() {
            problems.report("duplicate", span, "both endpoint and endpoints are given", "keep one of the two");
        } else if endpoints.is_empty() {
            problems.report("bad-value", span, "\"endpoints\" names none", "write endpoints = [\"NAME\", …]");
        }
    }
    let written = section.inner_list("routes", problems);
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
        if let Some(expect) = section.inner("expect", problems) {
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
        .inner("expect", problems)
        .map(|expect| read_expectation(&expect, Expectation::for_routes(&routes), problems));
    Some(HostnameEntry {
        hostname: hostname?,
        endpoints: if endpoints.is_empty() { endpoint.map(owned).into_iter().collect() } else { endpoints },
        policy: read_policy(section, problems),
        judged_by: section.text("judged_by", problems).map(owned),
        back_after: section
            .duration("back_after", problems)
            .map(|value| At { value, span: section.span_of("back_after").unwrap_or_default() }),
        shares: read_shares(section, problems),
        health: read_endpoint_health(section, problems).map(Box::new),
        https_alias: section.truth("https_alias", problems).filter(|wanted| wanted.value).map(|wanted| wanted.span),
        certificate: section.text("certificate", problems).map(owned),
        authority: section.text("authority", problems).map(owned),
        routes,
        also,
        ttl: section.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value),
        minimum_tls: section.word("minimum_tls", problems).map_or(TlsVersion::V1_2, |version| version.value),
        client_certificates: section
            .inner("client_certificates", problems)
            .and_then(|clients| read_client_certificates(&clients, problems)),
        expect,
        samples,
        probe_as: probe_as.map(owned),
        reserved: read_reserved(section, problems),
        replace: section
            .parsed_list::<RecordType>("replace", "write types, such as [\"A\", \"CNAME\"]", problems)
            .into_iter()
            .map(|found| found.value)
            .collect(),
        labels: section.lines("labels", problems),
        note: section.line("note", problems),
    })
}

/// Reads the policy; one that is mistyped is told, and is a policy all the same.
fn read_policy(section: &Section<'_>, problems: &mut Diagnostics) -> Option<At<PolicyWord>> {
    let span = section.span_of("policy")?;
    let policy = section.word("policy", problems);
    policy.or(Some(At { value: PolicyWord::Standby, span }))
}

/// Reads the shares of a split, by endpoint.
fn read_shares(section: &Section<'_>, problems: &mut Diagnostics) -> Vec<At<(String, u32)>> {
    let Some(value) = section.value("shares") else { return Vec::new() };
    let DeValue::Table(table) = value.get_ref() else {
        let help = "write shares = { queue-north = 1, queue-south = 1 }";
        problems.report("wrong-type", section.at(value.span()), "\"shares\" must be a table", help);
        return Vec::new();
    };
    let mut shares = Vec::with_capacity(table.len());
    for (name, value) in table.iter() {
        let span = section.at(value.span());
        let share = match value.get_ref() {
            DeValue::Integer(number) => number.as_str().parse().ok().filter(|share| (1..=1_000).contains(share)),
            _ => None,
        };
        match share {
            Some(share) => shares.push(At { value: (name.get_ref().to_string(), share), span }),
            None => {
                let message = format!("the share of {} is a whole number from 1 to 1000", name.get_ref());
                problems.report("bad-value", span, message, "write how much each gets of the whole, as in 3 and 1");
            }
        }
    }
    shares
}

/// Reads the labels below a wildcard that nobody else may have.
fn read_reserved(section: &Section<'_>, problems: &mut Diagnostics) -> Vec<At<String>> {
    let labels = section.texts("reserved", problems);
    if let Some(label) = labels.iter().find(|label| label.value.is_empty() || label.value.contains('.')) {
        let message = format!("\"{}\" is not one label", label.value);
        problems.report(
            "bad-name",
            label.span.clone(),
            message,
            "write the first part of the name alone: \"internal\"",
        );
    }
    labels.into_iter().map(owned).collect()
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
    let need = section.word::<ClientNeed>("need", problems);
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
        method: section.word::<SampleMethod>("method", problems).map_or(usual.method, |method| method.value),
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
