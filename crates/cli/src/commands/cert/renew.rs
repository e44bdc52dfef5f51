//! `pindrel cert renew`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::desired::{CertificateId, Desired};
use pindrel_engine::Scope;

use super::named;
use crate::args::RunBounds;
use crate::commands::settle;
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Renew certificates now, whether or not they are due
///
/// Each is issued anew, stored, bound, delivered and verified as served. What is due
/// anyway is renewed by settle; nothing needs this command for that.
#[derive(Debug, Args)]
pub(crate) struct RenewArgs {
    /// The certificates' names in the manifest, or hostnames that use them
    #[arg(value_name = "NAME", required_unless_present = "all", add = ArgValueCandidates::new(completion::certificates))]
    names: Vec<String>,

    /// Renew all that come from an authority
    #[arg(long, conflicts_with = "names")]
    all: bool,

    /// Withdraw a request that has not succeeded yet: renew when it is due
    #[arg(long)]
    cancel: bool,

    #[command(flatten)]
    bounds: RunBounds,
}

pub(super) async fn run(context: &Context, args: &RenewArgs) -> Result<Status, CliError> {
    if !args.cancel {
        return renew_all(context, args).await;
    }
    context.refuse_csv()?;
    let engine = context.changing_engine("cert renew").await?;
    let ids = wanted(engine.desired(), args)?;
    let withdrawn = engine.certificates.withdraw_renewal(&ids).await?;
    output::certificates::print_withdrawn(context, &withdrawn)?;
    Ok(Status::Done)
}

/// The certificates that are meant.
fn wanted(desired: &Desired, args: &RenewArgs) -> Result<Vec<CertificateId>, CliError> {
    if args.all {
        return Ok(desired.certificate_ids().filter(|id| desired.certificate(*id).authority.is_some()).collect());
    }
    args.names.iter().map(|name| named(desired, name)).collect()
}

/// Renews one certificate.
pub(crate) async fn renew(context: &Context, name: &str) -> Result<Status, CliError> {
    let names = vec![name.to_owned()];
    renew_all(context, &RenewArgs { names, all: false, cancel: false, bounds: RunBounds::default() }).await
}

async fn renew_all(context: &Context, args: &RenewArgs) -> Result<Status, CliError> {
    settle::run_prepared(context, "cert renew", args.bounds, async |engine| {
        let desired = engine.desired();
        let ids = wanted(desired, args)?;
        engine.certificates.request_renewal(&ids).await?;
        Ok(Scope::of_certificates(desired, &ids))
    })
    .await
}
