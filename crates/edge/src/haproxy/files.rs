//! The files that a balancer reads at its next start.

use std::path::PathBuf;

use pindrel_core::endpoints::endpoint::{Binding, TlsVersion};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject as _;
use secrecy::{ExposeSecret as _, SecretString};

use crate::owned_files::{self, WRITTEN_BY, base_name};
use crate::{EdgeError, WrittenFile};

/// How the line begins that holds a binding.
const BINDING: &str = "# binding ";
/// The folder of the store.
const STORE: &str = "store";

/// What is written for one hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Entry {
    pub(super) hostname: Hostname,
    pub(super) binding: Binding,
}

impl Entry {
    /// The options of its entry in the certificate list.
    pub(super) fn options(&self) -> String {
        let least = match self.binding.minimum_tls {
            TlsVersion::V1_2 => "TLSv1.2",
            TlsVersion::V1_3 => "TLSv1.3",
        };
        format!("[ssl-min-ver {least}]")
    }

    /// What tells it from another one.
    pub(super) fn digest(&self) -> String {
        Fingerprint::of(self.written().as_bytes()).to_string()
    }

    fn written(&self) -> String {
        format!("{BINDING}{} {}\n", self.hostname, serde_json::to_string(&self.binding).unwrap_or_default())
    }
}

/// The folder and the certificate list.
pub(super) struct Files {
    pub(super) folder: PathBuf,
    pub(super) list: PathBuf,
}

impl Files {
    fn store_file(&self, sha256: Fingerprint) -> PathBuf {
        self.folder.join(STORE).join(format!("{sha256}.pem"))
    }

    /// The file that the certificate of a hostname is loaded from.
    pub(super) fn certificate_file(&self, hostname: &Hostname) -> PathBuf {
        self.folder.join(format!("{}.pem", base_name(hostname)))
    }

    pub(super) fn store(&self, sha256: Fingerprint, chain: &str, key: &SecretString) -> Result<(), EdgeError> {
        owned_files::make_folder(&self.folder, 0o700)?;
        owned_files::make_folder(&self.folder.join(STORE), 0o700)?;
        let bundle = SecretString::from(format!("{chain}{}", key.expose_secret()));
        owned_files::write(&self.store_file(sha256), bundle.expose_secret(), 0o600)
    }

    /// The chain with its key, out of the store.
    pub(super) fn bundle(&self, sha256: Fingerprint) -> Result<Option<SecretString>, EdgeError> {
        Ok(owned_files::read(&self.store_file(sha256))?.map(SecretString::from))
    }

    pub(super) fn stored(&self) -> Vec<Fingerprint> {
        let names = owned_files::names(&self.folder.join(STORE));
        names.iter().filter_map(|name| name.strip_suffix(".pem")?.parse().ok()).collect()
    }

    pub(super) fn remove_stored(&self, sha256: Fingerprint) -> Result<(), EdgeError> {
        owned_files::remove(&self.store_file(sha256))
    }

    /// Refuses to write over a hostname's file that somebody else made: one without an entry, whose contents no file of
    /// the store has.
    pub(super) fn require_own(&self, hostname: &Hostname) -> Result<(), EdgeError> {
        let path = self.certificate_file(hostname);
        let Some(text) = owned_files::read(&path)?.map(SecretString::from) else { return Ok(()) };
        let leaf = CertificateDer::from_pem_slice(text.expose_secret().as_bytes()).ok();
        let stored = leaf.map(|leaf| self.bundle(Fingerprint::of(&leaf))).transpose()?.flatten();
        let is_own = stored.is_some_and(|stored| stored.expose_secret() == text.expose_secret());
        if is_own { Ok(()) } else { Err(EdgeError::Foreign { path: path.display().to_string() }) }
    }

    pub(super) fn write_certificate(&self, hostname: &Hostname, bundle: &SecretString) -> Result<(), EdgeError> {
        owned_files::write(&self.certificate_file(hostname), bundle.expose_secret(), 0o600)
    }

    /// The serial number of a hostname's certificate, in upper-case hexadecimal.
    pub(super) fn serial(&self, hostname: &Hostname) -> Option<String> {
        let text = SecretString::from(owned_files::read(&self.certificate_file(hostname)).ok()??);
        let leaf = CertificateDer::from_pem_slice(text.expose_secret().as_bytes()).ok()?;
        let (_, leaf) = x509_parser::parse_x509_certificate(&leaf).ok()?;
        let serial = leaf.raw_serial();
        // The balancer leaves out the sign byte.
        let plain = if serial.len() > 1 && serial[0] == 0 { &serial[1..] } else { serial };
        Some(plain.iter().map(|byte| format!("{byte:02X}")).collect())
    }

    /// Returns what is written for each hostname. A list that somebody else made is left alone.
    pub(super) fn entries(&self) -> Result<Vec<Entry>, EdgeError> {
        let Some(text) = owned_files::read(&self.list)? else { return Ok(Vec::new()) };
        if !(text.trim().is_empty() || text.starts_with(WRITTEN_BY)) {
            return Err(EdgeError::Foreign { path: self.list.display().to_string() });
        }
        let read = |line: &str| {
            let (hostname, binding) = line.strip_prefix(BINDING)?.split_once(' ')?;
            Some(Entry { hostname: hostname.parse().ok()?, binding: serde_json::from_str(binding).ok()? })
        };
        Ok(text.lines().filter_map(read).collect())
    }

    pub(super) fn entry(&self, hostname: &Hostname) -> Result<Option<Entry>, EdgeError> {
        Ok(self.entries()?.into_iter().find(|entry| entry.hostname == *hostname))
    }

    pub(super) fn write_entry(&self, entry: &Entry) -> Result<(), EdgeError> {
        let mut entries = self.entries()?;
        entries.retain(|own| own.hostname != entry.hostname);
        entries.push(entry.clone());
        self.write_entries(entries)
    }

    /// Removes what is written for a hostname.
    pub(super) fn remove(&self, hostname: &Hostname) -> Result<(), EdgeError> {
        let mut entries = self.entries()?;
        entries.retain(|own| own.hostname != *hostname);
        self.write_entries(entries)?;
        owned_files::remove(&self.certificate_file(hostname))
    }

    fn write_entries(&self, mut entries: Vec<Entry>) -> Result<(), EdgeError> {
        entries.sort_by(|left, right| left.hostname.as_str().cmp(right.hostname.as_str()));
        let mut text = String::from(WRITTEN_BY);
        for entry in &entries {
            let file = self.certificate_file(&entry.hostname);
            text.push_str(&entry.written());
            text.push_str(&format!("{} {} {}\n", file.display(), entry.options(), entry.hostname));
        }
        owned_files::write(&self.list, &text, 0o644)
    }

    pub(super) fn written(&self) -> Result<Vec<WrittenFile>, EdgeError> {
        let text = owned_files::read(&self.list)?;
        Ok(text.map(|text| WrittenFile { path: self.list.display().to_string(), text }).into_iter().collect())
    }
}
