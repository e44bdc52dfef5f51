//! Orders and the challenge records that belong to them.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::certificates::acme::order::ChallengeRecord;
use pindrel_core::names::name::{DnsName, Hostname};

use crate::accounts::SealedBytes;
use crate::{Claim, StateError};

/// How far an order has got, as far as the state knows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OrderPhase {
    /// It was asked for; whether the authority made it is not known.
    Asked,
    /// Its URL is known.
    Open,
    /// Its certificate is stored.
    Done,
    /// It came to nothing.
    Failed,
    /// Its URL was never received, and it was not found again.
    Lost,
}

impl OrderPhase {
    pub(crate) const ALL: [OrderPhase; 5] =
        [OrderPhase::Asked, OrderPhase::Open, OrderPhase::Done, OrderPhase::Failed, OrderPhase::Lost];

    pub(crate) fn as_str(self) -> &'static str {
        match self {
            OrderPhase::Asked => "asked",
            OrderPhase::Open => "open",
            OrderPhase::Done => "done",
            OrderPhase::Failed => "failed",
            OrderPhase::Lost => "lost",
        }
    }

    /// Says whether the next run may go on with such an order.
    pub fn is_unfinished(self) -> bool {
        matches!(self, OrderPhase::Asked | OrderPhase::Open)
    }
}

/// One order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderRow {
    /// Its number; zero before it is stored.
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
    /// When it ended.
    pub ended: Option<Timestamp>,
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

/// Orders and their challenge records.
#[async_trait]
pub trait Orders {
    /// Returns the order of a certificate that has not ended.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written,
    /// or the claim was taken over.
    async fn open_order(&self, certificate: &str) -> Result<Option<OrderRow>, StateError>;
    /// Returns all orders that have not ended.
    async fn open_orders(&self) -> Result<Vec<OrderRow>, StateError>;
    /// Stores an order; an id of zero makes a new row. Returns the id.
    async fn persist_order(&self, claim: &Claim, row: &OrderRow) -> Result<i64, StateError>;
    /// Says whether the URL of an order at this authority is known already.
    async fn knows_order(&self, authority: &str, url: &str) -> Result<bool, StateError>;

    /// Records that records are about to be put into a zone.
    async fn record_challenges(&self, claim: &Claim, order: i64, rows: &[ChallengeRow]) -> Result<(), StateError>;
    /// Returns the records that may be in a zone, for one order or for all orders that
    /// have ended.
    async fn challenges(&self, order: Option<i64>) -> Result<Vec<ChallengeRow>, StateError>;
    /// Records that records are gone from every server.
    async fn forget_challenges(&self, rows: &[ChallengeRow]) -> Result<(), StateError>;
}
