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
use super::special::Special;
use super::{BindingBody, Bound, Endpoint, MOST_HOSTNAMES, Platform, SERVICES, fingerprint};

/// How many endpoints stand on one page.
const PER_PAGE: usize = 6;
/// How many certificates or bindings stand on one page.
const PER_LONG_PAGE: usize = 50;

type Shared = State<Arc<Platform>>;
type Answer = Result<Response, Refusal>;

/// A refusal as a problem document (RFC 9457).
struct Refusal(StatusCode, String);

pub(super) fn router(platform: Arc<Platform>) -> Router {
    Router::new()
        .route("/v1/endpoints", get(endpoints))
        .route("/v1/token", get(token_scope))
        .route("/v1/sites/{site}/trust-bundles/{sha256}", put(put_trust_bundle))
        .route("/v1/sites/{site}/certificates", get(certificates))
        .route("/v1/sites/{site}/certificates/{sha256}", put(put_certificate).delete(delete_certificate))
        .route("/v1/endpoints/{id}/bindings", get(bindings))
        .route("/v1/endpoints/{id}/bindings/{hostname}", get(get_binding).put(put_binding).delete(delete_binding))
        .layer(axum::middleware::from_fn_with_state(platform.clone(), every_request))
        .with_state(platform)
}

async fn every_request(
    State(platform): Shared,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> Response {
    platform.requests.fetch_add(1, Ordering::SeqCst);
    if platform.silent.load(Ordering::SeqCst) {
        return Refusal(StatusCode::SERVICE_UNAVAILABLE, "the platform is down for repairs".into()).into_response();
    }
    if platform.is_over_limit() {
        let refusal = Refusal(StatusCode::TOO_MANY_REQUESTS, "too many requests".into());
        return ([(header::RETRY_AFTER, "1")], refusal).into_response();
    }
    if platform.is_busy() {
        return Refusal(StatusCode::SERVICE_UNAVAILABLE, "the platform is busy".into()).into_response();
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
        .map(|endpoint| {
            let refusal = platform.refusal(endpoint);
            let mut custom = json!({ "allowed": refusal.is_none() });
            if let Some(reason) = refusal {
                custom["reason"] = reason.into();
            }
            let (stored, most) =
                (platform.stored(endpoint.certificate_site), platform.store_size(endpoint.certificate_site));
            json!({
                "id": endpoint.id,
                "kind": endpoint.kind,
                "site": endpoint.site,
                "default_name": endpoint.default_name,
                "addresses": [endpoint.address.ip()],
                "port": endpoint.address.port(),
                "certificate_site": endpoint.certificate_site,
                "custom_hostnames": custom,
                "offers": endpoint.special.offers(endpoint.kind),
                "own_targets": endpoint.special == Special::Hosted,
                "alias_first": endpoint.special == Special::AliasFirst,
                "deploys_in_seconds": platform.deploys_in(endpoint).as_secs() + 1,
                "quotas": {
                    "hostnames": { "used": platform.bound(endpoint.id), "most": MOST_HOSTNAMES },
                    "certificates": { "used": stored, "most": most },
                },
            })
        })
        .collect();
    page.of("endpoints", "/v1/endpoints", listed, PER_PAGE)
}

async fn token_scope(State(platform): Shared) -> Response {
    let all: Vec<&str> = platform.endpoints.iter().map(|endpoint| endpoint.id).collect();
    let scope = match platform.has_fault("wide-token", "") {
        true => json!({ "beyond": ["create endpoints", "delete sites"] }),
        false => json!({ "endpoints": all }),
    };
    axum::Json(scope).into_response()
}

#[derive(Deserialize)]
struct TrustBundleBody {
    roots: String,
}

async fn put_trust_bundle(
    State(platform): Shared,
    Path((site, sha256)): Path<(String, String)>,
    body: Bytes,
) -> Answer {
    platform.know_site(&site)?;
    let body: TrustBundleBody = read(&body)?;
    let bad = |why: &str| Refusal(StatusCode::UNPROCESSABLE_ENTITY, why.to_owned());
    if fingerprint(body.roots.as_bytes()) != sha256 {
        return Err(bad("the fingerprint is not that of this text"));
    }
    let roots: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(body.roots.as_bytes()).collect();
    if roots.map_or(true, |roots| roots.is_empty()) {
        return Err(bad("the roots cannot be read"));
    }
    let mut inner = platform.inner();
    inner.writes += 1;
    let new = inner.trust_bundles.insert((site, sha256), body.roots).is_none();
    Ok(if new { StatusCode::CREATED } else { StatusCode::OK }.into_response())
}

impl Page {
    /// One page of a list, with a link to the next.
    fn of(&self, member: &str, path: &str, all: Vec<Value>, size: usize) -> Response {
        let next = self.after + size;
        let more = next < all.len();
        let listed: Vec<Value> = all.into_iter().skip(self.after).take(size).collect();
        let body = axum::Json(json!({ member: listed }));
        if more {
            return ([(header::LINK, format!("<{path}?after={next}>; rel=\"next\""))], body).into_response();
        }
        body.into_response()
    }
}

async fn certificates(State(platform): Shared, Path(site): Path<String>, Query(page): Query<Page>) -> Answer {
    platform.know_site(&site)?;
    let inner = platform.inner();
    let mut listed: Vec<Value> = Vec::new();
    for ((at, sha256), certified) in inner.certificates.iter().filter(|((at, _), _)| *at == site) {
        let leaf = certified.cert.first().and_then(|leaf| x509_parser::parse_x509_certificate(leaf).ok());
        let not_after = leaf.map(|(_, leaf)| leaf.validity().not_after.timestamp());
        let not_after = not_after.and_then(|secs| jiff::Timestamp::from_second(secs).ok()).map(|at| at.to_string());
        let used_by = inner.users(&platform, at, sha256).count();
        listed.push(json!({ "sha256": sha256, "not_after": not_after, "used_by": used_by }));
    }
    listed.sort_by_key(|certificate| certificate["sha256"].to_string());
    Ok(page.of("certificates", &format!("/v1/sites/{site}/certificates"), listed, PER_LONG_PAGE))
}

async fn delete_certificate(State(platform): Shared, Path((site, sha256)): Path<(String, String)>) -> Answer {
    platform.know_site(&site)?;
    let mut inner = platform.inner();
    if let Some(user) = inner.users(&platform, &site, &sha256).next() {
        return Err(Refusal(StatusCode::CONFLICT, format!("{user} uses this certificate")));
    }
    match inner.certificates.remove(&(site, sha256)) {
        Some(_) => {
            inner.writes += 1;
            Ok(StatusCode::NO_CONTENT.into_response())
        }
        None => Err(Refusal(StatusCode::NOT_FOUND, "there is no such certificate in this store".into())),
    }
}

async fn bindings(State(platform): Shared, Path(id): Path<String>, Query(page): Query<Page>) -> Answer {
    let endpoint = platform.know_endpoint(&id)?;
    let inner = platform.inner();
    let mut listed: Vec<Value> = inner
        .bindings
        .iter()
        .filter(|((at, _), _)| *at == id)
        .map(|((_, hostname), bound)| {
            let mut body = binding_body(endpoint, hostname, bound);
            body["hostname"] = hostname.as_str().into();
            body
        })
        .collect();
    listed.sort_by_key(|binding| binding["hostname"].to_string());
    Ok(page.of("bindings", &format!("/v1/endpoints/{id}/bindings"), listed, PER_LONG_PAGE))
}

async fn delete_binding(
    State(platform): Shared,
    Path((id, hostname)): Path<(String, String)>,
    headers: HeaderMap,
) -> Answer {
    platform.know_endpoint(&id)?;
    let mut inner = platform.inner();
    let key = (id, hostname);
    let Some(present) = inner.bindings.get(&key) else {
        return Err(Refusal(StatusCode::NOT_FOUND, format!("{} does not know {}", key.0, key.1)));
    };
    if !condition_holds(&headers, Some(present)) {
        return Err(Refusal(StatusCode::PRECONDITION_FAILED, "the binding is not the one that was read".into()));
    }
    inner.bindings.remove(&key);
    inner.writes += 1;
    Ok(StatusCode::NO_CONTENT.into_response())
}

impl Platform {
    fn know_site(&self, site: &str) -> Result<(), Refusal> {
        let known = self.endpoints.iter().any(|endpoint| endpoint.certificate_site == site);
        known.then_some(()).ok_or_else(|| Refusal(StatusCode::NOT_FOUND, format!("there is no site {site}")))
    }

    fn know_endpoint(&self, id: &str) -> Result<&Endpoint, Refusal> {
        let known = self.endpoints.iter().find(|endpoint| endpoint.id == id);
        known.ok_or_else(|| Refusal(StatusCode::NOT_FOUND, format!("there is no endpoint {id}")))
    }
}

#[derive(Deserialize)]
struct CertificateBody {
    chain: String,
    key: String,
}

async fn put_certificate(State(platform): Shared, Path((site, sha256)): Path<(String, String)>, body: Bytes) -> Answer {
    platform.know_site(&site)?;
    let body: CertificateBody = read(&body)?;
    let bad = |why: &str| Refusal(StatusCode::UNPROCESSABLE_ENTITY, why.to_owned());
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(body.chain.as_bytes())
        .collect::<Result<_, _>>()
        .map_err(|_| bad("the chain cannot be read"))?;
    let leaf = chain.first().ok_or_else(|| bad("the chain is empty"))?;
    if fingerprint(leaf) != sha256 {
        return Err(bad("the fingerprint is not that of the first certificate"));
    }
    let key = PrivateKeyDer::from_pem_slice(body.key.as_bytes()).map_err(|_| bad("the key cannot be read"))?;
    let certified = certified(chain, key).ok_or_else(|| bad("the key is not that of the first certificate"))?;
    let mut inner = platform.inner();
    let is_full = inner.certificates.keys().filter(|(at, _)| *at == site).count() >= platform.store_size(&site);
    if is_full && !inner.certificates.contains_key(&(site.clone(), sha256.clone())) {
        return Err(Refusal(StatusCode::INSUFFICIENT_STORAGE, format!("the store of {site} is full")));
    }
    inner.writes += 1;
    let new = inner.certificates.insert((site, sha256.clone()), certified).is_none();
    let status = if new { StatusCode::CREATED } else { StatusCode::OK };
    Ok((status, axum::Json(json!({ "sha256": sha256 }))).into_response())
}

async fn get_binding(State(platform): Shared, Path((id, hostname)): Path<(String, String)>) -> Answer {
    let endpoint = platform.know_endpoint(&id)?;
    platform.look_for_records(endpoint, &hostname).await;
    let inner = platform.inner();
    match inner.bindings.get(&(id.clone(), hostname.clone())) {
        Some(bound) => Ok(binding_response(StatusCode::OK, endpoint, &hostname, bound)),
        None => Err(Refusal(StatusCode::NOT_FOUND, format!("{id} does not know {hostname}"))),
    }
}

async fn put_binding(
    State(platform): Shared,
    Path((id, hostname)): Path<(String, String)>,
    headers: HeaderMap,
    body: Bytes,
) -> Answer {
    let endpoint = platform.know_endpoint(&id)?;
    if let Some(reason) = platform.refusal(endpoint) {
        return Err(Refusal(StatusCode::CONFLICT, reason.into()));
    }
    if platform.has_fault("refuses", &hostname) {
        return Err(Refusal(StatusCode::CONFLICT, format!("{hostname} belongs to another customer")));
    }
    let wanted: BindingBody = read(&body)?;
    let unknown = wanted.routes.iter().find(|route| !SERVICES.iter().any(|(service, _)| *service == route.service));
    if let Some(route) = unknown {
        return Err(Refusal(StatusCode::UNPROCESSABLE_ENTITY, format!("there is no service {}", route.service)));
    }
    let mut inner = platform.inner();
    let (site, refused) = (endpoint.certificate_site, |why| Err(Refusal(StatusCode::UNPROCESSABLE_ENTITY, why)));
    match &wanted.certificate {
        Some(sha256) if !inner.certificates.contains_key(&(site.to_owned(), sha256.clone())) => {
            return refused(format!("the store of {site} has no certificate {sha256}"));
        }
        None if endpoint.special != Special::Hosted => return refused(format!("{id} issues no certificates")),
        _ => {}
    }
    if let Some(clients) = &wanted.client_certificates
        && !inner.trust_bundles.contains_key(&(site.to_owned(), clients.roots.clone()))
    {
        return refused(format!("the store of {site} has no trust bundle {}", clients.roots));
    }
    let key = (id, hostname);
    let present = inner.bindings.get(&key);
    if !condition_holds(&headers, present) {
        return Err(Refusal(StatusCode::PRECONDITION_FAILED, "the binding is not the one that was read".into()));
    }
    if let Some(same) = present.filter(|bound| bound.wanted == wanted) {
        return Ok(binding_response(StatusCode::OK, endpoint, &key.1, same));
    }
    let version = present.map_or(0, |bound| bound.version) + 1;
    let in_force = present.and_then(|bound| bound.in_force().cloned());
    let issued = present.and_then(|bound| bound.issued.clone());
    // What has been proven once is.
    let waits = endpoint.special != Special::Nothing && present.is_none_or(|bound| bound.deployed_at.is_none());
    let deployed_at = (!waits).then(|| Instant::now() + platform.deploys_in(endpoint));
    inner.writes += 1;
    let bound = Bound { wanted, in_force, deployed_at, issued, version };
    let response = binding_response(StatusCode::ACCEPTED, endpoint, &key.1, &bound);
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

fn binding_response(status: StatusCode, endpoint: &Endpoint, hostname: &str, bound: &Bound) -> Response {
    (status, [(header::ETAG, etag(bound))], axum::Json(binding_body(endpoint, hostname, bound))).into_response()
}

fn binding_body(endpoint: &Endpoint, hostname: &str, bound: &Bound) -> Value {
    let mut body = serde_json::to_value(&bound.wanted).unwrap_or_default();
    body["state"] = if bound.is_deployed() { "deployed" } else { "deploying" }.into();
    if let (Value::Object(body), Value::Object(reply)) = (&mut body, endpoint.reply(hostname, bound)) {
        body.extend(reply);
    }
    body
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
