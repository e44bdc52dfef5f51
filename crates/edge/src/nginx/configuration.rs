//! What is written for a web server, and what is read back of it.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;

use pindrel_core::endpoints::endpoint::{Binding, ClientNeed, EndpointKind, TlsVersion};
use pindrel_core::endpoints::web_server::{Service, WebServer};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;

use super::{CERTIFICATES, OWN_LINES};
use crate::owned_files::{WRITTEN_BY, base_name, hostname_of};

/// How many digits tell one folder from another.
const FOLDER_DIGITS: usize = 8;
/// How the line begins that holds the binding, and the one that says what its endpoint's names begin with.
const BINDING: &str = "# binding ";
const ENDPOINT: &str = "# endpoint ";
/// The files of what the hostnames of an endpoint share, before its name; read before theirs.
const SERVICES: &str = "00-services-";
const UNKNOWN_NAMES: &str = "01-unknown-names-";
/// The same, as they were called while a folder was one endpoint's.
pub(super) const FORMER_SHARED: [&str; 2] = ["00-services.conf", "01-unknown-names.conf"];

/// Returns the name of a hostname's file.
pub(super) fn file_name(hostname: &Hostname) -> String {
    format!("{}.conf", base_name(hostname))
}

/// Returns the file of what somebody adds to the server block of a hostname, in the folder.
pub(super) fn own_file(hostname: &Hostname) -> String {
    format!("{OWN_LINES}/{}.conf", base_name(hostname))
}

/// Returns the hostname that a file is for.
pub(super) fn hostname_in(file: &str) -> Option<Hostname> {
    hostname_of(file.strip_suffix(".conf")?)
}

/// Returns the binding that a file was written for; `None` where Pindrel did not write it.
pub(super) fn binding_in(text: &str) -> Option<Binding> {
    let line = text.strip_prefix(WRITTEN_BY)?.lines().next()?;
    serde_json::from_str(line.strip_prefix(BINDING)?).ok()
}

/// Returns what the names begin with of the endpoint that a file was written for.
pub(super) fn endpoint_in(text: &str) -> Option<&str> {
    text.strip_prefix(WRITTEN_BY)?.lines().find_map(|line| line.strip_prefix(ENDPOINT))
}

/// Returns the services that a hostname's file leads to, as its endpoint names them.
fn upstreams_in(text: &str) -> impl Iterator<Item = &str> {
    let named = text.lines().filter_map(|line| line.trim().strip_prefix("proxy_pass "));
    named.filter_map(|target| target.split_once("://")).map(|(_, name)| name.trim_end_matches(';'))
}

/// Returns the lines of a file that define a service, as its endpoint names it.
fn upstream_block<'t>(text: &'t str, name: &str) -> Option<&'t str> {
    let begun = &text[text.find(&format!("upstream {name} {{\n"))?..];
    Some(&begun[..begun.find("\n}\n")? + "\n}\n".len()])
}

/// Says whether a file is of what the hostnames of some endpoint share.
pub(super) fn is_shared(name: &str) -> bool {
    FORMER_SHARED.contains(&name) || name.starts_with(SERVICES) || name.starts_with(UNKNOWN_NAMES)
}

/// Says whether Pindrel wrote a file.
pub(super) fn is_own(text: &str) -> bool {
    text.starts_with(WRITTEN_BY)
}

/// Returns the file of roots for client certificates, in the folder.
pub(super) fn trust_bundle_file(sha256: Fingerprint) -> String {
    format!("{CERTIFICATES}/{sha256}.roots.pem")
}

/// Returns what tells one text from another.
pub(super) fn digest(text: &str) -> String {
    Fingerprint::of(text.as_bytes()).to_string()
}

/// Writes the files of one endpoint.
pub(super) struct Writer<'w> {
    pub(super) endpoint: &'w str,
    pub(super) kind: EndpointKind,
    pub(super) server: &'w WebServer,
    pub(super) folder: &'w Path,
}

impl Writer<'_> {
    /// The files for what the hostnames share, by name. They are read before theirs. `least` is the lowest version that
    /// any of them takes; `before` is what the services' file holds, and `leading` are the files of hostnames: a service
    /// that the endpoint no longer has stays as long as one of them leads to it.
    pub(super) fn shared_files<'t>(
        &self,
        least: TlsVersion,
        before: &str,
        leading: impl Iterator<Item = &'t str>,
    ) -> [(String, String); 2] {
        let zone = self.zone();
        let is_former = |name: &&str| name.starts_with(&format!("{zone}_")) && !self.has_upstream(name);
        let former: BTreeSet<&str> = leading.flat_map(upstreams_in).filter(is_former).collect();
        let kept: String = former.into_iter().filter_map(|name| upstream_block(before, name)).collect();
        [(self.services_file(), self.services() + &kept), (self.shared_file(UNKNOWN_NAMES), self.unknown_names(least))]
    }

    /// The name of the file of its services.
    pub(super) fn services_file(&self) -> String {
        self.shared_file(SERVICES)
    }

    fn shared_file(&self, kind: &str) -> String {
        format!("{kind}{}.conf", simple(self.endpoint))
    }

    /// What refuses every name that is bound nowhere: without it, the first hostname's certificate would be
    /// served for them. It is the first server at its addresses, and so what stands for all others, unless
    /// the server's own configuration names a default there.
    fn unknown_names(&self, least: TlsVersion) -> String {
        let mut text = self.begun();
        text.push_str("server {\n");
        for address in &self.server.listen {
            let _ = writeln!(text, "    listen {address} ssl http2;");
        }
        // Versions are those of the first server at an address, for all that share it.
        let protocols = match least {
            TlsVersion::V1_2 => "TLSv1.2 TLSv1.3",
            TlsVersion::V1_3 => "TLSv1.3",
        };
        let _ =
            writeln!(text, "    server_name \"\";\n    ssl_protocols {protocols};\n    ssl_reject_handshake on;\n}}");
        // Over plain HTTP as well: whatever a client writes as Host would be where it is sent (RFC 9110 §15.5.20).
        if !self.server.listen_http.is_empty() {
            text.push_str("server {\n");
            for address in &self.server.listen_http {
                let _ = writeln!(text, "    listen {address};");
            }
            text.push_str("    server_name \"\";\n    return 421;\n}\n");
        }
        text
    }

    /// The services, and for a distribution its cache.
    fn services(&self) -> String {
        let mut text = self.begun();
        // A client that asks for another protocol, such as WebSocket, is passed on; all others keep their connection.
        let _ = writeln!(
            text,
            "map $http_upgrade ${}_connection {{\n    default upgrade;\n    \"\" \"\";\n}}",
            self.zone()
        );
        for service in &self.server.services {
            let _ = writeln!(text, "upstream {} {{", self.upstream(service));
            for place in &service.places {
                let host = place.url.host_str().unwrap_or_default();
                let port = place.url.port_or_known_default().unwrap_or(80);
                let weight = if place.weight == 1 { String::new() } else { format!(" weight={}", place.weight) };
                let _ = writeln!(text, "    server {}{weight};", quoted(&format!("{host}:{port}")));
            }
            text.push_str("    keepalive 16;\n}\n");
        }
        if self.kind == EndpointKind::Distribution {
            let _ = writeln!(
                text,
                "proxy_cache_path {} levels=1:2 keys_zone={}:10m max_size=1g inactive=60m;",
                quoted(&self.folder.join("cache").display().to_string()),
                self.zone()
            );
        }
        text
    }

    /// How a file begins that all hostnames of the endpoint share.
    fn begun(&self) -> String {
        format!("{WRITTEN_BY}{ENDPOINT}{}\n", self.zone())
    }

    /// What the names begin with that all of the server's configuration shares: other manifests may write into folders
    /// of their own there, and other endpoints into this one.
    fn zone(&self) -> String {
        let folder = Fingerprint::of(self.folder.as_os_str().as_encoded_bytes()).to_string();
        format!("pindrel_{}_{}", simple(self.endpoint), &folder[..FOLDER_DIGITS])
    }

    /// Says whether a service is the endpoint's, as its files name it.
    fn has_upstream(&self, name: &str) -> bool {
        self.server.services.iter().any(|service| self.upstream(service) == name)
    }

    fn upstream(&self, service: &Service) -> String {
        format!("{}_{}", self.zone(), simple(&service.name))
    }

    /// What serves one hostname; `own_lines` is a digest of what somebody adds to it.
    pub(super) fn hostname(&self, hostname: &Hostname, binding: &Binding, own_lines: Option<&str>) -> String {
        let mut text = String::from(WRITTEN_BY);
        let _ = writeln!(text, "{BINDING}{}", serde_json::to_string(binding).unwrap_or_default());
        let _ = writeln!(text, "{ENDPOINT}{}", self.zone());
        text.push_str("server {\n");
        for address in &self.server.listen {
            let _ = writeln!(text, "    listen {address} ssl http2;");
        }
        let sha256 = binding.certificate.map_or_else(String::new, |sha256| sha256.to_string());
        let certificate = self.folder.join(CERTIFICATES).join(sha256);
        let certificate = certificate.display();
        let _ = writeln!(text, "    server_name {hostname};");
        let _ = writeln!(text, "    ssl_certificate {};", quoted(&format!("{certificate}.pem")));
        let _ = writeln!(text, "    ssl_certificate_key {};", quoted(&format!("{certificate}.key")));
        let (protocols, refuse) = match binding.minimum_tls {
            TlsVersion::V1_2 => ("TLSv1.2 TLSv1.3", None),
            // The versions of the first server at an address hold for all that share it.
            TlsVersion::V1_3 => ("TLSv1.3", Some("    if ($ssl_protocol != TLSv1.3) {\n        return 426;\n    }\n")),
        };
        let _ = writeln!(text, "    ssl_protocols {protocols};");
        if let Some(clients) = &binding.client_certificates {
            let roots = self.folder.join(trust_bundle_file(clients.roots));
            let verify = match clients.need {
                ClientNeed::Required => "on",
                ClientNeed::Optional => "optional",
            };
            let _ = writeln!(text, "    ssl_client_certificate {};", quoted(&roots.display().to_string()));
            let _ = writeln!(text, "    ssl_verify_client {verify};\n    ssl_verify_depth 3;");
        }
        text.push_str(refuse.unwrap_or_default());
        if let Some(sha256) = own_lines {
            let path = self.folder.join(own_file(hostname));
            let _ = writeln!(text, "    # {sha256}\n    include {};", quoted(&path.display().to_string()));
        }
        match &binding.redirect_to {
            Some(primary) => {
                let port = match self.server.port() {
                    443 => String::new(),
                    port => format!(":{port}"),
                };
                let _ = writeln!(text, "    return 308 https://{primary}{port}$request_uri;");
            }
            None => self.locations(binding, &mut text),
        }
        text.push_str("}\n");
        if !self.server.listen_http.is_empty() {
            self.plain(hostname, &mut text);
        }
        text
    }

    fn locations(&self, binding: &Binding, text: &mut String) {
        if let Some(document) = &self.server.default_document {
            let _ = writeln!(text, "    location = / {{\n        rewrite ^ /{document} last;\n    }}");
        }
        if binding.routes.is_empty() {
            let service = self.server.service.as_deref().and_then(|name| self.server.service(name, None));
            match service {
                Some(service) => self.location("/", service, binding, text),
                None => text.push_str("    location / {\n        return 404;\n    }\n"),
            }
            return;
        }
        for route in &binding.routes {
            let Some(service) = self.server.service(&route.service, route.release.as_deref()) else { continue };
            let prefix = route.prefix.trim_end_matches('/');
            if prefix.is_empty() {
                self.location("/", service, binding, text);
                continue;
            }
            // A prefix ends where a segment of the path does.
            self.location(&format!("{prefix}/"), service, binding, text);
            self.location_exactly(prefix, service, binding, text);
        }
        if !binding.routes.iter().any(|route| route.prefix.trim_end_matches('/').is_empty()) {
            text.push_str("    location / {\n        return 404;\n    }\n");
        }
    }

    fn location(&self, prefix: &str, service: &Service, binding: &Binding, text: &mut String) {
        let _ = writeln!(text, "    location {} {{", quoted(prefix));
        self.proxy(service, binding, text);
    }

    fn location_exactly(&self, path: &str, service: &Service, binding: &Binding, text: &mut String) {
        let _ = writeln!(text, "    location = {} {{", quoted(path));
        self.proxy(service, binding, text);
    }

    fn proxy(&self, service: &Service, binding: &Binding, text: &mut String) {
        let scheme = if service.is_https() { "https" } else { "http" };
        let _ = writeln!(text, "        proxy_pass {scheme}://{};", self.upstream(service));
        let _ = writeln!(
            text,
            "        proxy_http_version 1.1;\n        proxy_set_header Upgrade $http_upgrade;\n        proxy_set_header Connection ${}_connection;",
            self.zone()
        );
        text.push_str(
            "        proxy_set_header Host $host;\n        proxy_set_header X-Real-IP $remote_addr;\n        proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for;\n        proxy_set_header X-Forwarded-Host $host;\n        proxy_set_header X-Forwarded-Port $server_port;\n        proxy_set_header X-Forwarded-Proto https;\n",
        );
        if binding.client_certificates.is_some() {
            // Who it is, or that it showed no certificate; what a client sends under these names is not passed on.
            text.push_str(
                "        proxy_set_header X-Client-Certificate-Verified $ssl_client_verify;\n        proxy_set_header X-Client-Certificate-Subject $ssl_client_s_dn;\n",
            );
        }
        if service.is_https() {
            self.origin(service, text);
        }
        if self.kind == EndpointKind::Distribution {
            let _ = writeln!(text, "        proxy_cache {};", self.zone());
            text.push_str("        proxy_cache_use_stale error timeout updating;\n");
        }
        text.push_str("    }\n");
    }

    /// How the service is spoken to over HTTPS.
    fn origin(&self, service: &Service, text: &mut String) {
        let origin = &self.server.origin;
        let host = service.places.first().and_then(|place| place.url.host_str()).unwrap_or_default();
        let name = origin.server_name.as_ref().map_or(host, Hostname::as_str);
        let _ = writeln!(text, "        proxy_ssl_server_name on;\n        proxy_ssl_name {};", quoted(name));
        if origin.verify {
            let roots = origin
                .roots
                .as_ref()
                .map_or_else(|| "/etc/ssl/certs/ca-certificates.crt".to_owned(), |roots| roots.display().to_string());
            let _ = writeln!(
                text,
                "        proxy_ssl_verify on;\n        proxy_ssl_verify_depth 3;\n        proxy_ssl_trusted_certificate {};",
                quoted(&roots)
            );
        }
    }

    /// What answers over plain HTTP: where to go instead.
    fn plain(&self, hostname: &Hostname, text: &mut String) {
        text.push_str("server {\n");
        for address in &self.server.listen_http {
            let _ = writeln!(text, "    listen {address};");
        }
        let port = match self.server.port() {
            443 => String::new(),
            port => format!(":{port}"),
        };
        // The host of a request is one of the wildcard's names, for others do not come here.
        let to = if hostname.is_wildcard() { "$host" } else { hostname.as_str() };
        let _ = writeln!(text, "    server_name {hostname};\n    return 308 https://{to}{port}$request_uri;\n}}");
    }
}

/// A name as the server takes it without quotes.
fn simple(name: &str) -> String {
    name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect()
}

/// A text as the server reads it in quotes. A dollar sign stays as it is: in a path that is matched it is none of a
/// variable, and no path of a file has one.
fn quoted(text: &str) -> String {
    let plain: String = text.chars().filter(|c| !c.is_control()).collect();
    format!("\"{}\"", plain.replace('\\', "\\\\").replace('"', "\\\""))
}
