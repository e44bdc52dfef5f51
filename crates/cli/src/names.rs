//! Names that a person types: found whatever their case, and near ones suggested.

use std::collections::BTreeSet;

use pindrel_core::desired::{Desired, ZoneId};
use pindrel_core::manifest::nearest;
use pindrel_core::names::name::{DnsName, Hostname};

use crate::error::CliError;

/// Says whether a hostname is the one that was typed: case and a final dot do not count, and it
/// may be typed in Unicode.
pub(crate) fn matches(hostname: &Hostname, typed: &str) -> bool {
    let plain = typed.strip_suffix('.').unwrap_or(typed);
    hostname.as_str().eq_ignore_ascii_case(plain)
        || (!plain.is_ascii() && plain.parse::<Hostname>().is_ok_and(|typed| typed == *hostname))
}

/// Returns a zone of the manifest.
pub(crate) fn zone(desired: &Desired, name: &DnsName) -> Result<ZoneId, CliError> {
    desired
        .zone_named(name)
        .ok_or_else(|| unknown_zone(desired, name, format!("the manifest has no [zone.\"{name}\"]")))
}

/// The error that a zone is unknown.
pub(crate) fn unknown_zone(desired: &Desired, name: &DnsName, says: String) -> CliError {
    unknown(says, name.as_str(), desired.zones.iter().map(|zone| zone.name.as_str()), "pindrel zone list")
}

/// The error that a name is unknown, with the near one where there is one; else where to find
/// the names.
pub(crate) fn unknown<'n>(
    says: String,
    typed: &str,
    known: impl Iterator<Item = &'n str>,
    listed_by: &str,
) -> CliError {
    let remedy = match nearest(typed, known) {
        Some(near) => format!("Did you mean \"{near}\"?"),
        None => format!("List the names with: {listed_by}"),
    };
    CliError::Usage { says, remedy }
}

/// Checks that labels are in use in the manifest: one that nothing has selects nothing.
pub(crate) fn known_labels(desired: &Desired, labels: &[String]) -> Result<(), CliError> {
    let of_hostnames = desired.hostnames.iter().flat_map(|wanted| &wanted.labels);
    let of_certificates = desired.certificates.iter().flat_map(|wanted| &wanted.terms.labels);
    let used: BTreeSet<&str> = of_hostnames.chain(of_certificates).map(String::as_str).collect();
    match labels.iter().find(|label| !used.contains(label.as_str())) {
        None => Ok(()),
        Some(label) => {
            let says = format!("nothing in the manifest has the label \"{label}\"");
            Err(unknown(says, label, used.into_iter(), "pindrel cert list"))
        }
    }
}
