//! Health checks of servers that answer what the test says: each way to fail is its own.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use pindrel_core::health::{CheckMethod, CheckResult, CheckTrust, HttpExchange, HttpRequest, Measured, TlsListener};
use pindrel_probe::{Trust, check_http, check_tcp, check_tls};
use pindrel_testkit::{ClosedPort, ScriptedServer, answer};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

const NAME: &str = "queue.larkfield.example";
const WITHIN: Duration = Duration::from_millis(600);

fn request(path: &str) -> HttpRequest {
    HttpRequest {
        name: NAME.parse().unwrap(),
        exchange: HttpExchange { path: path.into(), body: Some("all is well".into()), ..HttpExchange::default() },
        trust: CheckTrust::Roots(None),
    }
}

/// The request for `/well` with other terms.
fn with(change: impl FnOnce(&mut HttpExchange)) -> HttpRequest {
    let mut request = request("/well");
    change(&mut request.exchange);
    request
}

fn code(measured: &Measured) -> &'static str {
    match &measured.result {
        CheckResult::Passed => "passed",
        CheckResult::Failed(why) => why.code(),
        CheckResult::Impossible(_) => "impossible",
    }
}

fn trust(server: &ScriptedServer) -> Trust {
    Trust::new(vec![webpki::anchor_from_trusted_cert(&server.root).unwrap().to_owned()]).unwrap()
}

/// A port where each connection is answered with some bytes, after some time; without any it stays open.
async fn raw(bytes: &'static [u8]) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            tokio::spawn(async move {
                let mut hello = [0; 512];
                let _ = stream.read(&mut hello).await;
                let _ = stream.write_all(bytes).await;
                if bytes.is_empty() {
                    std::future::pending::<()>().await;
                }
            });
        }
    });
    address
}

#[tokio::test]
async fn each_way_to_fail_is_told_apart_within_the_time() {
    let server = ScriptedServer::start(&[NAME], |_, request| match request.line.as_str() {
        "GET /well" => answer(200, &["X-Ready: yes"], "today all is well, as ever"),
        // The text stands where two reads meet.
        "GET /long" => answer(200, &[], &format!("{}all is well", "x".repeat(200 * 1024))),
        "GET /beyond" => answer(200, &[], &format!("{}all is well", "x".repeat(400 * 1024))),
        "GET /text" => answer(200, &[], "the database is away"),
        "GET /status" => answer(503, &[], "all is well"),
        "GET /closed" => Vec::new(),
        "GET /babble" => b"220 mail.larkfield.example\r\n".to_vec(),
        "POST /post" if request.body == b"ping" && request.headers.iter().any(|own| own == "x-probe: pindrel") => {
            answer(200, &[], "all is well")
        }
        _ => answer(404, &[], ""),
    })
    .await;
    let trusted = trust(&server);
    for (path, expected) in [
        ("/well", "passed"),
        ("/long", "passed"),
        ("/beyond", "text-missing"),
        ("/text", "text-missing"),
        ("/status", "status-differs"),
        ("/closed", "no-response"),
        ("/babble", "no-response"),
        ("/elsewhere", "status-differs"),
    ] {
        let measured = check_http(&trusted, server.address, &request(path), WITHIN * 4).await;
        assert_eq!(code(&measured), expected, "{path}: {measured:?}");
        let phases = measured.phases;
        assert!(phases.connect.is_some() && phases.tls.is_some(), "{path}: {phases:?}");
        assert_eq!(phases.first_byte.is_some(), expected != "no-response", "{path}: {phases:?}");
    }
    let header = |value: &str| with(|exchange| exchange.header = Some(("x-ready".into(), Some(value.into()))));
    assert_eq!(code(&check_http(&trusted, server.address, &header("yes"), WITHIN).await), "passed");
    assert_eq!(code(&check_http(&trusted, server.address, &header("no"), WITHIN).await), "header-missing");
    let post = with(|exchange| {
        exchange.path = "/post".into();
        exchange.method = CheckMethod::Post;
        exchange.send = Some("ping".into());
        exchange.headers = vec![("x-probe".into(), "pindrel".into())];
    });
    assert_eq!(code(&check_http(&trusted, server.address, &post, WITHIN).await), "passed");

    let other = ScriptedServer::start(&["other.larkfield.example"], |_, _| answer(200, &[], "all is well")).await;
    let closed = ClosedPort::take().await;
    // An alert that the protocol version is refused (RFC 8446 §6.2), and words of another protocol.
    let (old, mail) = (raw(b"\x15\x03\x01\x00\x02\x02\x46").await, raw(b"220 mail.larkfield.example\r\n").await);
    for (what, trusted, address, expected) in [
        ("another root", &trusted, other.address, "certificate-refused"),
        ("another name", &trust(&other), other.address, "certificate-refused"),
        ("nobody", &trusted, closed.address, "connection-refused"),
        ("silence", &trusted, raw(b"").await, "tls-failed"),
        ("another version", &trusted, old, "tls-failed"),
        ("no TLS", &trusted, mail, "tls-failed"),
    ] {
        let begun = Instant::now();
        let measured = check_http(trusted, address, &request("/well"), WITHIN).await;
        assert_eq!(code(&measured), expected, "{what}: {measured:?}");
        assert!(begun.elapsed() < WITHIN * 2, "{what}: {:?}", begun.elapsed());
    }
    // Without TLS a server that accepts and never answers is told apart from one that refuses.
    let plain = with(|exchange| exchange.is_tls = false);
    assert_eq!(code(&check_http(&trusted, raw(b"").await, &plain, WITHIN).await), "response-timeout");
    let body: &[u8] = b"HTTP/1.1 200 OK\r\ncontent-length: 11\r\n\r\nall is well";
    assert_eq!(code(&check_http(&trusted, raw(body).await, &plain, WITHIN).await), "passed");
    assert_eq!(
        (code(&check_tcp(closed.address, WITHIN).await), code(&check_tcp(old, WITHIN).await)),
        ("connection-refused", "passed")
    );
    // No route of this machine's own says nothing of the peer.
    let nowhere: SocketAddr = "[2001:db8::1]:443".parse().unwrap();
    let measured = check_tcp(nowhere, WITHIN).await;
    assert!(matches!(code(&measured), "impossible" | "connect-timeout" | "not-connected"), "{measured:?}");
}

#[tokio::test]
async fn a_certificate_that_ends_soon_is_no_other_failure() {
    let server = ScriptedServer::start(&[NAME], |_, _| Vec::new()).await;
    let place = server.address.to_string().parse().unwrap();
    let listener = TlsListener { place, name: NAME.parse().unwrap(), days_left: 10, trust: CheckTrust::Roots(None) };
    for (days, expected) in [(Some(10), "passed"), (Some(9), "certificate-ends"), (None, "passed")] {
        let measured = check_tls(&trust(&server), server.address, &listener, WITHIN, |_| days).await;
        assert_eq!(code(&measured), expected, "{days:?}");
    }
}
