//! Certificates: what is held, and whether it is where it should be.

use std::fs::Metadata;
use std::net::SocketAddr;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::Path;
use std::sync::Arc;

use futures::future::join_all;
use pindrel_core::certificates::delivery::{Command, Contents, Delivery, Piece, Undelivered};
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::facts::ServedView;
use pindrel_core::judging::findings::{CertificateCause, FileFault, Finding, MachineCause};
use pindrel_keys::bundle::{Bundle, LooseFile};
use pindrel_keys::{CertificateKey, Chain, pem};
use pindrel_machine::{Program, may_write, not_a_file};
use pindrel_state::CertificateRow;
use secrecy::{ExposeSecret as _, SecretString};
use zeroize::Zeroizing;

use crate::context::Context;
use crate::failure::{secret_unreadable, state_failed};
use crate::home::keys::SealedKeys;
use crate::observe::answer::unreachable;

/// The longest file that is read to see whether it holds a certificate.
const MAX_FILE_BYTES: u64 = 1 << 20;

/// Looks whether certificates are where they are delivered to.
pub(crate) struct DeliveryObserver {
    pub(crate) context: Arc<Context>,
    pub(crate) keys: Arc<SealedKeys>,
}

impl DeliveryObserver {
    /// Looks which files do not hold a certificate, and which commands have not succeeded
    /// since.
    pub(crate) async fn undelivered(&self, id: CertificateId, row: &CertificateRow) -> Result<Undelivered, Finding> {
        let terms = &self.context.desired.certificate(id).terms;
        let mut undelivered = Undelivered::default();
        if !terms.is_delivered() {
            return Ok(undelivered);
        }
        let (chain, key) = self.keys.chain_and_key(row)?;
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
        let wanted = self.context.desired.certificate(id);
        let plain = wanted.names.iter().find(|name| !name.is_wildcard()).cloned();
        // For a wildcard any label does.
        let asked = plain.or_else(|| wanted.names.first().and_then(|name| name.probed_as("probe").ok()));
        let Some(asked) = asked else { return Vec::new() };
        let looks = wanted.terms.served_at.iter().map(|address| {
            let asked = &asked;
            async move {
                let served = match self.context.drivers.probe().served_certificate(*address, asked).await {
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
        let runs = self.context.state.command_runs(&row.name).await.map_err(state_failed)?;
        let open = self.context.desired.certificate(id).terms.after.iter().filter_map(|command| {
            let shown = command.to_string();
            let last = runs.iter().find(|run| run.command == shown && run.sha256 == row.held.sha256);
            let succeeded = last.is_some_and(|run| run.succeeded);
            (!succeeded).then(|| (command, last.and_then(|run| run.says.clone())))
        });
        Ok(open.collect())
    }

    /// Returns why a certificate could not be delivered, as far as that can be known before there is one.
    pub(crate) fn obstacles(&self, id: CertificateId) -> Vec<Finding> {
        let wanted = self.context.desired.certificate(id);
        let files = wanted.terms.deliveries.iter().filter_map(|delivery| self.obstacle(delivery));
        let is_missing = |command: &&Command| {
            !Program { folder: Some(&self.context.folder), ..Program::command(&command.run, command.within) }.is_there()
        };
        let missing = wanted.terms.after.iter().filter(is_missing).map(|command| {
            Finding::certificate(wanted, CertificateCause::ProgramMissing { command: command.to_string() })
        });
        files.chain(missing).collect()
    }

    fn obstacle(&self, delivery: &Delivery) -> Option<Finding> {
        let path = self.context.folder.join(&delivery.file);
        if let Some(what) = not_a_file(&path) {
            return Some(file_finding(delivery, FileFault::NotAFile(what.to_owned())));
        }
        let folder = path.parent().unwrap_or(&path);
        let fault = match folder {
            folder if !folder.is_dir() => FileFault::FolderMissing { folder: folder.to_owned() },
            folder if !may_write(folder) => {
                let why = format!("this user may not write in {}", folder.display());
                FileFault::Unwritable { why, exported: false }
            }
            _ => return owner_id(delivery).and(group_id(delivery)).err(),
        };
        Some(file_finding(delivery, fault))
    }

    /// Says whether a file contains just what is to be delivered to it.
    pub(crate) fn contains(&self, delivery: &Delivery, chain: &Chain, key: &CertificateKey) -> Result<bool, Finding> {
        let path = self.context.folder.join(&delivery.file);
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
                let password = self.password(delivery)?;
                let name = delivery.file.display().to_string();
                let files = [LooseFile { name, bytes: present.to_vec() }];
                let found = Bundle::assemble(&files, None, Some(&password), self.context.drivers.pkcs12()).ok();
                Ok(found.is_some_and(|found| {
                    found.chain.pem() == chain.pem()
                        && found.key.is_some_and(|own| own.public_key() == key.public_key())
                }))
            }
        }
    }

    pub(crate) fn password(&self, delivery: &Delivery) -> Result<SecretString, Finding> {
        let reference = delivery.password.as_ref().ok_or_else(|| file_finding(delivery, FileFault::NoPassword))?;
        self.context.drivers.secret(reference).map_err(|why| secret_unreadable(reference, &why))
    }
}

/// Reads a file with what is known of it; `None` where there is none, or a far too long one,
/// or something that is not a file: a pipe would be waited for.
fn read_bounded(path: &Path) -> Option<(Zeroizing<Vec<u8>>, Metadata)> {
    let (bytes, metadata) = pindrel_machine::read_with_metadata(path, MAX_FILE_BYTES).ok()?;
    metadata.is_file().then_some((bytes, metadata))
}

pub(crate) fn pem_of(pieces: &[Piece], chain: &Chain, key: &CertificateKey) -> Zeroizing<Vec<u8>> {
    let certificates = chain.certificates();
    let mut text = Zeroizing::new(Vec::new());
    for piece in pieces {
        match piece {
            Piece::Key => text.extend_from_slice(key.pem().expose_secret().as_bytes()),
            Piece::Leaf => text.extend_from_slice(pem::encode("CERTIFICATE", &certificates[0]).as_bytes()),
            Piece::Intermediates => certificates[1..]
                .iter()
                .for_each(|certificate| text.extend_from_slice(pem::encode("CERTIFICATE", certificate).as_bytes())),
        }
    }
    text
}

pub(crate) fn owner_id(delivery: &Delivery) -> Result<Option<u32>, Finding> {
    let Some(name) = &delivery.owner else { return Ok(None) };
    pindrel_machine::user_id(name).map(Some).ok_or_else(|| nobody(false, name, delivery))
}

pub(crate) fn group_id(delivery: &Delivery) -> Result<Option<u32>, Finding> {
    let Some(name) = &delivery.group else { return Ok(None) };
    pindrel_machine::group_id(name).map(Some).ok_or_else(|| nobody(true, name, delivery))
}

fn nobody(group: bool, name: &str, delivery: &Delivery) -> Finding {
    file_finding(delivery, FileFault::OwnerUnknown { group, name: name.to_owned() })
}

fn file_finding(delivery: &Delivery, why: FileFault) -> Finding {
    Finding::machine(MachineCause::File { path: delivery.file.clone(), why })
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
