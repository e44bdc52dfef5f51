//! Health: what is checked, what each result concludes, and what users suffer until it is acted on.
//!
//! ```text
//!  HealthCheck ──probe──▶ CheckResult ──Track──▶ Verdict ──combine──▶ Verdict ──▶ policy::decide
//!                              └──────▶ Slot, HistoryEntry (what is kept)
//! ```
//!
//! A check looks at one thing directly; a [`Combination`] looks at nothing and concludes from the
//! verdicts of others. Nothing here connects to anything or reads a clock.

mod combination;
mod forecast;
mod history;
mod outcome;
pub mod policy;
mod verdict;

use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use crate::desired::ids::{CertificateId, CheckId, EndpointId};
use crate::names::name::{DnsName, Hostname};

pub use combination::{Combination, Need};
pub use forecast::{Forecast, Warning, forecast};
pub use history::{
    HistoryEntry, Incident, Latencies, MOST_INCIDENTS, Slot, due_to_drop, due_to_widen, sparkline, widen,
};
pub use outcome::{CheckFailure, CheckResult, Measured, Phases};
pub use verdict::{CheckRecord, Failure, FailureRate, Thresholds, Track, Verdict};

/// One check of the manifest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HealthCheck {
    /// The name that lists and combinations call it by.
    pub name: String,
    /// What it looks at.
    pub what: Checked,
    /// How often, and how many results make a verdict.
    pub terms: CheckTerms,
}

impl HealthCheck {
    /// Returns the endpoint whose addresses it connects to.
    pub fn endpoint(&self) -> Option<EndpointId> {
        match &self.what {
            Checked::Endpoint { endpoint, .. } => Some(*endpoint),
            _ => None,
        }
    }

    /// Returns what it is combined from.
    pub fn combination(&self) -> Option<&Combination> {
        match &self.what {
            Checked::Combination(combination) => Some(combination),
            _ => None,
        }
    }

    /// Returns the kind of thing that it looks at, in a word.
    pub fn kind(&self) -> &'static str {
        match &self.what {
            Checked::Endpoint { .. } => "endpoint",
            Checked::Tcp(_) => "tcp",
            Checked::Tls(_) => "tls",
            Checked::Url(_) => "url",
            Checked::Dns { .. } => "dns",
            Checked::Program(_) => "program",
            Checked::Combination(_) => "combination",
        }
    }
}

/// What a check looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Checked {
    /// Each address of an endpoint, with one request.
    Endpoint {
        /// The endpoint.
        endpoint: EndpointId,
        /// The request; its port is the endpoint's where it says none.
        request: HttpRequest,
    },
    /// A TCP listener.
    Tcp(HostPort),
    /// A TLS listener and its certificate.
    Tls(TlsListener),
    /// A URL.
    Url(HttpRequest),
    /// A name server that must be authoritative for a name.
    Dns {
        /// The server.
        server: SocketAddr,
        /// The name, of which its SOA is asked for.
        name: DnsName,
    },
    /// A program that ends with 0 as long as all is well; at least one word.
    Program(Vec<String>),
    /// The verdicts of others.
    Combination(Combination),
}

/// A TLS listener and what its certificate must be like.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TlsListener {
    /// Where it listens.
    pub place: HostPort,
    /// The name that is sent as SNI and that the certificate must cover.
    pub name: Hostname,
    /// For how many days the certificate must still be valid.
    pub days_left: u32,
    /// Who must have issued it.
    pub trust: CheckTrust,
}

/// Whom a check trusts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckTrust {
    /// Whoever issues this certificate of the manifest.
    Issuer(CertificateId),
    /// The roots in a PEM file, else the public ones.
    Roots(Option<PathBuf>),
    /// Anyone: the certificate is not verified.
    Anyone,
}

/// A host and a port.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostPort {
    /// An address, or a name that the system resolves.
    pub host: Host,
    /// The port.
    pub port: u16,
}

/// Where a connection goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Host {
    /// An address.
    Address(IpAddr),
    /// A name that the system resolves.
    Name(DnsName),
}

impl fmt::Display for HostPort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.host {
            Host::Address(address) => SocketAddr::new(*address, self.port).fmt(f),
            Host::Name(name) => write!(f, "{name}:{}", self.port),
        }
    }
}

impl FromStr for HostPort {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if let Ok(address) = text.parse::<SocketAddr>() {
            return Ok(HostPort { host: Host::Address(address.ip()), port: address.port() });
        }
        let wrong = || format!("\"{text}\" is not a host and a port");
        let (host, port) = text.rsplit_once(':').ok_or_else(wrong)?;
        let port: u16 = port.parse().ok().filter(|port| *port > 0).ok_or_else(wrong)?;
        let name: DnsName = host.parse().map_err(|_| wrong())?;
        // What looks like an address and is none would be asked of a resolver.
        if name.as_str().starts_with("*.")
            || name.as_str().rsplit('.').next().is_some_and(|last| last.parse::<u32>().is_ok())
        {
            return Err(wrong());
        }
        Ok(HostPort { host: Host::Name(name), port })
    }
}

/// A request of a health check, to whoever it is made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HttpRequest {
    /// The name that is sent as SNI and `Host`.
    pub name: Hostname,
    /// What is sent, and what must come back.
    pub exchange: HttpExchange,
    /// Whom the certificate must come from.
    pub trust: CheckTrust,
}

/// What a health check sends, and what its response must be like.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HttpExchange {
    /// Whether TLS is spoken.
    pub is_tls: bool,
    /// The port, where it is not the endpoint's.
    pub port: Option<u16>,
    /// The path with its query.
    pub path: String,
    /// The method.
    pub method: CheckMethod,
    /// Further header fields that are sent.
    pub headers: Vec<(String, String)>,
    /// The body that is sent.
    pub send: Option<String>,
    /// The lowest and the highest status that is accepted.
    pub status: (u16, u16),
    /// A text that the response's body must contain.
    pub body: Option<String>,
    /// A header field that the response must have, with this value where one is named.
    pub header: Option<(String, Option<String>)>,
}

impl HttpExchange {
    /// Returns the port of its protocol (RFC 9110 §4.2).
    pub fn usual_port(&self) -> u16 {
        if self.is_tls { 443 } else { 80 }
    }
}

impl Default for HttpExchange {
    /// `GET /` over TLS, and any success.
    fn default() -> HttpExchange {
        HttpExchange {
            is_tls: true,
            port: None,
            path: "/".into(),
            method: CheckMethod::Get,
            headers: Vec::new(),
            send: None,
            status: (200, 299),
            body: None,
            header: None,
        }
    }
}

/// The method of a health check (RFC 9110 §9).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum CheckMethod {
    #[default]
    Get,
    Head,
    Options,
    Post,
}

impl CheckMethod {
    /// Returns the method as it is sent.
    pub fn as_str(self) -> &'static str {
        match self {
            CheckMethod::Get => "GET",
            CheckMethod::Head => "HEAD",
            CheckMethod::Options => "OPTIONS",
            CheckMethod::Post => "POST",
        }
    }
}

impl FromStr for CheckMethod {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all = [CheckMethod::Get, CheckMethod::Head, CheckMethod::Options, CheckMethod::Post];
        let found = all.into_iter().find(|method| method.as_str() == text);
        found.ok_or_else(|| format!("\"{text}\" is not a method that a health check may have"))
    }
}

/// How often a check is made, and how many results make a verdict.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CheckTerms {
    /// From the begin of one to the begin of the next.
    pub every: Duration,
    /// How long one may take.
    pub timeout: Duration,
    /// How many results in a row make a verdict.
    pub thresholds: Thresholds,
}

impl Default for CheckTerms {
    fn default() -> Self {
        CheckTerms {
            every: Duration::from_secs(20),
            timeout: Duration::from_secs(5),
            thresholds: Thresholds { down_after: 3, up_after: 2, rate: None },
        }
    }
}

/// Returns the verdict of a check as of now; a combination is followed to what it is made of.
///
/// `own` returns what the results of a check that looks at something have concluded.
pub fn verdict_of(checks: &[HealthCheck], id: CheckId, own: &impl Fn(CheckId) -> Verdict) -> Verdict {
    match checks[id.0 as usize].combination() {
        None => own(id),
        Some(combination) => combination.conclude(combination.of.iter().map(|member| verdict_of(checks, *member, own))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_an_address_or_a_name_with_a_port() {
        for text in ["127.0.0.1:5432", "[::1]:53", "db.larkfield.example:5432", "localhost:1"] {
            assert_eq!(text.parse::<HostPort>().map(|place| place.to_string()), Ok(text.to_owned()));
        }
        for text in ["", "5432", "db.larkfield.example", "db:0", "db:70000", "127.0.0:53", "*.x.example:1", "a b:1"] {
            assert!(text.parse::<HostPort>().is_err(), "{text}");
        }
    }
}
