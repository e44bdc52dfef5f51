//! What keeps a server on this machine from taking hostnames, before anything is written for it.

use std::fmt;
use std::net::SocketAddr;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// Why a server on this machine is not ready.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Unready {
    /// The test of its configuration, as it is now, fails.
    TestFails {
        /// The command.
        command: String,
        /// What it said.
        says: String,
    },
    /// Its configuration does not include the folder that is written.
    NotIncluded {
        /// The folder.
        folder: PathBuf,
    },
    /// This user may not write the folder.
    Unwritable {
        /// The folder, or the one above it that is there.
        folder: PathBuf,
    },
    /// A file that it is to be written is somebody else's.
    Foreign {
        /// The file.
        path: PathBuf,
    },
    /// Hostnames are bound there, and nothing listens.
    NotListening {
        /// The address.
        address: SocketAddr,
    },
}

impl Unready {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            Unready::TestFails { .. } => "Correct the server's configuration".into(),
            Unready::NotIncluded { folder } => {
                format!("Write into the http block of its configuration: include {}/*.conf;", folder.display())
            }
            Unready::Unwritable { folder } => {
                format!("Give the user that runs Pindrel the right to write {}", folder.display())
            }
            Unready::Foreign { path } => format!(
                "Name a list of Pindrel's own, beside {}: a balancer may load several; or empty that file",
                path.display()
            ),
            Unready::NotListening { .. } => "Start the server, or correct `listen`".into(),
        }
    }
}

/// In words, as the end of a sentence that begins with the endpoint.
impl fmt::Display for Unready {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Unready::TestFails { command, says } => write!(f, "`{command}` fails: {says}"),
            Unready::NotIncluded { folder } => {
                write!(f, "the server's configuration does not include {}", folder.display())
            }
            Unready::Unwritable { folder } => write!(f, "this user may not write {}", folder.display()),
            Unready::Foreign { path } => write!(f, "{} was not written by Pindrel", path.display()),
            Unready::NotListening { address } => {
                write!(f, "hostnames are bound there, and nothing listens at {address}: is the server running?")
            }
        }
    }
}
