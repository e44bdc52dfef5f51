//! Why something could not be seen, as a value: the sentence is made where it is shown.

use std::io::ErrorKind;

use serde::{Deserialize, Serialize};

use crate::text::display_text::bounded_line;

/// The longest text of a library or a peer that is kept as a reason, in characters.
const LONGEST_DETAIL: usize = 300;

/// Why something could not be looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash, thiserror::Error)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Unreachable {
    /// The connection was refused.
    #[error("connection refused")]
    Refused,
    /// Nothing came back in time.
    #[error("timed out after {} s", *.after_ms as f64 / 1000.0)]
    TimedOut {
        /// How long was waited, in milliseconds.
        after_ms: u64,
    },
    /// The peer closed the connection.
    #[error("the connection was closed")]
    Closed,
    /// This machine has no route there, or lacks its address family.
    #[error("no route to it from this machine")]
    NoRoute,
    /// No address or server is known to ask.
    #[error("no address of it is known")]
    NoneKnown,
    /// TLS failed for a reason that is not the certificate.
    #[error("the TLS handshake failed: {detail}")]
    Tls {
        /// What the TLS library reported.
        detail: String,
    },
    /// The response does not read as its protocol says.
    #[error("its response cannot be read: {detail}")]
    Malformed {
        /// What is wrong with it.
        detail: String,
    },
    /// It answers with an error of its protocol.
    #[error("it returned {code}")]
    Code {
        /// The DNS response code, or the HTTP status with what was said.
        code: String,
    },
    /// A name server answers without authority.
    #[error("it is not authoritative")]
    NotAuthoritative,
    /// What is needed to ask cannot be used here: a secret, a file of roots.
    #[error("{detail}")]
    NotAsked {
        /// What cannot be used, and why.
        detail: String,
    },
    /// Anything else that the system reports.
    #[error("{detail}")]
    Other {
        /// The system's own words.
        detail: String,
    },
}

impl Unreachable {
    /// Returns that the TLS handshake failed, as the library says.
    pub fn tls(detail: impl Into<String>) -> Unreachable {
        Unreachable::Tls { detail: bounded_line(detail, LONGEST_DETAIL) }
    }

    /// Returns what an error of the operating system means; `detail` is its text.
    pub fn from_io(kind: ErrorKind, detail: impl Into<String>) -> Unreachable {
        match kind {
            ErrorKind::ConnectionRefused => Unreachable::Refused,
            ErrorKind::UnexpectedEof
            | ErrorKind::ConnectionReset
            | ErrorKind::ConnectionAborted
            | ErrorKind::BrokenPipe => Unreachable::Closed,
            ErrorKind::NetworkUnreachable | ErrorKind::HostUnreachable | ErrorKind::AddrNotAvailable => {
                Unreachable::NoRoute
            }
            // Some libraries put into it what the peer sent, such as all names of a certificate.
            _ => Unreachable::Other { detail: bounded_line(detail, LONGEST_DETAIL) },
        }
    }
}

/// What a name server answers that has no authority for the zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash, thiserror::Error)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Lameness {
    /// An answer without the AA bit (RFC 1035 §4.1.1), such as a referral.
    #[error("is not authoritative")]
    NotAuthoritative,
    /// A response code.
    #[error("returned {code}")]
    Code {
        /// The code, as in `REFUSED`.
        code: String,
    },
}

/// Why a resolver returns no address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash, thiserror::Error)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Unresolved {
    /// The name does not exist (NXDOMAIN).
    #[error("the name does not exist (NXDOMAIN)")]
    NoSuchName,
    /// The name has no address (NODATA, RFC 2308 §2.2).
    #[error("the name has no address (NODATA)")]
    NoAddress,
    /// Another response code.
    #[error("it returned {code}")]
    Code {
        /// The code, as in `SERVFAIL`.
        code: String,
    },
    /// The resolver does not answer.
    #[error("{why}")]
    Unreachable {
        /// Why.
        why: Unreachable,
    },
}

/// Why a client does not accept a certificate.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash, thiserror::Error)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Untrusted {
    /// It has expired.
    #[error("it has expired")]
    Expired,
    /// It is not valid yet.
    #[error("it is not valid yet")]
    NotYetValid,
    /// Its chain does not end at a root that is trusted here.
    #[error("its issuer is not trusted")]
    UnknownIssuer,
    /// It does not cover the name.
    #[error("it does not cover the name")]
    OtherName,
    /// It was revoked.
    #[error("it is revoked")]
    Revoked,
    /// It is an authority's.
    #[error("it is the certificate of an authority, not of a server")]
    OfAuthority,
    /// No roots to verify it against can be used here.
    #[error("{detail}")]
    NoRoots {
        /// What cannot be used, and why.
        detail: String,
    },
    /// Anything else that the TLS library reports.
    #[error("{detail}")]
    Other {
        /// The library's own words.
        detail: String,
    },
}
