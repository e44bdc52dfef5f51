//! An ACME authority (RFC 8555) with dns-01: strict about nonces, signatures, URLs and
//! signing requests, and validating by asking the zone's servers for real.

mod jws;
mod routes;
mod validation;

use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use serde_json::{Value, json};

use crate::certificates::{Issuer, random_bytes, random_hex};
use crate::listen::{Stop, serve_tls};
use crate::{Options, SandboxError};

/// How long the certificates of the sandbox's authority are valid, in days.
const CERTIFICATE_DAYS: i64 = 90;

/// The authority.
pub struct Authority {
    base: String,
    intermediate: Issuer,
    validators: Vec<SocketAddr>,
    refuse_nonces: u8,
    requests: AtomicU64,
    order_list: bool,
    silent: AtomicBool,
    lose_order: AtomicBool,
    inner: Mutex<Inner>,
}

#[derive(Default)]
struct Inner {
    nonces: HashSet<String>,
    accounts: Vec<Account>,
    orders: Vec<Order>,
    authorizations: Vec<Authorization>,
    certificates: HashMap<usize, String>,
}

struct Account {
    thumbprint: String,
    key: Vec<u8>,
    contact: Value,
}

struct Order {
    account: usize,
    names: Vec<String>,
    authorizations: Vec<usize>,
    status: &'static str,
    error: Option<Value>,
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

/// A refusal as a problem document (RFC 8555 §6.7).
#[derive(Debug)]
struct Refusal {
    status: u16,
    kind: &'static str,
    detail: String,
}

fn refuse<T>(status: u16, kind: &'static str, detail: impl Into<String>) -> Result<T, Refusal> {
    Err(Refusal { status, kind, detail: detail.into() })
}

impl Authority {
    pub(crate) fn new(
        address: SocketAddr,
        root: &Issuer,
        validators: Vec<SocketAddr>,
        options: &Options,
    ) -> Result<Arc<Authority>, SandboxError> {
        Ok(Arc::new(Authority {
            base: format!("https://{address}"),
            intermediate: root.intermediate("Sandbox intermediate")?,
            validators,
            refuse_nonces: options.refuse_nonces,
            requests: AtomicU64::new(0),
            order_list: options.order_list,
            silent: AtomicBool::new(false),
            lose_order: AtomicBool::new(false),
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

    /// Lets the answer to the next order get lost on its way.
    pub fn lose_next_order(&self) {
        self.lose_order.store(true, Ordering::SeqCst);
    }

    /// Makes the authority answer 503 to everything, or answer again.
    pub fn silence(&self, silent: bool) {
        self.silent.store(silent, Ordering::SeqCst);
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
        known && u16::from(dice) * 100 >= u16::from(self.refuse_nonces) * 256
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
        if let Some(error) = &order.error {
            value["error"] = error.clone();
        }
        value
    }

    fn challenge_json(&self, inner: &Inner, number: usize) -> Value {
        let authorization = &inner.authorizations[number];
        let mut value = json!({
            "type": "dns-01",
            "url": self.url("challenge", number),
            "status": authorization.challenge,
            "token": authorization.token,
        });
        if let Some(error) = &authorization.error {
            value["error"] = error.clone();
        }
        value
    }

    fn authorization_json(&self, inner: &Inner, number: usize) -> Value {
        let authorization = &inner.authorizations[number];
        let mut value = json!({
            "status": authorization.status,
            "identifier": { "type": "dns", "value": authorization.name },
            "challenges": [self.challenge_json(inner, number)],
        });
        if authorization.wildcard {
            value["wildcard"] = true.into();
        }
        value
    }

    /// Ends a validation: the authorization and, once all are done, its order.
    fn validated(&self, number: usize, result: Result<(), Refusal>) {
        let mut inner = self.inner();
        let problem = result.err().map(|refusal| routes::problem(&refusal));
        let authorization = &mut inner.authorizations[number];
        let outcome = if problem.is_none() { "valid" } else { "invalid" };
        authorization.status = outcome;
        authorization.challenge = outcome;
        authorization.error = problem.clone();
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
