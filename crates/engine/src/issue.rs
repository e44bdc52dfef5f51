//! Driving one order: the core's machine says what it wants, and here it gets it.
//!
//! What must survive a kill is kept before the world hears of it: the certificate key
//! before the order, the order before its challenges, the challenge records before
//! they are put into a zone.

use std::sync::atomic::Ordering as Atomic;
use std::time::Duration;

use futures::StreamExt as _;
use futures::stream;
use jiff::Timestamp;
use pindrel_acme::TransportError;
use pindrel_core::acme::account::deactivate;
use pindrel_core::acme::jws::Payload;
use pindrel_core::acme::objects::{Order, OrderStatus};
use pindrel_core::acme::order::{Call, Issued, OrderError, OrderFlow, Purpose, Terms, Want};
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::facts::{HeldCertificate, KEY_COMPROMISED, Origin};
use pindrel_core::name::Hostname;
use pindrel_core::values::KeyKind;
use pindrel_keys::{CertificateKey, Chain};
use pindrel_state::{CertificateRow, Moment, OrderPhase, OrderRow, SealedBytes, StateError};
use secrecy::ExposeSecret as _;

use crate::account::{Account, Signing};
use crate::carry::{key_row, names};
use crate::error::{EngineError, StepFailure};
use crate::{Engine, Event};

/// How many requests of one order may be under way at once.
const REQUESTS_AT_ONCE: usize = 8;
/// The most orders that are read to find one whose answer was lost.
const MOST_ORDERS_READ: usize = 200;
/// The most chains that are looked at to find the wanted root.
const MOST_CHAINS: usize = 8;
/// How long a self-signed certificate is valid, in days.
const SELF_SIGNED_DAYS: i64 = 30;

/// Why an order of an earlier run is given up that the manifest says nothing of today.
const UNWANTED: &str = "the manifest does not want it any more";
/// What the name of a rehearsal's order begins with.
const REHEARSAL_OF: &str = "rehearsal of ";

/// What is ordered, where, and for whom.
pub(crate) struct Ordering {
    pub(crate) certificate: CertificateId,
    pub(crate) authority: AuthorityId,
    /// The hostname that is told about the progress.
    pub(crate) hostname: Hostname,
    /// Whether this only proves that it can be done.
    pub(crate) rehearsal: bool,
}

/// How an attempt at an order ended early.
enum Ended {
    /// For good: the order is of no more use.
    Order(StepFailure),
    /// For now: the next run goes on with it.
    Paused(StepFailure),
    /// The authority knows no such order any more, or it is invalid: it was not made
    /// by this run, so another is worth asking for.
    Stale,
    /// Another order replaces the predecessor already (RFC 9773 §5).
    AlreadyReplaced,
}

impl<E: Into<StepFailure>> From<E> for Ended {
    fn from(error: E) -> Ended {
        Ended::Paused(error.into())
    }
}

impl Engine {
    pub(crate) async fn issue(&self, id: CertificateId, hostname: &Hostname) -> Result<(), StepFailure> {
        let Some(authority) = self.desired.certificate(id).authority else { return self.sign_oneself(id) };
        let account = self.account(authority).await?;
        let ordering = Ordering { certificate: id, authority, hostname: hostname.clone(), rehearsal: false };
        self.order(&ordering, &account).await
    }

    /// Brings an order to its certificate: one that an earlier run left, else a new one.
    pub(crate) async fn order(&self, ordering: &Ordering, account: &Account) -> Result<(), StepFailure> {
        if let Some(order) = self.unfinished(ordering, account).await? {
            match self.pursue(ordering, account, order, true).await {
                Err(Ended::Stale) => {}
                other => return other.map_err(Ended::into_failure),
            }
        }
        self.preflight(ordering.certificate, ordering.authority, account).await?;
        let order = self.new_order(ordering, account)?;
        let Err(ended) = self.pursue(ordering, account, order.clone(), false).await else { return Ok(()) };
        let Ended::AlreadyReplaced = ended else { return Err(ended.into_failure()) };
        self.order_again(ordering, account, order).await.map_err(Ended::into_failure)
    }

    /// The authority says that another order replaces the predecessor: that order is one
    /// whose answer was lost, or the new one is made without naming the predecessor.
    async fn order_again(&self, ordering: &Ordering, account: &Account, mut order: OrderRow) -> Result<(), Ended> {
        if let Some(url) = self.find_order(&order, account).await? {
            let says = format!("an order for {} whose answer was lost is taken up again: {url}", names(&order.names));
            self.listener.on(Event::Note { says });
            (order.url, order.phase) = (Some(url), OrderPhase::Open);
            self.state.keep_order(&order)?;
            return self.pursue(ordering, account, order, true).await;
        }
        let says = format!(
            "{} says that the certificate of {} is replaced already, and lists no such order: it is ordered without naming the one before",
            order.authority,
            names(&order.names)
        );
        self.listener.on(Event::Note { says });
        let (id, replaces) = (0, None);
        order = OrderRow { id, replaces, url: None, phase: OrderPhase::Asked, says: None, ..order };
        order.id = self.state.keep_order(&order)?;
        self.pursue(ordering, account, order, false).await
    }

    /// Makes the row of a new order, with its key sealed before the order is asked for,
    /// within the authority's limits.
    fn new_order(&self, ordering: &Ordering, account: &Account) -> Result<OrderRow, StepFailure> {
        let wanted = self.desired.certificate(ordering.certificate);
        let directory = self.desired.authority(ordering.authority).directory.to_string();
        let held = self.state.certificate(&wanted.name)?.filter(|_| !ordering.rehearsal);
        let name = self.order_name(ordering);
        let own = held.as_ref().filter(|row| row.held.origin == Origin::Authority && row.held.authority == directory);
        let replaces = own.and_then(|row| row.held.renewal_id.clone()).filter(|_| account.authority.advises());
        let mut row = OrderRow {
            id: 0,
            key: self.order_key_for(ordering, held.as_ref(), &key_row(&name, &directory))?,
            certificate: name,
            authority: directory,
            names: wanted.names.clone(),
            url: None,
            phase: OrderPhase::Asked,
            begun: Timestamp::now(),
            replaces,
            says: None,
        };
        row.id = self.state.keep_order(&row)?;
        let renewal = own.is_some_and(|row| row.held.not_after > Timestamp::now());
        if let Err(failure) = self.spend_order(ordering.authority, &row, renewal) {
            self.end(row, &failure.says)?;
            return Err(failure);
        }
        Ok(row)
    }

    /// A new key, or the present one where the manifest keeps it; never one that was
    /// compromised.
    fn order_key_for(
        &self,
        ordering: &Ordering,
        held: Option<&CertificateRow>,
        row: &str,
    ) -> Result<SealedBytes, StepFailure> {
        let terms = &self.desired.certificate(ordering.certificate).terms;
        let kept = held.filter(|held| {
            let compromised = held.held.replace.as_deref() == Some(KEY_COMPROMISED);
            terms.reuse_key && held.held.key == Some(terms.key) && !compromised
        });
        let key = match kept {
            Some(kept) => self.certificate_key(kept)?,
            None => CertificateKey::generate(terms.key)?,
        };
        Ok(self.vault.seal(row, key.pkcs8())?)
    }

    /// The name under which an order is kept: a rehearsal never meets the real ones.
    fn order_name(&self, ordering: &Ordering) -> String {
        let name = &self.desired.certificate(ordering.certificate).name;
        if ordering.rehearsal { format!("{REHEARSAL_OF}{name}") } else { name.clone() }
    }

    /// Gives up the orders of earlier runs that the manifest does not want any more, so that
    /// nothing of them stays in a zone.
    pub(crate) fn drop_unwanted_orders(&self) -> Result<(), EngineError> {
        for row in self.state.open_orders()? {
            if self.is_wanted(&row) {
                continue;
            }
            let says = format!("an order for {} is given up: {UNWANTED}", names(&row.names));
            self.listener.on(Event::Note { says });
            self.end(row, UNWANTED)?;
        }
        Ok(())
    }

    fn is_wanted(&self, row: &OrderRow) -> bool {
        let rehearsed = row.certificate.strip_prefix(REHEARSAL_OF);
        let name = rehearsed.unwrap_or(&row.certificate);
        let Some(certificate) = self.desired.certificate_named(name) else { return false };
        let mut authority = self.desired.certificate(certificate).authority;
        if rehearsed.is_some() {
            authority = authority.and_then(|real| self.desired.authority(real).rehearsal);
        }
        authority.is_some_and(|authority| self.is_for(row, certificate, authority))
    }

    /// Notes that an order is of no more use, and why.
    fn end(&self, row: OrderRow, why: &str) -> Result<(), StateError> {
        let ended = OrderRow { phase: OrderPhase::Failed, says: Some(why.into()), ..row };
        self.state.keep_order(&ended).map(drop)
    }

    /// Says whether an order is for what the manifest says of a certificate today.
    fn is_for(&self, row: &OrderRow, certificate: CertificateId, authority: AuthorityId) -> bool {
        let directory = self.desired.authority(authority).directory.as_str();
        row.names == self.desired.certificate(certificate).names && row.authority == directory
    }

    /// Returns the order that an earlier run did not bring to its end, if it is still of
    /// use.
    async fn unfinished(&self, ordering: &Ordering, account: &Account) -> Result<Option<OrderRow>, StepFailure> {
        let Some(mut row) = self.state.open_order(&self.order_name(ordering))? else { return Ok(None) };
        if !self.is_for(&row, ordering.certificate, ordering.authority) {
            self.end(row, UNWANTED)?;
            return Ok(None);
        }
        if row.url.is_none() {
            // The answer to the order was never received. Where the authority lists the
            // account's orders it is found there; else it is lost, and counted.
            row.url = self.find_order(&row, account).await?;
            row.phase = if row.url.is_some() { OrderPhase::Open } else { OrderPhase::Lost };
            self.state.keep_order(&row)?;
            if row.url.is_none() {
                self.lost_orders.fetch_add(1, Atomic::Relaxed);
                let says = format!(
                    "the answer to an order for {} was lost with the run before, and {} lists no such order: it is counted as spent, and another is made",
                    names(&row.names),
                    row.authority
                );
                self.listener.on(Event::Note { says });
                return Ok(None);
            }
        }
        Ok(Some(row))
    }

    async fn find_order(&self, row: &OrderRow, account: &Account) -> Result<Option<String>, StepFailure> {
        let Some(list) = &account.orders else { return Ok(None) };
        let signing = Signing(&account.key);
        let urls = account.authority.order_urls(&signing, &account.url, list).await?;
        // The newest stand at the end.
        for url in urls.into_iter().rev().take(MOST_ORDERS_READ) {
            if self.state.knows_order(&row.authority, &url)? {
                continue;
            }
            let reply = account.authority.send(&signing, &account.url, Some(&url), &Payload::PostAsGet).await?;
            let order: Option<Order> = reply.ok().and_then(|reply| serde_json::from_slice(&reply.body).ok());
            let unfinished = |order: &Order| !matches!(order.status, OrderStatus::Invalid | OrderStatus::Valid);
            if order.is_some_and(|order| unfinished(&order) && order.is_for(&row.names)) {
                return Ok(Some(url));
            }
        }
        Ok(None)
    }

    /// Brings one order to its certificate.
    async fn pursue(
        &self,
        ordering: &Ordering,
        account: &Account,
        mut row: OrderRow,
        resumed: bool,
    ) -> Result<(), Ended> {
        let profile = self.profile(ordering.certificate, ordering.authority).map(str::to_owned);
        let terms = Terms { profile: profile.filter(|_| !ordering.rehearsal), replaces: row.replaces.clone() };
        let mut flow = OrderFlow::new(row.names.clone(), terms, account.key.jwk().thumbprint());
        if let Some(url) = &row.url {
            flow = flow.resume(url.clone());
        }
        let result = self.drive(ordering, account, &mut row, &mut flow, resumed).await;
        if !matches!(result, Ok(()) | Err(Ended::Paused(_))) {
            row.phase = OrderPhase::Failed;
            self.state.keep_order(&row)?;
            self.take_back_certificate(&row)?;
            self.give_up(account, &flow).await;
        }
        if !matches!(result, Err(Ended::Paused(_))) {
            self.take_back(&row).await?;
        }
        result
    }

    /// Deactivates the authorizations of an order that is given up (RFC 8555 §7.5.2), so
    /// that they count against no limit. Nothing depends on whether that succeeds.
    async fn give_up(&self, account: &Account, flow: &OrderFlow) {
        let signing = Signing(&account.key);
        let payload = Payload::Json(deactivate());
        for url in flow.open_authorizations() {
            let result = account.authority.send(&signing, &account.url, Some(&url), &payload).await;
            tracing::debug!(?result, url, "authorization given up");
        }
    }

    async fn drive(
        &self,
        ordering: &Ordering,
        account: &Account,
        row: &mut OrderRow,
        flow: &mut OrderFlow,
        resumed: bool,
    ) -> Result<(), Ended> {
        let hostname = &ordering.hostname;
        let action = if ordering.rehearsal { "rehearse" } else { "issue" };
        loop {
            match flow.want() {
                Want::Send(calls) => self.send(account, row, flow, calls, resumed).await?,
                Want::Publish(records) => {
                    self.publish(hostname, row, &records).await?;
                    flow.published();
                }
                Want::SigningRequest => {
                    let key = self.order_key(row)?;
                    flow.signing_request(&key.signing_request(&row.names).map_err(StepFailure::from)?);
                }
                Want::Wait { until, what } => {
                    self.tell_waiting(hostname, action, what);
                    let millis = until.as_millisecond() - Timestamp::now().as_millisecond();
                    self.waits.sleep(Duration::from_millis(u64::try_from(millis).unwrap_or(0))).await;
                    flow.waited();
                }
                Want::Done(issued) => return self.accept(ordering, account, row, issued).await,
            }
        }
    }

    fn order_key(&self, row: &OrderRow) -> Result<CertificateKey, StepFailure> {
        let key = self.vault.unseal(&key_row(&row.certificate, &row.authority), &row.key)?;
        Ok(CertificateKey::from_pkcs8(key.expose_secret())?)
    }

    /// Sends what the flow wants, side by side, and tells it what came back.
    async fn send(
        &self,
        account: &Account,
        row: &mut OrderRow,
        flow: &mut OrderFlow,
        calls: Vec<Call>,
        resumed: bool,
    ) -> Result<(), Ended> {
        let entry = calls.first().and_then(|call| journalled(call.purpose));
        let subject = row.certificate.clone();
        let detail = row.url.clone().unwrap_or_default();
        if let Some(action) = entry {
            self.journal(Moment::Begun, action, subject.clone(), detail.clone())?;
        }
        let waiting = calls.iter().filter(|call| matches!(call.purpose, Purpose::Order { waiting: true })).count();
        self.waiting_requests.fetch_add(waiting as u64, Atomic::Relaxed);
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
            let told = flow.replied(purpose, reply, Timestamp::now());
            if purpose == Purpose::NewOrder
                && let Some(url) = flow.url()
            {
                row.url = Some(url.to_owned());
                row.phase = OrderPhase::Open;
                self.state.keep_order(row)?;
            }
            if let Err(error) = told {
                row.says = Some(error.to_string());
                match &error {
                    OrderError::Refused { problem, .. } | OrderError::Invalid(problem) => self.respect(row, problem)?,
                    OrderError::Validation(failed) => {
                        let names: Vec<String> = failed.iter().map(|failed| failed.name.clone()).collect();
                        self.spend_failures(row, &names)?;
                    }
                    _ => {}
                }
                // An order of an earlier run that has gone bad since says nothing about a new one.
                let of_an_earlier_run = resumed && !flow.has_responded();
                return Err(ended(error, purpose, row.replaces.is_some(), of_an_earlier_run));
            }
        }
        if let Some(action) = entry {
            self.journal(Moment::Ended, action, subject, row.url.clone().unwrap_or(detail))?;
        }
        Ok(())
    }

    /// Checks what was issued, and keeps it; a rehearsal's is only checked.
    async fn accept(
        &self,
        ordering: &Ordering,
        account: &Account,
        row: &mut OrderRow,
        issued: Issued,
    ) -> Result<(), Ended> {
        let roots = self.world.issued_roots(&self.desired, ordering.authority)?;
        let key = self.order_key(row)?;
        let authority = row.authority.clone();
        let wrong = |error: pindrel_keys::ChainError| {
            let says =
                format!("the certificate that {authority} issued for {} is not right: {error}", names(&row.names));
            let remedy = "tell the authority, and see that issued_roots names its roots; then run settle again";
            Ended::Order(StepFailure::new(says, remedy))
        };
        let now = Timestamp::now();
        let chain = Chain::from_pem(&issued.chain).map_err(&wrong)?;
        chain.verify(&key.public_key(), &row.names, &roots, now).map_err(&wrong)?;
        if ordering.rehearsal {
            row.phase = OrderPhase::Done;
            self.state.keep_order(row)?;
            return Ok(());
        }
        let chain = match self.wanted_root(ordering) {
            Some(wanted) if !leads_to(&chain, wanted) => {
                let other = self.other_chain(account, &issued.alternates, wanted, &chain).await?;
                other.filter(|other| other.verify(&key.public_key(), &row.names, &roots, now).is_ok()).unwrap_or(chain)
            }
            _ => chain,
        };
        let advises = account.authority.advises();
        let kind = self.desired.certificate(ordering.certificate).terms.key;
        let held = HeldCertificate {
            renewal_id: chain.certificate_id().filter(|_| advises),
            ..held_of(&chain, Origin::Authority, row.authority.clone(), Some(kind))
        };
        Ok(self.keep_issued(ordering.certificate, held, &chain, row.key.clone(), row.id)?)
    }

    /// Keeps a certificate as the present one, and judges anew what uses it.
    pub(crate) fn keep_issued(
        &self,
        id: CertificateId,
        held: HeldCertificate,
        chain: &Chain,
        key: SealedBytes,
        order: i64,
    ) -> Result<(), StepFailure> {
        let wanted = self.desired.certificate(id);
        let kept = CertificateRow {
            name: wanted.name.clone(),
            renew_at: held.due_at(wanted.terms.renewal),
            held,
            chain: chain.pem(),
            key,
            kept: Timestamp::now(),
            revoked: None,
            revoking: None,
        };
        self.state.keep_certificate(&kept, order)?;
        self.take_in(id, kept)?;
        let covered: Vec<_> =
            self.desired.hostname_ids().filter(|hostname| self.desired.hostname(*hostname).certificate == id).collect();
        for hostname in covered {
            if self.memory().hostnames.contains_key(&hostname) {
                self.keep(hostname)?;
            }
        }
        Ok(())
    }

    fn wanted_root(&self, ordering: &Ordering) -> Option<&str> {
        let own = self.desired.certificate(ordering.certificate).terms.chain_root.as_deref();
        own.or(self.desired.authority(ordering.authority).chain_root.as_deref())
    }

    /// Looks among the other chains of a certificate for one that leads to the wanted root.
    async fn other_chain(
        &self,
        account: &Account,
        alternates: &[String],
        wanted: &str,
        first: &Chain,
    ) -> Result<Option<Chain>, StepFailure> {
        let signing = Signing(&account.key);
        let mut offered = vec![first.root_name()];
        for url in alternates.iter().take(MOST_CHAINS) {
            let reply = account.authority.send(&signing, &account.url, Some(url), &Payload::PostAsGet).await?;
            let text = reply.ok().and_then(|reply| String::from_utf8(reply.body).ok());
            let Some(chain) = text.and_then(|text| Chain::from_pem(&text).ok()) else { continue };
            if leads_to(&chain, wanted) {
                return Ok(Some(chain));
            }
            offered.push(chain.root_name());
        }
        let says = format!("no chain leads to \"{wanted}\"; the first of these is used: {}", offered.join("; "));
        self.listener.on(Event::Note { says });
        Ok(None)
    }

    /// Makes a self-signed certificate, for a first bring-up.
    fn sign_oneself(&self, id: CertificateId) -> Result<(), StepFailure> {
        let wanted = self.desired.certificate(id);
        if wanted.terms.issued_by != Origin::SelfSigned {
            let says = format!("the certificate \"{}\" is bought elsewhere", wanted.name);
            return Err(StepFailure::new(says, format!("bring it in with: pindrel cert import {} FILES", wanted.name)));
        }
        let key = CertificateKey::generate(wanted.terms.key)?;
        let pem = key.self_signed(&wanted.names, Timestamp::now(), SELF_SIGNED_DAYS)?;
        let chain = Chain::from_pem(&pem).map_err(|error| StepFailure::new(error.to_string(), "report this fault"))?;
        let held = held_of(&chain, Origin::SelfSigned, String::new(), Some(wanted.terms.key));
        let sealed = self.vault.seal(&key_row(&wanted.name, ""), key.pkcs8())?;
        self.keep_issued(id, held, &chain, sealed, 0)
    }
}

/// What a chain says of its leaf, without advice and with no reason to replace it.
pub(crate) fn held_of(chain: &Chain, origin: Origin, authority: String, key: Option<KeyKind>) -> HeldCertificate {
    HeldCertificate {
        sha256: chain.fingerprint(),
        names: chain.names().to_vec(),
        origin,
        authority,
        key,
        not_before: chain.leaf().not_before,
        not_after: chain.leaf().not_after,
        renewal_id: None,
        window: None,
        replace: None,
    }
}

/// Says whether a chain leads to the root of that name: its common name, or all of it.
fn leads_to(chain: &Chain, wanted: &str) -> bool {
    let name = chain.root_name();
    name == wanted || name.split(", ").any(|part| part.strip_prefix("CN=") == Some(wanted))
}

impl Ended {
    fn into_failure(self) -> StepFailure {
        match self {
            Ended::Order(failure) | Ended::Paused(failure) => failure,
            Ended::Stale => StepFailure::new("the authority does not know the order any more", "run settle again"),
            Ended::AlreadyReplaced => {
                StepFailure::new("the authority says that the certificate is replaced already", "run settle again")
            }
        }
    }
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
fn not_sent(purpose: Purpose, error: TransportError) -> Ended {
    let never_made = purpose == Purpose::NewOrder && !error.may_have_acted();
    let failure = StepFailure::from(error);
    if never_made { Ended::Order(failure) } else { Ended::Paused(failure) }
}

fn ended(error: OrderError, purpose: Purpose, replaces: bool, of_an_earlier_run: bool) -> Ended {
    match error {
        OrderError::Refused { problem, .. } if replaces && problem.error() == "alreadyReplaced" => {
            Ended::AlreadyReplaced
        }
        error if error.is_passing() && purpose != Purpose::NewOrder => Ended::Paused(error.into()),
        OrderError::Refused { .. } | OrderError::Invalid(_) | OrderError::Validation(_) if of_an_earlier_run => {
            Ended::Stale
        }
        _ => Ended::Order(error.into()),
    }
}
