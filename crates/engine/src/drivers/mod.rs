//! The traits through which a run reaches the world. Each has the real one behind it
//! ([`RealDrivers`], [`SystemClock`]) and a double in memory in the test kit.

mod checks;
mod outages;
mod pkcs12;
mod real;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_acme::{Registered, RequestSigner, TransportError};
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::objects::Directory;
use pindrel_core::certificates::acme::order::Reply;
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::certificates::renewal::RenewalWindow;
use pindrel_core::desired::{self, CertificateTerms, Endpoint, Zone};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::health::{Checked, Measured};
use pindrel_core::judging::facts::{AliasView, Unreachable, ZoneView};
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::{Fingerprint, KeyKind, SecretRef, Ttl};
use pindrel_core::zones::name_servers::NameServerChange;
use pindrel_core::zones::propagation::{ResolverAnswer, ServerAnswer};
use pindrel_core::zones::records::{AliasPlace, RecordSet, ZoneRecord};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::ZoneDriver;
use pindrel_dns::caa::{CaaLookup, Servers};
use pindrel_dns::challenge::{PlaceError, ServersOf};
use pindrel_dns::lookup::{Hidden, Resolved};
use pindrel_dns::spread::Watched;
use pindrel_edge::Platform;
use pindrel_keys::bundle::OpenPkcs12;
use pindrel_keys::{AccountKey, CertificateKey, KeyError};
use pindrel_probe::{Answered, ProbeError};
use rustls_pki_types::TrustAnchor;
use secrecy::SecretString;
use serde_json::Value;

pub use pkcs12::{OPEN_PKCS12, open_pkcs12_confined};
pub use real::{RealDrivers, SystemClock};

/// The time, of the wall and since some moment.
#[async_trait]
pub trait Clock: Send + Sync {
    /// Returns the time of day: what peers and certificates speak of.
    fn now(&self) -> Timestamp;
    /// Returns the time since some moment, which nobody sets: what patience is measured by.
    fn elapsed(&self) -> Duration;
    /// Waits.
    async fn sleep(&self, duration: Duration);
}

/// Does something that may take so long; `None` where it takes longer.
pub(crate) async fn within<T>(clock: &dyn Clock, limit: Duration, work: impl Future<Output = T>) -> Option<T> {
    tokio::select! {
        biased;
        done = work => Some(done),
        () = clock.sleep(limit) => None,
    }
}

/// One check, ready to be made.
#[derive(Debug, Clone)]
pub struct CheckJob {
    /// What is looked at.
    pub what: Checked,
    /// For an endpoint: its addresses, with the port.
    pub addresses: Vec<SocketAddr>,
    /// Whom its certificate must come from.
    pub trusted: Trusted,
    /// How long it may take.
    pub within: Duration,
}

/// What a client of certificates trusts.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Trusted {
    /// The roots of an authority: those in a PEM file, else the public ones.
    Roots(Option<PathBuf>),
    /// This very certificate, in PEM: a self-signed one.
    Itself(String),
    /// Anyone: to see whether something answers at all.
    Anyone,
}

/// The way to the world.
#[async_trait]
pub trait Drivers: Send + Sync {
    /// Connects to an authority.
    ///
    /// # Errors
    /// A [`Finding`], here and in the other methods: what is needed cannot be reached or used.
    async fn authority(&self, authority: &desired::Authority) -> Result<Arc<dyn Authority>, Finding>;
    /// Returns the driver that changes a zone, at the first of its servers.
    fn zone(&self, zone: &Zone, servers: &[SocketAddr]) -> Result<Arc<dyn ZoneDriver>, Finding>;
    /// Returns the driver of an endpoint's platform; endpoints of one platform share it.
    fn platform(&self, endpoint: &Endpoint) -> Result<Arc<dyn Platform>, Finding>;
    /// Questions to name servers and resolvers.
    fn lookups(&self) -> &dyn Lookups;
    /// Connections the way clients make them.
    fn probe(&self) -> &dyn Probe;
    /// Where new private keys come from.
    fn keys(&self) -> &dyn Keys;
    /// What opens PKCS#12 files.
    fn pkcs12(&self) -> &dyn OpenPkcs12;
    /// Reads a secret that the manifest refers to.
    ///
    /// # Errors
    /// Why not, without the secret.
    fn secret(&self, reference: &SecretRef) -> Result<SecretString, String>;
    /// Returns the roots at which certificates must end.
    fn roots(&self, trusted: &Trusted) -> Result<Vec<TrustAnchor<'static>>, Finding>;
}

/// A connection to one ACME authority.
#[async_trait]
pub trait Authority: Send + Sync {
    /// Returns the directory.
    fn directory(&self) -> &Directory;
    /// Returns how many signed requests were sent, those with a refused nonce left out.
    fn signed(&self) -> u64;
    /// Opens an account, or finds the one that the key has already (RFC 8555 §7.3).
    ///
    /// # Errors
    /// [`TransportError`], here and in every other method.
    async fn register(
        &self,
        signer: &dyn RequestSigner,
        contact: &[String],
        external_binding: Option<Value>,
    ) -> Result<Registered, TransportError>;
    /// Finds the account of a key (RFC 8555 §7.3.1); `None` where it has none.
    async fn find(&self, signer: &dyn RequestSigner) -> Result<Option<Registered>, TransportError>;
    /// Reads an account, or changes it where `change` says what (RFC 8555 §7.3.2, §7.3.6).
    async fn account(
        &self,
        signer: &dyn RequestSigner,
        url: &str,
        change: Option<Value>,
    ) -> Result<Registered, TransportError>;
    /// Gives an account another key (RFC 8555 §7.3.5).
    async fn change_key(
        &self,
        old: &dyn RequestSigner,
        new: &dyn RequestSigner,
        account: &str,
    ) -> Result<(), TransportError>;
    /// Revokes a certificate (RFC 8555 §7.6).
    async fn revoke(
        &self,
        signer: &dyn RequestSigner,
        account: Option<&str>,
        certificate: &[u8],
        reason: u8,
    ) -> Result<(), TransportError>;
    /// Says whether the authority gives renewal information.
    fn advises(&self) -> bool {
        self.directory().renewal_info.is_some()
    }
    /// Asks when a certificate should be renewed (RFC 9773 §4.1).
    async fn renewal_info(&self, certificate_id: &str) -> Result<RenewalWindow, TransportError>;
    /// Sends a request of an account; a refusal by the authority is the inner error.
    async fn send(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        url: Option<&str>,
        payload: &Payload,
    ) -> Result<Result<Reply, Problem>, TransportError>;
    /// Reads the URLs of an account's orders (RFC 8555 §7.1.2.1).
    async fn order_urls(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        list: &str,
    ) -> Result<Vec<String>, TransportError>;
}

/// Questions to name servers and resolvers.
#[async_trait]
pub trait Lookups: Send + Sync {
    /// Returns the resolvers that this system uses.
    fn system_resolvers(&self) -> Vec<ResolverAddress>;
    /// Looks at a zone: its delegation and all its servers.
    async fn zone(&self, zone: &Zone, resolvers: &[ResolverAddress]) -> ZoneView;
    /// Returns what each server gives in the place of a hostname's alias.
    async fn alias(&self, servers: &[SocketAddr], owner: &DnsName, place: AliasPlace) -> AliasView;
    /// Returns what hides a name in the zone that it is looked for in; `None` also where that cannot be seen.
    async fn hidden(&self, server: SocketAddr, zone: &DnsName, owner: &DnsName) -> Option<Hidden>;
    /// Returns which of the records a server does not give yet.
    async fn lacking(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable>;
    /// Returns which of the records a server still gives.
    async fn remaining(&self, server: SocketAddr, records: &[ZoneRecord]) -> Result<Vec<ZoneRecord>, Unreachable>;
    /// Returns where the challenge record for a name belongs.
    async fn challenge_owner(
        &self,
        start: &DnsName,
        servers_of: &ServersOf<'_>,
        resolvers: &[ResolverAddress],
    ) -> Result<DnsName, PlaceError>;
    /// Looks for the CAA records that count for a name.
    async fn caa(
        &self,
        name: &DnsName,
        servers: Servers<'_>,
        resolvers: &[ResolverAddress],
    ) -> Result<CaaLookup, Unreachable>;
    /// Asks a resolver for the addresses of a name.
    async fn resolve(&self, resolver: &ResolverAddress, name: &DnsName) -> Resolved;
    /// Asks a server of a zone for the records of a name that are watched.
    async fn watch_server(&self, server: SocketAddr, zone: &DnsName, owner: &DnsName, watched: Watched)
    -> ServerAnswer;
    /// Asks a resolver for the records of a name that are watched, of which these are wanted.
    async fn watch_resolver(
        &self,
        resolver: &ResolverAddress,
        owner: &DnsName,
        watched: Watched,
        wanted: &[RecordSet],
    ) -> ResolverAnswer;
    /// Looks at what would come of a change of a zone's name servers, from one to another.
    async fn name_server_change(
        &self,
        zone: &Zone,
        from_to: [SocketAddr; 2],
        resolvers: &[ResolverAddress],
    ) -> Result<NameServerChange, Unreachable>;
    /// Returns for how long a resolver may keep that a name of a zone does not exist.
    async fn negative_ttl(&self, server: SocketAddr, zone: &DnsName) -> Option<Ttl>;
}

/// Connections the way clients make them.
#[async_trait]
pub trait Probe: Send + Sync {
    /// Returns the fingerprint of the certificate that is served, verified or not.
    ///
    /// # Errors
    /// [`ProbeError`].
    async fn served_certificate(&self, address: SocketAddr, hostname: &Hostname) -> Result<Fingerprint, ProbeError>;
    /// Returns the status with which a client of TLS 1.2 is answered, if it is.
    async fn status_over_tls12(&self, address: SocketAddr, hostname: &Hostname, sample: &Expectation) -> Option<u16>;
    /// Makes a health check once; returns what came of it at each address, or under an empty name where
    /// it has none.
    async fn check(&self, job: &CheckJob) -> Vec<(String, Measured)>;
    /// Verifies in full, as a client does, and makes a sample request; shows the certificate that is to be
    /// read there, where a server asks for one.
    ///
    /// # Errors
    /// [`ProbeError`], by how far the connection got.
    async fn request(
        &self,
        trusted: &Trusted,
        address: SocketAddr,
        hostname: &Hostname,
        sample: &Expectation,
        identity: Option<&SecretRef>,
    ) -> Result<Answered, ProbeError>;
}

/// Where new private keys come from. An RSA key takes a second of a processor, so none is made
/// on a thread of the runtime.
#[async_trait]
pub trait Keys: Send + Sync {
    /// Makes the key of a certificate.
    ///
    /// # Errors
    /// [`KeyError`].
    async fn certificate_key(&self, kind: KeyKind) -> Result<CertificateKey, KeyError>;
    /// Makes the key of an account.
    ///
    /// # Errors
    /// [`KeyError`].
    async fn account_key(&self, kind: KeyKind) -> Result<AccountKey, KeyError>;
}

/// What a client trusts that uses a certificate of an authority.
pub(crate) fn trusted_of_authority(authority: &desired::Authority) -> Trusted {
    Trusted::Roots(authority.issued_roots.clone())
}

/// What a client trusts that uses a certificate issued elsewhere.
pub(crate) fn trusted_elsewhere(terms: &CertificateTerms) -> Trusted {
    Trusted::Roots(terms.issued_roots.clone())
}
