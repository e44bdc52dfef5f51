//! What all requests have in common (RFC 8555 §6).

use std::sync::Arc;
use std::sync::atomic::Ordering;

use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{FromRequest, State};
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use super::jws::{By, Request};
use super::{Authority, Refusal, refuse};

/// The longest body, either way.
const MAX_BODY: usize = 1 << 20;

pub(super) type Shared = State<Arc<Authority>>;
pub(super) type Answer = Result<Response, Refusal>;

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

/// Sends one part of a body, and then nothing more.
pub(super) async fn broken_off(response: Response, part: usize) -> Response {
    let (mut parts, body) = response.into_parts();
    let whole = to_bytes(body, MAX_BODY).await.unwrap_or_default();
    let kept = whole.slice(..whole.len().checked_div(part).unwrap_or(0));
    parts.headers.remove(header::CONTENT_LENGTH);
    let torn = [Ok(kept), Err(std::io::Error::other("broken off"))];
    Response::from_parts(parts, Body::from_stream(futures::stream::iter(torn)))
}
