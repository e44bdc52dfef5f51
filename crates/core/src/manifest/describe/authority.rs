//! `[authority.NAME]`.

use super::{Key, Kind, TEXTS, Table};
use crate::certificates::budget::LONGEST_WITHIN_SECS;

/// The kinds of key that accounts may have.
const ACCOUNT_KEYS: &[&str] = &["ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", "rsa-4096", "ed25519"];
/// The kinds of MAC that an external account key may be of.
pub(super) const MACS: &[&str] = &["hmac-sha256", "hmac-sha384", "hmac-sha512"];

pub(super) static AUTHORITY: Table = Table {
    name: "authority",
    keys: &[
        Key::new("directory", Kind::Url, "the ACME directory (https)").needed(),
        Key::new("agree_to_terms", Kind::Agreed, "`true`: you have read its terms of service").needed(),
        Key::new("contact", TEXTS, "list of `mailto:` addresses").matching("^mailto:"),
        Key::new("api_roots", Kind::Path, "PEM file of roots for the authority's own HTTPS, besides the system's")
            .default("the system's"),
        Key::new("issued_roots", Kind::Path, "PEM file of roots where its certificates must end")
            .default("the system's"),
        Key::new(
            "external_account_key",
            Kind::Table(&EXTERNAL_ACCOUNT_KEY),
            "`{ id, secret, algorithm }`: the external account that it asks for",
        ),
        Key::new(
            "account_key",
            Kind::Word(ACCOUNT_KEYS),
            "the kind of key that an account is opened with, and that `account change-key` gives it",
        )
        .default("`\"ecdsa-p256\"`"),
        Key::new(
            "rehearsal",
            Kind::Text,
            "the name of another authority, for practice: a new set-up is proven there first",
        ),
        Key::new(
            "limits",
            Kind::List(&Kind::Table(&LIMIT), 0..=usize::MAX),
            "list of `{ count, of, per, within, reserve }`, see below",
        ),
        Key::new("profile", Kind::Text, "the certificate profile that is ordered").default("the authority's usual one"),
        Key::new("chain_root", Kind::Text, "the common name of the root that chains should lead to")
            .default("the chain that the authority gives first"),
        Key::new(
            "at_once",
            Kind::Number(1..=64),
            "how many requests it is sent at once; a small authority stalls under many",
        )
        .default("`8`"),
        Key::new(
            "caa_identities",
            TEXTS,
            "the names by which CAA records call it, such as `[\"authority.example\"]`, where its directory says none: without either, CAA records cannot be checked beforehand",
        )
        .default("the directory's"),
    ],
};

static EXTERNAL_ACCOUNT_KEY: Table = Table {
    name: "external_account_key",
    keys: &[
        Key::new("id", Kind::Text, "its id, as the authority gave it").needed(),
        Key::new("secret", Kind::Secret, "where its secret is, in base64url").needed(),
        Key::new("algorithm", Kind::Word(MACS), "its MAC").default("`\"hmac-sha256\"`"),
    ],
};

static LIMIT: Table = Table {
    name: "limit",
    keys: &[
        Key::new("count", Kind::Number(1..=1_000_000), "how many there may be").needed(),
        Key::new("of", Kind::Word(&["failed-validation", "order", "certificate"]), "what is counted").needed(),
        Key::new(
            "per",
            Kind::Word(&["hostname", "registered-domain", "names", "account"]),
            "for what: `\"hostname\"`, `\"registered-domain\"` (one label below a public suffix), `\"names\"` (the same set of names) or `\"account\"`",
        )
        .needed(),
        Key::new("within", Kind::Duration(1..=LONGEST_WITHIN_SECS), "the span that is looked back").needed(),
        Key::new("reserve", Kind::Number(0..=1_000_000), "how many of them only renewals may use")
            .default("a tenth, none of failed validations"),
    ],
};
