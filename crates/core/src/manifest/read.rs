//! From the text of a manifest to its entries: the document here, its tables by kind below.

mod authority;
mod certificate;
mod common;
mod endpoint;
mod health;
mod hostname;
mod included;
mod web_server;
mod zone;

use toml::de::{DeTable, DeValue};

use super::blocks::{self, Blocks};
use super::review::report_conflicts;
use super::section::Section;
use super::{Diagnostics, Manifest, Source};
use authority::{AUTHORITY_KEYS, EXTERNAL_KEYS, LIMIT_KEYS, read_authority};
use certificate::{AFTER_KEYS, CERTIFICATE_KEYS, DELIVER_KEYS, read_certificate, read_certificate_key};
use common::{TTL_HELP, owned, read_span};
use endpoint::{ENDPOINT_KEYS, read_endpoint};
use health::{DNS_CHECK_KEYS, ENDPOINT_HEALTH_KEYS, HEALTH_EXPECT_KEYS, HEALTH_KEYS, TERMS_KEYS, read_health};
use hostname::{CLIENT_KEYS, EXPECT_KEYS, HOSTNAME_KEYS, ROUTE_KEYS, read_hostname};
use included::read_included;
use zone::{TSIG_KEYS, ZONE_KEYS, read_zone, report_repeated_zones};

/// The version of the manifest that this Pindrel reads.
const MANIFEST_VERSION: &str = "1";

const ROOT_KEYS: &[&str] = &[
    "manifest",
    "include",
    "values",
    "defaults",
    "authority",
    "zone",
    "endpoint",
    "health",
    "certificate",
    "hostname",
    "keep",
];
const KEEP_KEYS: &[&str] = &["look_every"];
const DEFAULTS_KEYS: &[&str] = &["authority", "endpoint", "ttl", "key", "renew", "former_keys"];

/// From this size on a manifest is read in blocks.
const LARGE_BYTES: usize = 1 << 20;

/// Returns the keys that each table of a manifest may hold, by the table's name.
pub fn keys() -> [(&'static str, &'static [&'static str]); 21] {
    [
        ("manifest", ROOT_KEYS),
        ("defaults", DEFAULTS_KEYS),
        ("authority", AUTHORITY_KEYS),
        ("external_account_key", EXTERNAL_KEYS),
        ("limit", LIMIT_KEYS),
        ("zone", ZONE_KEYS.as_slice()),
        ("tsig", TSIG_KEYS),
        ("endpoint", ENDPOINT_KEYS.as_slice()),
        ("health", HEALTH_KEYS),
        ("endpoint_health", ENDPOINT_HEALTH_KEYS),
        ("health_terms", TERMS_KEYS),
        ("health_expect", HEALTH_EXPECT_KEYS),
        ("dns_check", DNS_CHECK_KEYS),
        ("keep", KEEP_KEYS),
        ("certificate", CERTIFICATE_KEYS),
        ("deliver", DELIVER_KEYS),
        ("after", AFTER_KEYS),
        ("hostname", HOSTNAME_KEYS),
        ("route", ROUTE_KEYS),
        ("expect", EXPECT_KEYS),
        ("client_certificates", CLIENT_KEYS),
    ]
}

/// Reads a manifest in one file; mistakes are added to `problems`, and what could be read comes
/// back whether or not there were any.
pub fn read(text: &str, problems: &mut Diagnostics) -> Manifest {
    let manifest = read_own(text, problems);
    report_conflicts(&manifest, problems);
    manifest
}

/// Reads a manifest with the files that it includes, each by itself.
pub fn read_source(source: &Source, problems: &mut Diagnostics) -> Manifest {
    let mut manifest = read_own(source.own(), problems);
    for (base, text) in source.included() {
        read_included(text, base, &mut manifest, problems);
    }
    report_conflicts(&manifest, problems);
    manifest
}

fn read_own(text: &str, problems: &mut Diagnostics) -> Manifest {
    let in_blocks = if text.len() < LARGE_BYTES { None } else { read_in_blocks(text, problems) };
    in_blocks.unwrap_or_else(|| read_whole(text, problems))
}

pub(super) fn read_whole(text: &str, problems: &mut Diagnostics) -> Manifest {
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in &errors {
        report_syntax(error, text, 0, problems);
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
        manifest.default_endpoint = defaults.text("endpoint", problems).map(owned);
        manifest.default_ttl = defaults.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value);
        manifest.default_key = read_certificate_key(&defaults, problems);
        manifest.default_renew = read_span(&defaults, "renew", problems);
        manifest.former_keys = read_span(&defaults, "former_keys", problems);
    }
    for (name, section) in root.named("authority", AUTHORITY_KEYS, problems) {
        let called = name.value.to_owned();
        match read_authority(name, &section, problems) {
            Some(entry) => manifest.authorities.push(entry),
            None => manifest.mistaken.push(("authority", called)),
        }
    }
    for (name, section) in root.named("zone", &ZONE_KEYS, problems) {
        let called = name.value.to_owned();
        match read_zone(name, &section, problems) {
            Some(entry) => manifest.zones.push(entry),
            None => manifest.mistaken.push(("zone", called)),
        }
    }
    for (name, section) in root.named("endpoint", &ENDPOINT_KEYS, problems) {
        let called = name.value.to_owned();
        match read_endpoint(name, &section, problems) {
            Some(entry) => manifest.endpoints.push(entry),
            None => manifest.mistaken.push(("endpoint", called)),
        }
    }
    for (name, section) in root.named("health", HEALTH_KEYS, problems) {
        let called = name.value.to_owned();
        match read_health(name, &section, problems) {
            Some(entry) => manifest.health.push(entry),
            None => manifest.mistaken.push(("health", called)),
        }
    }
    if let Some(keep) = root.inner("keep", KEEP_KEYS, problems) {
        manifest.look_every = read_span(&keep, "look_every", problems);
        if manifest.look_every.is_some_and(|every| every.as_secs() < 60) {
            let span = keep.span_of("look_every").unwrap_or_default();
            problems.report("bad-value", span, "\"look_every\" is at least 1 min", "write \"1h\", or leave it out");
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

/// Reports that a text that begins at `base` in the manifest is not TOML.
fn report_syntax(error: &toml::de::Error, text: &str, base: usize, problems: &mut Diagnostics) {
    // A mistake at the end of a file is placed within that file, not where the next one begins.
    let last = text.len().saturating_sub(1);
    let within = error.span().filter(|span| span.start < text.len()).unwrap_or(last..text.len());
    let span = within.start + base..within.end + base;
    let message = error.message().trim().replace('\n', "; ");
    if message.contains("duplicate key") {
        let key = text.get(within).unwrap_or_default();
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
            "the manifest does not state its version",
            "write this as the first line: manifest = 1",
        ),
    }
}
