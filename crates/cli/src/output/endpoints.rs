//! Endpoints, and what is at them.

use std::collections::BTreeMap;
use std::io::Write as _;

use comfy_table::{Cell, Color};
use jiff::Timestamp;
use pindrel_core::endpoints::endpoint::Deployment;
use pindrel_engine::{CopyReport, EndpointReport, ServerState, TokenScope, WrittenFile};
use serde_json::json;

use super::{VERSION, count, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The most hostnames that are written for one endpoint.
const MOST_LISTED: usize = 10;

/// Writes all endpoints.
pub(crate) fn print(context: &Context, reports: &[EndpointReport]) -> Result<(), CliError> {
    match context.format {
        Format::Json => super::json(&json!({ "version": VERSION, "endpoints": reports })),
        Format::Csv => {
            let heads =
                ["name", "kind", "site", "default_name", "custom_hostnames", "bindings", "certificates", "trouble"];
            super::csv(
                &heads,
                reports.iter().map(|report| {
                    [
                        report.name.clone(),
                        report.kind.to_string(),
                        report.site.clone().unwrap_or_default(),
                        report.default_name.clone().unwrap_or_default(),
                        report.custom_hostnames.as_ref().map_or(String::new(), |custom| custom.allowed.to_string()),
                        report.bindings.len().to_string(),
                        report.certificates.len().to_string(),
                        report.trouble.clone().unwrap_or_default(),
                    ]
                }),
            )
        }
        Format::Text => print_text(reports),
    }
}

/// Writes one endpoint, with what was written for it where its server is on this machine.
pub(crate) fn print_one(
    context: &Context,
    report: &EndpointReport,
    files: &[WrittenFile],
    servers: &[ServerState],
) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({
            "version": VERSION, "endpoint": report.name, "is": report, "files": files, "servers": servers,
        }));
    }
    print_table(std::slice::from_ref(report))?;
    let mut out = super::stdout();
    print_details(&mut out, report)?;
    if !files.is_empty() {
        writeln!(out)?;
    }
    for file in files {
        writeln!(out, "{}", style::paint(style::STRONG, format_args!("# {}", file.path)))?;
        writeln!(out, "{}", file.text)?;
    }
    for server in servers {
        let last = server.last_check.as_deref().map_or(String::new(), |text| format!(" ({text})"));
        let colour = if server.status.starts_with("UP") { style::GOOD } else { style::UNDERWAY };
        let status = style::paint(colour, &server.status);
        writeln!(out, "{}/{}  {status}{}", server.group, server.server, style::paint(style::FAINT, last))?;
    }
    Ok(())
}

/// Writes what a server's own configuration must have.
pub(crate) fn print_configuration(context: &Context, name: &str, text: Option<String>) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "endpoint": name, "configuration": text }));
    }
    let none = || format!("Nothing has to stand in the configuration of {name} beside what is written for it.\n");
    write!(super::stdout(), "{}", text.unwrap_or_else(none))?;
    Ok(())
}

fn print_table(reports: &[EndpointReport]) -> Result<(), CliError> {
    let mut table = super::table(&["ENDPOINT", "KIND", "SITE", "HOSTNAMES", "STORE", "ALIASES POINT AT"]);
    for report in reports {
        let quota = |quota: Option<pindrel_core::endpoints::endpoint::Quota>, used: usize| match quota {
            Some(quota) => format!("{} of {}", quota.used, quota.most),
            None => used.to_string(),
        };
        let name = Cell::new(&report.name);
        let refuses = report.custom_hostnames.as_ref().is_some_and(|custom| !custom.allowed);
        let name = if report.trouble.is_some() || refuses { name.fg(Color::DarkRed) } else { name };
        table.add_row([
            name,
            Cell::new(report.kind),
            Cell::new(report.site.as_deref().unwrap_or("–")),
            Cell::new(quota(report.quotas.hostnames, report.bindings.len())),
            Cell::new(quota(report.quotas.certificates, report.certificates.len())),
            Cell::new(report.default_name.as_deref().unwrap_or("–")),
        ]);
    }
    super::write_table(table, &[3, 4], &[5, 2])
}

fn print_text(reports: &[EndpointReport]) -> Result<(), CliError> {
    print_table(reports)?;
    let mut out = super::stdout();
    for report in reports {
        print_details(&mut out, report)?;
    }
    let mut wide: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for report in reports {
        if let Some(says) = report.token.as_ref().and_then(TokenScope::beyond_need) {
            wide.entry(says).or_default().push(&report.name);
        }
    }
    for (says, names) in &wide {
        writeln!(
            out,
            "{} the token for {} {says}; one with less is enough",
            style::paint(style::UNDERWAY, "!"),
            names.join(", ")
        )?;
    }
    let bound: usize = reports.iter().map(|report| report.bindings.len()).sum();
    writeln!(out, "{} bound at {}.", count(bound, "hostname"), count(reports.len(), "endpoint"))?;
    Ok(())
}

fn print_details(out: &mut impl std::io::Write, report: &EndpointReport) -> Result<(), CliError> {
    let name = style::paint(style::STRONG, &report.name);
    if let Some(trouble) = &report.trouble {
        writeln!(out, "{} {name}: {trouble}", style::paint(style::BAD, "✕"))?;
    }
    if let Some(custom) = report.custom_hostnames.as_ref().filter(|custom| !custom.allowed) {
        let why = custom.reason.as_deref().unwrap_or("its platform states no reason");
        writeln!(out, "{} {name} takes no custom hostnames: {why}", style::paint(style::BAD, "✕"))?;
    }
    if let Some(manifest) = report.kind_in_manifest {
        let mark = style::paint(style::UNDERWAY, "!");
        writeln!(
            out,
            "{mark} {name}: the manifest says that it is a {manifest}, its platform that it is a {}",
            report.kind
        )?;
    }
    let open = report.default_name_status;
    let open = open.map(|status| format!("answers under its default name too, with status {status}"));
    let offers = (!report.offers.is_empty()).then(|| report.offers.join(", "));
    let facts: Vec<String> = offers.into_iter().chain(open).collect();
    let is_unused = |copy: &CopyReport| copy.stored.used_by == Some(0);
    if report.bindings.is_empty() && facts.is_empty() && !report.certificates.iter().any(is_unused) {
        return Ok(());
    }
    writeln!(out, "{name}  {}", style::paint(style::FAINT, facts.join("; ")))?;
    for binding in report.bindings.iter().take(MOST_LISTED) {
        let copy = report.certificates.iter().find(|copy| Some(copy.stored.sha256) == binding.certificate);
        let end = copy.and_then(|copy| copy.stored.not_after).or(binding.not_after);
        let days = end.map_or_else(String::new, days_left);
        let state = match &binding.deployment {
            Deployment::Deployed => String::new(),
            Deployment::Deploying => ", deploying".into(),
            Deployment::Failed { reason } => format!(", failed: {reason}"),
        };
        let foreign = match (binding.wanted, binding.led) {
            (true, _) => "",
            (false, Some(false)) => ", not in the manifest, and no alias leads here",
            (false, _) => ", not in the manifest",
        };
        let certificate = match binding.certificate {
            Some(sha256) => format!("certificate {}…", sha256.short()),
            None => "certificate of the platform".to_owned(),
        };
        let more = format!("{certificate}{days}{state}{foreign}");
        writeln!(out, "  {}  {}", binding.hostname, style::paint(style::FAINT, more))?;
    }
    if let Some(more @ 1..) = report.bindings.len().checked_sub(MOST_LISTED) {
        writeln!(out, "  {}", style::paint(style::FAINT, format_args!("and {more} more")))?;
    }
    // Copies that no binding uses, as far as the platform says.
    let unused: Vec<String> = report.certificates.iter().filter(|copy| is_unused(copy)).map(in_words).collect();
    for copy in unused.iter().take(MOST_LISTED) {
        writeln!(out, "  {}", style::paint(style::FAINT, format_args!("in its store, used by none: {copy}")))?;
    }
    if let Some(more @ 1..) = unused.len().checked_sub(MOST_LISTED) {
        writeln!(out, "  {}", style::paint(style::FAINT, format_args!("and {more} more that none uses")))?;
    }
    Ok(())
}

fn days_left(end: Timestamp) -> String {
    format!(", {} days left", (end.as_second() - Timestamp::now().as_second()) / 86_400)
}

fn in_words(copy: &CopyReport) -> String {
    let name = copy.name.as_ref().map_or_else(String::new, |name| format!("{name}, "));
    format!("{name}{}…{}", copy.stored.sha256.short(), copy.stored.not_after.map_or_else(String::new, days_left))
}
