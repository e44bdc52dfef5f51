//! `pindrel cert renew`

use clap::Args;
use pindrel_core::desired::CertificateId;
use pindrel_engine::Scope;

use super::named;
use crate::commands::settle;
use crate::context::{Context, block_on};
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
}

pub(super) fn run(context: &Context, args: &RenewArgs) -> Result<Status, CliError> {
    let ids = |desired: &pindrel_core::desired::Desired| -> Result<Vec<CertificateId>, CliError> {
        if args.all {
            return Ok(desired.certificate_ids().filter(|id| desired.certificate(*id).authority.is_some()).collect());
        }
        args.names.iter().map(|name| named(desired, name)).collect()
    };
    block_on(settle::with(context, "cert renew", async |engine| {
        let ids = ids(engine.desired())?;
        engine.ask_for_renewal(&ids)?;
        Ok(Scope::of_certificates(engine.desired(), &ids))
    }))
}
