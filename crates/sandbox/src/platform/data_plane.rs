//! What clients of an endpoint meet: TLS by server name, then a route, a redirect, or
//! a refusal.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Router};
use rustls::crypto::aws_lc_rs::{default_provider, sign::any_supported_type};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls::{ProtocolVersion, ServerConfig};
use rustls_pki_types::{CertificateDer, PrivateKeyDer};

use super::{BindingBody, Platform, SERVICES};
use crate::listen::Peer;

type Here = State<(Arc<Platform>, usize)>;

/// Puts a chain and its key together; `None` when they do not belong together.
pub(super) fn certified(chain: Vec<CertificateDer<'static>>, key: PrivateKeyDer<'static>) -> Option<Arc<CertifiedKey>> {
    let certified = CertifiedKey::new(chain, any_supported_type(&key).ok()?);
    certified.keys_match().ok()?;
    Some(Arc::new(certified))
}

pub(super) fn config(platform: Arc<Platform>, endpoint: usize) -> Result<Arc<ServerConfig>, rustls::Error> {
    let builder =
        ServerConfig::builder_with_provider(Arc::new(default_provider())).with_safe_default_protocol_versions()?;
    let mut config = builder.with_no_client_auth().with_cert_resolver(Arc::new(ByName { platform, endpoint }));
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(Arc::new(config))
}

pub(super) fn router(platform: Arc<Platform>, endpoint: usize) -> Router {
    Router::new().fallback(serve).with_state((platform, endpoint))
}

/// Serves the certificate that is bound for the server name, else the endpoint's own.
struct ByName {
    platform: Arc<Platform>,
    endpoint: usize,
}

impl std::fmt::Debug for ByName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "ByName({})", self.endpoint)
    }
}

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let endpoint = &self.platform.endpoints[self.endpoint];
        let own = Some(endpoint.default_certificate.clone());
        if self.platform.has_fault("endpoint-down", endpoint.id) {
            return None;
        }
        let Some(name) = hello.server_name() else { return own };
        if self.platform.has_fault("other-certificate", name) {
            return own;
        }
        let Some(binding) = self.platform.binding_of(self.endpoint, name) else { return own };
        if binding.minimum_tls == "1.3" && !hello.signature_schemes().is_empty() && !offers_tls13(&hello) {
            return None;
        }
        let key = (endpoint.certificate_site.to_owned(), binding.certificate);
        self.platform.inner().certificates.get(&key).cloned().or(own)
    }
}

fn offers_tls13(hello: &ClientHello<'_>) -> bool {
    // Clients that offer TLS 1.3 name at least one of its cipher suites.
    let tls13 = ProtocolVersion::TLSv1_3;
    let suites = default_provider().cipher_suites;
    suites.iter().any(|suite| suite.version().version == tls13 && hello.cipher_suites().contains(&suite.suite()))
}

impl Platform {
    /// The binding in force for a name at an endpoint, a wildcard's included.
    fn binding_of(&self, endpoint: usize, name: &str) -> Option<BindingBody> {
        let id = self.endpoints[endpoint].id.to_owned();
        let inner = self.inner();
        let of = |name: String| inner.bindings.get(&(id.clone(), name)).and_then(|bound| bound.in_force().cloned());
        let wildcard = name.split_once('.').map(|(_, rest)| format!("*.{rest}"));
        of(name.to_ascii_lowercase()).or_else(|| of(wildcard?))
    }
}

async fn serve(
    State((platform, index)): Here,
    Extension(peer): Extension<Peer>,
    uri: Uri,
    headers: axum::http::HeaderMap,
) -> Response {
    let endpoint = &platform.endpoints[index];
    if platform.has_fault("route-fails", endpoint.id) {
        return (StatusCode::BAD_GATEWAY, "the service behind this endpoint does not answer\n").into_response();
    }
    let authority = uri.host().map(str::to_owned);
    let host = authority.or_else(|| headers.get(header::HOST)?.to_str().ok().map(str::to_owned)).unwrap_or_default();
    let host = host.split(':').next().unwrap_or_default().to_ascii_lowercase();
    if host == endpoint.default_name {
        return answer(endpoint.service, None);
    }
    let binding = platform.binding_of(index, &host).filter(|_| peer.sni.as_deref() == Some(host.as_str()));
    let Some(binding) = binding else {
        return (StatusCode::FORBIDDEN, format!("{host} is not known here\n")).into_response();
    };
    if let Some(primary) = &binding.redirect_to {
        let to = format!(
            "https://{primary}:{}{}",
            endpoint.address.port(),
            uri.path_and_query().map_or("/", |path| path.as_str())
        );
        return (StatusCode::PERMANENT_REDIRECT, [(header::LOCATION, to)]).into_response();
    }
    if binding.routes.is_empty() {
        return answer(endpoint.service, None);
    }
    let longest = binding
        .routes
        .iter()
        .filter(|route| is_under(uri.path(), &route.prefix))
        .max_by_key(|route| route.prefix.len());
    match longest {
        Some(route) => answer(&route.service, route.release.as_deref()),
        None => (StatusCode::NOT_FOUND, format!("no route of {host} matches {}\n", uri.path())).into_response(),
    }
}

fn answer(service: &str, release: Option<&str>) -> Response {
    let title = SERVICES.iter().find(|(name, _)| *name == service).map_or(service, |(_, title)| title);
    let release = release.map_or(String::new(), |release| format!(", release {release}"));
    format!("{title}{release}\n").into_response()
}

/// Says whether a path lies under a prefix, at a border between segments.
fn is_under(path: &str, prefix: &str) -> bool {
    let prefix = prefix.trim_end_matches('/');
    path.strip_prefix(prefix).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}
