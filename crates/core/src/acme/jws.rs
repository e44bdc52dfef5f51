//! Signed requests: flattened JSON Web Signatures (RFC 7515, RFC 8555 §6.2).

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};

/// Encodes bytes as RFC 8555 does everywhere: base64url without padding.
pub fn base64url(bytes: impl AsRef<[u8]>) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

/// The public half of an account key (RFC 7517), on the curve P-256.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Jwk {
    /// The x coordinate, base64url.
    pub x: String,
    /// The y coordinate, base64url.
    pub y: String,
}

impl Jwk {
    /// Takes an uncompressed point of 65 bytes; `None` for anything else.
    pub fn from_uncompressed(point: &[u8]) -> Option<Jwk> {
        let coordinates = point.strip_prefix(&[4]).filter(|rest| rest.len() == 64)?;
        let (x, y) = coordinates.split_at(32);
        Some(Jwk { x: base64url(x), y: base64url(y) })
    }

    /// Returns the key as JSON, with the members that RFC 7638 counts.
    pub fn to_json(&self) -> Value {
        json!({ "crv": "P-256", "kty": "EC", "x": self.x, "y": self.y })
    }

    /// Returns the thumbprint (RFC 7638 §3), base64url.
    pub fn thumbprint(&self) -> String {
        // The members in lexicographic order and without white space, as §3.3 wants.
        let canonical = format!(r#"{{"crv":"P-256","kty":"EC","x":"{}","y":"{}"}}"#, self.x, self.y);
        base64url(Sha256::digest(canonical))
    }
}

/// Who signs a request.
#[derive(Debug, Clone, Copy)]
pub enum Signer<'s> {
    /// A key that has no account yet (RFC 8555 §6.2: `jwk`).
    Key(&'s Jwk),
    /// An account, by its URL (`kid`).
    Account(&'s str),
}

/// What a request carries.
#[derive(Debug, Clone, PartialEq)]
pub enum Payload {
    /// A JSON object.
    Json(Value),
    /// Nothing: the request only reads (RFC 8555 §6.3).
    PostAsGet,
}

/// A request that still has to be signed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsigned {
    protected: String,
    payload: String,
}

impl Unsigned {
    /// Makes an ES256 request to `url` with a nonce that the authority gave.
    pub fn request(signer: Signer<'_>, nonce: &str, url: &str, payload: &Payload) -> Unsigned {
        let mut protected = json!({ "alg": "ES256", "nonce": nonce, "url": url });
        match signer {
            Signer::Key(jwk) => protected["jwk"] = jwk.to_json(),
            Signer::Account(kid) => protected["kid"] = kid.into(),
        }
        let payload = match payload {
            Payload::Json(value) => base64url(value.to_string()),
            Payload::PostAsGet => String::new(),
        };
        Unsigned { protected: base64url(protected.to_string()), payload }
    }

    /// Makes the binding of an account key to an external account, to be signed with
    /// HMAC-SHA-256 (RFC 8555 §7.3.4).
    pub fn external_binding(external_id: &str, url: &str, account: &Jwk) -> Unsigned {
        let protected = json!({ "alg": "HS256", "kid": external_id, "url": url });
        Unsigned { protected: base64url(protected.to_string()), payload: base64url(account.to_json().to_string()) }
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
    fn thumbprint_and_challenge_text_agree_with_an_independent_computation() {
        // Coordinates of RFC 7515 appendix A.3; both digests computed with openssl.
        let jwk = Jwk {
            x: "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU".into(),
            y: "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0".into(),
        };
        assert_eq!(jwk.thumbprint(), "oKIywvGUpTVTyxMQ3bwIIeQUudfr_CkLMjCE19ECD-U");
        assert_eq!(
            dns01_text("evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA", &jwk.thumbprint()),
            "ZaJgFtIV4WA0t2MzN7kbSk0sfRd2GZjaxRqaSTAK6lI"
        );
    }

    #[test]
    fn a_point_of_another_form_is_no_key() {
        assert!(Jwk::from_uncompressed(&[4; 65]).is_some());
        for point in [&[4u8; 64][..], &[2; 33], &[5; 65], &[]] {
            assert!(Jwk::from_uncompressed(point).is_none());
        }
    }
}
