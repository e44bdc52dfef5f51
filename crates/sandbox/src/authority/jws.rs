//! Reading signed requests (RFC 7515, RFC 8555 §6.2), as strictly as the RFC allows.

use aws_lc_rs::digest;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::Deserialize;
use serde_json::Value;

use super::{Refusal, refuse};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Flattened {
    protected: String,
    payload: String,
    signature: String,
}

#[derive(Deserialize)]
struct Protected {
    alg: String,
    nonce: String,
    url: String,
    jwk: Option<Key>,
    kid: Option<String>,
}

#[derive(Deserialize)]
struct Key {
    kty: String,
    crv: String,
    x: String,
    y: String,
}

/// Who signed.
pub(super) enum By {
    /// A key without an account: its point and its thumbprint.
    Key(Vec<u8>, String),
    /// An account, by its URL.
    Account(String),
}

/// A request whose form is right; its signature is still to be checked.
pub(super) struct Request {
    pub(super) by: By,
    pub(super) nonce: String,
    pub(super) url: String,
    pub(super) payload: Option<Value>,
    signed: String,
    signature: Vec<u8>,
}

impl Request {
    pub(super) fn read(body: &[u8]) -> Result<Request, Refusal> {
        let malformed = |why: &str| Refusal { status: 400, kind: "malformed", detail: why.into() };
        let flattened: Flattened =
            serde_json::from_slice(body).map_err(|_| malformed("the body is no flattened JWS"))?;
        let protected: Protected = serde_json::from_slice(&decode(&flattened.protected)?)
            .map_err(|_| malformed("the protected header cannot be read"))?;
        if protected.alg != "ES256" {
            return refuse(400, "badSignatureAlgorithm", format!("{} is not taken; ES256 is", protected.alg));
        }
        let by = match (protected.jwk, protected.kid) {
            (Some(key), None) => by_key(&key)?,
            (None, Some(kid)) => By::Account(kid),
            _ => return refuse(400, "malformed", "exactly one of jwk and kid must be given"),
        };
        let payload = match decode(&flattened.payload)?.as_slice() {
            [] => None,
            bytes => Some(serde_json::from_slice(bytes).map_err(|_| malformed("the payload is no JSON"))?),
        };
        let signature = decode(&flattened.signature)?;
        let signed = format!("{}.{}", flattened.protected, flattened.payload);
        Ok(Request { by, nonce: protected.nonce, url: protected.url, payload, signed, signature })
    }

    pub(super) fn is_signed_by(&self, point: &[u8]) -> bool {
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point).verify(self.signed.as_bytes(), &self.signature).is_ok()
    }
}

fn decode(text: &str) -> Result<Vec<u8>, Refusal> {
    URL_SAFE_NO_PAD.decode(text).or_else(|_| refuse(400, "malformed", "a part is not base64url without padding"))
}

fn by_key(key: &Key) -> Result<By, Refusal> {
    if key.kty != "EC" || key.crv != "P-256" {
        return refuse(400, "badPublicKey", "only EC keys on P-256 are taken");
    }
    let point = [vec![4], decode(&key.x)?, decode(&key.y)?].concat();
    let canonical = format!(r#"{{"crv":"P-256","kty":"EC","x":"{}","y":"{}"}}"#, key.x, key.y);
    Ok(By::Key(point, URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, canonical.as_bytes()))))
}

/// What the TXT record of a challenge must hold (RFC 8555 §8.4).
pub(super) fn expected_text(token: &str, thumbprint: &str) -> String {
    URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, format!("{token}.{thumbprint}").as_bytes()))
}

pub(super) fn decode_request(text: &str) -> Result<Vec<u8>, Refusal> {
    URL_SAFE_NO_PAD.decode(text).or_else(|_| refuse(400, "badCSR", "the signing request is not base64url"))
}
