//! The keys of an endpoint that is a web server on this machine.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::str::FromStr;

use toml::Spanned;
use toml::de::DeValue;
use url::Url;

use super::common::read_default_name;
use super::common::{parse_name, read_path, read_words};
use crate::endpoints::web_server::{OriginTls, Service, ServicePlace, WebServer};
use crate::manifest::describe::{ORIGIN_OF_SERVER, SERVICE_PLACE};
use crate::manifest::section::Section;
use crate::manifest::{At, Diagnostics, EndpointDriverEntry};
use crate::names::name::Hostname;

const SERVICES_HELP: &str = "write services = { catalogue = \"http://127.0.0.1:9001\" }";
const PLACE_HELP: &str = "write a URL such as \"http://127.0.0.1:9001\", without a path";

pub(super) fn read_nginx(section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointDriverEntry> {
    if section.value("folder").is_none() {
        section.missing("folder", "\"/etc/nginx/pindrel.d\"", problems);
    }
    let folder = read_written_path(section, "folder", problems).map(|folder| folder.value);
    let listen = read_addresses(section, "listen", 443, problems);
    if section.value("listen").is_none() {
        section.missing("listen", "[\"192.0.2.10:443\"]", problems);
    }
    if let [first, rest @ ..] = listen.as_slice()
        && let Some(other) = rest.iter().find(|other| other.value.port() != first.value.port())
    {
        let message = format!("{} has another port than {}", other.value, first.value);
        problems.report("bad-value", other.span.clone(), message, "serve TLS on one port, or declare two endpoints");
    }
    let listen_http = read_addresses(section, "listen_http", 80, problems);
    let services = read_services(section, problems);
    let service = section.text("service", problems);
    if let Some(named) = &service
        && !services.iter().any(|service| service.name == named.value)
    {
        let message = format!("there is no service \"{}\"", named.value);
        problems.report("unknown-reference", named.span.clone(), message, SERVICES_HELP);
    }
    let default_name = read_default_name(section, problems);
    let default_document = read_document_name(section, problems);
    let origin = read_origin(section, problems);
    let folder = folder.filter(|_| !listen.is_empty())?;
    let command = |key: &str, usual: &[&str], problems: &mut Diagnostics| {
        let words = read_words(section, key, problems);
        if words.is_empty() { usual.iter().map(|word| (*word).to_owned()).collect() } else { words }
    };
    let one = |services: &[Service]| match services {
        [one] => Some(one.name.clone()),
        _ => None,
    };
    Some(EndpointDriverEntry::Nginx(WebServer {
        folder,
        service: service.map(|service| service.value.to_owned()).or_else(|| one(&services)),
        services,
        listen: listen.into_iter().map(|address| address.value).collect(),
        listen_http: listen_http.into_iter().map(|address| address.value).collect(),
        default_name,
        test: command("test", &["nginx", "-t", "-q"], problems),
        reload: command("reload", &["nginx", "-s", "reload"], problems),
        origin,
        default_document,
    }))
}

fn read_addresses(section: &Section<'_>, key: &str, port: u16, problems: &mut Diagnostics) -> Vec<At<SocketAddr>> {
    let help = "write an address, with a port unless it is the usual one, such as \"192.0.2.10:443\"";
    let mut found = Vec::new();
    for text in section.texts(key, problems) {
        let whole = SocketAddr::from_str(text.value);
        match whole.or_else(|_| text.value.parse::<IpAddr>().map(|address| SocketAddr::new(address, port))) {
            Ok(address) if !address.ip().is_unspecified() => found.push(At { value: address, span: text.span }),
            Ok(_) => {
                let message =
                    format!("\"{}\" is every address, and Pindrel connects to the ones that are listed", text.value);
                problems.report("bad-value", text.span, message, help);
            }
            Err(_) => problems.report("bad-value", text.span, format!("\"{}\" is not an address", text.value), help),
        }
    }
    found
}

fn read_services(section: &Section<'_>, problems: &mut Diagnostics) -> Vec<Service> {
    let Some(value) = section.value("services") else {
        section.missing("services", "{ catalogue = \"http://127.0.0.1:9001\" }", problems);
        return Vec::new();
    };
    let DeValue::Table(table) = value.get_ref() else {
        problems.report("wrong-type", section.at(value.span()), "\"services\" must be a table", SERVICES_HELP);
        return Vec::new();
    };
    let mut services = Vec::new();
    for (name, value) in table.iter() {
        let simple = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '@' | '.');
        if name.get_ref().is_empty() || !name.get_ref().chars().all(simple) {
            let message =
                format!("\"{}\" is not a name for a service", name.get_ref().chars().take(60).collect::<String>());
            problems.report(
                "bad-name",
                section.at(name.span()),
                message,
                "use letters, digits, hyphens and underscores",
            );
            continue;
        }
        let places: Vec<ServicePlace> = match value.get_ref() {
            DeValue::Array(items) => items.iter().filter_map(|item| read_place(section, item, problems)).collect(),
            _ => read_place(section, value, problems).into_iter().collect(),
        };
        let Some(first) = places.first() else { continue };
        if places.iter().any(|place| place.url.scheme() != first.url.scheme()) {
            let message = format!("the service \"{}\" is reached over HTTP and over HTTPS", name.get_ref());
            problems.report("bad-value", section.at(value.span()), message, "use one of both for all its places");
        }
        services.push(Service { name: name.get_ref().to_string(), places });
    }
    services
}

fn read_place(section: &Section<'_>, value: &Spanned<DeValue<'_>>, problems: &mut Diagnostics) -> Option<ServicePlace> {
    let span = section.at(value.span());
    let (text, weight) = match value.get_ref() {
        DeValue::String(text) => (text.to_string(), 1),
        DeValue::Table(_) => {
            let place = section.open_inner(&SERVICE_PLACE, "place", value, problems)?;
            let url = place.needed_text("url", "\"http://127.0.0.1:9001\"", problems)?;
            let weight = place.number("weight", problems).map_or(1, |weight| weight.value);
            (url.value.to_owned(), weight)
        }
        _ => {
            problems.report("wrong-type", span, "a service is a URL, or a list of them", PLACE_HELP);
            return None;
        }
    };
    let url = Url::parse(&text).ok().filter(|url| {
        let bare = url.username().is_empty() && url.password().is_none() && url.query().is_none();
        matches!(url.scheme(), "http" | "https")
            && url.has_host()
            && bare
            && url.path() == "/"
            && url.fragment().is_none()
            && url.host().is_some_and(is_plain_host)
    });
    if url.is_none() {
        problems.report("bad-value", span, "this is not the URL of a service", PLACE_HELP);
    }
    Some(ServicePlace { url: url?, weight })
}

/// Says whether a host is an address or a name of letters, digits, hyphens and underscores: a URL allows much else that
/// a configuration would take for its own.
fn is_plain_host(host: url::Host<&str>) -> bool {
    match host {
        url::Host::Domain(name) => name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.')),
        url::Host::Ipv4(_) | url::Host::Ipv6(_) => true,
    }
}

/// Reads a path that stands in the configuration of a web server, which would put a variable in place of `$NAME`.
fn read_written_path(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Option<At<PathBuf>> {
    let path = read_path(section, key, problems)?;
    if path.value.to_string_lossy().contains(|c: char| c == '$' || c.is_control()) {
        let message = format!("\"{key}\" has a character that the web server's configuration cannot hold");
        problems.report("bad-value", path.span, message, "use a path without $ and control characters");
        return None;
    }
    Some(path)
}

fn read_origin(section: &Section<'_>, problems: &mut Diagnostics) -> OriginTls {
    let Some(origin) = section.inner_as(&ORIGIN_OF_SERVER, "origin", problems) else { return OriginTls::default() };
    let server_name = origin.text("server_name", problems);
    OriginTls {
        verify: origin.truth("verify", problems).is_none_or(|verify| verify.value),
        server_name: server_name.and_then(|name| parse_name::<Hostname>(name, problems)).map(|name| name.value),
        roots: read_written_path(&origin, "roots", problems).map(|roots| roots.value),
    }
}

/// Reads the default document: a file of the service, as the end of a path.
pub(super) fn read_document_name(section: &Section<'_>, problems: &mut Diagnostics) -> Option<String> {
    let text = section.text("default_document", problems)?;
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
    if !text.value.is_empty() && !text.value.starts_with('/') && text.value.chars().all(plain) {
        return Some(text.value.to_owned());
    }
    let message = format!("\"{}\" is not the name of a document", text.value.chars().take(60).collect::<String>());
    problems.report("bad-value", text.span, message, "write a file's name, such as \"index.html\"");
    None
}
