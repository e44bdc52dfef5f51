//! A switch: an alias that gives other endpoints than before, as one atomic update, verified on every server.

use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::facts::HostnameKnowledge;
use pindrel_core::findings::Finding;
use pindrel_core::pins::Known;
use pindrel_core::plan::{Step, Work};
use pindrel_core::policy::Reason;

use super::*;
use crate::execute::Outcome;
use crate::failure::internal;

/// The first pause before a switch that failed is tried again, and the longest.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);
/// How long a switch waits for the servers that lag.
const PATIENCE: Duration = Duration::from_secs(60);

/// How far the switch of one hostname has got.
#[derive(Debug, Default)]
pub(super) struct Switching {
    /// Whether one is under way.
    pub(super) is_under_way: bool,
    /// How many in a row failed.
    failures: u32,
    /// When the next may begin.
    pub(super) not_before: Duration,
    /// The last finding that was told.
    told: Option<String>,
    /// What was told last of what its alias gives, and why.
    choice: Option<(Vec<EndpointId>, Reason)>,
}

/// How a switch ended.
pub(super) struct SwitchEnd {
    id: HostnameId,
    generation: u64,
    from: Vec<EndpointId>,
    to: Vec<EndpointId>,
    reason: Option<Reason>,
    seen: Option<Timestamp>,
    decided: Timestamp,
    primary: Option<Timestamp>,
    ended: Timestamp,
    outcome: Result<(), Finding>,
    /// Who does not say whether it gives the new answer.
    behind: Option<Finding>,
    known: Option<HostnameKnowledge>,
}

impl Keeper {
    /// Tells what an alias gives and why, where that is not what was told last.
    pub(super) fn tell_choice(&mut self, id: HostnameId) {
        let Some(choice) = self.known.choices.get(&id) else { return };
        let told = (choice.give.clone(), choice.reason);
        let switching = self.switches.entry(id).or_default();
        if switching.choice.as_ref() == Some(&told) {
            return;
        }
        switching.choice = Some(told);
        let endpoints = choice.give.iter().map(|id| self.desired.endpoint(*id).name.clone()).collect();
        let hostname = self.desired.hostname(id).hostname.clone();
        self.tell(Event::Gives { hostname, endpoints, why: choice.reason.to_string() });
    }

    pub(super) fn begin_switch(
        &mut self,
        id: HostnameId,
        from: Vec<EndpointId>,
        to: Vec<EndpointId>,
        seen: Option<Timestamp>,
    ) {
        self.switches.entry(id).or_default().is_under_way = true;
        let (kit, desired, generation) = (self.kit.clone(), self.desired.clone(), self.generation);
        let (verdicts, held_out) = (self.known.verdicts.clone(), self.known.held_out.clone());
        let choice = self.known.choices.get(&id).cloned();
        let endpoints = self.known.endpoints.clone();
        let reason = choice.as_ref().map(|choice| choice.reason);
        let decided = kit.clock.now();
        self.switching.spawn(async move {
            let mut end = SwitchEnd {
                id,
                generation,
                from,
                to,
                reason,
                seen,
                decided,
                primary: None,
                ended: decided,
                outcome: Ok(()),
                behind: None,
                known: None,
            };
            let bounds = Bounds { patience: PATIENCE, ..kit.bounds };
            let switching = async {
                let engine = kit.engine(&desired, Arc::new(()), bounds).await?;
                // What is decided by is what this process has seen.
                {
                    let mut known = engine.known();
                    (known.verdicts, known.held_out, known.endpoints) = (verdicts, held_out, endpoints);
                }
                let _ = engine.health_known.set(());
                engine.load_once(id).await?;
                if let Some(choice) = choice {
                    engine.known().choices.insert(id, choice);
                }
                let step = engine.alias_step(id, &why(end.reason));
                let outcome = engine.run_steps(&[step]).await;
                end.primary = engine.alias_written(id);
                end.behind = engine.judge(id, kit.clock.now()).alias.findings.into_iter().next();
                end.known = engine.known().hostnames.get(&id).cloned();
                match outcome.first().map(|outcome| &**outcome) {
                    Some(Outcome::Failed(finding) | Outcome::PutOff { finding, .. }) => Err(finding.clone()),
                    Some(Outcome::Done) | None => Ok(()),
                }
            };
            let ended = guarded("a switch", switching).await;
            end.outcome = ended.unwrap_or_else(|| Err(internal("a switch ended without a result")));
            end.ended = kit.clock.now();
            end
        });
    }

    /// Tells what keeps clients from the new answer, where that is not what was told last.
    fn tell_in_the_way(&mut self, id: HostnameId, Finding { says, remedy, .. }: Finding, failed: bool) {
        let switching = self.switches.entry(id).or_default();
        if switching.told.as_ref() == Some(&says) {
            return;
        }
        switching.told = Some(says.clone());
        let hostname = self.desired.hostname(id).hostname.clone();
        self.tell(Event::Stuck { hostname, failed, says, remedy, next: None });
    }

    pub(super) fn switched(&mut self, end: SwitchEnd) {
        let SwitchEnd { id, generation, from, to, reason, seen, decided, primary, ended, outcome, behind, known } = end;
        if generation != self.generation {
            return;
        }
        if let Some(known) = known {
            self.known.hostnames.insert(id, known);
        }
        let (desired, elapsed) = (self.desired.clone(), self.kit.clock.elapsed());
        let wanted = desired.hostname(id);
        let names =
            |ids: &[EndpointId]| -> Vec<String> { ids.iter().map(|id| desired.endpoint(*id).name.clone()).collect() };
        let switching = self.switches.entry(id).or_default();
        switching.is_under_way = false;
        match outcome {
            Ok(()) => {
                switching.failures = 0;
                // Why these are given is told with the switch.
                switching.choice = reason.map(|reason| (to.clone(), reason));
                self.summary.switches += 1;
                let forgotten = self.known.hostnames.get(&id).and_then(|own| own.ownership.former_alias);
                let until = forgotten.and_then(|former| former.forgotten_at());
                self.tell(Event::Switched {
                    hostname: wanted.hostname.clone(),
                    from: names(&from),
                    to: names(&to),
                    why: why(reason),
                    seen,
                    decided,
                    primary,
                    everywhere: ended,
                    until,
                });
                match behind {
                    Some(finding) => self.tell_in_the_way(id, finding, false),
                    None => self.switches.entry(id).or_default().told = None,
                }
                // What has changed meanwhile is decided now.
                self.schedule.add(elapsed, Task::Decide(id));
            }
            Err(finding) => {
                switching.failures = switching.failures.saturating_add(1);
                let grown = FIRST_PAUSE.saturating_mul(2_u32.saturating_pow(switching.failures.min(16) - 1));
                let pause = grown.min(LONGEST_PAUSE);
                switching.not_before = elapsed + pause;
                self.tell_in_the_way(id, finding, true);
                self.schedule.add(elapsed + pause, Task::Decide(id));
            }
        }
    }
}

fn why(reason: Option<Reason>) -> String {
    reason.map_or_else(|| "an address has changed its verdict".to_owned(), |reason| reason.to_string())
}

impl Engine {
    /// The step that points an alias where it was decided that it should lead.
    fn alias_step(&self, id: HostnameId, why: &str) -> Step {
        let wanted = self.desired.hostname(id);
        let alias = Known::about(&self.desired, &self.known(), id).manifest_alias().unwrap_or_default();
        let work = Work::Alias(id);
        Step {
            id: 1,
            hostname: wanted.hostname.clone(),
            action: work.action(),
            target: pindrel_core::records::in_words(&alias),
            after: Vec::new(),
            why: why.to_owned(),
            work,
            goals: Vec::new(),
        }
    }
}
