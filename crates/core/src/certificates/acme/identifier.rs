//! The identifiers that orders, authorizations and problems are about (RFC 8555 §9.7.7).

use serde::{Deserialize, Serialize};

use crate::names::name::Hostname;

/// What is to be certified (RFC 8555 §9.7.7).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identifier {
    /// The kind; `dns` here.
    #[serde(rename = "type")]
    pub kind: String,
    /// The name.
    pub value: String,
}

impl Identifier {
    /// Returns the identifier of a hostname.
    pub fn dns(hostname: &Hostname) -> Identifier {
        Identifier { kind: "dns".into(), value: hostname.as_str().into() }
    }
}
