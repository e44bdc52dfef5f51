//! Everything that a test of the engine needs, in one place.

use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::desired::{Desired, resolve};
use pindrel_core::endpoints::endpoint::{Binding, EndpointInfo, KeepRecord};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::manifest::{Diagnostics, read};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::{Fingerprint, Ttl};
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, ZoneChange, ZoneRecord};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::lookup::Resolved;
use pindrel_engine::drivers::{Clock as _, Drivers, Lookups as _, Probe as _, Trusted};
use pindrel_engine::{
    Aim, Bounds, Engine, EngineError, Event, Home, KeepCommand, KeepSetup, KeepSummary, LeftoverScope, Listener, Plan,
    Report, Scope, Setup, Summary, keep,
};
use pindrel_keys::SealingKey;
use pindrel_state::{SqliteState, State};
use rcgen::{CertificateParams, KeyPair};
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, CertificateSigningRequestDer};
use tempfile::TempDir;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use super::authority::{DIRECTORY, Life};
use super::zones::MemoryZones;
use super::{Faults, MEMORY_ZONE, PRIMARY, Pace, RESOLVER, SECONDARY, World};

/// Keeps the events of runs.
#[derive(Debug, Default)]
pub struct Recorder(Mutex<Vec<Event>>);

impl Listener for Recorder {
    fn on(&self, event: Event) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(event);
    }
}

impl Recorder {
    /// Returns the events since the last call.
    pub fn take(&self) -> Vec<Event> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// A world, a state that outlives each run, and a manifest.
pub struct Setting {
    /// The world.
    pub world: World,
    /// The state of all runs.
    pub state: Arc<dyn State>,
    /// More lines of the authority's table in the manifest.
    pub authority: String,
    /// More lines of the zone's table.
    pub zone: String,
    /// The manifest, as far as the authority, the zone and the endpoints are not concerned.
    pub names: String,
    /// What bounds each run.
    pub bounds: Bounds,
    /// What the runs told.
    pub recorder: Arc<Recorder>,
    home: Home,
    folder: TempDir,
}

/// What keeps running in a test.
pub struct Keeping {
    orders: mpsc::Sender<KeepCommand>,
    running: JoinHandle<Result<KeepSummary, EngineError>>,
}

impl Keeping {
    /// Tells it that the manifest has changed to that of a setting.
    pub async fn replace(&self, setting: &Setting) {
        let order = KeepCommand::Manifest(Arc::new(setting.desired()));
        self.orders.send(order).await.unwrap_or_else(|error| panic!("it has ended: {error}"));
    }

    /// Kills it, wherever it is.
    pub async fn kill(self) {
        self.running.abort();
        let _ = self.running.await;
    }

    /// Tells it to stop, and waits until it has.
    pub async fn stop(self) -> KeepSummary {
        let _ = self.orders.send(KeepCommand::Stop).await;
        let ended = self.running.await.unwrap_or_else(|error| panic!("it panicked: {error}"));
        ended.unwrap_or_else(|error| panic!("it failed: {error}"))
    }
}

impl Setting {
    /// Makes a setting with the hostnames and certificates of a manifest's tail.
    pub fn new(pace: Pace, names: &str) -> Setting {
        let world = World::new(pace);
        let state: Arc<dyn State> =
            Arc::new(SqliteState::in_memory().unwrap_or_else(|error| panic!("no state: {error}")));
        let sealing = SealingKey::generate().and_then(|text| SealingKey::from_text(&text));
        let home = Home::with(state.clone(), sealing.unwrap_or_else(|error| panic!("no sealing key: {error}")));
        let folder = TempDir::with_prefix("pindrel-memory-").unwrap_or_else(|error| panic!("no folder: {error}"));
        let bounds = Bounds { max_age_secs: 0, at_once: 32, patience: Duration::from_secs(600), skip_ttl_wait: false };
        let recorder = Arc::new(Recorder::default());
        let (authority, zone) = (String::new(), String::new());
        Setting { world, state, authority, zone, names: names.to_owned(), bounds, recorder, home, folder }
    }

    /// Makes leases last so long: years of running on are not spent on renewing them.
    pub fn leases_last(&mut self, lease: Duration) {
        self.home = self.home.clone().with_lease(lease);
    }

    /// The same world, state and manifest for another process.
    pub fn another_process(&self) -> Setting {
        let folder = TempDir::with_prefix("pindrel-memory-").unwrap_or_else(|error| panic!("no folder: {error}"));
        Setting {
            world: self.world.clone(),
            state: self.state.clone(),
            authority: self.authority.clone(),
            zone: self.zone.clone(),
            names: self.names.clone(),
            bounds: self.bounds,
            recorder: Arc::new(Recorder::default()),
            home: self.home.for_another_process(),
            folder,
        }
    }

    /// The whole manifest.
    pub fn manifest(&self) -> String {
        format!(
            "manifest = 1
[defaults]
authority = \"main\"
ttl = \"1m\"
[authority.main]
directory = \"{DIRECTORY}\"
agree_to_terms = true
{}
[zone.\"{MEMORY_ZONE}\"]
driver = \"rfc2136\"
servers = [\"{PRIMARY}\", \"{SECONDARY}\"]
resolvers = [\"{RESOLVER}\"]
tsig = {{ name = \"pindrel.\", secret = \"env:TSIG\" }}
{}
[endpoint.catalogue]
kind = \"gateway\"
driver = \"http\"
url = \"https://platform.test\"
token = \"env:TOKEN\"
[endpoint.plates]
kind = \"distribution\"
driver = \"http\"
url = \"https://platform.test\"
token = \"env:TOKEN\"
{}",
            self.authority, self.zone, self.names
        )
    }

    /// What should hold by the manifest.
    pub fn desired(&self) -> Desired {
        let mut problems = Diagnostics::default();
        let desired = resolve(read(&self.manifest(), &mut problems), &mut problems);
        assert!(problems.is_empty(), "{problems:?}");
        desired
    }

    /// Makes the engine of one run.
    pub async fn engine(&self) -> Engine {
        let setup = Setup {
            desired: Arc::new(self.desired()),
            folder: self.folder.path().to_owned(),
            home: self.home.for_another_process(),
            bounds: self.bounds,
            listener: self.recorder.clone(),
            drivers: Arc::new(self.world.clone()),
            clock: self.world.clock().clone(),
            command: "settle".to_owned(),
        };
        Engine::open(setup).await.unwrap_or_else(|error| panic!("no engine: {error}"))
    }

    /// Settles everything.
    pub async fn settle(&self) -> Summary {
        let engine = self.engine().await;
        let scope = Scope::all(engine.desired());
        engine.settle(&scope, Aim::Hold).await.unwrap_or_else(|error| panic!("no run: {error}"))
    }

    /// Begins to keep running on the manifest as it is now.
    pub fn keep(&self) -> Keeping {
        let world = self.world.clone();
        let setup = KeepSetup {
            turn_every: None,
            desired: Arc::new(self.desired()),
            folder: self.folder.path().to_owned(),
            home: self.home.for_another_process(),
            bounds: self.bounds,
            listener: self.recorder.clone(),
            make_drivers: Arc::new(move || -> Arc<dyn Drivers> { Arc::new(world.clone()) }),
            clock: self.world.clock().clone(),
        };
        let (orders, taken) = mpsc::channel(4);
        let running = tokio::spawn(async move { keep(setup, taken).await });
        Keeping { orders, running }
    }

    /// Retires hostnames that the manifest no longer names, cut off after a time.
    pub async fn retire(&self, hostnames: &[&str], time: Duration) {
        let hostnames = |found: &str| hostnames.contains(&found);
        let retire = async {
            let engine = self.engine().await;
            let found = engine.retirer.retirable(None).await.unwrap_or_else(|error| panic!("{error}"));
            let mut names: Vec<Hostname> = found.into_iter().map(|leftover| leftover.hostname).collect();
            names.retain(|name| hostnames(name.as_str()));
            engine.retirer.begin(&names).await.unwrap_or_else(|finding| panic!("{finding:?}"));
            let scope = Scope { leftovers: LeftoverScope::Retire(names), ..Scope::default() };
            engine.settle(&scope, Aim::Hold).await.unwrap_or_else(|error| panic!("{error}"));
        };
        let _ = tokio::time::timeout(time, retire).await;
    }

    /// How many certificates a site's store holds.
    pub fn stored(&self, site: &str) -> usize {
        self.world.inner().edge.stores.get(site).map_or(0, std::collections::BTreeMap::len)
    }

    /// The TTL of the aliases of a name on the primary.
    pub fn alias_ttl(&self, owner: &str) -> Option<Ttl> {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("no name: {error}"));
        self.world.inner().zones.ttl(&owner)
    }

    /// Settles for so long, and is killed then; says whether it had ended before.
    pub async fn settle_for(&self, time: Duration) -> bool {
        tokio::time::timeout(time, self.settle()).await.is_ok()
    }

    /// Says what would be done.
    pub async fn plan(&self) -> Plan {
        let engine = self.engine().await;
        let scope = Scope::all(engine.desired());
        engine.plan(&scope, Aim::Hold).await.unwrap_or_else(|error| panic!("no plan: {error}"))
    }

    /// Looks at everything.
    pub async fn status(&self) -> Report {
        let engine = self.engine().await;
        let scope = Scope::all(engine.desired());
        engine.reports.status(&scope).await.unwrap_or_else(|error| panic!("no status: {error}"))
    }

    /// Breaks or mends something.
    pub fn break_or_mend(&self, change: impl FnOnce(&mut Faults)) {
        self.world.break_or_mend(change);
    }

    /// The time of day in the world.
    pub fn now(&self) -> Timestamp {
        self.world.clock().now()
    }

    /// Lets time pass.
    pub async fn pass(&self, time: Duration) {
        tokio::time::sleep(time).await;
    }

    /// Says how long certificates live from now on.
    pub fn certificates_live(&self, life: Life) {
        self.world.inner().authority.life = life;
    }

    /// Says how long certificates live whose first name begins so.
    pub fn certificates_of_live(&self, begin: &str, life: Life) {
        self.world.inner().authority.lives.push((begin.to_owned(), life));
    }

    /// How many requests the authority has had, how many certificates it has issued, and how
    /// many orders it was asked for.
    pub fn authority_counts(&self) -> (usize, usize, usize) {
        let inner = self.world.inner();
        (inner.authority.requests, inner.authority.issued.len(), inner.authority.ordered.len())
    }

    /// When orders were made, with their names.
    pub fn orders(&self) -> Vec<(Timestamp, Vec<Hostname>)> {
        self.world.inner().authority.ordered.clone()
    }

    /// When certificates were issued, with the first name of each.
    pub fn issued(&self) -> Vec<(Timestamp, Hostname)> {
        self.world.inner().authority.issued.clone()
    }

    /// Makes the authority forget all accounts.
    pub fn forget_accounts(&self) {
        self.world.inner().authority.forget_accounts();
    }

    /// How many accounts the authority has.
    pub fn accounts(&self) -> usize {
        self.world.inner().authority.accounts.len()
    }

    /// For each certificate that was revoked, whether its own key signed for it.
    pub fn revocations(&self) -> Vec<bool> {
        self.world.inner().authority.revoked.iter().map(Option::is_none).collect()
    }

    /// Signs a request in PEM, as another issuer with the same root does.
    pub fn sign(&self, request: &str) -> String {
        let der = CertificateSigningRequestDer::from_pem_slice(request.as_bytes());
        let der = der.unwrap_or_else(|error| panic!("no request: {error}"));
        let now = self.now();
        let signed = self.world.inner().authority.issue(&der, 0, now);
        signed.unwrap_or_else(|error| panic!("not signed: {error}"))
    }

    /// A request in PEM that was made with a key of somebody else.
    pub fn foreign_request(&self, hostname: &str) -> String {
        let made = || {
            let key = KeyPair::generate()?;
            CertificateParams::new([hostname.to_owned()])?.serialize_request(&key)?.pem()
        };
        made().unwrap_or_else(|error| panic!("no request: {error}"))
    }

    /// The fingerprint of the first certificate of a text in PEM.
    pub fn fingerprint(&self, pem: &str) -> Fingerprint {
        let der = CertificateDer::from_pem_slice(pem.as_bytes());
        Fingerprint::of(&der.unwrap_or_else(|error| panic!("no certificate: {error}")))
    }

    /// The folder of the manifest.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// The same world and manifest with a new state.
    pub fn with_lost_state(self) -> Setting {
        let fresh = Setting::new(Pace::default(), &self.names);
        Setting { world: self.world, authority: self.authority, zone: self.zone, ..fresh }
    }

    /// What is broken.
    pub fn faults(&self) -> Faults {
        self.world.inner().faults.clone()
    }

    /// How many changes the zone has had, and how many requests the platform.
    pub fn change_counts(&self) -> (usize, usize) {
        let inner = self.world.inner();
        (inner.zones.changes, inner.edge.requests)
    }

    /// The texts at a name, on the primary.
    pub fn texts(&self, owner: &str) -> Vec<String> {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let records = self.world.inner().zones.served(true, Duration::ZERO, Duration::ZERO);
        let own = records.into_keys().filter(|(name, _)| *name == owner);
        own.filter_map(|(_, data)| if let RecordData::Txt(text) = data { Some(text) } else { None }).collect()
    }

    /// How many texts stood at one name at most.
    pub fn most_texts(&self) -> usize {
        self.world.inner().zones.most_texts
    }

    /// All TXT records that are left in the zone, on either server.
    pub fn challenge_records(&self) -> usize {
        let now = self.world.clock().elapsed();
        let inner = self.world.inner();
        let both = [true, false].map(|primary| inner.zones.served(primary, inner.pace.lag, now));
        both.iter().flatten().filter(|((_, data), _)| matches!(data, RecordData::Txt(_))).count()
    }

    /// Does what a client does: says whether the name is answered with a certificate.
    pub async fn client_gets(&self, hostname: &str) -> Option<Fingerprint> {
        let name: DnsName = hostname.parse().ok()?;
        let resolver: ResolverAddress = RESOLVER.parse().ok()?;
        let Resolved::Addresses { addresses, .. } = self.world.resolve(&resolver, &name).await else { return None };
        let address = (*addresses.first()?, 443).into();
        let (hostname, sample) = (hostname.parse().ok()?, Expectation::at("/"));
        let answered = self.world.request(&Trusted::Roots(None), address, &hostname, &sample, None).await;
        answered.ok().map(|answered| answered.sha256)
    }

    /// Changes how an endpoint behaves.
    pub fn change_endpoint(&self, endpoint: &str, change: impl FnOnce(&mut EndpointInfo)) {
        self.world.inner().edge.change(endpoint, change);
    }

    /// Makes an endpoint ask for a record at each hostname before it deploys it.
    pub fn ask_for_records(&self, endpoint: &str, keep: KeepRecord) {
        self.world.inner().edge.asks.insert(endpoint.to_owned(), keep);
    }

    /// Says whether the resolver has an address for a name.
    pub async fn resolves(&self, name: &str) -> bool {
        let (Ok(name), Ok(resolver)) = (name.parse(), RESOLVER.parse::<ResolverAddress>()) else { return false };
        matches!(self.world.resolve(&resolver, &name).await, Resolved::Addresses { .. })
    }

    /// Makes a record that is somebody else's.
    pub fn foreign_record(&self, owner: &str, data: RecordData) {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let now = self.world.clock().elapsed();
        let change = ZoneChange::Add(vec![ZoneRecord { owner, ttl: Ttl::MINUTE, data }]);
        self.world.inner().zones.change(&change, now);
    }

    /// Deletes a record, as somebody else would.
    pub fn somebody_deletes(&self, owner: &str, data: RecordData) {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let now = self.world.clock().elapsed();
        let change = ZoneChange::Delete(vec![ZoneRecord { owner, ttl: Ttl::MINUTE, data }]);
        self.world.inner().zones.change(&change, now);
    }

    /// Makes what stands at a name this one record, or nothing, as somebody else would.
    pub fn somebody_makes(&self, owner: &str, data: Option<RecordData>) {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let now = self.world.clock().elapsed();
        let group = |data: Vec<RecordData>| RecordSet::group(data.into_iter().map(|data| (Ttl::MINUTE, data)));
        let (expected, wanted) = (group(self.aliases(owner.as_str())), group(data.into_iter().collect()));
        let change = ZoneChange::Replace(NameChange { owner, expected, wanted, place: AliasPlace::Name });
        assert!(self.world.inner().zones.change(&change, now), "it was changed meanwhile");
    }

    /// The data of all alias records at a name, on the primary.
    pub fn aliases(&self, owner: &str) -> Vec<RecordData> {
        let owner: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let inner = self.world.inner();
        let records = inner.zones.served(true, Duration::ZERO, Duration::ZERO);
        let all = [
            pindrel_core::zones::records::RecordType::A,
            pindrel_core::zones::records::RecordType::Aaaa,
            pindrel_core::zones::records::RecordType::Cname,
        ];
        MemoryZones::sets(&records, &owner, &all).iter().flat_map(|set| set.data().to_vec()).collect()
    }

    /// Deletes all alias records at a name, as someone else would.
    pub fn remove_aliases(&self, owner: &str) {
        let name: DnsName = owner.parse().unwrap_or_else(|error| panic!("{error}"));
        let gone = self.aliases(owner).into_iter();
        let gone = gone.map(|data| ZoneRecord { owner: name.clone(), ttl: Ttl::MINUTE, data }).collect();
        let now = self.world.clock().elapsed();
        self.world.inner().zones.change(&ZoneChange::Delete(gone), now);
    }

    /// Makes the platform list no endpoint.
    pub fn without_endpoints(&self) {
        self.world.inner().edge.endpoints.clear();
    }

    /// Puts a binding at an endpoint that is somebody else's.
    pub fn foreign_binding(&self, endpoint: &str, hostname: &str, binding: &Binding) {
        let hostname: Hostname = hostname.parse().unwrap_or_else(|error| panic!("{error}"));
        let now = self.world.clock().elapsed();
        let mut inner = self.world.inner();
        let deploy = inner.pace.deploy;
        inner.edge.put(endpoint, &hostname, binding, deploy, now);
    }

    /// Removes a binding at an endpoint, as someone else would.
    pub fn remove_binding(&self, endpoint: &str, hostname: &str) {
        let hostname: Hostname = hostname.parse().unwrap_or_else(|error| panic!("{error}"));
        self.world.inner().edge.bindings.remove(&(endpoint.to_owned(), hostname));
    }

    /// The binding at an endpoint.
    pub fn binding(&self, endpoint: &str, hostname: &str) -> Option<Binding> {
        let hostname: Hostname = hostname.parse().ok()?;
        let inner = self.world.inner();
        inner.edge.bindings.get(&(endpoint.to_owned(), hostname)).map(|bound| bound.binding.clone())
    }
}
