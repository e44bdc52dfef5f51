//! Connections made the way a client makes them, to an address that the caller
//! chooses: TCP, TLS, one HTTP request.
//!
//! [`served_certificate`] asks which certificate is served, whatever it is;
//! [`request`] verifies in full, as a client does, and then makes one request.
//! [`check_http`], [`check_tcp`] and [`check_tls`] are health checks, which measure how long each
//! part took.

mod health;

pub use health::{check_http, check_tcp, check_tls};

use std::net::SocketAddr;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use http_body_util::{BodyExt as _, Empty, Limited};
use hyper::body::Bytes;
use hyper::{Request, header};
use hyper_util::rt::TokioIo;
use pindrel_core::endpoints::expectation::{Expectation, SampleMethod};
use pindrel_core::judging::facts::{Unreachable, Untrusted};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_keys::distrust_in;
use rustls::client::Resumption;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, TrustAnchor, UnixTime};
use rustls::version::TLS12;
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

const CONNECT: Duration = Duration::from_secs(4);
const HANDSHAKE: Duration = Duration::from_secs(6);
const ANSWER: Duration = Duration::from_secs(10);
/// The longest body that is read.
const MAX_BODY: usize = 256 * 1024;

/// How far a connection got before it failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ProbeError {
    /// No TCP connection, or no TLS, for a reason that is not the certificate.
    #[error("{0}")]
    NotConnected(Unreachable),
    /// The certificate does not verify.
    #[error("{why}")]
    Unverified {
        /// Of the leaf.
        sha256: Option<Fingerprint>,
        /// Why.
        why: Untrusted,
    },
    /// TLS was verified, but no HTTP answer came.
    #[error("{why}")]
    NoAnswer {
        /// Of the leaf.
        sha256: Fingerprint,
        /// Why.
        why: Unreachable,
    },
}

/// An HTTP answer over verified TLS.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answered {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The HTTP status.
    pub status: u16,
    /// The `Location` header.
    pub location: Option<String>,
    /// The body, at most 256 KiB of it.
    pub body: Vec<u8>,
}

/// Which roots a client trusts.
#[derive(Debug, Clone)]
pub struct Trust {
    /// `None` trusts anyone.
    store: Option<Arc<RootCertStore>>,
    config: Arc<ClientConfig>,
}

/// The certificate that a client shows, with its key.
pub struct ClientIdentity {
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
}

impl ClientIdentity {
    /// Reads a chain, leaf first, and its key, both in one PEM text.
    ///
    /// # Errors
    /// A part of a sentence that says why not; nothing of the key is in it.
    pub fn from_pem(pem: &[u8]) -> Result<ClientIdentity, String> {
        let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem).collect();
        let chain = chain.ok().filter(|chain| !chain.is_empty()).ok_or("it holds no certificate")?;
        let key = PrivateKeyDer::from_pem_slice(pem).map_err(|_| "it holds no private key")?;
        Ok(ClientIdentity { chain, key })
    }
}

impl Trust {
    /// Trusts these roots.
    ///
    /// # Errors
    /// A sentence, when there are none.
    pub fn new(roots: Vec<TrustAnchor<'static>>) -> Result<Trust, String> {
        let provider = Arc::new(default_provider());
        let store = Arc::new(RootCertStore { roots });
        if store.is_empty() {
            return Err("there are no roots to trust".into());
        }
        let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
        let config = config.map_err(|error| error.to_string())?;
        let config = config.with_root_certificates(store.clone()).with_no_client_auth();
        Ok(Trust { store: Some(store), config: as_client(config) })
    }

    /// Trusts anyone: to see whether something answers at all. No secret goes over such a connection.
    ///
    /// # Errors
    /// [`ProbeError`], when TLS cannot be set up.
    pub fn anyone() -> Result<Trust, ProbeError> {
        Ok(Trust { store: None, config: as_client((*tolerant()?).clone()) })
    }

    /// The same, for a client that shows a certificate.
    fn config_for(&self, identity: Option<&ClientIdentity>) -> Result<Arc<ClientConfig>, ProbeError> {
        let (Some(identity), Some(store)) = (identity, &self.store) else { return Ok(self.config.clone()) };
        let failed = |error: rustls::Error| {
            ProbeError::NotConnected(Unreachable::NotAsked { detail: format!("with this client certificate: {error}") })
        };
        let config = ClientConfig::builder_with_provider(Arc::new(default_provider()));
        let config = config.with_safe_default_protocol_versions().map_err(failed)?;
        let config = config.with_root_certificates(store.clone());
        let config = config.with_client_auth_cert(identity.chain.clone(), identity.key.clone_key());
        Ok(as_client(config.map_err(failed)?))
    }
}

fn as_client(mut config: ClientConfig) -> Arc<ClientConfig> {
    // A resumed session shows the certificate of the first one: after a renewal that
    // would be the old one, whatever is served by now.
    config.resumption = Resumption::disabled();
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Arc::new(config)
}

/// A client that accepts any certificate, made once.
///
/// The direct probe asks which certificate is served, and compares its fingerprint with the
/// one that was put there: it must see a wrong one to name it.
fn tolerant() -> Result<Arc<ClientConfig>, ProbeError> {
    static TOLERANT: OnceLock<Result<Arc<ClientConfig>, String>> = OnceLock::new();
    let made = TOLERANT.get_or_init(|| {
        let provider = Arc::new(default_provider());
        let config = ClientConfig::builder_with_provider(provider.clone()).with_safe_default_protocol_versions();
        let mut config = config
            .map_err(|error| error.to_string())?
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(AnyCertificate { provider }))
            .with_no_client_auth();
        config.resumption = Resumption::disabled();
        Ok(Arc::new(config))
    });
    made.clone().map_err(|detail| ProbeError::NotConnected(Unreachable::tls(detail)))
}

/// Connects to `address` with `hostname` as SNI and returns the fingerprint of the
/// certificate that is served, verified or not.
///
/// # Errors
/// [`ProbeError::NotConnected`].
pub async fn served_certificate(address: SocketAddr, hostname: &Hostname) -> Result<Fingerprint, ProbeError> {
    let stream = handshake(tolerant()?, address, hostname).await?;
    leaf(&stream).map(|leaf| Fingerprint::of(leaf)).ok_or_else(no_certificate)
}

/// Connects to `address` as a client of `hostname` does, verifies in full, shows `identity` where it is
/// asked for one, and makes the request of `sample`.
///
/// # Errors
/// [`ProbeError`], by how far the connection got.
pub async fn request(
    trust: &Trust,
    address: SocketAddr,
    hostname: &Hostname,
    sample: &Expectation,
    identity: Option<&ClientIdentity>,
) -> Result<Answered, ProbeError> {
    let stream = match handshake(trust.config_for(identity)?, address, hostname).await {
        Err(ProbeError::Unverified { why, .. }) => {
            let sha256 = served_certificate(address, hostname).await.ok();
            return Err(ProbeError::Unverified { sha256, why });
        }
        other => other?,
    };
    let sha256 = leaf(&stream).map(|leaf| Fingerprint::of(leaf));
    let sha256 = sha256.ok_or_else(no_certificate)?;
    let failed = |why| ProbeError::NoAnswer { sha256, why };
    match timeout(ANSWER, exchange(stream, address, hostname, sample)).await {
        Ok(Ok((status, location, body))) => Ok(Answered { sha256, status, location, body }),
        Ok(Err(error)) => Err(failed(of_error(&*error))),
        Err(_) => Err(failed(timed_out(ANSWER))),
    }
}

/// Makes a request as a client that knows no newer version than TLS 1.2, and verifies nothing; returns the
/// status with which it is answered, if it is.
pub async fn status_over_tls12(address: SocketAddr, hostname: &Hostname, sample: &Expectation) -> Option<u16> {
    let mut old = default_provider();
    // Such a client has never heard of the newer ones.
    old.cipher_suites.retain(|suite| suite.version().version == TLS12.version);
    let provider = Arc::new(old);
    let config = ClientConfig::builder_with_provider(provider.clone()).with_protocol_versions(&[&TLS12]).ok()?;
    let verifier = Arc::new(AnyCertificate { provider });
    let config = config.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth();
    let stream = handshake(as_client(config), address, hostname).await.ok()?;
    let answered = timeout(ANSWER, exchange(stream, address, hostname, sample)).await.ok()?;
    answered.ok().map(|(status, ..)| status)
}

type Failure = Box<dyn std::error::Error + Send + Sync>;

async fn exchange(
    stream: TlsStream<TcpStream>,
    address: SocketAddr,
    hostname: &Hostname,
    sample: &Expectation,
) -> Result<(u16, Option<String>, Vec<u8>), Failure> {
    let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
    let host = if address.port() == 443 { hostname.to_string() } else { format!("{hostname}:{}", address.port()) };
    let request = Request::builder()
        .method(sample.method.as_str())
        .uri(&sample.path)
        .header(header::HOST, host)
        .header(header::USER_AGENT, concat!("pindrel/", env!("CARGO_PKG_VERSION")));
    // A browser asks this before it sends another site's request (the Fetch standard, CORS protocol).
    let request = match &sample.origin {
        Some(origin) if sample.method == SampleMethod::Options => {
            request.header(header::ORIGIN, origin).header(header::ACCESS_CONTROL_REQUEST_METHOD, "GET")
        }
        Some(origin) => request.header(header::ORIGIN, origin),
        None => request,
    };
    let request = request.body(Empty::<Bytes>::new())?;
    let driver = tokio::spawn(connection);
    let response = sender.send_request(request).await;
    let answer = match response {
        Ok(response) => {
            let status = response.status().as_u16();
            let location =
                response.headers().get(header::LOCATION).and_then(|value| value.to_str().ok()).map(str::to_owned);
            // A body that is longer than the limit is cut, not refused: its head decides.
            let mut body = Vec::new();
            let mut limited = Limited::new(response.into_body(), MAX_BODY);
            while let Some(Ok(frame)) = limited.frame().await {
                if let Ok(data) = frame.into_data() {
                    body.extend_from_slice(&data);
                }
            }
            Ok((status, location, body))
        }
        Err(error) => Err(error.into()),
    };
    driver.abort();
    answer
}

async fn handshake(
    config: Arc<ClientConfig>,
    address: SocketAddr,
    hostname: &Hostname,
) -> Result<TlsStream<TcpStream>, ProbeError> {
    let not_connected = ProbeError::NotConnected;
    let connect = timeout(CONNECT, TcpStream::connect(address)).await;
    let stream = connect.map_err(|_| not_connected(timed_out(CONNECT)))?.map_err(|error| not_connected(io(&error)))?;
    let name = ServerName::try_from(hostname.as_str().to_owned())
        .map_err(|error| not_connected(Unreachable::NotAsked { detail: error.to_string() }))?;
    let tls = timeout(HANDSHAKE, TlsConnector::from(config).connect(name, stream)).await;
    tls.map_err(|_| not_connected(timed_out(HANDSHAKE)))?.map_err(|error| {
        if let Some(why) = distrust_in(&error) {
            return ProbeError::Unverified { sha256: None, why };
        }
        match error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
            Some(other) => not_connected(Unreachable::tls(other.to_string())),
            None => not_connected(io(&error)),
        }
    })
}

fn io(error: &std::io::Error) -> Unreachable {
    Unreachable::from_io(error.kind(), error.to_string())
}

fn timed_out(after: Duration) -> Unreachable {
    Unreachable::TimedOut { after_ms: u64::try_from(after.as_millis()).unwrap_or(u64::MAX) }
}

fn no_certificate() -> ProbeError {
    ProbeError::NotConnected(Unreachable::tls("no certificate was served"))
}

/// What an error of the HTTP exchange means: what the system reported, else what is wrong
/// with the answer.
fn of_error(error: &(dyn std::error::Error + 'static)) -> Unreachable {
    let mut cause = Some(error);
    while let Some(error) = cause {
        if let Some(error) = error.downcast_ref::<std::io::Error>() {
            return io(error);
        }
        cause = error.source();
    }
    match error.downcast_ref::<hyper::Error>() {
        Some(error) if error.is_incomplete_message() || error.is_canceled() => Unreachable::Closed,
        _ => Unreachable::Malformed { detail: error.to_string() },
    }
}

fn leaf(stream: &TlsStream<TcpStream>) -> Option<&CertificateDer<'static>> {
    stream.get_ref().1.peer_certificates()?.first()
}

/// Accepts any certificate, but still checks that the peer holds its key.
#[derive(Debug)]
struct AnyCertificate {
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _end_entity: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _server_name: &ServerName<'_>,
        _ocsp_response: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
