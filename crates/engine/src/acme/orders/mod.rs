//! Driving one order: the core's machine says what it wants, and here it gets it.
//!
//! What must survive a kill is stored before the world hears of it: the certificate key
//! before the order, the order before its challenges, the challenge records before they are
//! put into a zone. While an order waits, it stays in [`OrdersInProgress`] and occupies
//! nobody; a later run takes it up from its row.

mod exchange;
mod stored;

use std::collections::HashMap;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, PoisonError};

use pindrel_core::certificates::acme::order::{OrderFlow, Terms};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::facts::{Origin, ReplaceReason};
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::in_words;
use pindrel_keys::CertificateKey;
use pindrel_state::{CertificateRow, Claim, OrderPhase, OrderRow, SealedBytes};
use tokio::sync::Semaphore;

use crate::acme::accounts::{Account, Accounts};
use crate::acme::challenges::{Challenges, Publication};
use crate::acme::preflight::Preflight;
use crate::acme::spending::RateLimits;
use crate::context::Context;
use crate::context::progress::Progress;
use crate::failure::{key_failed, seal_failed, state_failed};
use crate::home::certificates::Certificates;
use crate::home::keys::{SealedKeys, key_row};

/// What the name of a rehearsal's order begins with.
const REHEARSAL_OF: &str = "rehearsal of ";

/// What is ordered, and where.
#[derive(Debug, Clone, Copy)]
pub(crate) struct OrderRequest {
    pub(crate) certificate: CertificateId,
    pub(crate) authority: AuthorityId,
    /// Whether this only proves that it can be done.
    pub(crate) rehearsal: bool,
}

/// An order between two looks at it.
struct OrderInProgress {
    row: OrderRow,
    flow: OrderFlow,
    /// Whether an earlier run made it.
    resumed: bool,
    publication: Option<Publication>,
}

/// The orders of this run that wait, by the name that they are stored under.
#[derive(Default)]
pub(crate) struct OrdersInProgress(Mutex<HashMap<String, OrderInProgress>>);

impl OrdersInProgress {
    fn take(&self, name: &str) -> Option<OrderInProgress> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(name)
    }

    fn put(&self, name: String, order: OrderInProgress) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(name, order);
    }

    /// Leaves what still waits to a later run.
    pub(crate) fn give_back(&self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }
}

/// How an attempt at an order ended early.
enum OrderEnd {
    /// The order is unusable and given up.
    GivenUp(Finding),
    /// The next run goes on with it.
    Deferred(Finding),
    /// The authority no longer knows the order, or it is invalid: it was not made by this
    /// run, so another is worth asking for.
    Stale(Finding),
    /// The authority refuses the predecessor that the order names: another order replaces it already,
    /// or it belongs to another account (RFC 9773 §5).
    PredecessorRefused(Finding),
}

impl OrderEnd {
    fn finding(&self) -> &Finding {
        match self {
            OrderEnd::GivenUp(finding)
            | OrderEnd::Deferred(finding)
            | OrderEnd::Stale(finding)
            | OrderEnd::PredecessorRefused(finding) => finding,
        }
    }
}

/// Orders, each taken from its first request to its certificate.
pub(crate) struct Orders {
    pub(crate) context: Arc<Context>,
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) challenges: Arc<Challenges>,
    pub(crate) preflight: Arc<Preflight>,
    pub(crate) rate_limits: Arc<RateLimits>,
    pub(crate) keys: Arc<SealedKeys>,
    pub(crate) waiting: OrdersInProgress,
    /// Bounds how many orders are asked for before an authority has answered: when it takes none, no more than these
    /// have heard so.
    pub(crate) asking: Semaphore,
    /// How many orders an authority has forgotten.
    pub(crate) lost_orders: AtomicU64,
    /// How many of the requests only waited.
    pub(crate) waiting_requests: AtomicU64,
}

impl Orders {
    /// Brings an order further: one that waits or that an earlier run left, else a new one.
    pub(crate) async fn order(&self, request: &OrderRequest, claim: &Claim) -> Result<Progress, Finding> {
        let account = self.accounts.account(request.authority).await?;
        let name = self.order_name(request);
        let mut order = match self.waiting.take(&name) {
            Some(order) => order,
            None => {
                if let Some(wait) = self.challenges.await_names(request.certificate).await? {
                    return Ok(Progress::NotYet(wait));
                }
                self.begin_order(request, &account, claim).await?
            }
        };
        loop {
            let end = match self.drive(request, &account, &mut order, claim).await {
                Ok(Progress::Done) => {
                    self.challenges.remove(&order.row).await;
                    return Ok(Progress::Done);
                }
                Ok(waits) => {
                    self.waiting.put(name, order);
                    return Ok(waits);
                }
                Err(end) => end,
            };
            if let OrderEnd::Deferred(finding) = end {
                return Err(finding);
            }
            self.end_order(&account, &mut order, claim).await?;
            order = match end {
                OrderEnd::Stale(_) => self.new_order(request, &account, claim).await?,
                OrderEnd::PredecessorRefused(finding) if order.row.replaces.is_some() => {
                    self.order_again(&account, order.row, &finding, claim).await?
                }
                end => return Err(end.finding().clone()),
            };
        }
    }

    /// The order that an earlier run did not bring to its end, else a new one.
    async fn begin_order(
        &self,
        request: &OrderRequest,
        account: &Account,
        claim: &Claim,
    ) -> Result<OrderInProgress, Finding> {
        match self.unfinished(request, account, claim).await? {
            Some(row) => Ok(self.in_progress(row, account, true)),
            None => self.new_order(request, account, claim).await,
        }
    }

    fn in_progress(&self, row: OrderRow, account: &Account, resumed: bool) -> OrderInProgress {
        let profile = self.certificate_of(&row).and_then(|(certificate, rehearsal)| {
            let authority = self.context.desired.certificate(certificate).authority.filter(|_| !rehearsal)?;
            self.context
                .desired
                .certificate(certificate)
                .ordered_terms(self.context.desired.authority(authority))
                .profile
        });
        let terms = Terms { profile, replaces: row.replaces.clone() };
        let mut flow = OrderFlow::new(row.names.clone(), terms, account.key.jwk().thumbprint());
        if let Some(url) = &row.url {
            flow = flow.resume(url.clone());
        }
        OrderInProgress { row, flow, resumed, publication: None }
    }

    /// The authority refuses the predecessor: the order that replaces it is one whose answer was lost, or
    /// the new one is made without naming the predecessor.
    async fn order_again(
        &self,
        account: &Account,
        row: OrderRow,
        refused: &Finding,
        claim: &Claim,
    ) -> Result<OrderInProgress, Finding> {
        if let Some(url) = self.find_order(&row, account).await {
            self.context
                .note(format!("an order for {} whose response was lost is resumed: {url}", in_words(&row.names)));
            let row = OrderRow { url: Some(url), phase: OrderPhase::Open, ended: None, ..row };
            self.persist_order(claim, &row).await?;
            self.rate_limits.spend_certificate(&row).await?;
            return Ok(self.in_progress(row, account, true));
        }
        self.context.note(format!(
            "the order for {} that names its predecessor is refused, so another one is made that names none: {}",
            in_words(&row.names),
            refused.says()
        ));
        let mut row =
            OrderRow { id: 0, replaces: None, url: None, phase: OrderPhase::Asked, ended: None, says: None, ..row };
        row.id = self.persist_order(claim, &row).await?;
        self.rate_limits.spend_certificate(&row).await?;
        Ok(self.in_progress(row, account, false))
    }

    /// Makes the row of a new order, with its key sealed before the order is asked for,
    /// within the authority's limits.
    async fn new_order(
        &self,
        request: &OrderRequest,
        account: &Account,
        claim: &Claim,
    ) -> Result<OrderInProgress, Finding> {
        self.preflight.run(request.certificate, request.authority, account).await?;
        let now = self.context.clock.now();
        let wanted = self.context.desired.certificate(request.certificate);
        let directory = self.context.desired.authority(request.authority).directory.to_string();
        let held = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let held = held.filter(|_| !request.rehearsal);
        let name = self.order_name(request);
        let own = held.as_ref().filter(|row| row.held.origin == Origin::Authority && row.held.authority == directory);
        let replaces = own.and_then(|row| row.held.renewal_id.clone()).filter(|_| account.authority.advises());
        let renewal = own.is_some_and(|row| row.held.not_after > now);
        let mut row = OrderRow {
            id: 0,
            key: self.new_order_key(request, held.as_ref(), &key_row(&name, &directory)).await?,
            certificate: name,
            authority: directory,
            names: wanted.names.clone(),
            url: None,
            phase: OrderPhase::Asked,
            begun: now,
            ended: None,
            replaces,
            says: None,
        };
        row.id = self.persist_order(claim, &row).await?;
        if let Err(finding) = self.rate_limits.spend_order(request.authority, &row, renewal).await {
            self.give_up_row(claim, row, &finding.says()).await?;
            return Err(finding);
        }
        Ok(self.in_progress(row, account, false))
    }

    async fn persist_order(&self, claim: &Claim, row: &OrderRow) -> Result<i64, Finding> {
        self.context.state.persist_order(claim, row).await.map_err(state_failed)
    }

    /// A new key, or the present one where the manifest keeps it; never one that was
    /// compromised.
    async fn new_order_key(
        &self,
        request: &OrderRequest,
        held: Option<&CertificateRow>,
        row: &str,
    ) -> Result<SealedBytes, Finding> {
        let terms = &self.context.desired.certificate(request.certificate).terms;
        let kept = held.filter(|held| {
            let compromised = held.held.replace == Some(ReplaceReason::KeyCompromised);
            terms.reuse_key && held.held.key == Some(terms.key) && !compromised
        });
        let key = match kept {
            Some(kept) => self.keys.of(kept)?,
            None => self.context.drivers.keys().certificate_key(terms.key).await.map_err(key_failed)?,
        };
        self.context.vault.seal(row, key.pkcs8()).map_err(seal_failed)
    }

    fn order_name(&self, request: &OrderRequest) -> String {
        order_name(&self.context.desired.certificate(request.certificate).name, request.rehearsal)
    }

    /// The certificate that an order is for, and whether it is a rehearsal of it.
    fn certificate_of(&self, row: &OrderRow) -> Option<(CertificateId, bool)> {
        let rehearsed = row.certificate.strip_prefix(REHEARSAL_OF);
        let name = rehearsed.unwrap_or(&row.certificate);
        Some((self.context.desired.certificate_named(name)?, rehearsed.is_some()))
    }

    fn order_key(&self, row: &OrderRow) -> Result<CertificateKey, Finding> {
        self.keys.open(&key_row(&row.certificate, &row.authority), &row.key)
    }
}

/// The name under which an order is stored: a rehearsal never meets the real ones.
pub(crate) fn order_name(certificate: &str, rehearsal: bool) -> String {
    if rehearsal { format!("{REHEARSAL_OF}{certificate}") } else { certificate.to_owned() }
}
