//! `pindrel cert renew`

use clap::Args;
use pindrel_core::desired::CertificateId;
use pindrel_engine::Scope;

use super::named;
use crate::args::RunBounds;
use crate::commands::settle;
use crate::context::Context;
use crate::error::{CliError, Status};

/// Renew certificates now, whether or not they are due
///
/// Each is issued anew, stored, bound, delivered and verified as served. What is due
/// anyway is renewed by settle; nothing needs this command for that.
#[derive(Debug, Args)]
pub(crate) struct RenewArgs {
    /// The certificates' names in the manifest, or hostnames that use them
    #[arg(value_name = "NAME", required_unless_present = "all")]
    names: Vec<String>,

    /// Renew all that come from an authority
    #[arg(long, conflicts_with = "names")]
    all: bool,

    #[command(flatten)]
    bounds: RunBounds,
}

pub(super) async fn run(context: &Context, args: &RenewArgs) -> Result<Status, CliError> {
    renew_all(context, args).await
}

/// Renews one certificate.
pub(crate) async fn renew(context: &Context, name: &str) -> Result<Status, CliError> {
    renew_all(context, &RenewArgs { names: vec![name.to_owned()], all: false, bounds: RunBounds::default() }).await
}

async fn renew_all(context: &Context, args: &RenewArgs) -> Result<Status, CliError> {
    settle::run_prepared(context, "cert renew", args.bounds, async |engine| {
        let desired = engine.desired();
        let ids = if args.all {
            desired.certificate_ids().filter(|id| desired.certificate(*id).authority.is_some()).collect()
        } else {
            args.names.iter().map(|name| named(desired, name)).collect::<Result<Vec<CertificateId>, _>>()?
        };
        engine.request_renewal(&ids).await?;
        Ok(Scope::of_certificates(desired, &ids))
    })
    .await
}
