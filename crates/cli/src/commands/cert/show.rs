//! `pindrel cert show`

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use jiff::Timestamp;

use super::named;
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Show all that there is to know of one certificate
///
/// Names, serial, issuers, key, fingerprints, validity, extensions, the renewal window,
/// and the certificates before it.
#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The certificate's name in the manifest, or a hostname that uses it
    #[arg(add = ArgValueCandidates::new(completion::certificates))]
    name: String,
}

pub(super) async fn run(context: &Context, args: &ShowArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let (engine, _) = context.engine().await?;
    // One that the manifest no longer names is still in the state, by its own name.
    let desired = engine.desired();
    let name = named(desired, &args.name).map(|id| desired.certificate(id).name.clone()).unwrap_or(args.name.clone());
    let details = engine.certificates.details(&name).await?;
    output::certificates::print_details(context, Timestamp::now(), &details)?;
    Ok(Status::Done)
}
