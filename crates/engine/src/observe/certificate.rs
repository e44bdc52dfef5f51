//! Certificates: what is held, and whether it is where it should be.

use std::fs::Metadata;
use std::net::SocketAddr;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;

use futures::future::join_all;
use pindrel_core::certificates::delivery::{Command, Contents, Delivery, Undelivered};
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::ServedView;
use pindrel_core::judging::findings::Finding;
use pindrel_keys::bundle::{Bundle, LooseFile};
use pindrel_keys::{CertificateKey, Chain};
use pindrel_state::CertificateRow;
use zeroize::Zeroizing;

use crate::execute::deliver::{group_id, owner_id, pem_of};
use crate::failure::{EngineError, state_failed};
use crate::observe::binding::unreachable;
use crate::run::Engine;

/// The longest file that is read to see whether it holds a certificate.
const MAX_FILE_BYTES: u64 = 1 << 20;

impl Engine {
    /// Loads from the state, once a run, what is known of a certificate.
    pub(crate) async fn load_certificate(&self, id: CertificateId) -> Result<(), EngineError> {
        let known = self.known().certificates.contains_key(&id);
        if known {
            return Ok(());
        }
        match self.state.certificate(&self.desired.certificate(id).name).await? {
            None => {
                self.known().certificates.insert(id, None);
            }
            Some(row) => self.know_certificate(id, row).await,
        }
        Ok(())
    }

    /// Notes a certificate as the present one, and whether it is delivered.
    pub(crate) async fn know_certificate(&self, id: CertificateId, row: CertificateRow) {
        let undelivered = self.observe_undelivered(id, &row).await;
        // Where that cannot be seen, the step that delivers fails, and says why.
        let undelivered =
            undelivered.unwrap_or_else(|finding| Undelivered { files: vec![finding.says], ..Undelivered::default() });
        let mut known = self.known();
        known.certificates.insert(id, Some(row.held));
        known.undelivered.insert(id, undelivered);
    }

    /// Looks which files do not hold a certificate, and which commands have not succeeded
    /// since.
    pub(crate) async fn observe_undelivered(
        &self,
        id: CertificateId,
        row: &CertificateRow,
    ) -> Result<Undelivered, Finding> {
        let terms = &self.desired.certificate(id).terms;
        let mut undelivered = Undelivered::default();
        if !terms.is_delivered() {
            return Ok(undelivered);
        }
        let (chain, key) = self.chain_and_key(row)?;
        for delivery in &terms.deliveries {
            if !self.contains(delivery, &chain, &key)? {
                undelivered.files.push(delivery.file.display().to_string());
            }
        }
        let open = self.open_commands(id, row).await?;
        undelivered.commands = open.into_iter().map(|(command, said)| (command.to_string(), said)).collect();
        if undelivered.is_empty() {
            undelivered.listeners = self.observe_listeners(id, row).await;
        }
        Ok(undelivered)
    }

    /// Connects to the listeners of a certificate; returns those that do not serve it.
    async fn observe_listeners(&self, id: CertificateId, row: &CertificateRow) -> Vec<(SocketAddr, ServedView)> {
        let wanted = self.desired.certificate(id);
        let plain = wanted.names.iter().find(|name| !name.is_wildcard()).cloned();
        // For a wildcard any label does.
        let asked = plain.or_else(|| wanted.names.first().and_then(|name| name.probed_as("probe").ok()));
        let Some(asked) = asked else { return Vec::new() };
        let looks = wanted.terms.served_at.iter().map(|address| {
            let asked = &asked;
            async move {
                let served = match self.drivers.probe().served_certificate(*address, asked).await {
                    Ok(sha256) => ServedView::certificate(sha256),
                    Err(error) => ServedView::Failed { address: Some(*address), why: unreachable(error) },
                };
                (*address, served)
            }
        });
        let is_wrong = |served: &ServedView| !matches!(served, ServedView::Certificate { sha256, .. } if *sha256 == row.held.sha256);
        join_all(looks).await.into_iter().filter(|(_, served)| is_wrong(served)).collect()
    }

    /// Returns the commands that have not succeeded since a certificate came, with what each
    /// said when it failed.
    pub(crate) async fn open_commands(
        &self,
        id: CertificateId,
        row: &CertificateRow,
    ) -> Result<Vec<(&Command, Option<String>)>, Finding> {
        let runs = self.state.command_runs(&row.name).await.map_err(state_failed)?;
        let open = self.desired.certificate(id).terms.after.iter().filter_map(|command| {
            let shown = command.to_string();
            let last = runs.iter().find(|run| run.command == shown && run.sha256 == row.held.sha256);
            let succeeded = last.is_some_and(|run| run.succeeded);
            (!succeeded).then(|| (command, last.and_then(|run| run.says.clone())))
        });
        Ok(open.collect())
    }

    /// Says whether a file contains just what is to be delivered to it.
    pub(crate) fn contains(&self, delivery: &Delivery, chain: &Chain, key: &CertificateKey) -> Result<bool, Finding> {
        let path = self.folder.join(&delivery.file);
        let Some((present, metadata)) = read_bounded(&path) else { return Ok(false) };
        let (owner, group) = (owner_id(delivery)?, group_id(delivery)?);
        let differs = metadata.permissions().mode() & 0o777 != delivery.mode.bits()
            || owner.is_some_and(|owner| owner != metadata.uid())
            || group.is_some_and(|group| group != metadata.gid());
        if differs {
            return Ok(false);
        }
        match &delivery.contents {
            Contents::Pem(pieces) => Ok(*present == *pem_of(pieces, chain, key)),
            Contents::Pkcs12 => {
                let password = self.delivery_password(delivery)?;
                let name = delivery.file.display().to_string();
                let files = [LooseFile { name, bytes: present.to_vec() }];
                let found = Bundle::assemble(&files, None, Some(&password), self.drivers.pkcs12()).ok();
                Ok(found.is_some_and(|found| {
                    found.chain.pem() == chain.pem()
                        && found.key.is_some_and(|own| own.public_key() == key.public_key())
                }))
            }
        }
    }
}

/// Reads a file with what is known of it; `None` where there is none, or a far too long one,
/// or something that is not a file: a pipe would be waited for.
pub(crate) fn read_bounded(path: &Path) -> Option<(Zeroizing<Vec<u8>>, Metadata)> {
    let (bytes, metadata) = pindrel_machine::read_with_metadata(path, MAX_FILE_BYTES).ok()?;
    metadata.is_file().then_some((bytes, metadata))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_file_or_far_too_long_contains_nothing() {
        let folder = tempfile::tempdir().unwrap();
        assert!(read_bounded(folder.path()).is_none(), "a folder");
        let huge = folder.path().join("huge");
        std::fs::File::create(&huge).unwrap().set_len(MAX_FILE_BYTES + 1).unwrap();
        assert!(read_bounded(&huge).is_none());
        let pipe = folder.path().join("pipe");
        nix::unistd::mkfifo(&pipe, nix::sys::stat::Mode::S_IRWXU).unwrap();
        assert!(read_bounded(&pipe).is_none(), "and nobody is waited for");
    }
}
