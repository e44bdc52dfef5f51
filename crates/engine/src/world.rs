//! The drivers of one run, made when first needed and then shared.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use pindrel_acme::Authority;
use pindrel_core::desired::{AuthorityId, Desired, EndpointId, ZoneId};
use pindrel_core::facts::ZoneView;
use pindrel_dns::{Rfc2136, ZoneDriver, lookup};
use pindrel_edge::{HttpPlatform, Platform};
use pindrel_keys::roots;
use pindrel_probe::Trust;
use rustls_pki_types::TrustAnchor;
use secrecy::ExposeSecret as _;
use tokio::sync::OnceCell;

use crate::error::StepFailure;
use crate::{files, secrets};

/// The drivers of one run.
pub(crate) struct World {
    folder: PathBuf,
    authorities: Mutex<HashMap<AuthorityId, Arc<OnceCell<Arc<Authority>>>>>,
    platforms: Mutex<HashMap<EndpointId, Arc<dyn Platform>>>,
    trusts: Mutex<HashMap<AuthorityId, Trust>>,
    system_resolvers: Vec<SocketAddr>,
}

impl World {
    pub(crate) fn new(folder: &Path) -> World {
        World {
            folder: folder.to_owned(),
            authorities: Mutex::default(),
            platforms: Mutex::default(),
            trusts: Mutex::default(),
            system_resolvers: lookup::system_resolvers(),
        }
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    fn pem(&self, path: &Option<PathBuf>) -> Result<Option<Vec<u8>>, StepFailure> {
        let Some(path) = path else { return Ok(None) };
        let read = files::read_at_most(&self.folder.join(path), secrets::MAX_ROOTS_BYTES);
        read.map(|bytes| Some(bytes.to_vec())).map_err(|error| {
            let says = format!("{} cannot be read: {}", path.display(), secrets::plain(&error));
            StepFailure::new(says, "put the PEM file of the roots where the manifest says")
        })
    }

    /// The connection to an authority; several that need it at once wait for one.
    pub(crate) async fn authority(&self, desired: &Desired, id: AuthorityId) -> Result<Arc<Authority>, StepFailure> {
        let cell = self.authorities.lock().unwrap_or_else(PoisonError::into_inner).entry(id).or_default().clone();
        let authority = desired.authority(id);
        let connect = async || {
            let roots = self.pem(&authority.api_roots)?;
            let connected = Authority::connect(authority.directory.clone(), roots.as_deref()).await?;
            Ok::<_, StepFailure>(Arc::new(connected))
        };
        cell.get_or_try_init(connect).await.cloned()
    }

    /// All authorities that this run has talked to.
    pub(crate) fn connected(&self) -> Vec<Arc<Authority>> {
        let cells = self.authorities.lock().unwrap_or_else(PoisonError::into_inner);
        cells.values().filter_map(|cell| cell.get().cloned()).collect()
    }

    /// The roots where an authority's certificates must end.
    pub(crate) fn issued_roots(
        &self,
        desired: &Desired,
        id: AuthorityId,
    ) -> Result<Vec<TrustAnchor<'static>>, StepFailure> {
        let authority = desired.authority(id);
        match self.pem(&authority.issued_roots)? {
            None => Ok(roots::public()),
            Some(pem) => roots::from_pem(&pem).map_err(|why| {
                let says = format!("issued_roots of [authority.{}] cannot be used: {why}", authority.name);
                StepFailure::new(says, "put the PEM file of the roots where the manifest says")
            }),
        }
    }

    /// What a client of certificates from this authority trusts.
    pub(crate) fn trust(&self, desired: &Desired, id: AuthorityId) -> Result<Trust, StepFailure> {
        if let Some(trust) = self.trusts.lock().unwrap_or_else(PoisonError::into_inner).get(&id) {
            return Ok(trust.clone());
        }
        let trust = Trust::new(self.issued_roots(desired, id)?).map_err(|why| {
            StepFailure::new(why, "name issued_roots in the authority's table, or install the system's roots")
        })?;
        self.trusts.lock().unwrap_or_else(PoisonError::into_inner).insert(id, trust.clone());
        Ok(trust)
    }

    /// The roots where a bought certificate must end: a PEM file's, else the system's.
    pub(crate) fn bought_roots(&self, path: Option<&PathBuf>) -> Result<Vec<TrustAnchor<'static>>, StepFailure> {
        match self.pem(&path.cloned())? {
            None => Ok(roots::public()),
            Some(pem) => roots::from_pem(&pem).map_err(|why| {
                let shown = path.map_or_else(String::new, |path| path.display().to_string());
                let says = format!("{shown} cannot be used: {why}");
                StepFailure::new(says, "put the PEM file of the roots where the manifest says")
            }),
        }
    }

    /// What a client of a bought certificate trusts.
    pub(crate) fn trust_roots(&self, path: Option<&PathBuf>) -> Result<Trust, StepFailure> {
        Trust::new(self.bought_roots(path)?)
            .map_err(|why| StepFailure::new(why, "name issued_roots in the certificate's table"))
    }

    /// What a client of a self-signed certificate trusts: that very one.
    pub(crate) fn trust_itself(&self, pem: String) -> Result<Trust, StepFailure> {
        let itself = roots::from_pem(pem.as_bytes()).and_then(Trust::new);
        itself.map_err(|why| StepFailure::new(why, "run settle again: it makes another one"))
    }

    pub(crate) fn platform(&self, desired: &Desired, id: EndpointId) -> Result<Arc<dyn Platform>, StepFailure> {
        if let Some(platform) = self.platforms.lock().unwrap_or_else(PoisonError::into_inner).get(&id) {
            return Ok(platform.clone());
        }
        let endpoint = desired.endpoint(id);
        // Endpoints of one platform share its driver, and so its connections.
        let same = desired.endpoints.iter().zip(0u32..).map(|(other, n)| (other, EndpointId(n))).find(|(other, _)| {
            (&other.url, &other.token, &other.api_roots) == (&endpoint.url, &endpoint.token, &endpoint.api_roots)
        });
        let first = same.map_or(id, |(_, first)| first);
        let shared = self.platforms.lock().unwrap_or_else(PoisonError::into_inner).get(&first).cloned();
        let platform = match shared {
            Some(platform) => platform,
            None => {
                let token = secrets::read(&endpoint.token, &self.folder)
                    .map_err(|why| StepFailure::secret(&endpoint.token, &why))?;
                let roots = self.pem(&endpoint.api_roots)?;
                Arc::new(HttpPlatform::new(endpoint.url.clone(), token, roots.as_deref())?) as Arc<dyn Platform>
            }
        };
        let mut platforms = self.platforms.lock().unwrap_or_else(PoisonError::into_inner);
        platforms.entry(first).or_insert_with(|| platform.clone());
        Ok(platforms.entry(id).or_insert(platform).clone())
    }

    /// The resolvers where public answers for a zone are looked up.
    pub(crate) fn resolvers<'w>(&'w self, desired: &'w Desired, id: ZoneId) -> &'w [SocketAddr] {
        let named = &desired.zone(id).resolvers;
        if named.is_empty() { &self.system_resolvers } else { named }
    }

    /// The authoritative servers of a zone: as the manifest says, else as they were found.
    pub(crate) fn servers(&self, desired: &Desired, id: ZoneId, view: Option<&ZoneView>) -> Vec<SocketAddr> {
        let named = &desired.zone(id).servers;
        match view {
            Some(view) if named.is_empty() => view.servers.iter().map(|server| server.server).collect(),
            _ => named.clone(),
        }
    }

    /// The driver that changes a zone, at the first of its servers.
    pub(crate) fn zone_driver(
        &self,
        desired: &Desired,
        id: ZoneId,
        servers: &[SocketAddr],
    ) -> Result<Box<dyn ZoneDriver>, StepFailure> {
        let zone = desired.zone(id);
        let server = servers.first().ok_or_else(|| {
            StepFailure::new(
                format!("no server of the zone {} is known", zone.name),
                "name its servers in the manifest",
            )
        })?;
        let text = secrets::read(&zone.tsig.secret, &self.folder)
            .map_err(|why| StepFailure::secret(&zone.tsig.secret, &why))?;
        let secret = STANDARD
            .decode(text.expose_secret())
            .map_err(|_| StepFailure::secret(&zone.tsig.secret, "it is not base64"))?;
        let driver = Rfc2136::new(zone.name.clone(), *server, zone.tsig.name.clone(), zone.tsig.algorithm, secret)?;
        Ok(Box::new(driver))
    }
}
