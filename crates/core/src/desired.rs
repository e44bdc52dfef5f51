//! What should hold: the manifest with defaults applied and references followed.

mod checks;
mod digest;
pub(crate) mod ids;
mod placement;
mod resolve;

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use url::Url;

use crate::certificates::acme::jws::MacAlgorithm;
use crate::certificates::budget::Limit;
use crate::certificates::delivery::{Command, Delivery};
use crate::certificates::renewal::RenewalRule;
use crate::endpoints::endpoint::{
    Binding, ClientCertificates, ClientNeed, EndpointInfo, EndpointKind, OriginConnection, Route, TlsVersion,
};
use crate::endpoints::expectation::Expectation;
use crate::endpoints::load_balancer::LoadBalancer;
use crate::endpoints::web_server::WebServer;
use crate::health::HealthCheck;
use crate::health::policy::Policy;
use crate::judging::facts::{EndpointKey, OrderedTerms, Origin};
use crate::judging::facts::{Marker, ZoneView};
use crate::names::name::{DnsName, Hostname};
use crate::values::{Fingerprint, KeyKind, SecretRef, TsigAlgorithm, Ttl};
use crate::zones::records::{RecordData, RecordSet, RecordTypes};
use crate::zones::resolver::ResolverAddress;

pub use digest::Digests;
pub use placement::{PlacedEndpoint, Placement};
pub use resolve::resolve;
#[cfg(test)]
pub(crate) use resolve::{SMALL_MANIFEST, resolved};

pub use ids::{AuthorityId, CertificateId, CheckId, EndpointId, HostnameId, ZoneId};

/// What should hold.
#[derive(Debug, Default)]
pub struct Desired {
    /// The authorities.
    pub authorities: Vec<Authority>,
    /// The zones.
    pub zones: Vec<Zone>,
    /// The endpoints.
    pub endpoints: Vec<Endpoint>,
    /// The certificates, declared and implied.
    pub certificates: Vec<WantedCertificate>,
    /// Those of hostnames that are taken away: nobody wants them, and none of them is issued or renewed.
    pub let_go: BTreeSet<CertificateId>,
    /// The hostnames in the manifest's order, each followed by its further names.
    pub hostnames: Vec<WantedHostname>,
    /// The health checks: those of endpoints, those of hostnames at their endpoints, and named ones.
    pub checks: Vec<HealthCheck>,
    /// How often every hostname is looked at while Pindrel keeps running; an hour unless said.
    pub look_every: Option<Duration>,
    /// Where a process that runs on is asked how everything is; nowhere unless said.
    pub listen: Option<SocketAddr>,
    /// How long the keys of certificates that another has replaced are kept; until they expire unless said.
    pub former_keys: Option<Duration>,
    /// The roots that client certificates must end at, in PEM, by their fingerprint.
    pub trust_bundles: BTreeMap<Fingerprint, String>,
}

/// An authority to issue from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Authority {
    /// Its name in the manifest.
    pub name: String,
    /// Its ACME directory.
    pub directory: Url,
    /// Contact URLs.
    pub contact: Vec<String>,
    /// PEM file of roots for its HTTPS.
    pub api_roots: Option<PathBuf>,
    /// PEM file of roots where its certificates must end.
    pub issued_roots: Option<PathBuf>,
    /// The external account that it asks for.
    pub external_account_key: Option<ExternalAccountKey>,
    /// The kind of the account's key.
    pub account_key: KeyKind,
    /// Where a new set-up is proven first.
    pub rehearsal: Option<AuthorityId>,
    /// What may be spent there.
    pub limits: Vec<Limit>,
    /// The certificate profile that is ordered, unless the certificate says another.
    pub profile: Option<String>,
    /// The root that chains should lead to, unless the certificate says another.
    pub chain_root: Option<String>,
    /// How many requests it is sent at once.
    pub at_once: u32,
    /// The names by which CAA records call it (RFC 8659 §4.2), where its directory says none.
    pub caa_identities: Vec<String>,
}

impl Authority {
    /// How many requests an authority is sent at once where the manifest does not say: small ones
    /// stall under many.
    pub const AT_ONCE: u32 = 8;
}

/// The external account that an authority asks for (RFC 8555 §7.3.4).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExternalAccountKey {
    /// The key identifier.
    pub id: String,
    /// Where the base64url MAC key is to be read.
    pub secret: SecretRef,
    /// The MAC.
    pub algorithm: MacAlgorithm,
}

/// A transaction signature key (RFC 8945).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tsig {
    /// The key's name, as the server knows it.
    pub name: DnsName,
    /// The MAC.
    pub algorithm: TsigAlgorithm,
    /// Where the base64 secret is to be read.
    pub secret: SecretRef,
}

/// How the records of a zone are changed, with what that way needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneDriver {
    /// Dynamic update (RFC 2136), signed by this key.
    Rfc2136(Tsig),
    /// The HTTP API of PowerDNS Authoritative Server.
    PowerDns(PowerDnsApi),
    /// A zone file on this machine (RFC 1035 §5), and the commands that make its server read it.
    File(ZoneFile),
    /// A program that speaks for the zone's server.
    Program(ZoneProgram),
    /// Nothing: somebody else edits the zone, and is told what is to be made.
    None,
}

/// The API of a PowerDNS server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PowerDnsApi {
    /// Its base URL, without the path of the API.
    pub url: Url,
    /// Where its key is to be read.
    pub token: SecretRef,
    /// PEM file of roots for its HTTPS.
    pub api_roots: Option<PathBuf>,
}

/// A zone in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneFile {
    /// The file.
    pub file: PathBuf,
    /// A folder where files that it includes may lie, besides its own.
    pub include_below: Option<PathBuf>,
    /// What is run once it is written.
    pub after: Vec<Command>,
}

/// A program that speaks for the name server of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneProgram {
    /// The program and its arguments; at least one word.
    pub words: Vec<String>,
    /// Where the token that it is given is to be read.
    pub token: Option<SecretRef>,
}

impl ZoneDriver {
    /// Returns its name, as the manifest has it.
    pub fn as_str(&self) -> &'static str {
        match self {
            ZoneDriver::Rfc2136(_) => "rfc2136",
            ZoneDriver::PowerDns(_) => "powerdns",
            ZoneDriver::File(_) => "file",
            ZoneDriver::Program(_) => "program",
            ZoneDriver::None => "none",
        }
    }

    /// Says whether its zone can hold an ALIAS record, which may stand at an apex.
    pub fn knows_alias(&self) -> bool {
        matches!(self, ZoneDriver::PowerDns(_))
    }

    /// Returns where the secrets are to be read that it needs.
    pub fn secret(&self) -> Option<&SecretRef> {
        match self {
            ZoneDriver::Rfc2136(tsig) => Some(&tsig.secret),
            ZoneDriver::PowerDns(api) => Some(&api.token),
            ZoneDriver::Program(program) => program.token.as_ref(),
            ZoneDriver::File(_) | ZoneDriver::None => None,
        }
    }

    /// Returns what it signs in with, for people: without the secret itself.
    pub fn credential(&self) -> String {
        match self {
            ZoneDriver::Rfc2136(Tsig { name, algorithm, secret }) => format!("{name} {algorithm:?} {secret}"),
            ZoneDriver::PowerDns(api) => format!("{} {}", api.url, api.token),
            ZoneDriver::File(zone) => zone.file.display().to_string(),
            ZoneDriver::Program(program) => program.words.join(" "),
            ZoneDriver::None => String::new(),
        }
    }
}

/// A zone of the manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Zone {
    /// Its apex.
    pub name: DnsName,
    /// Its servers; as delegated when empty.
    pub servers: Vec<SocketAddr>,
    /// The server that takes changes, where it is named.
    pub update: Option<SocketAddr>,
    /// The servers of the zone above; found when empty.
    pub parents: Vec<SocketAddr>,
    /// Where public answers are looked up; the system's when empty.
    pub resolvers: Vec<ResolverAddress>,
    /// The roots that certificates of resolvers must end in, in place of the system's.
    pub resolver_roots: Option<PathBuf>,
    /// How it is changed.
    pub driver: ZoneDriver,
    /// Whether a TXT record names the installation that holds its hostnames.
    pub marker: bool,
    /// How long to wait at least after a challenge record was made: some servers answer
    /// their interface before they answer DNS.
    pub least_wait: Duration,
    /// The TTL of challenge records: a caching resolver of an authority sees the last one that long.
    pub challenge_ttl: Ttl,
}

impl Zone {
    /// Returns where the marker of the zone stands.
    pub fn marker_owner(&self) -> Option<DnsName> {
        self.name.below("_pindrel").ok()
    }

    /// Returns the text of the marker of an installation, which is known by its id.
    pub fn marker_text(installation: &str) -> String {
        format!("installation={installation}")
    }

    /// Says whether the manifest wants a marker that the zone does not have.
    pub fn lacks_marker(&self, view: &ZoneView) -> bool {
        self.marker && view.marker == Some(Marker::Absent)
    }
}

/// An endpoint to bind hostnames at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Endpoint {
    /// Its name in the manifest.
    pub name: String,
    /// The platform's id of it.
    pub id: String,
    /// What it is.
    pub kind: EndpointKind,
    /// How its platform is spoken to.
    pub driver: EndpointDriver,
    /// What is served for the root, where its platform is told.
    pub default_document: Option<String>,
    /// How it speaks to its origin, where its platform is told.
    pub origin: Option<OriginConnection>,
}

/// How the platform of an endpoint is spoken to, with what that way needs.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum EndpointDriver {
    /// The endpoint protocol over HTTPS.
    Http(HttpPlatform),
    /// The endpoint protocol over the standard input and output of a program.
    Program(ProgramPlatform),
    /// Nobody is spoken to: somebody else configures it, and it takes certificates out of delivered
    /// files.
    Static(StaticEndpoint),
    /// A web server on this machine, through included files, its configuration test and its reload.
    Nginx(WebServer),
    /// A load balancer on this machine, through its runtime socket.
    Haproxy(LoadBalancer),
}

/// An endpoint that somebody else configures.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct StaticEndpoint {
    /// The name that aliases point at.
    pub default_name: DnsName,
    /// Its addresses; at least one.
    pub addresses: Vec<IpAddr>,
    /// The port that it serves TLS on.
    pub port: u16,
}

/// A platform that speaks the endpoint protocol over HTTPS.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HttpPlatform {
    /// Its base URL.
    pub url: Url,
    /// Where the bearer token is to be read.
    pub token: SecretRef,
    /// PEM file of roots for its HTTPS.
    pub api_roots: Option<PathBuf>,
    /// How many requests it is sent a second at most.
    pub calls_per_second: Option<u32>,
}

/// A program that speaks the endpoint protocol for a platform.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct ProgramPlatform {
    /// The program and its arguments; at least one word.
    pub words: Vec<String>,
    /// Where the token that it is given is to be read.
    pub token: Option<SecretRef>,
    /// How many calls it is sent a second at most.
    pub calls_per_second: Option<u32>,
}

impl Endpoint {
    /// Returns the key under which what is at this endpoint is kept.
    pub fn key(&self) -> EndpointKey {
        match &self.driver {
            EndpointDriver::Http(HttpPlatform { url, .. }) => EndpointKey::new(url, &self.id),
            EndpointDriver::Program(_) => EndpointKey::of_program(&self.name, &self.id),
            EndpointDriver::Static(_) => EndpointKey::of_static(&self.name),
            EndpointDriver::Nginx(server) => EndpointKey::of_folder(&server.folder),
            EndpointDriver::Haproxy(balancer) => EndpointKey::of_folder(&balancer.folder),
        }
    }

    /// Returns what is known of an endpoint that somebody else configures: what the manifest says.
    pub fn static_info(&self) -> Option<EndpointInfo> {
        let EndpointDriver::Static(place) = &self.driver else { return None };
        Some(EndpointInfo {
            default_name: Some(place.default_name.clone()),
            port: place.port,
            ..EndpointInfo::plain(&self.id, self.kind, "", place.addresses.clone())
        })
    }

    /// Says whether somebody else configures it.
    pub fn is_static(&self) -> bool {
        matches!(self.driver, EndpointDriver::Static(_))
    }

    /// Says whether it is a server on this machine, which Pindrel configures by files.
    pub fn is_on_this_machine(&self) -> bool {
        matches!(self.driver, EndpointDriver::Nginx(_) | EndpointDriver::Haproxy(_))
    }

    /// Says whether its addresses are what the manifest says of it, and not what its platform does.
    pub fn names_addresses(&self) -> bool {
        !matches!(self.driver, EndpointDriver::Http(_) | EndpointDriver::Program(_))
    }

    /// Returns how messages refer to its platform.
    pub fn platform(&self) -> String {
        match &self.driver {
            EndpointDriver::Http(HttpPlatform { url, .. }) => url.to_string(),
            EndpointDriver::Program(program) => program.words.join(" "),
            EndpointDriver::Nginx(server) => server.folder.display().to_string(),
            EndpointDriver::Haproxy(balancer) => balancer.socket.display().to_string(),
            EndpointDriver::Static(_) => self.name.clone(),
        }
    }
}

/// A certificate that should be there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedCertificate {
    /// Its name: as declared, or the hostname that it is for.
    pub name: String,
    /// The names it covers, each once.
    pub names: Vec<Hostname>,
    /// Where it is issued; `None` where no ACME authority does.
    pub authority: Option<AuthorityId>,
    /// All else: shared by the certificates of which the manifest says nothing special.
    pub terms: Arc<CertificateTerms>,
}

/// How a certificate is made and where it goes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CertificateTerms {
    /// Who issues it.
    pub issued_by: Origin,
    /// For one that is issued elsewhere: PEM file of roots where it must end.
    pub issued_roots: Option<PathBuf>,
    /// The kind of its key.
    pub key: KeyKind,
    /// Whether a renewed certificate keeps its key.
    pub reuse_key: bool,
    /// When it is due where the authority gives no advice.
    pub renewal: RenewalRule,
    /// The certificate profile that is ordered.
    pub profile: Option<String>,
    /// The root that its chain should lead to.
    pub chain_root: Option<String>,
    /// The files that it is written to.
    pub deliveries: Vec<Delivery>,
    /// What is run once they are written.
    pub after: Vec<Command>,
    /// The listeners that serve it: it is held once they do.
    pub served_at: Vec<SocketAddr>,
    /// Words that lists can be filtered by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

impl WantedCertificate {
    /// Returns what is asked for beside names and key when it is ordered at an authority: what its own
    /// table says, else the authority's.
    pub fn ordered_terms(&self, authority: &Authority) -> OrderedTerms {
        let own = &self.terms;
        OrderedTerms {
            profile: own.profile.clone().or_else(|| authority.profile.clone()),
            chain_root: own.chain_root.clone().or_else(|| authority.chain_root.clone()),
        }
    }
}

impl CertificateTerms {
    /// Says whether it is written to files, followed by commands, or served by listeners of its own.
    pub fn is_delivered(&self) -> bool {
        !(self.deliveries.is_empty() && self.after.is_empty() && self.served_at.is_empty())
    }
}

/// A hostname that should be held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedHostname {
    /// The custom name.
    pub hostname: Hostname,
    /// The zone that it lies in.
    pub zone: ZoneId,
    /// Where its traffic ends.
    pub placement: Arc<Placement>,
    /// The certificate that covers it.
    pub certificate: CertificateId,
    /// Path prefixes and the services behind them.
    pub routes: Vec<Route>,
    /// The primary name, for a further name that redirects.
    pub redirect_to: Option<Hostname>,
    /// The lowest TLS version for clients.
    pub minimum_tls: TlsVersion,
    /// What clients must show.
    pub client_certificates: Option<Arc<WantedClients>>,
    /// The TTL of the alias record.
    pub ttl: Ttl,
    /// What a request must be answered with.
    pub expect: Expectation,
    /// What requests to single routes must be answered with.
    pub samples: Vec<Expectation>,
    /// The name that is asked for: the hostname, or for a wildcard a name under it.
    pub probed_as: Hostname,
    /// Words that lists can be filtered by.
    pub labels: Vec<String>,
    /// Whether an HTTPS record in AliasMode stands beside its addresses.
    pub https_alias: bool,
    /// The types of records of others that may go from its name.
    pub replace: RecordTypes,
    /// A note for people.
    pub note: Option<String>,
}

/// The client certificates that a hostname asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedClients {
    /// Where they must end: in [`Desired::trust_bundles`].
    pub roots: Fingerprint,
    /// Whether a client without one is refused.
    pub need: ClientNeed,
    /// Where the certificate and key are to be read that sample requests are made with.
    pub probe_with: Option<SecretRef>,
}

impl WantedHostname {
    /// Returns where the certificate and key are to be read that sample requests are made with.
    pub fn probe_with(&self) -> Option<&SecretRef> {
        self.client_certificates.as_ref()?.probe_with.as_ref()
    }

    /// Returns the endpoints that its alias may give, in the order of preference; at least one.
    pub fn endpoints(&self) -> impl Iterator<Item = EndpointId> + use<> {
        let placement = self.placement.clone();
        (0..placement.members.len()).map(move |n| placement.members[n].endpoint)
    }

    /// Returns the endpoint that is preferred.
    pub fn first_endpoint(&self) -> EndpointId {
        self.placement.members[0].endpoint
    }

    /// Returns the binding that an endpoint should have for it, with this certificate or, without one,
    /// with one that the platform issues.
    pub fn binding(&self, desired: &Desired, at: EndpointId, certificate: Option<Fingerprint>) -> Binding {
        let endpoint = desired.endpoint(at);
        // What redirects serves nothing of its own.
        let serves = self.redirect_to.is_none();
        Binding {
            certificate,
            routes: self.routes.clone(),
            redirect_to: self.redirect_to.clone(),
            minimum_tls: self.minimum_tls,
            client_certificates: self
                .client_certificates
                .as_ref()
                .map(|clients| Box::new(ClientCertificates { roots: clients.roots, need: clients.need })),
            default_document: endpoint.default_document.clone().filter(|_| serves),
            origin: endpoint.origin.clone().filter(|_| serves).map(Box::new),
        }
    }

    /// Returns all sample requests: the hostname's own, then those of its routes.
    pub fn all_samples(&self) -> impl Iterator<Item = &Expectation> {
        std::iter::once(&self.expect).chain(&self.samples)
    }

    /// Says whether a sample request is answered as a client's is: where clients must show a certificate,
    /// with one.
    pub fn is_sampled(&self) -> bool {
        self.client_certificates
            .as_ref()
            .is_none_or(|clients| clients.need == ClientNeed::Optional || clients.probe_with.is_some())
    }

    /// Says whether the platform of its endpoint issues its certificate.
    pub fn is_issued_by_platform(&self, desired: &Desired) -> bool {
        desired.certificate(self.certificate).terms.issued_by == Origin::Platform
    }

    /// Says whether the hostname is the apex of its zone, where no CNAME can stand
    /// (RFC 1034 §3.6.2).
    pub fn is_apex(&self, desired: &Desired) -> bool {
        self.hostname.as_str() == desired.zone(self.zone).name.as_str()
    }

    /// Says whether its alias points at the name of an endpoint, where that has one; else it is addresses.
    pub fn points_at_name(&self, desired: &Desired) -> bool {
        let takes_names = !self.is_apex(desired) || desired.zone(self.zone).driver.knows_alias();
        takes_names && self.placement.policy != Policy::Split
    }

    /// Says whether its alias follows what checks find: there are endpoints to choose from, or addresses, as at an
    /// apex, of which those that do not work are left out.
    pub fn follows_checks(&self, desired: &Desired) -> bool {
        let is_checked = self.placement.members.iter().any(|member| member.check.is_some());
        self.placement.policy != Policy::Single || (is_checked && self.is_apex(desired))
    }

    /// Returns the records that point it at some endpoints, with this TTL. Where traffic is split they are given
    /// by their addresses, since no name has two CNAME records (RFC 2181 §10.1).
    pub fn alias_to(&self, desired: &Desired, targets: &[AliasTarget<'_>], ttl: Ttl) -> Vec<RecordSet> {
        if let [AliasTarget { info, target, .. }] = targets
            && self.placement.policy != Policy::Split
            && let Some(name) = target.or(info.default_name.as_ref()).filter(|_| !self.is_apex(desired))
        {
            return RecordSet::group([(ttl, RecordData::Cname(name.clone()))]);
        }
        // Where some addresses do not work, clients would be led to them by that name.
        let https = match targets {
            [AliasTarget { info, target, dead: [] }] if self.https_alias && self.is_apex(desired) => {
                target.or(info.default_name.as_ref()).cloned().map(RecordData::HttpsAlias)
            }
            _ => None,
        };
        if let [AliasTarget { info, target, dead: [] }] = targets
            && self.placement.policy != Policy::Split
            && desired.zone(self.zone).driver.knows_alias()
            && let Some(name) = target.or(info.default_name.as_ref())
        {
            return RecordSet::group(
                [RecordData::Alias(name.clone())].into_iter().chain(https).map(|data| (ttl, data)),
            );
        }
        let mut addresses: Vec<IpAddr> = Vec::new();
        for address in targets.iter().flat_map(AliasTarget::live_addresses) {
            if !addresses.contains(&address) {
                addresses.push(address);
            }
        }
        // Never in the place of addresses: not every client knows HTTPS records.
        let https = https.filter(|_| !addresses.is_empty());
        let addresses = addresses.into_iter().map(|address| match address {
            IpAddr::V4(address) => RecordData::A(address),
            IpAddr::V6(address) => RecordData::Aaaa(address),
        });
        RecordSet::group(addresses.chain(https).map(|data| (ttl, data)))
    }
}

/// An endpoint that an alias is to lead to.
#[derive(Debug, Clone, Copy)]
pub struct AliasTarget<'k> {
    /// The endpoint.
    pub info: &'k EndpointInfo,
    /// The name that the hostname has of its own there, where the platform gives it one.
    pub target: Option<&'k DnsName>,
    /// The addresses that do not work, while others do.
    pub dead: &'k [IpAddr],
}

impl AliasTarget<'_> {
    fn live_addresses(&self) -> impl Iterator<Item = IpAddr> {
        let is_all_dead = self.info.addresses.iter().all(|address| self.dead.contains(address));
        self.info.addresses.iter().copied().filter(move |address| is_all_dead || !self.dead.contains(address))
    }
}

impl Desired {
    /// Returns an authority.
    pub fn authority(&self, id: AuthorityId) -> &Authority {
        &self.authorities[id.0 as usize]
    }

    /// Returns a zone.
    pub fn zone(&self, id: ZoneId) -> &Zone {
        &self.zones[id.0 as usize]
    }

    /// Returns an endpoint.
    pub fn endpoint(&self, id: EndpointId) -> &Endpoint {
        &self.endpoints[id.0 as usize]
    }

    /// Returns a certificate.
    pub fn certificate(&self, id: CertificateId) -> &WantedCertificate {
        &self.certificates[id.0 as usize]
    }

    /// Returns a hostname.
    pub fn hostname(&self, id: HostnameId) -> &WantedHostname {
        &self.hostnames[id.0 as usize]
    }

    /// Returns the ids of all certificates.
    pub fn certificate_ids(&self) -> impl Iterator<Item = CertificateId> + use<> {
        (0..self.certificates.len() as u32).map(CertificateId)
    }

    /// Returns the certificates that no hostname uses: only delivered, or kept ready.
    pub fn unused_certificates(&self) -> Vec<CertificateId> {
        let mut used = vec![false; self.certificates.len()];
        for wanted in &self.hostnames {
            used[wanted.certificate.0 as usize] = true;
        }
        self.certificate_ids().filter(|id| !used[id.0 as usize] && !self.let_go.contains(id)).collect()
    }

    /// Returns the certificate of a name in the manifest.
    pub fn certificate_named(&self, name: &str) -> Option<CertificateId> {
        self.certificate_ids().find(|id| self.certificate(*id).name == name)
    }

    /// Returns a hostname of the manifest by its name.
    pub fn hostname_named(&self, hostname: &Hostname) -> Option<HostnameId> {
        self.hostname_ids().find(|id| self.hostname(*id).hostname == *hostname)
    }

    /// Returns the authority of a name in the manifest.
    pub fn authority_named(&self, name: &str) -> Option<AuthorityId> {
        self.authorities.iter().position(|authority| authority.name == name).map(|id| AuthorityId(id as u32))
    }

    /// Returns the authority with a directory URL.
    pub fn authority_at(&self, directory: &str) -> Option<AuthorityId> {
        self.authorities
            .iter()
            .position(|authority| authority.directory.as_str() == directory)
            .map(|id| AuthorityId(id as u32))
    }

    /// Returns a health check.
    pub fn check(&self, id: CheckId) -> &HealthCheck {
        &self.checks[id.0 as usize]
    }

    /// Returns the ids of all health checks.
    pub fn check_ids(&self) -> impl Iterator<Item = CheckId> + use<> {
        (0..self.checks.len() as u32).map(CheckId)
    }

    /// Returns the ids of all endpoints.
    pub fn endpoint_ids(&self) -> impl Iterator<Item = EndpointId> + use<> {
        (0..self.endpoints.len() as u32).map(EndpointId)
    }

    /// Returns the ids of all hostnames.
    pub fn hostname_ids(&self) -> impl Iterator<Item = HostnameId> + use<> {
        (0..self.hostnames.len() as u32).map(HostnameId)
    }

    /// Returns the zone that a hostname lies in: the one with the longest apex.
    pub fn zone_of(&self, name: &Hostname) -> Option<ZoneId> {
        self.zone_where(|zone| name.is_within(&zone.name))
    }

    /// Returns the zone that a name lies in: the one with the longest apex.
    pub fn zone_at(&self, name: &DnsName) -> Option<ZoneId> {
        self.zone_where(|zone| name.is_within(&zone.name))
    }

    fn zone_where(&self, is_above: impl Fn(&Zone) -> bool) -> Option<ZoneId> {
        let longest = |(_, zone): &(usize, &Zone)| zone.name.as_str().len();
        let above = self.zones.iter().enumerate().filter(|(_, zone)| is_above(zone));
        above.max_by_key(longest).map(|(index, _)| ZoneId(index as u32))
    }

    /// Returns the endpoint of that name in the manifest.
    pub fn endpoint_named(&self, name: &str) -> Option<EndpointId> {
        self.endpoint_ids().find(|id| self.endpoint(*id).name == name)
    }

    /// Returns the endpoint that is kept under a key, if the manifest has it.
    pub fn endpoint_at(&self, key: &EndpointKey) -> Option<EndpointId> {
        self.endpoint_ids().find(|id| self.endpoint(*id).key() == *key)
    }

    /// Says whether somebody else makes the records of a zone.
    pub fn is_handed_off(&self, id: ZoneId) -> bool {
        self.zone(id).driver == ZoneDriver::None
    }

    /// Returns where the challenge name of a hostname should lead that lies in a zone of somebody else's: into the
    /// first zone that Pindrel changes, so that certificates are renewed without them (RFC 8555 §8.4 follows CNAMEs).
    pub fn challenge_delegation(&self, challenge: &DnsName) -> Option<DnsName> {
        let own = self.zone_at(challenge).filter(|id| self.is_handed_off(*id))?;
        let of = challenge.parent()?;
        let above = &self.zone(own).name;
        let zones = self.zones.iter().filter(|zone| zone.driver != ZoneDriver::None && !zone.name.is_within(above));
        zones.filter_map(|zone| format!("{of}._acme-challenge.{}", zone.name).parse().ok()).next()
    }

    /// Returns the zone of a name in the manifest.
    pub fn zone_named(&self, name: &DnsName) -> Option<ZoneId> {
        self.zones.iter().position(|zone| zone.name == *name).map(|index| ZoneId(index as u32))
    }
}
