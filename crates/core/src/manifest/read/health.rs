//! Health checks: `health` of an endpoint or a hostname, and the tables `[health.NAME]`.

use std::num::NonZeroU32;

use toml::de::DeValue;
use url::Url;

use super::common::{NameServer, StatusRange, is_path, owned, parse_name, read_path, read_words};
use crate::health::{CheckMethod, CheckTerms, FailureRate, HostPort, Need, Thresholds};
use crate::manifest::describe::{ENDPOINT_HEALTH, HEALTH};
use crate::manifest::section::Section;
use crate::manifest::{At, CheckedEntry, Diagnostics, EndpointHealthEntry, HealthEntry, RequestEntry, Span};
use crate::names::name::{DnsName, Hostname};

const URL_EXAMPLE: &str = "https://queue.larkfield.example/ready";
const PLACE_HELP: &str = "write a host and a port, such as \"127.0.0.1:5432\"";
/// The most header fields of a request.
const MOST_HEADERS: usize = 20;

/// Reads `health` and `health_terms` of an endpoint or a hostname.
pub(super) fn read_endpoint_health(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointHealthEntry> {
    let terms = section.value("health_terms");
    let Some(value) = section.value("health") else {
        if let Some(terms) = terms {
            let help = format!("add: health = \"{URL_EXAMPLE}\"");
            problems.report("missing-key", section.at(terms.span()), "health_terms belong to a health check", help);
        }
        return None;
    };
    let span = section.at(value.span());
    match value.get_ref() {
        DeValue::Table(_) => {
            let table = section.inner_as(&ENDPOINT_HEALTH, "health", problems)?;
            if let Some(terms) = terms {
                let help = "move these keys into health = { … }";
                problems.report(
                    "duplicate",
                    section.at(terms.span()),
                    "health is a table that has its own terms",
                    help,
                );
            }
            let mut request = read_request(&table, span, problems);
            if let Some(url) = table.text("url", problems) {
                take_url(&mut request, &url, problems)?;
            }
            if let Some(path) = table.text("path", problems) {
                let is_url = table.value("url").is_some();
                if is_url || !is_path(path.value) {
                    let message = if is_url { "the url has a path already".to_owned() } else { not_a_path(path.value) };
                    problems.report("bad-value", path.span, message, "write a path alone, such as \"/ready\", or url");
                } else {
                    request.exchange.path = path.value.to_owned();
                }
            }
            Some(EndpointHealthEntry { request, terms: read_terms(&table, problems) })
        }
        _ => {
            let url = section.text("health", problems)?;
            let table = section.inner("health_terms", problems);
            let mut request = match &table {
                Some(table) => read_request(table, span.clone(), problems),
                None => RequestEntry::plain(span.clone()),
            };
            take_url(&mut request, &url, problems)?;
            let terms = table.map_or_else(CheckTerms::default, |table| read_terms(&table, problems));
            Some(EndpointHealthEntry { request, terms })
        }
    }
}

/// Takes a URL apart into protocol, name, port and path.
fn take_url(request: &mut RequestEntry, text: &At<&str>, problems: &mut Diagnostics) -> Option<()> {
    let mut refuse = |message: String, help: &str| {
        problems.report("bad-value", text.span.clone(), message, help);
    };
    let example = format!("write a URL such as \"{URL_EXAMPLE}\"");
    let Ok(url) = Url::parse(text.value) else {
        refuse(format!("\"{}\" is not a URL", text.value.chars().take(80).collect::<String>()), &example);
        return None;
    };
    if !matches!(url.scheme(), "http" | "https") {
        refuse(format!("a health check speaks HTTP or HTTPS, not {}", url.scheme()), &example);
        return None;
    }
    if !url.username().is_empty() || url.password().is_some() {
        refuse("a health check's URL holds a password".into(), "remove it, and change a password that stood here");
        return None;
    }
    let name = match url.host() {
        Some(url::Host::Domain(name)) => name.parse::<Hostname>().ok(),
        _ => {
            let help = "write the hostname that is asked for: the addresses are those of the endpoint";
            refuse("a health check's URL has an address where a hostname belongs".into(), help);
            return None;
        }
    };
    let Some(name) = name.filter(|name| !name.is_wildcard()) else {
        refuse(format!("\"{}\" is not a hostname", url.host_str().unwrap_or_default()), &example);
        return None;
    };
    request.exchange.is_tls = url.scheme() == "https";
    // A port that is written is meant, also where it is the usual one.
    let authority = text.value.split_once("://").map_or("", |(_, rest)| rest);
    let written = authority.split(['/', '?', '#']).next().unwrap_or_default();
    let usual = request.exchange.usual_port();
    request.exchange.port = url.port().or_else(|| written.ends_with(&format!(":{usual}")).then_some(usual));
    if !request.exchange.is_tls && request.exchange.port.is_none() {
        request.exchange.port = Some(usual);
    }
    request.name = Some(At { value: name, span: text.span.clone() });
    request.exchange.path = match url.query() {
        Some(query) => format!("{}?{query}", url.path()),
        None => url.path().to_owned(),
    };
    Some(())
}

fn not_a_path(text: &str) -> String {
    format!("\"{}\" is not a path", text.chars().take(80).collect::<String>())
}

fn read_request(section: &Section<'_>, span: Span, problems: &mut Diagnostics) -> RequestEntry {
    let mut request = RequestEntry::plain(span);
    if let Some(expect) = section.inner("expect", problems) {
        let help = "write a status or a range, such as \"200\" or \"200-299\"";
        if let Some(range) = expect.parsed::<StatusRange>("status", help, problems) {
            request.exchange.status = (range.value.0, range.value.1);
        }
        request.exchange.body = expect.plain_text("body", problems).filter(|text| !text.is_empty());
        request.exchange.header =
            expect.text("header", problems).and_then(|text| read_expected_header(&text, problems));
    }
    if let Some(method) = section.word::<CheckMethod>("method", problems) {
        request.exchange.method = method.value;
    }
    request.exchange.headers = read_headers(section, problems);
    request.exchange.send = section.plain_text("send", problems);
    if let Some(span) = section.span_of("send").filter(|_| request.exchange.method != CheckMethod::Post) {
        problems.report("bad-value", span, "only a POST sends a body", "add method = \"POST\"");
    }
    if let (CheckMethod::Head, Some(_), Some(span)) =
        (request.exchange.method, &request.exchange.body, section.span_of("expect"))
    {
        let message = "the response to a HEAD has no body to look for a text in";
        problems.report("bad-value", span, message, "use GET, or remove the body that is expected");
    }
    request.verify = section.truth("verify", problems).is_none_or(|verify| verify.value);
    request.roots = read_path(section, "roots", problems);
    request.label = section.text("label", problems).map(owned);
    request
}

fn is_token(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte))
}

fn read_expected_header(text: &At<&str>, problems: &mut Diagnostics) -> Option<(String, Option<String>)> {
    let (name, value) = match text.value.split_once(':') {
        Some((name, value)) => (name.trim(), Some(value.trim().to_owned())),
        None => (text.value.trim(), None),
    };
    if is_token(name) {
        return Some((name.to_ascii_lowercase(), value));
    }
    let message = format!("\"{}\" is not a header field", text.value);
    problems.report(
        "bad-value",
        text.span.clone(),
        message,
        "write a name, or a name and a value as in \"x-ready: yes\"",
    );
    None
}

/// Reads the header fields that are sent besides: any names.
fn read_headers(section: &Section<'_>, problems: &mut Diagnostics) -> Vec<(String, String)> {
    let Some(value) = section.value("headers") else { return Vec::new() };
    let help = "write headers = { x-probe = \"pindrel\" }";
    let DeValue::Table(table) = value.get_ref() else {
        problems.report("wrong-type", section.at(value.span()), "\"headers\" must be a table", help);
        return Vec::new();
    };
    let mut headers = Vec::with_capacity(table.len());
    for (key, value) in table.iter() {
        let (name, span) = (key.get_ref().to_ascii_lowercase(), section.at(key.span()));
        let DeValue::String(text) = value.get_ref() else {
            problems.report(
                "wrong-type",
                section.at(value.span()),
                format!("the header {name} must be a string"),
                help,
            );
            continue;
        };
        if ["host", "content-length", "connection", "transfer-encoding", "upgrade"].contains(&name.as_str()) {
            let message = format!("the header {name} is set by the check itself");
            problems.report("bad-value", span, message, "remove it");
        } else if !is_token(&name) || text.bytes().any(|byte| byte < b' ' || byte == 0x7f) {
            problems.report("bad-value", span, format!("\"{name}\" is not a header field"), help);
        } else if ["authorization", "cookie", "proxy-authorization"].contains(&name.as_str()) {
            let message = format!("the header {name} would hold a secret in the manifest");
            problems.report("secret-in-clear", span, message, "check a path that needs no credential");
        } else {
            headers.push((name, text.to_string()));
        }
    }
    if headers.len() > MOST_HEADERS {
        let message = format!("a check sends at most {MOST_HEADERS} header fields");
        problems.report("bad-value", section.at(value.span()), message, "remove some");
    }
    headers
}

fn read_terms(section: &Section<'_>, problems: &mut Diagnostics) -> CheckTerms {
    let usual = CheckTerms::default();
    let every = section.duration("every", problems).unwrap_or(usual.every);
    let timeout = section.duration("timeout", problems).unwrap_or_else(|| usual.timeout.min(every));
    if let Some(span) = section.span_of("timeout").filter(|_| timeout.is_zero() || timeout > every) {
        let message = "\"timeout\" is at least 1s, and no longer than the interval \"every\"";
        problems.report("bad-value", span, message, "one check must be over before the next begins");
    }
    let mut times = |key, usual| section.number(key, problems).map_or(usual, |number| number.value);
    let down_after = times("down_after", usual.thresholds.down_after);
    let up_after = times("up_after", usual.thresholds.up_after);
    let rate = read_rate(section, problems);
    CheckTerms { every, timeout, thresholds: Thresholds { down_after, up_after, rate } }
}

/// Reads how many failures among the last results make a check down.
fn read_rate(section: &Section<'_>, problems: &mut Diagnostics) -> Option<FailureRate> {
    let rate = section.inner("down_when", problems)?;
    let mut number = |key, example| {
        if rate.value(key).is_none() {
            rate.missing(key, example, problems);
        }
        rate.number(key, problems)
    };
    let (failed, of) = (number("failed", "3")?, number("of", "10")?);
    if failed.value > of.value {
        let message = format!("{} of {} results can never have failed", failed.value, of.value);
        problems.report("bad-value", failed.span, message, "write failed = 3, of = 10");
        return None;
    }
    Some(FailureRate { failed: failed.value, of: of.value })
}

/// Reads one `[health.NAME]`.
pub(super) fn read_health(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<HealthEntry> {
    if name.value.contains('/') || name.value.chars().any(char::is_control) {
        let help = "use letters, digits and hyphens";
        problems.report("bad-name", name.span.clone(), "the name of a health check has no slash", help);
    }
    let kinds = ["tcp", "tls", "url", "dns", "program", "of"];
    let given: Vec<&str> = kinds.into_iter().filter(|kind| section.value(kind).is_some()).collect();
    let [kind] = given[..] else {
        match given[..] {
            [] => section.missing("tcp", "\"127.0.0.1:5432\" (or tls, url, dns, program, of)", problems),
            [_, other, ..] => {
                let span = section.span_of(other).unwrap_or_default();
                let message = format!("[{}] checks one thing, and names {}", section.title(), given.join(" and "));
                problems.report("duplicate", span, message, "keep one, and give each other one a table of its own");
            }
            [_] => {}
        }
        return None;
    };
    for key in HEALTH.keys.iter().filter(|key| !key.is_of(kind)) {
        section.refuse(key.name, &format!("\"{}\" does not belong to a check of \"{kind}\"", key.name), problems);
    }
    let what = match kind {
        "tcp" => CheckedEntry::Tcp(section.parsed::<HostPort>("tcp", PLACE_HELP, problems)?.value),
        "tls" => CheckedEntry::Tls {
            place: section.parsed::<HostPort>("tls", PLACE_HELP, problems)?,
            name: section.text("name", problems).and_then(|name| parse_name::<Hostname>(name, problems)),
            days_left: section.number("days_left", problems).map_or(0, |days| days.value),
            verify: section.truth("verify", problems).is_none_or(|verify| verify.value),
            roots: read_path(section, "roots", problems),
        },
        "url" => {
            let url = section.text("url", problems)?;
            let mut request = read_request(section, url.span.clone(), problems);
            take_url(&mut request, &url, problems)?;
            CheckedEntry::Url(request)
        }
        "dns" => {
            let dns = section.inner("dns", problems)?;
            if dns.value("server").is_none() {
                dns.missing("server", "\"192.0.2.53\"", problems);
            }
            let server = dns.parsed::<NameServer>("server", "write an address, such as \"192.0.2.53\"", problems);
            let name = dns.needed_text("name", "\"larkfield.example\"", problems);
            let name = name.and_then(|name| parse_name::<DnsName>(name, problems));
            CheckedEntry::Dns { server: server?.value.0, name: name?.value }
        }
        "program" => {
            let words = read_words(section, "program", problems);
            if words.first().is_none_or(String::is_empty) {
                let span = section.span_of("program").unwrap_or_default();
                let help = "write the program and its arguments, such as [\"./queue-depth\", \"100\"]";
                problems.report("bad-value", span, "\"program\" names no program", help);
                return None;
            }
            CheckedEntry::Program(words)
        }
        _ => {
            let of: Vec<At<String>> = section.texts("of", problems).into_iter().map(owned).collect();
            if of.is_empty() {
                let span = section.span_of("of").unwrap_or_default();
                problems.report("bad-value", span, "\"of\" names no check", "write of = [\"NAME\", …]");
                return None;
            }
            CheckedEntry::Combination { need: read_need(section, of.len(), problems), of }
        }
    };
    Some(HealthEntry { name: owned(name), what, terms: read_terms(section, problems) })
}

fn read_need(section: &Section<'_>, members: usize, problems: &mut Diagnostics) -> Need {
    let Some(value) = section.value("need") else { return Need::All };
    let help = "write need = \"all\", need = \"any\", or how many must be up";
    match value.get_ref() {
        DeValue::String(text) if &**text == "all" => Need::All,
        DeValue::String(text) if &**text == "any" => Need::Any,
        DeValue::Integer(_) => {
            let most = u32::try_from(members).unwrap_or(u32::MAX);
            let number = section.number_within("need", 1..=most, problems);
            number.and_then(|number| NonZeroU32::new(number.value)).map_or(Need::All, Need::AtLeast)
        }
        _ => {
            let message = "\"need\" is \"all\", \"any\" or a number";
            problems.report("bad-value", section.at(value.span()), message, help);
            Need::All
        }
    }
}
