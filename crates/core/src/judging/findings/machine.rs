//! What can be wrong on this machine, and with what Pindrel keeps there.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::words::Words;
use super::{Again, Code, Judged};
use crate::judging::pin::Pin;
use crate::names::name::Hostname;
use crate::text::display_text::shell_word;

/// What is wrong on this machine.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MachineCause {
    /// A secret that the manifest refers to cannot be used.
    SecretUnreadable {
        /// Where it is, as in `env:NAME`.
        place: String,
        /// Why.
        why: String,
        /// The pin that needs it.
        pin: Pin,
    },
    /// Roots that certificates are verified against cannot be used.
    RootsUnusable {
        /// Their file, where the manifest names one.
        path: Option<PathBuf>,
        /// Why.
        why: String,
    },
    /// A file with a certificate cannot be written.
    File {
        /// The file.
        path: PathBuf,
        /// Why not.
        why: FileFault,
    },
    /// A self-signed certificate cannot be trusted as its own root.
    SelfSignedUnusable {
        /// Why.
        why: String,
    },
    /// Another process is working on it.
    WorkedOnElsewhere {
        /// On what.
        key: String,
        /// Which process.
        worker: String,
    },
    /// Another process has changed what it wrote for a hostname.
    ChangedElsewhere {
        /// Of which hostname.
        hostname: Hostname,
    },
    /// The lease of something was not renewed in time.
    LeaseLost {
        /// Of what.
        key: String,
    },
    /// A fault of Pindrel's own.
    Internal {
        /// What happened.
        what: String,
    },
}

/// Why a file with a certificate cannot be written.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileFault {
    /// It cannot be written.
    Unwritable {
        /// Why, as the system says.
        why: String,
        /// Whether a person asked for it.
        exported: bool,
    },
    /// Its folder does not exist.
    FolderMissing {
        /// The folder.
        folder: PathBuf,
    },
    /// Something else stands there, as in `a link`.
    NotAFile(String),
    /// It should belong to somebody who does not exist.
    OwnerUnknown {
        /// Whether a group is meant; else a user.
        group: bool,
        /// The name.
        name: String,
    },
    /// It has no password in the manifest.
    NoPassword,
}

impl MachineCause {
    pub(super) fn judged(&self) -> Judged {
        match self {
            MachineCause::SecretUnreadable { pin, .. } => Judged::of(Code::SecretUnreadable).on(*pin),
            MachineCause::RootsUnusable { .. } => Judged::of(Code::SecretUnreadable),
            MachineCause::File { .. } => Judged::of(Code::DeliveryFailed),
            MachineCause::SelfSignedUnusable { .. } => Judged::of(Code::IssuedUnusable),
            MachineCause::WorkedOnElsewhere { .. } | MachineCause::ChangedElsewhere { .. } => {
                Judged::of(Code::WorkedOnElsewhere)
            }
            MachineCause::LeaseLost { .. } => Judged::of(Code::StateUnusable).again(Again::Now),
            MachineCause::Internal { .. } => Judged::of(Code::InternalFault),
        }
    }

    pub(super) fn words(&self) -> Words {
        match self {
            MachineCause::SecretUnreadable { place, why, .. } => Words::new(
                format!("the secret at {place} cannot be read: {why}"),
                "Put the secret where the manifest says",
            ),
            MachineCause::RootsUnusable { path: Some(path), why } => Words::new(
                format!("the roots in {} cannot be used: {why}", path.display()),
                "Put the PEM file of the roots where the manifest says",
            ),
            MachineCause::RootsUnusable { path: None, why } => Words::new(
                why.clone(),
                "Name issued_roots in the authority's or the certificate's table, or install the system's roots",
            ),
            MachineCause::File { path, why } => why.words(path.display()),
            MachineCause::SelfSignedUnusable { why } => Words::new(
                format!("the self-signed certificate cannot be used: {why}"),
                "Run settle: it makes another one",
            ),
            MachineCause::WorkedOnElsewhere { key, worker } => {
                Words::new(format!("{worker} is working on {key}"), "Wait until it has ended")
            }
            MachineCause::ChangedElsewhere { hostname } => Words::new(
                format!("another process has changed what it wrote for {hostname} just now"),
                "Look at what it did with pindrel status, then try again",
            ),
            MachineCause::LeaseLost { key } => Words::new(
                format!("the lease of {key} could not be renewed in time"),
                "Check that the database answers; a later run goes on",
            ),
            MachineCause::Internal { what } => Words::new(what.clone(), "Report this bug with the output of -vv"),
        }
    }
}

impl FileFault {
    fn words(&self, path: std::path::Display<'_>) -> Words {
        match self {
            FileFault::Unwritable { why, exported } => {
                let remedy = if *exported {
                    "Make sure that its folder exists and that this user may write there"
                } else {
                    "Make sure that its folder exists, that this user may write there, and that the disk is not full"
                };
                Words::new(format!("{path} cannot be written: {why}"), remedy)
            }
            FileFault::FolderMissing { folder } => {
                let folder = folder.display();
                Words::new(
                    format!("{path} cannot be written: there is no folder {folder}"),
                    format!("Make it: mkdir -p {}", shell_word(folder)),
                )
            }
            FileFault::NotAFile(what) => Words::new(
                format!("{path} is {what}, not a file, and is left alone"),
                "Name the file itself, or remove what stands in its place",
            ),
            FileFault::OwnerUnknown { group, name } => {
                let what = if *group { "group" } else { "user" };
                Words::new(
                    format!("{path} should belong to the {what} {name}, which does not exist"),
                    format!("Correct the {what} in the manifest, or create it"),
                )
            }
            FileFault::NoPassword => Words::new(format!("{path} has no password"), "Write password in its table"),
        }
    }
}
