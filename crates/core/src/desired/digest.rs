//! Whether the manifest still wants the same of a hostname: digests that are the same on
//! every machine and with every build.
//!
//! Each part is taken apart without `..`, so that a new field cannot be forgotten here, and
//! written with its length, so that two parts never run into each other.

use std::collections::BTreeMap;
use std::hash::Hasher as _;

use siphasher::sip::SipHasher13;

use super::{
    Authority, AuthorityId, CertificateId, CertificateTerms, Desired, Endpoint, EndpointDriver, ExternalAccountKey,
    HostnameId, HttpPlatform, PlacedEndpoint, Placement, PowerDnsApi, ProgramPlatform, StaticEndpoint, Tsig,
    WantedCertificate, WantedClients, WantedHostname, Zone, ZoneDriver, ZoneFile, ZoneId, ZoneProgram,
};
use crate::certificates::budget::Limit;
use crate::certificates::delivery::{Command, Contents, Delivery, Piece};
use crate::certificates::renewal::RenewalRule;
use crate::endpoints::endpoint::{OriginConnection, Route};
use crate::endpoints::expectation::{Expectation, SampleMethod};
use crate::endpoints::load_balancer::LoadBalancer;
use crate::endpoints::web_server::{OriginTls, WebServer};
use crate::health::policy::Policy;
use crate::names::name::Hostname;

impl Desired {
    /// Computes once what the digests of many hostnames share.
    pub fn digests(&self) -> Digests {
        Digests {
            authorities: self.authorities.iter().map(|authority| self.authority_digest(authority)).collect(),
            zones: self.zones.iter().map(zone_digest).collect(),
            endpoints: self.endpoints.iter().map(endpoint_digest).collect(),
        }
    }

    /// Returns the digest of each hostname, by its name.
    pub fn digests_by_hostname(&self) -> BTreeMap<Hostname, u64> {
        let digests = self.digests();
        self.hostname_ids().map(|id| (self.hostname(id).hostname.clone(), digests.of(self, id))).collect()
    }

    fn authority_digest(&self, authority: &Authority) -> u64 {
        let Authority {
            name: _,
            directory,
            contact: _,
            api_roots,
            issued_roots,
            external_account_key,
            account_key: _,
            rehearsal,
            limits,
            profile,
            chain_root,
            // What it is asked does not depend on how fast.
            at_once: _,
            caa_identities,
        } = authority;
        let mut digest = Digest::default();
        digest.text(directory.as_str());
        digest.optional(api_roots.as_ref(), |digest, path| digest.path(path));
        digest.optional(issued_roots.as_ref(), |digest, path| digest.path(path));
        digest.optional(external_account_key.as_ref(), |digest, key| {
            let ExternalAccountKey { id, secret, algorithm } = key;
            digest.text(id);
            digest.text(&secret.to_string());
            digest.text(algorithm.as_str());
        });
        let practice = rehearsal.map(|id| self.authority(id).directory.as_str());
        digest.optional(practice, |digest, directory| digest.text(directory));
        digest.list(limits, |digest, limit| {
            let Limit { count, of, per, within_secs, reserve } = limit;
            digest.number(u64::from(*count));
            digest.text(of.as_str());
            digest.text(per.as_str());
            digest.number(*within_secs);
            digest.number(u64::from(*reserve));
        });
        digest.optional(profile.as_ref(), |digest, profile| digest.text(profile));
        digest.optional(chain_root.as_ref(), |digest, root| digest.text(root));
        digest.list(caa_identities, |digest, identity| digest.text(identity));
        digest.finish()
    }
}

/// Computes a digest of all that is wanted for a hostname. A stored digest that still
/// agrees means that the manifest has not changed anything for that hostname.
#[derive(Debug)]
pub struct Digests {
    authorities: Vec<u64>,
    zones: Vec<u64>,
    endpoints: Vec<u64>,
}

impl Digests {
    /// Returns the digest for one hostname of the manifest that these are of.
    pub fn of(&self, desired: &Desired, id: HostnameId) -> u64 {
        let WantedHostname {
            hostname,
            zone,
            placement,
            certificate,
            routes,
            redirect_to,
            minimum_tls,
            client_certificates,
            ttl,
            expect,
            samples,
            probed_as,
            labels: _,
            https_alias,
            replace,
            note: _,
        } = desired.hostname(id);
        let mut digest = Digest::default();
        digest.text(hostname.as_str());
        digest.number(self.zones[zone.0 as usize]);
        // How health is checked and when traffic returns changes nothing that is held.
        let Placement { members, policy, back_after: _ } = &**placement;
        for PlacedEndpoint { endpoint, check: _ } in members {
            digest.number(self.endpoints[endpoint.0 as usize]);
        }
        if *policy != Policy::Single {
            digest.text(policy.as_str());
        }
        self.certificate(&mut digest, desired.certificate(*certificate));
        digest.list(routes, |digest, route| {
            let Route { prefix, service, release } = route;
            digest.text(prefix);
            digest.text(service);
            digest.optional(release.as_ref(), |digest, release| digest.text(release));
        });
        digest.optional(redirect_to.as_ref(), |digest, primary| digest.text(primary.as_str()));
        digest.text(minimum_tls.as_str());
        digest.number(u64::from(ttl.as_secs()));
        digest.expectation(expect);
        digest.text(probed_as.as_str());
        for sample in samples {
            digest.text("sample");
            digest.expectation(sample);
        }
        if *https_alias {
            digest.text("https_alias");
        }
        if !replace.is_empty() {
            digest.text("replace");
            digest.number(replace.bits().into());
        }
        if let Some(WantedClients { roots, need, probe_with }) = client_certificates.as_deref() {
            digest.text("client certificates");
            digest.text(&roots.to_string());
            digest.text(need.as_str());
            digest.optional(probe_with.as_ref(), |digest, secret| digest.text(&secret.to_string()));
        }
        digest.finish()
    }

    /// Returns the digest for one certificate.
    pub fn of_certificate(&self, desired: &Desired, id: CertificateId) -> u64 {
        let mut digest = Digest::default();
        self.certificate(&mut digest, desired.certificate(id));
        digest.finish()
    }

    /// Returns the digest for one zone.
    pub fn of_zone(&self, id: ZoneId) -> u64 {
        self.zones[id.0 as usize]
    }

    /// Returns the digest for one authority.
    pub fn of_authority(&self, id: AuthorityId) -> u64 {
        self.authorities[id.0 as usize]
    }

    fn certificate(&self, digest: &mut Digest, certificate: &WantedCertificate) {
        let WantedCertificate { name, names, authority, terms } = certificate;
        digest.text(name);
        digest.list(names, |digest, name| digest.text(name.as_str()));
        digest.optional(*authority, |digest, authority| digest.number(self.authorities[authority.0 as usize]));
        let CertificateTerms {
            issued_by,
            issued_roots,
            key,
            reuse_key,
            renewal,
            profile,
            chain_root,
            deliveries,
            after,
            served_at,
            labels: _,
            note: _,
        } = &**terms;
        digest.text(issued_by.as_str());
        digest.optional(issued_roots.as_ref(), |digest, path| digest.path(path));
        digest.text(key.as_str());
        digest.number(u64::from(*reuse_key));
        match renewal {
            RenewalRule::Share => digest.number(0),
            RenewalRule::Before(duration) => digest.number(1 + duration.as_secs()),
        }
        digest.optional(profile.as_ref(), |digest, profile| digest.text(profile));
        digest.optional(chain_root.as_ref(), |digest, root| digest.text(root));
        digest.list(deliveries, Digest::delivery);
        digest.list(after, |digest, command| {
            let Command { run, within } = command;
            digest.list(run, |digest, part| digest.text(part));
            digest.number(within.as_secs());
        });
        digest.list(served_at, |digest, address| digest.text(&address.to_string()));
    }
}

impl Digest {
    fn expectation(&mut self, expectation: &Expectation) {
        let Expectation { path, status, body, method, origin } = expectation;
        self.text(path);
        self.number(u64::from(status.0));
        self.number(u64::from(status.1));
        self.optional(body.as_ref(), |digest, body| digest.text(body));
        if *method != SampleMethod::Get {
            self.text(method.as_str());
        }
        if let Some(origin) = origin {
            self.text("origin");
            self.text(origin);
        }
    }

    fn web_server(&mut self, server: &WebServer) {
        let WebServer {
            folder,
            services,
            service,
            listen,
            listen_http,
            default_name,
            // How it is told does not change what it is told.
            test: _,
            reload: _,
            origin: OriginTls { verify, server_name, roots },
            default_document,
        } = server;
        self.text("nginx");
        self.path(folder);
        self.list(services, |digest, service| {
            digest.text(&service.name);
            digest.list(&service.places, |digest, place| {
                digest.text(place.url.as_str());
                digest.number(u64::from(place.weight));
            });
        });
        self.optional(service.as_ref(), |digest, service| digest.text(service));
        for addresses in [listen, listen_http] {
            self.list(addresses, |digest, address| digest.text(&address.to_string()));
        }
        self.optional(default_name.as_ref(), |digest, name| digest.text(name.as_str()));
        self.number(u64::from(*verify));
        self.optional(server_name.as_ref(), |digest, name| digest.text(name.as_str()));
        self.optional(roots.as_ref(), |digest, path| digest.path(path));
        self.optional(default_document.as_ref(), |digest, document| digest.text(document));
    }
}

fn zone_digest(zone: &Zone) -> u64 {
    let Zone { name, servers, update, parents, resolvers, resolver_roots, driver, marker, least_wait, challenge_ttl } =
        zone;
    let mut digest = Digest::default();
    digest.text(name.as_str());
    for addresses in [servers, parents] {
        digest.list(addresses, |digest, address| digest.text(&address.to_string()));
    }
    digest.list(resolvers, |digest, resolver| digest.text(&resolver.to_string()));
    if let Some(roots) = resolver_roots {
        digest.text("resolver_roots");
        digest.path(roots);
    }
    digest.text(driver.as_str());
    if *marker {
        digest.text("marker");
    }
    match driver {
        ZoneDriver::Rfc2136(Tsig { name, algorithm, secret }) => {
            digest.text(name.as_str());
            digest.text(algorithm.as_str());
            digest.text(&secret.to_string());
        }
        ZoneDriver::PowerDns(PowerDnsApi { url, token, api_roots }) => {
            digest.text(url.as_str());
            digest.text(&token.to_string());
            digest.optional(api_roots.as_ref(), |digest, path| digest.path(path));
        }
        ZoneDriver::File(ZoneFile { file, include_below: _, after: _ }) => digest.path(file),
        ZoneDriver::Program(ZoneProgram { words, token }) => {
            digest.list(words, |digest, word| digest.text(word));
            digest.optional(token.as_ref(), |digest, token| digest.text(&token.to_string()));
        }
        ZoneDriver::None => {}
    }
    digest.number(least_wait.as_secs());
    digest.number(challenge_ttl.as_secs().into());
    if let Some(update) = update {
        digest.text("update");
        digest.text(&update.to_string());
    }
    digest.finish()
}

fn endpoint_digest(endpoint: &Endpoint) -> u64 {
    let Endpoint { name, id, kind, driver, default_document, origin } = endpoint;
    let mut digest = Digest::default();
    digest.text(name);
    digest.text(id);
    digest.text(&kind.to_string());
    match driver {
        EndpointDriver::Http(HttpPlatform { url, token, api_roots, calls_per_second: _ }) => {
            digest.text("http");
            digest.text(url.as_str());
            digest.text(&token.to_string());
            digest.optional(api_roots.as_ref(), |digest, path| digest.path(path));
        }
        EndpointDriver::Program(ProgramPlatform { words, token, calls_per_second: _ }) => {
            digest.text("program");
            digest.list(words, |digest, word| digest.text(word));
            digest.optional(token.as_ref(), |digest, token| digest.text(&token.to_string()));
        }
        EndpointDriver::Nginx(server) => digest.web_server(server),
        EndpointDriver::Haproxy(LoadBalancer { socket, folder, list, default_name, addresses, port }) => {
            digest.text("haproxy");
            for path in [socket, folder, list] {
                digest.path(path);
            }
            digest.optional(default_name.as_ref(), |digest, name| digest.text(name.as_str()));
            digest.list(addresses, |digest, address| digest.text(&address.to_string()));
            digest.number(u64::from(*port));
        }
        EndpointDriver::Static(StaticEndpoint { default_name, addresses, port }) => {
            digest.text("static");
            digest.text(default_name.as_str());
            digest.list(addresses, |digest, address| digest.text(&address.to_string()));
            digest.number(u64::from(*port));
        }
    }
    if let Some(document) = default_document {
        digest.text("default document");
        digest.text(document);
    }
    if let Some(OriginConnection { scheme, verify, server_name }) = origin {
        digest.text("origin");
        digest.text(scheme.as_str());
        digest.number(u64::from(*verify));
        digest.optional(server_name.as_ref(), |digest, name| digest.text(name.as_str()));
    }
    digest.finish()
}

/// SipHash-1-3 with a fixed key over parts that carry their length.
struct Digest(SipHasher13);

impl Default for Digest {
    fn default() -> Self {
        Digest(SipHasher13::new_with_keys(0x7069_6e64_7265_6c31, 0x7761_6e74_6564_0001))
    }
}

impl Digest {
    fn number(&mut self, number: u64) {
        self.0.write(&number.to_le_bytes());
    }

    fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
    }

    fn path(&mut self, path: &std::path::Path) {
        self.bytes(path.as_os_str().as_encoded_bytes());
    }

    fn bytes(&mut self, bytes: &[u8]) {
        self.number(bytes.len() as u64);
        self.0.write(bytes);
    }

    fn optional<T>(&mut self, value: Option<T>, write: impl FnOnce(&mut Digest, T)) {
        self.number(u64::from(value.is_some()));
        if let Some(value) = value {
            write(self, value);
        }
    }

    fn list<T>(&mut self, items: &[T], write: impl Fn(&mut Digest, &T)) {
        self.number(items.len() as u64);
        items.iter().for_each(|item| write(self, item));
    }

    fn delivery(&mut self, delivery: &Delivery) {
        let Delivery { file, contents, mode, owner, group, password } = delivery;
        self.path(file);
        match contents {
            Contents::Pem(pieces) => self.list(pieces, |digest, piece| {
                digest.number(match piece {
                    Piece::Key => 1,
                    Piece::Leaf => 2,
                    Piece::Intermediates => 3,
                });
            }),
            Contents::Pkcs12 => self.number(u64::MAX),
        }
        self.number(u64::from(mode.bits()));
        self.optional(owner.as_ref(), |digest, owner| digest.text(owner));
        self.optional(group.as_ref(), |digest, group| digest.text(group));
        self.optional(password.as_ref(), |digest, password| digest.text(&password.to_string()));
    }

    fn finish(&self) -> u64 {
        self.0.finish()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use crate::desired::{HostnameId, resolved};

    const MANIFEST: &str = r#"
manifest = 1
[authority.main]
directory = "https://authority.example/directory"
agree_to_terms = true
[zone."larkfield.example"]
driver = "rfc2136"
servers = ["127.0.0.3:53"]
tsig = { name = "pindrel", secret = "env:SECRET" }
[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:TOKEN"
[certificate.api]
names = ["api.larkfield.example"]
[hostname."api.larkfield.example"]
endpoint = "catalogue"
routes = [{ prefix = "/v1", service = "catalogue" }]
"#;

    fn digest(manifest: &str) -> u64 {
        let desired = resolved(manifest);
        desired.digests().of(&desired, HostnameId(0))
    }

    /// What changes what is wanted changes the digest; what only changes what is shown does not.
    #[test]
    fn whatever_is_wanted_counts_and_nothing_else() {
        let edits = [
            ("main]\ndir", "other]\ndir", false),
            ("agree_to_terms", "contact = [\"mailto:tls@larkfield.example\"]\nagree_to_terms", false),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nnote = \"a note\"\nlabels = [\"a\"]\n", false),
            ("authority.example/directory", "authority.example/other", true),
            ("agree_to_terms", "profile = \"short\"\nagree_to_terms", true),
            (
                "agree_to_terms",
                "limits = [{ count = 4, of = \"order\", per = \"account\", within = \"1h\" }]\nagree_to_terms",
                true,
            ),
            ("127.0.0.3:53", "127.0.0.4:53", true),
            ("driver = \"rfc2136\"", "driver = \"rfc2136\"\nmarker = true", true),
            ("driver = \"rfc2136\"", "driver = \"rfc2136\"\nresolvers = [\"tls://192.0.2.53\"]", true),
            ("driver = \"rfc2136\"", "driver = \"rfc2136\"\nresolver_roots = \"roots.pem\"", true),
            ("name = \"pindrel\"", "name = \"other\"", true),
            ("env:SECRET", "env:OTHER", true),
            ("driver = \"rfc2136\"", "driver = \"rfc2136\"\nupdate = \"127.0.0.9:53\"", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nreplace = [\"A\"]\n", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nreplace = [\"A\", \"CNAME\"]\n", true),
            ("platform.example", "other.example", true),
            ("env:TOKEN", "file:token", true),
            ("kind = \"gateway\"", "kind = \"gateway\"\nid = \"gw-7\"", true),
            ("\nnames = [", "\nkey = \"rsa-2048\"\nnames = [", true),
            ("\nnames = [", "\nrenew = \"20d\"\nnames = [", true),
            ("[\"api.larkfield", "[\"www.larkfield.example\", \"api.larkfield", true),
            ("\nnames = [", "\ndeliver = [{ file = \"a.pem\", holds = [\"leaf\"] }]\nnames = [", true),
            ("\nnames = [", "\nafter = [{ run = [\"true\"] }]\nnames = [", true),
            ("/v1\", service = \"catalogue", "/v1c\", service = \"atalogue", true),
            ("service = \"catalogue\" }", "service = \"catalogue\", release = \"live\" }", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nttl = \"5m\"\n", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nminimum_tls = \"1.3\"\n", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nexpect = { body = \"ready\" }\n", true),
            ("endpoint = \"catalogue\"\n", "endpoint = \"catalogue\"\nexpect = { method = \"HEAD\" }\n", true),
            (
                "endpoint = \"catalogue\"\n",
                "endpoint = \"catalogue\"\nexpect = { origin = \"https://larkfield.example\" }\n",
                true,
            ),
            ("catalogue\" }]", "catalogue\", expect = { status = \"200\" } }]", true),
            ("token = \"env:TOKEN\"", "token = \"env:TOKEN\"\ndefault_document = \"index.html\"", true),
            ("token = \"env:TOKEN\"", "token = \"env:TOKEN\"\norigin = { verify = false }", true),
            ("token = \"env:TOKEN\"", "token = \"env:TOKEN\"\norigin = { scheme = \"http\" }", true),
        ];
        let as_it_is = digest(MANIFEST);
        let mut seen = HashSet::from([as_it_is]);
        for (from, to, counts) in edits {
            assert!(MANIFEST.contains(from), "{from}");
            let edited = digest(&MANIFEST.replace(from, to));
            assert_eq!(edited != as_it_is, counts, "{from} → {to}");
            assert!(!counts || seen.insert(edited), "{from} → {to} is like another edit");
        }
    }

    /// A stored digest outlives the program that wrote it.
    #[test]
    fn the_digest_is_the_same_with_every_build() {
        assert_eq!(digest(MANIFEST), 11_326_168_946_147_366_867);
    }

    /// Each key of an endpoint that changes what is there makes its hostnames looked at anew; how its
    /// server is told, and how fast, does not.
    #[test]
    fn each_key_of_an_endpoint_counts_but_how_it_is_told() {
        let nginx = "driver = \"nginx\"\nfolder = \"web\"\nlisten = [\"192.0.2.10:8443\"]\nlisten_http = [\"192.0.2.10:80\"]\n\
                     services = { one = \"https://one.example\", two = [{ url = \"http://127.0.0.1:9001\", weight = 2 }] }\n\
                     service = \"one\"\ndefault_name = \"web.edge.test\"\norigin = { server_name = \"one.example\", roots = \"r.pem\" }\n\
                     default_document = \"index.html\"\ntest = [\"a\"]\nreload = [\"b\"]\n";
        let haproxy = "driver = \"haproxy\"\nsocket = \"s\"\nfolder = \"f\"\nlist = \"l\"\ndefault_name = \"lb.edge.test\"\n\
                       addresses = [\"192.0.2.20\"]\nport = 8443\n";
        let program = "driver = \"program\"\nid = \"shop\"\nprogram = [\"python3\", \"adapter.py\"]\ntoken = \"env:SHOP\"\n\
                       calls_per_second = 5\n";
        let fixed =
            "driver = \"static\"\ndefault_name = \"old.edge.test\"\naddresses = [\"192.0.2.30\"]\nport = 8443\n";
        /// What stands there, what is written instead, and whether that counts.
        type Edit<'e> = (&'e str, &'e str, bool);
        let edits: [(&str, &[Edit<'_>]); 4] = [
            (
                nginx,
                &[
                    ("\"web\"", "\"other\"", true),
                    ("10:8443", "11:8443", true),
                    ("10:8443", "10:9443", true),
                    ("10:80\"", "11:80\"", true),
                    ("https://one.example", "https://three.example", true),
                    ("two = ", "three = ", true),
                    (":9001", ":9002", true),
                    ("weight = 2", "weight = 3", true),
                    ("service = \"one\"", "service = \"two\"", true),
                    ("web.edge.test", "www.edge.test", true),
                    ("server_name = \"one.example\"", "server_name = \"two.example\"", true),
                    ("roots = \"r.pem\"", "roots = \"s.pem\"", true),
                    ("roots = \"r.pem\"", "verify = false", true),
                    ("index.html", "start.html", true),
                    ("test = [\"a\"]", "test = [\"c\"]", false),
                    ("reload = [\"b\"]", "reload = [\"c\"]", false),
                ],
            ),
            (
                haproxy,
                &[
                    ("socket = \"s\"", "socket = \"t\"", true),
                    ("folder = \"f\"", "folder = \"g\"", true),
                    ("list = \"l\"", "list = \"m\"", true),
                    ("lb.edge.test", "balance.edge.test", true),
                    ("192.0.2.20", "192.0.2.21", true),
                    ("[\"192.0.2.20\"]", "[\"192.0.2.20\", \"192.0.2.22\"]", true),
                    ("8443", "443", true),
                ],
            ),
            (
                program,
                &[
                    ("id = \"shop\"", "id = \"store\"", true),
                    ("\"python3\", ", "", true),
                    ("[\"python3\", \"adapter.py\"]", "[\"python3 adapter.py\"]", true),
                    ("env:SHOP", "file:shop", true),
                    ("calls_per_second = 5", "calls_per_second = 6", false),
                ],
            ),
            (
                fixed,
                &[("old.edge.test", "new.edge.test", true), ("192.0.2.30", "192.0.2.31", true), ("8443", "443", true)],
            ),
        ];
        let http = "driver = \"http\"\nurl = \"https://platform.example\"\ntoken = \"env:TOKEN\"\n";
        // Routes name services of a platform, which a server on this machine must have.
        let manifest = |table: &str| {
            let manifest = MANIFEST.replace(http, table);
            manifest.replace("routes = [{ prefix = \"/v1\", service = \"catalogue\" }]\n", "")
        };
        let mut seen = HashSet::new();
        for (table, edits) in edits {
            let as_it_is = digest(&manifest(table));
            assert!(seen.insert(as_it_is));
            for (from, to, counts) in edits {
                assert!(table.contains(from), "{from}: {table}");
                let edited = digest(&manifest(&table.replacen(from, to, 1)));
                assert_eq!(edited != as_it_is, *counts, "{from} → {to}");
                assert!(!counts || seen.insert(edited), "{from} → {to} is like another edit");
            }
        }
    }
}
