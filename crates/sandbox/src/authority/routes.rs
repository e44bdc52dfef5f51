//! The authority's resources (RFC 8555 §7).

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use axum::Router;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderName, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use rcgen::{CertificateSigningRequestParams, PublicKeyData as _, SanType};
use serde_json::{Value, json};

use super::jws::{By, Request, decode_request, expected_text};
use super::{Account, Authority, Authorization, CERTIFICATE_DAYS, Inner, Order, Refusal, refuse, validation};
use crate::certificates::random_hex;

/// How long the authority takes to validate and to issue.
const TAKES: Duration = Duration::from_millis(60);
/// The most names in one order.
const MOST_NAMES: usize = 100;

type Shared = State<Arc<Authority>>;
type Answer = Result<Response, Refusal>;

pub(super) fn router(authority: Arc<Authority>) -> Router {
    Router::new()
        .route("/directory", get(directory))
        .route("/nonce", get(nonce).head(nonce))
        .route("/account", post(new_account))
        .route("/order", post(new_order))
        .route("/orders/{account}", post(orders))
        .route("/order/{number}", post(order))
        .route("/authorization/{number}", post(authorization))
        .route("/challenge/{number}", post(challenge))
        .route("/finalize/{number}", post(finalize))
        .route("/certificate/{number}", post(certificate))
        .layer(axum::middleware::from_fn_with_state(authority.clone(), every_response))
        .with_state(authority)
}

/// Every answer carries a fresh nonce; a silenced authority has none.
async fn every_response(
    State(authority): Shared,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> Response {
    if authority.silent.load(Ordering::SeqCst) {
        return (StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "600")], "down for repairs").into_response();
    }
    let mut response = next.run(request).await;
    if let Ok(nonce) = authority.new_nonce().parse() {
        response.headers_mut().insert(HeaderName::from_static("replay-nonce"), nonce);
    }
    response.headers_mut().insert(header::CACHE_CONTROL, header::HeaderValue::from_static("no-store"));
    response
}

async fn directory(State(authority): Shared) -> Response {
    let base = &authority.base;
    let directory = json!({
        "newNonce": format!("{base}/nonce"),
        "newAccount": format!("{base}/account"),
        "newOrder": format!("{base}/order"),
        "meta": { "termsOfService": format!("{base}/terms"), "externalAccountRequired": false },
    });
    axum::Json(directory).into_response()
}

async fn nonce() -> StatusCode {
    StatusCode::NO_CONTENT
}

/// A request whose signature, nonce and URL are right.
struct Signed {
    payload: Option<Value>,
    by: By,
    account: usize,
}

impl Signed {
    fn payload(&self) -> Result<&Value, Refusal> {
        self.payload.as_ref().map_or_else(|| refuse(400, "malformed", "a payload is needed here"), Ok)
    }
}

fn check(authority: &Authority, headers: &HeaderMap, uri: &Uri, body: &[u8]) -> Result<Signed, Refusal> {
    if headers.get(header::CONTENT_TYPE).is_none_or(|value| value != "application/jose+json") {
        return refuse(415, "malformed", "the content type must be application/jose+json");
    }
    let request = Request::read(body)?;
    if request.url != format!("{}{}", authority.base, uri.path()) {
        return refuse(403, "unauthorized", "the signed url is not the one asked for");
    }
    if !authority.take_nonce(&request.nonce) {
        return refuse(400, "badNonce", "the nonce is not one of ours, or was used");
    }
    authority.requests.fetch_add(1, Ordering::Relaxed);
    let inner = authority.inner();
    let (account, point) = match &request.by {
        By::Key(point, thumbprint) => {
            let known = inner.accounts.iter().position(|account| account.thumbprint == *thumbprint);
            (known.unwrap_or(usize::MAX), point.clone())
        }
        By::Account(url) => {
            let number = (0..inner.accounts.len()).find(|number| authority.url("account", *number) == *url);
            let Some(number) = number else { return refuse(400, "accountDoesNotExist", "there is no such account") };
            (number, inner.accounts[number].key.clone())
        }
    };
    if !request.is_signed_by(&point) {
        return refuse(400, "malformed", "the signature does not verify");
    }
    Ok(Signed { payload: request.payload, by: request.by, account })
}

fn check_account(authority: &Authority, headers: &HeaderMap, uri: &Uri, body: &[u8]) -> Result<Signed, Refusal> {
    let signed = check(authority, headers, uri, body)?;
    match signed.by {
        By::Account(_) => Ok(signed),
        By::Key(..) => refuse(400, "malformed", "this must be signed with a kid"),
    }
}

async fn new_account(State(authority): Shared, headers: HeaderMap, uri: Uri, body: Bytes) -> Answer {
    let signed = check(&authority, &headers, &uri, &body)?;
    let By::Key(point, thumbprint) = &signed.by else {
        return refuse(400, "malformed", "this must be signed with a jwk");
    };
    let payload = signed.payload()?;
    let mut inner = authority.inner();
    let (status, number) = match inner.accounts.iter().position(|account| account.thumbprint == *thumbprint) {
        Some(number) => (StatusCode::OK, number),
        None if payload["onlyReturnExisting"] == true => {
            return refuse(400, "accountDoesNotExist", "this key has no account");
        }
        None if payload["termsOfServiceAgreed"] != true => {
            return refuse(403, "userActionRequired", "the terms of service must be agreed to");
        }
        None => {
            let contact = payload["contact"].clone();
            inner.accounts.push(Account { thumbprint: thumbprint.clone(), key: point.clone(), contact });
            (StatusCode::CREATED, inner.accounts.len() - 1)
        }
    };
    let mut account = json!({ "status": "valid", "contact": inner.accounts[number].contact });
    if authority.order_list {
        account["orders"] = authority.url("orders", number).into();
    }
    Ok((status, [(header::LOCATION, authority.url("account", number))], axum::Json(account)).into_response())
}

async fn new_order(State(authority): Shared, headers: HeaderMap, uri: Uri, body: Bytes) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let identifiers = signed.payload()?["identifiers"].as_array().cloned().unwrap_or_default();
    if identifiers.is_empty() || identifiers.len() > MOST_NAMES {
        return refuse(400, "malformed", format!("an order has 1 to {MOST_NAMES} identifiers"));
    }
    let mut names = Vec::new();
    for identifier in &identifiers {
        if identifier["type"] != "dns" {
            return refuse(400, "unsupportedIdentifier", "only dns identifiers are taken");
        }
        let name = identifier["value"].as_str().unwrap_or_default();
        if !(name.ends_with(".example") || name.ends_with(".test")) || name.to_ascii_lowercase() != name {
            return refuse(400, "rejectedIdentifier", format!("{name} is no name that this authority issues for"));
        }
        names.push(name.to_owned());
    }
    let mut inner = authority.inner();
    let first = inner.authorizations.len();
    for name in &names {
        inner.authorizations.push(Authorization {
            account: signed.account,
            name: name.trim_start_matches("*.").to_owned(),
            wildcard: name.starts_with("*."),
            token: random_hex(16),
            status: "pending",
            challenge: "pending",
            error: None,
        });
    }
    let authorizations = (first..inner.authorizations.len()).collect();
    inner.orders.push(Order { account: signed.account, names, authorizations, status: "pending", error: None });
    let number = inner.orders.len() - 1;
    if authority.lose_order.swap(false, Ordering::SeqCst) {
        let torn = futures::stream::once(async { Err::<Bytes, _>(std::io::Error::other("lost on its way")) });
        return Ok((StatusCode::CREATED, axum::body::Body::from_stream(torn)).into_response());
    }
    let body = axum::Json(authority.order_json(&inner, number));
    Ok((StatusCode::CREATED, [(header::LOCATION, authority.url("order", number))], body).into_response())
}

async fn orders(
    State(authority): Shared,
    Path(account): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    if signed.account != account {
        return refuse(403, "unauthorized", "these are another account's orders");
    }
    let inner = authority.inner();
    let own = inner.orders.iter().enumerate().filter(|(_, order)| order.account == account);
    let urls: Vec<String> = own.map(|(number, _)| authority.url("order", number)).collect();
    Ok(axum::Json(json!({ "orders": urls })).into_response())
}

/// The order of that number, if it is the account's own.
fn own_order(inner: &Inner, number: usize, account: usize) -> Result<&Order, Refusal> {
    let order = inner.orders.get(number).filter(|order| order.account == account);
    order.map_or_else(|| refuse(404, "malformed", "there is no such order"), Ok)
}

async fn order(
    State(authority): Shared,
    Path(number): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let inner = authority.inner();
    own_order(&inner, number, signed.account)?;
    Ok(axum::Json(authority.order_json(&inner, number)).into_response())
}

fn own_authorization(inner: &Inner, number: usize, account: usize) -> Result<&Authorization, Refusal> {
    let authorization = inner.authorizations.get(number).filter(|authorization| authorization.account == account);
    authorization.map_or_else(|| refuse(404, "malformed", "there is no such authorization"), Ok)
}

async fn authorization(
    State(authority): Shared,
    Path(number): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let inner = authority.inner();
    own_authorization(&inner, number, signed.account)?;
    Ok(axum::Json(authority.authorization_json(&inner, number)).into_response())
}

async fn challenge(
    State(authority): Shared,
    Path(number): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let mut inner = authority.inner();
    let open = own_authorization(&inner, number, signed.account)?;
    if signed.payload.is_some() {
        if open.challenge != "pending" {
            return refuse(400, "malformed", format!("the challenge is {} already", open.challenge));
        }
        let (hostname, expected) =
            (open.name.clone(), expected_text(&open.token, &inner.accounts[signed.account].thumbprint));
        inner.authorizations[number].challenge = "processing";
        let authority = authority.clone();
        tokio::spawn(async move {
            tokio::time::sleep(TAKES).await;
            let result = validation::dns01(&authority.validators, &hostname, &expected).await;
            authority.validated(number, result);
        });
    }
    let up = format!("<{}>;rel=\"up\"", authority.url("authorization", number));
    Ok(([(header::LINK, up)], axum::Json(authority.challenge_json(&inner, number))).into_response())
}

async fn finalize(
    State(authority): Shared,
    Path(number): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let csr = decode_request(signed.payload()?["csr"].as_str().unwrap_or_default())?;
    let mut inner = authority.inner();
    let order = own_order(&inner, number, signed.account)?;
    if order.status != "ready" {
        return refuse(403, "orderNotReady", format!("the order is {}", order.status));
    }
    let request = read_request(csr, &order.names, &inner.accounts[signed.account].key)?;
    inner.orders[number].status = "processing";
    let body = axum::Json(authority.order_json(&inner, number));
    let issuing = authority.clone();
    tokio::spawn(async move {
        tokio::time::sleep(TAKES).await;
        let issued = issuing.intermediate.issue(request, CERTIFICATE_DAYS);
        let mut inner = issuing.inner();
        match issued {
            Ok(leaf) => {
                inner.certificates.insert(number, format!("{leaf}{}", issuing.intermediate.pem()));
                inner.orders[number].status = "valid";
            }
            Err(error) => {
                let refusal = Refusal { status: 500, kind: "serverInternal", detail: error.to_string() };
                inner.orders[number].status = "invalid";
                inner.orders[number].error = Some(problem(&refusal));
            }
        }
    });
    let location = authority.url("order", number);
    Ok(([(header::LOCATION, location)], body).into_response())
}

/// Reads a signing request: its own signature, its names, its key (RFC 8555 §7.4).
fn read_request(
    csr: Vec<u8>,
    names: &[String],
    account_key: &[u8],
) -> Result<CertificateSigningRequestParams, Refusal> {
    let bad = |why: String| Refusal { status: 400, kind: "badCSR", detail: why };
    let request = CertificateSigningRequestParams::from_der(&csr.into()).map_err(|error| bad(error.to_string()))?;
    let mut asked: Vec<String> = request
        .params
        .subject_alt_names
        .iter()
        .filter_map(|name| match name {
            SanType::DnsName(name) => Some(name.as_str().to_owned()),
            _ => None,
        })
        .collect();
    let mut ordered = names.to_vec();
    asked.sort_unstable();
    ordered.sort_unstable();
    if asked != ordered {
        return Err(bad(format!("it is for {}, and the order for {}", asked.join(", "), ordered.join(", "))));
    }
    if request.public_key.der_bytes() == account_key {
        return Err(bad("its key is the account's".into()));
    }
    Ok(request)
}

async fn certificate(
    State(authority): Shared,
    Path(number): Path<usize>,
    headers: HeaderMap,
    uri: Uri,
    body: Bytes,
) -> Answer {
    let signed = check_account(&authority, &headers, &uri, &body)?;
    let inner = authority.inner();
    own_order(&inner, number, signed.account)?;
    match inner.certificates.get(&number) {
        Some(chain) => {
            Ok(([(header::CONTENT_TYPE, "application/pem-certificate-chain")], chain.clone()).into_response())
        }
        None => refuse(404, "malformed", "there is no certificate yet"),
    }
}

pub(super) fn problem(refusal: &Refusal) -> Value {
    json!({
        "type": format!("urn:ietf:params:acme:error:{}", refusal.kind),
        "detail": refusal.detail,
        "status": refusal.status,
    })
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::BAD_REQUEST);
        (status, [(header::CONTENT_TYPE, "application/problem+json")], problem(&self).to_string()).into_response()
    }
}
