//! Endpoint platforms: the calls of the endpoint protocol (`docs/endpoint-protocol.md`).
//!
//! [`Platform`] is what the engine asks; [`ProtocolPlatform`] is the driver for platforms,
//! or adapters in front of them, that speak the protocol over HTTPS or as a program.

mod haproxy;
#[cfg(feature = "hostile")]
pub mod hostile;
mod local;
mod nginx;
mod owned_files;
mod protocol;

pub use haproxy::Haproxy;
pub use nginx::Nginx;
pub use protocol::{AdapterProgram, ProtocolPlatform};

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::endpoints::endpoint::{Binding, Deployment, EndpointInfo, PlatformReply};
use pindrel_core::endpoints::unready::Unready;
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::judging::findings::{Code, Finding, Report};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use secrecy::SecretString;
use serde::{Deserialize, Serialize};

/// Why a platform did not do what was asked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EdgeError {
    /// No response.
    #[error("{url} cannot be reached: {why}")]
    Unreachable {
        /// The URL.
        url: String,
        /// Why.
        why: Unreachable,
    },
    /// The token is not accepted (status 401 or 403).
    #[error("{url} refused the token (status {status}): {detail}")]
    Token {
        /// The platform.
        url: String,
        /// The status.
        status: u16,
        /// What it said.
        detail: String,
    },
    /// The platform refused for another reason.
    #[error("{url} refused {what} (status {status}): {detail}")]
    Refused {
        /// The URL.
        url: String,
        /// What was asked for.
        what: &'static str,
        /// The status.
        status: u16,
        /// What it said.
        detail: String,
    },
    /// Somebody else changed the binding since it was read.
    #[error("the binding of {0} was changed by someone else in the meantime")]
    Changed(Hostname),
    /// A file of a server on this machine cannot be used.
    #[error("{path} cannot be {doing}: {why}")]
    File {
        /// The file.
        path: String,
        /// What was to be done with it.
        doing: &'static str,
        /// Why not.
        why: String,
    },
    /// A file of this name stands there that somebody else wrote.
    #[error("{path} was not written by Pindrel, and is not changed")]
    Foreign {
        /// The file.
        path: String,
    },
    /// A command of a server on this machine failed.
    #[error("the command `{command}` failed: {says}")]
    Command {
        /// The command.
        command: String,
        /// What it said.
        says: String,
    },
    /// A response that does not read as the protocol says.
    #[error("the response of {url} does not follow the endpoint protocol: {why}")]
    Malformed {
        /// The URL.
        url: String,
        /// What is wrong.
        why: String,
    },
}

impl EdgeError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> &'static str {
        match self {
            EdgeError::Unreachable { .. } => "Wait until the platform is reachable again, or correct its url",
            EdgeError::Token { .. } => "Put a valid token where the manifest says",
            EdgeError::Refused { .. } => "Correct what the platform reports",
            EdgeError::Changed(_) => "Run settle: it looks again before it changes anything",
            EdgeError::File { .. } => {
                "Make sure that this user may read and write there, and that the disk is not full"
            }
            EdgeError::Foreign { .. } => "Rename that file, or delete it: Pindrel writes one of that name",
            EdgeError::Command { .. } => "Correct what it names; what was served before is served on",
            EdgeError::Malformed { .. } => "Check that the url is that of an endpoint platform or its adapter",
        }
    }

    /// Returns the finding that it is.
    pub fn finding(&self) -> Finding {
        let code = match self {
            EdgeError::Unreachable { .. } | EdgeError::Malformed { .. } => Code::PlatformUnreachable,
            EdgeError::Token { .. }
            | EdgeError::Refused { .. }
            | EdgeError::File { .. }
            | EdgeError::Foreign { .. }
            | EdgeError::Command { .. } => Code::PlatformRefuses,
            EdgeError::Changed(_) => Code::BindingChanged,
        };
        Finding::reported(Report::new(code, self.to_string(), self.remedy()))
    }

    /// Returns why nothing could be looked at, as a fact.
    pub fn into_fact(self) -> Unreachable {
        match self {
            EdgeError::Unreachable { why, .. } => why,
            EdgeError::Token { status, detail, .. } | EdgeError::Refused { status, detail, .. } => {
                Unreachable::Code { code: format!("status {status}: {detail}") }
            }
            EdgeError::Changed(_) | EdgeError::File { .. } | EdgeError::Foreign { .. } | EdgeError::Command { .. } => {
                Unreachable::Other { detail: self.to_string() }
            }
            EdgeError::Malformed { why, .. } => Unreachable::Malformed { detail: why },
        }
    }
}

/// A binding as the platform has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BoundHostname {
    /// What it says.
    pub binding: Binding,
    /// How far it has got.
    pub deployment: Deployment,
    /// What else the platform says of it.
    pub reply: PlatformReply,
    /// The version to name when changing it.
    pub etag: Option<String>,
}

/// A certificate in a site's store.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoredCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The names it covers, where the platform says.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<Hostname>,
    /// Until when it is valid, where the platform says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// How many bindings use it, where the platform says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub used_by: Option<u64>,
}

/// What a token may do at its platform.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TokenScope {
    /// The ids of the endpoints where it may bind; all when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub endpoints: Option<Vec<String>>,
    /// What else it may do that this protocol has no call for, in the platform's words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub beyond: Vec<String>,
    /// Until when it is valid.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Timestamp>,
}

impl TokenScope {
    /// Returns what the token may do beyond the need, as the end of "the token …".
    pub fn beyond_need(&self) -> Option<String> {
        let everywhere = self.endpoints.is_none().then(|| "may bind at every endpoint of the platform".to_owned());
        let beyond = (!self.beyond.is_empty()).then(|| format!("may also {}", self.beyond.join(", ")));
        let all: Vec<String> = everywhere.into_iter().chain(beyond).collect();
        (!all.is_empty()).then(|| all.join(", and "))
    }
}

/// A file that was written for a server on this machine.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct WrittenFile {
    /// Its path.
    pub path: String,
    /// What it holds; no private key.
    pub text: String,
}

/// How a balancer sees one of the servers behind it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ServerState {
    /// The group that it belongs to.
    pub group: String,
    /// Its name.
    pub server: String,
    /// What the balancer says of it, in its own word.
    pub status: String,
    /// What its last check came to, in the balancer's words.
    pub last_check: Option<String>,
}

/// What came of deleting a certificate from a store.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StoreRemoval {
    /// It is no longer there.
    Gone,
    /// A binding uses it, so it stays.
    InUse,
}

/// What the engine asks of an endpoint platform. All writes are idempotent.
#[async_trait]
pub trait Platform: Send + Sync {
    /// Lists all endpoints.
    ///
    /// # Errors
    /// [`EdgeError`], here and in every other method.
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError>;
    /// Puts a certificate with its key into a site's store.
    async fn put_certificate(
        &self,
        site: &str,
        sha256: Fingerprint,
        chain: &str,
        key: SecretString,
    ) -> Result<(), EdgeError>;
    /// Puts roots for client certificates into a site's store: PEM, under the SHA-256 of its text.
    async fn put_trust_bundle(&self, site: &str, sha256: Fingerprint, roots: &str) -> Result<(), EdgeError>;
    /// Says what the token that is used may do, where the platform tells.
    async fn token_scope(&self) -> Result<Option<TokenScope>, EdgeError> {
        Ok(None)
    }
    /// Lists the certificates in a site's store.
    async fn certificates(&self, site: &str) -> Result<Vec<StoredCertificate>, EdgeError>;
    /// Deletes a certificate from a site's store, unless a binding uses it.
    async fn delete_certificate(&self, site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError>;
    /// Lists the hostnames that are bound at an endpoint, with their bindings.
    async fn bindings(&self, endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError>;
    /// Returns the binding of a hostname at an endpoint.
    async fn binding(&self, endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError>;
    /// Makes or changes a binding; `known` is what was read before, and the platform
    /// refuses when it has something else by now.
    async fn put_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError>;
    /// Returns what a server on this machine must have in its own configuration, where it is told the rest
    /// at run time.
    fn configuration(&self) -> Option<String> {
        None
    }
    /// Says what keeps a server on this machine from taking hostnames, before anything is written for it.
    async fn unready(&self) -> Vec<Unready> {
        Vec::new()
    }
    /// Returns how a balancer sees the servers behind it.
    async fn servers(&self) -> Result<Vec<ServerState>, EdgeError> {
        Ok(Vec::new())
    }
    /// Returns what was written for a server on this machine; nothing for a platform elsewhere.
    async fn written(&self) -> Result<Vec<WrittenFile>, EdgeError> {
        Ok(Vec::new())
    }
    /// Deletes the binding that was read; the platform refuses when it has something else by now. One
    /// that is gone is as good.
    async fn delete_binding(&self, endpoint: &str, hostname: &Hostname, known: &BoundHostname)
    -> Result<(), EdgeError>;
}
