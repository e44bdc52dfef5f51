//! `pindrel check`

use std::sync::Arc;

use clap::Args;
use pindrel_core::judging::findings::{Cause, MachineCause};
use pindrel_engine::{Access, OnlineReport};

use crate::args::{RunBounds, Span};
use crate::context::{Context, bounds};
use crate::error::{CliError, Mistakes, Status};
use crate::output;

/// Read the manifest and report every mistake with its place
///
/// Without --online nothing outside this machine is asked. Secrets and root certificates that the
/// manifest refers to are read, and never shown.
///
/// With --online all that the manifest depends on is looked at as well, and nothing is changed:
/// delegations and servers, what the credential of each zone may do (too little, or more than is
/// needed), the authorities' directories, CAA records and challenge names, and the platforms of
/// the endpoints.
///
/// Exit status: 0 all is right, 2 the manifest has mistakes, 3 something that it depends on cannot be used.
#[derive(Debug, Clone, Default, Args)]
#[command(after_help = "Examples:
  pindrel check
  pindrel check --online
  pindrel check --format json")]
pub(crate) struct CheckArgs {
    /// Look at all that the manifest depends on as well
    #[arg(long)]
    pub(crate) online: bool,
}

/// Leaves out the warnings about secrets and files of which a finding says the same.
fn leave_out_reported(mistakes: &mut Mistakes, reports: &[OnlineReport]) {
    let findings = reports.iter().flat_map(|report| &report.findings);
    let reported: Vec<String> = findings
        .filter_map(|finding| match finding.cause() {
            Cause::Machine(MachineCause::SecretUnreadable { place, .. }) => Some(place.clone()),
            Cause::Machine(MachineCause::File { path, .. }) => Some(path.display().to_string()),
            _ => None,
        })
        .collect();
    let Mistakes { source, warnings, .. } = mistakes;
    warnings.retain(|warning| {
        let written = source.text().get(warning.span.clone()).unwrap_or_default().trim_matches(['"', '\'']);
        !reported.iter().any(|place| place == written)
    });
}

pub(crate) async fn run(context: &Context, args: &CheckArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (desired, mut mistakes) = context.examine()?;
    if !mistakes.errors.is_empty() || !args.online {
        output::diagnostics::print(context, &desired, &mistakes, None)?;
        return Ok(if mistakes.errors.is_empty() { Status::Done } else { Status::Wrong });
    }
    let mut loaded = context.load_to_look()?;
    let home = context.open(&mut loaded, Access::Read).await?;
    let engine = loaded.engine("check", home, bounds(Span(0), RunBounds::default()), Arc::new(())).await?;
    let reports = engine.reports.online().await?;
    leave_out_reported(&mut mistakes, &reports);
    output::diagnostics::print(context, &desired, &mistakes, Some(&reports))?;
    Ok(if output::online::is_hindered(&reports) { Status::NotHeld } else { Status::Done })
}
