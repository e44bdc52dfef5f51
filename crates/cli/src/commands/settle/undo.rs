//! `pindrel settle --undo`

use std::sync::Arc;

use jiff::Timestamp;
use pindrel_core::desired::HostnameId;
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::reviewed::{differences, kept};
use pindrel_core::planning::undo::{Undoing, to_keep_back, undo};
use pindrel_engine::{Aim, Engine, Event, LeftoverScope, Scope};

use super::reviewed::KeptPlan;
use super::{SettleArgs, carry_out_plan, refuse_plan, show_plan};
use crate::commands::retire;
use crate::context::{Context, Loaded, access, bounds};
use crate::error::{CliError, Status};
use crate::origin;
use crate::output;

/// Puts back what a run changed: what was before is wanted for this run, in the place of the manifest.
pub(super) async fn run(
    context: &Context,
    args: &SettleArgs,
    mut loaded: Loaded,
    run: i64,
    plan: Option<&KeptPlan>,
) -> Result<Status, CliError> {
    let home = context.home(access(args.dry_run)).await?;
    origin::check(context, &home, &loaded, access(args.dry_run)).await?;
    let changes = home.run_changes(run).await?.ok_or_else(|| CliError::Usage {
        says: format!("there is no run {run} that changed something"),
        remedy: "List the runs with: pindrel state runs".into(),
    })?;
    let before: Vec<_> = changes.into_iter().map(|change| (change.hostname, change.before)).collect();
    let wanted = loaded.desired.digests_by_hostname();
    let undoing = undo(loaded.desired, &before);
    let keep_back = to_keep_back(&wanted, &undoing, &before, run, Timestamp::now());
    let Undoing { desired, put_back, taken_away, hindered } = undoing;
    loaded.desired = desired;
    let scope = Scope {
        hostnames: ids(&loaded, &put_back),
        leftovers: LeftoverScope::Retire(taken_away.clone()),
        ..Scope::default()
    };
    let bounds = bounds(args.max_age, args.bounds);
    if args.dry_run {
        output::undo::print_hindered(&hindered)?;
        let engine = loaded.engine("settle", home, bounds, Arc::new(())).await?;
        return show_plan(context, args, &engine, &scope).await;
    }
    let progress = output::progress::start(context, &loaded.desired, &scope, Aim::Hold);
    let changing = home.clone();
    let engine = loaded.engine(&format!("settle --undo {run}"), home, bounds, progress.listener()).await?;
    // Nothing is begun of a plan that is another by now.
    if let Some(plan) = plan {
        let now = kept(engine.desired(), &engine.plan(&scope, Aim::Hold).await?.steps);
        let differences = differences(&plan.steps, &now);
        if !differences.is_empty() {
            return refuse_plan(context, &progress, plan, &differences);
        }
    }
    take_away(args, &engine, &taken_away).await?;
    // Before anything is changed, so that no other process follows the manifest meanwhile.
    changing.keep_back_no_longer(&[put_back.as_slice(), &taken_away].concat()).await?;
    changing.keep_back(&keep_back).await?;
    let is_whole = hindered.is_empty();
    for (hostname, finding) in hindered {
        progress.listener().on(Event::Stuck { hostname, failed: false, finding, next: None });
    }
    let status = carry_out_plan(context, &engine, &scope, Aim::Hold, &progress, plan).await?;
    let status = if is_whole || status != Status::Done { status } else { Status::NotHeld };
    output::undo::print_end(context, run, status == Status::Done)?;
    Ok(status)
}

fn ids(loaded: &Loaded, hostnames: &[Hostname]) -> Vec<HostnameId> {
    let is_put_back = |id: &HostnameId| hostnames.contains(&loaded.desired.hostname(*id).hostname);
    loaded.desired.hostname_ids().filter(is_put_back).collect()
}

/// Begins to take away what the run added, where that is confirmed.
async fn take_away(args: &SettleArgs, engine: &Engine, hostnames: &[Hostname]) -> Result<(), CliError> {
    let found = engine.retirer.retirable(Some(hostnames)).await?;
    if found.is_empty() {
        return Ok(());
    }
    if !(args.yes || retire::confirmed(&found)?) {
        return Err(CliError::Usage {
            says: format!("the run added {}, and nothing was undone", output::count(found.len(), "hostname")),
            remedy: "Answer y, or add --yes, to take them away; look first with --dry-run".into(),
        });
    }
    Ok(engine.retirer.begin(hostnames).await?)
}
