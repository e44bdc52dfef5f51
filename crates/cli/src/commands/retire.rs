//! `pindrel retire`

use std::io::{IsTerminal as _, Write as _};
use std::sync::Arc;

use clap::Args;
use pindrel_core::desired::Desired;
use pindrel_core::names::name::Hostname;
use pindrel_engine::{Aim, Engine, Leftover, LeftoverScope, RevocationRequest, RevokeReason, Scope};

use crate::args::{MAX_AGE, RunBounds};
use crate::commands::settle;
use crate::context::{Context, access, bounds};
use crate::error::{CliError, Status};
use crate::{names, output};

/// Take hostnames away in the safe order
///
/// The alias first, on every server; then, once caches have forgotten it, the binding, and the copy of
/// the certificate in the endpoint's store. Remove the hostname from the manifest before: what stands
/// there is wanted. Where a TTL is longer than the run has patience, the run ends with status 3, and
/// each later settle goes on.
///
/// Exit status: 0 all is gone, 1 something failed, 3 something is still there.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  pindrel retire old.larkfield.example
  pindrel retire --leftovers --dry-run
  pindrel retire --leftovers --yes --revoke")]
pub(crate) struct RetireArgs {
    /// The hostnames
    #[arg(value_name = "HOSTNAME", required_unless_present = "leftovers")]
    hostnames: Vec<Hostname>,

    /// All that the manifest no longer names
    #[arg(long, conflicts_with = "hostnames")]
    leftovers: bool,

    /// List the steps in their order, and take none
    #[arg(long)]
    dry_run: bool,

    /// Do not ask
    #[arg(long)]
    yes: bool,

    /// Revoke their certificates at the end
    #[arg(long)]
    revoke: bool,

    /// Only forget them, once you have deleted by hand what Pindrel can no longer reach
    #[arg(long, conflicts_with_all = ["leftovers", "revoke", "dry_run"])]
    forget: bool,

    #[command(flatten)]
    bounds: RunBounds,
}

impl RetireArgs {
    /// One hostname with its certificate, without asking.
    pub(crate) fn of(hostname: &str) -> RetireArgs {
        RetireArgs {
            hostnames: hostname.parse().into_iter().collect(),
            leftovers: false,
            dry_run: false,
            yes: true,
            revoke: true,
            forget: false,
            bounds: RunBounds::default(),
        }
    }
}

pub(crate) async fn run(context: &Context, args: &RetireArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let mut loaded = context.load()?;
    output::diagnostics::warn(&loaded.mistakes);
    let home = context.open(&mut loaded, access(args.dry_run)).await?;
    if !args.forget {
        refuse_wanted(&loaded.desired, &args.hostnames)?;
    }
    let progress = output::progress::start(context, &loaded.desired, &Scope::default(), Aim::Hold);
    let bounds = bounds(MAX_AGE, args.bounds);
    let listener = if args.dry_run { Arc::new(()) } else { progress.listener() };
    let engine = loaded.engine("retire", home, bounds, listener).await?;
    if args.forget {
        engine.retirer.forget(&args.hostnames).await?;
        output::retire::print_forgotten(context, &args.hostnames)?;
        return Ok(Status::Done);
    }
    let named = (!args.leftovers).then_some(args.hostnames.as_slice());
    let found = engine.retirer.retirable(named).await?;
    let hostnames: Vec<Hostname> = found.iter().map(|leftover| leftover.hostname.clone()).collect();
    let others: Vec<Hostname> = args.hostnames.iter().filter(|name| !hostnames.contains(name)).cloned().collect();
    let foreign = engine.retirer.made_by_others(&others).await?;
    let scope = Scope { leftovers: LeftoverScope::Retire(hostnames.clone()), ..Scope::default() };
    if args.dry_run {
        let mut plan = engine.plan(&scope, Aim::Hold).await?;
        // The steps already show what they take away.
        plan.leftovers.retain(|leftover| !plan.steps.iter().any(|step| step.hostname == leftover.hostname));
        plan.leftovers.extend(foreign);
        output::steps::print(context, &plan)?;
        let is_gone = plan.leftovers.is_empty() && plan.steps.is_empty();
        return Ok(if is_gone { Status::Done } else { Status::NotHeld });
    }
    let of_others: Vec<Hostname> = foreign.iter().map(|leftover| leftover.hostname.clone()).collect();
    let status = if hostnames.is_empty() {
        output::retire::print_untouched(context, named, &foreign)?;
        Status::Done
    } else {
        if !(args.yes || confirmed(&found)?) {
            return Err(CliError::Usage {
                says: "nothing was taken away".into(),
                remedy: "Answer y, or add --yes; look first with --dry-run".into(),
            });
        }
        for leftover in foreign {
            progress.listener().on(leftover.into());
        }
        engine.retirer.begin(&hostnames).await?;
        settle::carry_out(&engine, &scope, Aim::Hold, &progress).await?
    };
    if args.revoke && status == Status::Done {
        // One that is gone since an earlier run may have a certificate still; one that is somebody else's is in use.
        let named = if args.leftovers { &hostnames } else { &args.hostnames };
        let gone: Vec<&Hostname> = named.iter().filter(|name| !of_others.contains(name)).collect();
        revoke_certificates(context, &engine, &gone).await?;
    }
    Ok(if status == Status::Done && !of_others.is_empty() { Status::NotHeld } else { status })
}

/// What the manifest names would be made again by the next settle.
fn refuse_wanted(desired: &Desired, hostnames: &[Hostname]) -> Result<(), CliError> {
    for hostname in hostnames {
        if desired.hostnames.iter().any(|wanted| names::matches(&wanted.hostname, hostname.as_str())) {
            return Err(CliError::Usage {
                says: format!("{hostname} is in the manifest, so it is wanted"),
                remedy: format!("Remove [hostname.\"{hostname}\"] from the manifest, then retire it"),
            });
        }
    }
    Ok(())
}

/// Asks on a terminal; elsewhere nobody can answer.
pub(super) fn confirmed(found: &[Leftover]) -> Result<bool, CliError> {
    if !std::io::stdin().is_terminal() {
        return Ok(false);
    }
    output::retire::print_found(found)?;
    let mut out = anstream::stderr();
    write!(out, "Take them away? [y/N] ")?;
    out.flush()?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}

/// Revokes the certificates that were these hostnames' own.
async fn revoke_certificates(context: &Context, engine: &Engine, hostnames: &[&Hostname]) -> Result<(), CliError> {
    for hostname in hostnames {
        let name = hostname.to_string();
        if engine.desired().certificate_named(&name).is_some() || !engine.certificates.keeps(&name).await? {
            continue;
        }
        let request = RevocationRequest {
            name: name.clone(),
            former: None,
            reason: RevokeReason::CessationOfOperation,
            by: None,
            authority: None,
            // Only once the hostname is wanted again.
            replace: true,
        };
        let sha256 = engine.certificates.revoke(&request).await?;
        output::certificates::print_revoked(context, &name, sha256)?;
    }
    Ok(())
}
