//! What came of one check.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::judging::facts::{Unreachable, Untrusted};

/// One result with the time that each part of it took.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Measured {
    /// How long the parts took, as far as it got.
    pub phases: Phases,
    /// What came of it.
    pub result: CheckResult,
}

/// How long the parts of a check took; each from the end of the one before.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Phases {
    /// Until a TCP connection was there; for a program, until it had ended; for a DNS server, until it had
    /// answered.
    pub connect: Option<Duration>,
    /// Until TLS was there.
    pub tls: Option<Duration>,
    /// From the request to the first byte of the response.
    pub first_byte: Option<Duration>,
}

impl Phases {
    /// Returns how long it took in all.
    pub fn total(&self) -> Duration {
        [self.connect, self.tls, self.first_byte].into_iter().flatten().sum()
    }
}

/// What came of a check.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CheckResult {
    /// All is well.
    Passed,
    /// It is not.
    Failed(CheckFailure),
    /// It cannot be made from here, so nothing is known.
    Impossible(Unreachable),
}

/// Why a check failed: each way to fail is its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[serde(rename_all = "snake_case", tag = "kind")]
pub enum CheckFailure {
    /// No TCP connection.
    #[error("it cannot be connected to: {why}")]
    NotConnected {
        /// Why.
        why: Unreachable,
    },
    /// No TLS, for a reason that is not the certificate.
    #[error("{}", no_tls(.why))]
    NoTls {
        /// Why.
        why: Unreachable,
    },
    /// Its certificate does not verify.
    #[error("its certificate is not accepted: {why}")]
    Certificate {
        /// Why.
        why: Untrusted,
    },
    /// Its certificate ends soon.
    #[error("its certificate ends in {days} days, and should be valid for at least {least}")]
    CertificateEnds {
        /// The days that are left.
        days: i64,
        /// The least.
        least: u32,
    },
    /// It was connected to, and sent no response.
    #[error("it accepted the connection and sent no response: {why}")]
    NoResponse {
        /// Why.
        why: Unreachable,
    },
    /// Another status than expected.
    #[error("it returned status {status}, not {}", range(*.low, *.high))]
    Status {
        /// What came.
        status: u16,
        /// The lowest that is accepted.
        low: u16,
        /// The highest that is accepted.
        high: u16,
    },
    /// The body lacks a text.
    #[error("its response (status {status}) does not contain the text \"{text}\"")]
    TextMissing {
        /// The status that came.
        status: u16,
        /// The text.
        text: String,
    },
    /// The response lacks a header field.
    #[error("its response (status {status}) lacks the header {header}")]
    HeaderMissing {
        /// The status that came.
        status: u16,
        /// The field, with its value where one is expected.
        header: String,
    },
    /// A name server returned another code than NOERROR.
    #[error("it returned {code} for {name}")]
    DnsCode {
        /// The code, as in `REFUSED`.
        code: String,
        /// The name that was asked for.
        name: String,
    },
    /// A name server is not authoritative.
    #[error("it is not authoritative for {name}")]
    NotAuthoritative {
        /// The name that was asked for.
        name: String,
    },
    /// A program failed.
    #[error("the program failed: {how}")]
    Program {
        /// How, as in "exit status 1".
        how: String,
    },
    /// Its name has no address.
    #[error("{name} has no address: {why}")]
    NoAddress {
        /// The name.
        name: String,
        /// Why.
        why: String,
    },
}

impl CheckFailure {
    /// Returns the stable word of its kind.
    pub fn code(&self) -> &'static str {
        match self {
            CheckFailure::NotConnected { why: Unreachable::Refused } => "connection-refused",
            CheckFailure::NotConnected { why: Unreachable::TimedOut { .. } } => "connect-timeout",
            CheckFailure::NotConnected { .. } => "not-connected",
            CheckFailure::NoTls { .. } => "tls-failed",
            CheckFailure::Certificate { .. } => "certificate-refused",
            CheckFailure::CertificateEnds { .. } => "certificate-ends",
            CheckFailure::NoResponse { why: Unreachable::TimedOut { .. } } => "response-timeout",
            CheckFailure::NoResponse { .. } => "no-response",
            CheckFailure::Status { .. } => "status-differs",
            CheckFailure::TextMissing { .. } => "text-missing",
            CheckFailure::HeaderMissing { .. } => "header-missing",
            CheckFailure::DnsCode { .. } => "dns-refused",
            CheckFailure::NotAuthoritative { .. } => "not-authoritative",
            CheckFailure::Program { .. } => "program-failed",
            CheckFailure::NoAddress { .. } => "no-address",
        }
    }
}

fn no_tls(why: &Unreachable) -> String {
    match why {
        Unreachable::Tls { .. } => why.to_string(),
        other => format!("the TLS handshake failed: {other}"),
    }
}

fn range(low: u16, high: u16) -> String {
    if low == high { low.to_string() } else { format!("{low} to {high}") }
}
