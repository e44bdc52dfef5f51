//! A web server on this machine: files that its configuration includes, its configuration test, and its
//! reload.
//!
//! Each hostname has a file of its own, and the certificates stand in a folder beside. Many changes
//! are written in one go, with one test and one reload; where either fails, everything is put back,
//! and what was served before is served on. Files that Pindrel did not write are not touched.

mod configuration;

use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use pindrel_core::endpoints::endpoint::{
    Binding, Deployment, EndpointInfo, EndpointKind, Offers, PlatformReply, TlsVersion,
};
use pindrel_core::endpoints::unready::Unready;
use pindrel_core::endpoints::web_server::WebServer;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_machine::Program;
use secrecy::{ExposeSecret as _, SecretString};

use crate::{BoundHostname, EdgeError, Platform, StoreRemoval, StoredCertificate, WrittenFile};
use crate::{local, owned_files};
use configuration::Writer;

/// How long a change waits for others to go with it.
const GATHER: Duration = Duration::from_millis(40);
/// How long the configuration test and the reload may take.
const COMMAND: Duration = Duration::from_secs(60);
/// How much longer than reading its configuration the server takes to take it over.
const TAKE_OVER: Duration = Duration::from_millis(150);
/// The longest configuration that is looked through, in bytes.
const MOST_CONFIGURATION: usize = 64 << 20;
/// How long an address of the server may take to accept a connection.
const CONNECT: Duration = Duration::from_secs(2);
/// How many batches' ends are remembered for those that were in them.
const MOST_ENDS: usize = 16;
/// What is in force, by file.
const APPLIED: &str = ".applied";
/// The folder of certificates.
const CERTIFICATES: &str = "certificates";
/// The folder of what somebody adds to the server blocks of hostnames.
const OWN_LINES: &str = "own";

/// A web server that takes included files.
pub struct Nginx {
    /// The endpoint's name.
    name: String,
    kind: EndpointKind,
    server: WebServer,
    /// The folder, with the manifest's folder before it.
    folder: PathBuf,
    pending: Mutex<Batch>,
    /// Held while a batch is written, tested and loaded.
    applying: tokio::sync::Mutex<BTreeMap<u64, Result<(), EdgeError>>>,
}

/// Files by name with what they hold; `None` where there is to be none.
type Changes = BTreeMap<String, Option<String>>;

/// Changes that go together.
#[derive(Default)]
struct Batch {
    number: u64,
    changes: Changes,
}

/// The files that are there, with the digest of each.
fn digests(files: &Changes) -> impl Iterator<Item = (String, String)> {
    files.iter().filter_map(|(name, text)| Some((name.clone(), configuration::digest(text.as_ref()?))))
}

impl Nginx {
    /// Makes a driver for the web server of an endpoint; `folder` is where its included files are.
    pub fn new(name: &str, kind: EndpointKind, server: WebServer, folder: PathBuf) -> Nginx {
        let applying = tokio::sync::Mutex::default();
        Nginx { name: name.to_owned(), kind, server, folder, pending: Mutex::default(), applying }
    }

    fn writer(&self) -> Writer<'_> {
        Writer { endpoint: &self.name, kind: self.kind, server: &self.server, folder: &self.folder }
    }

    fn make_folders(&self) -> Result<(), EdgeError> {
        owned_files::make_folder(&self.folder, 0o755)?;
        owned_files::make_folder(&self.folder.join(OWN_LINES), 0o755)?;
        owned_files::make_folder(&self.folder.join(CERTIFICATES), 0o700)
    }

    fn read(&self, name: &str) -> Result<Option<String>, EdgeError> {
        owned_files::read(&self.folder.join(name))
    }

    fn write(&self, name: &str, text: &str, mode: u32) -> Result<(), EdgeError> {
        owned_files::write(&self.folder.join(name), text, mode)
    }

    fn remove(&self, name: &str) -> Result<(), EdgeError> {
        owned_files::remove(&self.folder.join(name))
    }

    /// Writes a file, or removes it.
    fn put(&self, name: &str, text: Option<&String>) -> Result<(), EdgeError> {
        text.map_or_else(|| self.remove(name), |text| self.write(name, text, 0o644))
    }

    /// The files that are in force, with the digest of each.
    fn applied(&self) -> HashMap<String, String> {
        let text = self.read(APPLIED).ok().flatten().unwrap_or_default();
        serde_json::from_str(&text).unwrap_or_default()
    }

    /// Changes files together with whatever else is to be changed now, and loads them.
    async fn apply(&self, changes: impl IntoIterator<Item = (String, Option<String>)>) -> Result<(), EdgeError> {
        let number = {
            let mut pending = self.pending.lock().unwrap_or_else(PoisonError::into_inner);
            pending.changes.extend(changes);
            pending.number
        };
        tokio::time::sleep(GATHER).await;
        let mut ends = self.applying.lock().await;
        if let Some(end) = ends.get(&number) {
            return end.clone();
        }
        let changes = {
            let mut pending = self.pending.lock().unwrap_or_else(PoisonError::into_inner);
            pending.number += 1;
            std::mem::take(&mut pending.changes)
        };
        let end = self.apply_batch(changes).await;
        ends.insert(number, end.clone());
        while ends.len() > MOST_ENDS {
            ends.pop_first();
        }
        end
    }

    async fn apply_batch(&self, mut changes: Changes) -> Result<(), EdgeError> {
        self.make_folders()?;
        changes.extend(self.shared_changes(&changes)?);
        let mut before = Changes::new();
        for name in changes.keys() {
            let present = self.read(name)?;
            if present.as_deref().is_some_and(|text| !configuration::is_own(text)) {
                return Err(self.foreign(name));
            }
            before.insert(name.clone(), present);
        }
        let applied = self.applied();
        let is_in_force = |(name, new): (&String, &Option<String>)| {
            let loaded = applied.get(name).cloned();
            before.get(name) == Some(new) && loaded == new.as_ref().map(|text| configuration::digest(text))
        };
        if changes.iter().all(is_in_force) {
            return Ok(());
        }
        let loaded = self.load(&changes, applied).await;
        if loaded.is_err() {
            self.put_back(&before).await;
        }
        loaded
    }

    /// What becomes of the files that hostnames share once some of theirs are changed.
    fn shared_changes(&self, changes: &Changes) -> Result<Changes, EdgeError> {
        let mut files: BTreeMap<String, String> = self.files()?.into_iter().collect();
        for (name, text) in changes {
            match text {
                Some(text) => files.insert(name.clone(), text.clone()),
                None => files.remove(name),
            };
        }
        let (shared, hostnames): (BTreeMap<_, _>, BTreeMap<_, _>) =
            files.into_iter().partition(|(name, _)| configuration::is_shared(name));
        let used: Vec<&str> = hostnames.values().filter_map(|text| configuration::endpoint_in(text)).collect();
        // What no hostname shares any longer: of an endpoint that had another name, or that had the folder to itself.
        let is_unused = |(name, text): (&String, &String)| {
            let is_former = configuration::FORMER_SHARED.contains(&name.as_str());
            let is_used = configuration::endpoint_in(text).is_some_and(|endpoint| used.contains(&endpoint));
            (configuration::is_own(text) && (is_former || !is_used)).then(|| (name.clone(), None))
        };
        let mut changed: Changes = shared.iter().filter_map(is_unused).collect();
        let writer = self.writer();
        let before = shared.get(&writer.services_file()).or(shared.get(configuration::FORMER_SHARED[0]));
        let before = before.map_or("", String::as_str);
        let leading = hostnames.values().map(String::as_str);
        let versions = hostnames.values().filter_map(|text| Some(configuration::binding_in(text)?.minimum_tls));
        let least = versions.min().unwrap_or(TlsVersion::V1_2);
        let new = writer.shared_files(least, before, leading);
        changed.extend(new.map(|(name, text)| (name, Some(text))));
        Ok(changed)
    }

    /// What a hostname's file is to hold.
    fn text_for(&self, hostname: &Hostname, binding: &Binding) -> Result<String, EdgeError> {
        let own = self.read(&configuration::own_file(hostname))?.map(|text| configuration::digest(&text));
        Ok(self.writer().hostname(hostname, binding, own.as_deref()))
    }

    /// Writes files, tests the configuration, and has it taken over.
    async fn load(&self, changes: &Changes, mut applied: HashMap<String, String>) -> Result<(), EdgeError> {
        // Until it is loaded, nobody may take it for in force.
        for name in changes.keys() {
            applied.remove(name);
        }
        self.note_applied(&applied)?;
        for (name, text) in changes {
            self.put(name, text.as_ref())?;
        }
        let begun = Instant::now();
        self.tell(&self.server.test).await?;
        let tested = begun.elapsed();
        self.tell(&self.server.reload).await?;
        // The reload is only asked for: until the configuration is read once more, connections are taken as
        // before, and whoever looked would see that.
        tokio::time::sleep(tested + TAKE_OVER).await;
        applied.extend(digests(changes));
        self.note_applied(&applied)
    }

    /// Says whether the server's configuration includes the folder, where it can be asked for all that it has: by `-T` in
    /// the place of `-t`.
    async fn is_included(&self) -> Option<bool> {
        let at = self.server.test.iter().position(|word| word == "-t")?;
        let mut words = self.server.test.clone();
        words[at] = "-T".into();
        let whole = Program { most: MOST_CONFIGURATION, ..Program::command(&words, COMMAND) };
        let whole = String::from_utf8_lossy(&whole.output().await.ok()?).into_owned();
        let folder = self.folder.to_string_lossy();
        let real = std::fs::canonicalize(&self.folder).unwrap_or_else(|_| self.folder.clone());
        let names_it = |line: &str| {
            let path = line
                .trim()
                .strip_prefix("include")
                .map(|path| path.trim().trim_end_matches(';').trim_matches(['"', '\'']));
            path.is_some_and(|path| {
                let parent = std::path::Path::new(path).parent().unwrap_or(std::path::Path::new(""));
                // A relative path is relative to a folder that only the server knows.
                parent.to_string_lossy() == folder || parent == real || (parent.is_relative() && real.ends_with(parent))
            })
        };
        Some(whole.lines().any(names_it))
    }

    async fn tell(&self, words: &[String]) -> Result<(), EdgeError> {
        let told = Program::command(words, COMMAND).run_for_message().await;
        told.map(drop).map_err(|says| EdgeError::Command { command: words.join(" "), says })
    }

    fn note_applied(&self, applied: &HashMap<String, String>) -> Result<(), EdgeError> {
        let sorted: BTreeMap<_, _> = applied.iter().collect();
        self.write(APPLIED, &serde_json::to_string(&sorted).unwrap_or_default(), 0o644)
    }

    /// Puts back what was there before, and has it taken over again where that can be done.
    async fn put_back(&self, before: &Changes) {
        let mut applied = self.applied();
        for (name, text) in before {
            if let Err(error) = self.put(name, text.as_ref()) {
                tracing::error!(%error, "a file could not be put back");
            }
        }
        if Program::command(&self.server.test, COMMAND).run_for_message().await.is_ok()
            && Program::command(&self.server.reload, COMMAND).run_for_message().await.is_ok()
        {
            applied.extend(digests(before));
            if let Err(error) = self.note_applied(&applied) {
                tracing::error!(%error, "what is in force could not be noted");
            }
        }
    }

    /// The file of a hostname, if it is Pindrel's.
    fn file_of(&self, hostname: &Hostname) -> Result<Option<String>, EdgeError> {
        let name = configuration::file_name(hostname);
        let Some(text) = self.read(&name)? else { return Ok(None) };
        if configuration::binding_in(&text).is_some() {
            return Ok(Some(text));
        }
        Err(self.foreign(&name))
    }

    fn foreign(&self, name: &str) -> EdgeError {
        EdgeError::Foreign { path: self.folder.join(name).display().to_string() }
    }

    fn bound(applied: &HashMap<String, String>, name: &str, text: &str) -> Option<BoundHostname> {
        let binding = configuration::binding_in(text)?;
        let loaded = applied.get(name).is_some_and(|digest| *digest == configuration::digest(text));
        let deployment = if loaded {
            Deployment::Deployed
        } else {
            Deployment::Failed { reason: "its file was changed, or not loaded yet".into() }
        };
        let (reply, etag) = (PlatformReply::default(), Some(configuration::digest(text)));
        Some(BoundHostname { binding, deployment, reply, etag })
    }

    /// The names of the files in the folder that Pindrel wrote for hostnames, with their text.
    fn files(&self) -> Result<Vec<(String, String)>, EdgeError> {
        let mut files = Vec::new();
        for name in owned_files::names(&self.folder).into_iter().filter(|name| name.ends_with(".conf")) {
            files.extend(self.read(&name)?.map(|text| (name, text)));
        }
        Ok(files)
    }

    /// The certificate of each binding.
    fn certificates_in_use(&self) -> Result<Vec<Fingerprint>, EdgeError> {
        let files = self.files()?;
        Ok(files.iter().filter_map(|(_, text)| configuration::binding_in(text)?.certificate).collect())
    }
}

#[async_trait]
impl Platform for Nginx {
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError> {
        let (server, addresses) = (&self.server, self.server.listen.iter().map(std::net::SocketAddr::ip).collect());
        let offers = Offers { client_certificates: true, ..Offers::default() };
        let default_name = server.default_name.as_ref();
        Ok(vec![local::endpoint(&self.name, self.kind, default_name, addresses, server.port(), offers)])
    }

    async fn unready(&self) -> Vec<Unready> {
        let mut unready: Vec<Unready> = local::unwritable(&self.folder).into_iter().collect();
        let command = &self.server.test;
        match Program::command(command, COMMAND).run_for_message().await {
            Err(says) => unready.push(Unready::TestFails { command: command.join(" "), says }),
            Ok(_) => unready.extend(self.is_included().await.filter(|is| !is).map(|_| {
                let folder = self.folder.clone();
                Unready::NotIncluded { folder }
            })),
        }
        if self.certificates_in_use().is_ok_and(|used| !used.is_empty()) {
            for address in &self.server.listen {
                let connected = tokio::time::timeout(CONNECT, tokio::net::TcpStream::connect(address)).await;
                if !matches!(connected, Ok(Ok(_))) {
                    unready.push(Unready::NotListening { address: *address });
                }
            }
        }
        unready
    }

    async fn written(&self) -> Result<Vec<WrittenFile>, EdgeError> {
        let own = self.files()?.into_iter().filter(|(_, text)| configuration::is_own(text));
        Ok(own.map(|(name, text)| WrittenFile { path: self.folder.join(name).display().to_string(), text }).collect())
    }

    async fn put_certificate(
        &self,
        _site: &str,
        sha256: Fingerprint,
        chain: &str,
        key: SecretString,
    ) -> Result<(), EdgeError> {
        self.make_folders()?;
        self.write(&format!("{CERTIFICATES}/{sha256}.key"), key.expose_secret(), 0o600)?;
        self.write(&format!("{CERTIFICATES}/{sha256}.pem"), chain, 0o644)
    }

    async fn put_trust_bundle(&self, _site: &str, sha256: Fingerprint, roots: &str) -> Result<(), EdgeError> {
        self.make_folders()?;
        self.write(&configuration::trust_bundle_file(sha256), roots, 0o644)
    }

    async fn certificates(&self, _site: &str) -> Result<Vec<StoredCertificate>, EdgeError> {
        let names = owned_files::names(&self.folder.join(CERTIFICATES));
        // Roots for client certificates have other endings, which are no fingerprints.
        let stored = names.iter().filter_map(|name| name.strip_suffix(".pem")?.parse().ok());
        Ok(local::stored(stored, self.certificates_in_use()?))
    }

    async fn delete_certificate(&self, _site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError> {
        if self.certificates_in_use()?.contains(&sha256) {
            return Ok(StoreRemoval::InUse);
        }
        for ending in ["pem", "key"] {
            self.remove(&format!("{CERTIFICATES}/{sha256}.{ending}"))?;
        }
        Ok(StoreRemoval::Gone)
    }

    async fn bindings(&self, _endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError> {
        let (files, applied) = (self.files()?, self.applied());
        let bound = files.iter().filter_map(|(name, text)| {
            let hostname = configuration::hostname_in(name)?;
            Some((hostname, Self::bound(&applied, name, text)?))
        });
        Ok(bound.collect())
    }

    async fn binding(&self, _endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError> {
        let Some(text) = self.file_of(hostname)? else { return Ok(None) };
        let name = configuration::file_name(hostname);
        let mut bound = Self::bound(&self.applied(), &name, &text);
        // What the manifest says of the server has changed since, or somebody has edited the file.
        if let Some(own) = &mut bound
            && self.text_for(hostname, &own.binding)? != text
        {
            own.deployment = Deployment::Failed { reason: "its file is not what the manifest says now".into() };
        }
        Ok(bound)
    }

    async fn put_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        let present = self.file_of(hostname)?;
        owned_files::require_unchanged(known, present.as_deref().map(configuration::digest), hostname)?;
        local::certificate_of(&self.name, binding)?;
        let text = self.text_for(hostname, binding)?;
        self.apply([(configuration::file_name(hostname), Some(text))]).await?;
        let bound = self.binding(endpoint, hostname).await?;
        bound.ok_or_else(|| EdgeError::Changed(hostname.clone()))
    }

    async fn delete_binding(
        &self,
        _endpoint: &str,
        hostname: &Hostname,
        known: &BoundHostname,
    ) -> Result<(), EdgeError> {
        let Some(present) = self.file_of(hostname)? else { return Ok(()) };
        owned_files::require_unchanged(Some(known), Some(configuration::digest(&present)), hostname)?;
        self.apply([(configuration::file_name(hostname), None)]).await
    }
}
