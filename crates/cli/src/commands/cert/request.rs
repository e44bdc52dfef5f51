//! `pindrel cert request`

use std::path::PathBuf;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;

use super::named;
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Make a key and a signing request for a certificate that another issuer makes
///
/// The key stays sealed in the state; the request (PKCS#10, PEM) is what the issuer
/// wants. Bring what comes back in with: pindrel cert import
#[derive(Debug, Args)]
pub(crate) struct RequestArgs {
    /// The certificate's name in the manifest
    #[arg(add = ArgValueCandidates::new(completion::certificates))]
    name: String,

    /// Write the request to this file, not to standard output
    #[arg(long, value_name = "PATH")]
    out: Option<PathBuf>,
}

pub(super) async fn run(context: &Context, args: &RequestArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let engine = context.changing_engine("cert request").await?;
    let id = named(engine.desired(), &args.name)?;
    let pem = engine.certificates.signing_request(id).await?;
    if let Some(path) = &args.out {
        std::fs::write(path, &pem).map_err(|error| CliError::file(path, "written", &error))?;
    }
    output::certificates::print_request(context, &engine.desired().certificate(id).name, &pem, args.out.as_deref())?;
    Ok(Status::Done)
}
