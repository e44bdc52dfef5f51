//! Accounts at authorities.

use std::io::Write as _;
use std::path::Path;

use pindrel_engine::AccountReport;
use serde_json::json;

use super::{VERSION, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Writes what is known of accounts.
pub(crate) fn print(context: &Context, reports: &[AccountReport]) -> Result<(), CliError> {
    if context.format == Format::Json {
        let accounts: Vec<_> = reports.iter().map(as_json).collect();
        return super::json(&json!({ "version": VERSION, "accounts": accounts }));
    }
    let mut out = super::stdout();
    for (n, report) in reports.iter().enumerate() {
        if n > 0 {
            writeln!(out)?;
        }
        writeln!(out, "{}", style::paint(style::STRONG, &report.authority))?;
        let mut line = |what: &str, says: &str| writeln!(out, "  {what:12}{says}");
        line("directory", &report.directory)?;
        let Some(url) = &report.url else {
            line("account", "none yet; settle opens one, or: pindrel account register")?;
            continue;
        };
        line("account", url)?;
        line("status", report.status.map_or("unknown", |status| status.as_str()))?;
        line("contact", &none_or(&report.contact.join(", ")))?;
        let key = report.key.map_or_else(|| "unreadable".to_owned(), |key| key.to_string());
        line("key", &format!("{key}, thumbprint {}", report.thumbprint.as_deref().unwrap_or("unknown")))?;
        line("terms", &none_or(report.terms.as_deref().unwrap_or_default()))?;
        if let Some(terms) = &report.new_terms {
            line("", &style::paint(style::UNDERWAY, format_args!("the terms have changed to {terms}")))?;
            line("", &format!("→ once read, agree with: pindrel account register {} --agree", report.authority))?;
        }
        if report.key_change_pending {
            line("", &style::paint(style::UNDERWAY, "a key change is not confirmed yet; the next command asks again"))?;
        }
        if let Some(why) = &report.unreachable {
            line("", &style::paint(style::BAD, format_args!("shown as last known: {why}")))?;
        }
    }
    Ok(())
}

fn none_or(text: &str) -> String {
    if text.is_empty() { "none".into() } else { text.into() }
}

fn as_json(report: &AccountReport) -> serde_json::Value {
    json!({
        "authority": report.authority,
        "directory": report.directory,
        "account": report.url,
        "status": report.status.map(|status| status.as_str()),
        "contact": report.contact,
        "key": report.key,
        "thumbprint": report.thumbprint,
        "terms": report.terms,
        "new_terms": report.new_terms,
        "key_change_pending": report.key_change_pending,
        "unreachable": report.unreachable,
    })
}

/// Says where a key was taken out to.
pub(crate) fn print_exported_key(context: &Context, authority: &str, path: &Path) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "authority": authority, "file": path }));
    }
    let path = path.display();
    Ok(writeln!(super::stdout(), "Wrote the private key of the account at {authority} to {path}: keep it safe.")?)
}

/// Tells that orders are sent again.
pub(crate) fn print_resumed(context: &Context, authority: &str, lifted: u64) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "authority": authority, "lifted": lifted }));
    }
    let says = match lifted {
        0 => format!("Nothing was held back at {authority}."),
        _ => format!("Orders are sent to {authority} again; the next settle does."),
    };
    Ok(writeln!(super::stdout(), "{says}")?)
}
