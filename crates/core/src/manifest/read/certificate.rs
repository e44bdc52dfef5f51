//! The tables `[certificate.NAME]`.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use super::common::{owned, parse_name, read_path, read_secret, read_words};
use crate::certificates::delivery::{Command, Contents, FileMode, Piece};
use crate::judging::facts::Origin;
use crate::manifest::section::{Section, parse};
use crate::manifest::{At, CertificateEntry, DeliveryEntry, Diagnostics, MOST_NAMES};
use crate::values::KeyKind;

const KEY_HELP: &str = "write \"ecdsa-p256\", \"ecdsa-p384\", \"rsa-2048\", \"rsa-3072\" or \"rsa-4096\"";
/// How long a command may take unless the manifest says.
const USUAL_WITHIN: Duration = Duration::from_secs(300);
pub(super) fn read_certificate(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<CertificateEntry> {
    let texts = section.texts("names", problems);
    if texts.is_empty() && section.value("names").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("names", "[\"api.larkfield.example\"]", problems);
    }
    if let Some(over) = texts.get(MOST_NAMES) {
        problems.report_too_many_names(over.span.clone(), texts.len());
    }
    let names = texts.into_iter().take(MOST_NAMES).filter_map(|name| parse_name(name, problems)).collect();
    let deliver = section.inner_list("deliver", problems);
    let after = section.inner_list("after", problems);
    let truth = |key: &str, problems: &mut Diagnostics| section.truth(key, problems).is_some_and(|truth| truth.value);
    let issued_by = section.word::<Origin>("issued_by", problems).map_or(Origin::Authority, |origin| origin.value);
    let authority = section.text("authority", problems).map(owned);
    if let Some(authority) = authority.as_ref().filter(|_| issued_by != Origin::Authority) {
        problems.report(
            "bad-value",
            authority.span.clone(),
            format!("a certificate that is issued by \"{issued_by}\" has no ACME authority"),
            "remove authority or issued_by",
        );
    }
    // A platform keeps the key, and decides all else.
    if issued_by == Origin::Platform {
        for key in ["key", "reuse_key", "renew", "profile", "chain_root", "deliver", "after", "served_at"] {
            section.refuse(key, "a certificate that the platform issues never leaves it", problems);
        }
    }
    Some(CertificateEntry {
        name: owned(name),
        names,
        authority,
        key: read_certificate_key(section, problems),
        reuse_key: truth("reuse_key", problems),
        renew: section.duration("renew", problems),
        profile: section.plain_text("profile", problems),
        chain_root: section.plain_text("chain_root", problems),
        issued_by,
        issued_roots: read_path(section, "issued_roots", problems),
        deliver: deliver.iter().filter_map(|entry| read_delivery(entry, problems)).collect(),
        after: after.iter().filter_map(|entry| read_command(entry, problems)).collect(),
        served_at: section
            .parsed_list::<SocketAddr>(
                "served_at",
                "write an address with a port, such as \"192.0.2.25:465\"",
                problems,
            )
            .into_iter()
            .map(|address| address.value)
            .collect(),
        labels: section.lines("labels", problems),
        note: section.line("note", problems),
    })
}

pub(super) fn read_certificate_key(section: &Section<'_>, problems: &mut Diagnostics) -> Option<KeyKind> {
    let kind = section.word::<KeyKind>("key", problems)?;
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

fn read_delivery(section: &Section<'_>, problems: &mut Diagnostics) -> Option<DeliveryEntry> {
    let file = section.needed_text("file", "\"tls/chain.pem\"", problems);
    let holds = section.texts("holds", problems);
    if holds.is_empty() && section.value("holds").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("holds", "[\"leaf\", \"intermediates\"]", problems);
    }
    let password = section.value("password").and_then(|_| read_secret(section, "password", "P12_PASSWORD", problems));
    let contents = if holds.iter().any(|piece| piece.value == "pkcs12") {
        if let [_, more, ..] = holds.as_slice() {
            let message = "a PKCS#12 file already holds the key and the chain";
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
        .map_or_else(|| contents.default_mode(), |mode| mode.value);
    let (owner, group) = (section.plain_text("owner", problems), section.plain_text("group", problems));
    let file = file?;
    let file = At { value: PathBuf::from(file.value), span: file.span };
    Some(DeliveryEntry { file, contents, mode, owner, group, password })
}

pub(super) fn read_command(section: &Section<'_>, problems: &mut Diagnostics) -> Option<Command> {
    let run = read_words(section, "run", problems);
    if run.first().is_none_or(String::is_empty) && section.value("run").is_none_or(|value| value.get_ref().is_array()) {
        section.missing("run", "[\"systemctl\", \"reload\", \"edge\"]", problems);
    }
    let within = section.duration("within", problems).unwrap_or(USUAL_WITHIN);
    (!run.is_empty()).then_some(Command { run, within })
}
