//! The endpoint protocol against a platform that answers what the test says. Every request
//! carries the token, so where it goes matters most.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use pindrel_edge::{EdgeError, Platform as _, ProtocolPlatform};
use pindrel_testkit::{Received, ScriptedServer, answer};
use secrecy::SecretString;

const TOKEN: &str = "a token of the tests";

fn driver(server: &ScriptedServer) -> ProtocolPlatform {
    let url = format!("https://localhost:{}/base", server.address.port());
    let token = SecretString::from(TOKEN.to_owned());
    ProtocolPlatform::over_https(url.parse().unwrap(), token, Some(server.root_pem.as_bytes()), None).unwrap()
}

async fn platform(script: impl Fn(usize, &Received) -> Vec<u8> + Send + Sync + 'static) -> ScriptedServer {
    ScriptedServer::start(&["localhost"], script).await
}

const NO_MORE: &str = "{\"endpoints\":[]}";

#[tokio::test]
async fn the_token_goes_to_the_platform_and_nowhere_else() {
    let stranger = platform(|_, _| answer(200, &[], NO_MORE)).await;
    let elsewhere = format!("https://localhost:{}/v1/endpoints", stranger.address.port());
    for (status, header) in
        [(200, format!("link: <{elsewhere}>; rel=\"next\"")), (307, format!("location: {elsewhere}"))]
    {
        let server = platform(move |_, _| answer(status, &[&header], NO_MORE)).await;
        let error = driver(&server).endpoints().await.unwrap_err();
        assert!(!error.to_string().contains(TOKEN) && !format!("{error:?}").contains(TOKEN), "{error}");
        assert!(matches!(error, EdgeError::Unreachable { .. } | EdgeError::Refused { status: 307, .. }), "{error}");
        let [asked] = server.received().try_into().unwrap();
        assert_eq!(asked.line, "GET /base/v1/endpoints");
        assert!(asked.headers.contains(&format!("authorization: Bearer {TOKEN}")));
    }
    assert!(stranger.received().is_empty());
}

/// A part of a list must not be taken for all of it.
#[tokio::test]
async fn a_list_without_an_end_is_left() {
    let page = |number: usize| format!("link: </base/v1/endpoints?page={number}>; rel=\"next\"");
    let large = format!("{{\"endpoints\": [], \"more\": \"{}\"}}", "x".repeat(1_000_000));
    let table = [
        (NO_MORE.to_owned(), true, "has more than 200 pages", 200),
        (NO_MORE.to_owned(), false, "names the page \"/base/v1/endpoints?page=2\" twice", 2),
        (large, true, "is longer than 32 MiB", 34),
    ];
    for (body, goes_on, says, asked) in table {
        let server = platform(move |n, _| answer(200, &[&page(if goes_on { n } else { 2 })], &body)).await;
        let error = driver(&server).endpoints().await.unwrap_err().to_string();
        assert!(error.contains(says), "{says}: {error}");
        assert_eq!(server.received().len(), asked, "{says}");
    }
}

/// A short wish to wait is granted a few times, a long one not at all; what cannot be read
/// is told with its place.
#[tokio::test]
async fn each_answer_that_is_none_is_told_in_bounded_time() {
    let long = "x".repeat(2000);
    let detail = format!("{{\"detail\":\"{long}\"}}");
    for (bytes, requests, says) in [
        (answer(503, &["retry-after: 0"], ""), 4, "no reason given"),
        (answer(429, &["retry-after: 3600"], "{\"title\":\"too many\"}"), 1, "too many"),
        (answer(200, &[], "<html>"), 1, "/base/v1/endpoints"),
        (answer(200, &[], "{\"endpoints\":[{\"id\":7}]}"), 1, "integer `7`"),
        (answer(500, &[], &detail), 1, &long[..300]),
        (answer(403, &[], "{\"detail\":\"not yours\"}"), 1, "not yours"),
        (answer(200, &[], &"[".repeat((1 << 20) + 1)), 1, "more than 1048576 bytes"),
        (answer(200, &[], &"[".repeat(100_000)), 1, "recursion limit"),
    ] {
        let server = platform(move |_, _| bytes.clone()).await;
        let error = driver(&server).endpoints().await.unwrap_err();
        assert!(error.to_string().contains(says), "{says}: {error}");
        assert!(!error.to_string().contains(&long) && !error.remedy().is_empty());
        assert_eq!(server.received().len(), requests, "{says}");
    }
}

/// A platform that repeats what it was sent, in whatever field: neither the token nor the key comes back, nothing that a
/// terminal would obey, and no more than a line.
#[tokio::test]
async fn what_was_sent_as_a_secret_never_comes_back() {
    let key = rcgen::KeyPair::generate().unwrap().serialize_pem();
    let chain = "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n";
    type Repeat = fn(&Received) -> Vec<u8>;
    let whole = |request: &Received| format!("{}\n{:?}", String::from_utf8_lossy(&request.body), request.headers);
    fn detail(status: u16, text: &str) -> Vec<u8> {
        answer(status, &[], &serde_json::json!({ "detail": text, "title": text }).to_string())
    }
    let repeats: [Repeat; 5] = [
        |request| detail(400, &String::from_utf8_lossy(&request.body)),
        |request| detail(500, &format!("{:?}", request.headers)),
        |request| detail(401, &format!("\u{1b}[2J{}{:?}", String::from_utf8_lossy(&request.body), request.headers)),
        |request| {
            let body: serde_json::Value = serde_json::from_slice(&request.body).unwrap_or_default();
            let key = body["key"].as_str().unwrap_or_default();
            // Its lines backwards in order, and in one piece.
            detail(422, &key.lines().rev().chain([&*key.replace('\n', "")]).collect::<Vec<_>>().join(" | "))
        },
        |request| answer(500, &[], &String::from_utf8_lossy(&request.body)),
    ];
    for (number, repeat) in repeats.into_iter().enumerate() {
        let server = platform(move |_, request| repeat(request)).await;
        let sha256 = pindrel_core::values::Fingerprint::of(b"leaf");
        let error = driver(&server).put_certificate("north", sha256, chain, key.clone().into()).await.unwrap_err();
        let sent = whole(&server.received()[0]);
        assert!(sent.contains(TOKEN) && sent.contains("PRIVATE KEY"), "{sent}");
        let told = format!("{error} {error:?} {:?}", error.finding());
        for part in key.lines().skip(1).take_while(|line| !line.starts_with('-')).map(|line| &line[..16]).chain([TOKEN])
        {
            assert!(!told.contains(part), "{number}: {told}");
        }
        assert!(!told.contains(['\u{1b}', '\n']) && !told.contains("u{1b}"), "{number}: {told}");
    }
}

/// An id of the manifest is one segment of the path, whatever it holds.
#[tokio::test]
async fn an_id_never_leaves_its_place_in_the_path() {
    let server = platform(|_, _| answer(404, &[], "")).await;
    let hostname = "*.larkfield.example".parse().unwrap();
    assert_eq!(driver(&server).binding("a/../b?c#d", &hostname).await.unwrap(), None);
    let [asked] = server.received().try_into().unwrap();
    assert_eq!(asked.line, "GET /base/v1/endpoints/a%2F..%2Fb%3Fc%23d/bindings/*.larkfield.example");
}
