//! The tables `[authority.NAME]`.

use std::str::FromStr;

use super::common::{owned, read_path, read_secret, read_url};
use crate::certificates::acme::jws::MacAlgorithm;
use crate::certificates::budget::{Limit, Per, Spending, default_reserve};
use crate::manifest::section::Section;
use crate::manifest::{At, AuthorityEntry, Diagnostics, ExternalAccountEntry};
use crate::names::name::DnsName;
use crate::values::KeyKind;

pub(super) fn read_authority(
    name: At<&str>,
    section: &Section<'_>,
    problems: &mut Diagnostics,
) -> Option<AuthorityEntry> {
    let directory = read_url(section, "directory", "\"https://…/directory\"", problems);
    let contact = section.texts("contact", problems);
    for address in &contact {
        let mail = address.value.strip_prefix("mailto:");
        if !mail.is_some_and(|mail| mail.contains('@') && !mail.contains([',', '?'])) {
            problems.report(
                "bad-value",
                address.span.clone(),
                format!("\"{}\" is not a contact that an authority accepts", address.value),
                "write one mail address in each string, such as \"mailto:tls@larkfield.example\"",
            );
        }
    }
    match section.truth("agree_to_terms", problems) {
        Some(At { value: true, .. }) => {}
        Some(At { value: false, span }) => problems.report(
            "bad-value",
            span,
            "an authority opens no account without agreement to its terms of service",
            "read the terms, then write: agree_to_terms = true",
        ),
        None if section.value("agree_to_terms").is_none() => section.missing("agree_to_terms", "true", problems),
        None => {}
    }
    let caa_identities = section.parsed_list::<DnsName>("caa_identities", "write the domain of CAA records", problems);
    let external = section.inner("external_account_key", problems).and_then(|key| {
        let id = key.needed_text("id", "\"observatory-1\"", problems);
        let secret = read_secret(&key, "secret", "EAB_SECRET", problems);
        let algorithm = key.word("algorithm", problems).map_or(MacAlgorithm::Hs256, |algorithm| algorithm.value);
        Some(ExternalAccountEntry { id: id?.value.to_owned(), secret: secret?, algorithm })
    });
    let limits = section.inner_list("limits", problems);
    let limits = limits.iter().filter_map(|limit| read_limit(limit, problems)).collect();
    let account_key = section.word("account_key", problems).map_or(KeyKind::default(), |kind| kind.value);
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
        at_once: section.number("at_once", problems).map(|number| number.value),
        caa_identities: caa_identities.into_iter().map(|identity| identity.value.to_string()).collect(),
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
    let count = section.number("count", problems);
    let of = section.word::<Spending>("of", problems);
    let per = section.word::<Per>("per", problems);
    let reserve = section.number("reserve", problems);
    let within_secs = section.duration("within", problems)?.as_secs();
    let (count, of, per) = (count?, of?.value, per?.value);
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
    let reserve = reserve.map_or(default_reserve(of, count.value), |reserve| reserve.value);
    Some(Limit { count: count.value, of, per, within_secs, reserve })
}

impl FromStr for MacAlgorithm {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.to_ascii_lowercase().as_str() {
            "hmac-sha256" => Ok(MacAlgorithm::Hs256),
            "hmac-sha384" => Ok(MacAlgorithm::Hs384),
            "hmac-sha512" => Ok(MacAlgorithm::Hs512),
            _ => Err(format!("\"{text}\" is not a MAC of an external account key")),
        }
    }
}
