//! From the text of a manifest to its entries.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use toml::de::{DeTable, DeValue};
use url::Url;

use super::blocks::{self, Blocks};
use super::section::{Section, parse};
use super::{
    At, AuthorityEntry, CertificateEntry, DeliveryEntry, Diagnostics, EndpointEntry, Expectation, ExternalAccountEntry,
    HostnameEntry, Manifest, TsigAlgorithm, TsigEntry, ZoneEntry,
};
use crate::acme::jws::MacAlgorithm;
use crate::budget::{LONGEST_WITHIN_SECS, Limit, Per, Spending, usual_reserve};
use crate::delivery::{Command, Contents, FileMode, Piece};
use crate::endpoint::{Route, TlsVersion};
use crate::facts::Origin;
use crate::name::{DnsName, Hostname};
use crate::values::{KeyKind, SecretRef, parse_duration};

/// The version of the manifest that this Pindrel reads.
const MANIFEST_VERSION: &str = "1";

const ROOT_KEYS: &[&str] = &["manifest", "defaults", "authority", "zone", "endpoint", "certificate", "hostname"];
const DEFAULTS_KEYS: &[&str] = &["authority", "ttl", "key", "renew"];
const AUTHORITY_KEYS: &[&str] = &[
    "directory",
    "contact",
    "agree_to_terms",
    "api_roots",
    "issued_roots",
    "external_account_key",
    "account_key",
    "rehearsal",
    "limits",
    "profile",
    "chain_root",
];
const LIMIT_KEYS: &[&str] = &["count", "of", "per", "within", "reserve"];
const ZONE_KEYS: &[&str] = &["driver", "servers", "parents", "tsig", "resolvers", "least_wait"];
const TSIG_KEYS: &[&str] = &["name", "algorithm", "secret"];
const ENDPOINT_KEYS: &[&str] = &["kind", "driver", "id", "url", "token", "api_roots"];
const CERTIFICATE_KEYS: &[&str] = &[
    "names",
    "key",
    "authority",
    "reuse_key",
    "renew",
    "profile",
    "chain_root",
    "issued_by",
    "issued_roots",
    "deliver",
    "after",
    "labels",
    "note",
];
const DELIVER_KEYS: &[&str] = &["file", "holds", "mode", "owner", "group", "password"];
const AFTER_KEYS: &[&str] = &["run", "within"];
const HOSTNAME_KEYS: &[&str] = &[
    "endpoint",
    "routes",
    "also",
    "expect",
    "certificate",
    "authority",
    "ttl",
    "minimum_tls",
    "probe_as",
    "labels",
    "note",
];
const ROUTE_KEYS: &[&str] = &["prefix", "service", "release"];
const EXPECT_KEYS: &[&str] = &["path", "status", "body"];
const EXTERNAL_KEYS: &[&str] = &["id", "secret", "algorithm"];

/// How long a command may take unless the manifest says.
const USUAL_WITHIN: Duration = Duration::from_secs(300);
/// The longest time that a command may be given.
const LONGEST_COMMAND: Duration = Duration::from_secs(3600);
/// The most names of one certificate.
const MOST_NAMES: usize = 100;

/// Returns the keys that each table of a manifest may hold, by the table's name.
pub fn keys() -> [(&'static str, &'static [&'static str]); 14] {
    [
        ("manifest", ROOT_KEYS),
        ("defaults", DEFAULTS_KEYS),
        ("authority", AUTHORITY_KEYS),
        ("external_account_key", EXTERNAL_KEYS),
        ("limit", LIMIT_KEYS),
        ("zone", ZONE_KEYS),
        ("tsig", TSIG_KEYS),
        ("endpoint", ENDPOINT_KEYS),
        ("certificate", CERTIFICATE_KEYS),
        ("deliver", DELIVER_KEYS),
        ("after", AFTER_KEYS),
        ("hostname", HOSTNAME_KEYS),
        ("route", ROUTE_KEYS),
        ("expect", EXPECT_KEYS),
    ]
}

const NAME_HELP: &str = "write a full name of letters, digits and hyphens, such as api.larkfield.example";
const ADDRESS_HELP: &str = "write an address with a port, such as \"127.0.0.1:53\" or \"[::1]:53\"";
const TTL_HELP: &str = "write a whole number with s, m, h or d, such as \"10m\"";
const URL_HELP: &str = "write an https:// URL";
const SPAN_HELP: &str = "write a whole number with s, m, h or d, such as \"30d\"";
const KEY_HELP: &str = "write \"ecdsa-p256\", \"ecdsa-p384\", \"rsa-2048\", \"rsa-3072\" or \"rsa-4096\"";

/// From this size on a manifest is read in blocks.
const LARGE_BYTES: usize = 1 << 20;

/// Reads a manifest; mistakes are added to `problems`, and what could be read comes
/// back whether or not there were any.
pub fn read(text: &str, problems: &mut Diagnostics) -> Manifest {
    let in_blocks = if text.len() < LARGE_BYTES { None } else { read_in_blocks(text, problems) };
    in_blocks.unwrap_or_else(|| read_whole(text, problems))
}

pub(super) fn read_whole(text: &str, problems: &mut Diagnostics) -> Manifest {
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in &errors {
        report_syntax(error, text, problems);
    }
    read_document(document.get_ref(), problems)
}

/// Reads the tables of hostnames one by one, so that the parser's tree of all of them is
/// never there at once. `None` where the text cannot be split, or has mistakes that only
/// the whole of it explains.
pub(super) fn read_in_blocks(text: &str, problems: &mut Diagnostics) -> Option<Manifest> {
    let Blocks { rest, hostnames } = blocks::split(text)?;
    let mut found = Diagnostics::default();
    let mut manifest = {
        let (document, errors) = DeTable::parse_recoverable(&rest);
        if !errors.is_empty() || document.get_ref().contains_key("hostname") {
            return None;
        }
        read_document(document.get_ref(), &mut found)
    };
    manifest.hostnames.reserve(hostnames.len());
    for block in hostnames {
        let base = block.start;
        let document = DeTable::parse(text.get(block)?).ok()?;
        let root = Section::root(document.get_ref(), base, ROOT_KEYS, &mut found);
        read_hostnames(&root, &mut manifest, &mut found);
    }
    problems.extend(found);
    Some(manifest)
}

fn read_document(document: &DeTable<'_>, problems: &mut Diagnostics) -> Manifest {
    let root = Section::root(document, 0, ROOT_KEYS, problems);
    read_version(&root, problems);

    let mut manifest = Manifest::default();
    if let Some(defaults) = root.inner("defaults", DEFAULTS_KEYS, problems) {
        manifest.default_authority = defaults.text("authority", problems).map(owned);
        manifest.default_ttl = defaults.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value);
        manifest.default_key = read_certificate_key(&defaults, problems);
        manifest.default_renew = read_span(&defaults, "renew", problems);
    }
    for (name, section) in root.named("authority", AUTHORITY_KEYS, problems) {
        let called = name.value.to_owned();
        match read_authority(name, &section, problems) {
            Some(entry) => manifest.authorities.push(entry),
            None => manifest.mistaken.push(("authority", called)),
        }
    }
    for (name, section) in root.named("zone", ZONE_KEYS, problems) {
        let called = name.value.to_owned();
        match read_zone(name, &section, problems) {
            Some(entry) => manifest.zones.push(entry),
            None => manifest.mistaken.push(("zone", called)),
        }
    }
    for (name, section) in root.named("endpoint", ENDPOINT_KEYS, problems) {
        let called = name.value.to_owned();
        match read_endpoint(name, &section, problems) {
            Some(entry) => manifest.endpoints.push(entry),
            None => manifest.mistaken.push(("endpoint", called)),
        }
    }
    for (name, section) in root.named("certificate", CERTIFICATE_KEYS, problems) {
        let called = name.value.to_owned();
        match read_certificate(name, &section, problems) {
            Some(entry) => manifest.certificates.push(entry),
            None => manifest.mistaken.push(("certificate", called)),
        }
    }
    read_hostnames(&root, &mut manifest, problems);
    report_repeated_zones(&manifest.zones, problems);
    manifest
}

fn read_hostnames(root: &Section<'_>, manifest: &mut Manifest, problems: &mut Diagnostics) {
    for (name, section) in root.named("hostname", HOSTNAME_KEYS, problems) {
        manifest.hostnames.extend(read_hostname(name, &section, problems));
    }
}

fn report_syntax(error: &toml::de::Error, text: &str, problems: &mut Diagnostics) {
    let span = error.span().unwrap_or(text.len()..text.len());
    let message = error.message().trim().replace('\n', "; ");
    if message.contains("duplicate key") {
        let key = text.get(span.clone()).unwrap_or_default();
        problems.report("duplicate", span, format!("{key} is given twice"), "keep one of the two");
    } else {
        problems.report_plain("syntax", span, format!("this is not valid TOML: {message}"));
    }
}

fn read_version(root: &Section<'_>, problems: &mut Diagnostics) {
    match root.value("manifest").map(|value| (value.get_ref(), value.span())) {
        Some((DeValue::Integer(version), _)) if version.as_str() == MANIFEST_VERSION => {}
        Some((_, span)) => {
            problems.report("bad-value", span, "this Pindrel reads manifests of version 1", "write: manifest = 1")
        }
        None => problems.report(
            "missing-key",
            0..0,
            "the manifest does not say its version",
            "write this as the first line: manifest = 1",
        ),
    }
}

fn read_authority(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<AuthorityEntry> {
    let directory = read_url(section, "directory", "\"https://…/directory\"", problems);
    let contact = section.texts("contact", problems);
    for address in &contact {
        let mail = address.value.strip_prefix("mailto:");
        if !mail.is_some_and(|mail| mail.contains('@') && !mail.contains([',', '?'])) {
            problems.report(
                "bad-value",
                address.span.clone(),
                format!("\"{}\" is no contact that an authority takes", address.value),
                "write one mail address a text, such as \"mailto:tls@larkfield.example\"",
            );
        }
    }
    match section.truth("agree_to_terms", problems) {
        Some(At { value: true, .. }) => {}
        Some(At { value: false, span }) => problems.report(
            "bad-value",
            span,
            "without agreement to its terms of service the authority opens no account",
            "read the terms, then write: agree_to_terms = true",
        ),
        None if section.value("agree_to_terms").is_none() => section.missing("agree_to_terms", "true", problems),
        None => {}
    }
    let external = section.inner("external_account_key", EXTERNAL_KEYS, problems).and_then(|key| {
        let id = key.needed_text("id", "\"observatory-1\"", problems);
        let secret = read_secret(&key, "secret", "EAB_SECRET", problems);
        let algorithm = key
            .parsed("algorithm", "write \"hmac-sha256\", \"hmac-sha384\" or \"hmac-sha512\"", problems)
            .map_or(MacAlgorithm::Hs256, |algorithm| algorithm.value);
        Some(ExternalAccountEntry { id: id?.value.to_owned(), secret: secret?, algorithm })
    });
    let limits = section.inner_list("limits", LIMIT_KEYS, problems);
    let limits = limits.iter().filter_map(|limit| read_limit(limit, problems)).collect();
    let account_key = section
        .parsed("account_key", "write \"ecdsa-p256\", \"ecdsa-p384\", \"rsa-2048\" or \"ed25519\"", problems)
        .map_or(KeyKind::default(), |kind| kind.value);
    Some(AuthorityEntry {
        name: owned(name),
        directory: directory?,
        contact: contact.into_iter().map(|address| address.value.to_owned()).collect(),
        api_roots: read_path(section, "api_roots", problems),
        issued_roots: read_path(section, "issued_roots", problems),
        external_account_key: external,
        rehearsal: section.text("rehearsal", problems).map(owned),
        limits,
        account_key,
        profile: section.plain_text("profile", problems),
        chain_root: section.plain_text("chain_root", problems),
    })
}

fn read_limit(section: &Section<'_>, problems: &mut Diagnostics) -> Option<Limit> {
    for (key, example) in
        [("count", "50"), ("of", "\"certificate\""), ("per", "\"registered-domain\""), ("within", "\"7d\"")]
    {
        if section.value(key).is_none() {
            section.missing(key, example, problems);
        }
    }
    let count = section.number("count", 1..=1_000_000, problems);
    let of = section.parsed::<Spending>("of", "write \"failed-validation\", \"order\" or \"certificate\"", problems);
    let per =
        section.parsed::<Per>("per", "write \"hostname\", \"registered-domain\", \"names\" or \"account\"", problems);
    let reserve = section.number("reserve", 0..=1_000_000, problems);
    let span = section.span_of("within");
    let within_secs = read_span(section, "within", problems)?.as_secs();
    let (count, of, per) = (count?, of?.value, per?.value);
    if !(1..=LONGEST_WITHIN_SECS).contains(&within_secs) {
        let days = LONGEST_WITHIN_SECS / 86_400;
        let message = format!("a limit looks back at least a second and at most {days} days");
        problems.report("bad-value", span.unwrap_or_default(), message, SPAN_HELP);
        return None;
    }
    if let Some(reserve) = &reserve
        && reserve.value >= count.value
    {
        problems.report(
            "bad-value",
            reserve.span.clone(),
            "the reserve for renewals leaves nothing for new certificates",
            format!("write a reserve below {}", count.value),
        );
    }
    let reserve = reserve.map_or(usual_reserve(of, count.value), |reserve| reserve.value);
    Some(Limit { count: count.value, of, per, within_secs, reserve })
}

fn read_span(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Option<Duration> {
    section.parsed::<DurationText>(key, SPAN_HELP, problems).map(|span| span.value.0)
}

/// A duration with its unit, as in `30d`.
struct DurationText(Duration);

impl FromStr for DurationText {
    type Err = crate::values::ValueError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        parse_duration(text).map(DurationText)
    }
}

fn read_certificate_key(section: &Section<'_>, problems: &mut Diagnostics) -> Option<KeyKind> {
    let kind = section.parsed::<KeyKind>("key", KEY_HELP, problems)?;
    if KeyKind::FOR_CERTIFICATES.contains(&kind.value) {
        return Some(kind.value);
    }
    problems.report(
        "bad-value",
        kind.span,
        format!("no authority issues for a key of the kind {}", kind.value),
        KEY_HELP,
    );
    None
}

fn read_zone(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<ZoneEntry> {
    let name = parse_name::<DnsName>(name, problems);
    read_driver(section, &["rfc2136"], problems);
    let servers = read_servers(section, "servers", problems);
    let parents = read_servers(section, "parents", problems);
    let resolvers = read_servers(section, "resolvers", problems);
    if section.value("tsig").is_none() {
        section.missing(
            "tsig",
            "{ name = \"pindrel.\", algorithm = \"hmac-sha256\", secret = \"env:TSIG_SECRET\" }",
            problems,
        );
    }
    let tsig = section.inner("tsig", TSIG_KEYS, problems).and_then(|tsig| {
        let name = tsig.needed_text("name", "\"pindrel.\"", problems);
        let name = name.and_then(|name| parse(name, "write the key's name as the server has it", problems));
        let secret = read_secret(&tsig, "secret", "TSIG_SECRET", problems);
        let algorithm = match tsig.value("algorithm") {
            None => Some(TsigAlgorithm::HmacSha256),
            Some(_) => tsig
                .parsed("algorithm", "write \"hmac-sha256\", \"hmac-sha384\" or \"hmac-sha512\"", problems)
                .map(|algorithm| algorithm.value),
        };
        Some(TsigEntry { name: name?.value, algorithm: algorithm?, secret: secret? })
    });
    let least_wait = read_span(section, "least_wait", problems).unwrap_or_default();
    Some(ZoneEntry { name: name?, servers, parents, resolvers, tsig: tsig?, least_wait })
}

fn report_repeated_zones(zones: &[ZoneEntry], problems: &mut Diagnostics) {
    let mut seen = HashMap::new();
    for zone in zones {
        if seen.insert(&zone.name.value, ()).is_some() {
            problems.report(
                "duplicate",
                zone.name.span.clone(),
                format!("the zone {} is given twice (case and the final dot do not count)", zone.name.value),
                "keep one of the two",
            );
        }
    }
}

fn read_endpoint(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<EndpointEntry> {
    let kind = section.needed_text("kind", "\"gateway\"", problems);
    let kind = kind.and_then(|kind| parse(kind, "write \"gateway\", \"distribution\" or \"balancer\"", problems));
    read_driver(section, &["http"], problems);
    let url = read_url(section, "url", "\"https://127.0.0.1:9443\"", problems);
    let token = read_secret(section, "token", "EDGE_TOKEN", problems);
    let id = section.text("id", problems).map_or(name.value, |id| id.value).to_owned();
    Some(EndpointEntry {
        name: owned(name),
        id,
        kind: kind?.value,
        url: url?,
        token: token?,
        api_roots: read_path(section, "api_roots", problems),
    })
}

fn read_certificate(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<CertificateEntry> {
    let texts = section.texts("names", problems);
    if texts.is_empty() && section.value("names").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("names", "[\"api.larkfield.example\"]", problems);
    }
    if let Some(over) = texts.get(MOST_NAMES) {
        problems.report(
            "bad-value",
            over.span.clone(),
            format!("a certificate has at most {MOST_NAMES} names, and this one has {}", texts.len()),
            "declare a second certificate for the rest",
        );
    }
    let names = texts.into_iter().filter_map(|name| parse_name(name, problems)).collect();
    let deliver = section.inner_list("deliver", DELIVER_KEYS, problems);
    let after = section.inner_list("after", AFTER_KEYS, problems);
    let truth = |key: &str, problems: &mut Diagnostics| section.truth(key, problems).is_some_and(|truth| truth.value);
    let issued_by = section
        .parsed::<Origin>("issued_by", "write \"authority\", \"elsewhere\" or \"self\"", problems)
        .map_or(Origin::Authority, |origin| origin.value);
    let authority = section.text("authority", problems).map(owned);
    if let (Some(authority), Origin::Elsewhere | Origin::SelfSigned) = (&authority, issued_by) {
        problems.report(
            "bad-value",
            authority.span.clone(),
            format!("a certificate that is issued by \"{issued_by}\" has no ACME authority"),
            "take authority away, or issued_by",
        );
    }
    Some(CertificateEntry {
        name: owned(name),
        names,
        authority,
        key: read_certificate_key(section, problems),
        reuse_key: truth("reuse_key", problems),
        renew: read_span(section, "renew", problems),
        profile: section.plain_text("profile", problems),
        chain_root: section.plain_text("chain_root", problems),
        issued_by,
        issued_roots: read_path(section, "issued_roots", problems),
        deliver: deliver.iter().filter_map(|entry| read_delivery(entry, problems)).collect(),
        after: after.iter().filter_map(|entry| read_command(entry, problems)).collect(),
        labels: read_labels(section, problems),
        note: section.plain_text("note", problems),
    })
}

fn read_labels(section: &Section<'_>, problems: &mut Diagnostics) -> Vec<String> {
    section.texts("labels", problems).into_iter().map(|label| label.value.to_owned()).collect()
}

fn read_delivery(section: &Section<'_>, problems: &mut Diagnostics) -> Option<DeliveryEntry> {
    let file = section.needed_text("file", "\"tls/chain.pem\"", problems);
    let holds = section.texts("holds", problems);
    if holds.is_empty() && section.value("holds").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("holds", "[\"leaf\", \"intermediates\"]", problems);
    }
    let password = section.value("password").and_then(|_| read_secret(section, "password", "P12_PASSWORD", problems));
    let contents = if holds.iter().any(|piece| piece.value == "pkcs12") {
        if let [_, more, ..] = holds.as_slice() {
            let message = "a PKCS#12 file holds key and chain already, and nothing besides";
            problems.report("bad-value", more.span.clone(), message, "write holds = [\"pkcs12\"]");
        }
        if section.value("password").is_none() {
            section.missing("password", "\"env:P12_PASSWORD\"", problems);
        }
        Contents::Pkcs12
    } else {
        let help = "write \"key\", \"leaf\", \"intermediates\" or, alone, \"pkcs12\"";
        let pieces = holds.into_iter().filter_map(|piece| parse::<Piece>(piece, help, problems));
        Contents::Pem(pieces.map(|piece| piece.value).collect())
    };
    let mode = section
        .parsed::<FileMode>("mode", "write three or four octal digits, such as \"0640\"", problems)
        .map_or_else(|| contents.usual_mode(), |mode| mode.value);
    let (owner, group) = (section.plain_text("owner", problems), section.plain_text("group", problems));
    Some(DeliveryEntry { file: PathBuf::from(file?.value), contents, mode, owner, group, password })
}

fn read_command(section: &Section<'_>, problems: &mut Diagnostics) -> Option<Command> {
    let run: Vec<String> = section.texts("run", problems).into_iter().map(|word| word.value.to_owned()).collect();
    if run.first().is_none_or(String::is_empty) && section.value("run").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("run", "[\"systemctl\", \"reload\", \"edge\"]", problems);
    }
    let within =
        read_span(section, "within", problems).unwrap_or(USUAL_WITHIN).clamp(Duration::from_secs(1), LONGEST_COMMAND);
    (!run.is_empty()).then_some(Command { run, within })
}

fn read_hostname(name: At<&str>, section: &Section<'_>, problems: &mut Diagnostics) -> Option<HostnameEntry> {
    let hostname = parse_name::<Hostname>(name, problems);
    let endpoint = section.needed_text("endpoint", "\"NAME\"", problems);
    let mut routes = Vec::new();
    for route in section.inner_list("routes", ROUTE_KEYS, problems) {
        routes.extend(read_route(&route, problems));
    }
    let also = section.texts("also", problems).into_iter().filter_map(|name| parse_name(name, problems)).collect();
    let probe_as = section.text("probe_as", problems);
    if let Some(hostname) = &hostname {
        check_probe_label(&hostname.value, probe_as.as_ref(), section, problems);
    }
    let expect = section
        .inner("expect", EXPECT_KEYS, problems)
        .map(|expect| read_expectation(&expect, routes.first().map(|route| route.prefix.as_str()), problems));
    Some(HostnameEntry {
        hostname: hostname?,
        endpoint: owned(endpoint?),
        certificate: section.text("certificate", problems).map(owned),
        authority: section.text("authority", problems).map(owned),
        routes,
        also,
        ttl: section.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value),
        minimum_tls: section
            .parsed("minimum_tls", "write \"1.2\" or \"1.3\"", problems)
            .map_or(TlsVersion::V1_2, |version| version.value),
        expect,
        probe_as: probe_as.map(owned),
        labels: read_labels(section, problems),
        note: section.plain_text("note", problems),
    })
}

fn check_probe_label(hostname: &Hostname, label: Option<&At<&str>>, section: &Section<'_>, problems: &mut Diagnostics) {
    match label {
        None if hostname.is_wildcard() => section.missing("probe_as", "\"LABEL\"", problems),
        Some(label) if !hostname.is_wildcard() => problems.report(
            "bad-value",
            label.span.clone(),
            format!("{hostname} is no wildcard: it is asked under its own name"),
            "take probe_as away",
        ),
        Some(label) if label.value.contains('.') || hostname.probed_as(label.value).is_err() => problems.report(
            "bad-name",
            label.span.clone(),
            format!("\"{}\" cannot stand in the place of the * in {hostname}", label.value),
            "write one label of letters, digits and hyphens",
        ),
        _ => {}
    }
}

fn read_route(section: &Section<'_>, problems: &mut Diagnostics) -> Option<Route> {
    let prefix = section.needed_text("prefix", "\"/v1\"", problems);
    let service = section.needed_text("service", "\"NAME\"", problems);
    let release = section.text("release", problems).map(|release| release.value.to_owned());
    let prefix = prefix?;
    if !is_path(prefix.value) {
        problems.report(
            "bad-value",
            prefix.span,
            format!("\"{}\" is no path", prefix.value),
            "write a path that starts with a slash, such as \"/v1\"",
        );
        return None;
    }
    Some(Route { prefix: prefix.value.to_owned(), service: service?.value.to_owned(), release })
}

fn read_expectation(section: &Section<'_>, first_route: Option<&str>, problems: &mut Diagnostics) -> Expectation {
    let path = section.text("path", problems);
    if let Some(path) = &path
        && !is_path(path.value)
    {
        problems.report(
            "bad-value",
            path.span.clone(),
            format!("\"{}\" is no path", path.value),
            "write the path alone, such as \"/v2/ready\"; the host is the hostname",
        );
    }
    let status =
        section.parsed::<StatusRange>("status", "write a status or a range, such as \"200\" or \"200-299\"", problems);
    Expectation {
        path: path.map_or(first_route.unwrap_or("/"), |path| path.value).to_owned(),
        status: status.map_or((200, 399), |range| (range.value.0, range.value.1)),
        body: section.text("body", problems).map(|body| body.value.to_owned()),
    }
}

/// A status or a range of them, as in `200-299`.
struct StatusRange(u16, u16);

impl FromStr for StatusRange {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (low, high) = text.split_once('-').unwrap_or((text, text));
        match (low.parse(), high.parse()) {
            (Ok(low), Ok(high)) if (100..=599).contains(&low) && (low..=599).contains(&high) => {
                Ok(StatusRange(low, high))
            }
            _ => Err(format!("\"{text}\" is no HTTP status")),
        }
    }
}

fn is_path(text: &str) -> bool {
    text.starts_with('/') && !text.contains(|c: char| c.is_whitespace() || c.is_control() || c == '#')
}

fn read_driver(section: &Section<'_>, known: &[&str], problems: &mut Diagnostics) {
    let Some(driver) = section.needed_text("driver", &format!("{:?}", known[0]), problems) else { return };
    if !known.contains(&driver.value) {
        problems.report(
            "bad-value",
            driver.span,
            format!("there is no driver \"{}\" for [{}]", driver.value, section.title()),
            format!("write \"{}\"", known.join("\" or \"")),
        );
    }
}

fn read_secret(section: &Section<'_>, key: &str, variable: &str, problems: &mut Diagnostics) -> Option<At<SecretRef>> {
    let text = section.needed_text(key, &format!("\"env:{variable}\""), problems)?;
    match text.value.parse() {
        Ok(value) => Some(At { value, span: text.span }),
        Err(_) => {
            problems.report(
                "secret-in-clear",
                text.span,
                format!("\"{key}\" must say where the secret is, not what it is"),
                format!("write {key} = \"env:{variable}\" or \"file:PATH\", and change a secret that has been in a file like this"),
            );
            None
        }
    }
}

fn read_url(section: &Section<'_>, key: &str, example: &str, problems: &mut Diagnostics) -> Option<Url> {
    let text = section.needed_text(key, example, problems)?;
    let url: At<Url> = parse(text, URL_HELP, problems)?;
    let bare = url.value.username().is_empty() && url.value.password().is_none();
    if url.value.scheme() == "https" && url.value.has_host() && bare {
        return Some(url.value);
    }
    let message = if bare { format!("\"{key}\" is no https URL") } else { format!("\"{key}\" holds a password") };
    problems.report("bad-value", url.span, message, URL_HELP);
    None
}

fn read_path(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Option<At<PathBuf>> {
    section.text(key, problems).map(|path| At { value: PathBuf::from(path.value), span: path.span })
}

fn read_servers(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Vec<SocketAddr> {
    section.parsed_list::<Server>(key, ADDRESS_HELP, problems).into_iter().map(|server| server.value.0).collect()
}

/// An address, with port 53 unless it says another.
struct Server(SocketAddr);

impl FromStr for Server {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let whole = text.parse::<SocketAddr>();
        let address = whole.or_else(|_| text.parse::<IpAddr>().map(|address| SocketAddr::new(address, 53)));
        address.map(Server).map_err(|_| format!("\"{text}\" is no address of a DNS server"))
    }
}

fn parse_name<T: FromStr>(text: At<&str>, problems: &mut Diagnostics) -> Option<At<T>>
where
    T::Err: std::fmt::Display,
{
    match text.value.parse() {
        Ok(value) => Some(At { value, span: text.span }),
        Err(error) => {
            let message = format!("\"{}\" is no hostname: {error}", text.value.chars().take(80).collect::<String>());
            problems.report("bad-name", text.span, message, NAME_HELP);
            None
        }
    }
}

fn owned(text: At<&str>) -> At<String> {
    At { value: text.value.to_owned(), span: text.span }
}

impl FromStr for MacAlgorithm {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.to_ascii_lowercase().as_str() {
            "hmac-sha256" => Ok(MacAlgorithm::Hs256),
            "hmac-sha384" => Ok(MacAlgorithm::Hs384),
            "hmac-sha512" => Ok(MacAlgorithm::Hs512),
            _ => Err(format!("\"{text}\" is no MAC of an external account")),
        }
    }
}

impl FromStr for TsigAlgorithm {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.trim_end_matches('.').to_ascii_lowercase().as_str() {
            "hmac-sha256" => Ok(TsigAlgorithm::HmacSha256),
            "hmac-sha384" => Ok(TsigAlgorithm::HmacSha384),
            "hmac-sha512" => Ok(TsigAlgorithm::HmacSha512),
            _ => Err(format!("\"{text}\" is no MAC that updates are signed with here")),
        }
    }
}
