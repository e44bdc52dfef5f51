//! `pindrel cert list`

use clap::{Args, ValueEnum};
use jiff::Timestamp;
use pindrel_core::values::parse_duration;
use pindrel_engine::CertificateReport;

use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// List the certificates with their days left
///
/// One line a certificate: its names, where it comes from, its key, how many days are
/// left, when it is renewed, how the last order ended and where it is used.
#[derive(Debug, Default, Args)]
pub(crate) struct ListArgs {
    /// Only those with this label; may be repeated, and then all must be there
    #[arg(long, value_name = "LABEL")]
    label: Vec<String>,

    /// Only those from this authority of the manifest, or "elsewhere" or "self-signed"
    #[arg(long, value_name = "NAME")]
    from: Option<String>,

    /// Only those that end within this time, such as 30d
    #[arg(long, value_name = "TIME", value_parser = parse_seconds)]
    ends_within: Option<i64>,

    /// Only those with something left to do
    #[arg(long)]
    not_held: bool,

    /// What the list is sorted by
    #[arg(long, value_name = "BY", default_value = "manifest")]
    sort: Sort,
}

/// What a list is sorted by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, ValueEnum)]
enum Sort {
    /// The order of the manifest
    #[default]
    Manifest,
    /// The name
    Name,
    /// The end, the next one first
    End,
    /// The renewal, the next one first
    Renewal,
    /// The authority
    From,
}

fn parse_seconds(text: &str) -> Result<i64, String> {
    let span = parse_duration(text).map_err(|error| error.to_string())?;
    i64::try_from(span.as_secs()).map_err(|error| error.to_string())
}

pub(crate) async fn list(context: &Context, args: &ListArgs) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    names::known_labels(engine.desired(), &args.label)?;
    let now = Timestamp::now();
    let mut reports = engine.certificates.reports().await?;
    reports.retain(|report| args.keeps(report, now));
    match args.sort {
        Sort::Manifest => {}
        Sort::Name => reports.sort_by(|one, other| one.name.cmp(&other.name)),
        Sort::From => reports.sort_by(|one, other| one.from.cmp(&other.from)),
        Sort::End => reports.sort_by_key(|report| report.expires.unwrap_or(Timestamp::MIN)),
        Sort::Renewal => reports.sort_by_key(|report| report.renew_at.unwrap_or(Timestamp::MIN)),
    }
    output::certificates::print_list(context, now, &reports)?;
    Ok(Status::Done)
}

impl ListArgs {
    fn keeps(&self, report: &CertificateReport, now: Timestamp) -> bool {
        let ends = report.expires.map(|expires| expires.as_second() - now.as_second());
        self.label.iter().all(|label| report.labels.contains(label))
            && self.from.as_ref().is_none_or(|from| *from == report.from)
            && self.ends_within.is_none_or(|within| ends.is_some_and(|ends| ends <= within))
            && (!self.not_held || !report.is_held())
    }
}
