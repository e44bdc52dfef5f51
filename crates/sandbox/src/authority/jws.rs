//! Reading signed requests (RFC 7515, RFC 8555 §6.2), as strictly as the RFC allows.

use aws_lc_rs::{digest, hmac, signature};
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
    nonce: Option<String>,
    url: String,
    jwk: Option<Value>,
    kid: Option<String>,
}

/// The public key of an account.
#[derive(Debug, Clone)]
pub(super) struct Key {
    bytes: KeyBytes,
    pub(super) thumbprint: String,
}

#[derive(Debug, Clone)]
enum KeyBytes {
    /// An uncompressed point on P-256.
    P256(Vec<u8>),
    /// An uncompressed point on P-384.
    P384(Vec<u8>),
    /// Modulus and exponent.
    Rsa(Vec<u8>, Vec<u8>),
    Ed25519(Vec<u8>),
}

impl Key {
    pub(super) fn read(jwk: &Value) -> Result<Key, Refusal> {
        let text = |name: &str| jwk[name].as_str().unwrap_or_default();
        let (bytes, canonical) = match (text("kty"), text("crv")) {
            ("EC", curve @ ("P-256" | "P-384")) => {
                let (x, y) = (text("x"), text("y"));
                let point = [vec![4], decode(x)?, decode(y)?].concat();
                let bytes = if curve == "P-256" { KeyBytes::P256(point) } else { KeyBytes::P384(point) };
                (bytes, format!(r#"{{"crv":"{curve}","kty":"EC","x":"{x}","y":"{y}"}}"#))
            }
            ("OKP", "Ed25519") => {
                let x = text("x");
                (KeyBytes::Ed25519(decode(x)?), format!(r#"{{"crv":"Ed25519","kty":"OKP","x":"{x}"}}"#))
            }
            ("RSA", _) => {
                let (n, e) = (text("n"), text("e"));
                let modulus = decode(n)?;
                if modulus.len() < 256 {
                    return refuse(400, "badPublicKey", "an RSA key has at least 2048 bits");
                }
                (KeyBytes::Rsa(modulus, decode(e)?), format!(r#"{{"e":"{e}","kty":"RSA","n":"{n}"}}"#))
            }
            (kty, _) => return refuse(400, "badPublicKey", format!("keys of type {kty:?} are not taken")),
        };
        let thumbprint = URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, canonical.as_bytes()));
        Ok(Key { bytes, thumbprint })
    }

    fn algorithm(&self) -> &'static str {
        match self.bytes {
            KeyBytes::P256(_) => "ES256",
            KeyBytes::P384(_) => "ES384",
            KeyBytes::Rsa(..) => "RS256",
            KeyBytes::Ed25519(_) => "EdDSA",
        }
    }

    fn verifies(&self, message: &[u8], signed: &[u8]) -> bool {
        let plain = |algorithm: &'static dyn signature::VerificationAlgorithm, key: &[u8]| {
            signature::UnparsedPublicKey::new(algorithm, key).verify(message, signed).is_ok()
        };
        match &self.bytes {
            KeyBytes::P256(point) => plain(&signature::ECDSA_P256_SHA256_FIXED, point),
            KeyBytes::P384(point) => plain(&signature::ECDSA_P384_SHA384_FIXED, point),
            KeyBytes::Ed25519(key) => plain(&signature::ED25519, key),
            KeyBytes::Rsa(n, e) => signature::RsaPublicKeyComponents { n, e }
                .verify(&signature::RSA_PKCS1_2048_8192_SHA256, message, signed)
                .is_ok(),
        }
    }

    /// Says whether a certificate is for this very key, given its public key as a point
    /// or as PKCS#1.
    pub(super) fn is_of(&self, certified: &[u8]) -> bool {
        match &self.bytes {
            KeyBytes::P256(point) | KeyBytes::P384(point) => point == certified,
            KeyBytes::Ed25519(key) => key == certified,
            KeyBytes::Rsa(n, _) => certified.windows(n.len()).any(|window| window == n),
        }
    }
}

/// Who signed.
pub(super) enum By {
    /// A key that stands for itself.
    Key(Key),
    /// An account, by its URL.
    Account(String),
}

/// A request whose form is right; its signature is still to be checked.
pub(super) struct Request {
    pub(super) by: By,
    pub(super) nonce: String,
    pub(super) url: String,
    pub(super) payload: Option<Value>,
    algorithm: String,
    signed: String,
    signature: Vec<u8>,
}

fn malformed(why: &str) -> Refusal {
    Refusal::new(400, "malformed", why)
}

impl Request {
    pub(super) fn read(body: &[u8]) -> Result<Request, Refusal> {
        let flattened: Flattened =
            serde_json::from_slice(body).map_err(|_| malformed("the body is not a flattened JWS"))?;
        let request = Request::from_flattened(&flattened)?;
        if request.nonce.is_empty() { refuse(400, "badNonce", "there is no nonce") } else { Ok(request) }
    }

    /// Reads the inner request of a key change, which has no nonce (RFC 8555 §7.3.5).
    pub(super) fn read_inner(payload: &Value) -> Result<Request, Refusal> {
        let flattened: Flattened = serde_json::from_value(payload.clone())
            .map_err(|_| malformed("the inner request is not a flattened JWS"))?;
        let request = Request::from_flattened(&flattened)?;
        if request.nonce.is_empty() { Ok(request) } else { Err(malformed("the inner request has a nonce")) }
    }

    fn from_flattened(flattened: &Flattened) -> Result<Request, Refusal> {
        let protected: Protected = serde_json::from_slice(&decode(&flattened.protected)?)
            .map_err(|_| malformed("the protected header cannot be read"))?;
        let by = match (protected.jwk, protected.kid) {
            (Some(jwk), None) => By::Key(Key::read(&jwk)?),
            (None, Some(kid)) => By::Account(kid),
            _ => return refuse(400, "malformed", "exactly one of jwk and kid must be given"),
        };
        let payload = match decode(&flattened.payload)?.as_slice() {
            [] => None,
            bytes => Some(serde_json::from_slice(bytes).map_err(|_| malformed("the payload is not JSON"))?),
        };
        Ok(Request {
            by,
            nonce: protected.nonce.unwrap_or_default(),
            url: protected.url,
            payload,
            algorithm: protected.alg,
            signed: format!("{}.{}", flattened.protected, flattened.payload),
            signature: decode(&flattened.signature)?,
        })
    }

    /// Checks that this key signed, with the algorithm that is its own.
    pub(super) fn check(&self, key: &Key) -> Result<(), Refusal> {
        if self.algorithm != key.algorithm() {
            return refuse(
                400,
                "badSignatureAlgorithm",
                format!("{} is not taken for such a key; {} is", self.algorithm, key.algorithm()),
            );
        }
        if key.verifies(self.signed.as_bytes(), &self.signature) {
            Ok(())
        } else {
            refuse(400, "malformed", "the signature does not verify")
        }
    }
}

/// An external account that an account must be bound to.
#[derive(Debug, Clone)]
pub struct ExternalAccount {
    /// The key identifier.
    pub id: String,
    /// The MAC key.
    pub key: Vec<u8>,
}

/// Checks the binding of an account key to an external account (RFC 8555 §7.3.4).
pub(super) fn check_binding(binding: &Value, external: &ExternalAccount, url: &str, key: &Key) -> Result<(), Refusal> {
    let unauthorized = |why: &str| Refusal::new(403, "unauthorized", why);
    let flattened: Flattened = serde_json::from_value(binding.clone())
        .map_err(|_| Refusal::new(403, "externalAccountRequired", "an external account binding is needed"))?;
    let protected: Protected = serde_json::from_slice(&decode(&flattened.protected)?)
        .map_err(|_| malformed("the binding's protected header cannot be read"))?;
    let algorithm = match protected.alg.as_str() {
        "HS256" => hmac::HMAC_SHA256,
        "HS384" => hmac::HMAC_SHA384,
        "HS512" => hmac::HMAC_SHA512,
        _ => return Err(malformed("the binding must be signed with HS256, HS384 or HS512")),
    };
    if protected.kid.as_deref() != Some(external.id.as_str()) || protected.url != url {
        return Err(unauthorized("the binding is for another external account or another URL"));
    }
    let message = format!("{}.{}", flattened.protected, flattened.payload);
    let mac = hmac::Key::new(algorithm, &external.key);
    hmac::verify(&mac, message.as_bytes(), &decode(&flattened.signature)?)
        .map_err(|_| unauthorized("the MAC of the binding does not verify"))?;
    let bound: Value =
        serde_json::from_slice(&decode(&flattened.payload)?).map_err(|_| malformed("the binding holds no key"))?;
    if Key::read(&bound)?.thumbprint == key.thumbprint {
        Ok(())
    } else {
        Err(unauthorized("the binding is for another account key"))
    }
}

pub(super) fn decode(text: &str) -> Result<Vec<u8>, Refusal> {
    URL_SAFE_NO_PAD.decode(text).or_else(|_| refuse(400, "malformed", "a part is not base64url without padding"))
}

/// What the TXT record of a challenge must hold (RFC 8555 §8.4).
pub(super) fn expected_text(token: &str, thumbprint: &str) -> String {
    URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, format!("{token}.{thumbprint}").as_bytes()))
}

pub(super) fn decode_request(text: &str) -> Result<Vec<u8>, Refusal> {
    URL_SAFE_NO_PAD.decode(text).or_else(|_| refuse(400, "badCSR", "the signing request is not base64url"))
}
