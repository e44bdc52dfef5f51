//! The client against a server that answers what the test says, and against none.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::time::{Duration, Instant};

use pindrel_http::{Client, HttpError, Method, Response};
use pindrel_testkit::{ClosedPort, ScriptedServer, answer};
use url::Url;

fn url(port: u16) -> Url {
    format!("https://localhost:{port}/x").parse().unwrap()
}

fn client(server: &ScriptedServer) -> Client {
    Client::new(url(server.address.port()), Some(server.root_pem.as_bytes()), |_| false).unwrap()
}

async fn send(client: &Client) -> Result<Response, HttpError> {
    client.send(Method::POST, client.base().clone(), |request| request.body("asked")).await
}

/// A peer that may have acted is not asked twice; one that cannot have is.
#[tokio::test]
async fn only_a_connection_that_did_not_come_about_is_tried_again() {
    let chunked = |chunks: usize| {
        let mut bytes = b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n".to_vec();
        let chunk = [b"10000\r\n", &[b'x'; 0x10000][..], b"\r\n"].concat();
        (0..chunks).for_each(|_| bytes.extend(&chunk));
        bytes.extend(b"0\r\n\r\n");
        bytes
    };
    for (bytes, expected) in [
        (Vec::new(), "returned no complete response"),
        (b"HTTP/1.1 200 OK\r\ncontent-length: 9\r\n\r\nhalf".to_vec(), "returned no complete response"),
        (b"SMTP ready\r\n\r\n".to_vec(), "returned no complete response"),
        (chunked(17), "sends more than 1048576 bytes"),
        (chunked(16), "1048576 bytes came"),
        (answer(500, &[], "no"), "2 bytes came"),
        (answer(301, &["location: /elsewhere"], ""), "0 bytes came"),
    ] {
        let server = ScriptedServer::start(&["localhost"], move |_, _| bytes.clone()).await;
        let client = client(&server);
        let said = match send(&client).await {
            Ok(response) => format!("{} bytes came", response.body.len()),
            Err(error) => error.to_string(),
        };
        assert!(said.contains(expected), "{expected}: {said}");
        let [asked] = server.received().try_into().unwrap();
        assert_eq!((asked.line.as_str(), &asked.body[..], client.sent()), ("POST /x", &b"asked"[..], 1), "{expected}");
    }

    // Nobody listens: tried for some seconds, and no longer.
    let server = ScriptedServer::start(&["localhost"], |_, _| Vec::new()).await;
    let closed = ClosedPort::take().await;
    let nobody = Client::new(url(closed.address.port()), Some(server.root_pem.as_bytes()), |_| false).unwrap();
    let begun = Instant::now();
    let error = send(&nobody).await.unwrap_err();
    assert!(matches!(&error, HttpError::NotConnected { why, .. } if why.contains("refused")), "{error:?}");
    assert_eq!(nobody.sent(), 4);
    assert!((Duration::from_secs(3)..Duration::from_secs(40)).contains(&begun.elapsed()), "{:?}", begun.elapsed());
}

#[tokio::test]
async fn a_server_without_the_right_root_name_or_scheme_hears_nothing() {
    let server = ScriptedServer::start(&["other.example"], |_, _| answer(200, &[], "")).await;
    let stranger = ScriptedServer::start(&["localhost"], |_, _| answer(200, &[], "")).await;
    let wrong_root = Client::new(url(stranger.address.port()), Some(server.root_pem.as_bytes()), |_| false).unwrap();
    let plain: Url = format!("http://localhost:{}/x", stranger.address.port()).parse().unwrap();
    let no_tls = Client::new(plain, Some(stranger.root_pem.as_bytes()), |_| false).unwrap();
    for (client, says) in
        [(client(&server), "it does not cover the name"), (wrong_root, "its issuer is not trusted"), (no_tls, "")]
    {
        let error = send(&client).await.unwrap_err();
        assert!(!error.to_string().is_empty() && error.to_string().contains(says), "{says}: {error}");
    }
    assert_eq!((server.received().len(), stranger.received().len()), (0, 0));

    let error = Client::new(url(1), Some(b"-----BEGIN CERTIFICATE-----\nno\n-----END CERTIFICATE-----\n"), |_| false)
        .unwrap_err();
    assert!(matches!(error, HttpError::Roots { .. }), "{error:?}");
}

#[tokio::test]
async fn a_name_leads_to_no_address_that_is_refused() {
    let url: Url = "https://localhost:9/".parse().unwrap();
    let client = Client::new(url.clone(), None, |address| address.is_loopback()).unwrap();
    let error = client.send(Method::GET, url, |request| request).await.unwrap_err().to_string();
    assert!(error.contains("only the manifest may name"), "{error}");
}
