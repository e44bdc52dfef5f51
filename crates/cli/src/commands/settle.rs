//! `pindrel settle`

mod reviewed;
mod undo;

use std::path::PathBuf;
use std::sync::Arc;

use clap::Args;
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::planning::reviewed::Difference;
use pindrel_core::planning::undo::KeptBack;
use pindrel_engine::{Access, Aim, Bounds, Engine, EngineError, Event, Scope, Summary};

use self::reviewed::KeptPlan;
use crate::args::{MAX_AGE, RunBounds, Span};
use crate::completion;
use crate::context::{Context, access, bounds};
use crate::error::{CliError, Status};
use crate::names;
use crate::output;
use crate::output::progress::Progress;
use crate::signals::stop_signal;

/// Bring the world to the manifest, and verify it
///
/// Issues certificates, puts them where the endpoints take them from, binds the
/// hostnames, connects to each endpoint directly to see the certificate served, and
/// only then points the alias records there. What is done already is left alone. A run
/// that was stopped is taken up again where it was.
///
/// Exit status: 0 all held, 1 something failed, 3 something still needs a person or is
/// left over, or with --dry-run there are steps.
#[derive(Debug, Clone, Args)]
pub(crate) struct SettleArgs {
    /// List the steps in their order, with the reason for each, and take none
    #[arg(long)]
    pub(crate) dry_run: bool,

    /// With --dry-run: keep the plan in this file, for somebody to read and for --reviewed
    #[arg(long, value_name = "FILE", requires = "dry_run")]
    pub(crate) out: Option<PathBuf>,

    /// Carry out the plan in this file, exactly. Where something else is to be done by now, nothing is done, and it is
    /// said how that differs
    #[arg(long, value_name = "FILE", conflicts_with_all = ["dry_run", "only", "rehearse", "hold_alias", "undo", "yes"])]
    pub(crate) reviewed: Option<PathBuf>,

    /// Make the endpoints ready and verify them, and leave the aliases as they are: prints a curl line for
    /// each hostname, so that you can look before the next settle moves them
    #[arg(long, conflicts_with = "rehearse")]
    pub(crate) hold_alias: bool,

    /// Move aliases at once, without waiting until caches have only their lowered TTL. What goes wrong at the new
    /// endpoint then lasts up to the old TTL for who was led there; the old endpoint keeps its binding until no
    /// cache leads there, all the same
    #[arg(long)]
    pub(crate) now: bool,

    /// Only prove new set-ups at the practice authorities, and issue nothing for real
    #[arg(long)]
    pub(crate) rehearse: bool,

    /// Settle only this hostname, or certificate that no hostname uses; may be repeated
    #[arg(long, value_name = "NAME", add = ArgValueCandidates::new(completion::hostnames))]
    pub(crate) only: Vec<String>,

    /// Put back what this run changed, in the same safe order: the endpoint, the binding and the alias of each
    /// hostname as they were; `pindrel state runs` lists runs
    #[arg(long, value_name = "RUN", conflicts_with_all = ["only", "rehearse", "hold_alias"],
          value_parser = parse_run)]
    pub(crate) undo: Option<i64>,

    /// Follow the manifest again where an --undo keeps something back: for all hostnames, or those of --only
    #[arg(long, conflicts_with_all = ["undo", "reviewed"])]
    pub(crate) redo: bool,

    /// With --undo: take hostnames away that the run added, without asking
    #[arg(long, requires = "undo")]
    pub(crate) yes: bool,

    /// Trust what was seen no longer ago than this
    #[arg(long, value_name = "DURATION", default_value_t = MAX_AGE)]
    pub(crate) max_age: Span,

    #[command(flatten)]
    pub(crate) bounds: RunBounds,
}

fn parse_run(text: &str) -> Result<i64, String> {
    let run = text.parse().ok().filter(|run| *run > 0);
    run.ok_or_else(|| "write the number of a run, as `pindrel state runs` lists it".to_owned())
}

impl SettleArgs {
    fn aim(&self) -> Aim {
        match (self.rehearse, self.hold_alias) {
            (true, _) => Aim::Rehearse,
            (_, true) => Aim::HoldAliases,
            _ => Aim::Hold,
        }
    }

    /// Says whether a hostname that is kept back is among those that are named.
    fn means(&self, kept: &KeptBack) -> bool {
        self.only.is_empty() || self.only.iter().any(|name| names::matches(&kept.hostname, name))
    }
}

impl Default for SettleArgs {
    fn default() -> Self {
        SettleArgs {
            dry_run: false,
            out: None,
            reviewed: None,
            hold_alias: false,
            now: false,
            rehearse: false,
            only: Vec::new(),
            undo: None,
            redo: false,
            yes: false,
            max_age: MAX_AGE,
            bounds: RunBounds::default(),
        }
    }
}

pub(crate) async fn run(context: &Context, args: &SettleArgs) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let plan = args.reviewed.as_deref().map(KeptPlan::read).transpose()?;
    let args = plan.as_ref().map_or_else(|| args.clone(), |plan| plan.args(args));
    let (args, plan) = (&args, plan.as_ref());
    let mut loaded = if args.dry_run { context.load_to_look()? } else { context.load()? };
    output::diagnostics::warn(&loaded.mistakes);
    if let Some(run) = args.undo {
        return undo::run(context, args, loaded, run, plan).await;
    }
    let is_redone = |kept: &KeptBack| args.redo && args.means(kept);
    let home = context.open_and_redo(&mut loaded, access(args.dry_run), is_redone).await?;
    let scope = loaded.scope(&args.only)?;
    let bounds = Bounds { skip_ttl_wait: args.now, ..bounds(args.max_age, args.bounds) };
    if args.dry_run {
        let engine = loaded.engine("settle", home, bounds, Arc::new(())).await?;
        return show_plan(context, args, &engine, &scope).await;
    }
    let aim = args.aim();
    let progress = output::progress::start(context, &loaded.desired, &scope, aim);
    for kept in loaded.kept_back.iter().filter(|kept| args.means(kept)) {
        progress.listener().on(Event::Note { says: output::undo::kept_back_note(kept) });
    }
    let engine = loaded.engine("settle", home, bounds, progress.listener()).await?;
    carry_out_plan(context, &engine, &scope, aim, &progress, plan).await
}

async fn show_plan(context: &Context, args: &SettleArgs, engine: &Engine, scope: &Scope) -> Result<Status, CliError> {
    let plan = engine.plan(scope, args.aim()).await?;
    if let Some(path) = &args.out {
        KeptPlan::write(path, args, engine, &plan)?;
    }
    output::steps::print(context, &plan)?;
    let all_held = plan.held == plan.total && plan.leftovers.is_empty();
    Ok(match (plan.stuck.iter().any(|stuck| stuck.outage), all_held) {
        (true, _) => Status::Failed,
        (false, true) => Status::Done,
        (false, false) => Status::NotHeld,
    })
}

/// Prepares a run by `prepare`, which says what it is about, and carries it out: what
/// `cert renew` and `cert revoke` do.
pub(crate) async fn run_prepared(
    context: &Context,
    who: &str,
    limits: RunBounds,
    prepare: impl AsyncFnOnce(&Engine) -> Result<Scope, CliError>,
) -> Result<Status, CliError> {
    context.refuse_csv()?;
    let mut loaded = context.load()?;
    output::diagnostics::warn(&loaded.mistakes);
    let home = context.open(&mut loaded, Access::Change).await?;
    let progress = output::progress::start(context, &loaded.desired, &Scope::all(&loaded.desired), Aim::Hold);
    let engine = loaded.engine(who, home, bounds(MAX_AGE, limits), progress.listener()).await?;
    let scope = prepare(&engine).await?;
    if scope == Scope::default() {
        return Ok(Status::Done);
    }
    carry_out(&engine, &scope, Aim::Hold, &progress).await
}

pub(crate) async fn carry_out(
    engine: &Engine,
    scope: &Scope,
    aim: Aim,
    progress: &Progress,
) -> Result<Status, CliError> {
    let summary = unless_stopped(progress, engine.settle(scope, aim)).await?;
    progress.finish(&summary)?;
    Ok(status_of(&summary))
}

/// Does the same where there is a plan that was reviewed, or says how what is to be done by now differs from it.
async fn carry_out_plan(
    context: &Context,
    engine: &Engine,
    scope: &Scope,
    aim: Aim,
    progress: &Progress,
    plan: Option<&KeptPlan>,
) -> Result<Status, CliError> {
    let Some(plan) = plan else { return carry_out(engine, scope, aim, progress).await };
    match unless_stopped(progress, engine.settle_reviewed(scope, aim, &plan.steps)).await? {
        Ok(summary) => {
            progress.finish(&summary)?;
            Ok(status_of(&summary))
        }
        Err(differences) => refuse_plan(context, progress, plan, &differences),
    }
}

/// Says that nothing was done, since what is to be done is not what was reviewed.
fn refuse_plan(
    context: &Context,
    progress: &Progress,
    plan: &KeptPlan,
    differences: &[Difference],
) -> Result<Status, CliError> {
    progress.abandon();
    output::steps::print_differences(context, plan.at, differences)?;
    Ok(Status::NotHeld)
}

/// Works until that is done, or a signal stops it.
async fn unless_stopped<T>(
    progress: &Progress,
    work: impl Future<Output = Result<T, EngineError>>,
) -> Result<T, CliError> {
    tokio::select! {
        done = work => Ok(done?),
        signal = stop_signal() => Err(CliError::Interrupted { signal: signal?, under_way: progress.abandon() }),
    }
}

pub(crate) fn status_of(summary: &Summary) -> Status {
    match summary {
        Summary { failed: 1.., .. } => Status::Failed,
        Summary { leftovers: 1.., .. } => Status::NotHeld,
        Summary { held, total, .. } if held < total => Status::NotHeld,
        _ => Status::Done,
    }
}
