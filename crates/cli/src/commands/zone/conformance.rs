//! `pindrel zone conformance`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::names::name::DnsName;
use pindrel_engine::Verdict;

use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::names;
use crate::output;

/// Try what the driver of a zone must do, clause by clause
///
/// Records are added, changed and deleted below one label that nobody uses, and all of them are
/// taken away again. For those who write a program for driver = "program", and for whoever wants
/// to know whether a credential is good for what Pindrel does.
///
/// Exit status: 0 every clause is met, 1 otherwise.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel zone conformance stations.test
  pindrel zone conformance stations.test --label trial-7")]
pub(crate) struct ConformanceArgs {
    /// A zone of the manifest
    #[arg(value_name = "ZONE", add = ArgValueCandidates::new(completion::zones))]
    zone: DnsName,

    /// The label that the trial's records are made below
    #[arg(long, value_name = "LABEL", default_value = "pindrel-trial")]
    label: String,
}

pub(super) async fn run(context: &Context, args: &ConformanceArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (engine, _) = context.engine().await?;
    let id = names::zone(engine.desired(), &args.zone)?;
    if args.zone.below(&args.label).is_err() || args.label.contains('.') {
        return Err(CliError::Usage {
            says: format!("\"{}\" is not one label of a name", args.label),
            remedy: "Write one label of letters, digits and hyphens".into(),
        });
    }
    let clauses = engine.zones.try_driver(id, &args.label).await?;
    output::conformance::print(context, ("zone", args.zone.as_str()), &clauses)?;
    let kept = clauses.iter().all(|report| !matches!(report.verdict, Verdict::NotMet { .. }));
    Ok(if kept { Status::Done } else { Status::Failed })
}
