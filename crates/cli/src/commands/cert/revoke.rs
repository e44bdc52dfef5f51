//! `pindrel cert revoke`

use clap::{Args, ValueEnum};
use pindrel_engine::{RevocationKey, RevokeReason, Scope};

use super::kept;
use crate::args::RunBounds;
use crate::commands::settle;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Revoke a certificate, and replace it at once
///
/// After a key compromise the next certificate always has a new key, whatever the
/// manifest says of keys.
#[derive(Debug, Args)]
pub(crate) struct RevokeArgs {
    /// The certificate's name in the manifest, or a hostname that uses it; also one left over
    name: String,

    /// Why (RFC 5280 §5.3.1)
    #[arg(long, value_name = "REASON", default_value = "unspecified")]
    reason: Reason,

    /// Which key signs for it
    #[arg(long, value_name = "KEY", default_value = "account")]
    by: By,

    /// Do not replace it: the next settle will not either, until it is due
    #[arg(long)]
    no_replacement: bool,

    #[command(flatten)]
    bounds: RunBounds,
}

/// Why a certificate is revoked.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Reason {
    Unspecified,
    KeyCompromise,
    AffiliationChanged,
    Superseded,
    CessationOfOperation,
}

/// Which key signs for a revocation.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum By {
    /// The account's key
    Account,
    /// The certificate's own key
    Certificate,
}

pub(super) async fn run(context: &Context, args: &RevokeArgs) -> Result<Status, CliError> {
    let reason = match args.reason {
        Reason::Unspecified => RevokeReason::Unspecified,
        Reason::KeyCompromise => RevokeReason::KeyCompromise,
        Reason::AffiliationChanged => RevokeReason::AffiliationChanged,
        Reason::Superseded => RevokeReason::Superseded,
        Reason::CessationOfOperation => RevokeReason::CessationOfOperation,
    };
    let by = match args.by {
        By::Account => RevocationKey::Account,
        By::Certificate => RevocationKey::Certificate,
    };
    settle::run_prepared(context, "cert revoke", args.bounds, async |engine| {
        let name = kept(engine, &args.name).await?;
        let sha256 = engine.revoke(&name, reason, by, !args.no_replacement).await?;
        output::certificates::print_revoked(context, &name, sha256)?;
        let replace = !args.no_replacement || reason == RevokeReason::KeyCompromise;
        Ok(match engine.desired().certificate_named(&name) {
            Some(id) if replace => Scope::of_certificates(engine.desired(), &[id]),
            _ => Scope::default(),
        })
    })
    .await
}
