//! The HTTP server: read-only, bounded in connections, headers and time.

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt as _, Full};
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    ALLOW, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HOST, HeaderValue, X_CONTENT_TYPE_OPTIONS,
};
use hyper::http::uri::Authority;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use pindrel_core::text::display_text::io_reason;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

use super::Watching;

/// The most connections at once; of those, the most that read events.
const MOST_CONNECTIONS: usize = 256;
const MOST_STREAMS: usize = 128;
/// How long a request's headers may take, and how large they may be.
const HEADERS_WITHIN: Duration = Duration::from_secs(10);
const LARGEST_HEADERS: usize = 16 << 10;
/// How long a connection may last that reads no events.
const WHOLE: Duration = Duration::from_secs(60);
/// The pause before an address is tried again that cannot be listened at.
const TRY_AGAIN: Duration = Duration::from_secs(10);

type Answer = Response<BoxBody<Bytes, Infallible>>;

/// Serves at an address. Where it cannot listen there, that is reported once, and tried again and again.
pub(super) async fn run(watching: &Arc<Watching>, address: SocketAddr, note: &impl Fn(&str)) -> Infallible {
    let mut is_reported = false;
    let listener = loop {
        match TcpListener::bind(address).await {
            Ok(listener) => break listener,
            Err(error) if !is_reported => {
                note(&format!("cannot listen at {address}: {}", io_reason(&error)));
                is_reported = true;
            }
            Err(_) => tokio::time::sleep(TRY_AGAIN).await,
        }
    };
    let at = listener.local_addr().unwrap_or(address);
    note(&format!("listening at http://{at}: /live, /ready, /status.json, /events and /metrics"));
    let streams = Arc::new(Semaphore::new(MOST_STREAMS));
    let mut connections = JoinSet::new();
    loop {
        tokio::select! {
            accepted = listener.accept() => match accepted {
                // Those that are too many are closed at once: the work goes on before the telling.
                Ok((stream, _)) if connections.len() < MOST_CONNECTIONS => {
                    connections.spawn(connection(stream, watching.clone(), streams.clone()));
                }
                Ok(_) => {}
                // Without descriptors nothing can be accepted for a while.
                Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            },
            Some(_) = connections.join_next() => {}
        }
    }
}

async fn connection(stream: TcpStream, watching: Arc<Watching>, streams: Arc<Semaphore>) {
    let is_stream = Arc::new(tokio::sync::Notify::new());
    let service = service_fn(|request: Request<Incoming>| {
        let (watching, streams, is_stream) = (watching.clone(), streams.clone(), is_stream.clone());
        async move { Ok::<_, Infallible>(answer(&request, &watching, &streams, &is_stream).await) }
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEADERS_WITHIN).max_buf_size(LARGEST_HEADERS);
    let served = builder.serve_connection(TokioIo::new(stream), service);
    tokio::pin!(served);
    tokio::select! {
        _ = &mut served => return,
        () = is_stream.notified() => {}
        () = tokio::time::sleep(WHOLE) => return,
    }
    // A reader stays as long as it reads: its events end where it does not.
    let _ = served.await;
}

async fn answer(
    request: &Request<Incoming>,
    watching: &Arc<Watching>,
    streams: &Arc<Semaphore>,
    is_stream: &tokio::sync::Notify,
) -> Answer {
    if !is_for_this_machine(request) {
        return text(StatusCode::MISDIRECTED_REQUEST, "this server answers requests to localhost only");
    }
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        let mut refused = text(StatusCode::METHOD_NOT_ALLOWED, "this server is read-only");
        refused.headers_mut().insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
        return refused;
    }
    match request.uri().path() {
        "/live" => probe(watching.stuck()),
        "/ready" => probe(watching.unready().await),
        "/status.json" => match watching.status().await {
            Ok(document) => plain(StatusCode::OK, "application/json", document.into()),
            Err(why) => text(StatusCode::SERVICE_UNAVAILABLE, &why),
        },
        "/metrics" => match watching.metrics().await {
            Ok(figures) => plain(StatusCode::OK, super::metrics::CONTENT_TYPE, figures.into()),
            Err(why) => text(StatusCode::INTERNAL_SERVER_ERROR, &why),
        },
        "/events" => {
            let Ok(permit) = streams.clone().try_acquire_owned() else {
                return text(StatusCode::SERVICE_UNAVAILABLE, "too many event streams are open");
            };
            is_stream.notify_one();
            let stream = watching.events.read().map_frame(move |frame| {
                let _held = &permit;
                frame
            });
            answered(StatusCode::OK, "text/event-stream", stream.boxed())
        }
        _ => text(StatusCode::NOT_FOUND, "not found; the paths are /live, /ready, /status.json, /events and /metrics"),
    }
}

/// Says whether a request names this machine: a name that a stranger leads here is asked for by a browser that they have led
/// astray.
fn is_for_this_machine<B>(request: &Request<B>) -> bool {
    let named = request.headers().get(HOST).and_then(|host| host.to_str().ok()?.parse::<Authority>().ok());
    // What stands in the target itself counts before the header (RFC 9112 §3.2.2).
    let Some(authority) = request.uri().authority().cloned().or(named) else { return false };
    let name = authority.host().trim_start_matches('[').trim_end_matches(']');
    name.eq_ignore_ascii_case("localhost") || name.parse::<IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn probe(wrong: Option<String>) -> Answer {
    match wrong {
        None => text(StatusCode::OK, "ok"),
        Some(why) => text(StatusCode::SERVICE_UNAVAILABLE, &why),
    }
}

fn text(status: StatusCode, says: &str) -> Answer {
    plain(status, "text/plain; charset=utf-8", format!("{says}\n").into())
}

fn plain(status: StatusCode, content_type: &'static str, body: Bytes) -> Answer {
    answered(status, content_type, Full::new(body).boxed())
}

fn answered(status: StatusCode, content_type: &'static str, body: BoxBody<Bytes, Infallible>) -> Answer {
    let mut response = Response::new(body);
    *response.status_mut() = status;
    let headers = [
        (CONTENT_TYPE, content_type),
        (CACHE_CONTROL, "no-store"),
        (X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (CONTENT_SECURITY_POLICY, "default-src 'none'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"),
    ];
    for (name, value) in headers {
        response.headers_mut().insert(name, HeaderValue::from_static(value));
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_who_names_this_machine_is_answered() {
        let request = |target: &str, host: Option<&str>| {
            let request = Request::builder().uri(target);
            let request = host.into_iter().fold(request, |request, host| request.header(HOST, host));
            request.body(()).unwrap()
        };
        for (target, host, is) in [
            ("/live", Some("127.0.0.1:7353"), true),
            ("/live", Some("127.8.8.8"), true),
            ("/live", Some("LocalHost:7353"), true),
            ("/live", Some("[::1]:7353"), true),
            ("/live", Some("[::1]"), true),
            ("/live", Some("192.0.2.1:7353"), false),
            ("/live", Some("localhost.evil.example"), false),
            ("/live", Some("127.0.0.1.evil.example:7353"), false),
            ("/live", Some("localhost@evil.example"), false),
            ("/live", Some(""), false),
            ("/live", None, false),
            ("http://evil.example/live", Some("localhost"), false),
            ("http://localhost/live", Some("evil.example"), true),
        ] {
            assert_eq!(is_for_this_machine(&request(target, host)), is, "{target} {host:?}");
        }
    }
}
