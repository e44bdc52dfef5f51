//! A whole run: look, decide, carry out, verify, sum up.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use futures::FutureExt as _;
use futures::future::{BoxFuture, Shared, join_all};
use jiff::Timestamp;
use pindrel_core::desired::{AuthorityId, HostnameId};
use pindrel_core::findings::Finding;
use pindrel_core::name::Hostname;
use pindrel_core::pins::Pin;
use pindrel_core::steps::{Outlook, Planner, Step, Work};
use pindrel_state::{Entry, Moment};
use tokio::sync::Semaphore;

use crate::error::{EngineError, StepFailure};
use crate::{Engine, Event, Summary};

/// What a run would do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    /// The steps, each after those it needs.
    pub steps: Vec<Step>,
    /// The hostnames that no step, or not all, can bring further.
    pub stuck: Vec<Stuck>,
    /// How many hostnames there are.
    pub total: usize,
    /// How many of them are held already.
    pub held: usize,
}

/// A hostname that waits for a person or for something that is down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stuck {
    /// The hostname.
    pub hostname: Hostname,
    /// Whether something is down; else a person is needed.
    pub outage: bool,
    /// Why.
    pub findings: Vec<Finding>,
}

/// The steps of a run, and what lies ahead of each hostname.
type Decided = (Vec<Step>, Vec<(HostnameId, Outlook)>);
type Outcome = Result<(), Arc<StepFailure>>;
type Running<'r> = Shared<BoxFuture<'r, Outcome>>;

impl Engine {
    /// Says what a run would do, changing nothing.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn plan(&self, scope: &[HostnameId]) -> Result<Plan, EngineError> {
        let open = self.survey_open(scope).await?;
        let (steps, outlooks) = self.decide(&open)?;
        let held = outlooks.iter().filter(|(_, outlook)| *outlook == Outlook::Held).count();
        let stuck = outlooks.into_iter().filter_map(|(id, outlook)| {
            let hostname = self.desired.hostname(id).hostname.clone();
            match outlook {
                Outlook::Blocked(findings) => Some(Stuck { hostname, outage: false, findings }),
                Outlook::Outage(findings) => Some(Stuck { hostname, outage: true, findings }),
                Outlook::Held | Outlook::Steps => None,
            }
        });
        Ok(Plan { stuck: stuck.collect(), steps, total: scope.len(), held: scope.len() - open.len() + held })
    }

    /// Brings the world to the manifest for some hostnames, and verifies it.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written; what fails in the
    /// world is told to the listener and counted in the summary.
    pub async fn settle(&self, scope: &[HostnameId]) -> Result<Summary, EngineError> {
        let begun = Instant::now();
        let open = self.survey_open(scope).await?;
        let (steps, outlooks) = self.decide(&open)?;
        self.listener.on(Event::Planned { steps: steps.len() });

        let outcomes = self.take(&steps).await;
        self.clear_leftovers().await?;

        let mut failures: BTreeMap<HostnameId, Arc<StepFailure>> = BTreeMap::new();
        for (step, outcome) in steps.iter().zip(&outcomes) {
            if let (Some(id), Err(failure)) = (hostname_of(step.work), outcome) {
                failures.entry(id).or_insert_with(|| failure.clone());
            }
        }
        let now = Timestamp::now();
        let mut held = scope.len() - open.len();
        let mut failed = 0;
        for (id, outlook) in &outlooks {
            let hostname = self.desired.hostname(*id).hostname.clone();
            let stuck = |failed: bool, says: &str, remedy: &str| {
                let (says, remedy) = (says.to_owned(), remedy.to_owned());
                self.listener.on(Event::Stuck { hostname: hostname.clone(), failed, says, remedy });
            };
            let pins = self.judge(*id, now);
            if let Some(failure) = failures.get(id) {
                failed += 1;
                stuck(true, &failure.says, &failure.remedy);
            } else if let Outlook::Outage(findings) = outlook {
                failed += 1;
                findings.iter().for_each(|finding| stuck(true, &finding.says, &finding.remedy));
            } else if pins.held() {
                held += 1;
            } else {
                let loose = pins
                    .findings()
                    .filter(|finding| finding.pin != Pin::Answer || pins.findings().all(|f| f.pin == Pin::Answer));
                loose.for_each(|finding| stuck(false, &finding.says, &finding.remedy));
            }
        }
        let summary = Summary {
            held,
            total: scope.len(),
            failed,
            steps: steps.len(),
            seconds: begun.elapsed().as_secs_f64(),
            waited_seconds: self.waits.total().as_secs_f64(),
            acme_requests: self.world.connected().iter().map(|authority| authority.signed()).sum(),
            acme_waiting_requests: self.waiting_requests.load(Ordering::Relaxed),
            lost_orders: self.lost_orders.load(Ordering::Relaxed),
        };
        self.listener.on(Event::Summary(summary.clone()));
        Ok(summary)
    }

    fn decide(&self, open: &[HostnameId]) -> Result<Decided, EngineError> {
        let mut accounts = Vec::new();
        for (authority, id) in
            self.desired.authorities.iter().zip(0u32..).map(|(authority, id)| (authority, AuthorityId(id)))
        {
            let account = if open.is_empty() { None } else { self.state.account(authority.directory.as_str())? };
            if account.is_some_and(|account| account.url.is_some()) {
                accounts.push(id);
            }
        }
        let now = Timestamp::now();
        let mut planner = Planner::new(accounts);
        let mut outlooks = Vec::with_capacity(open.len());
        for id in open {
            let pins = self.judge(*id, now);
            let outlook = self.with_known(*id, |known| planner.add(*id, known, &pins));
            outlooks.push((*id, outlook));
        }
        Ok((planner.into_steps(), outlooks))
    }

    /// Takes all steps, each as soon as those before it have ended well, under the
    /// limit. A step that fails leaves out those that need it, and no others.
    async fn take(&self, steps: &[Step]) -> Vec<Outcome> {
        let limit = Arc::new(Semaphore::new(self.at_once));
        let mut running: Vec<Running<'_>> = Vec::with_capacity(steps.len());
        for step in steps {
            let before: Vec<Running<'_>> =
                step.after.iter().filter_map(|id| running.get(*id as usize - 1).cloned()).collect();
            let limit = limit.clone();
            let run = async move {
                for outcome in join_all(before).await {
                    outcome?;
                }
                // The semaphore is never closed, so a permit always comes.
                let _permit = limit.acquire_owned().await.ok();
                self.take_one(step).await.map_err(Arc::new)
            };
            running.push(run.boxed().shared());
        }
        join_all(running).await
    }

    async fn take_one(&self, step: &Step) -> Result<(), StepFailure> {
        let begun = Instant::now();
        let Step { id, hostname, action, .. } = step;
        let started = Event::StepStarted { id: *id, hostname: hostname.clone(), action, target: step.target.clone() };
        self.listener.on(started);
        let subject = || hostname.to_string();
        self.journal(Moment::Begun, action, subject(), step.target.clone())?;
        let result = {
            let _working = self.waits.work();
            self.carry(step).await
        };
        match result {
            Ok(()) => {
                self.journal(Moment::Ended, action, subject(), step.target.clone())?;
                let seconds = begun.elapsed().as_secs_f64();
                self.listener.on(Event::StepEnded { id: *id, hostname: hostname.clone(), action, seconds });
                Ok(())
            }
            Err(failure) => {
                self.journal(Moment::Failed, action, subject(), failure.says.clone())?;
                let StepFailure { says, remedy } = failure.clone();
                self.listener.on(Event::StepFailed { id: *id, hostname: hostname.clone(), action, says, remedy });
                Err(failure)
            }
        }
    }

    pub(crate) fn journal(
        &self,
        moment: Moment,
        action: &'static str,
        subject: String,
        detail: String,
    ) -> Result<(), StepFailure> {
        tracing::debug!(?moment, action, subject, detail, "journal");
        Ok(self.state.journal(&Entry { at: Timestamp::now(), moment, action, subject, detail })?)
    }

    pub(crate) fn tell_waiting(&self, hostname: &Hostname, action: &'static str, what: impl Into<String>) {
        self.listener.on(Event::Waiting { hostname: hostname.clone(), action, what: what.into() });
    }
}

/// The hostname that a step is for, unless hostnames share it: a failure of a shared
/// step reaches them by the steps of their own that need it.
fn hostname_of(work: Work) -> Option<HostnameId> {
    match work {
        Work::Register(_) | Work::Issue(_) | Work::Store(..) => None,
        Work::Bind(id) | Work::Connect(id) | Work::Alias(id) | Work::Answer(id) => Some(id),
    }
}
