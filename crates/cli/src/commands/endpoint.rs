//! `pindrel endpoint`

use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::desired::EndpointId;
use pindrel_core::names::name::Hostname;
use pindrel_engine::{Engine, Verdict};

use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::{names, output};

/// Look at endpoints: list, show, conformance
#[derive(Debug, Subcommand)]
pub(crate) enum EndpointCommand {
    List(ListArgs),
    Show(ShowArgs),
    Conformance(ConformanceArgs),
}

/// List what each endpoint of the manifest offers, what is bound there, and what its store holds
///
/// Asks each platform. Exit status: 0 done, 1 a platform does not answer.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel endpoint list
  pindrel endpoint list --format json")]
pub(crate) struct ListArgs {}

/// Show one endpoint: what is bound there, and for a server on this machine what was written for it
///
/// A balancer's own view of its servers is shown as well. No private key is among it.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel endpoint show web
  pindrel endpoint show balance --configuration")]
pub(crate) struct ShowArgs {
    /// The endpoint's name in the manifest
    #[arg(add = ArgValueCandidates::new(completion::endpoints))]
    name: String,

    /// Print what its own configuration must have once, where it is told the rest at run time
    #[arg(long)]
    configuration: bool,
}

/// Report how a platform or an adapter keeps each clause of the endpoint protocol
///
/// For whoever writes one. Puts two certificates that nobody trusts into the store, binds the
/// hostname, changes and deletes the binding, connects to the endpoint, and takes all of it away
/// again. No zone is touched. Exit status: 0 each clause is met or not offered, 1 one is not met.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel endpoint conformance catalogue --hostname trial.larkfield.example")]
pub(crate) struct ConformanceArgs {
    /// The endpoint's name in the manifest
    #[arg(add = ArgValueCandidates::new(completion::endpoints))]
    name: String,

    /// A hostname that nobody uses, for the platform to be bound with
    #[arg(long, value_name = "HOSTNAME")]
    hostname: Hostname,
}

pub(crate) async fn run(context: &Context, command: &EndpointCommand) -> Result<Status, CliError> {
    match command {
        EndpointCommand::List(ListArgs {}) => list(context).await,
        EndpointCommand::Show(args) => show(context, args).await,
        EndpointCommand::Conformance(args) => conformance(context, args).await,
    }
}

async fn show(context: &Context, args: &ShowArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (engine, _) = context.engine().await?;
    let id = endpoint_named(&engine, &args.name)?;
    if args.configuration {
        output::endpoints::print_configuration(context, &args.name, engine.endpoints.configuration(id)?)?;
        return Ok(Status::Done);
    }
    let report = engine.endpoints.report(id).await?;
    // Who configures it is somebody else.
    let (files, servers) = match engine.desired().endpoint(id).is_on_this_machine() {
        true => engine.endpoints.files(id).await?,
        false => Default::default(),
    };
    output::endpoints::print_one(context, &report, &files, &servers)?;
    Ok(if report.trouble.is_none() { Status::Done } else { Status::Failed })
}

async fn conformance(context: &Context, args: &ConformanceArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (engine, _) = context.engine().await?;
    let id = endpoint_named(&engine, &args.name)?;
    if engine.desired().hostnames.iter().any(|wanted| wanted.hostname == args.hostname) {
        return Err(CliError::Usage {
            says: format!("{} is in the manifest, so it is not free for a trial", args.hostname),
            remedy: "Name a hostname that nobody uses".into(),
        });
    }
    let clauses = engine.endpoints.try_protocol(id, &args.hostname).await?;
    output::conformance::print(context, ("endpoint", &args.name), &clauses)?;
    let kept = clauses.iter().all(|report| !matches!(report.verdict, Verdict::NotMet { .. }));
    Ok(if kept { Status::Done } else { Status::Failed })
}

fn endpoint_named(engine: &Engine, name: &str) -> Result<EndpointId, CliError> {
    let desired = engine.desired();
    desired.endpoint_named(name).ok_or_else(|| {
        let says = format!("the manifest has no [endpoint.{name}]");
        let known = desired.endpoints.iter().map(|endpoint| endpoint.name.as_str());
        names::unknown(says, name, known, "pindrel endpoint list")
    })
}

async fn list(context: &Context) -> Result<Status, CliError> {
    let (engine, _) = context.engine().await?;
    let reports = engine.endpoints.reports().await?;
    output::endpoints::print(context, &reports)?;
    Ok(if reports.iter().all(|report| report.trouble.is_none()) { Status::Done } else { Status::Failed })
}
