//! The engine's traits, answered by the world in memory.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use pindrel_acme::{Registered, RequestSigner, TransportError};
use pindrel_core::certificates::acme::account::AccountStatus;
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::objects::Directory;
use pindrel_core::certificates::acme::order::Reply;
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::certificates::renewal::RenewalWindow;
use pindrel_core::desired::{self, Endpoint, Zone};
use pindrel_core::endpoints::endpoint::{Binding, Deployment, EndpointInfo};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::health::{CheckFailure, CheckResult, Checked, Host, HostPort, Measured, Phases};
use pindrel_core::judging::facts::{
    AliasView, DelegationView, ServerRecords, ServerStatus, ServerView, Unreachable, Unresolved, ZoneView,
};
use pindrel_core::judging::findings::{Code, Finding, Report};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::{Fingerprint, KeyKind, SecretRef, Serial, Ttl};
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::propagation::{ResolverAnswer, ServerAnswer};
use pindrel_core::zones::records::{AliasPlace, RecordSet, RecordType, ZoneChange, ZoneRecord};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_core::zones::zone_data::ZoneData;
use pindrel_dns::caa::{CaaLookup, Servers};
use pindrel_dns::challenge::{PlaceError, ServersOf};
use pindrel_dns::lookup::{Hidden, Resolved};
use pindrel_dns::spread::Watched;
use pindrel_dns::{SetChange, ZoneDriver, ZoneError};
use pindrel_edge::{BoundHostname, EdgeError, Platform, StoreRemoval, StoredCertificate};
use pindrel_engine::drivers::{Authority, CheckJob, Clock as _, Drivers, Keys, Lookups, Probe, Trusted};
use pindrel_keys::bundle::{OpenHere, OpenPkcs12};
use pindrel_keys::{AccountKey, CertificateKey, KeyError, roots};
use pindrel_probe::{Answered, ProbeError};
use rustls_pki_types::TrustAnchor;
use secrecy::SecretString;
use serde_json::Value;

use super::authority::Validation;
use super::zones::{MemoryZones, Records, server};
use super::{PRIMARY, SECONDARY, World};

/// How many texts at one name the authority reads.
const MOST_TEXTS: usize = 7;
const ALIASES: [RecordType; 3] = [RecordType::A, RecordType::Aaaa, RecordType::Cname];
const UNANSWERED: Unreachable = Unreachable::TimedOut { after_ms: 5_200 };

impl World {
    /// What a name server gives now.
    fn served(&self, address: SocketAddr) -> Result<Records, Unreachable> {
        let (inner, now) = (self.inner(), self.clock().elapsed());
        let primary = server(address).ok_or(Unreachable::Refused)?;
        if inner.faults.silent.contains(&address) {
            return Err(UNANSWERED);
        }
        let mut records = inner.zones.served(primary, inner.pace.lag, now);
        if let Some(least) = inner.faults.least_ttl {
            records.values_mut().for_each(|ttl| *ttl = least.max(*ttl));
        }
        Ok(records)
    }

    fn platform_error(&self) -> Result<(), EdgeError> {
        let mut inner = self.inner();
        inner.edge.requests += 1;
        if inner.faults.platform_down {
            return Err(EdgeError::Unreachable { url: "https://platform.test/".into(), why: Unreachable::Refused });
        }
        Ok(())
    }
}

#[async_trait]
impl Drivers for World {
    async fn authority(&self, authority: &desired::Authority) -> Result<Arc<dyn Authority>, Finding> {
        if self.inner().faults.authority.down {
            let says = format!("{} cannot be reached: connection refused", authority.directory);
            return Err(Finding::reported(Report::new(
                Code::AuthorityUnreachable,
                says,
                "Wait until the authority is reachable again",
            )));
        }
        let directory = self.inner().authority.directory.clone();
        Ok(Arc::new(MemoryConnection { world: self.clone(), directory }))
    }

    fn zone(&self, zone: &Zone, _servers: &[SocketAddr]) -> Result<Arc<dyn ZoneDriver>, Finding> {
        let is_handed_off = zone.driver == desired::ZoneDriver::None;
        Ok(Arc::new(MemoryZone { world: self.clone(), name: zone.name.clone(), is_handed_off }))
    }

    fn platform(&self, _endpoint: &Endpoint) -> Result<Arc<dyn Platform>, Finding> {
        Ok(Arc::new(self.clone()))
    }

    fn lookups(&self) -> &dyn Lookups {
        self
    }

    fn probe(&self) -> &dyn Probe {
        self
    }

    fn keys(&self) -> &dyn Keys {
        self
    }

    fn pkcs12(&self) -> &dyn OpenPkcs12 {
        &OpenHere
    }

    fn secret(&self, _reference: &SecretRef) -> Result<SecretString, String> {
        Ok("a made-up secret".to_owned().into())
    }

    fn roots(&self, _trusted: &Trusted) -> Result<Vec<TrustAnchor<'static>>, Finding> {
        if self.inner().faults.no_roots {
            return Ok(Vec::new());
        }
        let root = self.inner().authority.root.clone();
        roots::from_pem(root.as_bytes())
            .map_err(|why| Finding::reported(Report::new(Code::SecretUnreadable, why, "Report this fault")))
    }
}

#[async_trait]
impl Keys for World {
    async fn certificate_key(&self, kind: KeyKind) -> Result<CertificateKey, KeyError> {
        CertificateKey::generate(kind)
    }

    async fn account_key(&self, kind: KeyKind) -> Result<AccountKey, KeyError> {
        AccountKey::generate(kind)
    }
}

#[async_trait]
impl Lookups for World {
    fn system_resolvers(&self) -> Vec<ResolverAddress> {
        Vec::new()
    }

    async fn zone(&self, zone: &Zone, _resolvers: &[ResolverAddress]) -> ZoneView {
        let names: Vec<DnsName> = ["ns1", "ns2"].iter().filter_map(|label| zone.name.below(label).ok()).collect();
        let servers = zone.servers.iter().map(|server| {
            let status = match self.served(*server) {
                Ok(_) => ServerStatus::Serves { serial: Serial(1), name_servers: names.clone() },
                Err(why) => ServerStatus::Unreachable { why },
            };
            ServerView { server: *server, status }
        });
        let by = zone.servers.first().copied().unwrap_or_else(|| SocketAddr::from(([192, 0, 2, 9], 53)));
        let addresses = zone.servers.iter().map(SocketAddr::ip).collect();
        let delegation = DelegationView::Delegated { by, name_servers: names.clone(), addresses };
        ZoneView::plain(delegation, servers.collect())
    }

    async fn hidden(&self, _server: SocketAddr, _zone: &DnsName, _owner: &DnsName) -> Option<Hidden> {
        None
    }

    async fn alias(&self, servers: &[SocketAddr], owner: &DnsName, _place: AliasPlace) -> AliasView {
        let gives = servers.iter().map(|server| {
            let gives = self.served(*server).map(|records| MemoryZones::answered(&records, owner, &ALIASES));
            ServerRecords { server: *server, gives }
        });
        AliasView::of(gives.collect())
    }

    async fn lacking(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable> {
        let served = self.served(server)?;
        Ok(records.iter().filter(|record| !MemoryZones::has(&served, record)).cloned().collect())
    }

    async fn remaining(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable> {
        let served = self.served(server)?;
        Ok(records.iter().filter(|record| MemoryZones::has(&served, record)).cloned().collect())
    }

    async fn challenge_owner(
        &self,
        start: &DnsName,
        _servers_of: &ServersOf<'_>,
        _resolvers: &[ResolverAddress],
    ) -> Result<DnsName, PlaceError> {
        Ok(self.inner().faults.challenges_meet.clone().unwrap_or_else(|| start.clone()))
    }

    async fn caa(
        &self,
        _name: &DnsName,
        _servers: Servers<'_>,
        _resolvers: &[ResolverAddress],
    ) -> Result<CaaLookup, Unreachable> {
        Ok(CaaLookup::default())
    }

    async fn resolve(&self, resolver: &ResolverAddress, name: &DnsName) -> Resolved {
        let now = self.clock().elapsed();
        let mut inner = self.inner();
        if inner.faults.silent.iter().any(|silent| ResolverAddress::Plain(*silent) == *resolver) {
            return Resolved::Nothing { why: Unresolved::Unreachable { why: UNANSWERED }, for_secs: None };
        }
        let (targets, negative) = (inner.edge.targets(), inner.pace.negative);
        // It asks the slower server, as long as that one answers.
        let secondary = SECONDARY.parse().is_ok_and(|secondary| !inner.faults.silent.contains(&secondary));
        let records = inner.zones.served(!secondary, inner.pace.lag, now);
        match inner.zones.resolve(&records, name, &targets, negative, now) {
            Ok((addresses, left)) => {
                Resolved::Addresses { addresses, for_secs: u32::try_from(left.as_secs()).unwrap_or(u32::MAX) }
            }
            Err(left) => {
                let for_secs = u32::try_from(left.as_secs()).ok();
                Resolved::Nothing { why: Unresolved::NoSuchName, for_secs }
            }
        }
    }

    async fn watch_server(
        &self,
        server: SocketAddr,
        _zone: &DnsName,
        owner: &DnsName,
        watched: Watched,
    ) -> ServerAnswer {
        let of = match watched {
            Watched::Alias(_) => &ALIASES[..],
            Watched::Type(record_type) => &[record_type],
        };
        match self.served(server) {
            Ok(records) => ServerAnswer::Gives { sets: MemoryZones::answered(&records, owner, of), serial: None },
            Err(why) => ServerAnswer::Silent(why),
        }
    }

    async fn watch_resolver(
        &self,
        resolver: &ResolverAddress,
        owner: &DnsName,
        _watched: Watched,
        wanted: &[RecordSet],
    ) -> ResolverAnswer {
        match self.resolve(resolver, owner).await {
            Resolved::Addresses { for_secs, .. } => ResolverAnswer::Gives { sets: wanted.to_vec(), for_secs },
            Resolved::Nothing { why, for_secs } => ResolverAnswer::Nothing { why, for_secs },
        }
    }

    async fn name_server_change(
        &self,
        zone: &Zone,
        _from_to: [SocketAddr; 2],
        _resolvers: &[ResolverAddress],
    ) -> Result<NameServerChange, Unreachable> {
        let zone = zone.name.clone();
        Ok(NameServerChange { zone, name_servers: Vec::new(), kept: Vec::new(), keys: None })
    }

    async fn negative_ttl(&self, _server: SocketAddr, _zone: &DnsName) -> Option<Ttl> {
        u32::try_from(self.inner().pace.negative.as_secs()).ok()?.try_into().ok()
    }
}

#[async_trait]
impl Probe for World {
    async fn served_certificate(&self, address: SocketAddr, hostname: &Hostname) -> Result<Fingerprint, ProbeError> {
        let (inner, now) = (self.inner(), self.clock().elapsed());
        if inner.faults.dead.contains(&address.ip()) {
            return Err(ProbeError::NotConnected(Unreachable::Refused));
        }
        let records = inner.zones.served(true, inner.pace.lag, now);
        let served = inner.edge.served(address.ip(), hostname, &records, inner.pace.deploy, now);
        served.ok_or(ProbeError::NotConnected(Unreachable::Closed))
    }

    async fn check(&self, job: &CheckJob) -> Vec<(String, Measured)> {
        let took = Duration::from_millis(20);
        tokio::time::sleep(took).await;
        let mut inner = self.inner();
        assert!(!inner.faults.panics, "a made-up fault");
        let phases = Phases { connect: Some(took), ..Phases::default() };
        let mut check = |address: &SocketAddr| {
            inner.checks += 1;
            let refused = || CheckResult::Failed(CheckFailure::NotConnected { why: Unreachable::Refused });
            // Spread evenly, so that a test is the same each time.
            let is_lost = inner.checks.wrapping_mul(37) % 100 < inner.faults.lost_percent;
            let result = match address.ip() {
                ip if inner.faults.out_of_reach.contains(&ip) => CheckResult::Impossible(Unreachable::NoRoute),
                ip if inner.faults.dead.contains(&ip) || is_lost => refused(),
                _ => CheckResult::Passed,
            };
            (address.to_string(), Measured { phases, result })
        };
        let place = |place: &HostPort| match &place.host {
            Host::Address(address) => vec![SocketAddr::new(*address, place.port)],
            Host::Name(_) => Vec::new(),
        };
        match &job.what {
            Checked::Tcp(own) => place(own).iter().map(&mut check).collect(),
            _ => job.addresses.iter().map(&mut check).collect(),
        }
    }

    async fn status_over_tls12(&self, _: SocketAddr, _: &Hostname, _: &Expectation) -> Option<u16> {
        None
    }

    async fn request(
        &self,
        _trusted: &Trusted,
        address: SocketAddr,
        hostname: &Hostname,
        _sample: &Expectation,
        _identity: Option<&SecretRef>,
    ) -> Result<Answered, ProbeError> {
        let sha256 = self.served_certificate(address, hostname).await?;
        Ok(Answered { sha256, status: 200, location: None, body: b"Larkfield".to_vec() })
    }
}

/// One zone of the world.
struct MemoryZone {
    world: World,
    name: DnsName,
    /// Somebody else edits it.
    is_handed_off: bool,
}

#[async_trait]
impl ZoneDriver for MemoryZone {
    fn zone(&self) -> &DnsName {
        &self.name
    }

    async fn change(&self, change: &ZoneChange) -> Result<(), ZoneError> {
        let now = self.world.clock().elapsed();
        let mut inner = self.world.inner();
        let error = |says: &str, remedy: &str| (says.to_owned(), remedy.to_owned());
        if self.is_handed_off {
            let (says, remedy) = error("the zone is edited by somebody else", "Send them what is to be made");
            return match change {
                ZoneChange::Replace(_) => Err(ZoneError::Refused { says, remedy }),
                ZoneChange::Add(_) | ZoneChange::Delete(_) => Ok(()),
            };
        }
        if inner.faults.refuses_updates {
            let (says, remedy) = error("the server refuses to update the zone: REFUSED", "Grant the key the right");
            return Err(ZoneError::Refused { says, remedy });
        }
        if inner.zones.change(change, now) {
            return Ok(());
        }
        let (says, remedy) = error("the records were changed by someone else", "Run settle");
        Err(ZoneError::Changed { says, remedy })
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        Ok(self.world.inner().zones.whole())
    }

    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        let now = self.world.clock().elapsed();
        if self.world.inner().zones.change_sets(changes, now) {
            return Ok(());
        }
        let says = "the records were changed by someone else".to_owned();
        Err(ZoneError::Changed { says, remedy: "Run the import again".into() })
    }
}

#[async_trait]
impl Platform for World {
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError> {
        self.platform_error()?;
        Ok(self.inner().edge.endpoints.clone())
    }

    async fn put_certificate(
        &self,
        site: &str,
        sha256: Fingerprint,
        chain: &str,
        _key: SecretString,
    ) -> Result<(), EdgeError> {
        self.platform_error()?;
        self.inner().edge.stores.entry(site.to_owned()).or_default().insert(sha256, chain.to_owned());
        Ok(())
    }

    async fn certificates(&self, site: &str) -> Result<Vec<StoredCertificate>, EdgeError> {
        self.platform_error()?;
        let inner = self.inner();
        let stored = inner.edge.stores.get(site).into_iter().flatten();
        let listed = stored.map(|(sha256, _)| StoredCertificate {
            sha256: *sha256,
            names: Vec::new(),
            not_after: None,
            used_by: None,
        });
        Ok(listed.collect())
    }

    async fn delete_certificate(&self, site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError> {
        self.platform_error()?;
        let mut inner = self.inner();
        if inner.edge.is_used(site, sha256) {
            return Ok(StoreRemoval::InUse);
        }
        inner.edge.stores.entry(site.to_owned()).or_default().remove(&sha256);
        Ok(StoreRemoval::Gone)
    }

    async fn put_trust_bundle(&self, _site: &str, _sha256: Fingerprint, _roots: &str) -> Result<(), EdgeError> {
        self.platform_error()
    }

    async fn bindings(&self, endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError> {
        self.platform_error()?;
        let hostnames: Vec<Hostname> = {
            let inner = self.inner();
            inner.edge.bindings.keys().filter(|(at, _)| at == endpoint).map(|(_, name)| name.clone()).collect()
        };
        let mut bound = Vec::new();
        for hostname in hostnames {
            bound.extend(self.binding(endpoint, &hostname).await?.map(|own| (hostname, own)));
        }
        Ok(bound)
    }

    async fn delete_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        known: &BoundHostname,
    ) -> Result<(), EdgeError> {
        self.platform_error()?;
        let mut inner = self.inner();
        let key = (endpoint.to_owned(), hostname.clone());
        let version = inner.edge.bindings.get(&key).map(|bound| bound.version.to_string());
        if version.is_some() && version != known.etag {
            return Err(EdgeError::Changed(hostname.clone()));
        }
        inner.edge.bindings.remove(&key);
        Ok(())
    }

    async fn binding(&self, endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError> {
        self.platform_error()?;
        let (mut inner, now) = (self.inner(), self.clock().elapsed());
        let records = inner.zones.served(true, inner.pace.lag, now);
        let is_ready = inner.edge.is_ready(endpoint, hostname, &records);
        let key = (endpoint.to_owned(), hostname.clone());
        if let Some(bound) = inner.edge.bindings.get_mut(&key) {
            bound.proven |= is_ready;
        }
        Ok(inner.edge.bindings.get(&key).map(|bound| {
            let (stuck, refused) =
                (inner.faults.stuck.contains(endpoint) || !is_ready, inner.faults.refused.contains(hostname.as_str()));
            let deployment = bound.deployment(inner.pace.deploy, stuck, refused, now);
            let is_deployed = deployment == Deployment::Deployed;
            BoundHostname {
                binding: bound.binding.clone(),
                deployment,
                reply: inner.edge.reply(endpoint, hostname, &bound.binding, is_deployed),
                etag: Some(bound.version.to_string()),
            }
        }))
    }

    async fn put_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        self.platform_error()?;
        {
            let now = self.clock().elapsed();
            let mut inner = self.inner();
            let present = inner.edge.bindings.get(&(endpoint.to_owned(), hostname.clone()));
            let version = present.map(|bound| bound.version.to_string());
            if version != known.and_then(|known| known.etag.clone()) {
                return Err(EdgeError::Changed(hostname.clone()));
            }
            let deploy = inner.pace.deploy;
            inner.edge.put(endpoint, hostname, binding, deploy, now);
        }
        let bound = self.binding(endpoint, hostname).await?;
        bound.ok_or_else(|| EdgeError::Changed(hostname.clone()))
    }
}

/// A connection to the authority.
struct MemoryConnection {
    world: World,
    directory: Directory,
}

/// What each server gives, and the name that challenge names are aliases of.
struct ZoneNow(Vec<Records>, Option<DnsName>);

impl Validation for ZoneNow {
    fn all_servers_have(&self, record: &ZoneRecord) -> bool {
        let record = ZoneRecord { owner: self.1.clone().unwrap_or_else(|| record.owner.clone()), ..record.clone() };
        // It reads no more texts than fit into one datagram.
        let texts = |records: &Records| {
            let sets = MemoryZones::sets(records, &record.owner, &[RecordType::Txt]);
            sets.iter().map(|set| set.data().len()).sum::<usize>()
        };
        !self.0.is_empty()
            && self.0.iter().all(|records| MemoryZones::has(records, &record) && texts(records) <= MOST_TEXTS)
    }
}

impl MemoryConnection {
    fn down(&self) -> Result<(), TransportError> {
        if self.world.inner().faults.authority.down {
            let url = self.directory.new_order.clone();
            return Err(TransportError::GivenUp { url });
        }
        Ok(())
    }

    fn registered(&self, signer: &dyn RequestSigner, make: bool) -> Option<Registered> {
        let found = self.world.inner().authority.account(signer.jwk().thumbprint(), make);
        found.map(|(url, status)| Registered { orders: Some(format!("{url}/orders")), url, status, contact: None })
    }
}

#[async_trait]
impl Authority for MemoryConnection {
    fn directory(&self) -> &Directory {
        &self.directory
    }

    fn signed(&self) -> u64 {
        self.world.inner().authority.requests as u64
    }

    async fn register(
        &self,
        signer: &dyn RequestSigner,
        _contact: &[String],
        _external_binding: Option<Value>,
    ) -> Result<Registered, TransportError> {
        self.down()?;
        self.registered(signer, true).ok_or_else(|| TransportError::Closed(String::new()))
    }

    async fn find(&self, signer: &dyn RequestSigner) -> Result<Option<Registered>, TransportError> {
        self.down()?;
        Ok(self.registered(signer, false))
    }

    async fn account(
        &self,
        _signer: &dyn RequestSigner,
        url: &str,
        _change: Option<Value>,
    ) -> Result<Registered, TransportError> {
        self.down()?;
        let known = self.world.inner().authority.check_account(url);
        known.map_err(|problem| TransportError::Refused { what: "to show the account", problem })?;
        Ok(Registered { url: url.to_owned(), status: AccountStatus::Valid, orders: None, contact: None })
    }

    async fn change_key(
        &self,
        _old: &dyn RequestSigner,
        _new: &dyn RequestSigner,
        _account: &str,
    ) -> Result<(), TransportError> {
        Err(TransportError::NotOffered { url: self.directory.new_order.clone(), what: "key changes" })
    }

    async fn revoke(
        &self,
        _signer: &dyn RequestSigner,
        account: Option<&str>,
        _certificate: &[u8],
        _reason: u8,
    ) -> Result<(), TransportError> {
        self.down()?;
        self.world.inner().authority.revoked.push(account.map(str::to_owned));
        Ok(())
    }

    async fn renewal_info(&self, _certificate_id: &str) -> Result<RenewalWindow, TransportError> {
        Err(TransportError::NotOffered { url: self.directory.new_order.clone(), what: "renewal information" })
    }

    async fn send(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        url: Option<&str>,
        payload: &Payload,
    ) -> Result<Result<Reply, Problem>, TransportError> {
        self.down()?;
        let clock = self.world.clock();
        let times = (clock.elapsed(), clock.now());
        let mut inner = self.world.inner();
        let inner = &mut *inner;
        let lag = inner.pace.lag;
        // It asks every server that answers.
        let answers = |server: &str| server.parse().is_ok_and(|server| !inner.faults.silent.contains(&server));
        let servers = [(PRIMARY, true), (SECONDARY, false)].into_iter().filter(|(server, _)| answers(server));
        let servers = servers.map(|(_, primary)| inner.zones.served(primary, lag, times.0)).collect();
        let zone = ZoneNow(servers, inner.faults.challenges_meet.clone());
        let thumbprint = signer.jwk().thumbprint();
        let (faults, validate) = (inner.faults.authority.clone(), inner.pace.validate);
        let answer = inner.authority.answer(account, &thumbprint, url, payload, &zone, &faults, validate, times);
        if url.is_none() && std::mem::take(&mut inner.faults.authority.lose_next_answer) {
            let interrupted = pindrel_http::HttpError::Interrupted {
                url: self.directory.new_order.clone(),
                kind: std::io::ErrorKind::ConnectionReset,
                why: "the connection was closed".into(),
            };
            return Err(TransportError::Http(interrupted));
        }
        Ok(answer)
    }

    async fn order_urls(
        &self,
        _signer: &dyn RequestSigner,
        account: &str,
        _list: &str,
    ) -> Result<Vec<String>, TransportError> {
        self.down()?;
        Ok(self.world.inner().authority.order_urls(account))
    }
}
