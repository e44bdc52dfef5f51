//! One order, from nothing to a certificate, as a machine without I/O.
//!
//! The flow says what it wants ([`Want`]) and is told what came of it. It never asks
//! for the same thing twice unless told to read anew ([`OrderFlow::resume`]): after a
//! kill every order, authorization and challenge is read before anything is posted,
//! since posting again to a finished one is an error (RFC 8555 §7.1.6).
//!
//! ```text
//! AskOrder ──▶ ReadAuthorizations ──▶ Publish ──▶ Respond ──▶ AwaitReady ──▶ Finalize ──▶ AwaitValid ──▶ Download ──▶ Done
//! ReadOrder ──┴─────────────────────────────────────────────────┴──────────────┴─────────────┴─────────────┘
//! ```

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::identifier::Identifier;
use super::jws::{Payload, base64url, dns01_text};
use super::objects::{Authorization, AuthorizationStatus, Challenge, ChallengeStatus, Order, OrderStatus};
use super::problem::Problem;
use crate::names::name::{DnsName, Hostname};
use crate::values::Ttl;
use crate::zones::records::{RecordData, ZoneRecord};

/// How often an order is looked at before its authorizations are.
const LOOKS_AT_ORDER: u32 = 4;
/// How long an order may stay in one state before the flow gives up, in seconds.
const PATIENCE_SECS: i64 = 600;
/// The first wait between two looks at an order, in milliseconds; it doubles up to
/// [`LONGEST_WAIT_MS`] unless the authority says `Retry-After`.
const FIRST_WAIT_MS: i64 = 100;
const LONGEST_WAIT_MS: i64 = 5_000;
/// The most authorizations that an order may have: there are at most a hundred names, and
/// not always one for each (RFC 8555 §7.1.3).
const MOST_AUTHORIZATIONS: usize = 200;
/// The longest `Retry-After` that is honoured, in seconds.
const LONGEST_RETRY_AFTER_SECS: i64 = 120;

/// A TXT record that answers a challenge.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ChallengeRecord {
    /// Where it belongs.
    pub name: DnsName,
    /// Its text.
    pub text: String,
}

impl ChallengeRecord {
    /// Returns the record as it goes into a zone, with this TTL where it is alone.
    pub fn in_zone(&self, ttl: Ttl) -> ZoneRecord {
        ZoneRecord { owner: self.name.clone(), ttl, data: RecordData::Txt(self.text.clone()) }
    }
}

/// What a call of the flow is about; handed back with the reply.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    /// Make the order.
    NewOrder,
    /// Read the order; `waiting` when it is a look whether something has changed.
    Order {
        /// Whether the look repeats an earlier one.
        waiting: bool,
    },
    /// Read the authorization of this number.
    Authorization(usize),
    /// Answer the challenge of the authorization of this number.
    Challenge(usize),
    /// Hand in the signing request.
    Finalize,
    /// Fetch the certificate.
    Certificate,
}

/// A request that the flow wants sent.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    /// Where to; `None` means the directory's `newOrder`.
    pub url: Option<String>,
    /// What it carries.
    pub payload: Payload,
    /// What it is about.
    pub purpose: Purpose,
}

/// What the authority replied with a status below 400.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reply {
    /// The `Location` header.
    pub location: Option<String>,
    /// The `Retry-After` header, made into a time.
    pub retry_at: Option<Timestamp>,
    /// Where other chains of the same certificate are (RFC 8555 §7.4.2).
    pub alternates: Vec<String>,
    /// The body.
    pub body: Vec<u8>,
}

/// What the flow wants next.
#[derive(Debug, Clone, PartialEq)]
pub enum Want {
    /// These requests, in any order or at once.
    Send(Vec<Call>),
    /// These records on every authoritative server; then [`OrderFlow::published`].
    Publish(Vec<ChallengeRecord>),
    /// A PKCS#10 request for these names; then [`OrderFlow::signing_request`].
    SigningRequest,
    /// To be asked again at this time; then [`OrderFlow::waited`].
    Wait {
        /// The time.
        until: Timestamp,
        /// What is waited for, as in "the authority to validate".
        what: &'static str,
    },
    /// Nothing more: here it is.
    Done(Issued),
}

/// What an order came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Issued {
    /// The chain in PEM, leaf first.
    pub chain: String,
    /// Where other chains of the same certificate are.
    pub alternates: Vec<String>,
}

/// What is ordered besides the names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Terms {
    /// The certificate profile.
    pub profile: Option<String>,
    /// The certificate that is replaced, by its identifier (RFC 9773 §5).
    pub replaces: Option<String>,
}

/// Why an order failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OrderError {
    /// The authority refused a request.
    #[error("the authority refused {what}: {problem}")]
    Refused {
        /// What was asked for.
        what: &'static str,
        /// What it said.
        problem: Problem,
    },
    /// One or more names failed their validation.
    #[error("the authority could not validate {}", failed_names(.0))]
    Validation(Vec<FailedName>),
    /// The order is invalid for another reason.
    #[error("the authority marked the order invalid: {0}")]
    Invalid(Problem),
    /// The authority has no dns-01 challenge for a name.
    #[error("the authority offers no dns-01 challenge for {0}")]
    NoDns01(String),
    /// A response that does not read as RFC 8555 says.
    #[error("the authority's answer to {what} cannot be read: {why}")]
    Malformed {
        /// What was asked for.
        what: &'static str,
        /// What is wrong with it.
        why: String,
    },
    /// The authority took too long.
    #[error("the authority made no progress for {PATIENCE_SECS} s while Pindrel waited for {0}")]
    TooSlow(&'static str),
}

/// A name that failed its validation, and what the authority said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FailedName {
    /// The name.
    pub name: String,
    /// What the authority said.
    pub problem: Problem,
}

fn failed_names(failed: &[FailedName]) -> String {
    failed.iter().map(|failed| format!("{} ({})", failed.name, failed.problem)).collect::<Vec<_>>().join(", ")
}

impl OrderError {
    /// Says whether the cause is likely to pass, so that the same order can go on later.
    pub fn is_transient(&self) -> bool {
        match self {
            OrderError::TooSlow(_) => true,
            OrderError::Refused { problem, .. } => problem.status.is_some_and(|status| status == 429 || status >= 500),
            _ => false,
        }
    }

    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            OrderError::Refused { problem, .. } | OrderError::Invalid(problem) => problem.remedy(),
            OrderError::Validation(failed) => {
                failed.first().map_or_else(|| "Run settle".into(), |failed| failed.problem.remedy())
            }
            OrderError::NoDns01(_) => "Choose an authority that validates by dns-01".into(),
            OrderError::Malformed { .. } => "Check that the directory URL is that of an ACME authority".into(),
            OrderError::TooSlow(_) => "Run settle later: it continues the same order".into(),
        }
    }
}

/// How far the flow has got.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Stage {
    AskOrder,
    ReadOrder,
    ReadAuthorizations,
    Publish,
    Respond,
    AwaitReady,
    /// The order is invalid: its authorizations are read to say why.
    AskWhy(Problem),
    Finalize,
    AwaitValid,
    Download,
    Done(Issued),
}

/// One authorization, as far as known.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Proof {
    url: String,
    read: bool,
    /// What is still to be proven; empty when the authorization is valid.
    open: Option<OpenChallenge>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct OpenChallenge {
    url: String,
    record: ChallengeRecord,
    responded: bool,
}

/// One order on its way. After a kill another one is made, and goes on with the order's URL ([`OrderFlow::resume`]).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderFlow {
    names: Vec<Hostname>,
    terms: Terms,
    thumbprint: String,
    stage: Stage,
    url: Option<String>,
    finalize: Option<String>,
    certificate: Option<String>,
    proofs: Vec<Proof>,
    request: Option<String>,
    responded: bool,
    /// Whether the authority has called the order not ready after calling it ready.
    taken_back: bool,
    patience: Patience,
}

/// The waiting of one stage; not saved, since a new run waits anew.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Patience {
    deadline: Option<Timestamp>,
    look_at: Option<Timestamp>,
    wait_ms: i64,
    /// How often the order was looked at.
    looks: u32,
}

impl OrderFlow {
    /// Starts an order for `names` by the account whose key has this thumbprint.
    pub fn new(names: Vec<Hostname>, terms: Terms, thumbprint: String) -> OrderFlow {
        OrderFlow {
            names,
            terms,
            thumbprint,
            stage: Stage::AskOrder,
            url: None,
            finalize: None,
            certificate: None,
            proofs: Vec::new(),
            request: None,
            responded: false,
            taken_back: false,
            patience: Patience::default(),
        }
    }

    /// Goes on with an order that exists, by reading it.
    pub fn resume(mut self, url: String) -> OrderFlow {
        self.url = Some(url);
        self.proofs.clear();
        self.stage = Stage::ReadOrder;
        self.patience = Patience::default();
        self
    }

    /// Returns the order's URL, once known.
    pub fn url(&self) -> Option<&str> {
        self.url.as_deref()
    }

    /// Returns the names.
    pub fn names(&self) -> &[Hostname] {
        &self.names
    }

    /// Returns the authorizations that are still to be proven: what is given up with the
    /// order (RFC 8555 §7.5.2).
    pub fn open_authorizations(&self) -> Vec<String> {
        let done = matches!(self.stage, Stage::Finalize | Stage::AwaitValid | Stage::Download | Stage::Done(_));
        let open = self.proofs.iter().filter(|proof| !done && (proof.open.is_some() || !proof.read));
        open.map(|proof| proof.url.clone()).collect()
    }

    /// Says whether this run has answered a challenge of the order.
    pub fn has_responded(&self) -> bool {
        self.responded
    }

    /// Returns what the flow wants next.
    pub fn want(&self) -> Want {
        let read = |url: &Option<String>, purpose| Call { url: url.clone(), payload: Payload::PostAsGet, purpose };
        match &self.stage {
            Stage::AskOrder => {
                let identifiers: Vec<Identifier> = self.names.iter().map(Identifier::dns).collect();
                let mut order = json!({ "identifiers": identifiers });
                if let Some(profile) = &self.terms.profile {
                    order["profile"] = profile.as_str().into();
                }
                if let Some(replaces) = &self.terms.replaces {
                    order["replaces"] = replaces.as_str().into();
                }
                let payload = Payload::Json(order);
                Want::Send(vec![Call { url: None, payload, purpose: Purpose::NewOrder }])
            }
            Stage::ReadOrder => Want::Send(vec![read(&self.url, Purpose::Order { waiting: false })]),
            Stage::ReadAuthorizations | Stage::AskWhy(_) => {
                let unread = self.proofs.iter().enumerate().filter(|(_, proof)| !proof.read);
                Want::Send(unread.map(|(n, proof)| read(&Some(proof.url.clone()), Purpose::Authorization(n))).collect())
            }
            Stage::Publish => Want::Publish(self.records()),
            Stage::Respond => {
                let open = self.open().filter(|(_, challenge)| !challenge.responded);
                let respond = |(n, challenge): (usize, &OpenChallenge)| Call {
                    url: Some(challenge.url.clone()),
                    payload: Payload::Json(Value::Object(serde_json::Map::new())),
                    purpose: Purpose::Challenge(n),
                };
                Want::Send(open.map(respond).collect())
            }
            Stage::AwaitReady => self.look("the authority to validate"),
            Stage::Finalize => match &self.request {
                None => Want::SigningRequest,
                Some(request) => {
                    let payload = Payload::Json(json!({ "csr": request }));
                    Want::Send(vec![Call { url: self.finalize.clone(), payload, purpose: Purpose::Finalize }])
                }
            },
            Stage::AwaitValid => self.look("the authority to issue"),
            Stage::Download => Want::Send(vec![read(&self.certificate, Purpose::Certificate)]),
            Stage::Done(issued) => Want::Done(issued.clone()),
        }
    }

    /// Returns the records that answer the open challenges.
    pub fn records(&self) -> Vec<ChallengeRecord> {
        let mut records: Vec<ChallengeRecord> = self.open().map(|(_, challenge)| challenge.record.clone()).collect();
        records.sort();
        records.dedup();
        records
    }

    /// Tells that the records of [`Want::Publish`] are on every authoritative server.
    pub fn published(&mut self) {
        if self.stage == Stage::Publish {
            self.stage = Stage::Respond;
        }
    }

    /// Gives the PKCS#10 request in DER.
    pub fn signing_request(&mut self, der: &[u8]) {
        self.request = Some(base64url(der));
    }

    /// Tells that the time of [`Want::Wait`] has come.
    pub fn waited(&mut self) {
        self.patience.look_at = None;
    }

    /// Tells what came of a call.
    ///
    /// # Errors
    /// When the order cannot go on.
    pub fn replied(
        &mut self,
        purpose: Purpose,
        reply: Result<Reply, Problem>,
        now: Timestamp,
    ) -> Result<(), OrderError> {
        let what = describe(purpose);
        let reply = match reply {
            Ok(reply) => reply,
            Err(problem) => return self.refused(purpose, what, problem),
        };
        match purpose {
            Purpose::NewOrder => {
                let url = reply.location.clone();
                self.url = Some(url.ok_or_else(|| malformed(what, "it has no Location header"))?);
                self.take_order(what, &reply, now)
            }
            Purpose::Order { .. } | Purpose::Finalize => self.take_order(what, &reply, now),
            Purpose::Authorization(n) => self.take_authorization(n, &read_json(what, &reply.body)?),
            Purpose::Challenge(n) => {
                self.responded = true;
                let open = self.proofs.get_mut(n).and_then(|proof| proof.open.as_mut());
                let name = open.map(|challenge| {
                    challenge.responded = true;
                    challenge.record.name.clone()
                });
                // Some authorities decide at once, and leave the order pending.
                let challenge: Option<Challenge> = serde_json::from_slice(&reply.body).ok();
                if let (Some(name), Some(challenge)) = (name, challenge)
                    && challenge.status == ChallengeStatus::Invalid
                {
                    let name = name.as_str().trim_start_matches("_acme-challenge.").to_owned();
                    return Err(self.failed(n, name, challenge.error));
                }
                if self.open().all(|(_, challenge)| challenge.responded) {
                    self.await_stage(Stage::AwaitReady, &reply, now);
                }
                Ok(())
            }
            Purpose::Certificate => {
                let chain = String::from_utf8(reply.body).map_err(|_| malformed(what, "it is not text"))?;
                if !chain.contains("-----BEGIN CERTIFICATE-----") {
                    return Err(malformed(what, "it holds no certificate"));
                }
                self.stage = Stage::Done(Issued { chain, alternates: reply.alternates });
                Ok(())
            }
        }
    }

    fn refused(&mut self, purpose: Purpose, what: &'static str, problem: Problem) -> Result<(), OrderError> {
        // An order that is not ready although it said so is read again (RFC 8555 §7.4).
        if purpose == Purpose::Finalize && problem.error() == "orderNotReady" && !self.taken_back {
            self.taken_back = true;
            self.stage = Stage::ReadOrder;
            return Ok(());
        }
        Err(OrderError::Refused { what, problem })
    }

    fn take_order(&mut self, what: &'static str, reply: &Reply, now: Timestamp) -> Result<(), OrderError> {
        let order: Order = read_json(what, &reply.body)?;
        if order.authorizations.len() > MOST_AUTHORIZATIONS {
            return Err(malformed(what, &format!("it has {} authorizations", order.authorizations.len())));
        }
        self.finalize = Some(order.finalize);
        if self.proofs.is_empty() {
            let unread = |url| Proof { url, read: false, open: None };
            self.proofs = order.authorizations.into_iter().map(unread).collect();
        }
        match order.status {
            OrderStatus::Pending if self.stage == Stage::AwaitReady => {
                self.keep_waiting(reply, now, "the authority to validate")?;
                // An order may stay pending although a name has failed (RFC 8555 §7.5.1). Where all names are valid
                // already there is nothing to ask about.
                if self.patience.looks.is_multiple_of(LOOKS_AT_ORDER) && self.open().next().is_some() {
                    for proof in self.proofs.iter_mut().filter(|proof| proof.open.is_some()) {
                        proof.read = false;
                    }
                    self.stage = Stage::ReadAuthorizations;
                }
                Ok(())
            }
            OrderStatus::Pending if matches!(self.stage, Stage::AskOrder | Stage::ReadOrder) => {
                if self.proofs.is_empty() {
                    return Err(malformed(what, "it is pending and has no authorizations"));
                }
                self.read_authorizations(Stage::ReadAuthorizations);
                Ok(())
            }
            // No order becomes pending again (RFC 8555 §7.1.6).
            OrderStatus::Pending => Err(malformed(what, "it is pending again")),
            OrderStatus::Ready if self.stage == Stage::AwaitValid => {
                self.keep_waiting(reply, now, "the authority to issue")
            }
            // The signing request was taken, and the authority has not begun.
            OrderStatus::Ready if self.stage == Stage::Finalize => {
                self.await_stage(Stage::AwaitValid, reply, now);
                Ok(())
            }
            OrderStatus::Ready => {
                self.stage = Stage::Finalize;
                Ok(())
            }
            OrderStatus::Processing if self.stage == Stage::AwaitValid => {
                self.keep_waiting(reply, now, "the authority to issue")
            }
            OrderStatus::Processing => {
                self.await_stage(Stage::AwaitValid, reply, now);
                Ok(())
            }
            OrderStatus::Valid => {
                self.certificate =
                    Some(order.certificate.ok_or_else(|| malformed(what, "it is valid and names no certificate"))?);
                self.stage = Stage::Download;
                Ok(())
            }
            OrderStatus::Invalid => {
                let problem = order.error.unwrap_or_default();
                if self.proofs.is_empty() {
                    return Err(OrderError::Invalid(problem));
                }
                self.read_authorizations(Stage::AskWhy(problem));
                Ok(())
            }
        }
    }

    fn read_authorizations(&mut self, stage: Stage) {
        for proof in &mut self.proofs {
            proof.read = false;
        }
        self.stage = stage;
    }

    fn take_authorization(&mut self, n: usize, authorization: &Authorization) -> Result<(), OrderError> {
        let name = &authorization.identifier.value;
        let shown = if authorization.wildcard { format!("*.{name}") } else { name.clone() };
        let dns01 = authorization.challenges.iter().find(|challenge| challenge.kind == "dns-01");
        let explain = matches!(self.stage, Stage::AskWhy(_));
        match authorization.status {
            AuthorizationStatus::Pending if !explain => {
                let challenge = dns01.ok_or_else(|| OrderError::NoDns01(shown.clone()))?;
                let name: Hostname = name
                    .parse()
                    .map_err(|error| malformed("an authorization", &format!("{name:?} is not a hostname: {error}")))?;
                if !self.names.iter().any(|own| own.base() == name.as_str()) {
                    return Err(malformed("an authorization", &format!("{name} was not ordered")));
                }
                let record = ChallengeRecord {
                    name: name.challenge_name(),
                    text: dns01_text(&challenge.token, &self.thumbprint),
                };
                if let Some(proof) = self.proofs.get_mut(n) {
                    let before = proof.open.as_ref().is_some_and(|open| open.responded);
                    let responded = before || challenge.status != ChallengeStatus::Pending;
                    proof.open = Some(OpenChallenge { url: challenge.url.clone(), record, responded });
                }
            }
            AuthorizationStatus::Valid if !explain => {
                if let Some(proof) = self.proofs.get_mut(n) {
                    proof.open = None;
                }
            }
            _ if explain => {}
            _ => return Err(self.failed(n, shown, dns01.and_then(|challenge| challenge.error.clone()))),
        }
        if let Some(proof) = self.proofs.get_mut(n) {
            proof.read = true;
        }
        if explain && authorization.status == AuthorizationStatus::Invalid {
            // One failure already says what to do: the others are not waited for.
            return Err(self.failed(n, shown, dns01.and_then(|challenge| challenge.error.clone())));
        }
        if !self.proofs.iter().all(|proof| proof.read) {
            return Ok(());
        }
        match &self.stage {
            Stage::AskWhy(problem) => Err(OrderError::Invalid(problem.clone())),
            _ if self.open().all(|(_, challenge)| challenge.responded) => {
                self.stage = Stage::AwaitReady;
                Ok(())
            }
            _ => {
                self.stage = Stage::Publish;
                Ok(())
            }
        }
    }

    /// What a name that failed comes to: there is nothing left to give up of its authorization.
    fn failed(&mut self, n: usize, name: String, problem: Option<Problem>) -> OrderError {
        if let Some(proof) = self.proofs.get_mut(n) {
            (proof.open, proof.read) = (None, true);
        }
        OrderError::Validation(vec![FailedName { name, problem: problem.unwrap_or_default() }])
    }

    fn open(&self) -> impl Iterator<Item = (usize, &OpenChallenge)> {
        self.proofs.iter().enumerate().filter_map(|(n, proof)| proof.open.as_ref().map(|open| (n, open)))
    }

    fn look(&self, what: &'static str) -> Want {
        match self.patience.look_at {
            Some(until) => Want::Wait { until, what },
            None => {
                let purpose = Purpose::Order { waiting: self.patience.looks > 0 };
                Want::Send(vec![Call { url: self.url.clone(), payload: Payload::PostAsGet, purpose }])
            }
        }
    }

    fn await_stage(&mut self, stage: Stage, reply: &Reply, now: Timestamp) {
        self.stage = stage;
        self.patience = Patience {
            deadline: now.checked_add(SignedDuration::from_secs(PATIENCE_SECS)).ok(),
            look_at: None,
            wait_ms: FIRST_WAIT_MS,
            looks: 0,
        };
        self.look_later(reply, now);
    }

    fn keep_waiting(&mut self, reply: &Reply, now: Timestamp, what: &'static str) -> Result<(), OrderError> {
        if self.patience.deadline.is_some_and(|deadline| now >= deadline) {
            return Err(OrderError::TooSlow(what));
        }
        if self.patience.deadline.is_none() {
            self.await_stage(self.stage.clone(), reply, now);
            return Ok(());
        }
        self.patience.looks += 1;
        self.patience.wait_ms = (self.patience.wait_ms.max(FIRST_WAIT_MS) * 2).min(LONGEST_WAIT_MS);
        self.look_later(reply, now);
        Ok(())
    }

    fn look_later(&mut self, reply: &Reply, now: Timestamp) {
        let own = now.checked_add(SignedDuration::from_millis(self.patience.wait_ms)).unwrap_or(now);
        let latest = now.checked_add(SignedDuration::from_secs(LONGEST_RETRY_AFTER_SECS)).unwrap_or(now);
        // "At once" is no time to wait, and would be asked without end.
        let told = reply.retry_at.filter(|at| *at > now);
        self.patience.look_at = Some(told.map_or(own, |at| at.min(latest)));
    }
}

fn describe(purpose: Purpose) -> &'static str {
    match purpose {
        Purpose::NewOrder => "a new order",
        Purpose::Order { .. } => "the order",
        Purpose::Authorization(_) => "an authorization",
        Purpose::Challenge(_) => "the answer to a challenge",
        Purpose::Finalize => "the signing request",
        Purpose::Certificate => "the certificate",
    }
}

fn malformed(what: &'static str, why: &str) -> OrderError {
    OrderError::Malformed { what, why: why.chars().take(200).collect() }
}

fn read_json<T: for<'de> Deserialize<'de>>(what: &'static str, body: &[u8]) -> Result<T, OrderError> {
    serde_json::from_slice(body).map_err(|error| malformed(what, &error.to_string()))
}

#[cfg(test)]
mod tests;
