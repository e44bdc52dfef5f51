//! Orders that earlier runs left: gone on with, or given up.

use std::sync::atomic::Ordering;

use pindrel_core::certificates::acme::account::deactivate;
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::objects::{Order, OrderStatus};
use pindrel_core::certificates::acme::order::OrderFlow;
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::in_words;
use pindrel_state::{Claim, OrderPhase, OrderRow};

use super::{OrderInProgress, OrderRequest, Orders};
use crate::acme::accounts::{Account, Signing};
use crate::context::claims::certificate_claim;
use crate::failure::{EngineError, state_failed};

impl Orders {
    /// Gives up the orders of earlier runs that the manifest no longer wants, so that
    /// nothing of them stays in a zone.
    pub(crate) async fn drop_unwanted(&self) -> Result<(), EngineError> {
        for row in self.context.state.open_orders().await? {
            if self.is_wanted(&row) {
                continue;
            }
            let name = row.certificate.clone();
            let give_up = async |claim: &Claim| {
                // Whoever had it until now may have brought it to its end.
                let still =
                    self.context.state.open_order(&name).await.map_err(state_failed)?.filter(|now| now.id == row.id);
                let Some(row) = still else { return Ok(()) };
                self.context.note(format!("the order for {} is abandoned: {UNWANTED}", in_words(&row.names)));
                self.give_up_row(claim, row, UNWANTED).await
            };
            if let Err(finding) = self.context.claimed_if_free(&certificate_claim(&name), give_up).await {
                self.context.note(finding.says());
            }
        }
        Ok(())
    }

    fn is_wanted(&self, row: &OrderRow) -> bool {
        let Some((certificate, rehearsal)) = self.certificate_of(row) else { return false };
        let mut authority = self.context.desired.certificate(certificate).authority;
        if rehearsal {
            authority = authority.and_then(|real| self.context.desired.authority(real).rehearsal);
        }
        authority.is_some_and(|authority| self.is_for(row, certificate, authority))
    }

    /// Records that an order is given up, and why.
    pub(super) async fn give_up_row(&self, claim: &Claim, row: OrderRow, why: &str) -> Result<(), Finding> {
        let ended = Some(self.context.clock.now());
        let row = OrderRow { phase: OrderPhase::Failed, ended, says: Some(why.into()), ..row };
        self.persist_order(claim, &row).await.map(drop)
    }

    /// Says whether an order is for what the manifest says of a certificate today.
    fn is_for(&self, row: &OrderRow, certificate: CertificateId, authority: AuthorityId) -> bool {
        let directory = self.context.desired.authority(authority).directory.as_str();
        row.names == self.context.desired.certificate(certificate).names && row.authority == directory
    }

    /// Says whether the key of an order can be read, and is of the kind that is wanted.
    fn has_wanted_key(&self, row: &OrderRow, certificate: CertificateId) -> Result<bool, Finding> {
        let key = self.order_key(row)?;
        let kind = key.request_signer().ok().map(|key| key.kind());
        Ok(kind.is_none_or(|kind| kind == self.context.desired.certificate(certificate).terms.key))
    }

    /// Returns the order that an earlier run did not bring to its end, if it is still usable.
    pub(super) async fn unfinished(
        &self,
        request: &OrderRequest,
        account: &Account,
        claim: &Claim,
    ) -> Result<Option<OrderRow>, Finding> {
        let row = self.context.state.open_order(&self.order_name(request)).await.map_err(state_failed)?;
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
                self.context.note(format!("the order for {} is abandoned: {}", in_words(&row.names), finding.says()));
                self.give_up_row(claim, row, &finding.says()).await?;
                return Ok(None);
            }
        }
        if row.url.is_none() {
            // The answer to the order was never received. Where the authority lists the
            // account's orders it is found there; else it is lost, and counted.
            row.url = self.find_order(&row, account).await;
            let found = row.url.is_some();
            (row.phase, row.ended) =
                if found { (OrderPhase::Open, None) } else { (OrderPhase::Lost, Some(self.context.clock.now())) };
            self.persist_order(claim, &row).await?;
            if !found {
                self.lost_orders.fetch_add(1, Ordering::Relaxed);
                self.context.note(format!(
                    "the response to an order for {} was lost in the previous run, and {} lists no such order: it counts as spent, and another one is made",
                    in_words(&row.names),
                    row.authority
                ));
                return Ok(None);
            }
        }
        Ok(Some(row))
    }

    /// Looks for an order whose answer was lost in the account's list of orders. An authority
    /// whose list cannot be read is one without a list (RFC 8555 §7.1.2.1 makes it optional).
    pub(super) async fn find_order(&self, row: &OrderRow, account: &Account) -> Option<String> {
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
            if self.context.state.knows_order(&row.authority, &url).await.unwrap_or(true) {
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
    pub(super) async fn end_order(
        &self,
        account: &Account,
        order: &mut OrderInProgress,
        claim: &Claim,
    ) -> Result<(), Finding> {
        (order.row.phase, order.row.ended) = (OrderPhase::Failed, Some(self.context.clock.now()));
        self.persist_order(claim, &order.row).await?;
        self.rate_limits.refund_certificate(&order.row).await?;
        self.deactivate_authorizations(account, &order.flow).await;
        self.challenges.remove(&order.row).await;
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
}

/// The most orders that are read to find one whose answer was lost.
const MOST_ORDERS_READ: usize = 200;

/// Why an order of an earlier run is given up that the manifest says nothing of today.
const UNWANTED: &str = "the manifest no longer wants it";
