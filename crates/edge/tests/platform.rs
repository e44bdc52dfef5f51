//! The endpoint protocol against the sandbox's platform: what any platform must do.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::time::{Duration, Instant};

use pindrel_core::endpoints::endpoint::{Binding, Deployment, Route, TlsVersion};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_edge::{EdgeError, Platform, ProtocolPlatform};
use pindrel_sandbox::{Options, Sandbox};
use rcgen::{CertificateParams, KeyPair};
use secrecy::SecretString;
use tempfile::TempDir;

struct World {
    platform: ProtocolPlatform,
    sandbox: Sandbox,
    _folder: TempDir,
}

fn driver(sandbox: &Sandbox, token: &str) -> ProtocolPlatform {
    let roots = std::fs::read(sandbox.folder().join("api-root.pem")).unwrap();
    let url = sandbox.listing().platform.parse().unwrap();
    ProtocolPlatform::over_https(url, SecretString::from(token.to_owned()), Some(&roots), None).unwrap()
}

async fn world() -> World {
    let folder = tempfile::tempdir().unwrap();
    let options = Options { deploy: Duration::from_millis(100), ..Options::default() };
    let sandbox = Sandbox::start(&folder.path().join("sandbox"), options).await.unwrap();
    let token = std::fs::read_to_string(sandbox.folder().join("edge.token")).unwrap();
    World { platform: driver(&sandbox, token.trim()), sandbox, _folder: folder }
}

fn certificate(name: &str) -> (String, SecretString, Fingerprint) {
    let key = KeyPair::generate().unwrap();
    let made = CertificateParams::new(vec![name.to_owned()]).unwrap().self_signed(&key).unwrap();
    (made.pem(), key.serialize_pem().into(), Fingerprint::of(made.der()))
}

fn name() -> Hostname {
    "api.larkfield.example".parse().unwrap()
}

fn binding(certificate: Fingerprint) -> Binding {
    let route = Route { prefix: "/v2".into(), service: "catalogue".into(), release: Some("live".into()) };
    Binding { routes: vec![route], ..Binding::plain(Some(certificate)) }
}

#[tokio::test]
async fn all_pages_of_the_list_are_read() {
    let world = world().await;
    let listed = world.platform.endpoints().await.unwrap();
    let known = &world.sandbox.listing().endpoints;
    assert_eq!(listed.len(), known.len());
    for (listed, known) in listed.iter().zip(known) {
        assert_eq!(listed.id, known.id);
        assert_eq!(listed.default_name.as_ref().unwrap().as_str(), known.default_name);
        assert_eq!((listed.addresses[0], listed.port), (known.address.ip(), known.address.port()));
    }
    assert!(
        listed.iter().any(|endpoint| !endpoint.custom_hostnames.allowed && endpoint.custom_hostnames.reason.is_some())
    );
}

#[tokio::test]
async fn a_certificate_must_be_whole_and_its_own() {
    let world = world().await;
    let (chain, key, sha256) = certificate("api.larkfield.example");
    let (_, other_key, other) = certificate("api.larkfield.example");
    let put = |site: &'static str, sha256, chain: String, key: SecretString| {
        let platform = &world.platform;
        async move { platform.put_certificate(site, sha256, &chain, key).await }
    };
    put("north", sha256, chain.clone(), key.clone()).await.unwrap();
    put("north", sha256, chain.clone(), key.clone()).await.unwrap();
    for (site, sha256, chain, key, says) in [
        ("nowhere", sha256, chain.clone(), key.clone(), "no site nowhere"),
        ("north", other, chain.clone(), key.clone(), "fingerprint is not"),
        ("north", sha256, chain.clone(), other_key, "key is not"),
        ("north", sha256, "nothing".to_owned(), key.clone(), "chain is empty"),
        ("north", sha256, chain.clone(), "nothing".to_owned().into(), "key cannot be read"),
    ] {
        let error = put(site, sha256, chain, key).await.unwrap_err();
        assert!(matches!(error, EdgeError::Refused { .. }) && error.to_string().contains(says), "{error}");
        assert!(!error.remedy().is_empty());
    }
}

#[tokio::test]
async fn a_binding_is_made_changed_and_guarded_against_others() {
    let world = world().await;
    let platform = &world.platform;
    assert_eq!(platform.binding("catalogue", &name()).await.unwrap(), None);
    let (chain, key, sha256) = certificate("api.larkfield.example");
    let unknown = platform.put_binding("catalogue", &name(), &binding(sha256), None).await.unwrap_err();
    assert!(matches!(unknown, EdgeError::Refused { status: 422, .. }), "{unknown}");
    platform.put_certificate("north", sha256, &chain, key).await.unwrap();

    let made = platform.put_binding("catalogue", &name(), &binding(sha256), None).await.unwrap();
    assert_eq!((made.binding.clone(), made.deployment.clone()), (binding(sha256), Deployment::Deploying));
    let begun = Instant::now();
    let deployed = loop {
        let bound = platform.binding("catalogue", &name()).await.unwrap().unwrap();
        if bound.deployment == Deployment::Deployed {
            break bound;
        }
        assert!(begun.elapsed() < Duration::from_secs(30));
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    // Whoever knows nothing of it, or an older one, changes nothing.
    let again = platform.put_binding("catalogue", &name(), &binding(sha256), None).await;
    assert_eq!(again, Err(EdgeError::Changed(name())));
    let mut changed = binding(sha256);
    changed.minimum_tls = TlsVersion::V1_3;
    let newer = platform.put_binding("catalogue", &name(), &changed, Some(&deployed)).await.unwrap();
    assert_eq!(newer.binding.minimum_tls, TlsVersion::V1_3);
    let stale = platform.put_binding("catalogue", &name(), &binding(sha256), Some(&deployed)).await;
    assert_eq!(stale, Err(EdgeError::Changed(name())));
}

#[tokio::test]
async fn a_wrong_token_a_busy_platform_and_a_wrong_root_are_told_apart() {
    let world = world().await;
    let error = driver(&world.sandbox, "wrong").endpoints().await.unwrap_err();
    assert!(matches!(error, EdgeError::Token { status: 401, .. }), "{error}");
    assert!(!error.to_string().contains("wrong"), "a token is never shown: {error}");
    world.sandbox.platform().silence(true);
    let error = world.platform.endpoints().await.unwrap_err();
    assert!(matches!(error, EdgeError::Refused { status: 503, .. }), "{error}");
    world.sandbox.platform().silence(false);
    world.platform.endpoints().await.unwrap();

    let url = world.sandbox.listing().platform.parse().unwrap();
    let distrustful = ProtocolPlatform::over_https(url, SecretString::from("token".to_owned()), None, None).unwrap();
    let error = distrustful.endpoints().await.unwrap_err();
    assert!(
        matches!(&error, EdgeError::Unreachable { .. } if error.to_string().contains("cannot be reached")),
        "{error}"
    );
}
