//! The real drivers of one run, made when first needed and then shared.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use pindrel_acme::{HttpAuthority, Registered, RequestSigner, TransportError};
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::objects::Directory;
use pindrel_core::certificates::acme::order::Reply;
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::certificates::renewal::RenewalWindow;
use pindrel_core::desired::{self, Endpoint, EndpointDriver, HttpPlatform, PowerDnsApi, ProgramPlatform, Tsig, Zone};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::endpoints::load_balancer::LoadBalancer;
use pindrel_core::health::Measured;
use pindrel_core::judging::facts::{
    AliasView, ServerRecords, ServerStatus, ServerView, Unreachable, Unresolved, Untrusted, ZoneView,
};
use pindrel_core::judging::findings::{Finding, MachineCause, ZoneCause};
use pindrel_core::judging::pin::Pin;
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::text::display_text::io_reason;
use pindrel_core::values::{Fingerprint, KeyKind, SecretRef, Ttl};
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::propagation::{ResolverAnswer, ServerAnswer};
use pindrel_core::zones::records::{AliasPlace, RecordSet, ZoneRecord};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::caa::{CaaCache, CaaLookup, Servers};
use pindrel_dns::challenge::{self, PlaceError, ServersOf};
use pindrel_dns::lookup::{self, Hidden, Resolved};
use pindrel_dns::spread::Watched;
use pindrel_dns::{
    HandedOff, PowerDns, Resolver, Rfc2136, ZoneDriver, ZoneError, ZoneFile, ZoneProgram, discover, name_servers,
    present, spread,
};
use pindrel_edge::{AdapterProgram, Haproxy, Nginx, Platform, ProtocolPlatform};
use pindrel_keys::bundle::OpenPkcs12;
use pindrel_keys::{AccountKey, CertificateKey, KeyError, roots};
use pindrel_probe::{Answered, ClientIdentity, ProbeError, Trust};
use rustls_pki_types::TrustAnchor;
use secrecy::{ExposeSecret as _, SecretString};
use serde_json::Value;
use tokio::time::timeout;

use super::outages::Outages;
use super::pkcs12::Confined;
use super::{Authority, CheckJob, Clock, Drivers, Keys, Lookups, Probe, Trusted};
use crate::failure::{internal, secret_unreadable, secret_unreadable_for, transport_failed};
use crate::home::secrets;

/// The system's clocks.
#[derive(Debug)]
pub struct SystemClock(Instant);

impl Default for SystemClock {
    fn default() -> Self {
        SystemClock(Instant::now())
    }
}

#[async_trait]
impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    fn elapsed(&self) -> Duration {
        self.0.elapsed()
    }

    async fn sleep(&self, duration: Duration) {
        tokio::time::sleep(duration).await;
    }
}

/// How long a look that takes several questions may take in all; each has a bound of its own.
const QUESTIONS: Duration = Duration::from_secs(15);

/// That it took longer.
fn too_late() -> Unreachable {
    Unreachable::TimedOut { after_ms: u64::try_from(QUESTIONS.as_millis()).unwrap_or(u64::MAX) }
}

/// The longest that a zone may take to be transferred.
const TRANSFER: Duration = Duration::from_secs(120);

/// The real drivers of one run.
pub struct RealDrivers {
    folder: PathBuf,
    /// How long the run waits for any one thing.
    patience: Duration,
    platforms: Mutex<HashMap<EndpointDriver, Arc<dyn Platform>>>,
    trusts: Mutex<HashMap<Trusted, Trust>>,
    caa: CaaCache,
    outages: Outages,
    resolvers: Mutex<HashMap<ResolverAddress, Resolver>>,
}

impl RealDrivers {
    /// Makes the driver of an endpoint's platform.
    fn make_platform(&self, endpoint: &Endpoint) -> Result<Arc<dyn Platform>, Finding> {
        Ok(match &endpoint.driver {
            EndpointDriver::Http(HttpPlatform { url, token, api_roots, calls_per_second }) => {
                let (token, roots) = (self.platform_token(token)?, self.pem(api_roots.as_ref())?);
                let made = ProtocolPlatform::over_https(url.clone(), token, roots.as_deref(), *calls_per_second);
                Arc::new(made.map_err(|error| error.finding())?)
            }
            EndpointDriver::Program(ProgramPlatform { words, token, calls_per_second }) => {
                let token = token.as_ref().map(|token| self.platform_token(token)).transpose()?;
                let program = AdapterProgram { words: words.clone(), folder: self.folder.clone(), token };
                Arc::new(ProtocolPlatform::by_program(program, *calls_per_second))
            }
            EndpointDriver::Nginx(server) => {
                let mut server = server.clone();
                server.origin.roots = server.origin.roots.as_ref().map(|roots| self.absolute(roots));
                let folder = self.absolute(&server.folder);
                Arc::new(Nginx::new(&endpoint.name, endpoint.kind, server, folder))
            }
            EndpointDriver::Haproxy(balancer) => {
                let balancer = LoadBalancer {
                    socket: self.absolute(&balancer.socket),
                    folder: self.absolute(&balancer.folder),
                    list: self.absolute(&balancer.list),
                    ..balancer.clone()
                };
                Arc::new(Haproxy::new(&endpoint.name, endpoint.kind, balancer))
            }
            EndpointDriver::Static(_) => {
                return Err(internal(format!("the endpoint {} has no platform", endpoint.name)));
            }
        })
    }

    fn platform_token(&self, token: &SecretRef) -> Result<SecretString, Finding> {
        self.secret(token).map_err(|why| secret_unreadable_for(token, &why, Pin::Binding))
    }

    /// A path of the manifest as a server on this machine sees it.
    fn absolute(&self, path: &Path) -> PathBuf {
        let path = self.folder.join(path);
        std::path::absolute(&path).unwrap_or(path)
    }

    /// Makes drivers for a manifest in `folder`, which its paths are relative to, for a run of that patience.
    pub fn new(folder: &Path, patience: Duration) -> RealDrivers {
        RealDrivers {
            folder: folder.to_owned(),
            patience,
            platforms: Mutex::default(),
            trusts: Mutex::default(),
            caa: CaaCache::default(),
            outages: Outages::default(),
            resolvers: Mutex::default(),
        }
    }

    fn pem(&self, path: Option<&PathBuf>) -> Result<Option<Vec<u8>>, Finding> {
        let Some(path) = path else { return Ok(None) };
        let read = pindrel_machine::read_at_most(&self.folder.join(path), secrets::MAX_ROOTS_BYTES);
        read.map(|bytes| Some(bytes.to_vec())).map_err(|error| unusable_roots(path, &io_reason(&error)))
    }

    /// A resolver, ready to be asked.
    fn resolver(&self, address: &ResolverAddress) -> Resolver {
        let own = match address {
            ResolverAddress::Plain(address) => return (*address).into(),
            ResolverAddress::Encrypted(own) => own,
        };
        let mut opened = self.resolvers.lock().unwrap_or_else(PoisonError::into_inner);
        let open = || {
            let pem = self.pem(own.roots.as_ref())?;
            let anchors = self.roots(&Trusted::Roots(own.roots.clone()))?;
            Ok(Resolver::encrypted(own, anchors, pem.as_deref()))
        };
        let opened = opened.entry(address.clone());
        opened.or_insert_with(|| open().unwrap_or_else(|why: Finding| Resolver::unusable(why.says()))).clone()
    }

    fn open(&self, addresses: &[ResolverAddress]) -> Vec<Resolver> {
        addresses.iter().map(|address| self.resolver(address)).collect()
    }

    fn transfer_within(&self) -> Duration {
        self.patience.min(TRANSFER)
    }

    pub(super) fn folder(&self) -> &Path {
        &self.folder
    }

    pub(super) fn trust(&self, trusted: &Trusted) -> Result<Trust, Finding> {
        if let Some(trust) = self.trusts.lock().unwrap_or_else(PoisonError::into_inner).get(trusted) {
            return Ok(trust.clone());
        }
        if *trusted == Trusted::Anyone {
            return Trust::anyone().map_err(|error| internal(error.to_string()));
        }
        let trust = Trust::new(self.roots(trusted)?)
            .map_err(|why| Finding::machine(MachineCause::RootsUnusable { path: None, why }))?;
        self.trusts.lock().unwrap_or_else(PoisonError::into_inner).insert(trusted.clone(), trust.clone());
        Ok(trust)
    }

    /// The certificate that sample requests show.
    fn client_identity(&self, secret: &SecretRef) -> Result<ClientIdentity, Finding> {
        let pem = self.secret(secret).map_err(|why| secret_unreadable(secret, &why))?;
        ClientIdentity::from_pem(pem.expose_secret().as_bytes()).map_err(|why| secret_unreadable(secret, &why))
    }
}

fn unusable_roots(path: &Path, why: &str) -> Finding {
    Finding::machine(MachineCause::RootsUnusable { path: Some(path.to_owned()), why: why.to_owned() })
}

#[async_trait]
impl Drivers for RealDrivers {
    async fn authority(&self, authority: &desired::Authority) -> Result<Arc<dyn Authority>, Finding> {
        let roots = self.pem(authority.api_roots.as_ref())?;
        let connected = HttpAuthority::connect(authority.directory.clone(), roots.as_deref(), authority.at_once).await;
        Ok(Arc::new(connected.map_err(transport_failed)?))
    }

    fn zone(&self, zone: &Zone, servers: &[SocketAddr]) -> Result<Arc<dyn ZoneDriver>, Finding> {
        let server = || {
            zone.update
                .or_else(|| servers.first().copied())
                .ok_or_else(|| Finding::zone(&zone.name, ZoneCause::NoServerKnown))
        };
        let secret = |reference: &SecretRef| {
            self.secret(reference).map_err(|why| secret_unreadable_for(reference, &why, Pin::Zone))
        };
        let unusable = |error: ZoneError| error.finding(Pin::Zone);
        Ok(match &zone.driver {
            desired::ZoneDriver::Rfc2136(Tsig { name, algorithm, secret: reference }) => {
                let text = secret(reference)?;
                let key = STANDARD.decode(text.expose_secret());
                let key = key.map_err(|_| secret_unreadable_for(reference, "it is not base64", Pin::Zone))?;
                let driver =
                    Rfc2136::new(zone.name.clone(), server()?, name.clone(), *algorithm, key, self.transfer_within());
                Arc::new(driver.map_err(|error| unusable(error.into()))?)
            }
            desired::ZoneDriver::PowerDns(PowerDnsApi { url, token, api_roots }) => {
                let (token, roots) = (secret(token)?, self.pem(api_roots.as_ref())?);
                let driver = PowerDns::new(zone.name.clone(), url.clone(), token, roots.as_deref());
                Arc::new(driver.map_err(unusable)?)
            }
            desired::ZoneDriver::File(desired::ZoneFile { file, include_below, after }) => {
                let below = include_below.as_ref().map(|below| self.folder.join(below));
                let file = ZoneFile::new(&zone.name, self.folder.join(file), self.folder.clone(), after.clone());
                Arc::new(file.including_below(below))
            }
            desired::ZoneDriver::Program(program) => {
                let token = program.token.as_ref().map(secret).transpose()?;
                Arc::new(ZoneProgram::new(zone.name.clone(), program.words.clone(), self.folder.clone(), token))
            }
            desired::ZoneDriver::None => Arc::new(HandedOff::new(zone.name.clone(), server()?, self.transfer_within())),
        })
    }

    fn platform(&self, endpoint: &Endpoint) -> Result<Arc<dyn Platform>, Finding> {
        if let Some(platform) = self.platforms.lock().unwrap_or_else(PoisonError::into_inner).get(&endpoint.driver) {
            return Ok(platform.clone());
        }
        let made = self.make_platform(endpoint)?;
        let mut platforms = self.platforms.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(platforms.entry(endpoint.driver.clone()).or_insert(made).clone())
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
        &Confined
    }

    fn secret(&self, reference: &SecretRef) -> Result<SecretString, String> {
        secrets::read(reference, &self.folder)
    }

    fn roots(&self, trusted: &Trusted) -> Result<Vec<TrustAnchor<'static>>, Finding> {
        match trusted {
            Trusted::Roots(None) => Ok(roots::public()),
            Trusted::Roots(Some(path)) => {
                secrets::read_roots(&self.folder.join(path)).map_err(|why| unusable_roots(path, &why))
            }
            Trusted::Itself(pem) => roots::from_pem(pem.as_bytes())
                .map_err(|why| Finding::machine(MachineCause::SelfSignedUnusable { why })),
            Trusted::Anyone => Ok(Vec::new()),
        }
    }
}

#[async_trait]
impl Keys for RealDrivers {
    async fn certificate_key(&self, kind: KeyKind) -> Result<CertificateKey, KeyError> {
        on_thread(move || CertificateKey::generate(kind)).await
    }

    async fn account_key(&self, kind: KeyKind) -> Result<AccountKey, KeyError> {
        on_thread(move || AccountKey::generate(kind)).await
    }
}

async fn on_thread<T: Send + 'static>(
    make: impl FnOnce() -> Result<T, KeyError> + Send + 'static,
) -> Result<T, KeyError> {
    tokio::task::spawn_blocking(make).await.unwrap_or(Err(KeyError::Failed("make a key")))
}

#[async_trait]
impl Lookups for RealDrivers {
    fn system_resolvers(&self) -> Vec<ResolverAddress> {
        lookup::system_resolvers()
    }

    async fn zone(&self, zone: &Zone, resolvers: &[ResolverAddress]) -> ZoneView {
        let view = discover::zone(&zone.name, &zone.servers, &zone.parents, &self.open(resolvers)).await;
        for ServerView { server, status } in &view.servers {
            match status {
                ServerStatus::Unreachable { why } => self.outages.note(*server, why),
                _ => self.outages.note(*server, None),
            }
        }
        view
    }

    async fn hidden(&self, server: SocketAddr, zone: &DnsName, owner: &DnsName) -> Option<Hidden> {
        lookup::hidden_by(server, zone, owner).await.ok().flatten()
    }

    async fn alias(&self, servers: &[SocketAddr], owner: &DnsName, place: AliasPlace) -> AliasView {
        let (mut asked, mut spared) = (Vec::new(), Vec::new());
        for server in servers.iter().copied() {
            match self.outages.of(server) {
                Some(why) => spared.push(ServerRecords { server, gives: Err(why) }),
                None => asked.push(server),
            }
        }
        let mut view = lookup::alias(&asked, owner, place).await;
        for ServerRecords { server, gives } in &view.servers {
            self.outages.note(*server, gives.as_ref().err());
        }
        view.servers.extend(spared);
        // The one for updates first, as they were named.
        view.servers.sort_by_key(|found| servers.iter().position(|server| *server == found.server));
        view
    }

    async fn lacking(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable> {
        self.outages.ask(server, present::lacking(server, records)).await
    }

    async fn remaining(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable> {
        let found = self.outages.ask(server, present::present(server, records)).await?;
        Ok(records.iter().filter(|record| found.has(record)).cloned().collect())
    }

    async fn challenge_owner(
        &self,
        start: &DnsName,
        servers_of: &ServersOf<'_>,
        resolvers: &[ResolverAddress],
    ) -> Result<DnsName, PlaceError> {
        let resolvers = self.open(resolvers);
        let found = timeout(QUESTIONS, challenge::place(start, servers_of, &resolvers)).await;
        found.unwrap_or_else(|_| Err(PlaceError::Unseen { name: start.clone(), why: too_late() }))
    }

    async fn caa(
        &self,
        name: &DnsName,
        servers: Servers<'_>,
        resolvers: &[ResolverAddress],
    ) -> Result<CaaLookup, Unreachable> {
        let resolvers = self.open(resolvers);
        let found = timeout(QUESTIONS, self.caa.look_up(name, servers, &resolvers)).await;
        found.unwrap_or_else(|_| Err(too_late()))
    }

    async fn resolve(&self, resolver: &ResolverAddress, name: &DnsName) -> Resolved {
        if let Some(why) = self.outages.of(resolver.clone()) {
            return Resolved::Nothing { why: Unresolved::Unreachable { why }, for_secs: None };
        }
        let resolved = lookup::resolve(&self.resolver(resolver), name).await;
        match &resolved {
            Resolved::Nothing { why: Unresolved::Unreachable { why }, .. } => self.outages.note(resolver.clone(), why),
            _ => self.outages.note(resolver.clone(), None),
        }
        resolved
    }

    async fn watch_server(
        &self,
        server: SocketAddr,
        zone: &DnsName,
        owner: &DnsName,
        watched: Watched,
    ) -> ServerAnswer {
        spread::at_server(server, zone, owner, watched).await
    }

    async fn watch_resolver(
        &self,
        resolver: &ResolverAddress,
        owner: &DnsName,
        watched: Watched,
        wanted: &[RecordSet],
    ) -> ResolverAnswer {
        spread::at_resolver(&self.resolver(resolver), owner, watched, wanted).await
    }

    async fn name_server_change(
        &self,
        zone: &Zone,
        from_to: [SocketAddr; 2],
        resolvers: &[ResolverAddress],
    ) -> Result<NameServerChange, Unreachable> {
        name_servers::look(&zone.name, from_to, &zone.parents, &self.open(resolvers)).await
    }

    async fn negative_ttl(&self, server: SocketAddr, zone: &DnsName) -> Option<Ttl> {
        spread::negative_ttl(server, zone).await
    }
}

#[async_trait]
impl Probe for RealDrivers {
    async fn check(&self, job: &CheckJob) -> Vec<(String, Measured)> {
        self.make_check(job).await
    }

    async fn served_certificate(&self, address: SocketAddr, hostname: &Hostname) -> Result<Fingerprint, ProbeError> {
        pindrel_probe::served_certificate(address, hostname).await
    }

    async fn status_over_tls12(&self, address: SocketAddr, hostname: &Hostname, sample: &Expectation) -> Option<u16> {
        pindrel_probe::status_over_tls12(address, hostname, sample).await
    }

    async fn request(
        &self,
        trusted: &Trusted,
        address: SocketAddr,
        hostname: &Hostname,
        sample: &Expectation,
        identity: Option<&SecretRef>,
    ) -> Result<Answered, ProbeError> {
        let trust = self.trust(trusted).map_err(|finding| {
            let why = Untrusted::NoRoots { detail: finding.says() };
            ProbeError::Unverified { sha256: None, why }
        })?;
        let identity = identity
            .map(|secret| self.client_identity(secret))
            .transpose()
            .map_err(|finding| ProbeError::NotConnected(Unreachable::NotAsked { detail: finding.says() }))?;
        pindrel_probe::request(&trust, address, hostname, sample, identity.as_ref()).await
    }
}

#[async_trait]
impl Authority for HttpAuthority {
    fn directory(&self) -> &Directory {
        self.directory()
    }

    fn signed(&self) -> u64 {
        self.signed()
    }

    async fn register(
        &self,
        signer: &dyn RequestSigner,
        contact: &[String],
        external_binding: Option<Value>,
    ) -> Result<Registered, TransportError> {
        self.register(signer, contact, external_binding).await
    }

    async fn find(&self, signer: &dyn RequestSigner) -> Result<Option<Registered>, TransportError> {
        self.find(signer).await
    }

    async fn account(
        &self,
        signer: &dyn RequestSigner,
        url: &str,
        change: Option<Value>,
    ) -> Result<Registered, TransportError> {
        self.account(signer, url, change).await
    }

    async fn change_key(
        &self,
        old: &dyn RequestSigner,
        new: &dyn RequestSigner,
        account: &str,
    ) -> Result<(), TransportError> {
        self.change_key(old, new, account).await
    }

    async fn revoke(
        &self,
        signer: &dyn RequestSigner,
        account: Option<&str>,
        certificate: &[u8],
        reason: u8,
    ) -> Result<(), TransportError> {
        self.revoke(signer, account, certificate, reason).await
    }

    async fn renewal_info(&self, certificate_id: &str) -> Result<RenewalWindow, TransportError> {
        self.renewal_info(certificate_id).await
    }

    async fn send(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        url: Option<&str>,
        payload: &Payload,
    ) -> Result<Result<Reply, Problem>, TransportError> {
        self.send(signer, account, url, payload).await
    }

    async fn order_urls(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        list: &str,
    ) -> Result<Vec<String>, TransportError> {
        self.order_urls(signer, account, list).await
    }
}
