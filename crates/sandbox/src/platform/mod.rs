//! An endpoint platform with two sites: its interface (the endpoint protocol), and a
//! data plane that really terminates TLS by server name.

mod api;
mod data_plane;

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use rustls::sign::CertifiedKey;
use serde::{Deserialize, Serialize};

use crate::certificates::{Issuer, random_hex};
use crate::listen::{Stop, serve_tls};
use crate::net::Net;
use crate::{EDGE_ZONE, ENDPOINT_PORT, ListedEndpoint, PLATFORM_PORT, SandboxError};

/// How many times as long as the others a distribution takes to deploy.
const DISTRIBUTION_TAKES: u32 = 4;

/// The platform.
pub struct Platform {
    address: SocketAddr,
    token: String,
    deploy: Duration,
    endpoints: Vec<Endpoint>,
    silent: AtomicBool,
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
}

#[derive(Default)]
struct Inner {
    /// Certificates by site and fingerprint.
    certificates: HashMap<(String, String), Arc<CertifiedKey>>,
    /// Bindings by endpoint and hostname.
    bindings: HashMap<(String, String), Bound>,
    writes: u64,
}

/// What is wanted for a hostname, as the protocol writes it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct BindingBody {
    certificate: String,
    #[serde(default)]
    routes: Vec<RouteBody>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    redirect_to: Option<String>,
    minimum_tls: String,
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
    deployed_at: Instant,
    version: u64,
}

impl Bound {
    /// What the data plane goes by at this moment.
    fn in_force(&self) -> Option<&BindingBody> {
        if Instant::now() >= self.deployed_at { Some(&self.wanted) } else { self.in_force.as_ref() }
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
        root: &Issuer,
    ) -> Result<Arc<Platform>, SandboxError> {
        let wanted = [
            ("catalogue", "gateway", "north", "north", "catalogue", "gw", None),
            ("plates", "distribution", "south", "south", "plates", "dist", None),
            ("home", "distribution", "south", "south", "home", "dist", None),
            ("queue-north", "balancer", "north", "north", "queue", "lb", None),
            ("queue-south", "balancer", "south", "south", "queue", "lb", None),
            (
                "trial",
                "gateway",
                "north",
                "north",
                "catalogue",
                "gw",
                Some("custom hostnames are not part of the trial plan"),
            ),
        ];
        let mut endpoints = Vec::new();
        for (index, (id, kind, site, certificate_site, service, prefix, refusal)) in wanted.into_iter().enumerate() {
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
                certificate_site,
                service,
                default_name,
                address,
                default_certificate,
                refusal,
            });
        }
        let address = SocketAddr::new(net.address(7), PLATFORM_PORT);
        Ok(Arc::new(Platform {
            address,
            token,
            deploy,
            endpoints,
            silent: AtomicBool::new(false),
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

    fn endpoint(&self, id: &str) -> Option<&Endpoint> {
        self.endpoints.iter().find(|endpoint| endpoint.id == id)
    }

    fn deploys_in(&self, endpoint: &Endpoint) -> Duration {
        if endpoint.kind == "distribution" { self.deploy * DISTRIBUTION_TAKES } else { self.deploy }
    }
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
