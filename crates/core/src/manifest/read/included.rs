//! Included files. Whoever writes one decides over hostnames, and not over what is run or how the world is spoken to:
//! each file is parsed by itself, and nothing but hostnames and names of certificates comes out of it.

use toml::de::DeTable;

use super::certificate::read_certificate;
use super::health::read_endpoint_health;
use super::hostname::read_hostname;
use super::{LARGE_BYTES, report_syntax};
use crate::manifest::blocks::{self, Blocks};
use crate::manifest::section::Section;
use crate::manifest::{CertificateEntry, Diagnostics, HostnameEntry, Manifest};

/// The tables that an included file may hold.
const TABLES: [&str; 2] = ["hostname", "certificate"];
/// What a certificate in it may say; all else decides over keys, files and commands.
const OF_CERTIFICATE: [&str; 3] = ["names", "labels", "note"];
/// What a hostname in it must not say: it names files and secrets of this machine.
const NOT_OF_HOSTNAME: [&str; 1] = ["client_certificates"];
/// What a health check in it must not say: a file of this machine, and what is sent to an endpoint.
const NOT_OF_HEALTH: [&str; 4] = ["roots", "method", "headers", "send"];

/// What comes out of an included file.
#[derive(Default)]
struct Included {
    certificates: Vec<CertificateEntry>,
    hostnames: Vec<HostnameEntry>,
    /// The certificates that have mistakes.
    mistaken: Vec<String>,
}

/// Adds what an included file says, whose text begins at `base` in the whole.
pub(super) fn read_included(text: &str, base: usize, manifest: &mut Manifest, problems: &mut Diagnostics) {
    let in_blocks = if text.len() < LARGE_BYTES { None } else { read_in_blocks(text, base, problems) };
    let found = in_blocks.unwrap_or_else(|| {
        let mut found = Included::default();
        let (document, errors) = DeTable::parse_recoverable(text);
        for error in &errors {
            report_syntax(error, text, base, problems);
        }
        found.read(document.get_ref(), base, problems);
        found
    });
    for certificate in found.certificates {
        if manifest.certificates.iter().any(|other| other.name.value == certificate.name.value) {
            let message = format!("[certificate.{}] is given twice", certificate.name.value);
            problems.report("duplicate", certificate.name.span, message, "keep one of the two");
        } else {
            manifest.certificates.push(certificate);
        }
    }
    manifest.hostnames.extend(found.hostnames);
    manifest.mistaken.extend(found.mistaken.into_iter().map(|name| ("certificate", name)));
}

/// Reads the tables of hostnames one by one, as those of a large manifest.
fn read_in_blocks(text: &str, base: usize, problems: &mut Diagnostics) -> Option<Included> {
    let Blocks { rest, hostnames } = blocks::split(text)?;
    let (mut included, mut found) = (Included::default(), Diagnostics::default());
    let document = DeTable::parse(&rest).ok()?;
    if document.get_ref().contains_key("hostname") {
        return None;
    }
    included.read(document.get_ref(), base, &mut found);
    included.hostnames.reserve(hostnames.len());
    for block in hostnames {
        let at = base + block.start;
        included.read(DeTable::parse(text.get(block)?).ok()?.get_ref(), at, &mut found);
    }
    problems.extend(found);
    Some(included)
}

impl Included {
    fn read(&mut self, document: &DeTable<'_>, base: usize, problems: &mut Diagnostics) {
        let root = Section::unchecked(document, base);
        for (table, span) in root.keys().filter(|(table, _)| !TABLES.contains(table)) {
            let says = format!("an included file may not hold \"{}\"", table.escape_debug());
            let help = "an included file holds hostnames, and names of certificates: put the rest into the manifest";
            problems.report("bad-include", span, says, help);
        }
        // A key that is not allowed here is reported as such, and its table is ignored.
        for (name, section) in root.named("certificate", problems) {
            let called = name.value.to_owned();
            let is_plain = refuse(&section, |key| !OF_CERTIFICATE.contains(&key), problems);
            match read_certificate(name, &section, problems).filter(|_| is_plain) {
                Some(entry) => self.certificates.push(entry),
                None => self.mistaken.push(called),
            }
        }
        for (name, section) in root.named("hostname", problems) {
            let is_plain =
                refuse(&section, |key| NOT_OF_HOSTNAME.contains(&key), problems) & is_plain_check(&section, problems);
            self.hostnames.extend(read_hostname(name, &section, problems).filter(|_| is_plain));
        }
    }
}

/// Says whether a hostname's health check is a plain request to a port of the endpoint's own; reports what is not.
fn is_plain_check(section: &Section<'_>, problems: &mut Diagnostics) -> bool {
    let tables = ["health", "health_terms"].into_iter().filter_map(|key| section.inner_unchecked(key));
    let mut is_plain = true;
    for table in tables.collect::<Vec<_>>() {
        is_plain &= refuse(&table, |key| NOT_OF_HEALTH.contains(&key), problems);
    }
    let request = read_endpoint_health(section, &mut Diagnostics::default()).map(|health| health.request);
    let Some(request) = request.filter(|request| request.exchange.port.is_some() || !request.exchange.is_tls) else {
        return is_plain;
    };
    let says = "a health check in an included file is made over HTTPS, at the endpoint's own port";
    problems.report("bad-include", request.span, says, "write a path alone, such as health = { path = \"/ready\" }");
    false
}

/// Reports the keys that must not stand in a table of an included file; says whether there is none.
fn refuse(section: &Section<'_>, is_refused: impl Fn(&str) -> bool, problems: &mut Diagnostics) -> bool {
    let mut is_plain = true;
    for (key, span) in section.keys().filter(|(key, _)| is_refused(key)) {
        let says = format!("\"{}\" may not stand in an included file", key.escape_debug());
        problems.report("bad-include", span, says, format!("move this [{}] into the manifest", section.kind()));
        is_plain = false;
    }
    is_plain
}
