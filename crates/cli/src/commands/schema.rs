//! `pindrel schema`

use clap::{Args, ValueEnum};

use crate::context::Context;
use crate::error::{CliError, Status};

/// Write a JSON Schema (2020-12) of the manifest or of a JSON output
#[derive(Debug, Args)]
pub(crate) struct SchemaArgs {
    /// What to describe
    of: Described,
}

/// What there are schemas of.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum Described {
    /// The manifest (as JSON; for editors that check TOML by JSON Schema)
    Manifest,
    /// What `check --format json` writes
    Check,
    /// What `status --format json` writes
    Status,
    /// What `settle --dry-run --format json` writes
    Steps,
    /// One line of what `settle --format json` and `keep --format json` write
    Event,
    /// What `health list --format json` writes
    HealthList,
    /// What `health run --format json` writes
    HealthRun,
    /// What `health history --format json` writes
    HealthHistory,
    /// What `health forecast --format json` writes
    HealthForecast,
    /// What `handoff --format json` writes
    Handoff,
    /// What `zone list --format json` writes
    ZoneList,
    /// What `zone show --format json` writes
    ZoneShow,
    /// One line of what `zone watch --format json` writes
    WatchEvent,
    /// What `zone check --format json` writes
    ZoneCheck,
    /// What `zone export --format json` writes
    ZoneExport,
    /// What `zone compare --format json` writes
    ZoneCompare,
    /// What `cert list --format json` writes
    CertList,
    /// What `cert show --format json` writes
    CertShow,
    /// What `account show --format json` writes
    Account,
    /// What `state journal --format json` writes
    Journal,
    /// What `state runs --format json` writes
    Runs,
    /// What `adopt --all --format json` writes
    Adopt,
    /// What `endpoint list --format json` writes
    EndpointList,
    /// What `endpoint conformance --format json` writes
    EndpointConformance,
}

pub(crate) fn run(context: &Context, args: &SchemaArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let text = match args.of {
        Described::Manifest => &format!("{:#}\n", pindrel_core::manifest::schema()),
        Described::Check => include_str!("../schemas/check.json"),
        Described::Status => include_str!("../schemas/status.json"),
        Described::Steps => include_str!("../schemas/steps.json"),
        Described::Event => include_str!("../schemas/event.json"),
        Described::HealthList => include_str!("../schemas/health-list.json"),
        Described::HealthRun => include_str!("../schemas/health-run.json"),
        Described::HealthHistory => include_str!("../schemas/health-history.json"),
        Described::HealthForecast => include_str!("../schemas/health-forecast.json"),
        Described::Handoff => include_str!("../schemas/handoff.json"),
        Described::ZoneList => include_str!("../schemas/zone-list.json"),
        Described::ZoneShow => include_str!("../schemas/zone-show.json"),
        Described::WatchEvent => include_str!("../schemas/watch-event.json"),
        Described::ZoneCheck => include_str!("../schemas/zone-check.json"),
        Described::ZoneExport => include_str!("../schemas/zone-export.json"),
        Described::ZoneCompare => include_str!("../schemas/zone-compare.json"),
        Described::CertList => include_str!("../schemas/cert-list.json"),
        Described::CertShow => include_str!("../schemas/cert-show.json"),
        Described::Account => include_str!("../schemas/account.json"),
        Described::Journal => include_str!("../schemas/journal.json"),
        Described::Runs => include_str!("../schemas/runs.json"),
        Described::Adopt => include_str!("../schemas/adopt.json"),
        Described::EndpointList => include_str!("../schemas/endpoint-list.json"),
        Described::EndpointConformance => include_str!("../schemas/endpoint-conformance.json"),
    };
    std::io::Write::write_all(&mut std::io::stdout(), text.as_bytes())?;
    Ok(Status::Done)
}
