//! `pindrel cert`

mod export;
mod import;
mod list;
mod renew;
mod request;
mod revoke;
mod show;

use std::path::{Path, PathBuf};

use clap::Subcommand;
use pindrel_core::desired::{CertificateId, Desired};
use pindrel_core::values::SecretRef;
use pindrel_engine::{Engine, LooseFile, machine, secrets};
use secrecy::SecretString;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;

pub(crate) use import::{LooseFilesArgs, import_files};
pub(crate) use list::{ListArgs, list};
pub(crate) use renew::renew;

/// The longest file of a certificate that is read.
const MAX_FILE_BYTES: u64 = 1 << 20;

/// Look after certificates: list, show, request, import, export, renew, revoke
#[derive(Debug, Subcommand)]
pub(crate) enum CertCommand {
    List(list::ListArgs),
    Show(show::ShowArgs),
    Request(request::RequestArgs),
    Import(import::ImportArgs),
    Export(export::ExportArgs),
    Renew(renew::RenewArgs),
    Revoke(revoke::RevokeArgs),
}

pub(crate) async fn run(context: &Context, command: &CertCommand) -> Result<Status, CliError> {
    match command {
        CertCommand::List(args) => list::list(context, args).await,
        CertCommand::Show(args) => show::run(context, args).await,
        CertCommand::Request(args) => request::run(context, args).await,
        CertCommand::Import(args) => import::run(context, args).await,
        CertCommand::Export(args) => export::run(context, args).await,
        CertCommand::Renew(args) => renew::run(context, args).await,
        CertCommand::Revoke(args) => revoke::run(context, args).await,
    }
}

/// Finds a certificate by its name in the manifest, or by a hostname that uses it.
pub(crate) fn named(desired: &Desired, name: &str) -> Result<CertificateId, CliError> {
    find(desired, name).ok_or_else(|| {
        let hostnames = desired.hostnames.iter().map(|wanted| wanted.hostname.as_str());
        let certificates = desired.certificates.iter().map(|wanted| wanted.name.as_str());
        let says = format!("the manifest has no certificate and no hostname \"{name}\"");
        names::unknown(says, name, certificates.chain(hostnames), "pindrel cert list")
    })
}

/// The same among all that are kept: the name of one that the manifest no longer names is its
/// own.
async fn kept(engine: &Engine, name: &str) -> Result<String, CliError> {
    if find(engine.desired(), name).is_none() && engine.certificates.keeps(name).await? {
        return Ok(name.to_owned());
    }
    named(engine.desired(), name).map(|id| engine.desired().certificate(id).name.clone())
}

fn find(desired: &Desired, name: &str) -> Option<CertificateId> {
    let by_hostname = || {
        let used = desired.hostnames.iter().find(|wanted| names::matches(&wanted.hostname, name));
        used.map(|wanted| wanted.certificate)
    };
    desired.certificate_named(name).or_else(by_hostname)
}

/// Reads the files of a certificate.
fn read_files(paths: &[PathBuf]) -> Result<Vec<LooseFile>, CliError> {
    let read = |path: &PathBuf| {
        let failed = |error: std::io::Error| CliError::file(path, "read", &error);
        let bytes = machine::read_at_most(path, MAX_FILE_BYTES).map_err(failed)?;
        Ok(LooseFile { name: path.display().to_string(), bytes: bytes.to_vec() })
    };
    paths.iter().map(read).collect()
}

/// Reads a password from where an option says it is.
fn read_password(reference: Option<&SecretRef>) -> Result<Option<SecretString>, CliError> {
    let read = |reference: &SecretRef| {
        secrets::read(reference, Path::new("")).map_err(|why| CliError::Usage {
            says: format!("the password at {reference} cannot be read: {why}"),
            remedy: "Give env:NAME of a variable that is set, or file:PATH of a file that exists".into(),
        })
    };
    reference.map(read).transpose()
}

/// Reads where a secret is; the text itself is never repeated.
pub(crate) fn secret_place(text: &str) -> Result<SecretRef, String> {
    text.parse().map_err(|_| "say where it is, as env:NAME or file:PATH, not what it is".to_owned())
}
