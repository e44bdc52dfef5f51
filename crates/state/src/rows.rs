//! The rows of the state as values.

use jiff::Timestamp;
use pindrel_core::acme::account::AccountStatus;
use pindrel_core::acme::order::ChallengeRecord;
use pindrel_core::facts::{HostnameFacts, Ownership};
use pindrel_core::name::{DnsName, Hostname};

/// A sealed secret as it lies in a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SealedBytes {
    /// The id of the key that opens it.
    pub key_id: String,
    /// The sealed bytes.
    pub bytes: Vec<u8>,
}

/// An account at an authority.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountRow {
    /// The directory URL.
    pub authority: String,
    /// The account key in PKCS#8, sealed.
    pub key: SealedBytes,
    /// The account's URL; `None` until the authority has said it.
    pub url: Option<String>,
    /// Where its orders are listed, where the authority says so.
    pub orders: Option<String>,
    /// Its state, as the authority said last.
    pub status: AccountStatus,
    /// The contacts that the authority was told.
    pub contact: Vec<String>,
    /// The terms of service that were agreed to.
    pub terms: Option<String>,
    /// The key that a change under way leads to, sealed.
    pub next_key: Option<SealedBytes>,
}

/// How far an order has got, as far as the state knows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OrderPhase {
    /// It was asked for; whether the authority made it is not known.
    Asked,
    /// Its URL is known.
    Open,
    /// Its certificate is kept.
    Done,
    /// It came to nothing.
    Failed,
    /// Its URL was never received, and it was not found again.
    Lost,
}

impl OrderPhase {
    pub(crate) fn as_str(self) -> &'static str {
        match self {
            OrderPhase::Asked => "asked",
            OrderPhase::Open => "open",
            OrderPhase::Done => "done",
            OrderPhase::Failed => "failed",
            OrderPhase::Lost => "lost",
        }
    }

    pub(crate) fn from_str(text: &str) -> Option<OrderPhase> {
        [OrderPhase::Asked, OrderPhase::Open, OrderPhase::Done, OrderPhase::Failed, OrderPhase::Lost]
            .into_iter()
            .find(|phase| phase.as_str() == text)
    }
}

/// One order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderRow {
    /// Its number; zero before it is kept.
    pub id: i64,
    /// The certificate's name in the manifest.
    pub certificate: String,
    /// The directory URL.
    pub authority: String,
    /// The names ordered.
    pub names: Vec<Hostname>,
    /// The order's URL, once known.
    pub url: Option<String>,
    /// How far it has got.
    pub phase: OrderPhase,
    /// The certificate's private key in PKCS#8, sealed before the order is asked for.
    pub key: SealedBytes,
    /// When it was asked for.
    pub begun: Timestamp,
    /// The certificate that it replaces (RFC 9773 §5).
    pub replaces: Option<String>,
    /// What went wrong with it.
    pub says: Option<String>,
}

/// A challenge record that Pindrel put, or is about to put, into a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChallengeRow {
    /// The zone.
    pub zone: DnsName,
    /// The record.
    pub record: ChallengeRecord,
}

/// What the next run needs of a hostname to know that nothing is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HostnameSummary<'s> {
    /// The hostname.
    pub hostname: &'s str,
    /// The digest of what was wanted when it was last judged.
    pub wanted: u64,
    /// Whether all five pins were held then.
    pub held: bool,
    /// The time of the oldest fact behind that, in seconds since 1970.
    pub seen_secs: i64,
    /// When its certificate is due, in seconds since 1970.
    pub due_secs: i64,
}

/// All that is known of a hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostnameRow {
    /// The hostname.
    pub hostname: Hostname,
    /// The digest of what is wanted.
    pub wanted: u64,
    /// Whether all five pins are held.
    pub held: bool,
    /// The time of the oldest fact, in seconds since 1970.
    pub seen_secs: i64,
    /// When its certificate is due, in seconds since 1970.
    pub due_secs: i64,
    /// What was seen.
    pub facts: HostnameFacts,
    /// What Pindrel made.
    pub ours: Ownership,
}
