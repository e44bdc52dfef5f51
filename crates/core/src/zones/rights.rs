//! What a credential may do in a zone: too little for what the manifest wants, or more than it needs.

use std::collections::BTreeSet;
use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

use crate::names::name::DnsName;
use crate::zones::records::RecordType;

/// The right to change the records of one type at a name.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Right {
    /// The name.
    pub owner: DnsName,
    /// The type.
    pub record_type: RecordType,
}

/// What was found out about a credential, without changing anything with it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RightsView {
    /// The rights that were tried.
    pub tried: usize,
    /// Those that it lacks, with the response code of the server.
    pub lacking: Vec<(Right, String)>,
    /// What it may do that was not asked for.
    pub beyond: BTreeSet<Beyond>,
}

/// Something that a credential may do and Pindrel does not need.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum Beyond {
    /// It changes names that are none of the manifest's.
    AnyName,
    /// It changes records of these types at the apex: who serves the zone, who takes its mail.
    Apex(Vec<RecordType>),
    /// It changes this zone as well.
    Zone(DnsName),
    /// It changes every zone of its server, so many, and the server's settings.
    Server(usize),
    /// This server transfers the zone to whoever asks.
    Transfer(SocketAddr),
}
