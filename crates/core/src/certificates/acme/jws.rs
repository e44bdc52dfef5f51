//! Signed requests: flattened JSON Web Signatures (RFC 7515, RFC 8555 §6.2).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};

/// Encodes bytes as RFC 8555 does everywhere: base64url without padding.
pub fn base64url(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// The public half of an account key (RFC 7517), all numbers base64url.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Jwk {
    /// A point on an elliptic curve (RFC 7518 §6.2).
    Ec {
        /// The curve.
        curve: Curve,
        /// The x coordinate.
        x: String,
        /// The y coordinate.
        y: String,
    },
    /// An RSA key (RFC 7518 §6.3).
    Rsa {
        /// The modulus.
        n: String,
        /// The exponent.
        e: String,
    },
    /// An Ed25519 key (RFC 8037 §2).
    Ed25519 {
        /// The public key.
        x: String,
    },
}

/// The curves of account keys (RFC 7518 §6.2.1.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum Curve {
    P256,
    P384,
}

impl Curve {
    /// Returns the name that keys carry.
    pub fn as_str(self) -> &'static str {
        match self {
            Curve::P256 => "P-256",
            Curve::P384 => "P-384",
        }
    }

    fn coordinate_bytes(self) -> usize {
        match self {
            Curve::P256 => 32,
            Curve::P384 => 48,
        }
    }
}

impl Jwk {
    /// Takes an uncompressed point on a curve; `None` for anything else.
    pub fn from_uncompressed(curve: Curve, point: &[u8]) -> Option<Jwk> {
        let length = curve.coordinate_bytes();
        let coordinates = point.strip_prefix(&[4]).filter(|rest| rest.len() == 2 * length)?;
        let (x, y) = coordinates.split_at(length);
        Some(Jwk::Ec { curve, x: base64url(x), y: base64url(y) })
    }

    /// Returns the algorithm that such a key signs with (RFC 7518 §3.1, RFC 8037 §3.1).
    pub fn algorithm(&self) -> &'static str {
        match self {
            Jwk::Ec { curve: Curve::P256, .. } => "ES256",
            Jwk::Ec { curve: Curve::P384, .. } => "ES384",
            Jwk::Rsa { .. } => "RS256",
            Jwk::Ed25519 { .. } => "EdDSA",
        }
    }

    /// Returns the key as JSON, with the members that RFC 7638 counts.
    pub fn to_json(&self) -> Value {
        match self {
            Jwk::Ec { curve, x, y } => json!({ "crv": curve.as_str(), "kty": "EC", "x": x, "y": y }),
            Jwk::Rsa { n, e } => json!({ "e": e, "kty": "RSA", "n": n }),
            Jwk::Ed25519 { x } => json!({ "crv": "Ed25519", "kty": "OKP", "x": x }),
        }
    }

    /// Returns the thumbprint (RFC 7638 §3), base64url.
    pub fn thumbprint(&self) -> String {
        // The members in lexicographic order and without white space, as §3.3 wants.
        let canonical = match self {
            Jwk::Ec { curve, x, y } => {
                format!(r#"{{"crv":"{}","kty":"EC","x":"{x}","y":"{y}"}}"#, curve.as_str())
            }
            Jwk::Rsa { n, e } => format!(r#"{{"e":"{e}","kty":"RSA","n":"{n}"}}"#),
            Jwk::Ed25519 { x } => format!(r#"{{"crv":"Ed25519","kty":"OKP","x":"{x}"}}"#),
        };
        base64url(Sha256::digest(canonical))
    }
}

/// Who signs a request.
#[derive(Debug, Clone, Copy)]
pub struct Signer<'s> {
    /// The public half of the key.
    pub jwk: &'s Jwk,
    /// The account's URL (RFC 8555 §6.2: `kid`); without one the key stands for itself.
    pub account: Option<&'s str>,
}

/// What a request carries.
#[derive(Debug, Clone, PartialEq)]
pub enum Payload {
    /// A JSON object.
    Json(Value),
    /// Nothing: the request only reads (RFC 8555 §6.3).
    PostAsGet,
}

/// The MACs of external account bindings (RFC 7518 §3.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum MacAlgorithm {
    #[default]
    Hs256,
    Hs384,
    Hs512,
}

impl MacAlgorithm {
    /// Returns the name that a JWS carries.
    pub fn as_str(self) -> &'static str {
        match self {
            MacAlgorithm::Hs256 => "HS256",
            MacAlgorithm::Hs384 => "HS384",
            MacAlgorithm::Hs512 => "HS512",
        }
    }
}

/// A request that still has to be signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsigned {
    protected: String,
    payload: String,
}

impl Unsigned {
    /// Makes a request to `url` with a nonce that the authority gave.
    pub fn request(signer: Signer<'_>, nonce: &str, url: &str, payload: &Payload) -> Unsigned {
        let mut protected = json!({ "alg": signer.jwk.algorithm(), "nonce": nonce, "url": url });
        match signer.account {
            None => protected["jwk"] = signer.jwk.to_json(),
            Some(kid) => protected["kid"] = kid.into(),
        }
        let payload = match payload {
            Payload::Json(value) => base64url(value.to_string()),
            Payload::PostAsGet => String::new(),
        };
        Unsigned { protected: base64url(protected.to_string()), payload }
    }

    /// Makes the binding of an account key to an external account, to be signed with
    /// the MAC (RFC 8555 §7.3.4).
    pub fn external_binding(algorithm: MacAlgorithm, external_id: &str, url: &str, account: &Jwk) -> Unsigned {
        let protected = json!({ "alg": algorithm.as_str(), "kid": external_id, "url": url });
        Unsigned { protected: base64url(protected.to_string()), payload: base64url(account.to_json().to_string()) }
    }

    /// Makes the inner request of a key change, to be signed with the new key
    /// (RFC 8555 §7.3.5); the old key then signs a request that carries it.
    pub fn key_change(new: &Jwk, url: &str, account: &str, old: &Jwk) -> Unsigned {
        let protected = json!({ "alg": new.algorithm(), "jwk": new.to_json(), "url": url });
        let payload = json!({ "account": account, "oldKey": old.to_json() });
        Unsigned { protected: base64url(protected.to_string()), payload: base64url(payload.to_string()) }
    }

    /// Returns the bytes to sign (RFC 7515 §5.1).
    pub fn to_sign(&self) -> Vec<u8> {
        format!("{}.{}", self.protected, self.payload).into_bytes()
    }

    /// Returns the signed request.
    pub fn signed(self, signature: &[u8]) -> Value {
        json!({ "protected": self.protected, "payload": self.payload, "signature": base64url(signature) })
    }
}

/// Returns the text of the TXT record that answers a dns-01 challenge (RFC 8555 §8.4).
pub fn dns01_text(token: &str, thumbprint: &str) -> String {
    base64url(Sha256::digest(format!("{token}.{thumbprint}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thumbprints_and_the_challenge_text_agree_with_an_independent_computation() {
        // Coordinates of RFC 7515 appendix A.3; both digests computed with openssl.
        let jwk = Jwk::Ec {
            curve: Curve::P256,
            x: "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU".into(),
            y: "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0".into(),
        };
        assert_eq!(jwk.thumbprint(), "oKIywvGUpTVTyxMQ3bwIIeQUudfr_CkLMjCE19ECD-U");
        assert_eq!(
            dns01_text("evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA", &jwk.thumbprint()),
            "ZaJgFtIV4WA0t2MzN7kbSk0sfRd2GZjaxRqaSTAK6lI"
        );
        // RFC 8037 appendix A.3.
        let jwk = Jwk::Ed25519 { x: "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo".into() };
        assert_eq!(jwk.thumbprint(), "kPrK_qmxVWaYVA9wwBF6Iuo3vVzz7TxHCTwXBygrS4k");
        // RFC 7638 §3.1.
        let n = "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw";
        let jwk = Jwk::Rsa { n: n.into(), e: "AQAB".into() };
        assert_eq!(jwk.thumbprint(), "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs");
    }

    /// Reads one part of a signed request.
    fn part(request: &Value, part: &str) -> Value {
        let text = request[part].as_str().unwrap();
        serde_json::from_slice(&URL_SAFE_NO_PAD.decode(text).unwrap()).unwrap()
    }

    #[test]
    fn a_request_says_who_signs_it_and_what_for_and_is_signed_over_both() {
        let url = "https://a.example/order";
        let old = Jwk::Ec { curve: Curve::P384, x: "x".into(), y: "y".into() };
        let new = Jwk::Rsa { n: "n".into(), e: "AQAB".into() };
        let account = "https://a.example/account/1";
        let payload = Payload::Json(json!({ "status": "deactivated" }));

        // RFC 8555 §6.2: an account's URL stands for its key, never beside it.
        let by_account = Signer { jwk: &old, account: Some(account) };
        let unsigned = Unsigned::request(by_account, "nonce", url, &payload);
        let signed_over = String::from_utf8(unsigned.to_sign()).unwrap();
        let request = unsigned.signed(b"signature");
        assert_eq!(
            signed_over,
            format!("{}.{}", request["protected"].as_str().unwrap(), request["payload"].as_str().unwrap())
        );
        assert_eq!(
            part(&request, "protected"),
            json!({ "alg": "ES384", "kid": account, "nonce": "nonce", "url": url })
        );
        assert_eq!(part(&request, "payload"), json!({ "status": "deactivated" }));
        assert_eq!(request["signature"], base64url("signature"));

        // §6.3: a request that only reads carries nothing at all.
        let by_key = Signer { jwk: &new, account: None };
        let request = Unsigned::request(by_key, "nonce", url, &Payload::PostAsGet).signed(b"");
        let jwk = json!({ "kty": "RSA", "n": "n", "e": "AQAB" });
        assert_eq!(part(&request, "protected"), json!({ "alg": "RS256", "jwk": jwk, "nonce": "nonce", "url": url }));
        assert_eq!(request["payload"], "");

        // §7.3.5: the new key signs for the change, which names the old one and has no nonce.
        let request = Unsigned::key_change(&new, url, account, &old).signed(b"");
        assert_eq!(part(&request, "protected"), json!({ "alg": "RS256", "jwk": jwk, "url": url }));
        let old = json!({ "kty": "EC", "crv": "P-384", "x": "x", "y": "y" });
        assert_eq!(part(&request, "payload"), json!({ "account": account, "oldKey": old }));

        // §7.3.4: the MAC covers the account's key.
        for (algorithm, name) in
            [(MacAlgorithm::Hs256, "HS256"), (MacAlgorithm::Hs384, "HS384"), (MacAlgorithm::Hs512, "HS512")]
        {
            let request = Unsigned::external_binding(algorithm, "observatory-1", url, &new).signed(b"");
            assert_eq!(part(&request, "protected"), json!({ "alg": name, "kid": "observatory-1", "url": url }));
            assert_eq!(part(&request, "payload"), jwk);
        }
    }

    #[test]
    fn a_point_of_another_form_is_no_key() {
        assert!(Jwk::from_uncompressed(Curve::P256, &[4; 65]).is_some());
        for point in [&[4u8; 64][..], &[2; 33], &[5; 65], &[4; 97], &[]] {
            assert!(Jwk::from_uncompressed(Curve::P256, point).is_none());
        }
    }
}
