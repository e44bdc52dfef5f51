//! `[certificate.NAME]`.

use super::{Key, Kind, RENEW, SOME_TEXTS, TEXTS, Table};
use crate::manifest::MOST_NAMES;

/// The kinds of key that certificates may have.
pub(super) const KEYS: &[&str] = &["ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", "rsa-4096"];

pub(super) static CERTIFICATE: Table = Table {
    name: "certificate",
    keys: &[
        Key::new(
            "names",
            Kind::List(&Kind::Text, 1..=MOST_NAMES),
            "the names it covers; a wildcard does not cover its base name",
        )
        .needed(),
        Key::new("key", Kind::Word(KEYS), "the kind of its key").default("`[defaults]`"),
        Key::new(
            "reuse_key",
            Kind::Truth,
            "`true`: a renewed certificate keeps its key, unless that was compromised",
        )
        .default("`false`"),
        Key::new("authority", Kind::Text, "where it is issued").default("`[defaults]`"),
        Key::new(
            "issued_by",
            Kind::Word(&["authority", "elsewhere", "self", "platform"]),
            "`\"authority\"`; `\"elsewhere\"` for one that another issuer makes and that is imported; `\"self\"` for a self-signed one, for a first bring-up; `\"platform\"` where the endpoint's platform issues and renews it and keeps the key",
        )
        .default("`\"authority\"`"),
        Key::new(
            "issued_roots",
            Kind::Path,
            "for one that is issued elsewhere or by a platform: PEM file of roots where it must end",
        )
        .default("the system's"),
        Key::new("renew", RENEW, "how long before it expires it is renewed, unless the authority sends renewal information")
            .default("`[defaults]`"),
        Key::new("profile", Kind::Text, "as in the authority's table").default("the authority's"),
        Key::new("chain_root", Kind::Text, "as in the authority's table").default("the authority's"),
        Key::new(
            "deliver",
            Kind::List(&Kind::Table(&DELIVER), 0..=usize::MAX),
            "list of files that it is written to, see below",
        ),
        Key::new(
            "after",
            Kind::List(&Kind::Table(&AFTER), 0..=usize::MAX),
            "list of `{ run, within }`: what is run once a file was written, also where one was only repaired",
        ),
        Key::new(
            "served_at",
            TEXTS,
            "list of `address:port`: the certificate is held once each of these serves it over TLS; without it, it counts as held and \"not verified\" once it is delivered",
        ),
        Key::new("labels", TEXTS, "as for hostnames"),
        Key::new("note", Kind::Text, "as for hostnames"),
    ],
};

static DELIVER: Table = Table {
    name: "deliver",
    keys: &[
        Key::new("file", Kind::Path, "the file; its folder must exist").needed(),
        Key::new(
            "holds",
            Kind::List(&Kind::Word(&["key", "leaf", "intermediates", "pkcs12"]), 1..=usize::MAX),
            "pieces in PEM in this order: `\"key\"`, `\"leaf\"`, `\"intermediates\"`; or `[\"pkcs12\"]` alone: key and chain under AES-256",
        )
        .needed(),
        Key::new("mode", Kind::Text, "permission bits, such as `\"0640\"`")
            .default("`\"0600\"` with a key in it, else `\"0644\"`")
            .matching("^0?[0-7]{3}$"),
        Key::new("owner", Kind::Text, "whom it belongs to").default("whoever runs Pindrel"),
        Key::new("group", Kind::Text, "whom it belongs to").default("whoever runs Pindrel"),
        Key::new("password", Kind::Secret, "where the password of a PKCS#12 file is").default("required for `pkcs12`"),
    ],
};

pub(in crate::manifest) static AFTER: Table = Table {
    name: "after",
    keys: &[
        Key::new("run", SOME_TEXTS, "the program and its arguments").needed(),
        Key::new("within", Kind::Duration(1..=3_600), "how long it may take").default("`5m`"),
    ],
};
