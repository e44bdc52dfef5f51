//! The transport against an authority that answers what the test says.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use pindrel_acme::{HttpAuthority, RequestSigner, TransportError};
use pindrel_core::certificates::acme::jws::{Jwk, Payload};
use pindrel_core::values::KeyKind;
use pindrel_http::HttpError;
use pindrel_keys::AccountKey;
use pindrel_testkit::{Received, ScriptedServer, answer};
use serde_json::{Value, json};

const NAME: &str = "localhost";
const ACCOUNT: &str = "/account/1";

struct Key(AccountKey);

impl Key {
    fn new() -> Key {
        Key(AccountKey::generate(KeyKind::EcdsaP256).unwrap())
    }
}

impl RequestSigner for Key {
    fn jwk(&self) -> &Jwk {
        self.0.jwk()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, String> {
        self.0.sign(message).map_err(|error| error.to_string())
    }
}

/// An authority with a directory and fresh nonces; the rest is up to `script`, which gets
/// how many requests came before that were neither.
async fn authority(script: impl Fn(usize, &Received) -> Vec<u8> + Send + Sync + 'static) -> ScriptedServer {
    let asked = AtomicUsize::new(0);
    ScriptedServer::start(&[NAME], move |count, request| match request.line.as_str() {
        "GET /directory" => {
            let host = request.headers.iter().find_map(|header| header.strip_prefix("host: ")).unwrap_or_default();
            answer(200, &[], &directory(host).to_string())
        }
        "HEAD /nonce" => {
            let nonce = format!("replay-nonce: fresh{count}");
            format!("HTTP/1.1 200 OK\r\n{nonce}\r\nconnection: close\r\n\r\n").into_bytes()
        }
        _ => script(asked.fetch_add(1, Ordering::Relaxed), request),
    })
    .await
}

fn directory(host: &str) -> Value {
    let url = |path: &str| format!("https://{host}{path}");
    json!({ "newNonce": url("/nonce"), "newAccount": url("/account"), "newOrder": url("/order") })
}

async fn connect(server: &ScriptedServer) -> Result<HttpAuthority, TransportError> {
    let url = format!("https://{NAME}:{}/directory", server.address.port());
    HttpAuthority::connect(url.parse().unwrap(), Some(server.root_pem.as_bytes()), 8).await
}

fn problem(status: u16, kind: &str, headers: &[&str]) -> Vec<u8> {
    let body = json!({ "type": format!("urn:ietf:params:acme:error:{kind}"), "detail": "told by the test" });
    answer(status, headers, &body.to_string())
}

fn protected(request: &Received) -> Value {
    let body: Value = serde_json::from_slice(&request.body).unwrap();
    let header = URL_SAFE_NO_PAD.decode(body["protected"].as_str().unwrap()).unwrap();
    serde_json::from_slice(&header).unwrap()
}

#[tokio::test]
async fn a_directory_that_is_none_is_told_by_what_is_wrong_with_it() {
    let other = json!({ "newNonce": "http://localhost/nonce", "newAccount": "https://localhost/", "newOrder": "https://localhost/" });
    type Expected = fn(&TransportError) -> bool;
    let table: [(Vec<u8>, Expected, &str); 6] = [
        (answer(200, &[], "<html>Welcome</html>"), |e| matches!(e, TransportError::Malformed { .. }), "line 1"),
        (answer(200, &[], "{}"), |e| matches!(e, TransportError::Malformed { .. }), "newNonce"),
        (answer(200, &[], &other.to_string()), |e| matches!(e, TransportError::Malformed { .. }), "not https"),
        (answer(403, &[], "no entry"), |e| matches!(e, TransportError::Refused { .. }), "no entry"),
        (
            answer(200, &[], &"x".repeat((1 << 20) + 1)),
            |e| matches!(e, TransportError::Http(HttpError::TooLong { .. })),
            "more than 1048576 bytes",
        ),
        (
            b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\n{\"new".to_vec(),
            |e| matches!(e, TransportError::Http(HttpError::Interrupted { .. })),
            "no complete response",
        ),
    ];
    for (bytes, expected, says) in table {
        let server = ScriptedServer::start(&[NAME], move |_, _| bytes.clone()).await;
        let error = connect(&server).await.unwrap_err();
        assert!(expected(&error) && error.to_string().contains(says), "{says}: {error:?}");
        assert!(!error.remedy().is_empty());
    }
    let server = ScriptedServer::start(&["other.example"], |_, _| Vec::new()).await;
    let error = connect(&server).await.unwrap_err();
    assert!(matches!(error, TransportError::Http(HttpError::NotConnected { .. })), "{error:?}");
    assert!(!error.may_have_acted() && server.received().is_empty(), "nothing is said to a stranger");
}

/// A refused nonce costs one more request, with the nonce that came with the refusal; an
/// authority that refuses them all is not asked for ever.
#[tokio::test]
async fn a_refused_nonce_is_replaced_by_the_one_that_came_with_it() {
    let key = Key::new();
    let server = authority(|count, _| match count {
        0..=2 => problem(400, "badNonce", &[&format!("replay-nonce: given{count}")]),
        _ => answer(200, &["replay-nonce: last"], "{\"status\":\"ready\"}"),
    })
    .await;
    let connected = connect(&server).await.unwrap();
    connected.send(&key, ACCOUNT, None, &Payload::Json(json!({}))).await.unwrap().unwrap();
    assert_eq!((connected.nonces_refused(), connected.signed()), (3, 1));
    connected.send(&key, ACCOUNT, None, &Payload::PostAsGet).await.unwrap().unwrap();
    let posts: Vec<Value> = server.received().iter().filter(|r| r.line == "POST /order").map(protected).collect();
    let nonces: Vec<&str> = posts.iter().filter_map(|header| header["nonce"].as_str()).collect();
    assert_eq!(nonces[1..], ["given0", "given1", "given2", "last"]);
    for header in &posts {
        assert_eq!((&header["alg"], &header["kid"]), (&json!("ES256"), &json!(ACCOUNT)));
        assert!(header["jwk"].is_null(), "RFC 8555 §6.2: one of both");
        assert!(header["url"].as_str().unwrap().ends_with("/order"));
    }

    let stubborn = authority(|count, _| problem(400, "badNonce", &[&format!("replay-nonce: given{count}")])).await;
    let connected = connect(&stubborn).await.unwrap();
    let refused = connected.send(&key, ACCOUNT, None, &Payload::PostAsGet).await.unwrap().unwrap_err();
    assert_eq!(refused.error(), "badNonce");
    assert_eq!(stubborn.received().iter().filter(|r| r.line.starts_with("POST")).count(), 21);
}

/// A short wish to wait is granted within the run, a few times; a long one is handed on.
#[tokio::test]
async fn a_busy_authority_is_waited_for_within_bounds() {
    let key = Key::new();
    let asked = Arc::new(AtomicUsize::new(0));
    for (wish, statuses, posts) in [
        ("retry-after: 0", [503, 429, 200], 3),
        ("retry-after: 0", [503, 503, 503], 4),
        ("retry-after: 3600", [429, 200, 200], 1),
    ] {
        asked.store(0, Ordering::Relaxed);
        let server = authority(move |count, _| match statuses.get(count).copied().unwrap_or(503) {
            200 => answer(200, &["replay-nonce: n"], "{}"),
            status => problem(status, "rateLimited", &["replay-nonce: n", wish]),
        })
        .await;
        let reply = connect(&server).await.unwrap().send(&key, ACCOUNT, None, &Payload::PostAsGet).await.unwrap();
        assert_eq!(server.received().iter().filter(|r| r.line.starts_with("POST")).count(), posts, "{statuses:?}");
        if let Err(problem) = reply {
            assert!(problem.retry_at.is_some(), "{wish}: the wish is handed on");
        }
    }
}

/// Whatever URL it hands out, nothing that is signed goes to another origin.
#[tokio::test]
async fn no_signed_request_leaves_for_another_origin() {
    let key = Key::new();
    let stranger = ScriptedServer::start(&[NAME], |_, _| answer(200, &[], "{}")).await;
    let elsewhere = format!("https://{NAME}:{}/orders?page=2", stranger.address.port());
    let next = format!("link: <{elsewhere}>; rel=\"next\"");
    let location = format!("location: {elsewhere}");
    let server = authority(move |_, request| match request.line.as_str() {
        "POST /account" => answer(201, &["replay-nonce: n", &location], "{\"status\":\"valid\"}"),
        "POST /orders" => answer(200, &["replay-nonce: n", &next], "{\"orders\":[\"/order/1\"]}"),
        "POST /moved" => answer(307, &["replay-nonce: n", &location], ""),
        _ => answer(404, &[], ""),
    })
    .await;
    let authority = connect(&server).await.unwrap();
    let other = |error: TransportError| {
        assert!(matches!(error, TransportError::Http(HttpError::OtherOrigin { .. })), "{error:?}")
    };
    other(authority.register(&key, &[], None).await.unwrap_err());
    other(authority.order_urls(&key, ACCOUNT, "/orders").await.unwrap_err());
    other(authority.send(&key, ACCOUNT, Some(&elsewhere), &Payload::PostAsGet).await.unwrap_err());
    let moved = authority.send(&key, ACCOUNT, Some("/moved"), &Payload::PostAsGet).await.unwrap();
    assert_eq!(moved.unwrap_err().status, Some(307), "a redirect is not followed");
    assert!(stranger.received().is_empty());
}

/// The answer to a key that has an account need hold its Location alone (RFC 8555 §7.3): the account is read there.
#[tokio::test]
async fn an_account_is_found_by_its_location_alone() {
    let key = Key::new();
    for (body, reads) in [("{\"status\":\"valid\"}", 0), ("{}", 1), ("", 1), ("{\"contact\":[]}", 1)] {
        let server = authority(move |_, request| match request.line.as_str() {
            "POST /account" => answer(200, &["replay-nonce: n", "location: /account/1"], body),
            "POST /account/1" => answer(200, &["replay-nonce: n"], "{\"status\":\"valid\"}"),
            _ => answer(404, &[], ""),
        })
        .await;
        let authority = connect(&server).await.unwrap();
        let found = authority.register(&key, &[], None).await.unwrap();
        assert!(found.url.ends_with(ACCOUNT), "{found:?}");
        let read = server.received().iter().filter(|request| request.line == "POST /account/1").count();
        assert_eq!(read, reads, "{body}");
    }
}

#[tokio::test]
async fn a_list_of_orders_without_an_end_is_left() {
    let key = Key::new();
    let server = authority(|count, _| {
        answer(
            200,
            &["replay-nonce: n", "link: </orders>; rel=\"next\""],
            &json!({ "orders": [format!("/order/{count}")] }).to_string(),
        )
    })
    .await;
    let authority = connect(&server).await.unwrap();
    let urls = authority.order_urls(&key, ACCOUNT, "/orders").await.unwrap();
    assert_eq!((urls.len(), urls[49].as_str()), (50, "/order/49"));
}

/// An authority that takes requests and never answers is given up, for this run.
#[tokio::test]
async fn an_authority_that_does_not_answer_is_given_up() {
    let key = Key::new();
    let server = authority(|_, _| Vec::new()).await;
    let authority = connect(&server).await.unwrap();
    let mut failed = Vec::new();
    for _ in 0..26 {
        failed.push(authority.send(&key, ACCOUNT, None, &Payload::Json(json!({}))).await.unwrap_err());
    }
    assert!(failed[..24].iter().all(TransportError::may_have_acted), "{:?}", failed[0]);
    let given_up = |error: &TransportError| matches!(error, TransportError::GivenUp { .. });
    assert!(failed[24..].iter().all(given_up), "{:?}", failed[24]);
    let posts = server.received().iter().filter(|request| request.line.starts_with("POST")).count();
    assert_eq!(posts, 24, "a request that may have been acted upon is not sent twice");
}

/// What only reads is sent again after a torn answer, with another nonce; what changes something is not.
#[tokio::test]
async fn only_what_reads_is_sent_again_after_a_torn_answer() {
    let key = Key::new();
    let torn = b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\n{".to_vec();
    let server = authority(move |count, _| match count {
        0 | 2 => torn.clone(),
        _ => answer(200, &["replay-nonce: not a nonce"], "{\"status\":\"ready\"}"),
    })
    .await;
    let connected = connect(&server).await.unwrap();
    connected.send(&key, ACCOUNT, None, &Payload::PostAsGet).await.unwrap().unwrap();
    let error = connected.send(&key, ACCOUNT, None, &Payload::Json(json!({}))).await.unwrap_err();
    assert!(error.may_have_acted(), "{error:?}");
    let posts: Vec<Value> = server.received().iter().filter(|r| r.line == "POST /order").map(protected).collect();
    let nonces: std::collections::BTreeSet<&str> = posts.iter().filter_map(|header| header["nonce"].as_str()).collect();
    assert_eq!((posts.len(), nonces.len()), (3, 3), "each with a nonce of its own");
    assert!(!nonces.contains("not a nonce"), "RFC 8555 §6.5.1");
}
