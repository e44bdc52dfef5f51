//! What is no mistake by itself and may not be meant.

use std::collections::{HashMap, HashSet};
use std::path::{Component, Path, PathBuf};

use crate::endpoints::endpoint::{ClientNeed, OriginScheme, Route, is_under};
use crate::endpoints::web_server::ServicePlace;
use crate::names::name::Hostname;
use crate::names::unicode::{Deceptive, deceptive_label};

use super::{At, Diagnostics, EndpointDriverEntry, HostnameEntry, Manifest};

/// Reports what can never work although each part of it is right.
pub(super) fn report_conflicts(manifest: &Manifest, problems: &mut Diagnostics) {
    let mut folders: HashMap<PathBuf, &str> = HashMap::new();
    for endpoint in &manifest.endpoints {
        let EndpointDriverEntry::Nginx(server) = &endpoint.driver else { continue };
        if let Some(other) = folders.insert(plain(&server.folder), &endpoint.name.value) {
            problems.report(
                "duplicate",
                endpoint.name.span.clone(),
                format!("{} is the folder of [endpoint.{other}] too", server.folder.display()),
                "give each endpoint a folder of its own",
            );
        }
    }
    let mut written: HashMap<PathBuf, &str> = HashMap::new();
    for certificate in &manifest.certificates {
        for At { value, span } in certificate.deliver.iter().map(|delivery| &delivery.file) {
            if let Some(other) = written.insert(plain(value), &certificate.name.value) {
                problems.report(
                    "duplicate",
                    span.clone(),
                    format!("{} is delivered twice; the first time for the certificate \"{other}\"", value.display()),
                    "deliver each to a file of its own",
                );
            }
        }
    }
}

/// Reports what works and may not be meant.
pub fn review(manifest: &Manifest, warnings: &mut Diagnostics) {
    for endpoint in &manifest.endpoints {
        let EndpointDriverEntry::Nginx(server) = &endpoint.driver else { continue };
        let name = &endpoint.name;
        let elsewhere = |place: &ServicePlace| match place.url.host() {
            Some(url::Host::Ipv4(address)) => !address.is_loopback(),
            Some(url::Host::Ipv6(address)) => !address.is_loopback(),
            Some(url::Host::Domain(host)) => host != "localhost",
            None => false,
        };
        for service in server.services.iter().filter(|service| service.places.iter().any(elsewhere)) {
            let (message, help) = match (service.is_https(), server.origin.verify) {
                (true, true) => continue,
                (true, false) => (
                    "over HTTPS that is not verified",
                    "write origin = { verify = true, roots = \"origin-roots.pem\" }",
                ),
                (false, _) => (
                    "over plain HTTP",
                    "write its URL with https://; sign-ins may be refused and redirects go round in circles otherwise",
                ),
            };
            let message = format!(
                "[endpoint.{}] speaks to the service \"{}\" on another machine {message}",
                name.value, service.name
            );
            warnings.report("open-origin", name.span.clone(), message, help);
        }
    }
    for endpoint in &manifest.endpoints {
        let (name, Some(origin)) = (&endpoint.name, &endpoint.origin) else { continue };
        let (how, help) = match (origin.scheme, origin.verify) {
            (OriginScheme::Https, true) => continue,
            (OriginScheme::Https, false) => (
                "over HTTPS that is not verified",
                "remove verify = false, and name what its certificate is for in server_name",
            ),
            (OriginScheme::Http, _) => (
                "over plain HTTP",
                "write scheme = \"https\"; sign-ins may be refused and redirects go round in circles otherwise",
            ),
        };
        let message = format!("[endpoint.{}] speaks to its origin {how}", name.value);
        warnings.report("open-origin", name.span.clone(), message, help);
    }
    let checked: HashSet<&str> = manifest
        .endpoints
        .iter()
        .filter(|endpoint| endpoint.health.is_some())
        .map(|endpoint| endpoint.name.value.as_str())
        .collect();
    for hostname in &manifest.hostnames {
        review_routes(hostname, warnings);
        std::iter::once(&hostname.hostname).chain(&hostname.also).for_each(|name| review_name(name, warnings));
        let is_checked = |named: &At<String>| checked.contains(named.value.as_str());
        let unchecked = hostname.endpoints.iter().find(|named| !is_checked(named));
        if let Some(named) = unchecked.filter(|_| hostname.endpoints.len() > 1)
            && hostname.health.is_none()
        {
            let message = format!(
                "nothing checks the endpoint {}, so {} stays there whatever happens to it",
                named.value, hostname.hostname.value
            );
            let help = "add to the hostname: health = { path = \"/ready\" }";
            warnings.report("unchecked-endpoint", named.span.clone(), message, help);
        }
    }
    for certificate in &manifest.certificates {
        let name = &certificate.name;
        if !certificate.deliver.is_empty() && certificate.after.is_empty() && certificate.served_at.is_empty() {
            warnings.report(
                "unverified-delivery",
                name.span.clone(),
                format!("the certificate \"{}\" is written to files, and nothing makes a server read them", name.value),
                "add after = [{ run = [\"systemctl\", \"reload\", \"edge\"] }], or served_at = [\"192.0.2.25:443\"] to verify it",
            );
        }
        for delivery in certificate.deliver.iter().filter(|delivery| delivery.contents.is_secret()) {
            if delivery.mode.bits() & 0o007 != 0 {
                let file = &delivery.file;
                warnings.report(
                    "open-key",
                    file.span.clone(),
                    format!("{} holds a private key, and with this mode every user can use it", file.value.display()),
                    "write mode = \"0600\", or \"0640\" with a group",
                );
            }
        }
    }
}

/// Reports a name that may be taken for another one.
fn review_name(name: &At<Hostname>, warnings: &mut Diagnostics) {
    let Some((label, why)) = deceptive_label(name.value.as_str()) else { return };
    let message = match why {
        Deceptive::MixedScripts => {
            format!("\"{label}\" mixes letters of several scripts, and may be taken for another name")
        }
        Deceptive::LooksLikeAscii => format!("\"{label}\" looks like ASCII letters, and may be taken for another name"),
    };
    let help = format!("make sure that it is meant; browsers may show it as {}", name.value);
    warnings.report("deceptive-name", name.span.clone(), message, help);
}

/// Reports routes that change nothing, and sample requests that nothing answers or that cannot be made.
fn review_routes(hostname: &HostnameEntry, warnings: &mut Diagnostics) {
    let At { value: name, span } = &hostname.hostname;
    let routes = &hostname.routes;
    let enclosing = |route: &Route| {
        let around = routes.iter().filter(|other| other.prefix != route.prefix && route.is_under(&other.prefix));
        around.max_by_key(|other| other.prefix.len())
    };
    for route in routes {
        if let Some(around) = enclosing(route)
            && (&around.service, &around.release) == (&route.service, &route.release)
        {
            let message = format!(
                "the route {} of {name} changes nothing: {} leads to the same service already",
                route.prefix, around.prefix
            );
            warnings.report("idle-route", span.clone(), message, "remove it, or name the service that is meant");
        }
    }
    let own = hostname.expect.iter();
    for sample in own.chain(&hostname.samples) {
        let is_routed = |route: &Route| is_under(&sample.path, &route.prefix);
        if !routes.is_empty() && !routes.iter().any(is_routed) {
            let message = format!("no route of {name} leads to {}, which is expected to answer", sample.path);
            warnings.report("unrouted-sample", span.clone(), message, "add a route for it, or expect another path");
        }
    }
    let clients = hostname.client_certificates.as_ref();
    let hidden = clients.filter(|clients| clients.need == ClientNeed::Required && clients.probe_with.is_none());
    if let Some(clients) = hidden.filter(|_| hostname.expect.is_some() || !hostname.samples.is_empty()) {
        let message = format!("what {name} is expected to answer cannot be verified without a client certificate");
        let help = "add probe_with = \"file:probe.pem\", a certificate that these roots accept, with its key";
        warnings.report("unverified-expectation", clients.roots.span.clone(), message, help);
    }
}

/// A path without what changes nothing in it; links are not followed.
fn plain(path: &Path) -> PathBuf {
    let mut plain = PathBuf::new();
    for component in path.components() {
        match component {
            Component::CurDir => {}
            Component::ParentDir if plain.file_name().is_some() => {
                plain.pop();
            }
            other => plain.push(other),
        }
    }
    plain
}
