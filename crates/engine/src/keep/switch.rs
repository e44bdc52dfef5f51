//! A switch: an alias that gives other endpoints than before, as one atomic update, verified on every server that
//! answers.

use std::sync::Arc;
use std::time::Duration;

use pindrel_core::desired::HostnameId;
use pindrel_core::health::policy::Reason;
use pindrel_core::judging::findings::Finding;
use pindrel_core::judging::pins::Known;
use pindrel_core::keep::{Event, SwitchOrder, SwitchReport};
use pindrel_core::planning::plan::{Step, Work};
use pindrel_core::zones::records::in_words;

use super::{Ended, RunContext, guarded};
use crate::context::{Bounds, Context};
use crate::engine::Engine;
use crate::execute::Outcome;
use crate::failure::internal;

/// How long a switch waits for the servers that lag.
const PATIENCE: Duration = Duration::from_secs(60);

/// Carries a switch out, as far as that can be done.
pub(super) async fn switch(context: Arc<RunContext>, order: SwitchOrder) -> Ended {
    let (mut primary, mut behind, mut known) = (None, None, None);
    let switching = async {
        let engine = engine(&context, &order).await?;
        let run = &engine.context;
        // What is decided by is what this process has seen.
        {
            let mut known = run.known();
            known.verdicts.clone_from(&order.verdicts);
            known.drained.clone_from(&order.drained);
            known.endpoints.clone_from(&order.endpoints);
        }
        engine.health.count_as_loaded();
        engine.surveyor.load_once(order.id).await?;
        if let Some(choice) = &order.choice {
            run.known().choices.insert(order.id, choice.clone());
        }
        let step = alias_step(run, order.id, &why(order.choice.as_ref().map(|choice| choice.reason)));
        let outcome = engine.executor.run_steps(&[step]).await;
        primary = engine.executor.switcher.alias_written(order.id);
        behind = run.judge(order.id, context.clock.now()).alias.findings.into_iter().next();
        known = run.known().hostnames.get(&order.id).cloned();
        match outcome.first().map(|outcome| &**outcome) {
            Some(Outcome::Failed(finding) | Outcome::Deferred { finding, .. }) => Err(finding.clone()),
            Some(Outcome::Done) | None => Ok(()),
        }
    };
    let outcome = guarded("a switch", switching).await;
    let outcome = outcome.unwrap_or_else(|| Err(internal("a switch ended without a result")));
    let ended = context.clock.now();
    Event::SwitchEnded(Box::new(SwitchReport { order, primary, ended, outcome, behind, known })).into()
}

/// An engine over the state; where that does not answer, over what this process knows.
async fn engine(context: &RunContext, order: &SwitchOrder) -> Result<Engine, Finding> {
    let bounds = Bounds { patience: PATIENCE, ..context.bounds };
    let known = match &order.known {
        Some(known) if !context.is_state_answering().await => known.clone(),
        _ => return Ok(context.engine(&order.desired, Arc::new(()), bounds).await?),
    };
    let setup = context.setup_without_state(&order.desired, Arc::new(()), bounds);
    let engine = Engine::without_state(setup, context.switch_log.clone(), order.id, known).await?;
    let zone = order.desired.hostname(order.id).zone;
    engine.context.known().zones.extend(order.zone.clone().map(|fact| (zone, fact)));
    Ok(engine)
}

/// Why an alias is switched.
pub(super) fn why(reason: Option<Reason>) -> String {
    reason.map_or_else(|| "an address has changed its verdict".to_owned(), |reason| reason.to_string())
}

/// The step that points an alias where it was decided that it should lead.
fn alias_step(context: &Context, id: HostnameId, why: &str) -> Step {
    let wanted = context.desired.hostname(id);
    let alias = Known::about(&context.desired, &context.known(), id).manifest_alias().unwrap_or_default();
    let work = Work::Alias(id);
    Step {
        id: 1,
        hostname: wanted.hostname.clone(),
        action: work.action(),
        target: in_words(&alias),
        after: Vec::new(),
        why: why.to_owned(),
        work,
        goals: Vec::new(),
    }
}
