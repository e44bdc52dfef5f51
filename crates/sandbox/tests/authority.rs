//! The stand-in authority, spoken to by hand-made requests: a stand-in that is less strict
//! than a real authority would prove nothing.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair as _};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use pindrel_sandbox::authority::Fault;
use pindrel_sandbox::{Options, Sandbox};
use serde_json::{Value, json};
use tempfile::TempDir;

fn encode(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// A client that says exactly what it is told to say.
struct Client {
    http: reqwest::Client,
    base: String,
    key: EcdsaKeyPair,
    account: Option<String>,
    _sandbox: Sandbox,
    _folder: TempDir,
}

/// What came back.
struct Said {
    status: u16,
    kind: String,
    body: Value,
    location: Option<String>,
    retry_after: Option<String>,
}

fn new_key() -> EcdsaKeyPair {
    EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).unwrap()
}

fn jwk(key: &EcdsaKeyPair) -> Value {
    let point = key.public_key().as_ref();
    json!({ "kty": "EC", "crv": "P-256", "x": encode(&point[1..33]), "y": encode(&point[33..65]) })
}

fn signed(key: &EcdsaKeyPair, protected: &Value, payload: &str) -> Value {
    let (protected, payload) = (encode(protected.to_string()), encode(payload));
    let message = format!("{protected}.{payload}");
    let signature = key.sign(&SystemRandom::new(), message.as_bytes()).unwrap();
    json!({ "protected": protected, "payload": payload, "signature": encode(signature.as_ref()) })
}

impl Client {
    async fn new() -> Client {
        let folder = tempfile::tempdir().unwrap();
        let options = Options { refuse_nonces: 0, ..Options::default() };
        let sandbox = Sandbox::start(&folder.path().join("sandbox"), options).await.unwrap();
        let root = std::fs::read(sandbox.folder().join("api-root.pem")).unwrap();
        let roots = reqwest::Certificate::from_pem_bundle(&root).unwrap();
        let http = reqwest::Client::builder().tls_certs_merge(roots).build().unwrap();
        let base = sandbox.listing().directory.trim_end_matches("/directory").to_owned();
        Client { http, base, key: new_key(), account: None, _sandbox: sandbox, _folder: folder }
    }

    async fn registered() -> Client {
        let mut client = Client::new().await;
        let said = client.post("/account", &json!({ "termsOfServiceAgreed": true })).await;
        assert_eq!(said.status, 201);
        client.account = said.location;
        client
    }

    async fn nonce(&self) -> String {
        let response = self.http.head(format!("{}/nonce", self.base)).send().await.unwrap();
        response.headers()["replay-nonce"].to_str().unwrap().to_owned()
    }

    /// The protected header of a right request.
    async fn protected(&self, path: &str) -> Value {
        let mut protected =
            json!({ "alg": "ES256", "nonce": self.nonce().await, "url": format!("{}{path}", self.base) });
        match &self.account {
            Some(account) => protected["kid"] = account.as_str().into(),
            None => protected["jwk"] = jwk(&self.key),
        }
        protected
    }

    async fn send(&self, path: &str, body: &Value) -> Said {
        self.send_as(path, body.to_string(), "application/jose+json").await
    }

    async fn send_as(&self, path: &str, body: String, content_type: &str) -> Said {
        let request = self.http.post(format!("{}{path}", self.base)).header("content-type", content_type).body(body);
        let response = request.send().await.unwrap();
        let header = |name: &str| response.headers().get(name).map(|value| value.to_str().unwrap().to_owned());
        let (status, location, retry_after) = (response.status().as_u16(), header("location"), header("retry-after"));
        let body: Value = response.json().await.unwrap_or_default();
        let kind = body["type"].as_str().unwrap_or_default().rsplit(':').next().unwrap_or_default().to_owned();
        Said { status, kind, body, location, retry_after }
    }

    async fn post(&self, path: &str, payload: &Value) -> Said {
        let protected = self.protected(path).await;
        self.send(path, &signed(&self.key, &protected, &payload.to_string())).await
    }

    async fn order(&self, names: &[&str]) -> Said {
        let identifiers: Vec<Value> = names.iter().map(|name| json!({ "type": "dns", "value": name })).collect();
        self.post("/order", &json!({ "identifiers": identifiers })).await
    }

    fn path(&self, url: &Value) -> String {
        url.as_str().unwrap().strip_prefix(&self.base).unwrap().to_owned()
    }
}

/// One thing that is wrong with a request, and the error type that it must be told as.
type Wrong = (&'static str, fn(&Client, &mut Value), u16, &'static str);

const WRONG: [Wrong; 8] = [
    ("another url", |_, protected| protected["url"] = "https://127.0.0.1/order".into(), 403, "unauthorized"),
    ("an unknown nonce", |_, protected| protected["nonce"] = "AAAA".into(), 400, "badNonce"),
    ("no nonce", |_, protected| drop(protected.as_object_mut().unwrap().remove("nonce")), 400, "badNonce"),
    ("another algorithm", |_, protected| protected["alg"] = "ES384".into(), 400, "badSignatureAlgorithm"),
    ("no algorithm of signatures", |_, protected| protected["alg"] = "none".into(), 400, "badSignatureAlgorithm"),
    (
        "an unknown account",
        |client, protected| protected["kid"] = format!("{}/account/99", client.base).into(),
        400,
        "accountDoesNotExist",
    ),
    ("both jwk and kid", |client, protected| protected["jwk"] = jwk(&client.key), 400, "malformed"),
    (
        "a jwk where a kid is needed",
        |client, protected| {
            protected.as_object_mut().unwrap().remove("kid");
            protected["jwk"] = jwk(&client.key);
        },
        400,
        "malformed",
    ),
];

#[tokio::test]
async fn a_request_that_is_wrong_in_one_thing_is_refused_for_it() {
    let client = Client::registered().await;
    let order = json!({ "identifiers": [{ "type": "dns", "value": "api.larkfield.example" }] }).to_string();
    for (what, change, status, kind) in WRONG {
        let mut protected = client.protected("/order").await;
        change(&client, &mut protected);
        let said = client.send("/order", &signed(&client.key, &protected, &order)).await;
        assert_eq!((said.status, said.kind.as_str()), (status, kind), "{what}: {}", said.body);
    }
    // A signature by another key, a changed payload, a body of another kind, a nonce used twice.
    let protected = client.protected("/order").await;
    let said = client.send("/order", &signed(&new_key(), &protected, &order)).await;
    assert_eq!((said.status, said.kind.as_str()), (400, "malformed"));
    let mut body = signed(&client.key, &client.protected("/order").await, &order);
    body["payload"] = encode(order.replace("api", "abi")).into();
    assert_eq!(client.send("/order", &body).await.kind, "malformed");
    let body = signed(&client.key, &client.protected("/order").await, &order);
    assert_eq!(client.send_as("/order", body.to_string(), "application/json").await.status, 415);
    assert_eq!(client.send("/order", &body).await.status, 201, "that nonce was not spent");
    assert_eq!(client.send("/order", &body).await.kind, "badNonce", "now it is");
}

#[tokio::test]
async fn orders_are_held_to_what_may_be_ordered() {
    let client = Client::registered().await;
    for (identifiers, kind) in [
        (json!([]), "malformed"),
        (json!([{ "type": "ip", "value": "127.0.0.1" }]), "unsupportedIdentifier"),
        (json!([{ "type": "dns", "value": "larkfield.invalid" }]), "rejectedIdentifier"),
        (json!([{ "type": "dns", "value": "API.larkfield.example" }]), "rejectedIdentifier"),
    ] {
        let said = client.post("/order", &json!({ "identifiers": identifiers })).await;
        assert_eq!(said.kind, kind, "{identifiers}");
    }
    let one = json!([{ "type": "dns", "value": "api.larkfield.example" }]);
    let said = client.post("/order", &json!({ "identifiers": one, "profile": "decade" })).await;
    assert_eq!(said.kind, "invalidProfile");
    let said = client.post("/order", &json!({ "identifiers": one, "replaces": "AAAA.AAAA" })).await;
    assert_eq!(said.kind, "malformed");
    let said = client.order(&["api.larkfield.example", "*.api.larkfield.example"]).await;
    assert_eq!((said.status, &said.body["status"]), (201, &"pending".into()));
    assert_eq!(said.body["authorizations"].as_array().unwrap().len(), 2);
    let finalize = client.path(&said.body["finalize"]);
    let refused = client.post(&finalize, &json!({ "csr": encode(b"no request") })).await;
    assert_eq!((refused.status, refused.kind.as_str()), (403, "orderNotReady"));
}

#[tokio::test]
async fn an_answered_challenge_is_not_taken_again_and_a_failed_one_counts() {
    let client = Client::registered().await;
    let mut refused = None;
    for attempt in 0..7 {
        let order = client.order(&["none.larkfield.example"]).await;
        if order.status == 429 {
            refused = Some((attempt, order));
            break;
        }
        let authorization = client.path(&order.body["authorizations"][0]);
        let protected = client.protected(&authorization).await;
        let shown = client.send(&authorization, &signed(&client.key, &protected, "")).await;
        let challenge = client.path(&shown.body["challenges"][0]["url"]);
        assert_eq!(client.post(&challenge, &json!({})).await.body["status"], "processing");
        assert_eq!(client.post(&challenge, &json!({})).await.kind, "malformed");
        // No record was made, so the validation fails.
        for _ in 0..100 {
            tokio::time::sleep(std::time::Duration::from_millis(30)).await;
            let protected = client.protected(&authorization).await;
            let shown = client.send(&authorization, &signed(&client.key, &protected, "")).await;
            if shown.body["status"] == "invalid" {
                assert!(shown.body["challenges"][0]["error"]["detail"].as_str().unwrap().contains("no TXT record"));
                break;
            }
        }
    }
    let (attempt, said) = refused.expect("five failures are enough");
    assert_eq!((attempt, said.kind.as_str()), (5, "rateLimited"));
    let wait: i64 = said.retry_after.unwrap().parse().unwrap();
    assert!((1..=3600).contains(&wait), "{wait}");
}

#[tokio::test]
async fn accounts_are_found_changed_and_closed_by_their_own_key_only() {
    let mut client = Client::new().await;
    let said = client.post("/account", &json!({ "onlyReturnExisting": true })).await;
    assert_eq!(said.kind, "accountDoesNotExist");
    assert_eq!(client.post("/account", &json!({})).await.kind, "userActionRequired");
    let said = client.post("/account", &json!({ "termsOfServiceAgreed": true, "contact": ["tel:+1"] })).await;
    assert_eq!(said.kind, "invalidContact");
    let made = client.post("/account", &json!({ "termsOfServiceAgreed": true })).await;
    let again = client.post("/account", &json!({ "termsOfServiceAgreed": true })).await;
    assert_eq!((made.status, again.status, &made.location), (201, 200, &again.location));
    client.account = made.location.clone();
    let account = client.path(&made.location.clone().unwrap().into());

    let said = client.post(&account, &json!({ "contact": ["mailto:tls@larkfield.example"] })).await;
    assert_eq!(said.body["contact"][0], "mailto:tls@larkfield.example");
    assert_eq!(client.post("/account/7", &json!({})).await.kind, "unauthorized");

    // A key change whose inner request is wrong in one thing, then a right one.
    let new = new_key();
    let url = format!("{}/key-change", client.base);
    let right = json!({ "account": made.location.clone().unwrap(), "oldKey": jwk(&client.key) });
    let inner = |payload: &Value, by: &EcdsaKeyPair, url: &str| {
        signed(by, &json!({ "alg": "ES256", "jwk": jwk(&new), "url": url }), &payload.to_string())
    };
    let other = json!({ "account": made.location.clone().unwrap(), "oldKey": jwk(&new) });
    for (what, body) in [
        ("another old key", inner(&other, &new, &url)),
        ("another account", inner(&json!({ "account": "x", "oldKey": jwk(&client.key) }), &new, &url)),
        ("another URL", inner(&right, &new, "https://127.0.0.1/")),
        ("signed by the old key", inner(&right, &client.key, &url)),
    ] {
        assert_eq!(client.post("/key-change", &body).await.kind, "malformed", "{what}");
    }
    assert_eq!(client.post("/key-change", &inner(&right, &new, &url)).await.status, 200);
    assert_eq!(client.post(&account, &json!({})).await.kind, "malformed", "the old key signs no more");
    client.key = new;
    assert_eq!(client.post(&account, &json!({ "status": "deactivated" })).await.body["status"], "deactivated");
    let said = client.order(&["api.larkfield.example"]).await;
    assert_eq!((said.status, said.kind.as_str()), (401, "unauthorized"));
}

#[test]
fn every_fault_has_a_word_that_is_read_again() {
    for (word, _) in Fault::words() {
        let word = word.replace("NAME", "api.larkfield.example");
        let fault = Fault::from_word(&word).unwrap_or_else(|| panic!("{word}"));
        assert_eq!(fault.word(), word);
    }
    for word in ["", "validation=", "none"] {
        assert_eq!(Fault::from_word(word), None, "{word}");
    }
}
