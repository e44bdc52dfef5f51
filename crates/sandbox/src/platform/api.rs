//! The platform's interface: the endpoint protocol.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use axum::Router;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, put};
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use serde::Deserialize;
use serde_json::{Value, json};

use super::data_plane::certified;
use super::{BindingBody, Bound, Platform, SERVICES};

/// How many endpoints stand on one page.
const PER_PAGE: usize = 4;

type Shared = State<Arc<Platform>>;
type Answer = Result<Response, Refusal>;

/// A refusal as a problem document (RFC 9457).
struct Refusal(StatusCode, String);

pub(super) fn router(platform: Arc<Platform>) -> Router {
    Router::new()
        .route("/v1/endpoints", get(endpoints))
        .route("/v1/sites/{site}/certificates/{sha256}", put(put_certificate))
        .route("/v1/endpoints/{id}/bindings/{hostname}", get(get_binding).put(put_binding))
        .layer(axum::middleware::from_fn_with_state(platform.clone(), every_request))
        .with_state(platform)
}

async fn every_request(
    State(platform): Shared,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> Response {
    if platform.silent.load(Ordering::SeqCst) {
        return Refusal(StatusCode::SERVICE_UNAVAILABLE, "the platform is down for repairs".into()).into_response();
    }
    let bearer = format!("Bearer {}", platform.token);
    if request.headers().get(header::AUTHORIZATION).is_none_or(|value| value.as_bytes() != bearer.as_bytes()) {
        return Refusal(StatusCode::UNAUTHORIZED, "the token is not one of ours".into()).into_response();
    }
    next.run(request).await
}

#[derive(Deserialize)]
struct Page {
    #[serde(default)]
    after: usize,
}

async fn endpoints(State(platform): Shared, Query(page): Query<Page>) -> Response {
    let listed: Vec<Value> = platform
        .endpoints
        .iter()
        .skip(page.after)
        .take(PER_PAGE)
        .map(|endpoint| {
            let mut custom = json!({ "allowed": endpoint.refusal.is_none() });
            if let Some(reason) = endpoint.refusal {
                custom["reason"] = reason.into();
            }
            json!({
                "id": endpoint.id,
                "kind": endpoint.kind,
                "site": endpoint.site,
                "default_name": endpoint.default_name,
                "addresses": [endpoint.address.ip()],
                "port": endpoint.address.port(),
                "certificate_site": endpoint.certificate_site,
                "custom_hostnames": custom,
            })
        })
        .collect();
    let next = page.after + PER_PAGE;
    let body = axum::Json(json!({ "endpoints": listed }));
    if next < platform.endpoints.len() {
        return ([(header::LINK, format!("</v1/endpoints?after={next}>; rel=\"next\""))], body).into_response();
    }
    body.into_response()
}

#[derive(Deserialize)]
struct CertificateBody {
    chain: String,
    key: String,
}

async fn put_certificate(State(platform): Shared, Path((site, sha256)): Path<(String, String)>, body: Bytes) -> Answer {
    if !platform.endpoints.iter().any(|endpoint| endpoint.certificate_site == site) {
        return Err(Refusal(StatusCode::NOT_FOUND, format!("there is no site {site}")));
    }
    let body: CertificateBody = read(&body)?;
    let bad = |why: &str| Refusal(StatusCode::UNPROCESSABLE_ENTITY, why.to_owned());
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(body.chain.as_bytes())
        .collect::<Result<_, _>>()
        .map_err(|_| bad("the chain cannot be read"))?;
    let leaf = chain.first().ok_or_else(|| bad("the chain is empty"))?;
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, leaf);
    let found: String = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    if found != sha256 {
        return Err(bad("the fingerprint is not that of the first certificate"));
    }
    let key = PrivateKeyDer::from_pem_slice(body.key.as_bytes()).map_err(|_| bad("the key cannot be read"))?;
    let certified = certified(chain, key).ok_or_else(|| bad("the key is not that of the first certificate"))?;
    let mut inner = platform.inner();
    inner.writes += 1;
    let new = inner.certificates.insert((site, sha256.clone()), certified).is_none();
    let status = if new { StatusCode::CREATED } else { StatusCode::OK };
    Ok((status, axum::Json(json!({ "sha256": sha256 }))).into_response())
}

async fn get_binding(State(platform): Shared, Path((id, hostname)): Path<(String, String)>) -> Answer {
    let inner = platform.inner();
    match inner.bindings.get(&(id.clone(), hostname.clone())) {
        Some(bound) => Ok(binding_response(StatusCode::OK, bound)),
        None => Err(Refusal(StatusCode::NOT_FOUND, format!("{id} does not know {hostname}"))),
    }
}

async fn put_binding(
    State(platform): Shared,
    Path((id, hostname)): Path<(String, String)>,
    headers: HeaderMap,
    body: Bytes,
) -> Answer {
    let endpoint =
        platform.endpoint(&id).ok_or_else(|| Refusal(StatusCode::NOT_FOUND, format!("there is no endpoint {id}")))?;
    if let Some(reason) = endpoint.refusal {
        return Err(Refusal(StatusCode::CONFLICT, reason.into()));
    }
    let wanted: BindingBody = read(&body)?;
    let unknown = wanted.routes.iter().find(|route| !SERVICES.iter().any(|(service, _)| *service == route.service));
    if let Some(route) = unknown {
        return Err(Refusal(StatusCode::UNPROCESSABLE_ENTITY, format!("there is no service {}", route.service)));
    }
    let mut inner = platform.inner();
    if !inner.certificates.contains_key(&(endpoint.certificate_site.to_owned(), wanted.certificate.clone())) {
        let why = format!("the store of {} has no certificate {}", endpoint.certificate_site, wanted.certificate);
        return Err(Refusal(StatusCode::UNPROCESSABLE_ENTITY, why));
    }
    let key = (id, hostname);
    let present = inner.bindings.get(&key);
    if !condition_holds(&headers, present) {
        return Err(Refusal(StatusCode::PRECONDITION_FAILED, "the binding is not the one that was read".into()));
    }
    if let Some(same) = present.filter(|bound| bound.wanted == wanted) {
        return Ok(binding_response(StatusCode::OK, same));
    }
    let version = present.map_or(0, |bound| bound.version) + 1;
    let in_force = present.and_then(|bound| bound.in_force().cloned());
    let deployed_at = Instant::now() + platform.deploys_in(endpoint);
    inner.writes += 1;
    let bound = Bound { wanted, in_force, deployed_at, version };
    let response = binding_response(StatusCode::ACCEPTED, &bound);
    inner.bindings.insert(key, bound);
    Ok(response)
}

/// RFC 9110 §13.1: `If-Match` and `If-None-Match`.
fn condition_holds(headers: &HeaderMap, present: Option<&Bound>) -> bool {
    let none_match = headers.get(header::IF_NONE_MATCH).is_none_or(|value| value != "*" || present.is_none());
    let matches = headers
        .get(header::IF_MATCH)
        .is_none_or(|value| present.is_some_and(|bound| value.as_bytes() == etag(bound).as_bytes()));
    none_match && matches
}

fn etag(bound: &Bound) -> String {
    format!("\"{}\"", bound.version)
}

fn binding_response(status: StatusCode, bound: &Bound) -> Response {
    let mut body = serde_json::to_value(&bound.wanted).unwrap_or_default();
    body["state"] = if Instant::now() >= bound.deployed_at { "deployed" } else { "deploying" }.into();
    (status, [(header::ETAG, etag(bound))], axum::Json(body)).into_response()
}

fn read<T: for<'de> Deserialize<'de>>(body: &[u8]) -> Result<T, Refusal> {
    serde_json::from_slice(body).map_err(|error| Refusal(StatusCode::BAD_REQUEST, error.to_string()))
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let Refusal(status, detail) = self;
        let body = json!({ "title": status.canonical_reason(), "status": status.as_u16(), "detail": detail });
        (status, [(header::CONTENT_TYPE, "application/problem+json")], body.to_string()).into_response()
    }
}
