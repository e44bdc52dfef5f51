//! `[health.NAME]`, and `health` of endpoints and hostnames.

use super::{Key, Kind, SOME_TEXTS, Table};

/// How often a check may be made, in seconds.
const EVERY: Kind = Kind::Duration(1..=86_400);
/// How many results in a row may make a verdict.
const TIMES: Kind = Kind::Number(1..=100);

const EVERY_KEY: Key =
    Key::new("every", EVERY, "from the start of one check to the start of the next").default("`20s`");
const TIMEOUT_KEY: Key =
    Key::new("timeout", Kind::Duration(1..=86_400), "how long one may take; no longer than `every`")
        .default("`5s`, or `every`");
const DOWN_AFTER_KEY: Key = Key::new("down_after", TIMES, "how many failures in a row make it down").default("`3`");
const DOWN_WHEN_KEY: Key = Key::new(
    "down_when",
    Kind::Table(&DOWN_WHEN),
    "`{ failed, of }`: how many failures among the last results make it down as well, in whatever order",
);
const UP_AFTER_KEY: Key = Key::new("up_after", TIMES, "how many successes in a row make it up").default("`2`");
const EXPECT_KEY: Key =
    Key::new("expect", Kind::Table(&HEALTH_EXPECT), "`{ status, body, header }`: what a response must be like")
        .default("status `200-299`");
const METHOD_KEY: Key =
    Key::new("method", Kind::Word(&["GET", "HEAD", "OPTIONS", "POST"]), "how it is asked for").default("`\"GET\"`");
const HEADERS_KEY: Key =
    Key::new("headers", Kind::Map(&Kind::Text), "header fields that are sent besides; none that hold a credential");
const SEND_KEY: Key = Key::new("send", Kind::Text, "the body of a `POST`").default("empty");
const VERIFY_KEY: Key = Key::new("verify", Kind::Truth, "whether the certificate is verified").default("`true`");
const ROOTS_KEY: Key = Key::new("roots", Kind::Path, "PEM file of the roots where the certificate must end")
    .default("those of whoever issues the name's certificate");
const LABEL_KEY: Key = Key::new("label", Kind::Text, "the label that a wildcard is asked under").default("`probe_as`");

/// The kinds of checks that are made over time; a combination is not.
const TIMED: &[&str] = &["tcp", "tls", "url", "dns", "program"];
const REQUESTED: &[&str] = &["url"];
const OVER_TLS: &[&str] = &["tls", "url"];

pub(in crate::manifest) static HEALTH: Table = Table {
    name: "health",
    keys: &[
        Key::new("tcp", Kind::Text, "a host and a port that must take a connection").default("one of these six"),
        Key::new("tls", Kind::Text, "a host and a port whose certificate must verify").default("–"),
        Key::new("url", Kind::Text, "a URL that must be answered as expected").default("–"),
        Key::new(
            "dns",
            Kind::Table(&DNS_CHECK),
            "`{ server, name }`: a name server that must be authoritative for a name",
        )
        .default("–"),
        Key::new(
            "program",
            SOME_TEXTS,
            "a program and its arguments, run in the manifest's folder with a clean environment, that must end with 0",
        )
        .default("–"),
        Key::new(
            "of",
            SOME_TEXTS,
            "the names of other checks, that is of endpoints that have one, and of `[health.NAME]`",
        )
        .default("–"),
        Key::new(
            "need",
            Kind::Either(&[Kind::Word(&["all", "any"]), Kind::Number(1..=u32::MAX)]),
            "how many must be up: `\"all\"`, `\"any\"` or a number",
        )
        .of(&["of"])
        .default("`\"all\"`"),
        Key::new("name", Kind::Text, "the name that is sent as SNI and that the certificate must cover")
            .of(&["tls"])
            .default("the host"),
        Key::new("days_left", Kind::Number(0..=3_650), "for how many days the certificate must still be valid")
            .of(&["tls"])
            .default("`0`"),
        EVERY_KEY.of(TIMED),
        TIMEOUT_KEY.of(TIMED),
        DOWN_AFTER_KEY.of(TIMED),
        DOWN_WHEN_KEY.of(TIMED),
        UP_AFTER_KEY.of(TIMED),
        EXPECT_KEY.of(REQUESTED),
        METHOD_KEY.of(REQUESTED),
        HEADERS_KEY.of(REQUESTED),
        SEND_KEY.of(REQUESTED),
        VERIFY_KEY.of(OVER_TLS),
        ROOTS_KEY.of(OVER_TLS),
    ],
};

pub(in crate::manifest) static ENDPOINT_HEALTH: Table = Table {
    name: "endpoint_health",
    keys: &[
        Key::new("url", Kind::Text, "the URL that is asked for").default("`path` at the endpoint's port"),
        Key::new("path", Kind::Text, "the path that is asked for, at the endpoint's own port over HTTPS")
            .default("`/`"),
        EVERY_KEY,
        TIMEOUT_KEY,
        DOWN_AFTER_KEY,
        DOWN_WHEN_KEY,
        UP_AFTER_KEY,
        EXPECT_KEY,
        METHOD_KEY,
        HEADERS_KEY,
        SEND_KEY,
        VERIFY_KEY,
        ROOTS_KEY,
        LABEL_KEY,
    ],
};

pub(in crate::manifest) static HEALTH_TERMS: Table = Table {
    name: "health_terms",
    keys: &[
        EVERY_KEY,
        TIMEOUT_KEY,
        DOWN_AFTER_KEY,
        DOWN_WHEN_KEY,
        UP_AFTER_KEY,
        EXPECT_KEY,
        METHOD_KEY,
        HEADERS_KEY,
        SEND_KEY,
        VERIFY_KEY,
        ROOTS_KEY,
        LABEL_KEY,
    ],
};

pub(in crate::manifest) static DOWN_WHEN: Table = Table {
    name: "down_when",
    keys: &[
        Key::new("failed", Kind::Number(1..=64), "how many have failed").needed(),
        Key::new("of", Kind::Number(1..=64), "of the last how many").needed(),
    ],
};

static HEALTH_EXPECT: Table = Table {
    name: "health_expect",
    keys: &[
        Key::new("status", Kind::Text, "a status or a range, as in `\"200\"` or `\"200-299\"`")
            .default("`\"200-299\"`")
            .matching("^[1-5][0-9]{2}(-[1-5][0-9]{2})?$"),
        Key::new("body", Kind::Text, "a text in the first 256 KiB of the body"),
        Key::new("header", Kind::Text, "a header field, perhaps with its value, as in `\"x-ready: yes\"`"),
    ],
};

static DNS_CHECK: Table = Table {
    name: "dns_check",
    keys: &[
        Key::new("server", Kind::Text, "the address of the name server").needed(),
        Key::new("name", Kind::Text, "the name that it must be authoritative for").needed(),
    ],
};
