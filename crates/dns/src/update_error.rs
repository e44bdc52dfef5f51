//! Why a dynamic update was not made.

use std::net::SocketAddr;

use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;

use crate::zone_error::ZoneError;

/// How far the clocks of both sides may differ, in seconds (RFC 8945 §10).
pub(crate) const FUDGE_SECS: u16 = 300;

/// Why a zone was not changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum UpdateError {
    /// The server could not be reached or read.
    #[error("{server} cannot be asked to update {zone}: {why}")]
    Unreachable {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// Why.
        why: Unreachable,
    },
    /// The server refused the update.
    #[error("{server} refuses to update {zone}: {code}")]
    Refused {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// The response code.
        code: String,
        /// What the code means here.
        meaning: &'static str,
    },
    /// The server does not know the key.
    #[error("{server} does not know the TSIG key {key}, or not for this zone or algorithm (BADKEY)")]
    UnknownKey {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The secret is another one.
    #[error("{server} has another secret for the TSIG key {key} (BADSIG)")]
    WrongSecret {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The clocks differ too much.
    #[error(
        "the clock of {server} differs from this machine's by {skew_secs} s, and TSIG allows {FUDGE_SECS} s (BADTIME)"
    )]
    WrongTime {
        /// The server.
        server: SocketAddr,
        /// By how much the server is ahead.
        skew_secs: i64,
    },
    /// Something changed between looking and updating.
    #[error("the records of {owner} on {server} were changed by someone else in the meantime ({code})")]
    Changed {
        /// The server.
        server: SocketAddr,
        /// The name.
        owner: DnsName,
        /// The response code.
        code: String,
    },
    /// The answer is not signed as it should be.
    #[error("the response of {server} is not signed with the TSIG key {key}")]
    Unsigned {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The server said that all is well, and nothing changed.
    #[error("{server} accepted an update of {owner} but does not return the new records: it returned {has}")]
    WithoutEffect {
        /// The server.
        server: SocketAddr,
        /// The name.
        owner: DnsName,
        /// What it has instead.
        has: String,
    },
    /// The name is handed over to other servers.
    #[error("{owner} is not changed in {zone}: {cut} is delegated to other servers")]
    Delegated {
        /// The zone.
        zone: DnsName,
        /// The name.
        owner: DnsName,
        /// Where the other servers' zone begins.
        cut: DnsName,
    },
    /// The name lies below a DNAME.
    #[error("{owner} is not changed in {zone}: the DNAME record of {dname} leads all below it elsewhere")]
    Redirected {
        /// The zone.
        zone: DnsName,
        /// The name.
        owner: DnsName,
        /// Where the DNAME record stands.
        dname: DnsName,
    },
    /// The key cannot be used.
    #[error("the secret of the TSIG key {0} cannot be used")]
    BadKey(DnsName),
}

impl UpdateError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            UpdateError::Unreachable { server, .. } => {
                format!("Start {server}, or allow UDP and TCP from this host to it")
            }
            UpdateError::Refused { meaning, .. } => (*meaning).into(),
            UpdateError::UnknownKey { key, .. } => {
                format!(
                    "Configure the key {key} on the server for this zone, with the algorithm of the manifest, or correct tsig.name"
                )
            }
            UpdateError::WrongSecret { key, .. } => format!("Use the same secret for {key} here and on the server"),
            UpdateError::WrongTime { .. } => "Synchronise both clocks".into(),
            UpdateError::Changed { .. } => "Run settle: it looks again before it changes anything".into(),
            UpdateError::Unsigned { .. } => {
                "Check whether a middlebox between here and the server changes DNS messages".into()
            }
            UpdateError::WithoutEffect { .. } => "Check the server's log for why it ignored the update".into(),
            UpdateError::Delegated { cut, .. } => format!("Add [zone.\"{cut}\"] to the manifest, with its own servers"),
            UpdateError::Redirected { dname, .. } => {
                format!("Delete the DNAME record of {dname} once nobody needs it, or choose a name outside {dname}")
            }
            UpdateError::BadKey(key) => {
                format!("Put the base64 secret of {key}, and nothing else, where the manifest says")
            }
        }
    }
}

impl From<UpdateError> for ZoneError {
    fn from(error: UpdateError) -> ZoneError {
        let (says, remedy) = (error.to_string(), error.remedy());
        match error {
            UpdateError::Unreachable { .. } => ZoneError::Unreachable { says, remedy },
            UpdateError::Changed { .. } => ZoneError::Changed { says, remedy },
            UpdateError::WithoutEffect { .. } => ZoneError::WithoutEffect { says, remedy },
            UpdateError::Refused { .. } | UpdateError::Delegated { .. } | UpdateError::Redirected { .. } => {
                ZoneError::Refused { says, remedy }
            }
            UpdateError::UnknownKey { .. }
            | UpdateError::WrongSecret { .. }
            | UpdateError::WrongTime { .. }
            | UpdateError::Unsigned { .. }
            | UpdateError::BadKey(_) => ZoneError::Credential { says, remedy },
        }
    }
}
