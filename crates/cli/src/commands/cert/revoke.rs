//! `pindrel cert revoke`

use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCandidates;
use pindrel_engine::{RevocationKey, RevocationRequest, RevokeReason, Scope};

use super::kept;
use crate::args::RunBounds;
use crate::commands::{account, settle};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};
use crate::output;

/// Revoke a certificate, and replace it at once
///
/// After a key compromise the next certificate always has a new key, whatever the
/// manifest says of keys. A certificate that was imported, and one that another has replaced, can be
/// revoked too, with its own key.
#[derive(Debug, Args)]
pub(crate) struct RevokeArgs {
    /// The certificate's name in the manifest, or a hostname that uses it; also one left over
    #[arg(add = ArgValueCandidates::new(completion::certificates))]
    name: String,

    /// Why (RFC 5280 §5.3.1)
    #[arg(long, value_name = "REASON", default_value = "unspecified")]
    reason: Reason,

    /// Which key signs for it [default: account; certificate for one that was imported]
    #[arg(long, value_name = "KEY")]
    by: Option<By>,

    /// Revoke one that another has replaced: how its SHA-256 fingerprint begins (see cert show)
    #[arg(long, value_name = "SHA256", value_parser = digits)]
    former: Option<String>,

    /// The authority to ask, by its name in the manifest [default: the one that issued it]
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(completion::authorities))]
    authority: Option<String>,

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
    let by = args.by.map(|by| match by {
        By::Account => RevocationKey::Account,
        By::Certificate => RevocationKey::Certificate,
    });
    settle::run_prepared(context, "cert revoke", args.bounds, async |engine| {
        let name = kept(engine, &args.name).await?;
        let replace = args.former.is_none() && (!args.no_replacement || reason == RevokeReason::KeyCompromise);
        let authority =
            args.authority.as_deref().map(|name| account::authority(engine.desired(), Some(name))).transpose()?;
        let former = args.former.clone();
        let request = RevocationRequest { name: name.clone(), former, reason, by, authority, replace };
        let sha256 = engine.certificates.revoke(&request).await?;
        output::certificates::print_revoked(context, &name, sha256)?;
        Ok(match engine.desired().certificate_named(&name) {
            Some(id) if replace => Scope::of_certificates(engine.desired(), &[id]),
            _ => Scope::default(),
        })
    })
    .await
}

/// Reads how a fingerprint begins.
fn digits(text: &str) -> Result<String, String> {
    let digits = text.replace(':', "");
    if digits.len() >= 4 && digits.len() <= 64 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        Ok(digits.to_ascii_lowercase())
    } else {
        Err("write at least 4 of its hexadecimal digits".into())
    }
}
