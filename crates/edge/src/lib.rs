//! Endpoint platforms: the calls of the endpoint protocol (`docs/endpoint-protocol.md`).
//!
//! [`Platform`] is what the engine asks; [`HttpPlatform`] is the driver for platforms,
//! or adapters in front of them, that speak the protocol over HTTPS.

mod http;

pub use http::HttpPlatform;

use std::future::Future;
use std::pin::Pin;

use pindrel_core::endpoint::{Binding, Deployment, EndpointInfo};
use pindrel_core::name::Hostname;
use pindrel_core::values::Fingerprint;
use secrecy::SecretString;

/// Why a platform did not do what was asked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EdgeError {
    /// No response.
    #[error("{0}")]
    Unreachable(String),
    /// The token is not accepted (status 401 or 403).
    #[error("{url} answers status {status} to this token: {detail}")]
    Token {
        /// The platform.
        url: String,
        /// The status.
        status: u16,
        /// What it said.
        detail: String,
    },
    /// The platform refused for another reason.
    #[error("{url} refused {what} with status {status}: {detail}")]
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
    #[error("the binding of {0} was changed by somebody else while Pindrel was at work")]
    Changed(Hostname),
    /// A response that does not read as the protocol says.
    #[error("{url} does not answer as the endpoint protocol says: {why}")]
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
            EdgeError::Unreachable(_) => {
                "wait until the platform answers again, or correct its url, then run settle again"
            }
            EdgeError::Token { .. } => "put a valid token where the manifest says",
            EdgeError::Refused { .. } => "read what the platform says, correct it, then run settle again",
            EdgeError::Changed(_) => "run settle again: it looks anew before it changes anything",
            EdgeError::Malformed { .. } => "see whether the url is really that of an endpoint platform or its adapter",
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
    /// The version to name when changing it.
    pub etag: Option<String>,
}

/// A pending answer of a platform.
pub type Answer<'p, T> = Pin<Box<dyn Future<Output = Result<T, EdgeError>> + Send + 'p>>;

/// What the engine asks of an endpoint platform. All writes are idempotent.
pub trait Platform: Send + Sync {
    /// Lists all endpoints.
    fn endpoints(&self) -> Answer<'_, Vec<EndpointInfo>>;
    /// Puts a certificate with its key into a site's store.
    fn put_certificate<'p>(
        &'p self,
        site: &'p str,
        sha256: Fingerprint,
        chain: &'p str,
        key: SecretString,
    ) -> Answer<'p, ()>;
    /// Returns the binding of a hostname at an endpoint.
    fn binding<'p>(&'p self, endpoint: &'p str, hostname: &'p Hostname) -> Answer<'p, Option<BoundHostname>>;
    /// Makes or changes a binding; `known` is what was read before, and the platform
    /// refuses when it has something else by now.
    fn put_binding<'p>(
        &'p self,
        endpoint: &'p str,
        hostname: &'p Hostname,
        binding: &'p Binding,
        known: Option<&'p BoundHostname>,
    ) -> Answer<'p, BoundHostname>;
}
