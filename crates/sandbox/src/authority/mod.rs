//! An ACME authority (RFC 8555, RFC 9773) with dns-01: strict about nonces, signatures,
//! URLs and signing requests, and validating by asking the zone's servers for real.

mod accounts;
mod certificates;
mod faults;
mod jws;
mod orders;
mod request;
mod routes;
mod validation;

use std::collections::HashMap;
use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use jiff::Timestamp;
use serde_json::{Value, json};

pub use self::faults::Fault;
pub use self::jws::ExternalAccount;

use self::faults::Faults;
use self::jws::Key;
use crate::certificates::{Issued, Issuer, random_bytes, random_hex};
use crate::listen::{Stop, serve_tls};
use crate::{Options, SandboxError};

/// The certificate profiles, with the days that they last. The first is the usual one.
const PROFILES: [(&str, &str, i64); 3] =
    [("season", "for 90 days", 90), ("month", "for 47 days", 47), ("week", "for 6 days", 6)];
/// How many validations of a name may fail within an hour.
const MOST_FAILURES: usize = 5;

/// The authority.
pub struct Authority {
    base: String,
    /// The name by which CAA records call it.
    identity: &'static str,
    intermediate: Issuer,
    /// The same intermediate, certified by another root.
    crossed: String,
    validators: Vec<SocketAddr>,
    refuse_nonces: u8,
    requests: AtomicU64,
    answers: AtomicU64,
    order_list: bool,
    external: Option<ExternalAccount>,
    lifetime_secs: Option<i64>,
    faults: Faults,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    nonces: HashSet<String>,
    accounts: Vec<Account>,
    orders: Vec<Order>,
    authorizations: Vec<Authorization>,
    certificates: HashMap<usize, Certificate>,
    /// When validations of a name failed.
    failures: HashMap<String, Vec<Timestamp>>,
}

struct Account {
    key: Key,
    contact: Value,
    status: &'static str,
}

struct Order {
    account: usize,
    names: Vec<String>,
    authorizations: Vec<usize>,
    status: &'static str,
    error: Option<Value>,
    profile: Option<String>,
    replaces: Option<String>,
}

struct Authorization {
    account: usize,
    name: String,
    wildcard: bool,
    token: String,
    status: &'static str,
    challenge: &'static str,
    error: Option<Value>,
}

struct Certificate {
    issued: Issued,
    revoked: Option<u64>,
}

/// A refusal as a problem document (RFC 8555 §6.7).
#[derive(Debug)]
struct Refusal {
    status: u16,
    kind: &'static str,
    detail: String,
    retry_after_secs: Option<i64>,
}

impl Refusal {
    fn new(status: u16, kind: &'static str, detail: impl Into<String>) -> Refusal {
        Refusal { status, kind, detail: detail.into(), retry_after_secs: None }
    }

    fn retry_after(self, secs: i64) -> Refusal {
        Refusal { retry_after_secs: Some(secs), ..self }
    }
}

fn refuse<T>(status: u16, kind: &'static str, detail: impl Into<String>) -> Result<T, Refusal> {
    Err(Refusal::new(status, kind, detail))
}

impl Authority {
    pub(crate) fn new(
        address: SocketAddr,
        identity: &'static str,
        root: &Issuer,
        other_root: &Issuer,
        validators: Vec<SocketAddr>,
        options: &Options,
    ) -> Result<Arc<Authority>, SandboxError> {
        let (intermediate, crossed) = root.intermediate("Sandbox intermediate", other_root)?;
        Ok(Arc::new(Authority {
            base: format!("https://{address}"),
            identity,
            intermediate,
            crossed,
            validators,
            refuse_nonces: options.refuse_nonces,
            requests: AtomicU64::new(0),
            answers: AtomicU64::new(0),
            order_list: options.order_list,
            external: options.external_account.clone(),
            lifetime_secs: options.lifetime.map(|lifetime| i64::try_from(lifetime.as_secs()).unwrap_or(i64::MAX)),
            faults: Faults::default(),
            inner: Mutex::default(),
        }))
    }

    /// Returns how many signed requests were taken.
    pub fn requests(&self) -> u64 {
        self.requests.load(Ordering::Relaxed)
    }

    /// Returns how many orders were made for exactly these names.
    pub fn orders_for(&self, names: &[&str]) -> usize {
        self.inner().orders.iter().filter(|order| order.names == names).count()
    }

    /// Returns how many certificates were issued in all, and how many of them are revoked.
    pub fn issued(&self) -> (usize, usize) {
        let inner = self.inner();
        let revoked = inner.certificates.values().filter(|certificate| certificate.revoked.is_some()).count();
        (inner.certificates.len(), revoked)
    }

    /// Returns the orders that name a predecessor.
    pub fn replacing_orders(&self) -> usize {
        self.inner().orders.iter().filter(|order| order.replaces.is_some() && order.status == "valid").count()
    }

    /// Returns how many authorizations were given up.
    pub fn deactivated(&self) -> usize {
        self.inner().authorizations.iter().filter(|authorization| authorization.status == "deactivated").count()
    }

    /// Returns the state and the contacts of each account.
    pub fn accounts(&self) -> Vec<(&'static str, String)> {
        self.inner().accounts.iter().map(|account| (account.status, account.contact.to_string())).collect()
    }

    /// Switches a fault on or off.
    pub fn switch(&self, fault: Fault, on: bool) {
        self.faults.switch(fault, on);
    }

    /// Switches all faults off.
    pub fn mend(&self) {
        self.faults.clear();
    }

    /// Returns the words of the faults that are on.
    pub fn faults(&self) -> Vec<String> {
        self.faults.list()
    }

    /// Lets the answer to the next order get lost on its way.
    pub fn lose_next_order(&self) {
        self.switch(Fault::LostOrder, true);
    }

    /// Makes the authority answer 503 to everything, or answer again.
    pub fn silence(&self, silent: bool) {
        self.switch(Fault::Down, silent);
    }

    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn url(&self, path: &str, number: usize) -> String {
        format!("{}/{path}/{number}", self.base)
    }

    fn new_nonce(&self) -> String {
        let nonce = random_hex(12);
        self.inner().nonces.insert(nonce.clone());
        nonce
    }

    /// Takes a nonce, which is good once; now and then a good one is refused, as
    /// authorities do after a restart.
    fn take_nonce(&self, nonce: &str) -> bool {
        let known = self.inner().nonces.remove(nonce);
        let [dice] = random_bytes::<1>();
        let refused = if self.faults.has(&Fault::Nonces) { 70 } else { u16::from(self.refuse_nonces) };
        known && u16::from(dice) * 100 >= refused * 256
    }

    fn terms(&self) -> String {
        let version = if self.faults.has(&Fault::NewTerms) { 2 } else { 1 };
        self.url("terms", version)
    }

    /// Ends a validation: the authorization and, once all are done, its order.
    fn validated(&self, number: usize, result: Result<(), Refusal>) {
        let mut inner = self.inner();
        let problem = result.err().map(|refusal| request::problem(&refusal));
        let authorization = &mut inner.authorizations[number];
        let outcome = if problem.is_none() { "valid" } else { "invalid" };
        authorization.status = outcome;
        authorization.challenge = outcome;
        authorization.error = problem.clone();
        if problem.is_some() {
            let name = authorization.name.clone();
            inner.failures.entry(name).or_default().push(Timestamp::now());
        }
        let Inner { orders, authorizations, .. } = &mut *inner;
        for order in
            orders.iter_mut().filter(|order| order.status == "pending" && order.authorizations.contains(&number))
        {
            if problem.is_some() {
                order.status = "invalid";
                order.error.clone_from(&problem);
            } else if order.authorizations.iter().all(|n| authorizations[*n].status == "valid") {
                order.status = "ready";
            }
        }
    }

    fn order_json(&self, inner: &Inner, number: usize) -> Value {
        let order = &inner.orders[number];
        let mut value = json!({
            "status": order.status,
            "identifiers": order.names.iter().map(|name| json!({ "type": "dns", "value": name })).collect::<Vec<_>>(),
            "authorizations": order.authorizations.iter().map(|n| self.url("authorization", *n)).collect::<Vec<_>>(),
            "finalize": self.url("finalize", number),
        });
        if order.status == "valid" {
            value["certificate"] = self.url("certificate", number).into();
        }
        for (member, text) in [("profile", &order.profile), ("replaces", &order.replaces)] {
            if let Some(text) = text {
                value[member] = text.as_str().into();
            }
        }
        if let Some(error) = &order.error {
            value["error"] = error.clone();
        }
        value
    }
}

pub(crate) async fn serve(
    authority: Arc<Authority>,
    address: SocketAddr,
    api_root: &Issuer,
    stop: &Stop,
) -> Result<(), SandboxError> {
    let config = api_root.server(address.ip(), &["localhost"])?;
    serve_tls("the authority", address, config, routes::router(authority), stop).await
}
