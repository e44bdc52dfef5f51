//! The authority's resources (RFC 8555 §7), and what all requests have in common.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{FromRequest, State};
use axum::http::{HeaderMap, HeaderName, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use serde_json::{Value, json};

use super::jws::{By, Request};
use super::{Authority, Fault, PROFILES, Refusal, accounts, certificates, orders, refuse};

/// Every how many answers a fault that strikes now and then strikes.
const NOW_AND_THEN: u64 = 4;
/// The longest body, either way.
const MAX_BODY: usize = 1 << 20;

pub(super) type Shared = State<Arc<Authority>>;
pub(super) type Answer = Result<Response, Refusal>;

pub(super) fn router(authority: Arc<Authority>) -> Router {
    Router::new()
        .route("/directory", get(directory))
        .route("/nonce", get(nonce).head(nonce))
        .route("/account", post(accounts::new_account))
        .route("/account/{number}", post(accounts::account))
        .route("/key-change", post(accounts::key_change))
        .route("/order", post(orders::new_order))
        .route("/orders/{account}", post(orders::orders))
        .route("/order/{number}", post(orders::order))
        .route("/authorization/{number}", post(orders::authorization))
        .route("/challenge/{number}", post(orders::challenge))
        .route("/finalize/{number}", post(certificates::finalize))
        .route("/certificate/{number}", post(certificates::certificate))
        .route("/certificate/{number}/other", post(certificates::other_chain))
        .route("/revoke", post(certificates::revoke))
        .route("/renewal/{id}", get(certificates::renewal_info))
        .layer(axum::middleware::from_fn_with_state(authority.clone(), every_response))
        .with_state(authority)
}

/// Every answer carries a fresh nonce, unless a fault strikes.
async fn every_response(
    State(authority): Shared,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> Response {
    if authority.faults.has(&Fault::Down) {
        return (StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "600")], "down for repairs").into_response();
    }
    let strikes = authority.answers.fetch_add(1, Ordering::Relaxed) % NOW_AND_THEN == NOW_AND_THEN - 1;
    if strikes && authority.faults.has(&Fault::Busy) {
        return (StatusCode::SERVICE_UNAVAILABLE, [(header::RETRY_AFTER, "1")], "busy").into_response();
    }
    let signed = request.method() == axum::http::Method::POST;
    let mut response = next.run(request).await;
    if let Ok(nonce) = authority.new_nonce().parse() {
        response.headers_mut().insert(HeaderName::from_static("replay-nonce"), nonce);
    }
    response.headers_mut().insert(header::CACHE_CONTROL, header::HeaderValue::from_static("no-store"));
    if strikes && signed && authority.faults.has(&Fault::Dropped) {
        return broken_off(response, 0).await;
    }
    if strikes && signed && authority.faults.has(&Fault::Half) {
        return broken_off(response, 2).await;
    }
    response
}

/// Sends one part of a body, and then nothing more.
pub(super) async fn broken_off(response: Response, part: usize) -> Response {
    let (mut parts, body) = response.into_parts();
    let whole = to_bytes(body, MAX_BODY).await.unwrap_or_default();
    let kept = whole.slice(..whole.len().checked_div(part).unwrap_or(0));
    parts.headers.remove(header::CONTENT_LENGTH);
    let torn = [Ok(kept), Err(std::io::Error::other("broken off"))];
    Response::from_parts(parts, Body::from_stream(futures::stream::iter(torn)))
}

async fn directory(State(authority): Shared) -> Response {
    let base = &authority.base;
    let profiles: serde_json::Map<String, Value> =
        PROFILES.iter().map(|(name, says, _)| ((*name).to_owned(), (*says).into())).collect();
    let directory = json!({
        "newNonce": format!("{base}/nonce"),
        "newAccount": format!("{base}/account"),
        "newOrder": format!("{base}/order"),
        "keyChange": format!("{base}/key-change"),
        "revokeCert": format!("{base}/revoke"),
        "renewalInfo": format!("{base}/renewal"),
        "meta": {
            "termsOfService": authority.terms(),
            "externalAccountRequired": authority.external.is_some(),
            "caaIdentities": [authority.identity],
            "profiles": profiles,
        },
    });
    axum::Json(directory).into_response()
}

async fn nonce() -> StatusCode {
    StatusCode::NO_CONTENT
}

/// A request whose signature, nonce and URL are right.
pub(super) struct Signed {
    pub(super) payload: Option<Value>,
    pub(super) by: By,
    /// The account's number; for a key that stands for itself, of the account that it has.
    pub(super) account: Option<usize>,
}

impl Signed {
    pub(super) fn payload(&self) -> Result<&Value, Refusal> {
        self.payload.as_ref().map_or_else(|| refuse(400, "malformed", "a payload is needed here"), Ok)
    }
}

/// A request as it comes in, still to be checked.
pub(super) struct Incoming {
    headers: HeaderMap,
    pub(super) uri: Uri,
    body: Bytes,
}

impl<S: Send + Sync> FromRequest<S> for Incoming {
    type Rejection = Refusal;

    async fn from_request(request: axum::extract::Request, _state: &S) -> Result<Incoming, Refusal> {
        let (parts, body) = request.into_parts();
        let body = to_bytes(body, MAX_BODY).await.or_else(|_| refuse(400, "malformed", "the body is too long"))?;
        Ok(Incoming { headers: parts.headers, uri: parts.uri, body })
    }
}

pub(super) fn check(authority: &Authority, incoming: &Incoming) -> Result<Signed, Refusal> {
    let Incoming { headers, uri, body } = incoming;
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
    let account = match &request.by {
        By::Key(key) => {
            request.check(key)?;
            inner.accounts.iter().position(|account| account.key.thumbprint == key.thumbprint)
        }
        By::Account(url) => {
            let number = (0..inner.accounts.len()).find(|number| authority.url("account", *number) == *url);
            let Some(number) = number else { return refuse(400, "accountDoesNotExist", "there is no such account") };
            request.check(&inner.accounts[number].key)?;
            Some(number)
        }
    };
    if let Some(number) = account
        && inner.accounts[number].status != "valid"
    {
        return refuse(401, "unauthorized", format!("the account is {}", inner.accounts[number].status));
    }
    Ok(Signed { payload: request.payload, by: request.by, account })
}

/// Checks a request that an account must have signed; returns its number too.
pub(super) fn check_account(authority: &Authority, incoming: &Incoming) -> Result<(Signed, usize), Refusal> {
    let signed = check(authority, incoming)?;
    match (&signed.by, signed.account) {
        (By::Account(_), Some(account)) => Ok((signed, account)),
        _ => refuse(400, "malformed", "this must be signed with a kid"),
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
        let body = problem(&self).to_string();
        let mut response = (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response();
        if let Some(wait) = self.retry_after_secs.and_then(|secs| secs.to_string().parse().ok()) {
            response.headers_mut().insert(header::RETRY_AFTER, wait);
        }
        response
    }
}
