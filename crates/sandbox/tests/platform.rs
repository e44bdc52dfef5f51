//! The stand-in platform, spoken to by hand-made requests: what `docs/endpoint-protocol.md`
//! says is refused here, or tests against it would prove nothing.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::time::{Duration, Instant};

use pindrel_sandbox::{Options, Sandbox};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use tempfile::TempDir;

const HOSTNAME: &str = "api.larkfield.example";
const BINDING: &str = "endpoints/catalogue/bindings/api.larkfield.example";

struct Client {
    http: reqwest::Client,
    base: String,
    token: String,
    sandbox: Sandbox,
    _folder: TempDir,
}

struct Said {
    status: u16,
    etag: Option<String>,
    next: Option<String>,
    body: Value,
}

impl Client {
    async fn new(deploy: Duration) -> Client {
        let folder = tempfile::tempdir().unwrap();
        let options = Options { deploy, ..Options::default() };
        let sandbox = Sandbox::start(&folder.path().join("sandbox"), options).await.unwrap();
        let read = |name: &str| std::fs::read_to_string(sandbox.folder().join(name)).unwrap();
        let roots = reqwest::Certificate::from_pem_bundle(read("api-root.pem").as_bytes()).unwrap();
        let http = reqwest::Client::builder().tls_certs_merge(roots).build().unwrap();
        let (base, token) = (format!("{}/v1", sandbox.listing().platform), read("edge.token").trim().to_owned());
        Client { http, base, token, sandbox, _folder: folder }
    }

    async fn send(&self, method: Method, path: &str, headers: &[(&str, &str)], body: Option<&Value>) -> Said {
        let mut request = self.http.request(method, format!("{}/{path}", self.base)).bearer_auth(&self.token);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        if let Some(body) = body {
            request = request.json(body);
        }
        let response = request.send().await.unwrap();
        let header = |name: &str| response.headers().get(name).map(|value| value.to_str().unwrap().to_owned());
        let (etag, next, status) = (header("etag"), header("link"), response.status().as_u16());
        Said { status, etag, next, body: response.json().await.unwrap_or_default() }
    }

    async fn get(&self, path: &str) -> Said {
        self.send(Method::GET, path, &[], None).await
    }

    async fn put(&self, path: &str, headers: &[(&str, &str)], body: &Value) -> Said {
        self.send(Method::PUT, path, headers, Some(body)).await
    }

    async fn store(&self, site: &str, certificate: &Certificate) -> Said {
        self.put(&format!("sites/{site}/certificates/{}", certificate.sha256), &[], &certificate.body()).await
    }
}

struct Certificate {
    chain: String,
    key: String,
    sha256: String,
}

impl Certificate {
    fn new() -> Certificate {
        let made = rcgen::generate_simple_self_signed(vec![HOSTNAME.to_owned()]).unwrap();
        let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, made.cert.der());
        let sha256 = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
        Certificate { chain: made.cert.pem(), key: made.signing_key.serialize_pem(), sha256 }
    }

    fn body(&self) -> Value {
        json!({ "chain": self.chain, "key": self.key })
    }
}

fn binding(certificate: &Certificate, service: &str) -> Value {
    json!({ "certificate": certificate.sha256, "minimum_tls": "1.2", "routes": [{ "prefix": "/v2", "service": service }] })
}

#[tokio::test]
async fn only_the_token_opens_it_and_the_list_goes_on_over_pages() {
    let mut client = Client::new(Duration::ZERO).await;
    let first = client.get("endpoints").await;
    let next = first.next.unwrap();
    assert!(next.starts_with("</v1/endpoints?after=") && next.ends_with("; rel=\"next\""), "{next}");
    let path = next.trim_start_matches("</v1/").split('>').next().unwrap().to_owned();
    let second = client.get(&path).await;
    assert!(second.next.is_none(), "two pages");
    let all: Vec<&Value> =
        [&first.body, &second.body].map(|page| page["endpoints"].as_array().unwrap()).into_iter().flatten().collect();
    assert_eq!(all.len(), client.sandbox.listing().endpoints.len());
    assert!(all.iter().all(|endpoint| endpoint["default_name"].as_str().unwrap().ends_with(".edge.test")));
    let refusing: Vec<&&Value> =
        all.iter().filter(|endpoint| endpoint["custom_hostnames"]["allowed"] == false).collect();
    assert!(refusing.len() == 1 && refusing[0]["custom_hostnames"]["reason"].is_string());

    client.token.push('x');
    assert_eq!(client.get("endpoints").await.status, 401);
    let without = client.http.get(format!("{}/endpoints", client.base)).send().await.unwrap();
    assert_eq!(without.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(without.headers()["content-type"], "application/problem+json");
}

#[tokio::test]
async fn a_store_takes_a_key_with_its_own_certificate_and_nothing_else() {
    let client = Client::new(Duration::ZERO).await;
    let (own, other) = (Certificate::new(), Certificate::new());
    let torn = Certificate { chain: own.chain[..60].to_owned(), key: own.key.clone(), sha256: own.sha256.clone() };
    let swapped = Certificate { chain: own.chain.clone(), key: other.key.clone(), sha256: own.sha256.clone() };
    let renamed = Certificate { chain: own.chain.clone(), key: own.key.clone(), sha256: other.sha256.clone() };
    for (site, certificate, status, what) in [
        ("north", &own, 201, "a new one"),
        ("north", &own, 200, "the same again"),
        ("south", &own, 201, "the same at another site"),
        ("west", &own, 404, "an unknown site"),
        ("north", &torn, 422, "half a certificate"),
        ("north", &swapped, 422, "another's key"),
        ("north", &renamed, 422, "another fingerprint"),
    ] {
        assert_eq!(client.store(site, certificate).await.status, status, "{what}");
    }
    assert_eq!(client.sandbox.platform().writes(), 3, "nothing that was refused was kept");
}

#[tokio::test]
async fn a_binding_changes_only_from_what_was_read_and_is_not_in_force_at_once() {
    let client = Client::new(Duration::from_millis(400)).await;
    let certificate = Certificate::new();
    let new = [("if-none-match", "*")];
    let wanted = binding(&certificate, "catalogue");
    assert_eq!(client.get(BINDING).await.status, 404);
    assert_eq!(client.put(BINDING, &new, &wanted).await.status, 422, "its certificate is not in the store");
    assert_eq!(client.store("south", &certificate).await.status, 201);
    assert_eq!(client.put(BINDING, &new, &wanted).await.status, 422, "nor in that of the other site");
    assert_eq!(client.store("north", &certificate).await.status, 201);
    assert_eq!(client.put(BINDING, &new, &binding(&certificate, "nothing")).await.status, 422, "no such service");
    let trial = BINDING.replace("catalogue", "trial");
    assert_eq!(client.put(&trial, &new, &wanted).await.status, 409, "this plan has no custom hostnames");
    assert_eq!(client.put(&BINDING.replace("catalogue", "none"), &new, &wanted).await.status, 404);

    let bound = client.put(BINDING, &new, &wanted).await;
    assert_eq!((bound.status, &bound.body["state"]), (202, &json!("deploying")));
    let read = client.get(BINDING).await;
    assert_eq!((read.etag.clone(), &read.body["routes"]), (bound.etag, &wanted["routes"]));
    let changed = binding(&certificate, "plates");
    for (headers, status, what) in [
        ([("if-none-match", "*")], 412, "somebody has bound it"),
        ([("if-match", "\"99\"")], 412, "somebody has changed it"),
        ([("if-match", read.etag.as_deref().unwrap())], 202, "it is as it was read"),
    ] {
        assert_eq!(client.put(BINDING, &headers, &changed).await.status, status, "{what}");
    }
    let begun = Instant::now();
    while client.get(BINDING).await.body["state"] != "deployed" {
        assert!(begun.elapsed() < Duration::from_secs(20), "it is never deployed");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// What the platform answers is what the OpenAPI document says, member for member and status for status.
#[tokio::test(flavor = "multi_thread")]
async fn every_answer_is_as_the_openapi_document_says() {
    let document: Value = serde_json::from_str(include_str!("../../../docs/endpoint-protocol.openapi.json")).unwrap();
    let client = Client::new(Duration::ZERO).await;
    let fits = |template: &str, method: &str, said: &Said| {
        let place = &document["paths"][template][method]["responses"][said.status.to_string()];
        assert!(place.is_object(), "{method} {template} answered {}, which is not described", said.status);
        for kind in ["application/json", "application/problem+json"] {
            let Some(name) = place["content"][kind]["schema"]["$ref"].as_str() else { continue };
            // The references within it are to the whole document.
            let mut schema = document.clone();
            schema["$ref"] = name.into();
            let validator = jsonschema::validator_for(&schema).unwrap();
            let faults: Vec<String> = validator.iter_errors(&said.body).map(|fault| fault.to_string()).collect();
            assert!(faults.is_empty(), "{method} {template} {}: {faults:?}: {:#}", said.status, said.body);
        }
    };
    let one = "/v1/endpoints/{id}/bindings/{hostname}";
    let certificate = Certificate::new();
    let bundle = json!({ "roots": certificate.chain });
    let digest = aws_lc_rs::digest::digest(&aws_lc_rs::digest::SHA256, certificate.chain.as_bytes());
    let sha256: String = digest.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    fits("/v1/endpoints", "get", &client.get("endpoints").await);
    fits("/v1/token", "get", &client.get("token").await);
    fits(one, "get", &client.get(BINDING).await);
    let put = |path: String, body: Value| {
        let client = &client;
        async move { client.put(&path, &[], &body).await }
    };
    for site in ["north", "nowhere"] {
        let bundles = "/v1/sites/{site}/trust-bundles/{sha256}";
        fits(bundles, "put", &put(format!("sites/{site}/trust-bundles/{sha256}"), bundle.clone()).await);
        fits(bundles, "put", &put(format!("sites/{site}/trust-bundles/{}", certificate.sha256), bundle.clone()).await);
        fits("/v1/sites/{site}/certificates/{sha256}", "put", &client.store(site, &certificate).await);
    }
    let clients = json!({ "roots": sha256, "need": "required" });
    let body = json!({ "certificate": certificate.sha256, "minimum_tls": "1.2", "client_certificates": clients });
    let bound = put(BINDING.into(), body).await;
    assert_eq!((bound.status, &bound.body["client_certificates"]), (202, &clients), "{:#}", bound.body);
    fits(one, "put", &bound);
    fits(one, "put", &put(BINDING.into(), json!({ "certificate": "00", "minimum_tls": "1.2" })).await);
    fits(one, "put", &put(BINDING.into(), json!({ "minimum_tls": "1.2" })).await);
    let hosted = put("endpoints/hosted/bindings/app.larkfield.example".into(), json!({ "minimum_tls": "1.2" })).await;
    assert_eq!(hosted.body["records"][0]["type"], "CNAME", "{:#}", hosted.body);
    fits(one, "put", &hosted);
    fits("/v1/endpoints/{id}/bindings", "get", &client.get("endpoints/hosted/bindings").await);
    fits("/v1/sites/{site}/certificates", "get", &client.get("sites/north/certificates").await);
    let used = format!("sites/north/certificates/{}", certificate.sha256);
    let delete = |path: String| {
        let client = &client;
        async move { client.send(Method::DELETE, &path, &[], None).await }
    };
    fits("/v1/sites/{site}/certificates/{sha256}", "delete", &delete(used.clone()).await);
    for _ in 0..2 {
        fits(one, "delete", &delete(BINDING.into()).await);
        fits("/v1/sites/{site}/certificates/{sha256}", "delete", &delete(used.clone()).await);
    }
}
