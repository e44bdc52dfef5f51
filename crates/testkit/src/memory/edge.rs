//! A platform with endpoints that take time to deploy.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::endpoints::endpoint::{
    AskedRecord, AskedType, Binding, Deployment, EndpointInfo, EndpointKind, IssuedCertificate, KeepRecord,
    PlatformReply,
};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::Fingerprint;
use pindrel_core::zones::records::RecordType;

use super::zones::{MemoryZones, Records};

/// The end of what the platform issues.
const FAR: Timestamp = Timestamp::MAX;

/// A binding with what it replaced, and since when.
#[derive(Clone)]
pub(crate) struct Bound {
    pub(crate) binding: Binding,
    pub(crate) since: Duration,
    pub(crate) version: u64,
    /// Whether it was once proven whose the hostname is.
    pub(crate) proven: bool,
    /// What is in force until the new one is.
    before: Option<Binding>,
}

pub(crate) struct MemoryEdge {
    pub(crate) endpoints: Vec<EndpointInfo>,
    pub(crate) stores: HashMap<String, BTreeMap<Fingerprint, String>>,
    pub(crate) bindings: HashMap<(String, Hostname), Bound>,
    /// The endpoints that ask for a record at each hostname, and how long they need it.
    pub(crate) asks: HashMap<String, KeepRecord>,
    /// How many requests were made.
    pub(crate) requests: usize,
}

impl Default for MemoryEdge {
    fn default() -> Self {
        let endpoint = |number: u8, id: &str, kind, site: &str| EndpointInfo {
            default_name: Some(format!("{id}.{site}.edge.test").parse().unwrap_or_else(|error| panic!("{error}"))),
            ..EndpointInfo::plain(id, kind, site, vec![IpAddr::V4(Ipv4Addr::new(192, 0, 2, 20 + number))])
        };
        let endpoints = vec![
            endpoint(1, "catalogue", EndpointKind::Gateway, "north"),
            endpoint(2, "plates", EndpointKind::Distribution, "south"),
            endpoint(3, "home", EndpointKind::Gateway, "north"),
        ];
        MemoryEdge { endpoints, stores: HashMap::new(), bindings: HashMap::new(), asks: HashMap::new(), requests: 0 }
    }
}

impl MemoryEdge {
    /// The addresses that default names resolve to.
    pub(crate) fn targets(&self) -> HashMap<DnsName, Vec<IpAddr>> {
        let named = self.endpoints.iter().filter_map(|info| Some((info.default_name.clone()?, info.addresses.clone())));
        let own = self.bindings.keys().filter_map(|(endpoint, hostname)| {
            let info = self.info(endpoint)?;
            Some((own_target(info, hostname)?, info.addresses.clone()))
        });
        named.chain(own).collect()
    }

    fn info(&self, endpoint: &str) -> Option<&EndpointInfo> {
        self.endpoints.iter().find(|info| info.id == endpoint)
    }

    /// Changes how an endpoint behaves.
    pub(crate) fn change(&mut self, endpoint: &str, change: impl FnOnce(&mut EndpointInfo)) {
        if let Some(info) = self.endpoints.iter_mut().find(|info| info.id == endpoint) {
            change(info);
        }
    }

    /// Says whether the zone has what an endpoint deploys a hostname on.
    pub(crate) fn is_ready(&self, endpoint: &str, hostname: &Hostname, records: &Records) -> bool {
        let has_proof = |keep| proof(hostname, keep).record().is_some_and(|record| MemoryZones::has(records, &record));
        let key = (endpoint.to_owned(), hostname.clone());
        let proven = match self.asks.get(endpoint) {
            Some(KeepRecord::UntilDeployed) if self.bindings.get(&key).is_some_and(|bound| bound.proven) => true,
            Some(keep) => has_proof(*keep),
            None => true,
        };
        let Some(info) = self.info(endpoint).filter(|info| info.alias_first) else { return proven };
        let leads = MemoryZones::sets(records, &hostname.owner(), &[RecordType::A, RecordType::Cname]);
        proven && info.is_led_to(&leads, own_target(info, hostname).as_ref())
    }

    /// What the platform says of a binding besides.
    pub(crate) fn reply(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        is_deployed: bool,
    ) -> PlatformReply {
        let issued = (is_deployed && binding.certificate.is_none())
            .then(|| IssuedCertificate { sha256: issued(hostname), not_after: FAR });
        PlatformReply {
            target: self.info(endpoint).and_then(|info| own_target(info, hostname)),
            records: self.asks.get(endpoint).map(|keep| proof(hostname, *keep)).into_iter().collect(),
            issued,
        }
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
        let bound = Bound { binding: binding.clone(), since: now, version, proven: false, before: in_force };
        self.bindings.insert(key, bound);
    }

    /// The certificate that is served at an address for a hostname.
    pub(crate) fn served(
        &self,
        address: IpAddr,
        hostname: &Hostname,
        records: &Records,
        deploy: Duration,
        now: Duration,
    ) -> Option<Fingerprint> {
        let info = self.endpoints.iter().find(|info| info.addresses.contains(&address))?;
        let mut own = self
            .bindings
            .iter()
            .filter(|((endpoint, bound), _)| *endpoint == info.id && (bound == hostname || bound.covers(hostname)));
        let ((_, name), bound) = own.next()?;
        let binding = match self.is_ready(&info.id, name, records) {
            true => bound.in_force(deploy, now)?,
            false => bound.before.as_ref()?,
        };
        let Some(sha256) = binding.certificate else { return Some(issued(name)) };
        self.stores.get(&info.certificate_site)?.contains_key(&sha256).then_some(sha256)
    }
}

/// The name that a hostname has of its own at an endpoint.
fn own_target(info: &EndpointInfo, hostname: &Hostname) -> Option<DnsName> {
    let label = hostname.as_str().replace(['.', '*'], "-");
    info.own_targets.then(|| format!("{label}.{}.own.edge.test", info.id).parse().ok()).flatten()
}

/// The record that proves whose a hostname is.
fn proof(hostname: &Hostname, keep: KeepRecord) -> AskedRecord {
    let name = format!("_proof.{}", hostname.base()).parse().unwrap_or_else(|error| panic!("{error}"));
    AskedRecord { name, record_type: AskedType::Txt, value: format!("proof of {hostname}"), keep }
}

/// The certificate that the platform issues for a hostname.
fn issued(hostname: &Hostname) -> Fingerprint {
    Fingerprint::of(hostname.as_str().as_bytes())
}

impl Bound {
    /// The binding that is in force.
    fn in_force(&self, deploy: Duration, now: Duration) -> Option<&Binding> {
        if self.since + deploy <= now { Some(&self.binding) } else { self.before.as_ref() }
    }

    /// Says whether it uses a certificate, or has used it until now.
    fn uses(&self, sha256: Fingerprint) -> bool {
        let sha256 = Some(sha256);
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
