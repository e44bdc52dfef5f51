//! `[endpoint.NAME]`.

use super::health::{ENDPOINT_HEALTH, HEALTH_TERMS};
use super::{Key, Kind, SOME_TEXTS, Table};

/// The drivers that speak the endpoint protocol.
const PLATFORMS: &[&str] = &["http", "program"];
/// The drivers that serve a default document as told.
const WITH_DOCUMENTS: &[&str] = &["http", "program", "nginx"];

pub(super) static ENDPOINT: Table = Table {
    name: "endpoint",
    keys: &[
        Key::new("kind", Kind::Word(&["gateway", "distribution", "balancer"]), "what it is").needed(),
        Key::new(
            "driver",
            Kind::Word(&["http", "program", "nginx", "haproxy", "static"]),
            "`\"http\"`: the [endpoint protocol](endpoint-protocol.md); `\"program\"`: the same protocol, [spoken by a program](endpoint-protocol.md#as-a-program); `\"nginx\"`: a [web server](web-server.md) on this machine; `\"haproxy\"`: a [load balancer](load-balancer.md) on this machine; `\"static\"`: somebody else configures it",
        )
        .needed(),
        Key::new("url", Kind::Url, "base URL of the platform (https)").of(&["http"]).needed(),
        Key::new(
            "token",
            Kind::Secret,
            "`http`: where the bearer token is; `program`: where the token is that it is given",
        )
        .of(PLATFORMS)
        .needed_by(&["http"]),
        Key::new("id", Kind::Text, "the platform's id of the endpoint").of(PLATFORMS).default("`NAME`"),
        Key::new("api_roots", Kind::Path, "PEM file of roots for the platform's own HTTPS, besides the system's")
            .of(&["http"])
            .default("the system's"),
        Key::new(
            "program",
            SOME_TEXTS,
            "the program that speaks for the platform, and its arguments; it is run in the manifest's folder",
        )
        .of(&["program"])
        .needed(),
        Key::new(
            "calls_per_second",
            Kind::Number(1..=10_000),
            "how many requests the platform is sent a second at most",
        )
        .of(PLATFORMS)
        .default("no limit"),
        Key::new("default_name", Kind::Text, "the name that aliases point at")
            .of(&["static", "nginx", "haproxy"])
            .needed_by(&["static"])
            .default("aliases are addresses"),
        Key::new(
            "addresses",
            SOME_TEXTS,
            "list of its addresses, for direct connections and for a flattened apex",
        )
        .of(&["static", "haproxy"])
        .needed(),
        Key::new("port", Kind::Number(1..=65_535), "the port that it serves TLS on")
            .of(&["static", "haproxy"])
            .default("`443`"),
        Key::new(
            "folder",
            Kind::Path,
            "`nginx`: the folder that its configuration includes (a path without `$`); `haproxy`: the folder of its certificates; Pindrel's own",
        )
        .of(&["nginx", "haproxy"])
        .needed(),
        Key::new("socket", Kind::Path, "its runtime socket").of(&["haproxy"]).needed(),
        Key::new("list", Kind::Path, "its certificate list").of(&["haproxy"]).default("`list.txt` in the folder"),
        Key::new(
            "services",
            Kind::Map(&SERVICE),
            "the services by name: a URL, or a list of URLs and `{ url, weight }`",
        )
        .of(&["nginx"])
        .needed(),
        Key::new("service", Kind::Text, "the service where a hostname has no routes")
            .of(&["nginx"])
            .default("the only one"),
        Key::new("listen", SOME_TEXTS, "list of `\"ADDRESS:PORT\"` where it serves TLS, all with one port")
            .of(&["nginx"])
            .needed(),
        Key::new(
            "listen_http",
            SOME_TEXTS,
            "list of `\"ADDRESS:PORT\"` where plain HTTP is redirected to HTTPS",
        )
        .of(&["nginx"]),
        Key::new("test", SOME_TEXTS, "its configuration test, as an argument list")
            .of(&["nginx"])
            .default("`[\"nginx\", \"-t\", \"-q\"]`"),
        Key::new("reload", SOME_TEXTS, "its reload, as an argument list")
            .of(&["nginx"])
            .default("`[\"nginx\", \"-s\", \"reload\"]`"),
        Key::new(
            "origin",
            Kind::Either(&[Kind::Table(&ORIGIN_OF_PLATFORM), Kind::Table(&ORIGIN_OF_SERVER)]),
            "`http`, `program`: `{ scheme, verify, server_name }`: how the platform's front speaks to its origin; `nginx`: `{ verify, server_name, roots }`: how services over HTTPS are verified",
        )
        .of(WITH_DOCUMENTS)
        .default("`nginx`: verified, the system's roots; else as the platform has it"),
        Key::new("default_document", Kind::Text, "what is served for the root")
            .of(WITH_DOCUMENTS)
            .default("what the service answers"),
        Key::new(
            "health",
            Kind::Either(&[Kind::Text, Kind::Table(&ENDPOINT_HEALTH)]),
            "how it is checked: a URL, or a table, see [`[health.NAME]`](#healthname)",
        )
        .default("it is not"),
        Key::new("health_terms", Kind::Table(&HEALTH_TERMS), "the rest of `health` where that is a URL"),
    ],
};

/// What stands behind a name in `services`.
static SERVICE: Kind = Kind::Either(&[
    Kind::Text,
    Kind::Table(&SERVICE_PLACE),
    Kind::List(&Kind::Either(&[Kind::Text, Kind::Table(&SERVICE_PLACE)]), 1..=usize::MAX),
]);

pub(in crate::manifest) static SERVICE_PLACE: Table = Table {
    name: "service_place",
    keys: &[
        Key::new("url", Kind::Text, "where the service is, without a path").needed().matching("^https?://"),
        Key::new("weight", Kind::Number(1..=1_000), "its share of the requests").default("`1`"),
    ],
};

pub(in crate::manifest) static ORIGIN_OF_PLATFORM: Table = Table {
    name: "origin_of_platform",
    keys: &[
        Key::new("scheme", Kind::Word(&["https", "http"]), "how the origin is spoken to").default("`\"https\"`"),
        Key::new("verify", Kind::Truth, "whether its certificate is verified").default("`true`"),
        Key::new("server_name", Kind::Text, "the name that its certificate must cover"),
    ],
};

pub(in crate::manifest) static ORIGIN_OF_SERVER: Table = Table {
    name: "origin_of_server",
    keys: &[
        Key::new("verify", Kind::Truth, "whether the certificates of services are verified").default("`true`"),
        Key::new("server_name", Kind::Text, "the name that they must cover"),
        Key::new("roots", Kind::Path, "PEM file of the roots where they must end").default("the system's"),
    ],
};
