//! Driving one order: the core's machine says what it wants, and here it gets it.
//!
//! What must survive a kill is kept before the world hears of it: the certificate key
//! before the order, the order before its challenges, the challenge records before
//! they are put into a zone.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use futures::StreamExt as _;
use futures::stream;
use jiff::Timestamp;
use pindrel_acme::{Authority, RequestSigner, TransportError};
use pindrel_core::acme::jws::{Jwk, Payload};
use pindrel_core::acme::objects::{Order, OrderStatus};
use pindrel_core::acme::order::{Call, ChallengeRecord, OrderError, OrderFlow, Purpose, Want};
use pindrel_core::desired::{CertificateId, ZoneId};
use pindrel_core::facts::HeldCertificate;
use pindrel_core::name::{DnsName, Hostname};
use pindrel_dns::lookup;
use pindrel_keys::{AccountKey, CertificateKey, Chain};
use pindrel_state::{AccountRow, CertificateRow, ChallengeRow, Moment, OrderPhase, OrderRow};
use secrecy::ExposeSecret as _;

use crate::carry::{Pace, account_row, key_row, names};
use crate::error::{EngineError, StepFailure};
use crate::{Engine, Event};

/// How many requests of one order may be under way at once.
const REQUESTS_AT_ONCE: usize = 8;
/// The most orders that are read to find one whose answer was lost.
const MOST_ORDERS_READ: usize = 200;
/// How long the servers of a zone may take to give up a challenge record.
const CLEAR_PATIENCE: Duration = Duration::from_secs(60);

/// Lets an account key sign for the transport.
pub(crate) struct Signing<'k>(pub(crate) &'k AccountKey);

impl RequestSigner for Signing<'_> {
    fn jwk(&self) -> &Jwk {
        self.0.jwk()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, String> {
        self.0.sign(message).map_err(|error| error.to_string())
    }
}

/// An account with all that its orders need.
struct Account {
    authority: Arc<Authority>,
    key: AccountKey,
    row: AccountRow,
    url: String,
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
}

impl<E: Into<StepFailure>> From<E> for Ended {
    fn from(error: E) -> Ended {
        Ended::Paused(error.into())
    }
}

impl Engine {
    pub(crate) async fn issue(&self, id: CertificateId, hostname: &Hostname) -> Result<(), StepFailure> {
        let account = self.account(id).await?;
        if let Some(order) = self.unfinished(id, &account).await? {
            match self.pursue(id, hostname, &account, order, true).await {
                Err(Ended::Stale) => {}
                other => return other.map_err(Ended::into_failure),
            }
        }
        let order = self.new_order(id)?;
        self.pursue(id, hostname, &account, order, false).await.map_err(Ended::into_failure)
    }

    async fn account(&self, id: CertificateId) -> Result<Account, StepFailure> {
        let wanted = self.desired.certificate(id).authority;
        let directory = self.desired.authority(wanted).directory.as_str();
        let authority = self.world.authority(&self.desired, wanted).await?;
        let row = self.state.account(directory)?.and_then(|row| row.url.clone().map(|url| (row, url)));
        let (row, url) =
            row.ok_or_else(|| StepFailure::new(format!("there is no account at {directory}"), "run settle again"))?;
        let key = AccountKey::from_pkcs8(self.vault.unseal(&account_row(directory), &row.key)?.expose_secret())?;
        Ok(Account { authority, key, row, url })
    }

    /// Makes the row of a new order, with a new key that is sealed before the order is
    /// asked for.
    fn new_order(&self, id: CertificateId) -> Result<OrderRow, StepFailure> {
        let wanted = self.desired.certificate(id);
        let directory = self.desired.authority(wanted.authority).directory.to_string();
        let key = self.vault.seal(&key_row(&wanted.name, &directory), CertificateKey::generate()?.pkcs8())?;
        let mut row = OrderRow {
            id: 0,
            certificate: wanted.name.clone(),
            authority: directory,
            names: wanted.names.clone(),
            url: None,
            phase: OrderPhase::Asked,
            key,
            begun: Timestamp::now(),
        };
        row.id = self.state.keep_order(&row)?;
        Ok(row)
    }

    /// Returns the order that an earlier run did not bring to its end, if it is still of
    /// use.
    async fn unfinished(&self, id: CertificateId, account: &Account) -> Result<Option<OrderRow>, StepFailure> {
        let wanted = self.desired.certificate(id);
        let Some(mut row) = self.state.open_order(&wanted.name)? else { return Ok(None) };
        let directory = self.desired.authority(wanted.authority).directory.as_str();
        if row.names != wanted.names || row.authority != directory {
            row.phase = OrderPhase::Failed;
            self.state.keep_order(&row)?;
            return Ok(None);
        }
        if row.url.is_none() {
            // The answer to the order was never received. Where the authority lists the
            // account's orders it is found there; else it is lost, and counted.
            row.url = self.find_order(&row, account).await?;
            row.phase = if row.url.is_some() { OrderPhase::Open } else { OrderPhase::Lost };
            self.state.keep_order(&row)?;
            if row.url.is_none() {
                self.lost_orders.fetch_add(1, Ordering::Relaxed);
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
        let Some(list) = &account.row.orders else { return Ok(None) };
        let signing = Signing(&account.key);
        let urls = account.authority.order_urls(&signing, &account.url, list).await?;
        // The newest stand at the end.
        for url in urls.into_iter().rev().take(MOST_ORDERS_READ) {
            if self.state.knows_order(&row.authority, &url)? {
                continue;
            }
            let reply = account.authority.send(&signing, &account.url, Some(&url), &Payload::PostAsGet).await?;
            let order: Option<Order> = reply.ok().and_then(|reply| serde_json::from_slice(&reply.body).ok());
            if order.is_some_and(|order| order.status != OrderStatus::Invalid && order.is_for(&row.names)) {
                return Ok(Some(url));
            }
        }
        Ok(None)
    }

    /// Brings one order to its certificate.
    async fn pursue(
        &self,
        id: CertificateId,
        hostname: &Hostname,
        account: &Account,
        mut row: OrderRow,
        resumed: bool,
    ) -> Result<(), Ended> {
        let mut flow = OrderFlow::new(row.names.clone(), account.key.jwk().thumbprint());
        if let Some(url) = &row.url {
            flow = flow.resume(url.clone());
        }
        let result = self.drive(id, hostname, account, &mut row, &mut flow, resumed).await;
        if !matches!(result, Ok(()) | Err(Ended::Paused(_))) {
            row.phase = OrderPhase::Failed;
            self.state.keep_order(&row)?;
        }
        if !matches!(result, Err(Ended::Paused(_))) {
            self.take_back(&row).await?;
        }
        result
    }

    async fn drive(
        &self,
        id: CertificateId,
        hostname: &Hostname,
        account: &Account,
        row: &mut OrderRow,
        flow: &mut OrderFlow,
        resumed: bool,
    ) -> Result<(), Ended> {
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
                    self.tell_waiting(hostname, "issue", what);
                    let millis = until.as_millisecond() - Timestamp::now().as_millisecond();
                    self.waits.sleep(Duration::from_millis(u64::try_from(millis).unwrap_or(0))).await;
                    flow.waited();
                }
                Want::Done(chain) => return self.accept(id, row, chain),
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
        self.waiting_requests.fetch_add(waiting as u64, Ordering::Relaxed);
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
            // An order of an earlier run that has gone bad since says nothing about a new one.
            told.map_err(|error| ended(error, purpose, resumed && !flow.has_responded()))?;
        }
        if let Some(action) = entry {
            self.journal(Moment::Ended, action, subject, row.url.clone().unwrap_or(detail))?;
        }
        Ok(())
    }

    /// Puts the challenge records into their zones, and waits until every
    /// authoritative server gives them.
    async fn publish(
        &self,
        hostname: &Hostname,
        row: &OrderRow,
        records: &[ChallengeRecord],
    ) -> Result<(), StepFailure> {
        let mut zones: BTreeMap<ZoneId, Vec<ChallengeRecord>> = BTreeMap::new();
        for record in records {
            zones.entry(self.challenge_zone(record)?).or_default().push(record.clone());
        }
        for (zone, records) in &zones {
            let name = &self.desired.zone(*zone).name;
            let rows: Vec<ChallengeRow> =
                records.iter().map(|record| ChallengeRow { zone: name.clone(), record: record.clone() }).collect();
            self.state.note_challenge_records(row.id, &rows)?;
        }
        self.journal(Moment::Begun, "challenge-put", row.certificate.clone(), names(&row.names))?;
        for (zone, records) in &zones {
            let servers = self.zone_servers(*zone);
            self.world.zone_driver(&self.desired, *zone, &servers)?.add_challenges(records).await?;
            self.await_challenges(hostname, &servers, records).await?;
        }
        self.journal(Moment::Ended, "challenge-put", row.certificate.clone(), names(&row.names))
    }

    fn challenge_zone(&self, record: &ChallengeRecord) -> Result<ZoneId, StepFailure> {
        let zones = self.desired.zones.iter().zip(0u32..).filter(|(zone, _)| record.name.is_within(&zone.name));
        let longest = zones.max_by_key(|(zone, _)| zone.name.as_str().len());
        longest.map(|(_, id)| ZoneId(id)).ok_or_else(|| {
            StepFailure::new(format!("{} lies in no zone of the manifest", record.name), "add its zone to the manifest")
        })
    }

    /// Waits until every server gives every record, naming who lags.
    async fn await_challenges(
        &self,
        hostname: &Hostname,
        servers: &[std::net::SocketAddr],
        records: &[ChallengeRecord],
    ) -> Result<(), StepFailure> {
        let mut pace = Pace::new(self.transfer_patience);
        let mut left: Vec<std::net::SocketAddr> = servers.to_vec();
        loop {
            let mut lagging = Vec::new();
            let mut why = Vec::new();
            for server in left {
                for record in records {
                    match lookup::gives_challenge(server, record).await {
                        Ok(true) => continue,
                        Ok(false) => why.push(server.to_string()),
                        Err(error) => why.push(format!("{server} ({error})")),
                    }
                    lagging.push(server);
                    break;
                }
            }
            if lagging.is_empty() {
                return Ok(());
            }
            let Some(wait) = pace.next() else {
                return Err(StepFailure::new(
                    format!("{} never gave the challenge record {}", why.join(" and "), records[0].name),
                    "see why that server does not transfer the zone, then run settle again",
                ));
            };
            self.tell_waiting(hostname, "issue", format!("{} to give the challenge record", why.join(" and ")));
            self.waits.sleep(wait).await;
            left = lagging;
        }
    }

    /// Checks what was issued, and keeps it.
    fn accept(&self, id: CertificateId, row: &OrderRow, chain_pem: String) -> Result<(), Ended> {
        let wanted = self.desired.certificate(id);
        let roots = self.world.issued_roots(&self.desired, wanted.authority)?;
        let key = self.order_key(row)?;
        let wrong = |error: pindrel_keys::ChainError| {
            let says = format!(
                "the certificate that {} issued for {} is not right: {error}",
                row.authority,
                names(&row.names)
            );
            Ended::Order(StepFailure::new(
                says,
                "tell the authority, and see that issued_roots names its roots; then run settle again",
            ))
        };
        let chain = Chain::from_pem(&chain_pem).map_err(wrong)?;
        chain.verify(&key.public_key(), &row.names, &roots, Timestamp::now()).map_err(wrong)?;
        let held = HeldCertificate {
            sha256: chain.fingerprint(),
            names: chain.names().to_vec(),
            authority: row.authority.clone(),
            not_before: chain.not_before(),
            not_after: chain.not_after(),
        };
        let kept = CertificateRow {
            name: row.certificate.clone(),
            held: held.clone(),
            chain: chain_pem,
            key: row.key.clone(),
        };
        self.state.keep_certificate(&kept, row.id)?;
        self.memory().certificates.insert(id, Some(held));
        let covered: Vec<_> =
            self.desired.hostname_ids().filter(|hostname| self.desired.hostname(*hostname).certificate == id).collect();
        for hostname in covered {
            if self.memory().hostnames.contains_key(&hostname) {
                self.keep(hostname)?;
            }
        }
        Ok(())
    }

    /// Takes an order's challenge records out of their zones; that they are gone from
    /// every server is seen to at the end of the run.
    async fn take_back(&self, row: &OrderRow) -> Result<(), StepFailure> {
        let mut zones: BTreeMap<DnsName, Vec<ChallengeRecord>> = BTreeMap::new();
        for standing in self.state.standing_challenge_records(Some(row.id))? {
            zones.entry(standing.zone).or_default().push(standing.record);
        }
        for (zone, records) in zones {
            self.journal(Moment::Begun, "challenge-clear", row.certificate.clone(), zone.to_string())?;
            if let Some(id) = self.zone_named(&zone) {
                let servers = self.zone_servers(id);
                let driver = self.world.zone_driver(&self.desired, id, &servers)?;
                // A failure here harms nothing yet: the end of the run tries again and tells.
                if let Err(error) = driver.delete_challenges(&records).await {
                    tracing::warn!(%zone, %error, "challenge records not cleared yet");
                }
            }
            self.journal(Moment::Ended, "challenge-clear", row.certificate.clone(), zone.to_string())?;
        }
        Ok(())
    }

    fn zone_named(&self, name: &DnsName) -> Option<ZoneId> {
        self.desired.zones.iter().position(|zone| zone.name == *name).map(|index| ZoneId(index as u32))
    }

    /// Clears the challenge records of all orders that have ended, by exact value, and
    /// waits until no server gives them any more.
    pub(crate) async fn clear_leftovers(&self) -> Result<(), EngineError> {
        let mut zones: BTreeMap<DnsName, Vec<ChallengeRow>> = BTreeMap::new();
        for row in self.state.standing_challenge_records(None)? {
            zones.entry(row.zone.clone()).or_default().push(row);
        }
        for (zone, rows) in zones {
            if let Err(failure) = self.clear_zone(&zone, &rows).await {
                let says = format!("challenge records of {zone} are still to be cleared: {}", failure.says);
                self.listener.on(Event::Note { says });
            }
        }
        Ok(())
    }

    async fn clear_zone(&self, zone: &DnsName, rows: &[ChallengeRow]) -> Result<(), StepFailure> {
        let id = self
            .zone_named(zone)
            .ok_or_else(|| StepFailure::new("the zone is not in the manifest any more", "add it"))?;
        let known = self.memory().zones.contains_key(&id);
        if !known && let Some(fact) = self.state.zone(zone)? {
            self.memory().zones.insert(id, fact);
        }
        let _working = self.waits.work();
        let servers = self.zone_servers(id);
        let driver = self.world.zone_driver(&self.desired, id, &servers)?;
        let records: Vec<ChallengeRecord> = rows.iter().map(|row| row.record.clone()).collect();
        driver.delete_challenges(&records).await?;
        let mut pace = Pace::new(CLEAR_PATIENCE);
        let mut left: Vec<&ChallengeRow> = rows.iter().collect();
        loop {
            let mut standing = Vec::new();
            for row in left {
                let mut gone = true;
                for server in &servers {
                    gone = gone && matches!(lookup::gives_challenge(*server, &row.record).await, Ok(false));
                }
                if gone {
                    self.state.forget_challenge_record(row)?;
                } else {
                    standing.push(row);
                }
            }
            if standing.is_empty() {
                return Ok(());
            }
            let wait = pace.next().ok_or_else(|| {
                let says = format!("a server still gives {}", standing[0].record.name);
                StepFailure::new(says, "run settle again")
            })?;
            self.waits.sleep(wait).await;
            left = standing;
        }
    }
}

impl Ended {
    fn into_failure(self) -> StepFailure {
        match self {
            Ended::Order(failure) | Ended::Paused(failure) => failure,
            Ended::Stale => StepFailure::new("the authority does not know the order any more", "run settle again"),
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

fn ended(error: OrderError, purpose: Purpose, of_an_earlier_run: bool) -> Ended {
    match error {
        error if error.is_passing() && purpose != Purpose::NewOrder => Ended::Paused(error.into()),
        OrderError::Refused { .. } | OrderError::Invalid(_) | OrderError::Validation(_) if of_an_earlier_run => {
            Ended::Stale
        }
        _ => Ended::Order(error.into()),
    }
}
