//! The manifest: the one file that says what should hold.
//!
//! Reading goes in two forms. [`read`] turns text into a [`Manifest`], which stays
//! close to the text and keeps the place of every value; [`crate::desired::resolve`]
//! turns that into what should hold, with defaults applied and references followed.
//! Both collect every mistake instead of stopping at the first.

mod blocks;
mod describe;
mod diagnostic;
mod draft;
#[cfg(test)]
mod health_tests;
#[cfg(test)]
mod included_tests;
mod read;
mod review;
mod section;
mod source;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod zone_tests;

/// The most names of one certificate.
pub(crate) const MOST_NAMES: usize = 100;

pub use describe::{Key, Kind, Table, key_table, schema, tables};
pub use diagnostic::{Diagnostic, Diagnostics, LineIndex, Place, nearest};
pub use draft::{Draft, DraftTable, TomlValue, inline, texts};
pub use read::{read, read_source};
pub use review::review;
pub use source::{Preamble, Source, other_values, preamble};

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::ops::Range;
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use url::Url;

use crate::certificates::acme::jws::MacAlgorithm;
use crate::certificates::budget::Limit;
use crate::certificates::delivery::{Command, Contents, FileMode};
use crate::desired::{StaticEndpoint, ZoneDriver};
use crate::endpoints::endpoint::{ClientNeed, EndpointKind, OriginConnection, Route, TlsVersion};
use crate::endpoints::expectation::Expectation;
use crate::endpoints::load_balancer::LoadBalancer;
use crate::endpoints::web_server::WebServer;
use crate::health::{CheckTerms, HostPort, HttpExchange, Need};
use crate::judging::facts::Origin;
use crate::names::name::{DnsName, Hostname};
use crate::values::{KeyKind, SecretRef, Ttl};
use crate::zones::records::RecordTypes;
use crate::zones::resolver::ResolverAddress;

/// A range of bytes in the manifest's text.
pub type Span = Range<usize>;

/// A value with its place in the manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct At<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub span: Span,
}

/// A manifest as written: references are still names.
#[derive(Debug, Default)]
pub struct Manifest {
    /// The authority for hostnames that name none.
    pub default_authority: Option<At<String>>,
    /// The endpoint of hostnames that name none.
    pub default_endpoint: Option<At<String>>,
    /// The TTL of alias records that say none.
    pub default_ttl: Option<Ttl>,
    /// The kind of key of certificates that say none.
    pub default_key: Option<KeyKind>,
    /// How long before their end certificates that say nothing are renewed.
    pub default_renew: Option<Duration>,
    /// How long the keys of certificates that another has replaced are kept; until they expire unless said.
    pub former_keys: Option<Duration>,
    /// `[authority.NAME]`.
    pub authorities: Vec<AuthorityEntry>,
    /// `[zone."NAME"]`.
    pub zones: Vec<ZoneEntry>,
    /// `[endpoint.NAME]`.
    pub endpoints: Vec<EndpointEntry>,
    /// `[health.NAME]`.
    pub health: Vec<HealthEntry>,
    /// How often every hostname is looked at while Pindrel keeps running.
    pub look_every: Option<Duration>,
    /// Where a process that runs on is asked how everything is.
    pub listen: Option<SocketAddr>,
    /// `[certificate.NAME]`.
    pub certificates: Vec<CertificateEntry>,
    /// `[hostname."NAME"]`.
    pub hostnames: Vec<HostnameEntry>,
    /// Kind and name of the tables that have mistakes of their own; what refers to them
    /// is not a mistake besides.
    pub mistaken: Vec<(&'static str, String)>,
    /// The text of the files of roots for client certificates, as far as they can be read: whoever
    /// reads the manifest adds them.
    pub trust_bundles: BTreeMap<PathBuf, String>,
}

impl Manifest {
    /// Returns every file of root certificates.
    pub fn roots(&self) -> impl Iterator<Item = &At<PathBuf>> {
        let authorities = self.authorities.iter().flat_map(|entry| [&entry.api_roots, &entry.issued_roots]);
        let endpoints = self.endpoints.iter().filter_map(EndpointEntry::api_roots);
        let imported = self.certificates.iter().filter_map(|entry| entry.issued_roots.as_ref());
        let placed = self.endpoints.iter().filter_map(|entry| entry.health.as_ref());
        let placed = placed.chain(self.hostnames.iter().filter_map(|entry| entry.health.as_deref()));
        let named = self.health.iter().filter_map(|entry| match &entry.what {
            CheckedEntry::Tls { roots, .. } => roots.as_ref(),
            CheckedEntry::Url(request) => request.roots.as_ref(),
            _ => None,
        });
        let checks = placed.filter_map(|health| health.request.roots.as_ref()).chain(named);
        let resolvers = self.zones.iter().filter_map(|entry| entry.resolver_roots.as_ref());
        authorities.flatten().chain(endpoints).chain(imported).chain(checks).chain(resolvers)
    }

    /// Returns every file of roots for client certificates.
    pub fn client_roots(&self) -> impl Iterator<Item = &At<PathBuf>> {
        self.hostnames.iter().filter_map(|entry| Some(&entry.client_certificates.as_ref()?.roots))
    }

    /// Returns every reference to a secret.
    pub fn secrets(&self) -> impl Iterator<Item = &At<SecretRef>> {
        let external = self.authorities.iter().filter_map(|entry| entry.external_account_key.as_ref());
        let zones = self.zones.iter().filter_map(|entry| entry.secret.as_ref());
        let tokens = self.endpoints.iter().filter_map(EndpointEntry::token);
        let delivered = self.certificates.iter().flat_map(|entry| &entry.deliver);
        let passwords = delivered.filter_map(|delivery| delivery.password.as_ref());
        let clients = self.hostnames.iter().filter_map(|entry| entry.client_certificates.as_ref());
        let identities = clients.filter_map(|clients| clients.probe_with.as_ref());
        external.map(|external| &external.secret).chain(zones).chain(tokens).chain(passwords).chain(identities)
    }
}

/// One `[authority.NAME]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuthorityEntry {
    /// The name that the manifest gives it.
    pub name: At<String>,
    /// The ACME directory (RFC 8555 §7.1.1).
    pub directory: Url,
    /// Contact URLs for the account (RFC 8555 §7.3).
    pub contact: Vec<String>,
    /// PEM file of roots that the authority's own HTTPS is verified against, besides
    /// the public ones.
    pub api_roots: Option<At<PathBuf>>,
    /// PEM file of roots where its certificates must end; public roots when absent.
    pub issued_roots: Option<At<PathBuf>>,
    /// External account binding (RFC 8555 §7.3.4).
    pub external_account_key: Option<ExternalAccountEntry>,
    /// The authority where a new set-up is proven first.
    pub rehearsal: Option<At<String>>,
    /// What may be spent there.
    pub limits: Vec<Limit>,
    /// The kind of the account's key.
    pub account_key: KeyKind,
    /// The certificate profile that is ordered.
    pub profile: Option<String>,
    /// The name of the root that chains should lead to.
    pub chain_root: Option<String>,
    /// How many requests it is sent at once.
    pub at_once: Option<u32>,
    /// The names by which CAA records call it, where its directory says none.
    pub caa_identities: Vec<String>,
}

/// The external account that an authority asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExternalAccountEntry {
    /// The key identifier.
    pub id: String,
    /// Where the base64url MAC key is to be read.
    pub secret: At<SecretRef>,
    /// The MAC.
    pub algorithm: MacAlgorithm,
}

/// One `[zone."NAME"]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneEntry {
    /// The zone's apex.
    pub name: At<DnsName>,
    /// The authoritative servers, the one for updates first; as delegated when empty.
    pub servers: Vec<SocketAddr>,
    /// Servers of the zone above; found through the resolvers when empty.
    pub parents: Vec<SocketAddr>,
    /// Where public answers are looked up; the system's resolvers when empty.
    pub resolvers: Vec<ResolverAddress>,
    /// The roots that certificates of resolvers must end in, in place of the system's.
    pub resolver_roots: Option<At<PathBuf>>,
    /// The server that takes changes, where it is named.
    pub update: Option<SocketAddr>,
    /// How it is changed.
    pub driver: ZoneDriver,
    /// Whether a TXT record names the installation that holds its hostnames.
    pub marker: bool,
    /// Where the secret is to be read that its driver needs.
    pub secret: Option<At<SecretRef>>,
    /// How long to wait at least after a challenge record was made.
    pub least_wait: Duration,
    /// The TTL of challenge records.
    pub challenge_ttl: Ttl,
}

/// One `[endpoint.NAME]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointEntry {
    /// The name that the manifest gives it.
    pub name: At<String>,
    /// The platform's id of it.
    pub id: String,
    /// What it is.
    pub kind: EndpointKind,
    /// How it is spoken to.
    pub driver: EndpointDriverEntry,
    /// What is served for the root, where its platform is told.
    pub default_document: Option<String>,
    /// How it speaks to its origin, where its platform is told.
    pub origin: Option<OriginConnection>,
    /// How it is checked.
    pub health: Option<EndpointHealthEntry>,
}

/// The keys of an endpoint's driver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EndpointDriverEntry {
    /// `driver = "http"`.
    Http {
        /// Base URL of the platform's endpoint protocol.
        url: Url,
        /// Where the bearer token is to be read.
        token: At<SecretRef>,
        /// PEM file of roots for the platform's own HTTPS, besides the public ones.
        api_roots: Option<At<PathBuf>>,
        /// How many requests it is sent a second at most.
        calls_per_second: Option<u32>,
    },
    /// `driver = "program"`.
    Program {
        /// The program and its arguments.
        words: Vec<String>,
        /// Where the token that it is given is to be read.
        token: Option<At<SecretRef>>,
        /// How many calls it is sent a second at most.
        calls_per_second: Option<u32>,
    },
    /// `driver = "static"`.
    Static(StaticEndpoint),
    /// `driver = "nginx"`.
    Nginx(WebServer),
    /// `driver = "haproxy"`.
    Haproxy(LoadBalancer),
}

impl EndpointEntry {
    /// Returns where its token is to be read.
    pub fn token(&self) -> Option<&At<SecretRef>> {
        match &self.driver {
            EndpointDriverEntry::Http { token, .. } => Some(token),
            EndpointDriverEntry::Program { token, .. } => token.as_ref(),
            _ => None,
        }
    }

    /// Returns the roots of its platform's own HTTPS.
    pub fn api_roots(&self) -> Option<&At<PathBuf>> {
        match &self.driver {
            EndpointDriverEntry::Http { api_roots, .. } => api_roots.as_ref(),
            _ => None,
        }
    }
}

/// The policies that a manifest may name, whether or not a zone's driver can carry them out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PolicyWord {
    /// There is one endpoint.
    Single,
    /// The first healthy one.
    Standby,
    /// All healthy ones, by their shares.
    Split,
    /// The nearest of the healthy ones.
    Nearest,
}

impl FromStr for PolicyWord {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "single" => Ok(PolicyWord::Single),
            "standby" => Ok(PolicyWord::Standby),
            "split" => Ok(PolicyWord::Split),
            "nearest" => Ok(PolicyWord::Nearest),
            _ => Err(format!("there is no policy \"{text}\"")),
        }
    }
}

/// `health` and `health_terms` of an endpoint or a hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EndpointHealthEntry {
    /// What is asked for.
    pub request: RequestEntry,
    /// How often, and what makes a verdict.
    pub terms: CheckTerms,
}

/// A request of a health check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestEntry {
    /// Where it stands.
    pub span: Span,
    /// The name that is asked for; the hostname at the endpoint where none is said.
    pub name: Option<At<Hostname>>,
    /// What is sent, and what must come back.
    pub exchange: HttpExchange,
    /// Whether the certificate is verified.
    pub verify: bool,
    /// PEM file of the roots where it must end.
    pub roots: Option<At<PathBuf>>,
    /// The label that a wildcard is asked under.
    pub label: Option<At<String>>,
}

impl RequestEntry {
    /// A request of which nothing special is said.
    pub(crate) fn plain(span: Span) -> RequestEntry {
        RequestEntry { span, name: None, exchange: HttpExchange::default(), verify: true, roots: None, label: None }
    }
}

/// One `[health.NAME]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HealthEntry {
    /// The name that the manifest gives it.
    pub name: At<String>,
    /// What it checks.
    pub what: CheckedEntry,
    /// How often, and what makes a verdict.
    pub terms: CheckTerms,
}

/// What a `[health.NAME]` checks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckedEntry {
    /// `tcp`.
    Tcp(HostPort),
    /// `tls`.
    Tls {
        /// Where it listens.
        place: At<HostPort>,
        /// The name that its certificate must cover; the host's where none is said.
        name: Option<At<Hostname>>,
        /// For how many days the certificate must still be valid.
        days_left: u32,
        /// Whether the certificate is verified.
        verify: bool,
        /// PEM file of the roots where it must end.
        roots: Option<At<PathBuf>>,
    },
    /// `url`.
    Url(RequestEntry),
    /// `dns`.
    Dns {
        /// The server.
        server: SocketAddr,
        /// The name that it must be authoritative for.
        name: DnsName,
    },
    /// `program`.
    Program(Vec<String>),
    /// `of`.
    Combination {
        /// The names of other checks; at least one.
        of: Vec<At<String>>,
        /// How many must be up.
        need: Need,
    },
}

/// One `[certificate.NAME]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateEntry {
    /// The name that the manifest gives it.
    pub name: At<String>,
    /// The names it covers.
    pub names: Vec<At<Hostname>>,
    /// Its authority, unless the default one.
    pub authority: Option<At<String>>,
    /// The kind of its key, unless the default one.
    pub key: Option<KeyKind>,
    /// Whether a renewed certificate keeps its key.
    pub reuse_key: bool,
    /// How long before its end it is renewed.
    pub renew: Option<Duration>,
    /// The certificate profile that is ordered.
    pub profile: Option<String>,
    /// The name of the root that its chain should lead to.
    pub chain_root: Option<String>,
    /// Who issues it.
    pub issued_by: Origin,
    /// For one that is issued elsewhere: PEM file of roots where it must end.
    pub issued_roots: Option<At<PathBuf>>,
    /// The files that it is written to.
    pub deliver: Vec<DeliveryEntry>,
    /// What is run once the files are written.
    pub after: Vec<Command>,
    /// The listeners that serve it.
    pub served_at: Vec<SocketAddr>,
    /// Words that lists can be filtered by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

/// One file that a certificate is written to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DeliveryEntry {
    /// The file, relative to the manifest's folder.
    pub file: At<PathBuf>,
    /// What it holds.
    pub contents: Contents,
    /// Its permission bits.
    pub mode: FileMode,
    /// The user that it belongs to.
    pub owner: Option<String>,
    /// The group that it belongs to.
    pub group: Option<String>,
    /// What opens a PKCS#12 file.
    pub password: Option<At<SecretRef>>,
}

/// One `[hostname."NAME"]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameEntry {
    /// The custom name.
    pub hostname: At<Hostname>,
    /// Where its traffic ends, in the order of preference; none where the default says it.
    pub endpoints: Vec<At<String>>,
    /// How several endpoints share its traffic.
    pub policy: Option<At<PolicyWord>>,
    /// The check that judges its endpoints.
    pub judged_by: Option<At<String>>,
    /// How long an endpoint must have been up before traffic returns to it.
    pub back_after: Option<At<Duration>>,
    /// How much of the traffic each endpoint gets.
    pub shares: Vec<At<(String, u32)>>,
    /// How each of its endpoints is checked for it.
    pub health: Option<Box<EndpointHealthEntry>>,
    /// Where an HTTPS record in AliasMode beside its addresses is asked for.
    pub https_alias: Option<Range<usize>>,
    /// The certificate that it names.
    pub certificate: Option<At<String>>,
    /// The authority of its own certificate, unless the default one.
    pub authority: Option<At<String>>,
    /// Path prefixes and the services behind them.
    pub routes: Vec<Route>,
    /// Further names that redirect to this one.
    pub also: Vec<At<Hostname>>,
    /// The TTL of its alias record.
    pub ttl: Option<Ttl>,
    /// The lowest TLS version that its clients may use.
    pub minimum_tls: TlsVersion,
    /// What its clients must show.
    pub client_certificates: Option<ClientCertificatesEntry>,
    /// What a request must be answered with.
    pub expect: Option<Expectation>,
    /// What a request to a route must be answered with.
    pub samples: Vec<Expectation>,
    /// The label that a wildcard is asked under.
    pub probe_as: Option<At<String>>,
    /// Words that lists can be filtered by.
    pub labels: Vec<String>,
    /// The labels below a wildcard that nobody else may have.
    pub reserved: Vec<At<String>>,
    /// The types of records of others that may go from its name.
    pub replace: RecordTypes,
    /// A note for people.
    pub note: Option<String>,
}

/// The client certificates that a hostname asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClientCertificatesEntry {
    /// PEM file of the roots where they must end.
    pub roots: At<PathBuf>,
    /// Whether a client without one is refused.
    pub need: ClientNeed,
    /// Where the certificate and key are to be read that sample requests are made with.
    pub probe_with: Option<At<SecretRef>>,
}
