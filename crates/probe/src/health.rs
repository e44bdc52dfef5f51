//! Health checks of one address: how far each got, and how long each part of it took.

use std::io::ErrorKind;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use http_body_util::{BodyExt as _, Full, Limited};
use hyper::body::Bytes;
use hyper::{Request, Response, header};
use hyper_util::rt::TokioIo;
use pindrel_core::health::{CheckFailure, CheckResult, HttpExchange, HttpRequest, Measured, Phases, TlsListener};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::Hostname;
use pindrel_keys::distrust_in;
use rustls::pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::{MAX_BODY, Trust, io, leaf, of_error, timed_out};

/// One check under way.
struct Attempt {
    address: SocketAddr,
    within: Duration,
    begun: Instant,
    phases: Phases,
}

type Step<T> = Result<T, CheckResult>;

impl Attempt {
    fn begin(address: SocketAddr, within: Duration) -> Attempt {
        Attempt { address, within, begun: Instant::now(), phases: Phases::default() }
    }

    fn left(&self) -> Duration {
        self.within.saturating_sub(self.begun.elapsed())
    }

    fn ended(self, result: Step<()>) -> Measured {
        Measured { phases: self.phases, result: result.err().unwrap_or(CheckResult::Passed) }
    }

    async fn connect(&mut self) -> Step<TcpStream> {
        let begun = Instant::now();
        let failed = |why| CheckResult::Failed(CheckFailure::NotConnected { why });
        let stream = match timeout(self.left(), TcpStream::connect(self.address)).await {
            Err(_) => return Err(failed(timed_out(self.within))),
            // What this machine lacks says nothing of the peer: a route, a port of its own, a descriptor.
            Ok(Err(error)) => {
                let is_own = matches!(error.kind(), ErrorKind::NetworkUnreachable | ErrorKind::AddrNotAvailable)
                    || matches!(error.raw_os_error(), Some(23 | 24 | 97 | 105));
                let why = match error.kind() {
                    ErrorKind::HostUnreachable => Unreachable::Other { detail: "no route to host".into() },
                    _ => io(&error),
                };
                return Err(if is_own { CheckResult::Impossible(why) } else { failed(why) });
            }
            Ok(Ok(stream)) => stream,
        };
        self.phases.connect = Some(begun.elapsed());
        // A request is one small write, whose response is waited for.
        let _ = stream.set_nodelay(true);
        Ok(stream)
    }

    async fn secure(&mut self, trust: &Trust, name: &Hostname, stream: TcpStream) -> Step<TlsStream<TcpStream>> {
        let begun = Instant::now();
        let failed = |why| CheckResult::Failed(CheckFailure::NoTls { why });
        let name = ServerName::try_from(name.as_str().to_owned())
            .map_err(|error| CheckResult::Impossible(Unreachable::NotAsked { detail: error.to_string() }))?;
        let connector = TlsConnector::from(trust.config.clone());
        let stream = match timeout(self.left(), connector.connect(name, stream)).await {
            Err(_) => return Err(failed(timed_out(self.within))),
            Ok(Ok(stream)) => stream,
            Ok(Err(error)) => {
                if let Some(why) = distrust_in(&error) {
                    return Err(CheckResult::Failed(CheckFailure::Certificate { why }));
                }
                return Err(match error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
                    Some(other) => failed(Unreachable::tls(other.to_string())),
                    None => failed(io(&error)),
                });
            }
        };
        self.phases.tls = Some(begun.elapsed());
        Ok(stream)
    }

    async fn exchange<S>(&mut self, request: &HttpRequest, stream: S) -> Step<()>
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let no_response = |why| CheckResult::Failed(CheckFailure::NoResponse { why });
        let begun = Instant::now();
        let left = self.left();
        let answered = timeout(left, async {
            let (mut sender, connection) = hyper::client::conn::http1::handshake(TokioIo::new(stream)).await?;
            let sent = http_request(request, self.address)?;
            let driver = Driver(tokio::spawn(async move {
                // What ends it is told by the request.
                let _ = connection.await;
            }));
            let response = sender.send_request(sent).await?;
            self.phases.first_byte = Some(begun.elapsed());
            judge(&request.exchange, response, driver).await
        });
        match answered.await {
            Ok(Ok(result)) => result.map_err(CheckResult::Failed),
            Ok(Err(error)) => Err(no_response(of_error(&*error))),
            Err(_) => Err(no_response(timed_out(self.within))),
        }
    }
}

/// The task that moves the bytes of a connection: it ends with what it works for.
struct Driver(tokio::task::JoinHandle<()>);

impl Drop for Driver {
    fn drop(&mut self) {
        self.0.abort();
    }
}

fn http_request(request: &HttpRequest, address: SocketAddr) -> Result<Request<Full<Bytes>>, hyper::http::Error> {
    let HttpRequest { name, exchange, .. } = request;
    let host =
        if address.port() == exchange.usual_port() { name.to_string() } else { format!("{name}:{}", address.port()) };
    let mut builder = Request::builder()
        .method(exchange.method.as_str())
        .uri(&exchange.path)
        .header(header::HOST, host)
        .header(header::CONNECTION, "close");
    if !exchange.headers.iter().any(|(name, _)| name == "user-agent") {
        builder = builder.header(header::USER_AGENT, concat!("pindrel/", env!("CARGO_PKG_VERSION"), " (health check)"));
    }
    for (name, value) in &exchange.headers {
        builder = builder.header(name, value);
    }
    builder.body(Full::new(Bytes::from(exchange.send.clone().unwrap_or_default())))
}

/// Compares a response with what is expected; its body is read only as far as something is looked for in it.
async fn judge(
    expected: &HttpExchange,
    response: Response<hyper::body::Incoming>,
    _driver: Driver,
) -> Result<Result<(), CheckFailure>, Box<dyn std::error::Error + Send + Sync>> {
    let (status, (low, high)) = (response.status().as_u16(), expected.status);
    if !(low..=high).contains(&status) {
        return Ok(Err(CheckFailure::Status { status, low, high }));
    }
    if let Some((name, value)) = &expected.header {
        let mut found = response.headers().get_all(name.as_str()).iter();
        let is_there = found.any(|found| value.as_ref().is_none_or(|value| found.as_bytes() == value.as_bytes()));
        if !is_there {
            let header = value.as_ref().map_or_else(|| name.clone(), |value| format!("{name}: {value}"));
            return Ok(Err(CheckFailure::HeaderMissing { status, header }));
        }
    }
    let Some(text) = &expected.body else { return Ok(Ok(())) };
    let mut limited = Limited::new(response.into_body(), MAX_BODY);
    let (mut body, mut searched): (Vec<u8>, usize) = (Vec::new(), 0);
    while let Some(Ok(frame)) = limited.frame().await {
        let Ok(data) = frame.into_data() else { continue };
        body.extend_from_slice(&data);
        if body[searched..].windows(text.len()).any(|window| window == text.as_bytes()) {
            return Ok(Ok(()));
        }
        searched = body.len().saturating_sub(text.len().saturating_sub(1));
    }
    Ok(Err(CheckFailure::TextMissing { status, text: text.clone() }))
}

/// Connects to `address` and makes the request of a health check, within a time for all of it.
pub async fn check_http(trust: &Trust, address: SocketAddr, request: &HttpRequest, within: Duration) -> Measured {
    let mut attempt = Attempt::begin(address, within);
    let result = async {
        let stream = attempt.connect().await?;
        if !request.exchange.is_tls {
            return attempt.exchange(request, stream).await;
        }
        let stream = attempt.secure(trust, &request.name, stream).await?;
        attempt.exchange(request, stream).await
    };
    let result = result.await;
    attempt.ended(result)
}

/// Connects to `address`.
pub async fn check_tcp(address: SocketAddr, within: Duration) -> Measured {
    let mut attempt = Attempt::begin(address, within);
    let result = attempt.connect().await.map(drop);
    attempt.ended(result)
}

/// Connects to `address`, verifies its certificate as a client does, and says whether it is valid for long
/// enough. `days_left` returns for how many days a certificate in DER is still valid, if it can be read.
pub async fn check_tls(
    trust: &Trust,
    address: SocketAddr,
    listener: &TlsListener,
    within: Duration,
    days_left: impl Fn(&[u8]) -> Option<i64>,
) -> Measured {
    let mut attempt = Attempt::begin(address, within);
    let result = async {
        let stream = attempt.connect().await?;
        let stream = attempt.secure(trust, &listener.name, stream).await?;
        let days = leaf(&stream).and_then(|leaf| days_left(leaf));
        match days {
            Some(days) if days < i64::from(listener.days_left) => {
                Err(CheckResult::Failed(CheckFailure::CertificateEnds { days, least: listener.days_left }))
            }
            _ => Ok(()),
        }
    };
    let result = result.await;
    attempt.ended(result)
}
