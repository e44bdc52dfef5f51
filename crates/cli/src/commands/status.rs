//! `pindrel status`

use std::sync::Arc;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use pindrel_engine::{Access, LeftoverScope};

use crate::args::{MAX_AGE, RunBounds, Span};
use crate::completion;
use crate::context::{Context, bounds};
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// Show the five pins of every hostname
///
/// Facts that are older than --max-age are looked at again; nothing is changed. A
/// hostname is held when all five pins are: zone, certificate, binding, alias, answer.
/// Certificates that no hostname uses stand below, and what is left over of hostnames
/// that the manifest no longer names.
///
/// Exit status: 0 all held and nothing left over, 3 otherwise.
#[derive(Debug, Clone, Args)]
pub(crate) struct StatusArgs {
    /// Show only this hostname, or certificate that no hostname uses; may be repeated
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(completion::hostnames))]
    pub(crate) only: Vec<String>,

    /// Show only what has this label; may be repeated, and then all must be there
    #[arg(long, value_name = "LABEL")]
    pub(crate) label: Vec<String>,

    /// Look again at what was seen longer ago than this
    #[arg(long, value_name = "DURATION", default_value_t = MAX_AGE)]
    pub(crate) max_age: Span,
}

impl Default for StatusArgs {
    fn default() -> Self {
        StatusArgs { only: Vec::new(), label: Vec::new(), max_age: MAX_AGE }
    }
}

pub(crate) async fn run(context: &Context, args: &StatusArgs) -> Result<Status, CliError> {
    let mut loaded = context.load_to_look()?;
    output::diagnostics::warn(&loaded.mistakes);
    let home = context.open(&mut loaded, Access::Read).await?;
    let mut scope = loaded.scope(&args.only)?;
    names::known_labels(&loaded.desired, &args.label)?;
    let (desired, has_all) =
        (&loaded.desired, |labels: &[String]| args.label.iter().all(|label| labels.contains(label)));
    // Leftovers have no labels.
    if !args.label.is_empty() {
        scope.leftovers = LeftoverScope::None;
    }
    scope.hostnames.retain(|id| has_all(&desired.hostname(*id).labels));
    scope.certificates.retain(|id| has_all(&desired.certificate(*id).terms.labels));
    let kept_back = std::mem::take(&mut loaded.kept_back);
    let engine = loaded.engine("status", home, bounds(args.max_age, RunBounds::default()), Arc::new(())).await?;
    let report = engine.reports.status(&scope).await?;
    output::status::print(context, &report, &kept_back)?;
    let held = report.held() == report.total() && report.leftovers.is_empty();
    Ok(if held { Status::Done } else { Status::NotHeld })
}
