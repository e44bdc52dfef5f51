//! What is read alike in several tables.

use crate::names::name::DnsName;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::str::FromStr;

use url::Url;

use crate::manifest::section::{Section, parse};
use crate::manifest::{At, Diagnostics};
use crate::values::SecretRef;

pub(super) const TTL_HELP: &str = "write a whole number with s, m, h or d, such as \"10m\"";
const NAME_HELP: &str = "write a full name of letters, digits and hyphens, such as api.larkfield.example";
const URL_HELP: &str = "write an https:// URL";

pub(super) fn owned(text: At<&str>) -> At<String> {
    At { value: text.value.to_owned(), span: text.span }
}

pub(super) fn parse_name<T: FromStr>(text: At<&str>, problems: &mut Diagnostics) -> Option<At<T>>
where
    T::Err: std::fmt::Display,
{
    match text.value.parse() {
        Ok(value) => Some(At { value, span: text.span }),
        Err(error) => {
            let message = format!("\"{}\" is not a hostname: {error}", text.value.chars().take(80).collect::<String>());
            problems.report("bad-name", text.span, message, NAME_HELP);
            None
        }
    }
}

/// Reads the driver of a table, and reports the keys that belong to others.
pub(super) fn read_driver<'d, R>(
    section: &Section<'_>,
    drivers: &'d [(&str, R)],
    problems: &mut Diagnostics,
) -> Option<&'d R> {
    let first = drivers.first().map_or_else(String::new, |(name, _)| format!("{name:?}"));
    let driver = section.needed_text("driver", &first, problems)?;
    if let Some((name, reader)) = drivers.iter().find(|(name, _)| *name == driver.value) {
        section.refuse_of_others(name, problems);
        return Some(reader);
    }
    let names: Vec<&str> = drivers.iter().map(|(name, _)| *name).collect();
    let message = format!("there is no driver \"{}\" for [{}]", driver.value, section.title());
    problems.report("bad-value", driver.span, message, format!("write \"{}\"", names.join("\" or \"")));
    None
}

pub(super) fn read_secret(
    section: &Section<'_>,
    key: &str,
    variable: &str,
    problems: &mut Diagnostics,
) -> Option<At<SecretRef>> {
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

pub(super) fn read_url(section: &Section<'_>, key: &str, example: &str, problems: &mut Diagnostics) -> Option<Url> {
    let text = section.needed_text(key, example, problems)?;
    let url: At<Url> = parse(text, URL_HELP, problems)?;
    let bare = url.value.username().is_empty() && url.value.password().is_none();
    if url.value.scheme() == "https" && url.value.has_host() && bare {
        return Some(url.value);
    }
    let message = if bare { format!("\"{key}\" is not an https URL") } else { format!("\"{key}\" holds a password") };
    problems.report("bad-value", url.span, message, URL_HELP);
    None
}

/// Reads `program`: a program and its arguments.
pub(super) fn read_program_words(
    section: &Section<'_>,
    example: &str,
    problems: &mut Diagnostics,
) -> Option<Vec<String>> {
    if section.value("program").is_none() {
        section.missing("program", example, problems);
    }
    let words = read_words(section, "program", problems);
    if words.first().is_none_or(String::is_empty)
        && let Some(value) = section.value("program").filter(|value| value.get_ref().as_array().is_some())
    {
        let help = format!("write the program and its arguments, such as {example}");
        problems.report("bad-value", section.at(value.span()), "\"program\" names no program", help);
    }
    (!words.is_empty()).then_some(words)
}

pub(super) fn read_path(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Option<At<PathBuf>> {
    section.text(key, problems).map(|path| At { value: PathBuf::from(path.value), span: path.span })
}

pub(super) fn read_words(section: &Section<'_>, key: &str, problems: &mut Diagnostics) -> Vec<String> {
    section.texts(key, problems).into_iter().map(|word| word.value.to_owned()).collect()
}

/// The address of a DNS server, with port 53 unless it says another.
pub(super) struct NameServer(pub(super) SocketAddr);

impl FromStr for NameServer {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let whole = text.parse::<SocketAddr>();
        let address = whole.or_else(|_| text.parse::<IpAddr>().map(|address| SocketAddr::new(address, 53)));
        address.map(NameServer).map_err(|_| format!("\"{text}\" is not the address of a DNS server"))
    }
}

/// A status or a range of them, as in `200-299`.
pub(super) struct StatusRange(pub(super) u16, pub(super) u16);

impl FromStr for StatusRange {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (low, high) = text.split_once('-').unwrap_or((text, text));
        match (low.parse(), high.parse()) {
            (Ok(low), Ok(high)) if (100..=599).contains(&low) && (low..=599).contains(&high) => {
                Ok(StatusRange(low, high))
            }
            _ => Err(format!("\"{text}\" is not an HTTP status")),
        }
    }
}

pub(super) fn is_path(text: &str) -> bool {
    text.starts_with('/') && !text.contains(|c: char| c.is_whitespace() || c.is_control() || c == '#')
}

/// Reads the name that aliases point at, where there is one.
pub(super) fn read_default_name(section: &Section<'_>, problems: &mut Diagnostics) -> Option<DnsName> {
    let name = section.text("default_name", problems)?;
    parse_name(name, problems).map(|name| name.value)
}
