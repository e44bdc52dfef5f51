//! The manifest itself, and its tables that have no name.

use super::authority::AUTHORITY;
use super::certificate::{CERTIFICATE, KEYS};
use super::endpoint::ENDPOINT;
use super::health::HEALTH;
use super::hostname::HOSTNAME;
use super::zone::ZONE;
use super::{DURATION, Key, Kind, RENEW, TEXTS, Table};

pub(in crate::manifest) static MANIFEST: Table = Table {
    name: "manifest",
    keys: &[
        Key::new("manifest", Kind::Version, "the version of the manifest: `1`").needed(),
        Key::new(
            "include",
            TEXTS,
            "list of further files, with `*` for any part of a name (`[\"stations/*.toml\"]`), relative to the manifest's folder",
        ),
        Key::new(
            "values",
            Kind::Map(&Kind::Text),
            "what `${NAME}` stands for in the strings and table names of the manifest",
        ),
        Key::new("defaults", Kind::Table(&DEFAULTS), "what holds where other tables say nothing"),
        Key::new("authority", Kind::Named(&AUTHORITY), "authorities"),
        Key::new("zone", Kind::Named(&ZONE), "zones"),
        Key::new("endpoint", Kind::Named(&ENDPOINT), "endpoints"),
        Key::new("health", Kind::Named(&HEALTH), "health checks of what endpoints depend on"),
        Key::new("certificate", Kind::Named(&CERTIFICATE), "certificates that are declared by themselves"),
        Key::new("hostname", Kind::Named(&HOSTNAME), "the custom hostnames"),
        Key::new("keep", Kind::Table(&KEEP), "how `pindrel keep` goes about it"),
    ],
};

static DEFAULTS: Table = Table {
    name: "defaults",
    keys: &[
        Key::new("authority", Kind::Text, "the authority for certificates that name none").default("the only one"),
        Key::new("endpoint", Kind::Text, "the endpoint of hostnames that name none"),
        Key::new("ttl", DURATION, "the TTL of alias records").default("`10m`"),
        Key::new("key", Kind::Word(KEYS), "the kind of key of certificates that say none").default("`\"ecdsa-p256\"`"),
        Key::new(
            "renew",
            RENEW,
            "how long before it expires a certificate without a `renew` of its own is renewed, unless the authority sends renewal information",
        )
        .default("by share of their life"),
        Key::new(
            "former_keys",
            DURATION,
            "how long the keys of certificates that another has replaced are kept, for a revocation with them; then they are wiped from the state",
        )
        .default("until the certificate has expired"),
    ],
};

static KEEP: Table = Table {
    name: "keep",
    keys: &[
        Key::new(
            "look_every",
            Kind::Duration(60..=u64::MAX),
            "how often `keep` looks at every hostname; spread evenly",
        )
        .default("`1h`"),
        Key::new(
            "listen",
            Kind::Text,
            "the `\"ADDRESS:PORT\"` where `keep` says how everything is, on this machine alone ([monitoring](monitoring.md))",
        )
        .default("nowhere"),
    ],
};
