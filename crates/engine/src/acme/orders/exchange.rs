//! The exchange with an authority, from the first request to the certificate.

use std::sync::atomic::Ordering;

use futures::{StreamExt as _, stream};
use pindrel_acme::TransportError;
use pindrel_core::certificates::acme::jws::Payload;
use pindrel_core::certificates::acme::order::{Call, Issued, OrderError, Purpose, Want};
use pindrel_core::judging::facts::{HeldCertificate, Origin};
use pindrel_core::judging::findings::{CertificateCause, Finding};
use pindrel_core::names::name::in_words;
use pindrel_keys::{Chain, ChainError};
use pindrel_state::{Claim, Moment, OrderPhase, OrderRow};

use super::{OrderEnd, OrderInProgress, OrderRequest, Orders};
use crate::acme::accounts::{Account, Signing};
use crate::context::progress::{ORDER, Progress, Wait};
use crate::drivers::trusted_of_authority;
use crate::failure::{key_failed, order_failed, transport_failed};
use crate::home::certificates::held_of;

impl Orders {
    pub(super) async fn drive(
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
                    let published = self.challenges.publish(&order.row, &records, &mut order.publication, claim).await;
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
                Want::Wait { until, .. } if until <= self.context.clock.now() => order.flow.waited(),
                Want::Wait { until, what } => {
                    let processing = CertificateCause::OrderProcessing {
                        authority: order.row.authority.clone(),
                        names: order.row.names.clone(),
                    };
                    let name = &self.context.desired.certificate(request.certificate).name;
                    return Ok(Progress::NotYet(Wait {
                        until: Some(until),
                        topic: ORDER,
                        what: what.to_owned(),
                        within: None,
                        finding: Finding::certificate(name, processing),
                    }));
                }
                Want::Done(issued) => {
                    self.accept(request, account, order, issued, claim).await?;
                    return Ok(Progress::Done);
                }
            }
        }
    }

    /// Sends what the flow wants, side by side, and hands it the replies.
    pub(super) async fn send(
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
        let about = |row: &OrderRow| row.url.clone().unwrap_or_else(|| in_words(&row.names));
        let begun = self.context.journal(Moment::Begun, action, &subject, about(&order.row)).await;
        begun.map_err(|error| OrderEnd::Deferred(error.into()))?;
        let exchanged = self.exchange(account, order, calls, claim).await;
        let about = about(&order.row);
        let ended = exchanged.as_ref().map(|()| about.as_str()).map_err(OrderEnd::finding);
        let written = self.context.journal_end(action, &subject, ended).await;
        exchanged.and(written.map_err(|error| OrderEnd::Deferred(error.into())))
    }

    /// Does what [`Orders::send`] journals.
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
                self.rate_limits.held_back(certificate).await.map_err(|error| OrderEnd::Deferred(error.into()))?
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
            let told = flow.replied(purpose, reply, self.context.clock.now());
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
                        self.rate_limits.record(row, problem).await
                    }
                    OrderError::Validation(failed) => {
                        let names: Vec<String> = failed.iter().map(|failed| failed.name.clone()).collect();
                        self.rate_limits.spend_failures(row, &names).await.map(|()| None)
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
        let authority = self.context.desired.authority(request.authority);
        let roots = self.context.drivers.roots(&trusted_of_authority(authority)).map_err(OrderEnd::Deferred)?;
        let key = self.order_key(row).map_err(OrderEnd::GivenUp)?;
        let wrong = |error: ChainError| {
            let unusable = CertificateCause::IssuedUnusable {
                authority: authority.name.clone(),
                names: row.names.clone(),
                why: error.to_string(),
            };
            let finding = Finding::certificate(&row.certificate, unusable);
            match error {
                // The certificate may be right and the manifest wrong: it is read again, and no other
                // one is ordered, once the roots are corrected.
                ChainError::Untrusted(_) | ChainError::IntermediateMissing(_) => OrderEnd::Deferred(finding),
                _ => OrderEnd::GivenUp(finding),
            }
        };
        let now = self.context.clock.now();
        let chain = Chain::from_pem(&issued.chain).map_err(&wrong)?;
        chain.verify(&key.public_key(), &row.names, &roots, now).map_err(&wrong)?;
        if request.rehearsal {
            (row.phase, row.ended) = (OrderPhase::Done, Some(now));
            return self.persist_order(claim, row).await.map(drop).map_err(OrderEnd::Deferred);
        }
        let terms = self.context.desired.certificate(request.certificate).ordered_terms(authority);
        let chain = match &terms.chain_root {
            Some(wanted) if !leads_to(&chain, wanted) => {
                let other = self.other_chain(account, &issued.alternates, wanted, &chain).await;
                other.filter(|other| other.verify(&key.public_key(), &row.names, &roots, now).is_ok()).unwrap_or(chain)
            }
            _ => chain,
        };
        let advises = account.authority.advises();
        let kind = self.context.desired.certificate(request.certificate).terms.key;
        let held = HeldCertificate {
            renewal_id: chain.certificate_id().filter(|_| advises),
            ordered: Some(terms),
            ..held_of(&chain, Origin::Authority, row.authority.clone(), Some(kind))
        };
        let stored = self.certificates.persist(claim, request.certificate, held, &chain, row.key.clone(), row.id).await;
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
        self.context.note(format!("no chain ends at \"{wanted}\"; the first of these is used: {}", offered.join("; ")));
        None
    }

    fn count_waiting_requests(&self, count: usize) {
        self.waiting_requests.fetch_add(count as u64, Ordering::Relaxed);
    }
}

/// How many requests of one order may be under way at once.
const REQUESTS_AT_ONCE: usize = 8;

/// The most chains that are looked at to find the wanted root.
const MOST_CHAINS: usize = 8;

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
