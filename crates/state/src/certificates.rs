//! The book of certificates: present and past ones, their orders' ends, what follows
//! them, and the keys that wait for one.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::judging::facts::HeldCertificate;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use serde::{Deserialize, Serialize};

use crate::accounts::SealedBytes;
use crate::orders::OrderPhase;
use crate::{Claim, StateError};

/// A certificate with its chain and its key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateRow {
    /// Its name in the manifest.
    pub name: String,
    /// What it is.
    pub held: HeldCertificate,
    /// The chain in PEM, leaf first.
    pub chain: String,
    /// The private key in PKCS#8, sealed.
    pub key: SealedBytes,
    /// When it is due.
    pub renew_at: Timestamp,
    /// When it was stored first.
    pub kept: Timestamp,
    /// A revocation that was begun and is not confirmed.
    pub revocation: Option<Revocation>,
    /// When an authority that failed to advise on renewal is asked again.
    pub ask_again: Option<Timestamp>,
}

/// A revocation that was asked for: it is gone on with in the same way after a kill.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Revocation {
    /// The reason (RFC 5280 §5.3.1).
    pub reason: u8,
    /// Whether the certificate's own key signs for it, and not the account's (RFC 8555 §7.6).
    pub by_own_key: bool,
    /// The directory URL of the authority that is asked; empty for the one that issued it.
    pub authority: String,
}

impl CertificateRow {
    /// Returns when there is something to do for it: when it is due, or earlier, when
    /// its authority may be asked for advice again.
    pub fn next_at(&self) -> Timestamp {
        self.advice_at().map_or(self.renew_at, |at| at.min(self.renew_at))
    }

    /// Returns when its authority may be asked for advice; never where it gives none.
    pub fn advice_at(&self) -> Option<Timestamp> {
        let first = self.held.renewal_id.as_ref().map(|_| self.kept);
        let advised = self.held.window.as_ref().map(|window| window.look_again).or(first);
        advised.map(|at| self.ask_again.map_or(at, |again| again.max(at)))
    }
}

/// How an order ended, or stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderEnd {
    /// How far it got.
    pub phase: OrderPhase,
    /// When it ended; when it was asked for where it has not.
    pub at: Timestamp,
    /// What went wrong.
    pub says: Option<String>,
}

/// How a command went that follows a certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommandRun {
    /// The certificate's name in the manifest.
    pub certificate: String,
    /// The command, as it is shown.
    pub command: String,
    /// The certificate that it was run for.
    pub sha256: Fingerprint,
    /// When it ended.
    pub at: Timestamp,
    /// Whether it exited with status 0 in time.
    pub succeeded: bool,
    /// The end of what it said, or how it failed.
    pub says: Option<String>,
}

/// A key that waits for a certificate to be bought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SigningRequestRow {
    /// The certificate's name in the manifest.
    pub certificate: String,
    /// The names requested.
    pub names: Vec<Hostname>,
    /// When it was made.
    pub at: Timestamp,
    /// The private key in PKCS#8, sealed.
    pub key: SealedBytes,
}

/// A change of a certificate that is stored.
pub type CertificateChange<'c> = dyn for<'r> Fn(&'r mut CertificateRow) + Sync + 'c;

/// What a state knows of certificates.
#[async_trait]
pub trait CertificateBook {
    /// Returns the present certificate of a name in the manifest.
    ///
    /// # Errors
    /// [`StateError`], here and in every other method: the state cannot be read or written,
    /// or the claim was taken over.
    async fn certificate(&self, name: &str) -> Result<Option<CertificateRow>, StateError>;
    /// Returns all certificates that a name has had, the newest first.
    async fn certificate_history(&self, name: &str) -> Result<Vec<CertificateRow>, StateError>;
    /// Returns all present certificates, by name.
    async fn certificates(&self) -> Result<Vec<CertificateRow>, StateError>;
    /// Stores a certificate as the present one and ends its order (none: zero), and any that
    /// was put off, in the same transaction; the one before stays as history.
    async fn persist_certificate(&self, claim: &Claim, row: &CertificateRow, order: i64) -> Result<(), StateError>;
    /// Changes what may change of a certificate that is stored: the authority's advice,
    /// whether it is replaced early or was revoked, and when it is due.
    /// `change` is made to what is stored at that moment, and once more where somebody else changed that meanwhile.
    /// Returns what is stored now; `None` where there is no such certificate.
    async fn change_certificate(
        &self,
        name: &str,
        sha256: Fingerprint,
        change: &CertificateChange<'_>,
    ) -> Result<Option<CertificateRow>, StateError>;
    /// Returns the names of the present certificates for which there is something to do
    /// at `now`. Costs what there is to do, not what there is.
    async fn due_certificates(&self, now: Timestamp) -> Result<Vec<String>, StateError>;
    /// Returns the certificates, past ones too, whose revocation is not confirmed.
    async fn certificates_to_revoke(&self) -> Result<Vec<CertificateRow>, StateError>;

    /// Returns how the last order for a certificate ended.
    async fn last_order(&self, certificate: &str) -> Result<Option<OrderEnd>, StateError>;

    /// Returns how the commands went that follow a certificate.
    async fn command_runs(&self, certificate: &str) -> Result<Vec<CommandRun>, StateError>;
    /// Stores how a command went, in the place of the time before.
    async fn persist_command_run(&self, run: &CommandRun) -> Result<(), StateError>;

    /// Returns the key that waits for a certificate.
    async fn signing_request(&self, certificate: &str) -> Result<Option<SigningRequestRow>, StateError>;
    /// Stores a key that waits, in the place of one before.
    async fn persist_signing_request(&self, row: &SigningRequestRow) -> Result<(), StateError>;
    /// Forgets a key that no longer waits.
    async fn forget_signing_request(&self, certificate: &str) -> Result<(), StateError>;
}
