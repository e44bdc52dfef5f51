//! A web server on this machine as an endpoint: what the manifest says of it.

use std::net::SocketAddr;
use std::path::PathBuf;

use url::Url;

use crate::names::name::{DnsName, Hostname};

/// A web server that Pindrel writes included files for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct WebServer {
    /// The folder of included files, relative to the manifest's folder; Pindrel's own.
    pub folder: PathBuf,
    /// The services behind it.
    pub services: Vec<Service>,
    /// The service that answers where a hostname has no routes.
    pub service: Option<String>,
    /// Where it serves TLS; at least one, all with the same port.
    pub listen: Vec<SocketAddr>,
    /// Where plain HTTP is redirected to HTTPS.
    pub listen_http: Vec<SocketAddr>,
    /// The name that aliases point at; without one they are its addresses.
    pub default_name: Option<DnsName>,
    /// What tests its configuration.
    pub test: Vec<String>,
    /// What makes it take its configuration over.
    pub reload: Vec<String>,
    /// How it speaks to services over HTTPS.
    pub origin: OriginTls,
    /// What is served for the root of a hostname, such as `index.html`.
    pub default_document: Option<String>,
}

impl WebServer {
    /// Returns the services that answer a release of a service: those of that release, where there are
    /// any of their own.
    pub fn service(&self, name: &str, release: Option<&str>) -> Option<&Service> {
        let of_release = release.map(|release| format!("{name}@{release}"));
        let named = |name: &str| self.services.iter().find(|service| service.name == name);
        of_release.as_deref().and_then(named).or_else(|| named(name))
    }

    /// Returns the port that it serves TLS on.
    pub fn port(&self) -> u16 {
        self.listen.first().map_or(443, SocketAddr::port)
    }
}

/// A service behind a web server.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Service {
    /// Its name; `NAME@RELEASE` for one release of it.
    pub name: String,
    /// Where it runs; at least one place, all over HTTP or all over HTTPS.
    pub places: Vec<ServicePlace>,
}

impl Service {
    /// Says whether it is spoken to over HTTPS.
    pub fn is_https(&self) -> bool {
        self.places.first().is_some_and(|place| place.url.scheme() == "https")
    }
}

/// One place where a service runs.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ServicePlace {
    /// Its URL, without a path.
    pub url: Url,
    /// Its share of the requests, beside the others'.
    pub weight: u32,
}

/// How services are spoken to over HTTPS.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct OriginTls {
    /// Whether their certificates are verified.
    pub verify: bool,
    /// The name that is verified and sent as SNI; the URL's host unless said.
    pub server_name: Option<Hostname>,
    /// PEM file of roots; the system's unless said.
    pub roots: Option<PathBuf>,
}

impl Default for OriginTls {
    fn default() -> Self {
        OriginTls { verify: true, server_name: None, roots: None }
    }
}
