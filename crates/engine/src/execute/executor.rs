//! The executor: claims, journals, runs, waits and takes steps up again.

use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt as _;
use futures::future::{BoxFuture, Shared, join_all};
use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, EndpointDriver};
use pindrel_core::judging::findings::{Finding, Subject};
use pindrel_core::planning::plan::{Step, Work};
use pindrel_state::{Attempt, AttemptEnd, Claim, Moment};
use tokio::sync::Semaphore;

use crate::acme::Issuing;
use crate::acme::orders::order_name;
use crate::context::Context;
use crate::context::claims::certificate_claim;
use crate::context::progress::{Pauses, Progress, Wait};
use crate::events::Event;
use crate::execute::alias::Switcher;
use crate::execute::bind::Binder;
use crate::execute::catch_up::CatchUp;
use crate::execute::deliver::Deliverer;
use crate::execute::issue::Issuer;
use crate::execute::mark::Marker;
use crate::execute::unbind::Remover;
use crate::home::leases::{Granted, Held, alias_claim, busy};

/// How a step ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// It is done.
    Done,
    /// It is put off to a later run.
    Deferred {
        /// What is waited for.
        finding: Finding,
        /// When looking again is worth while.
        next: Option<Timestamp>,
    },
    /// It failed.
    Failed(Finding),
}

impl Outcome {
    /// What a fault makes of a step: it failed, or it is put off where nothing did and something stands in its way.
    fn of_fault(finding: Finding) -> Outcome {
        let next = finding.again().at();
        if finding.code().is_hindrance() { Outcome::Deferred { finding, next } } else { Outcome::Failed(finding) }
    }
}

type Running<'r> = Shared<BoxFuture<'r, Arc<Outcome>>>;

/// How many steps may wait to be carried out together.
const MOST_GATHERED: usize = 4_096;

/// How many steps are under way at once.
struct Permits {
    usual: Semaphore,
    gathered: Semaphore,
}

impl Permits {
    fn new(at_once: usize) -> Permits {
        Permits { usual: Semaphore::new(at_once), gathered: Semaphore::new(MOST_GATHERED) }
    }
}

/// Carries steps out: claims, journals, runs, waits and takes them up again.
pub(crate) struct Executor {
    pub(crate) context: Arc<Context>,
    pub(crate) binder: Arc<Binder>,
    pub(crate) catch_up: Arc<CatchUp>,
    pub(crate) deliverer: Arc<Deliverer>,
    pub(crate) issuer: Arc<Issuer>,
    pub(crate) issuing: Arc<Issuing>,
    pub(crate) marker: Arc<Marker>,
    pub(crate) remover: Arc<Remover>,
    pub(crate) switcher: Arc<Switcher>,
    /// Bounds how many orders are open at authorities.
    pub(crate) order_slots: Semaphore,
}

impl Executor {
    /// Takes all steps, each as soon as those before it have succeeded. A step that does not
    /// succeed leaves out those that need it, and no others.
    pub(crate) async fn run_steps(&self, steps: &[Step]) -> Vec<Arc<Outcome>> {
        let permits = Arc::new(Permits::new(self.context.bounds.at_once));
        let mut running: Vec<Running<'_>> = Vec::with_capacity(steps.len());
        for step in steps {
            let before: Vec<Running<'_>> =
                step.after.iter().filter_map(|id| running.get(*id as usize - 1).cloned()).collect();
            let permits = permits.clone();
            let run = async move {
                for outcome in join_all(before).await {
                    if *outcome != Outcome::Done {
                        return outcome;
                    }
                }
                Arc::new(self.run_step(step, &permits).await)
            };
            running.push(run.boxed().shared());
        }
        join_all(running).await
    }

    /// Says whether many such steps are carried out together, by one test and one reload of a server on this
    /// machine: while some are, the others gather.
    fn is_gathered(&self, work: Work) -> bool {
        let (Work::Bind(_, endpoint) | Work::Unbind(_, endpoint)) = work else { return false };
        matches!(self.context.desired.endpoint(endpoint).driver, EndpointDriver::Nginx(_))
    }

    async fn run_step(&self, step: &Step, permits: &Permits) -> Outcome {
        // An order is open at an authority until it ends, also while it waits.
        let _slot = match step.work {
            Work::Issue(_) | Work::Rehearse(_) => self.order_slots.acquire().await.ok(),
            _ => None,
        };
        let begun = self.context.clock.elapsed();
        let Step { id, hostname, action, .. } = step;
        let subject = hostname.to_string();
        let claimed = self.claim_key(step.work);
        // How far an order has got is known to this process alone: nobody else goes on with it while it waits. Whatever
        // else waits leaves the thing to others, as an alias to a failover.
        let is_kept = matches!(step.work, Work::Issue(_) | Work::Rehearse(_));
        let mut kept: Option<Held> = None;
        let mut pauses = Pauses::begin(begun);
        let mut started = false;
        let ended = loop {
            let result = {
                // The semaphore is never closed, so a permit always comes.
                let own = if self.is_gathered(step.work) { &permits.gathered } else { &permits.usual };
                let _permit = own.acquire().await.ok();
                let _working = self.context.waits.work(self.context.clock.as_ref());
                if !started {
                    started = true;
                    let target = step.target.clone();
                    self.context.listener.on(Event::StepStarted {
                        id: *id,
                        hostname: hostname.clone(),
                        action,
                        target,
                    });
                    if let Err(error) = self.context.journal(Moment::Begun, action, &subject, step.target.clone()).await
                    {
                        break Outcome::Failed(error.into());
                    }
                }
                let granted = match kept.take() {
                    Some(held) => Ok(Granted::Yes(held)),
                    None => self.context.claim(&claimed).await,
                };
                match granted {
                    Ok(Granted::Yes(held)) => {
                        let result = held.work(async |claim| self.execute_claimed(step, claim).await).await;
                        if matches!(result, Ok(Progress::NotYet(_))) && is_kept {
                            kept = Some(held);
                        } else {
                            held.release().await;
                        }
                        result
                    }
                    Ok(Granted::HeldBy(worker)) => Ok(Progress::NotYet(wait_for(&worker, &claimed))),
                    Err(finding) => Err(finding),
                }
            };
            let wait = match result {
                Ok(Progress::Done) => break Outcome::Done,
                Ok(Progress::NotYet(wait)) => wait,
                Err(finding) => break Outcome::of_fault(finding.about(Subject::Hostname(hostname.clone()))),
            };
            let (elapsed, now) = (self.context.clock.elapsed(), self.context.clock.now());
            let Some(pause) = pauses.next(&wait, self.context.bounds.patience, elapsed, now) else {
                let Wait { until, within, finding, .. } = wait;
                break match within {
                    Some(_) => Outcome::Failed(finding),
                    None => Outcome::Deferred { finding, next: until.or(Some(pauses.again(elapsed, now))) },
                };
            };
            let until = wait.over_at().unwrap_or_else(|| now.checked_add(pauses.left(elapsed)).unwrap_or(now));
            self.context.emit_waiting(hostname, action, wait.what, Some(until));
            self.context.waits.pause(self.context.clock.as_ref(), pause).await;
        };
        if let Some(held) = kept {
            held.release().await;
        }
        self.emit_ended(step, &ended, begun).await
    }

    /// Does one piece of work under a claim as far as it can be done now, by what the state says at that moment.
    async fn execute_claimed(&self, step: &Step, claim: &Claim) -> Result<Progress, Finding> {
        if claim.is_shared && self.catch_up.catch_up(step.work).await? {
            return Ok(Progress::Done);
        }
        self.execute(step, claim).await
    }

    /// Does one piece of work as far as it can be done now.
    async fn execute(&self, step: &Step, claim: &Claim) -> Result<Progress, Finding> {
        match step.work {
            Work::Mark(zone) => self.marker.mark(zone).await.map(|()| Progress::Done),
            Work::Register(authority) => self.issuing.accounts.register(authority).await.map(|()| Progress::Done),
            Work::Rehearse(certificate) => self.issuing.rehearsals.run(certificate, claim).await,
            Work::Issue(certificate) => self.issuer.issue(certificate, claim).await,
            Work::Deliver(certificate) => self.deliverer.deliver(certificate, &step.hostname).await,
            Work::Store(certificate, endpoint) => {
                self.binder.store(certificate, endpoint).await.map(|()| Progress::Done)
            }
            Work::Bind(hostname, endpoint) => self.binder.bind(hostname, endpoint, claim).await,
            Work::Connect(hostname, endpoint) => self.binder.connect(hostname, endpoint).await,
            Work::Alias(hostname) => self.switcher.alias(hostname, claim).await,
            Work::Answer(hostname) => self.switcher.answer(hostname).await,
            Work::LowerTtl(hostname) => self.switcher.lower_ttl(hostname, claim).await,
            Work::RaiseTtl(hostname) => self.switcher.alias(hostname, claim).await,
            Work::RemoveAlias(id) => self.remover.remove_alias(id, claim).await,
            Work::Unbind(whose, endpoint) => self.remover.unbind(whose, endpoint, claim).await,
        }
    }

    /// What a step claims: steps that write the same claim the same.
    fn claim_key(&self, work: Work) -> String {
        let order = |id: CertificateId, rehearsal| {
            certificate_claim(&order_name(&self.context.desired.certificate(id).name, rehearsal))
        };
        match work {
            Work::Issue(id) => order(id, false),
            Work::Rehearse(id) => order(id, true),
            Work::Alias(id) | Work::LowerTtl(id) | Work::RaiseTtl(id) => {
                alias_claim(&self.context.desired.hostname(id).hostname)
            }
            _ => self.context.work_key(work),
        }
    }

    /// Writes down how a step ended, and tells it.
    async fn emit_ended(&self, step: &Step, outcome: &Outcome, begun: Duration) -> Outcome {
        let Step { id, hostname, action, target, .. } = step;
        let at = self.context.clock.now();
        let (moment, ended, finding, next, detail) = match outcome {
            Outcome::Done => (Moment::Done, AttemptEnd::Done, None, None, step.target.clone()),
            Outcome::Deferred { finding, next } => {
                (Moment::Waiting, AttemptEnd::Waiting, Some(finding.clone()), *next, finding.says())
            }
            Outcome::Failed(finding) => {
                let next = finding.again().at();
                (Moment::Failed, AttemptEnd::Failed, Some(finding.clone()), next, finding.says())
            }
        };
        let work = self.context.work_key(step.work);
        let attempt = Attempt { work, action: (*action).to_owned(), at, ended, finding, next };
        let written = self.context.journal_with(moment, action, hostname.as_str(), detail, Some(&attempt)).await;
        let outcome = match written {
            Ok(()) => outcome.clone(),
            Err(error) => Outcome::Failed(error.into()),
        };
        let (id, hostname, target) = (*id, hostname.clone(), target.clone());
        self.context.listener.on(match &outcome {
            Outcome::Done => {
                let seconds = self.context.clock.elapsed().saturating_sub(begun).as_secs_f64();
                Event::StepEnded { id, hostname, action, target, seconds }
            }
            Outcome::Deferred { finding, next } => {
                Event::StepPutOff { id, hostname, action, target, finding: finding.clone(), next: *next }
            }
            Outcome::Failed(finding) => Event::StepFailed { id, hostname, action, target, finding: finding.clone() },
        });
        outcome
    }
}

/// The wait for another process that works on the same thing.
fn wait_for(worker: &str, key: &str) -> Wait {
    let (until, within) = (None, None);
    Wait {
        until,
        topic: "claim",
        what: format!("{worker}, which is working on {key}"),
        within,
        finding: busy(key, worker),
    }
}
