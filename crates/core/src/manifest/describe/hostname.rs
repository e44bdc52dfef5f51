//! `[hostname."NAME"]`.

use super::health::{ENDPOINT_HEALTH, HEALTH_TERMS};
use super::{DURATION, Key, Kind, SOME_TEXTS, TEXTS, Table};

pub(super) static HOSTNAME: Table = Table {
    name: "hostname",
    keys: &[
        Key::new("endpoint", Kind::Text, "where its traffic ends").default("`[defaults]`"),
        Key::new("endpoints", SOME_TEXTS, "several endpoints, in the order of preference").default("the one"),
        Key::new(
            "policy",
            Kind::Word(&["single", "standby", "split"]),
            "`\"single\"`, `\"standby\"` (the first healthy one) or `\"split\"` (all healthy ones): see [Health](health.md#choose-a-policy)",
        )
        .default("required with several"),
        Key::new(
            "judged_by",
            Kind::Text,
            "a check that judges those endpoints whose own check it is made of, or all where it is made of none",
        )
        .default("each endpoint's own check"),
        Key::new(
            "back_after",
            DURATION,
            "how long a preferred endpoint must have been up before traffic returns to it",
        )
        .default("`5m`"),
        Key::new(
            "shares",
            Kind::Map(&Kind::Number(1..=1_000)),
            "with `split`: `{ NAME = 1, NAME = 1 }`; dynamic update cannot weigh, so all must be the same",
        )
        .default("equal"),
        Key::new(
            "health",
            Kind::Either(&[Kind::Text, Kind::Table(&ENDPOINT_HEALTH)]),
            "how each of its endpoints is checked for it: a URL, or a table, see [`[health.NAME]`](#healthname); the check is called `HOSTNAME/ENDPOINT`",
        )
        .default("the endpoint's own"),
        Key::new("health_terms", Kind::Table(&HEALTH_TERMS), "the rest of `health` where that is a URL"),
        Key::new(
            "routes",
            Kind::List(&Kind::Table(&ROUTE), 0..=usize::MAX),
            "list of `{ prefix, service, release, expect }`; a prefix ends where a segment of the path does, and the longest that matches decides",
        )
        .default("the endpoint's own service"),
        Key::new("also", TEXTS, "further names that redirect to this one; they share its certificate"),
        Key::new(
            "expect",
            Kind::Table(&EXPECT),
            "`{ path, status, body, method, origin }`: a sample request, and what it must be answered with. In a route: a further sample, of that route",
        )
        .default("the first route's prefix or `/`, `GET`, any status from 200 to 399; routes are not asked by themselves"),
        Key::new("certificate", Kind::Text, "the declared certificate to use")
            .default("a declared one that covers it, else one of its own"),
        Key::new("authority", Kind::Text, "the authority of its own certificate").default("`[defaults]`"),
        Key::new("ttl", DURATION, "the TTL of its alias record").default("`[defaults]`"),
        Key::new(
            "https_alias",
            Kind::Truth,
            "at an apex: whether an HTTPS record in AliasMode stands beside the addresses, see below",
        )
        .default("`false`"),
        Key::new("minimum_tls", Kind::Word(&["1.2", "1.3"]), "the lowest version for clients").default("`\"1.2\"`"),
        Key::new(
            "client_certificates",
            Kind::Table(&CLIENT_CERTIFICATES),
            "`{ roots, need, probe_with }`, see below",
        )
        .default("clients show none"),
        Key::new("probe_as", Kind::Text, "for a wildcard: the label that it is asked under")
            .default("required for wildcards"),
        Key::new("reserved", TEXTS, "of a wildcard: list of labels below it that no hostname of the manifest may have"),
        Key::new(
            "replace",
            TEXTS,
            "list of types (`[\"A\", \"CNAME\"]`) of records of others that may go from this name",
        ),
        Key::new("labels", TEXTS, "words that lists can be filtered by"),
        Key::new("note", Kind::Text, "a note for people, shown where something is wrong"),
    ],
};

static ROUTE: Table = Table {
    name: "route",
    keys: &[
        Key::new("prefix", Kind::Text, "the beginning of the paths that it is for").needed().matching("^/"),
        Key::new("service", Kind::Text, "the service that answers them").needed(),
        Key::new("release", Kind::Text, "the release of that service").default("the usual one"),
        Key::new("expect", Kind::Table(&EXPECT), "a sample request of this route").default("it is not asked by itself"),
    ],
};

static EXPECT: Table = Table {
    name: "expect",
    keys: &[
        Key::new("path", Kind::Text, "the path that is asked for")
            .default("the route's prefix, else `/`")
            .matching("^/"),
        Key::new("status", Kind::Text, "a status or a range, as in `\"200\"` or `\"200-299\"`")
            .default("`\"200-399\"`")
            .matching("^[1-5][0-9]{2}(-[1-5][0-9]{2})?$"),
        Key::new("body", Kind::Text, "a text that the first 256 KiB of the body must hold"),
        Key::new("method", Kind::Word(&["GET", "HEAD", "OPTIONS"]), "how it is asked for").default("`\"GET\"`"),
        Key::new("origin", Kind::Text, "the `Origin` header of the request").matching("^https?://"),
    ],
};

static CLIENT_CERTIFICATES: Table = Table {
    name: "client_certificates",
    keys: &[
        Key::new("roots", Kind::Path, "PEM file of the roots where they must end").needed(),
        Key::new(
            "need",
            Kind::Word(&["required", "optional"]),
            "`\"required\"`: a client without one is refused; `\"optional\"`: it is served all the same",
        )
        .default("`\"required\"`"),
        Key::new(
            "probe_with",
            Kind::Secret,
            "where a client's chain and key are, both in PEM: sample requests show it",
        )
        .default("what can be seen is that clients without one are refused"),
    ],
};
