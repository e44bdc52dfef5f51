//! `pindrel adopt`

use std::sync::Arc;

use clap::{Args, Subcommand};
use clap_complete::engine::ArgValueCandidates;
use pindrel_engine::{Access, Adoptable, Candidate};

use crate::args::{RunBounds, Span};
use crate::commands::cert;
use crate::completion;
use crate::context::{Context, access, bounds};
use crate::error::{CliError, Status};
use crate::output;

/// Take what exists and is right into Pindrel's care
///
/// What Pindrel has no record of having written it leaves alone. After a lost state, or
/// for what was made by hand, this makes the record: from then on settle may change it.
///
/// With --all, everything of the manifest's hostnames is listed with what proves it to be
/// the manifest's own; --yes takes over what is proven. What is not proven is taken over by
/// its name only.
///
/// Examples:
///   pindrel adopt --all
///   pindrel adopt --all --yes
///   pindrel adopt binding api.larkfield.example
///
/// Exit status: 0 done, 3 something listed is not taken over.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, arg_required_else_help = true, verbatim_doc_comment)]
pub(crate) struct AdoptArgs {
    /// List all aliases and bindings that could be taken over
    #[arg(long)]
    all: bool,

    /// Take over what is proven
    #[arg(long, requires = "all")]
    yes: bool,

    #[command(subcommand)]
    command: Option<AdoptCommand>,
}

/// What is taken over.
#[derive(Debug, Subcommand)]
enum AdoptCommand {
    Certificate(CertificateArgs),
    Binding(BindingArgs),
    Alias(AliasArgs),
}

/// Take over the binding of a hostname at its endpoint
///
/// It is left as it is; the next settle changes what differs from the manifest.
#[derive(Debug, Args)]
struct BindingArgs {
    /// The hostname
    #[arg(add = ArgValueCandidates::new(completion::hostnames))]
    hostname: String,
}

/// Take over the alias records of a hostname
///
/// They are left as they are; the next settle points them at the endpoint.
#[derive(Debug, Args)]
struct AliasArgs {
    /// The hostname
    #[arg(add = ArgValueCandidates::new(completion::hostnames))]
    hostname: String,
}

/// Take over a certificate that exists as files
///
/// It is checked like one that is imported, and used as it is. When it is due, the
/// authority that the manifest names for it issues the next one.
#[derive(Debug, Args)]
pub(crate) struct CertificateArgs {
    #[command(flatten)]
    what: cert::LooseFilesArgs,
}

pub(crate) async fn run(context: &Context, args: &AdoptArgs) -> Result<Status, CliError> {
    match &args.command {
        Some(AdoptCommand::Certificate(args)) => cert::import_files(context, "adopt certificate", &args.what).await,
        Some(AdoptCommand::Binding(args)) => one(context, &args.hostname, Adoptable::Binding).await,
        Some(AdoptCommand::Alias(args)) => one(context, &args.hostname, Adoptable::Alias).await,
        None => all(context, args.yes).await,
    }
}

async fn one(context: &Context, hostname: &str, what: Adoptable) -> Result<Status, CliError> {
    let mut loaded = context.load()?;
    let home = context.open(&mut loaded, Access::Change).await?;
    let id = loaded.hostname(hostname)?;
    let engine = loaded.engine("adopt", home, bounds(Span(0), RunBounds::default()), Arc::new(())).await?;
    let mut found = engine.adoption.candidates(&[id]).await?;
    found.retain(|candidate| candidate.what == what);
    if found.is_empty() {
        return Err(CliError::Usage {
            says: format!("{hostname} has no {} that Pindrel does not know as its own", what.as_str()),
            remedy: format!("See what is there with: pindrel status --only {hostname} --max-age 0"),
        });
    }
    engine.adoption.adopt(&found).await?;
    output::adopt::print(context, &found, |_| true)?;
    Ok(Status::Done)
}

async fn all(context: &Context, is_meant: bool) -> Result<Status, CliError> {
    let mut loaded = context.load()?;
    output::diagnostics::warn(&loaded.mistakes);
    let home = context.open(&mut loaded, access(!is_meant)).await?;
    let scope = loaded.scope(&[])?;
    let engine = loaded.engine("adopt", home, bounds(Span(0), RunBounds::default()), Arc::new(())).await?;
    let found = engine.adoption.candidates(&scope.hostnames).await?;
    let proven: Vec<Candidate> = found.iter().filter(|candidate| candidate.is_proven()).cloned().collect();
    if is_meant {
        engine.adoption.adopt(&proven).await?;
    }
    output::adopt::print(context, &found, |candidate| is_meant && candidate.is_proven())?;
    let is_done = if is_meant { found.len() == proven.len() } else { found.is_empty() };
    Ok(if is_done { Status::Done } else { Status::NotHeld })
}
