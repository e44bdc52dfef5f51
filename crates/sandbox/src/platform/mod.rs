//! An endpoint platform with two sites: its interface (the endpoint protocol), and a
//! data plane that really terminates TLS by server name.

mod api;
mod data_plane;
mod special;

use std::collections::{HashMap, HashSet, VecDeque};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustls::sign::CertifiedKey;
use serde::{Deserialize, Serialize};

use special::Special;

use crate::certificates::{Issuer, random_bytes, random_hex};
use crate::listen::{Stop, serve_tls};
use crate::net::Net;
use crate::{EDGE_ZONE, ENDPOINT_PORT, ListedEndpoint, PLATFORM_PORT, SandboxError};

/// How many times as long as the others a distribution takes to deploy.
const DISTRIBUTION_TAKES: u32 = 4;

/// How many hostnames an endpoint takes.
const MOST_HOSTNAMES: usize = 5_000;
/// How many certificates a site's store takes.
const MOST_CERTIFICATES: usize = 10_000;
/// How much longer everything takes to deploy where that is broken.
const SLOW_DEPLOY: u32 = 20;
/// What takes for ever, within the life of a sandbox.
const STUCK: Duration = Duration::from_secs(30 * 86_400);

/// The faults of the platform: the word, and what it does. Those that are about something are written
/// as `word=THAT`.
const FAULTS: [(&str, &str); 15] = [
    ("slow-deploy", "deployments take twenty times as long"),
    ("stuck-deploy", "deployments never end"),
    ("refuses=HOST", "the platform refuses to bind this hostname"),
    ("other-certificate=HOST", "connections for this hostname are served the endpoint's own certificate"),
    ("no-custom-names=ENDPOINT", "this endpoint takes no custom hostnames"),
    ("full-store=SITE", "the certificate store of this site takes no further certificate"),
    ("endpoint-down=ENDPOINT", "this endpoint closes every connection"),
    ("route-fails=ENDPOINT", "this endpoint answers every request with 502"),
    ("slow=ENDPOINT:MS", "this endpoint answers every request so much later"),
    ("flaky=ENDPOINT:PERCENT", "this endpoint answers that share of requests with 503"),
    ("old-tls=ENDPOINT", "this endpoint takes TLS 1.2 whatever the lowest version is"),
    ("no-client-certificates=ENDPOINT", "this endpoint answers clients without the certificate that they must show"),
    ("wide-token", "the token of the platform may do more than is needed"),
    ("limit=N", "the platform answers more than N requests within a second with 429"),
    ("busy=PERCENT", "the platform answers that share of requests with 503"),
];

/// The platform.
pub struct Platform {
    address: SocketAddr,
    token: String,
    deploy: Duration,
    endpoints: Vec<Endpoint>,
    /// Whom it asks for records.
    name_server: SocketAddr,
    /// What it signs with.
    root: Arc<Issuer>,
    silent: AtomicBool,
    /// The faults that are on, as they were written.
    faults: Mutex<HashSet<String>>,
    /// When requests came within the last second, where they are limited.
    recent: Mutex<VecDeque<Instant>>,
    limited: AtomicU64,
    requests: AtomicU64,
    /// How many requests came to endpoints that fail some of them.
    served: AtomicU64,
    inner: Mutex<Inner>,
}

/// One endpoint.
struct Endpoint {
    id: &'static str,
    kind: &'static str,
    site: &'static str,
    certificate_site: &'static str,
    /// The service that answers where no route says another.
    service: &'static str,
    default_name: String,
    address: SocketAddr,
    default_certificate: Arc<CertifiedKey>,
    refusal: Option<&'static str>,
    special: Special,
}

/// A certificate that the platform has issued itself.
struct Issued {
    sha256: String,
    not_after: jiff::Timestamp,
    certified: Arc<CertifiedKey>,
}

#[derive(Default)]
struct Inner {
    /// Certificates by site and fingerprint.
    certificates: HashMap<(String, String), Arc<CertifiedKey>>,
    /// Roots for client certificates by site and fingerprint.
    trust_bundles: HashMap<(String, String), String>,
    /// Bindings by endpoint and hostname.
    bindings: HashMap<(String, String), Bound>,
    writes: u64,
}

impl Inner {
    /// The hostnames whose bindings use a certificate of a site's store.
    fn users<'i>(&'i self, platform: &'i Platform, site: &'i str, sha256: &'i str) -> impl Iterator<Item = &'i str> {
        let takes_from = move |id: &str| {
            platform.endpoints.iter().any(|endpoint| endpoint.id == id && endpoint.certificate_site == site)
        };
        let uses = move |bound: &Bound| {
            let is = |own: &BindingBody| own.certificate.as_deref() == Some(sha256);
            is(&bound.wanted) || bound.in_force().is_some_and(is)
        };
        let bound = self.bindings.iter().filter(move |((id, _), bound)| takes_from(id) && uses(bound));
        bound.map(|((_, hostname), _)| hostname.as_str())
    }
}

/// What is wanted for a hostname, as the protocol writes it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct BindingBody {
    /// None where the platform issues it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    certificate: Option<String>,
    #[serde(default)]
    routes: Vec<RouteBody>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    redirect_to: Option<String>,
    minimum_tls: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    client_certificates: Option<ClientCertificates>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    default_document: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    origin: Option<serde_json::Value>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct ClientCertificates {
    roots: String,
    need: String,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct RouteBody {
    prefix: String,
    service: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    release: Option<String>,
}

/// A binding: what is wanted, and what is in force until that is deployed.
struct Bound {
    wanted: BindingBody,
    in_force: Option<BindingBody>,
    /// When it is deployed; none while it waits for records.
    deployed_at: Option<Instant>,
    issued: Option<Arc<Issued>>,
    version: u64,
}

impl Bound {
    /// What the data plane goes by at this moment.
    fn in_force(&self) -> Option<&BindingBody> {
        if self.is_deployed() { Some(&self.wanted) } else { self.in_force.as_ref() }
    }

    fn is_deployed(&self) -> bool {
        self.deployed_at.is_some_and(|at| Instant::now() >= at)
    }
}

/// The services that routes may name.
const SERVICES: &[(&str, &str)] = &[
    ("catalogue", "Larkfield catalogue"),
    ("plates", "Larkfield digitised plates"),
    ("home", "Larkfield Sky Survey"),
    ("queue", "Larkfield observing queue"),
    ("stations", "Larkfield partner station"),
];

impl Platform {
    pub(crate) fn new(
        net: &Net,
        deploy: Duration,
        token: String,
        name_server: SocketAddr,
        root: Arc<Issuer>,
    ) -> Result<Arc<Platform>, SandboxError> {
        let usual = Special::Nothing;
        let wanted = [
            ("catalogue", "gateway", "north", "catalogue", "gw", None, usual),
            ("plates", "distribution", "south", "plates", "dist", None, usual),
            ("home", "distribution", "south", "home", "dist", None, usual),
            ("queue-north", "balancer", "north", "queue", "lb", None, usual),
            ("queue-south", "balancer", "south", "queue", "lb", None, usual),
            (
                "trial",
                "gateway",
                "north",
                "catalogue",
                "gw",
                Some("custom hostnames are not part of the trial plan"),
                usual,
            ),
            ("hosted", "distribution", "south", "home", "app", None, Special::Hosted),
            ("alias-first", "gateway", "north", "catalogue", "gw", None, Special::AliasFirst),
            ("proven", "gateway", "north", "catalogue", "gw", None, Special::Proven),
        ];
        let mut endpoints = Vec::new();
        for (index, (id, kind, site, service, prefix, refusal, special)) in wanted.into_iter().enumerate() {
            let ip = net.address(21 + u8::try_from(index).unwrap_or(0));
            let default_name = format!("{prefix}-{}.{site}.{EDGE_ZONE}", random_hex(4));
            let (certificate, key) = root.server_key(ip, &[&default_name])?;
            let default_certificate =
                data_plane::certified(vec![certificate], key).ok_or(rcgen::Error::CouldNotParseKeyPair)?;
            let address = SocketAddr::new(ip, ENDPOINT_PORT);
            endpoints.push(Endpoint {
                id,
                kind,
                site,
                certificate_site: site,
                service,
                default_name,
                address,
                default_certificate,
                refusal,
                special,
            });
        }
        let address = SocketAddr::new(net.address(7), PLATFORM_PORT);
        Ok(Arc::new(Platform {
            address,
            token,
            deploy,
            endpoints,
            name_server,
            root,
            silent: AtomicBool::new(false),
            faults: Mutex::default(),
            recent: Mutex::default(),
            limited: AtomicU64::new(0),
            served: AtomicU64::new(0),
            requests: AtomicU64::new(0),
            inner: Mutex::default(),
        }))
    }

    /// Returns where the interface listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Returns the endpoints.
    pub fn listed(&self) -> Vec<ListedEndpoint> {
        let listed = self.endpoints.iter().map(|endpoint| ListedEndpoint {
            id: endpoint.id.into(),
            kind: endpoint.kind.into(),
            default_name: endpoint.default_name.clone(),
            address: endpoint.address,
            own_targets: endpoint.special == Special::Hosted,
        });
        listed.collect()
    }

    /// Makes the interface answer 503 to everything, or answer again; what is deployed
    /// is served all the same.
    pub fn silence(&self, silent: bool) {
        self.silent.store(silent, Ordering::SeqCst);
    }

    /// Returns how many writes were taken.
    pub fn writes(&self) -> u64 {
        self.inner().writes
    }

    /// Takes a binding away by hand, as somebody else would.
    pub fn unbind(&self, endpoint: &str, hostname: &str) {
        self.inner().bindings.remove(&(endpoint.to_owned(), hostname.to_owned()));
    }

    /// Returns the routes of a binding as JSON, for tests to look at.
    pub fn binding(&self, endpoint: &str, hostname: &str) -> Option<serde_json::Value> {
        let inner = self.inner();
        let bound = inner.bindings.get(&(endpoint.to_owned(), hostname.to_owned()))?;
        serde_json::to_value(&bound.wanted).ok()
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Switches a fault on or off; says whether there is such a fault.
    pub(crate) fn switch(&self, fault: &str, on: bool) -> bool {
        let word = fault.split('=').next().unwrap_or_default();
        let is_known = |(known, _): &(&str, &str)| match known.split_once('=') {
            Some((known, _)) => known == word && fault.len() > word.len() + 1,
            None => *known == fault,
        };
        if !FAULTS.iter().any(is_known) {
            return false;
        }
        // Mended without its number, it is mended whatever that was.
        let is_measured = ["slow", "flaky"].contains(&word);
        let number = fault.rsplit_once(':').and_then(|(_, number)| number.parse::<u64>().ok());
        if is_measured && number.is_none() && (on || fault.contains(':')) {
            return false;
        }
        let mut faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        if on {
            faults.insert(fault.to_owned());
        } else {
            let any_number = format!("{fault}:");
            faults.retain(|own| own != fault && !(is_measured && own.starts_with(&any_number)));
        }
        true
    }

    /// Returns the words of all faults that there are, with what each does.
    pub(crate) fn fault_words() -> impl Iterator<Item = (&'static str, &'static str)> {
        FAULTS.into_iter()
    }

    fn has_fault(&self, word: &str, about: &str) -> bool {
        let fault = if about.is_empty() { word.to_owned() } else { format!("{word}={about}") };
        self.faults.lock().unwrap_or_else(PoisonError::into_inner).contains(&fault)
    }

    /// Returns how many requests came.
    pub fn requests(&self) -> u64 {
        self.requests.load(Ordering::SeqCst)
    }

    /// Returns how many requests were over the limit.
    pub fn limited(&self) -> u64 {
        self.limited.load(Ordering::SeqCst)
    }

    /// The number after the colon of a fault about something, where it is on.
    fn number_about(&self, word: &str, about: &str) -> Option<u64> {
        let faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        let number = |fault: &String| {
            fault.strip_prefix(word)?.strip_prefix('=')?.strip_prefix(about)?.strip_prefix(':')?.parse().ok()
        };
        faults.iter().find_map(number)
    }

    /// The number after a fault's word, where it is on.
    fn number(&self, word: &str) -> Option<usize> {
        let faults = self.faults.lock().unwrap_or_else(PoisonError::into_inner);
        faults.iter().find_map(|fault| fault.strip_prefix(word)?.strip_prefix('=')?.parse().ok())
    }

    /// Says whether this request is one too many.
    fn is_over_limit(&self) -> bool {
        let Some(limit) = self.number("limit") else { return false };
        let (mut recent, now) = (self.recent.lock().unwrap_or_else(PoisonError::into_inner), Instant::now());
        while recent.front().is_some_and(|first| now - *first >= Duration::from_secs(1)) {
            recent.pop_front();
        }
        if recent.len() >= limit {
            self.limited.fetch_add(1, Ordering::SeqCst);
            return true;
        }
        recent.push_back(now);
        false
    }

    /// Says whether this request is one of those that are answered with 503.
    fn is_busy(&self) -> bool {
        let random = usize::from(u16::from_be_bytes(random_bytes()));
        self.number("busy").is_some_and(|percent| random % 100 < percent)
    }

    /// Why an endpoint takes no custom hostnames.
    fn refusal(&self, endpoint: &Endpoint) -> Option<&'static str> {
        let broken = self.has_fault("no-custom-names", endpoint.id);
        endpoint.refusal.or(broken.then_some("custom hostnames are switched off here"))
    }

    /// How many certificates a site's store holds.
    fn stored(&self, site: &str) -> usize {
        self.inner().certificates.keys().filter(|(at, _)| at == site).count()
    }

    /// How many certificates a site's store takes.
    fn store_size(&self, site: &str) -> usize {
        if self.has_fault("full-store", site) { 0 } else { MOST_CERTIFICATES }
    }

    /// How many hostnames are bound at an endpoint.
    fn bound(&self, endpoint: &str) -> usize {
        self.inner().bindings.keys().filter(|(at, _)| at == endpoint).count()
    }

    fn deploys_in(&self, endpoint: &Endpoint) -> Duration {
        let usual = if endpoint.kind == "distribution" { self.deploy * DISTRIBUTION_TAKES } else { self.deploy };
        match () {
            () if self.has_fault("stuck-deploy", "") => STUCK,
            () if self.has_fault("slow-deploy", "") => usual * SLOW_DEPLOY,
            () => usual,
        }
    }
}

/// SHA-256 in hex digits.
fn fingerprint(bytes: &[u8]) -> String {
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, bytes);
    digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

pub(crate) async fn serve(platform: Arc<Platform>, api_root: &Issuer, stop: &Stop) -> Result<(), SandboxError> {
    let config = api_root.server(platform.address.ip(), &["localhost"])?;
    serve_tls("the platform", platform.address, config, api::router(platform.clone()), stop).await?;
    for (index, endpoint) in platform.endpoints.iter().enumerate() {
        let config = data_plane::config(platform.clone(), index).map_err(|_| rcgen::Error::RemoteKeyError)?;
        serve_tls("an endpoint", endpoint.address, config, data_plane::router(platform.clone(), index), stop).await?;
    }
    Ok(())
}
