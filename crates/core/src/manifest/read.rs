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

use std::net::SocketAddr;

use toml::de::{DeTable, DeValue};

use super::blocks::{self, Blocks};
use super::review::report_conflicts;
use super::section::Section;
use super::{Diagnostics, Manifest, Source};
use authority::read_authority;
use certificate::{read_certificate, read_certificate_key};
use common::{TTL_HELP, owned};
use endpoint::read_endpoint;
use health::read_health;
use hostname::read_hostname;
use included::read_included;
use zone::{read_zone, report_repeated_zones};

/// The version of the manifest that this Pindrel reads.
const MANIFEST_VERSION: &str = "1";

/// From this size on a manifest is read in blocks.
const LARGE_BYTES: usize = 1 << 20;

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
        let root = Section::root(document.get_ref(), base, &mut found);
        read_hostnames(&root, &mut manifest, &mut found);
    }
    problems.extend(found);
    Some(manifest)
}

fn read_document(document: &DeTable<'_>, problems: &mut Diagnostics) -> Manifest {
    let root = Section::root(document, 0, problems);
    read_version(&root, problems);

    let mut manifest = Manifest::default();
    if let Some(defaults) = root.inner("defaults", problems) {
        manifest.default_authority = defaults.text("authority", problems).map(owned);
        manifest.default_endpoint = defaults.text("endpoint", problems).map(owned);
        manifest.default_ttl = defaults.parsed("ttl", TTL_HELP, problems).map(|ttl| ttl.value);
        manifest.default_key = read_certificate_key(&defaults, problems);
        manifest.default_renew = defaults.duration("renew", problems);
        manifest.former_keys = defaults.duration("former_keys", problems);
    }
    for (name, section) in root.named("authority", problems) {
        let called = name.value.to_owned();
        match read_authority(name, &section, problems) {
            Some(entry) => manifest.authorities.push(entry),
            None => manifest.mistaken.push(("authority", called)),
        }
    }
    for (name, section) in root.named("zone", problems) {
        let called = name.value.to_owned();
        match read_zone(name, &section, problems) {
            Some(entry) => manifest.zones.push(entry),
            None => manifest.mistaken.push(("zone", called)),
        }
    }
    for (name, section) in root.named("endpoint", problems) {
        let called = name.value.to_owned();
        match read_endpoint(name, &section, problems) {
            Some(entry) => manifest.endpoints.push(entry),
            None => manifest.mistaken.push(("endpoint", called)),
        }
    }
    for (name, section) in root.named("health", problems) {
        let called = name.value.to_owned();
        match read_health(name, &section, problems) {
            Some(entry) => manifest.health.push(entry),
            None => manifest.mistaken.push(("health", called)),
        }
    }
    if let Some(keep) = root.inner("keep", problems) {
        manifest.look_every = keep.duration("look_every", problems);
        manifest.listen = read_listen(&keep, problems);
    }
    for (name, section) in root.named("certificate", problems) {
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

/// The address where a process that runs on is asked how everything is: nobody else can ask there.
fn read_listen(keep: &Section<'_>, problems: &mut Diagnostics) -> Option<SocketAddr> {
    const HELP: &str = "write such as \"127.0.0.1:7353\"";
    let text = keep.text("listen", problems)?;
    let says = match text.value.parse::<SocketAddr>() {
        Ok(address) if address.ip().is_loopback() => return Some(address),
        Ok(_) => "\"listen\" is not a loopback address: other machines could read everything without a token",
        Err(_) => "\"listen\" is not an address with a port",
    };
    problems.report("bad-value", text.span, says, HELP);
    None
}

fn read_hostnames(root: &Section<'_>, manifest: &mut Manifest, problems: &mut Diagnostics) {
    for (name, section) in root.named("hostname", problems) {
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
