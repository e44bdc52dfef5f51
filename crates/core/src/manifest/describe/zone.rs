//! `[zone."NAME"]`.

use super::authority::MACS;
use super::certificate::AFTER;
use super::{Key, Kind, SOME_TEXTS, TEXTS, Table};

/// The longest additional wait for a challenge record, and the longest TTL of one, in seconds.
const LONGEST_CHALLENGE_SECS: u64 = 3_600;

pub(super) static ZONE: Table = Table {
    name: "zone",
    keys: &[
        Key::new(
            "driver",
            Kind::Word(&["rfc2136", "powerdns", "file", "program", "none"]),
            "`\"rfc2136\"`: signed dynamic update over TCP; `\"powerdns\"`: that server's HTTP API; `\"file\"`: a zone file; `\"program\"`: [a program](zone-program.md); `\"none\"`: somebody else edits it ([zones](zones.md))",
        )
        .needed(),
        Key::new("tsig", Kind::Table(&TSIG), "`{ name, algorithm, secret }`: the key that signs updates")
            .of(&["rfc2136"])
            .needed(),
        Key::new("url", Kind::Text, "the URL that its API is at, without `/api/v1`; `http` only on this machine")
            .of(&["powerdns"])
            .needed()
            .matching("^https?://"),
        Key::new(
            "token",
            Kind::Secret,
            "`powerdns`: where the API key is; `program`: where the token is that it is given",
        )
        .of(&["powerdns", "program"])
        .needed_by(&["powerdns"]),
        Key::new("api_roots", Kind::Path, "PEM file of roots for its HTTPS, besides the system's")
            .of(&["powerdns"])
            .default("the system's"),
        Key::new("file", Kind::Path, "the zone file").of(&["file"]).needed(),
        Key::new("include_below", Kind::Path, "a folder where files that it includes (`$INCLUDE`) may lie")
            .of(&["file"])
            .default("the file's own"),
        Key::new(
            "after",
            Kind::List(&Kind::Table(&AFTER), 0..=usize::MAX),
            "list of `{ run, within }`, run once it is written",
        )
        .of(&["file"]),
        Key::new(
            "program",
            SOME_TEXTS,
            "the program that speaks for the server, and its arguments; it is run in the manifest's folder",
        )
        .of(&["program"])
        .needed(),
        Key::new(
            "servers",
            TEXTS,
            "list of `\"ADDRESS:PORT\"`, the one for updates first; those of the delegation are looked at besides",
        )
        .default("as delegated, port 53"),
        Key::new("update", Kind::Text, "`\"ADDRESS:PORT\"` of the server that takes updates")
            .default("the first of the servers"),
        Key::new("parents", TEXTS, "servers of the zone above, asked for the delegation")
            .default("found through the resolvers"),
        Key::new(
            "resolvers",
            TEXTS,
            "where public answers are looked up: an address (UDP and TCP), `tls://HOST[:PORT]` (DNS over TLS, port 853) or `https://HOST/PATH` (DNS over HTTPS); a host is a name or an address, and its certificate must cover it",
        )
        .default("the system's"),
        Key::new("resolver_roots", Kind::Path, "PEM file of the roots that resolvers' certificates must end in")
            .default("the system's"),
        Key::new(
            "marker",
            Kind::Truth,
            "whether a TXT record of `_pindrel.ZONE` names the installation that manages the zone's hostnames, so that a second installation reports it and leaves them alone; it never decides what may be deleted",
        )
        .default("`false`"),
        Key::new(
            "least_wait",
            Kind::Duration(0..=LONGEST_CHALLENGE_SECS),
            "how long to wait at least after a challenge record was made, for servers that answer their interface before they answer DNS",
        ),
        Key::new(
            "challenge_ttl",
            Kind::Duration(0..=LONGEST_CHALLENGE_SECS),
            "the TTL of challenge records: an authority whose resolver caches sees the last one that long; some servers demand more than a few seconds",
        )
        .default("`5s`"),
    ],
};

static TSIG: Table = Table {
    name: "tsig",
    keys: &[
        Key::new("name", Kind::Text, "the key's name, as the server has it").needed(),
        Key::new("algorithm", Kind::Word(MACS), "its MAC").default("`\"hmac-sha256\"`"),
        Key::new("secret", Kind::Secret, "where its secret is, in base64").needed(),
    ],
};
