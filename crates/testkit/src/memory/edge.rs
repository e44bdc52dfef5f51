//! A platform with endpoints that take time to deploy.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;

use pindrel_core::endpoint::{Binding, CustomHostnames, Deployment, EndpointInfo, EndpointKind, Quotas};
use pindrel_core::name::{DnsName, Hostname};
use pindrel_core::values::Fingerprint;

/// A binding with what it replaced, and since when.
#[derive(Clone)]
pub(crate) struct Bound {
    pub(crate) binding: Binding,
    pub(crate) since: Duration,
    pub(crate) version: u64,
    /// What is in force until the new one is.
    before: Option<Binding>,
}

pub(crate) struct MemoryEdge {
    pub(crate) endpoints: Vec<EndpointInfo>,
    pub(crate) stores: HashMap<String, BTreeMap<Fingerprint, String>>,
    pub(crate) bindings: HashMap<(String, Hostname), Bound>,
    /// How many requests were made.
    pub(crate) requests: usize,
}

impl Default for MemoryEdge {
    fn default() -> Self {
        let endpoint = |number: u8, id: &str, kind, site: &str| EndpointInfo {
            id: id.into(),
            kind,
            site: site.into(),
            default_name: Some(format!("{id}.{site}.edge.test").parse().unwrap_or_else(|error| panic!("{error}"))),
            addresses: vec![IpAddr::V4(Ipv4Addr::new(192, 0, 2, 20 + number))],
            port: 443,
            certificate_site: site.into(),
            custom_hostnames: CustomHostnames::default(),
            quotas: Quotas::default(),
        };
        let endpoints = vec![
            endpoint(1, "catalogue", EndpointKind::Gateway, "north"),
            endpoint(2, "plates", EndpointKind::Distribution, "south"),
        ];
        MemoryEdge { endpoints, stores: HashMap::new(), bindings: HashMap::new(), requests: 0 }
    }
}

impl MemoryEdge {
    /// The addresses that default names resolve to.
    pub(crate) fn targets(&self) -> HashMap<DnsName, Vec<IpAddr>> {
        let named = self.endpoints.iter().filter_map(|info| Some((info.default_name.clone()?, info.addresses.clone())));
        named.collect()
    }

    /// Says whether a binding at an endpoint that takes certificates from a site uses one.
    pub(crate) fn is_used(&self, site: &str, sha256: Fingerprint) -> bool {
        let takes = |id: &str| self.endpoints.iter().any(|info| info.id == id && info.certificate_site == site);
        self.bindings.iter().any(|((id, _), bound)| takes(id) && bound.uses(sha256))
    }

    pub(crate) fn put(
        &mut self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        deploy: Duration,
        now: Duration,
    ) {
        let key = (endpoint.to_owned(), hostname.clone());
        let before = self.bindings.get(&key);
        let version = before.map_or(1, |bound| bound.version + 1);
        let in_force = before.and_then(|bound| bound.in_force(deploy, now).cloned());
        let bound = Bound { binding: binding.clone(), since: now, version, before: in_force };
        self.bindings.insert(key, bound);
    }

    /// The certificate that is served at an address for a hostname.
    pub(crate) fn served(
        &self,
        address: IpAddr,
        hostname: &Hostname,
        deploy: Duration,
        now: Duration,
    ) -> Option<Fingerprint> {
        let info = self.endpoints.iter().find(|info| info.addresses.contains(&address))?;
        let own = self
            .bindings
            .iter()
            .filter(|((endpoint, bound), _)| *endpoint == info.id && (bound == hostname || bound.covers(hostname)));
        let bound = own.map(|(_, bound)| bound).next()?;
        let binding = bound.in_force(deploy, now)?;
        self.stores.get(&info.certificate_site)?.contains_key(&binding.certificate).then_some(binding.certificate)
    }
}

impl Bound {
    /// The binding that is in force.
    fn in_force(&self, deploy: Duration, now: Duration) -> Option<&Binding> {
        if self.since + deploy <= now { Some(&self.binding) } else { self.before.as_ref() }
    }

    /// Says whether it uses a certificate, or has used it until now.
    fn uses(&self, sha256: Fingerprint) -> bool {
        self.binding.certificate == sha256 || self.before.as_ref().is_some_and(|own| own.certificate == sha256)
    }

    pub(crate) fn deployment(&self, deploy: Duration, stuck: bool, refused: bool, now: Duration) -> Deployment {
        if refused {
            Deployment::Failed { reason: "no capacity".into() }
        } else if stuck || self.since + deploy > now {
            Deployment::Deploying
        } else {
            Deployment::Deployed
        }
    }
}
