//! Account keys: ES256, ES384, RS256 (RFC 7518 §3) and Ed25519 (RFC 8037).

use aws_lc_rs::encoding::{AsBigEndian as _, AsDer as _, Pkcs8V1Der};
use aws_lc_rs::hmac;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::{KeyPair as RsaKeyPair, KeySize};
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_FIXED_SIGNING, ECDSA_P384_SHA384_FIXED_SIGNING, EcdsaKeyPair, EcdsaSigningAlgorithm,
    Ed25519KeyPair, KeyPair as _, RSA_PKCS1_SHA256,
};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use pindrel_core::certificates::acme::jws::{Curve, Jwk, MacAlgorithm, base64url};
use pindrel_core::values::KeyKind;
use pkcs1::UintRef;
use pkcs1::der::{Decode as _, Encode as _};
use rustls_pki_types::PrivateKeyDer;
use rustls_pki_types::pem::PemObject as _;
use secrecy::{ExposeSecret, SecretSlice, SecretString};
use serde_json::Value;
use zeroize::Zeroizing;

use crate::KeyError;

/// The key of an account at an authority.
#[derive(Debug)]
pub struct AccountKey {
    pair: Pair,
    kind: KeyKind,
    jwk: Jwk,
    pkcs8: SecretSlice<u8>,
}

#[derive(Debug)]
enum Pair {
    Ec(EcdsaKeyPair),
    Rsa(RsaKeyPair),
    Ed25519(Ed25519KeyPair),
}

/// The curves with how they sign.
const CURVES: [(Curve, KeyKind, &EcdsaSigningAlgorithm); 2] = [
    (Curve::P256, KeyKind::EcdsaP256, &ECDSA_P256_SHA256_FIXED_SIGNING),
    (Curve::P384, KeyKind::EcdsaP384, &ECDSA_P384_SHA384_FIXED_SIGNING),
];

impl AccountKey {
    /// Makes a new key.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system returned no random bytes.
    pub fn generate(kind: KeyKind) -> Result<AccountKey, KeyError> {
        let failed = |_| KeyError::Failed("make an account key");
        let random = SystemRandom::new();
        let rsa = |size| -> Result<AccountKey, KeyError> {
            let pair = RsaKeyPair::generate(size).map_err(failed)?;
            let der: Pkcs8V1Der<'_> = pair.as_der().map_err(failed)?;
            AccountKey::from_pkcs8(der.as_ref())
        };
        match kind {
            KeyKind::EcdsaP256 | KeyKind::EcdsaP384 => {
                let (_, _, algorithm) = CURVES[usize::from(kind == KeyKind::EcdsaP384)];
                let pkcs8 = EcdsaKeyPair::generate_pkcs8(algorithm, &random).map_err(failed)?;
                AccountKey::from_pkcs8(pkcs8.as_ref())
            }
            KeyKind::Rsa2048 => rsa(KeySize::Rsa2048),
            KeyKind::Rsa3072 => rsa(KeySize::Rsa3072),
            KeyKind::Rsa4096 => rsa(KeySize::Rsa4096),
            KeyKind::Ed25519 => {
                let pkcs8 = Ed25519KeyPair::generate_pkcs8(&random).map_err(failed)?;
                AccountKey::from_pkcs8(pkcs8.as_ref())
            }
        }
    }

    /// Reads a key in PKCS#8 DER.
    ///
    /// # Errors
    /// [`KeyError::Unreadable`] when it is no key that can sign for an account.
    pub fn from_pkcs8(der: &[u8]) -> Result<AccountKey, KeyError> {
        let pkcs8 = || SecretSlice::from(der.to_vec());
        for (curve, kind, algorithm) in CURVES {
            if let Ok(pair) = EcdsaKeyPair::from_pkcs8(algorithm, der) {
                let jwk = Jwk::from_uncompressed(curve, pair.public_key().as_ref()).ok_or(KeyError::Unreadable)?;
                return Ok(AccountKey { pair: Pair::Ec(pair), kind, jwk, pkcs8: pkcs8() });
            }
        }
        if let Ok(pair) = Ed25519KeyPair::from_pkcs8_maybe_unchecked(der) {
            let jwk = Jwk::Ed25519 { x: base64url(pair.public_key().as_ref()) };
            return Ok(AccountKey { pair: Pair::Ed25519(pair), kind: KeyKind::Ed25519, jwk, pkcs8: pkcs8() });
        }
        let pair = RsaKeyPair::from_pkcs8(der).map_err(|_| KeyError::Unreadable)?;
        let kind = match pair.public_modulus_len() {
            256 => KeyKind::Rsa2048,
            384 => KeyKind::Rsa3072,
            512 => KeyKind::Rsa4096,
            _ => return Err(KeyError::Unreadable),
        };
        let public = pkcs1::RsaPublicKeyRef::from_der(pair.public_key().as_ref()).map_err(|_| KeyError::Unreadable)?;
        let jwk = Jwk::Rsa { n: base64url(public.modulus.as_bytes()), e: base64url(public.public_exponent.as_bytes()) };
        Ok(AccountKey { pair: Pair::Rsa(pair), kind, jwk, pkcs8: pkcs8() })
    }

    /// Reads a private key from text: PEM (PKCS#8, PKCS#1 or SEC 1) or a JWK (RFC 7517).
    ///
    /// # Errors
    /// [`KeyError::Foreign`] says what is wrong with it.
    pub fn from_text(text: &SecretString) -> Result<AccountKey, KeyError> {
        let text = text.expose_secret().trim();
        if text.starts_with('{') { from_jwk(text) } else { from_pem(text) }
    }

    /// Returns the public half.
    pub fn jwk(&self) -> &Jwk {
        &self.jwk
    }

    /// Returns the kind.
    pub fn kind(&self) -> KeyKind {
        self.kind
    }

    /// Returns the key in PKCS#8 DER, to be sealed.
    pub fn pkcs8(&self) -> &[u8] {
        self.pkcs8.expose_secret()
    }

    /// Returns the key in PEM (RFC 7468 §10).
    pub fn pem(&self) -> SecretString {
        crate::pem::encode("PRIVATE KEY", self.pkcs8()).into()
    }

    /// Returns the private key as a JWK.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the library does not give it away.
    pub fn private_jwk(&self) -> Result<SecretString, KeyError> {
        let failed = || KeyError::Failed("take the key out");
        let mut jwk = self.jwk.to_json();
        match &self.pair {
            Pair::Ec(pair) => {
                let private = pair.private_key().as_be_bytes().map_err(|_| failed())?;
                jwk["d"] = base64url(private.as_ref()).into();
            }
            Pair::Ed25519(pair) => {
                let seed = pair.seed().and_then(|seed| seed.as_be_bytes()).map_err(|_| failed())?;
                jwk["d"] = base64url(seed.as_ref()).into();
            }
            Pair::Rsa(_) => {
                let info = pkcs8::PrivateKeyInfoRef::try_from(self.pkcs8()).map_err(|_| failed())?;
                let key = pkcs1::RsaPrivateKeyRef::from_der(info.private_key.as_bytes()).map_err(|_| failed())?;
                let parts =
                    [key.private_exponent, key.prime1, key.prime2, key.exponent1, key.exponent2, key.coefficient];
                for (member, part) in RSA_PRIVATE.into_iter().zip(parts) {
                    jwk[member] = base64url(part.as_bytes()).into();
                }
            }
        }
        Ok(jwk.to_string().into())
    }

    /// Signs with the algorithm that the key's JWK names.
    ///
    /// # Errors
    /// [`KeyError::Failed`] when the system returned no random bytes.
    pub fn sign(&self, message: &[u8]) -> Result<Vec<u8>, KeyError> {
        let failed = |_| KeyError::Failed("sign a request");
        let random = SystemRandom::new();
        match &self.pair {
            Pair::Ec(pair) => Ok(pair.sign(&random, message).map_err(failed)?.as_ref().to_vec()),
            Pair::Ed25519(pair) => Ok(pair.try_sign(message).map_err(failed)?.as_ref().to_vec()),
            Pair::Rsa(pair) => {
                let mut signature = vec![0; pair.public_modulus_len()];
                pair.sign(&RSA_PKCS1_SHA256, &random, message, &mut signature).map_err(failed)?;
                Ok(signature)
            }
        }
    }
}

/// The private members of an RSA JWK (RFC 7518 §6.3.2), in PKCS#1's order.
const RSA_PRIVATE: [&str; 6] = ["d", "p", "q", "dp", "dq", "qi"];

fn foreign(why: impl Into<String>) -> KeyError {
    KeyError::Foreign(why.into())
}

fn from_pem(text: &str) -> Result<AccountKey, KeyError> {
    let key = PrivateKeyDer::from_pem_slice(text.as_bytes())
        .map_err(|_| foreign("it is neither a private key in PEM nor a JWK"))?;
    from_der(&key)
}

pub(crate) fn from_der(key: &PrivateKeyDer<'_>) -> Result<AccountKey, KeyError> {
    let unusable = || foreign("it is not an ECDSA (P-256, P-384), RSA (2048, 3072, 4096) or Ed25519 key");
    match key {
        PrivateKeyDer::Pkcs8(key) => AccountKey::from_pkcs8(key.secret_pkcs8_der()).map_err(|_| unusable()),
        PrivateKeyDer::Sec1(key) => {
            for (_, _, algorithm) in CURVES {
                if let Ok(pair) = EcdsaKeyPair::from_private_key_der(algorithm, key.secret_sec1_der()) {
                    let pkcs8 = pair.to_pkcs8v1().map_err(|_| unusable())?;
                    return AccountKey::from_pkcs8(pkcs8.as_ref());
                }
            }
            Err(unusable())
        }
        PrivateKeyDer::Pkcs1(key) => {
            let pair = RsaKeyPair::from_der(key.secret_pkcs1_der()).map_err(|_| unusable())?;
            let pkcs8: Pkcs8V1Der<'_> = pair.as_der().map_err(|_| unusable())?;
            AccountKey::from_pkcs8(pkcs8.as_ref())
        }
        _ => Err(unusable()),
    }
}

fn from_jwk(text: &str) -> Result<AccountKey, KeyError> {
    let jwk: Value = serde_json::from_str(text).map_err(|_| foreign("it is not JSON, and so not a JWK"))?;
    let member = |name: &str| -> Result<Zeroizing<Vec<u8>>, KeyError> {
        let text = jwk[name].as_str().ok_or_else(|| foreign(format!("the JWK has no \"{name}\"")))?;
        let bytes = URL_SAFE_NO_PAD.decode(text).map_err(|_| foreign(format!("\"{name}\" is not base64url")))?;
        Ok(Zeroizing::new(bytes))
    };
    let inconsistent = || foreign("the parts of the JWK do not belong together");
    match (jwk["kty"].as_str().unwrap_or_default(), jwk["crv"].as_str().unwrap_or_default()) {
        ("EC", name) => {
            let found = CURVES.into_iter().find(|(curve, _, _)| curve.as_str() == name);
            let (_, _, algorithm) =
                found.ok_or_else(|| foreign(format!("the curve \"{name}\" is not one of account keys")))?;
            let point = [vec![4], member("x")?.to_vec(), member("y")?.to_vec()].concat();
            let pair = EcdsaKeyPair::from_private_key_and_public_key(algorithm, &member("d")?, &point)
                .map_err(|_| inconsistent())?;
            let pkcs8 = pair.to_pkcs8v1().map_err(|_| inconsistent())?;
            AccountKey::from_pkcs8(pkcs8.as_ref())
        }
        ("OKP", "Ed25519") => {
            let pair =
                Ed25519KeyPair::from_seed_and_public_key(&member("d")?, &member("x")?).map_err(|_| inconsistent())?;
            let pkcs8 = pair.to_pkcs8v1().map_err(|_| inconsistent())?;
            AccountKey::from_pkcs8(pkcs8.as_ref())
        }
        ("RSA", _) => {
            let (n, e) = (member("n")?, member("e")?);
            let parts = RSA_PRIVATE.map(member);
            let [d, p, q, dp, dq, qi] = parts;
            let (d, p, q, dp, dq, qi) = (d?, p?, q?, dp?, dq?, qi?);
            fn uint(bytes: &[u8]) -> Result<UintRef<'_>, KeyError> {
                UintRef::new(bytes).map_err(|_| foreign("a number of the JWK is too long"))
            }
            let key = pkcs1::RsaPrivateKey {
                modulus: uint(&n)?,
                public_exponent: uint(&e)?,
                private_exponent: uint(&d)?,
                prime1: uint(&p)?,
                prime2: uint(&q)?,
                exponent1: uint(&dp)?,
                exponent2: uint(&dq)?,
                coefficient: uint(&qi)?,
                other_prime_infos: None,
            };
            let der = Zeroizing::new(key.to_der().map_err(|_| inconsistent())?);
            let pair = RsaKeyPair::from_der(&der).map_err(|_| inconsistent())?;
            let pkcs8: Pkcs8V1Der<'_> = pair.as_der().map_err(|_| inconsistent())?;
            AccountKey::from_pkcs8(pkcs8.as_ref())
        }
        (kty, _) => Err(foreign(format!("a key of type \"{kty}\" cannot sign for an account"))),
    }
}

/// Computes the MAC of an external account binding (RFC 2104).
pub fn external_mac(algorithm: MacAlgorithm, key: &[u8], message: &[u8]) -> Vec<u8> {
    let algorithm = match algorithm {
        MacAlgorithm::Hs256 => hmac::HMAC_SHA256,
        MacAlgorithm::Hs384 => hmac::HMAC_SHA384,
        MacAlgorithm::Hs512 => hmac::HMAC_SHA512,
    };
    hmac::sign(&hmac::Key::new(algorithm, key), message).as_ref().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_goes_out_and_comes_in_again_as_pem_and_as_jwk() {
        for kind in KeyKind::ALL {
            let key = AccountKey::generate(kind).unwrap();
            assert_eq!(key.kind(), kind);
            for text in [key.pem(), key.private_jwk().unwrap()] {
                let again = AccountKey::from_text(&text).unwrap();
                assert_eq!((again.kind(), again.jwk()), (kind, key.jwk()), "{kind}");
            }
            assert!(!key.sign(b"message").unwrap().is_empty());
        }
    }

    #[test]
    fn what_is_no_key_is_refused_with_a_reason() {
        let jwk = AccountKey::generate(KeyKind::EcdsaP256).unwrap().private_jwk().unwrap();
        let other = AccountKey::generate(KeyKind::EcdsaP256).unwrap();
        let mut mixed: Value = serde_json::from_str(jwk.expose_secret()).unwrap();
        mixed["x"] = other.jwk().to_json()["x"].clone();
        let table = [
            ("nothing".to_owned(), "neither a private key"),
            (mixed.to_string(), "do not belong together"),
            (r#"{"kty":"EC","crv":"P-521"}"#.into(), "the curve"),
            (r#"{"kty":"oct","k":"AA"}"#.into(), "cannot sign"),
            (other.jwk().to_json().to_string(), "has no \"d\""),
            ("{".into(), "not JSON"),
        ];
        for (text, says) in table {
            let error = AccountKey::from_text(&text.clone().into()).unwrap_err().to_string();
            assert!(error.contains(says), "{text}: {error}");
        }
    }
}
