//! A load balancer on this machine, told over its runtime socket: certificates come and go without a
//! reload.
//!
//! Each hostname has a certificate file of its own, which is replaced in a transaction, and an entry
//! in the certificate list. The same stands in files, so that the next start finds what is served.

mod files;
mod runtime;

use std::path::PathBuf;

use async_trait::async_trait;
use pindrel_core::endpoints::endpoint::{Binding, Deployment, EndpointInfo, EndpointKind, Offers, PlatformReply};
use pindrel_core::endpoints::load_balancer::LoadBalancer;
use pindrel_core::endpoints::unready::Unready;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use secrecy::SecretString;
use tokio::sync::Mutex;

use crate::local;
use crate::owned_files::require_unchanged;
use crate::{BoundHostname, EdgeError, Platform, ServerState, StoreRemoval, StoredCertificate, WrittenFile};
use files::{Entry, Files};
use runtime::Runtime;

/// Takes some octets as answers of a balancer.
#[cfg(feature = "hostile")]
pub fn read_any(octets: &[u8]) {
    runtime::read_any(octets);
}

/// A load balancer with a runtime socket.
pub struct Haproxy {
    name: String,
    kind: EndpointKind,
    balancer: LoadBalancer,
    files: Files,
    runtime: Runtime,
    /// One change at a time: a transaction of the balancer is nobody's in particular.
    changing: Mutex<()>,
}

impl Haproxy {
    /// Makes a driver for a balancer, whose paths are absolute.
    pub fn new(name: &str, kind: EndpointKind, balancer: LoadBalancer) -> Haproxy {
        let files = Files { folder: balancer.folder.clone(), list: balancer.list.clone() };
        let runtime = Runtime::at(balancer.socket.clone());
        Haproxy { name: name.to_owned(), kind, balancer, files, runtime, changing: Mutex::default() }
    }

    fn refused(&self, what: &'static str, detail: impl Into<String>) -> EdgeError {
        EdgeError::Refused { url: self.name.clone(), what, status: 422, detail: detail.into() }
    }

    /// Says whether the balancer has loaded what the files say of a hostname.
    async fn is_loaded(&self, entry: &Entry) -> Result<bool, EdgeError> {
        let file = self.files.certificate_file(&entry.hostname);
        let listed = self.runtime.entries(&self.balancer.list).await?;
        let own = listed.iter().any(|line| line.is(&file, &entry.options(), &entry.hostname));
        let Some(serial) = self.files.serial(&entry.hostname) else { return Ok(false) };
        Ok(own && self.runtime.serial(&file).await?.is_some_and(|loaded| loaded == serial))
    }

    async fn bound(&self, entry: &Entry) -> Result<BoundHostname, EdgeError> {
        let deployment = if self.is_loaded(entry).await? {
            Deployment::Deployed
        } else {
            Deployment::Failed { reason: "the balancer has not loaded it".into() }
        };
        Ok(BoundHostname {
            binding: entry.binding.clone(),
            deployment,
            reply: PlatformReply::default(),
            etag: Some(entry.digest()),
        })
    }
}

#[async_trait]
impl Platform for Haproxy {
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError> {
        // Known to be there before anything is ordered for it.
        self.runtime.entries(&self.balancer.list).await?;
        let LoadBalancer { default_name, addresses, port, .. } = &self.balancer;
        let offers = Offers { routes: false, redirects: false, ..Offers::default() };
        Ok(vec![local::endpoint(&self.name, self.kind, default_name.as_ref(), addresses.clone(), *port, offers)])
    }

    async fn put_certificate(
        &self,
        _site: &str,
        sha256: Fingerprint,
        chain: &str,
        key: SecretString,
    ) -> Result<(), EdgeError> {
        self.files.store(sha256, chain, &key)
    }

    async fn put_trust_bundle(&self, _site: &str, _sha256: Fingerprint, _roots: &str) -> Result<(), EdgeError> {
        Err(self.refused("the trust bundle", "client certificates are asked for in its own configuration"))
    }

    async fn certificates(&self, _site: &str) -> Result<Vec<StoredCertificate>, EdgeError> {
        let bound = self.files.entries()?.into_iter().filter_map(|entry| entry.binding.certificate);
        Ok(local::stored(self.files.stored(), bound))
    }

    async fn delete_certificate(&self, _site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError> {
        let _turn = self.changing.lock().await;
        if self.files.entries()?.iter().any(|entry| entry.binding.certificate == Some(sha256)) {
            return Ok(StoreRemoval::InUse);
        }
        self.files.remove_stored(sha256)?;
        Ok(StoreRemoval::Gone)
    }

    async fn bindings(&self, _endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError> {
        let mut bindings = Vec::new();
        for entry in self.files.entries()? {
            bindings.push((entry.hostname.clone(), self.bound(&entry).await?));
        }
        Ok(bindings)
    }

    async fn binding(&self, _endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError> {
        match self.files.entry(hostname)? {
            Some(entry) => self.bound(&entry).await.map(Some),
            None => Ok(None),
        }
    }

    async fn put_binding(
        &self,
        _endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        if !binding.routes.is_empty() || binding.redirect_to.is_some() {
            return Err(self.refused("the binding", "routes and redirects are set in its own configuration"));
        }
        let _turn = self.changing.lock().await;
        let present = self.files.entry(hostname)?;
        require_unchanged(known, present.as_ref().map(Entry::digest), hostname)?;
        if present.is_none() {
            self.files.require_own(hostname)?;
        }
        let entry = Entry { hostname: hostname.clone(), binding: binding.clone() };
        let sha256 = local::certificate_of(&self.name, binding)?;
        let bundle = self
            .files
            .bundle(sha256)?
            .ok_or_else(|| self.refused("the binding", format!("the store has no certificate {sha256}")))?;
        let file = self.files.certificate_file(hostname);
        self.runtime.replace_certificate(&file, &bundle).await?;
        let listed = self.runtime.entries(&self.balancer.list).await?;
        let is_wanted = |line: &runtime::Line| line.is(&file, &entry.options(), hostname);
        if !listed.iter().any(is_wanted) {
            self.runtime.add_entry(&self.balancer.list, &file, &entry.options(), hostname).await?;
        }
        // The new entry serves before the old one goes.
        for line in listed.iter().filter(|line| line.file == file && !is_wanted(line)) {
            self.runtime.delete_entry(&self.balancer.list, line).await?;
        }
        self.files.write_certificate(hostname, &bundle)?;
        self.files.write_entry(&entry)?;
        self.bound(&entry).await
    }

    async fn written(&self) -> Result<Vec<WrittenFile>, EdgeError> {
        self.files.written()
    }

    fn configuration(&self) -> Option<String> {
        let (list, socket) = (self.balancer.list.display(), self.balancer.socket.display());
        let bind = |address: &std::net::IpAddr| {
            format!(
                "    bind {} ssl strict-sni crt-list {list}\n",
                std::net::SocketAddr::new(*address, self.balancer.port)
            )
        };
        let binds: String = self.balancer.addresses.iter().map(bind).collect();
        Some(format!(
            "global\n    stats socket {socket} mode 600 level admin\n\nfrontend {}\n    mode http\n{binds}    default_backend SERVERS\n",
            self.name
        ))
    }

    async fn unready(&self) -> Vec<Unready> {
        let folders = [Some(self.balancer.folder.as_path()), self.balancer.list.parent()].into_iter().flatten();
        let mut unready: Vec<Unready> = folders.filter_map(local::unwritable).collect();
        unready.dedup();
        if matches!(self.files.entries(), Err(EdgeError::Foreign { .. })) {
            unready.push(Unready::Foreign { path: self.balancer.list.clone() });
        }
        unready
    }

    async fn servers(&self) -> Result<Vec<ServerState>, EdgeError> {
        self.runtime.servers().await
    }

    async fn delete_binding(
        &self,
        _endpoint: &str,
        hostname: &Hostname,
        known: &BoundHostname,
    ) -> Result<(), EdgeError> {
        let _turn = self.changing.lock().await;
        let Some(present) = self.files.entry(hostname)? else { return Ok(()) };
        require_unchanged(Some(known), Some(present.digest()), hostname)?;
        let file: PathBuf = self.files.certificate_file(hostname);
        for line in self.runtime.entries(&self.balancer.list).await?.iter().filter(|line| line.file == file) {
            self.runtime.delete_entry(&self.balancer.list, line).await?;
        }
        self.runtime.delete_certificate(&file).await?;
        self.files.remove(hostname)
    }
}
