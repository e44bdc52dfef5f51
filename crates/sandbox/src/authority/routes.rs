//! The authority's resources (RFC 8555 §7).

use std::sync::Arc;
use std::sync::atomic::Ordering;

use axum::Router;
use axum::extract::State;
use axum::http::{HeaderName, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use serde_json::{Value, json};

use super::request::{Shared, broken_off};
use super::{Authority, Fault, PROFILES, accounts, certificates, orders};

/// Every how many answers a fault that strikes now and then strikes.
const NOW_AND_THEN: u64 = 4;

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
