//! Driving one order: the core's machine says what it wants, and here it gets it.
//!
//! What must survive a kill is stored before the world hears of it: the certificate key
//! before the order, the order before its challenges, the challenge records before they are
//! put into a zone. While an order waits, it stays in [`OrdersInProgress`] and occupies
//! nobody; a later run takes it up from its row.

use std::collections::HashMap;
use std::sync::atomic::Ordering;
use std::sync::{Mutex, PoisonError};

use futures::StreamExt as _;
use futures::stream;
use pindrel_acme::TransportError;
use pindrel_core::certificates::acme::account::deactivate;
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::objects::{Order, OrderStatus};
use pindrel_core::certificates::acme::order::{Call, Issued, OrderError, OrderFlow, Purpose, Terms, Want};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::facts::{HeldCertificate, Origin, ReplaceReason};
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_keys::{CertificateKey, Chain, ChainError};
use pindrel_state::{CertificateRow, Claim, Moment, OrderPhase, OrderRow, SealedBytes};

use super::Signing;
use super::accounts::Account;
use super::challenges::Publication;
use crate::drivers::trusted_of_authority;
use crate::execute::{Progress, Wait, certificate_claim};
use crate::failure::{EngineError, key_failed, order_failed, seal_failed, state_failed, transport_failed};
use crate::requests::certificates::{held_of, key_row};
use crate::run::{Engine, names};

/// How many requests of one order may be under way at once.
const REQUESTS_AT_ONCE: usize = 8;
/// The most orders that are read to find one whose answer was lost.
const MOST_ORDERS_READ: usize = 200;
/// The most chains that are looked at to find the wanted root.
const MOST_CHAINS: usize = 8;

/// Why an order of an earlier run is given up that the manifest says nothing of today.
const UNWANTED: &str = "the manifest no longer wants it";
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

impl Engine {
    /// Brings an order further: one that waits or that an earlier run left, else a new one.
    pub(crate) async fn order(&self, request: &OrderRequest, claim: &Claim) -> Result<Progress, Finding> {
        let account = self.account(request.authority).await?;
        let name = self.order_name(request);
        let mut order = match self.orders.take(&name) {
            Some(order) => order,
            None => {
                if let Some(wait) = self.await_challenge_names(request.certificate).await? {
                    return Ok(Progress::NotYet(wait));
                }
                self.begin_order(request, &account, claim).await?
            }
        };
        loop {
            let end = match self.drive(request, &account, &mut order, claim).await {
                Ok(Progress::Done) => {
                    self.remove_challenges(&order.row).await;
                    return Ok(Progress::Done);
                }
                Ok(waits) => {
                    self.orders.put(name, order);
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
            let authority = self.desired.certificate(certificate).authority.filter(|_| !rehearsal)?;
            self.desired.certificate(certificate).ordered_terms(self.desired.authority(authority)).profile
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
            self.note(format!("an order for {} whose response was lost is resumed: {url}", names(&row.names)));
            let row = OrderRow { url: Some(url), phase: OrderPhase::Open, ended: None, ..row };
            self.persist_order(claim, &row).await?;
            self.spend_certificate(&row).await?;
            return Ok(self.in_progress(row, account, true));
        }
        self.note(format!(
            "the order for {} that names its predecessor is refused, so another one is made that names none: {}",
            names(&row.names),
            refused.says
        ));
        let mut row =
            OrderRow { id: 0, replaces: None, url: None, phase: OrderPhase::Asked, ended: None, says: None, ..row };
        row.id = self.persist_order(claim, &row).await?;
        self.spend_certificate(&row).await?;
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
        self.preflight(request.certificate, request.authority, account).await?;
        let now = self.clock.now();
        let wanted = self.desired.certificate(request.certificate);
        let directory = self.desired.authority(request.authority).directory.to_string();
        let held = self.state.certificate(&wanted.name).await.map_err(state_failed)?;
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
        if let Err(finding) = self.spend_order(request.authority, &row, renewal).await {
            self.give_up_row(claim, row, &finding.says).await?;
            return Err(finding);
        }
        Ok(self.in_progress(row, account, false))
    }

    async fn persist_order(&self, claim: &Claim, row: &OrderRow) -> Result<i64, Finding> {
        self.state.persist_order(claim, row).await.map_err(state_failed)
    }

    /// A new key, or the present one where the manifest keeps it; never one that was
    /// compromised.
    async fn new_order_key(
        &self,
        request: &OrderRequest,
        held: Option<&CertificateRow>,
        row: &str,
    ) -> Result<SealedBytes, Finding> {
        let terms = &self.desired.certificate(request.certificate).terms;
        let kept = held.filter(|held| {
            let compromised = held.held.replace == Some(ReplaceReason::KeyCompromised);
            terms.reuse_key && held.held.key == Some(terms.key) && !compromised
        });
        let key = match kept {
            Some(kept) => self.certificate_key(kept)?,
            None => self.drivers.keys().certificate_key(terms.key).await.map_err(key_failed)?,
        };
        self.vault.seal(row, key.pkcs8()).map_err(seal_failed)
    }

    fn order_name(&self, request: &OrderRequest) -> String {
        order_name(&self.desired.certificate(request.certificate).name, request.rehearsal)
    }

    /// The certificate that an order is for, and whether it is a rehearsal of it.
    fn certificate_of(&self, row: &OrderRow) -> Option<(CertificateId, bool)> {
        let rehearsed = row.certificate.strip_prefix(REHEARSAL_OF);
        let name = rehearsed.unwrap_or(&row.certificate);
        Some((self.desired.certificate_named(name)?, rehearsed.is_some()))
    }

    /// Gives up the orders of earlier runs that the manifest no longer wants, so that
    /// nothing of them stays in a zone.
    pub(crate) async fn drop_unwanted_orders(&self) -> Result<(), EngineError> {
        for row in self.state.open_orders().await? {
            if self.is_wanted(&row) {
                continue;
            }
            let name = row.certificate.clone();
            let give_up = async |claim: &Claim| {
                // Whoever had it until now may have brought it to its end.
                let still = self.state.open_order(&name).await.map_err(state_failed)?.filter(|now| now.id == row.id);
                let Some(row) = still else { return Ok(()) };
                self.note(format!("the order for {} is abandoned: {UNWANTED}", names(&row.names)));
                self.give_up_row(claim, row, UNWANTED).await
            };
            if let Err(finding) = self.claimed_if_free(&certificate_claim(&name), give_up).await {
                self.note(finding.says);
            }
        }
        Ok(())
    }

    fn is_wanted(&self, row: &OrderRow) -> bool {
        let Some((certificate, rehearsal)) = self.certificate_of(row) else { return false };
        let mut authority = self.desired.certificate(certificate).authority;
        if rehearsal {
            authority = authority.and_then(|real| self.desired.authority(real).rehearsal);
        }
        authority.is_some_and(|authority| self.is_for(row, certificate, authority))
    }

    /// Records that an order is given up, and why.
    async fn give_up_row(&self, claim: &Claim, row: OrderRow, why: &str) -> Result<(), Finding> {
        let ended = Some(self.clock.now());
        let row = OrderRow { phase: OrderPhase::Failed, ended, says: Some(why.into()), ..row };
        self.persist_order(claim, &row).await.map(drop)
    }

    /// Says whether an order is for what the manifest says of a certificate today.
    fn is_for(&self, row: &OrderRow, certificate: CertificateId, authority: AuthorityId) -> bool {
        let directory = self.desired.authority(authority).directory.as_str();
        row.names == self.desired.certificate(certificate).names && row.authority == directory
    }

    /// Says whether the key of an order can be read, and is of the kind that is wanted.
    fn has_wanted_key(&self, row: &OrderRow, certificate: CertificateId) -> Result<bool, Finding> {
        let key = self.order_key(row)?;
        let kind = key.request_signer().ok().map(|key| key.kind());
        Ok(kind.is_none_or(|kind| kind == self.desired.certificate(certificate).terms.key))
    }

    /// Returns the order that an earlier run did not bring to its end, if it is still usable.
    async fn unfinished(
        &self,
        request: &OrderRequest,
        account: &Account,
        claim: &Claim,
    ) -> Result<Option<OrderRow>, Finding> {
        let row = self.state.open_order(&self.order_name(request)).await.map_err(state_failed)?;
        let Some(mut row) = row else { return Ok(None) };
        if !self.is_for(&row, request.certificate, request.authority) {
            self.give_up_row(claim, row, UNWANTED).await?;
            return Ok(None);
        }
        match self.has_wanted_key(&row, request.certificate) {
            Ok(true) => {}
            Ok(false) => {
                self.give_up_row(claim, row, "the manifest wants another kind of key").await?;
                return Ok(None);
            }
            Err(finding) => {
                // Such an order can never be finalized.
                self.note(format!("the order for {} is abandoned: {}", names(&row.names), finding.says));
                self.give_up_row(claim, row, &finding.says).await?;
                return Ok(None);
            }
        }
        if row.url.is_none() {
            // The answer to the order was never received. Where the authority lists the
            // account's orders it is found there; else it is lost, and counted.
            row.url = self.find_order(&row, account).await;
            let found = row.url.is_some();
            (row.phase, row.ended) =
                if found { (OrderPhase::Open, None) } else { (OrderPhase::Lost, Some(self.clock.now())) };
            self.persist_order(claim, &row).await?;
            if !found {
                self.lost_orders.fetch_add(1, Ordering::Relaxed);
                self.note(format!(
                    "the response to an order for {} was lost in the previous run, and {} lists no such order: it counts as spent, and another one is made",
                    names(&row.names),
                    row.authority
                ));
                return Ok(None);
            }
        }
        Ok(Some(row))
    }

    /// Looks for an order whose answer was lost in the account's list of orders. An authority
    /// whose list cannot be read is one without a list (RFC 8555 §7.1.2.1 makes it optional).
    async fn find_order(&self, row: &OrderRow, account: &Account) -> Option<String> {
        let list = account.orders.as_ref()?;
        let signing = Signing(&account.key);
        let urls = match account.authority.order_urls(&signing, &account.url, list).await {
            Ok(urls) => urls,
            Err(error) => {
                tracing::warn!(%error, "the list of orders cannot be read");
                return None;
            }
        };
        // The newest are at the end.
        for url in urls.into_iter().rev().take(MOST_ORDERS_READ) {
            if self.state.knows_order(&row.authority, &url).await.unwrap_or(true) {
                continue;
            }
            let reply = account.authority.send(&signing, &account.url, Some(&url), &Payload::PostAsGet).await;
            let body = reply.ok()?.ok().map(|reply| reply.body);
            let order: Option<Order> = body.and_then(|body| serde_json::from_slice(&body).ok());
            let unfinished = |order: &Order| !matches!(order.status, OrderStatus::Invalid | OrderStatus::Valid);
            if order.is_some_and(|order| unfinished(&order) && order.is_for(&row.names)) {
                return Some(url);
            }
        }
        None
    }

    /// Records that an order came to nothing, and takes back what it left.
    async fn end_order(&self, account: &Account, order: &mut OrderInProgress, claim: &Claim) -> Result<(), Finding> {
        (order.row.phase, order.row.ended) = (OrderPhase::Failed, Some(self.clock.now()));
        self.persist_order(claim, &order.row).await?;
        self.refund_certificate(&order.row).await?;
        self.deactivate_authorizations(account, &order.flow).await;
        self.remove_challenges(&order.row).await;
        Ok(())
    }

    /// Deactivates the authorizations of an order that is given up (RFC 8555 §7.5.2), so
    /// that they count against no limit. Nothing depends on whether that succeeds.
    async fn deactivate_authorizations(&self, account: &Account, flow: &OrderFlow) {
        let signing = Signing(&account.key);
        let payload = Payload::Json(deactivate());
        for url in flow.open_authorizations() {
            let sent = account.authority.send(&signing, &account.url, Some(&url), &payload).await;
            tracing::debug!(accepted = matches!(sent, Ok(Ok(_))), url, "authorization given up");
        }
    }

    async fn drive(
        &self,
        request: &OrderRequest,
        account: &Account,
        order: &mut OrderInProgress,
        claim: &Claim,
    ) -> Result<Progress, OrderEnd> {
        loop {
            match order.flow.want() {
                Want::Send(calls) => self.send(account, order, calls, claim).await?,
                Want::Publish(records) => {
                    let published = self.publish(&order.row, &records, &mut order.publication, claim).await;
                    if let Some(wait) = published.map_err(OrderEnd::Deferred)? {
                        return Ok(Progress::NotYet(wait));
                    }
                    order.flow.published();
                }
                Want::SigningRequest => {
                    let key = self.order_key(&order.row).map_err(OrderEnd::GivenUp)?;
                    let csr = key.signing_request(&order.row.names).map_err(key_failed);
                    order.flow.signing_request(&csr.map_err(OrderEnd::GivenUp)?);
                }
                Want::Wait { until, .. } if until <= self.clock.now() => order.flow.waited(),
                Want::Wait { until, what } => {
                    let says = format!(
                        "{} is still processing the order for {}",
                        order.row.authority,
                        names(&order.row.names)
                    );
                    return Ok(Progress::NotYet(Wait {
                        until: Some(until),
                        topic: "order",
                        what: what.to_owned(),
                        within: None,
                        finding: Finding::of(Code::OrderFailed, says, "Run settle later: it continues the same order"),
                    }));
                }
                Want::Done(issued) => {
                    self.accept(request, account, order, issued, claim).await?;
                    return Ok(Progress::Done);
                }
            }
        }
    }

    fn order_key(&self, row: &OrderRow) -> Result<CertificateKey, Finding> {
        self.open_key(&key_row(&row.certificate, &row.authority), &row.key)
    }

    /// Sends what the flow wants, side by side, and tells it what came back.
    async fn send(
        &self,
        account: &Account,
        order: &mut OrderInProgress,
        calls: Vec<Call>,
        claim: &Claim,
    ) -> Result<(), OrderEnd> {
        let Some(action) = calls.first().and_then(|call| journalled(call.purpose)) else {
            return self.exchange(account, order, calls, claim).await;
        };
        let subject = order.row.certificate.clone();
        let about = |row: &OrderRow| row.url.clone().unwrap_or_else(|| names(&row.names));
        let begun = self.journal(Moment::Begun, action, &subject, about(&order.row)).await;
        begun.map_err(|error| OrderEnd::Deferred(error.into()))?;
        let exchanged = self.exchange(account, order, calls, claim).await;
        let about = about(&order.row);
        let ended = exchanged.as_ref().map(|()| about.as_str()).map_err(OrderEnd::finding);
        let written = self.journal_end(action, &subject, ended).await;
        exchanged.and(written.map_err(|error| OrderEnd::Deferred(error.into())))
    }

    /// Does what [`Engine::send`] journals.
    async fn exchange(
        &self,
        account: &Account,
        order: &mut OrderInProgress,
        calls: Vec<Call>,
        claim: &Claim,
    ) -> Result<(), OrderEnd> {
        let OrderInProgress { row, flow, resumed, .. } = order;
        // The semaphore is never closed, so a permit always comes.
        let asking = match calls.first().map(|call| call.purpose) {
            Some(Purpose::NewOrder) => self.asking.acquire().await.ok(),
            _ => None,
        };
        if asking.is_some()
            && let Some((certificate, false)) = self.certificate_of(row)
            && let Some(finding) =
                self.held_back(certificate).await.map_err(|error| OrderEnd::Deferred(error.into()))?
        {
            // Another order has been refused since this one was prepared.
            return Err(OrderEnd::GivenUp(finding));
        }
        let waiting = calls.iter().filter(|call| matches!(call.purpose, Purpose::Order { waiting: true })).count();
        self.count_waiting_requests(waiting);
        let mut replies = stream::iter(calls)
            .map(|call| async move {
                let signing = Signing(&account.key);
                let reply = account.authority.send(&signing, &account.url, call.url.as_deref(), &call.payload).await;
                (call.purpose, reply)
            })
            .buffered(REQUESTS_AT_ONCE);
        while let Some((purpose, reply)) = replies.next().await {
            let reply = match reply {
                Ok(reply) => reply,
                Err(error) => return Err(not_sent(purpose, error)),
            };
            let told = flow.replied(purpose, reply, self.clock.now());
            if purpose == Purpose::NewOrder
                && let Some(url) = flow.url()
            {
                row.url = Some(url.to_owned());
                row.phase = OrderPhase::Open;
                self.persist_order(claim, row).await.map_err(OrderEnd::Deferred)?;
            }
            if let Err(error) = told {
                row.says = Some(error.to_string());
                let limited = match &error {
                    OrderError::Refused { problem, .. } | OrderError::Invalid(problem) => {
                        self.record_hold(row, problem).await
                    }
                    OrderError::Validation(failed) => {
                        let names: Vec<String> = failed.iter().map(|failed| failed.name.clone()).collect();
                        self.spend_failures(row, &names).await.map(|()| None)
                    }
                    _ => Ok(None),
                };
                let limited = limited.map_err(OrderEnd::Deferred)?;
                // An order of an earlier run that has gone bad since says nothing about a new one.
                let of_an_earlier_run = *resumed && !flow.has_responded();
                let finding = limited.unwrap_or_else(|| order_failed(&error));
                return Err(ending(&error, finding, purpose, row.replaces.is_some(), of_an_earlier_run));
            }
        }
        Ok(())
    }

    /// Checks what was issued, and stores it; a rehearsal's is only checked.
    async fn accept(
        &self,
        request: &OrderRequest,
        account: &Account,
        order: &mut OrderInProgress,
        issued: Issued,
        claim: &Claim,
    ) -> Result<(), OrderEnd> {
        let row = &mut order.row;
        let authority = self.desired.authority(request.authority);
        let roots = self.drivers.roots(&trusted_of_authority(authority)).map_err(OrderEnd::Deferred)?;
        let key = self.order_key(row).map_err(OrderEnd::GivenUp)?;
        let wrong = |error: ChainError| {
            let says = format!(
                "the certificate that {} issued for {} cannot be used: {error}",
                authority.name,
                names(&row.names)
            );
            let remedy = "Check that issued_roots names the authority's roots; otherwise report it to the authority";
            let finding = Finding::of(Code::IssuedUnusable, says, remedy);
            match error {
                // The certificate may be right and the manifest wrong: it is read again, and no other
                // one is ordered, once the roots are corrected.
                ChainError::Untrusted(_) | ChainError::IntermediateMissing(_) => OrderEnd::Deferred(finding),
                _ => OrderEnd::GivenUp(finding),
            }
        };
        let now = self.clock.now();
        let chain = Chain::from_pem(&issued.chain).map_err(&wrong)?;
        chain.verify(&key.public_key(), &row.names, &roots, now).map_err(&wrong)?;
        if request.rehearsal {
            (row.phase, row.ended) = (OrderPhase::Done, Some(now));
            return self.persist_order(claim, row).await.map(drop).map_err(OrderEnd::Deferred);
        }
        let terms = self.desired.certificate(request.certificate).ordered_terms(authority);
        let chain = match &terms.chain_root {
            Some(wanted) if !leads_to(&chain, wanted) => {
                let other = self.other_chain(account, &issued.alternates, wanted, &chain).await;
                other.filter(|other| other.verify(&key.public_key(), &row.names, &roots, now).is_ok()).unwrap_or(chain)
            }
            _ => chain,
        };
        let advises = account.authority.advises();
        let kind = self.desired.certificate(request.certificate).terms.key;
        let held = HeldCertificate {
            renewal_id: chain.certificate_id().filter(|_| advises),
            ordered: Some(terms),
            ..held_of(&chain, Origin::Authority, row.authority.clone(), Some(kind))
        };
        let stored = self.persist_certificate(claim, request.certificate, held, &chain, row.key.clone(), row.id).await;
        stored.map_err(OrderEnd::Deferred)
    }

    /// Looks among the other chains of a certificate for one that leads to the wanted root. One
    /// that cannot be had is passed over: the first chain is valid.
    async fn other_chain(
        &self,
        account: &Account,
        alternates: &[String],
        wanted: &str,
        first: &Chain,
    ) -> Option<Chain> {
        let signing = Signing(&account.key);
        let mut offered = vec![first.root_name()];
        for url in alternates.iter().take(MOST_CHAINS) {
            let reply = account.authority.send(&signing, &account.url, Some(url), &Payload::PostAsGet).await;
            let body = match reply {
                Ok(Ok(reply)) => reply.body,
                Ok(Err(problem)) => {
                    tracing::warn!(url, %problem, "an alternate chain was refused");
                    continue;
                }
                Err(error) => {
                    tracing::warn!(url, %error, "an alternate chain could not be downloaded");
                    continue;
                }
            };
            let Some(chain) = String::from_utf8(body).ok().and_then(|text| Chain::from_pem(&text).ok()) else {
                continue;
            };
            if leads_to(&chain, wanted) {
                return Some(chain);
            }
            offered.push(chain.root_name());
        }
        self.note(format!("no chain ends at \"{wanted}\"; the first of these is used: {}", offered.join("; ")));
        None
    }
}

/// The name under which an order is stored: a rehearsal never meets the real ones.
pub(crate) fn order_name(certificate: &str, rehearsal: bool) -> String {
    if rehearsal { format!("{REHEARSAL_OF}{certificate}") } else { certificate.to_owned() }
}

/// Says whether a chain leads to the root of that name: its common name, or all of it.
fn leads_to(chain: &Chain, wanted: &str) -> bool {
    let name = chain.root_name();
    name == wanted || name.split(", ").any(|part| part.strip_prefix("CN=") == Some(wanted))
}

/// The journal's word for the requests that change something at the authority.
fn journalled(purpose: Purpose) -> Option<&'static str> {
    match purpose {
        Purpose::NewOrder => Some("order-ask"),
        Purpose::Challenge(_) => Some("challenge-respond"),
        Purpose::Finalize => Some("order-finalize"),
        Purpose::Order { .. } | Purpose::Authorization(_) | Purpose::Certificate => None,
    }
}

/// What a request that got no response means for its order: one that surely was not
/// made is given up, any other is taken up again.
fn not_sent(purpose: Purpose, error: TransportError) -> OrderEnd {
    let never_made = purpose == Purpose::NewOrder && !error.may_have_acted();
    let finding = transport_failed(error);
    if never_made { OrderEnd::GivenUp(finding) } else { OrderEnd::Deferred(finding) }
}

fn ending(error: &OrderError, finding: Finding, purpose: Purpose, replaces: bool, of_an_earlier_run: bool) -> OrderEnd {
    match error {
        OrderError::Refused { problem, .. }
            if replaces
                && purpose == Purpose::NewOrder
                && matches!(problem.error(), "alreadyReplaced" | "malformed" | "unauthorized") =>
        {
            OrderEnd::PredecessorRefused(finding)
        }
        error if error.is_transient() && purpose != Purpose::NewOrder => OrderEnd::Deferred(finding),
        OrderError::Refused { .. } | OrderError::Invalid(_) | OrderError::Validation(_) if of_an_earlier_run => {
            OrderEnd::Stale(finding)
        }
        _ => OrderEnd::GivenUp(finding),
    }
}
