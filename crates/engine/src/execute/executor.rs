//! The executor: claims, journals, runs, waits and takes steps up again.

use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt as _;
use futures::future::{BoxFuture, Shared, join_all};
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{CertificateId, EndpointDriver};
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::plan::{Step, Work};
use pindrel_state::{Attempt, AttemptEnd, Moment};
use tokio::sync::Semaphore;

use super::{Progress, Wait};
use crate::acme::orders::order_name;
use crate::events::Event;
use crate::home::leases::{Granted, Held, busy};
use crate::run::Engine;

/// The first pause between two looks at something that has to catch up; each is longer than
/// the one before, up to the longest.
const FIRST_PAUSE: Duration = Duration::from_millis(40);
const PAUSE_GROWTH: f64 = 1.6;
/// The longest pause in the first minute, and later.
const LONGEST_PAUSE_AT_FIRST: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(15);
const AT_FIRST: Duration = Duration::from_secs(60);

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

/// Pauses between looks at one thing that has to catch up.
pub(crate) struct Backoff {
    begun: Duration,
    next: Duration,
}

impl Backoff {
    /// Begins at `now`, on the clock that nobody sets.
    pub(crate) fn begin(now: Duration) -> Backoff {
        Backoff { begun: now, next: FIRST_PAUSE }
    }

    fn left(&self, within: Duration, now: Duration) -> Option<Duration> {
        within.checked_sub(now.saturating_sub(self.begun)).filter(|left| !left.is_zero())
    }

    /// Returns the next pause, or `None` when the time is over.
    pub(crate) fn next(&mut self, within: Duration, now: Duration) -> Option<Duration> {
        let pause = self.next.min(self.left(within, now)?);
        let at_first = now.saturating_sub(self.begun) < AT_FIRST;
        let longest = if at_first { LONGEST_PAUSE_AT_FIRST } else { LONGEST_PAUSE };
        self.next = self.next.mul_f64(PAUSE_GROWTH).min(longest);
        Some(pause)
    }
}

/// The waits of one step.
struct Pauses {
    topic: &'static str,
    growing: Backoff,
    /// The longest time that was named for the topic: what a cached answer says of itself shrinks
    /// as it is waited for.
    within: Duration,
}

impl Pauses {
    fn begin(now: Duration) -> Pauses {
        Pauses { topic: "", growing: Backoff::begin(now), within: Duration::ZERO }
    }

    /// The next pause of a wait, or `None` when its time is over. `now` is the time that
    /// nobody sets.
    fn next(&mut self, wait: &Wait, patience: Duration, now: Duration, wall: Timestamp) -> Option<Duration> {
        if self.topic != wait.topic {
            *self = Pauses { topic: wait.topic, ..Pauses::begin(now) };
        }
        self.within = self.within.max(wait.within.unwrap_or(patience));
        let within = self.within;
        let Some(until) = wait.until else { return self.growing.next(within, now) };
        // A time that lies beyond the patience is not waited for in vain.
        let pause = Duration::try_from(until.duration_since(wall)).unwrap_or_default();
        self.growing.left(within, now).filter(|left| pause <= *left).map(|_| pause)
    }
}

impl Engine {
    /// Takes all steps, each as soon as those before it have succeeded. A step that does not
    /// succeed leaves out those that need it, and no others.
    pub(crate) async fn run_steps(&self, steps: &[Step]) -> Vec<Arc<Outcome>> {
        let permits = Arc::new(Permits::new(self.bounds.at_once));
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
        matches!(self.desired.endpoint(endpoint).driver, EndpointDriver::Nginx(_))
    }

    async fn run_step(&self, step: &Step, permits: &Permits) -> Outcome {
        // An order is open at an authority until it ends, also while it waits.
        let _slot = match step.work {
            Work::Issue(_) | Work::Rehearse(_) => self.order_slots.acquire().await.ok(),
            _ => None,
        };
        let begun = self.clock.elapsed();
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
                let _working = self.waits.work(self.clock.as_ref());
                if !started {
                    started = true;
                    let target = step.target.clone();
                    self.listener.on(Event::StepStarted { id: *id, hostname: hostname.clone(), action, target });
                    if let Err(error) = self.journal(Moment::Begun, action, &subject, step.target.clone()).await {
                        break Outcome::Failed(error.into());
                    }
                }
                let granted = match kept.take() {
                    Some(held) => Ok(Granted::Yes(held)),
                    None => self.claim(&claimed).await,
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
                Err(finding) => break Outcome::Failed(finding),
            };
            let (elapsed, now) = (self.clock.elapsed(), self.clock.now());
            let Some(pause) = pauses.next(&wait, self.bounds.patience, elapsed, now) else {
                let Wait { until, within, finding, .. } = wait;
                break match within {
                    Some(_) => Outcome::Failed(finding),
                    None => Outcome::Deferred { finding, next: until },
                };
            };
            self.emit_waiting(hostname, action, wait.what);
            self.waits.pause(self.clock.as_ref(), pause).await;
        };
        if let Some(held) = kept {
            held.release().await;
        }
        self.emit_ended(step, &ended, begun).await
    }

    /// What a step claims: steps that write the same claim the same.
    fn claim_key(&self, work: Work) -> String {
        let order = |id: CertificateId, rehearsal| {
            certificate_claim(&order_name(&self.desired.certificate(id).name, rehearsal))
        };
        match work {
            Work::Issue(id) => order(id, false),
            Work::Rehearse(id) => order(id, true),
            Work::LowerTtl(id) | Work::RaiseTtl(id) => self.work_key(Work::Alias(id)),
            _ => self.work_key(work),
        }
    }

    /// Writes down how a step ended, and tells it.
    async fn emit_ended(&self, step: &Step, outcome: &Outcome, begun: Duration) -> Outcome {
        let Step { id, hostname, action, .. } = step;
        let at = self.clock.now();
        let (moment, ended, finding, next, detail) = match outcome {
            Outcome::Done => (Moment::Done, AttemptEnd::Done, None, None, step.target.clone()),
            Outcome::Deferred { finding, next } => {
                (Moment::Waiting, AttemptEnd::Waiting, Some(finding.clone()), *next, finding.says.clone())
            }
            Outcome::Failed(finding) => {
                let next = finding.again.at();
                (Moment::Failed, AttemptEnd::Failed, Some(finding.clone()), next, finding.says.clone())
            }
        };
        let work = self.work_key(step.work);
        let attempt = Attempt { work, action: (*action).to_owned(), at, ended, finding, next };
        let written = self.journal_with(moment, action, hostname.as_str(), detail, Some(&attempt)).await;
        let outcome = match written {
            Ok(()) => outcome.clone(),
            Err(error) => Outcome::Failed(error.into()),
        };
        let (id, hostname) = (*id, hostname.clone());
        self.listener.on(match &outcome {
            Outcome::Done => {
                let seconds = self.clock.elapsed().saturating_sub(begun).as_secs_f64();
                Event::StepEnded { id, hostname, action, seconds }
            }
            Outcome::Deferred { finding, next } => {
                Event::StepPutOff { id, hostname, action, says: finding.says.clone(), next: *next }
            }
            Outcome::Failed(Finding { says, remedy, .. }) => {
                Event::StepFailed { id, hostname, action, says: says.clone(), remedy: remedy.clone() }
            }
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

/// What is claimed by whoever writes a certificate or an order for it, under the name that
/// these are stored under.
pub(crate) fn certificate_claim(name: &str) -> String {
    format!("certificate {name}")
}

/// A time so many seconds from another.
pub(crate) fn seconds_from(at: Timestamp, secs: i64) -> Timestamp {
    at.checked_add(SignedDuration::from_secs(secs)).unwrap_or(at)
}

#[cfg(test)]
mod tests {
    use pindrel_core::judging::findings::Code;

    use super::*;

    fn wait(topic: &'static str, within: Option<u64>, until: Option<i64>) -> Wait {
        Wait {
            until: until.map(|secs| Timestamp::from_second(secs).unwrap()),
            topic,
            what: String::new(),
            within: within.map(Duration::from_secs),
            finding: Finding::of(Code::BindingDeploying, "says", "Wait"),
        }
    }

    /// Pauses grow, fit into what is left, and end; another topic begins anew.
    #[test]
    fn what_is_waited_for_ends_by_its_own_bound_or_by_the_runs_patience() {
        let patience = Duration::from_secs(600);
        for (within, bound) in [(Some(30), 30.0), (None, 600.0), (Some(3_000), 3_000.0)] {
            let mut pauses = Pauses::begin(Duration::ZERO);
            let (mut now, mut before, mut looks) = (Duration::ZERO, Duration::ZERO, 0);
            while let Some(pause) = pauses.next(&wait("deploy", within, None), patience, now, Timestamp::UNIX_EPOCH) {
                let last = (now + pause).as_secs_f64() >= bound - 0.001;
                assert!(pause >= before || last, "{pause:?} after {before:?}");
                (now, before, looks) = (now + pause, pause, looks + 1);
            }
            assert!((now.as_secs_f64() - bound).abs() < 0.01, "{now:?} of {bound} s");
            assert!(looks < 60 + now.as_secs() / 10, "{looks} looks in {now:?}");
            let begun_anew = pauses.next(&wait("serve", Some(1), None), patience, now, Timestamp::UNIX_EPOCH);
            assert_eq!(begun_anew, Some(FIRST_PAUSE));
        }
        // A time is waited for exactly, or not at all.
        let mut pauses = Pauses::begin(Duration::ZERO);
        let mut at = |until| {
            pauses.next(&wait("order", None, Some(until)), patience, Duration::from_secs(100), Timestamp::UNIX_EPOCH)
        };
        assert_eq!(at(7), Some(Duration::from_secs(7)));
        assert_eq!(at(-5), Some(Duration::ZERO), "it is over already");
        assert_eq!(at(601), None);
    }
}
