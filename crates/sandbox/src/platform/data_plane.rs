//! What clients of an endpoint meet: TLS by server name, then a route, a redirect, or
//! a refusal.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Router};
use rustls::client::danger::HandshakeSignatureValid;
use rustls::crypto::aws_lc_rs::{default_provider, sign::any_supported_type};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{ClientHello, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::{DigitallySignedStruct, DistinguishedName, ProtocolVersion, RootCertStore, ServerConfig, SignatureScheme};
use rustls_pki_types::pem::PemObject as _;
use rustls_pki_types::{CertificateDer, PrivateKeyDer, UnixTime};

use super::{BindingBody, Endpoint, Platform, SERVICES};
use crate::listen::Peer;

/// The longest that a slow endpoint takes, in milliseconds.
const MOST_SLOW_MS: u64 = 600_000;

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
    // Who shows which certificate is decided where the hostname is known.
    let mut config = builder
        .with_client_cert_verifier(Arc::new(AnyClient))
        .with_cert_resolver(Arc::new(ByName { platform, endpoint }));
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
        let takes_all = self.platform.has_fault("old-tls", endpoint.id);
        if binding.minimum_tls == "1.3" && !takes_all && !offers_tls13(&hello) {
            return None;
        }
        let Some(sha256) = binding.certificate else { return self.platform.issued(self.endpoint, name).or(own) };
        let key = (endpoint.certificate_site.to_owned(), sha256);
        self.platform.inner().certificates.get(&key).cloned().or(own)
    }
}

/// Asks every client for a certificate, and takes any or none; that it holds the key is proven.
#[derive(Debug)]
struct AnyClient;

impl ClientCertVerifier for AnyClient {
    fn client_auth_mandatory(&self) -> bool {
        false
    }

    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn verify_client_cert(
        &self,
        _leaf: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _now: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        Ok(ClientCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, &algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = default_provider().signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, &algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        default_provider().signature_verification_algorithms.supported_schemes()
    }
}

/// Says whether a client's chain ends at the roots of a bundle.
fn is_trusted(chain: &[CertificateDer<'static>], roots: &str) -> bool {
    let mut store = RootCertStore::empty();
    store.add_parsable_certificates(CertificateDer::pem_slice_iter(roots.as_bytes()).filter_map(Result::ok));
    let Some((leaf, intermediates)) = chain.split_first() else { return false };
    let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(store), Arc::new(default_provider())).build();
    verifier.is_ok_and(|verifier| verifier.verify_client_cert(leaf, intermediates, UnixTime::now()).is_ok())
}

fn offers_tls13(hello: &ClientHello<'_>) -> bool {
    // Clients that offer TLS 1.3 name at least one of its cipher suites.
    let tls13 = ProtocolVersion::TLSv1_3;
    let suites = default_provider().cipher_suites;
    suites.iter().any(|suite| suite.version().version == tls13 && hello.cipher_suites().contains(&suite.suite()))
}

impl Platform {
    /// The certificate that was issued for a name at an endpoint, a wildcard's included.
    fn issued(&self, endpoint: usize, name: &str) -> Option<Arc<CertifiedKey>> {
        let id = self.endpoints[endpoint].id.to_owned();
        let inner = self.inner();
        let of = |name: String| Some(inner.bindings.get(&(id.clone(), name))?.issued.as_ref()?.certified.clone());
        let wildcard = name.split_once('.').map(|(_, rest)| format!("*.{rest}"));
        of(name.to_ascii_lowercase()).or_else(|| of(wildcard?))
    }

    /// Why a client is not answered that shows this chain.
    fn refuses_client(&self, endpoint: &Endpoint, binding: &BindingBody, chain: &[CertificateDer<'static>]) -> bool {
        let Some(clients) = &binding.client_certificates else { return false };
        if self.has_fault("no-client-certificates", endpoint.id) {
            return false;
        }
        if chain.is_empty() {
            return clients.need == "required";
        }
        let key = (endpoint.certificate_site.to_owned(), clients.roots.clone());
        let roots = self.inner().trust_bundles.get(&key).cloned().unwrap_or_default();
        !is_trusted(chain, &roots)
    }

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
    if let Some(millis) = platform.number_about("slow", endpoint.id) {
        tokio::time::sleep(Duration::from_millis(millis.min(MOST_SLOW_MS))).await;
    }
    if let Some(percent) = platform.number_about("flaky", endpoint.id) {
        // Spread evenly: of a hundred requests in a row, so many.
        let request = platform.served.fetch_add(1, Ordering::Relaxed);
        if request.wrapping_mul(37) % 100 < percent {
            return (StatusCode::SERVICE_UNAVAILABLE, "try again\n").into_response();
        }
    }
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
    if platform.refuses_client(endpoint, &binding, &peer.certificates) {
        return (StatusCode::FORBIDDEN, "a client certificate is required here\n").into_response();
    }
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
