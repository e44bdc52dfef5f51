//! Probes against a server that answers what the test says.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::SocketAddr;

use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::judging::facts::{Unreachable, Untrusted};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_probe::{Answered, ProbeError, Trust, request, served_certificate};
use pindrel_testkit::{ClosedPort, ScriptedServer, answer};
use tokio::net::TcpListener;

const NAME: &str = "api.larkfield.example";

async fn get(trust: &Trust, address: std::net::SocketAddr, name: &str, path: &str) -> Result<Answered, ProbeError> {
    request(trust, address, &hostname(name), &Expectation::at(path), None).await
}

fn hostname(text: &str) -> Hostname {
    text.parse().unwrap()
}

fn trust(server: &ScriptedServer) -> Trust {
    Trust::new(vec![webpki::anchor_from_trusted_cert(&server.root).unwrap().to_owned()]).unwrap()
}

#[tokio::test]
async fn an_answer_is_told_whole_and_a_long_body_is_cut() {
    let server = ScriptedServer::start(&[NAME], |_, request| match request.line.as_str() {
        "GET /health?deep=1" => answer(204, &[], ""),
        "GET /moved" => answer(302, &["Location: https://elsewhere.example/"], "gone"),
        "GET /long" => answer(200, &[], &"x".repeat(300 * 1024)),
        // A body that breaks off: what came of it counts.
        "GET /torn" => b"HTTP/1.1 200 OK\r\ncontent-length: 100\r\n\r\nhalf".to_vec(),
        _ => answer(404, &[], ""),
    })
    .await;
    let trust = trust(&server);
    for (path, status, location, body) in [
        ("/health?deep=1", 204, None, Some("")),
        ("/moved", 302, Some("https://elsewhere.example/"), Some("gone")),
        ("/long", 200, None, None),
        ("/torn", 200, None, Some("half")),
    ] {
        let answered = get(&trust, server.address, NAME, path).await.unwrap();
        assert_eq!(answered.sha256, Fingerprint::of(&server.leaf));
        assert_eq!((answered.status, answered.location.as_deref()), (status, location), "{path}");
        assert!(answered.body.len() <= 256 * 1024, "{path}");
        if let Some(body) = body {
            assert_eq!(answered.body, body.as_bytes(), "{path}");
        }
    }
    let host = format!("host: {NAME}:{}", server.address.port());
    assert!(server.received().iter().all(|request| request.headers.contains(&host)), "as a client asks");
}

#[tokio::test]
async fn each_failure_says_how_far_the_connection_got() {
    let silent = ScriptedServer::start(&[NAME], |_, _| Vec::new()).await;
    let babbling = ScriptedServer::start(&[NAME], |_, _| b"220 mail.larkfield.example\r\n".to_vec()).await;
    let sha256 = Fingerprint::of(&silent.leaf);

    // The right certificate, and no answer.
    let failed = get(&trust(&silent), silent.address, NAME, "/").await.unwrap_err();
    assert!(matches!(&failed, ProbeError::NoAnswer { sha256: seen, .. } if *seen == sha256), "{failed:?}");
    let failed = get(&trust(&babbling), babbling.address, NAME, "/").await.unwrap_err();
    assert!(matches!(failed, ProbeError::NoAnswer { .. }), "{failed:?}");

    // A certificate for another name, or of a root that is not trusted, is named all the same.
    for (trust, name, why) in [
        (trust(&silent), "shop.larkfield.example", Untrusted::OtherName),
        (trust(&babbling), NAME, Untrusted::UnknownIssuer),
    ] {
        let failed = get(&trust, silent.address, name, "/").await.unwrap_err();
        assert_eq!(failed, ProbeError::Unverified { sha256: Some(sha256), why }, "{name}");
        assert_eq!(
            served_certificate(silent.address, &hostname(name)).await.ok(),
            Fingerprint::of(&silent.leaf).into()
        );
    }

    // Nothing was asked of a server that did not verify.
    assert_eq!(silent.received().len(), 1);
    assert!(Trust::new(Vec::new()).is_err(), "no roots trust nobody");
}

/// A port on which every connection is closed at once, and one on which nobody listens.
async fn not_tls() -> ([(SocketAddr, Unreachable); 2], ClosedPort) {
    let closing = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = closing.local_addr().unwrap();
    tokio::spawn(async move { while closing.accept().await.is_ok() {} });
    let closed = ClosedPort::take().await;
    ([(address, Unreachable::Closed), (closed.address, Unreachable::Refused)], closed)
}

#[tokio::test]
async fn what_does_not_speak_tls_is_not_connected() {
    let server = ScriptedServer::start(&[NAME], |_, _| Vec::new()).await;
    let trust = trust(&server);
    let (places, _closed) = not_tls().await;
    for (address, expected) in places {
        let whole = get(&trust, address, NAME, "/").await.unwrap_err();
        let direct = served_certificate(address, &hostname(NAME)).await.unwrap_err();
        for failed in [whole, direct] {
            let ProbeError::NotConnected(why) = failed else { panic!("{failed:?}") };
            assert_eq!(why, expected);
        }
    }
}
