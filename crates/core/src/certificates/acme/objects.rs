//! What an authority answers with (RFC 8555 §7.1).

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::identifier::Identifier;
use super::problem::Problem;
use crate::names::name::Hostname;

/// The directory: where everything is (RFC 8555 §7.1.1).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Directory {
    /// Gives nonces.
    pub new_nonce: String,
    /// Makes accounts.
    pub new_account: String,
    /// Makes orders.
    pub new_order: String,
    /// Takes revocations.
    pub revoke_cert: Option<String>,
    /// Takes key changes.
    pub key_change: Option<String>,
    /// Gives renewal information (RFC 9773 §3).
    pub renewal_info: Option<String>,
    /// More about the authority.
    #[serde(default)]
    pub meta: DirectoryMeta,
}

impl Directory {
    /// Returns every URL that it names.
    pub fn urls(&self) -> impl Iterator<Item = &str> {
        let needed = [&self.new_nonce, &self.new_account, &self.new_order];
        let further = [&self.revoke_cert, &self.key_change, &self.renewal_info];
        needed.into_iter().chain(further.into_iter().flatten()).map(String::as_str)
    }
}

/// More about an authority (RFC 8555 §9.7.6).
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct DirectoryMeta {
    /// Where its terms of service are.
    pub terms_of_service: Option<String>,
    /// Whether an account needs an external one.
    #[serde(default)]
    pub external_account_required: bool,
    /// The names by which CAA records call the authority.
    #[serde(default)]
    pub caa_identities: Vec<String>,
    /// The certificate profiles offered, each with a description or where to find one.
    #[serde(default)]
    pub profiles: BTreeMap<String, String>,
}

/// A page of an account's order list (RFC 8555 §7.1.2.1).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct OrderList {
    /// URLs of orders.
    pub orders: Vec<String>,
}

/// The states of an order (RFC 8555 §7.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum OrderStatus {
    Pending,
    Ready,
    Processing,
    Valid,
    Invalid,
}

/// An order (RFC 8555 §7.1.3).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Order {
    /// Its state.
    pub status: OrderStatus,
    /// The names.
    #[serde(default)]
    pub identifiers: Vec<Identifier>,
    /// URLs of the authorizations.
    #[serde(default)]
    pub authorizations: Vec<String>,
    /// Where the signing request goes.
    pub finalize: String,
    /// Where the certificate is, once valid.
    pub certificate: Option<String>,
    /// Why it is invalid.
    pub error: Option<Problem>,
    /// The certificate that it is to replace (RFC 9773 §5).
    pub replaces: Option<String>,
}

impl Order {
    /// Says whether the order is for exactly these names.
    pub fn is_for(&self, names: &[Hostname]) -> bool {
        let mut own: Vec<String> =
            self.identifiers.iter().map(|identifier| identifier.value.to_ascii_lowercase()).collect();
        let mut wanted: Vec<String> = names.iter().map(|name| name.as_str().to_owned()).collect();
        own.sort_unstable();
        wanted.sort_unstable();
        own == wanted
    }
}

/// The states of an authorization (RFC 8555 §7.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum AuthorizationStatus {
    Pending,
    Valid,
    Invalid,
    Deactivated,
    Expired,
    Revoked,
}

/// An authorization (RFC 8555 §7.1.4).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Authorization {
    /// The name, without the `*.` of a wildcard.
    pub identifier: Identifier,
    /// Its state.
    pub status: AuthorizationStatus,
    /// The ways to prove control.
    #[serde(default)]
    pub challenges: Vec<Challenge>,
    /// Whether it is for a wildcard.
    #[serde(default)]
    pub wildcard: bool,
}

/// The states of a challenge (RFC 8555 §7.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum ChallengeStatus {
    Pending,
    Processing,
    Valid,
    Invalid,
}

/// A challenge (RFC 8555 §7.1.5, §8).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Challenge {
    /// The kind, such as `dns-01`.
    #[serde(rename = "type")]
    pub kind: String,
    /// Where it is answered.
    pub url: String,
    /// Its state.
    pub status: ChallengeStatus,
    /// The token.
    #[serde(default)]
    pub token: String,
    /// Why it is invalid.
    pub error: Option<Problem>,
}
