//! A whole run: look, decide, carry out, verify, sum up.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Instant;

use futures::FutureExt as _;
use futures::future::{BoxFuture, Shared, join_all};
use jiff::Timestamp;
use pindrel_core::acme::account::AccountStatus;
use pindrel_core::desired::{AuthorityId, CertificateId, Desired, HostnameId};
use pindrel_core::findings::{Code, Finding};
use pindrel_core::name::Hostname;
use pindrel_core::pins::{Pin, PinReport, PinState, Pins, judge_certificate};
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
    /// How many hostnames there are, with the certificates that none of them uses.
    pub total: usize,
    /// How many of them are held already.
    pub held: usize,
    /// How many of them are certificates that no hostname uses.
    pub certificates: usize,
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

/// What a run is to see to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// These hostnames, with all that they need.
    pub hostnames: Vec<HostnameId>,
    /// These certificates besides: those that no hostname uses.
    pub certificates: Vec<CertificateId>,
}

impl Scope {
    /// All of a manifest.
    pub fn all(desired: &Desired) -> Scope {
        Scope { hostnames: desired.hostname_ids().collect(), certificates: desired.unused_certificates() }
    }

    /// One certificate with all hostnames that use it.
    pub fn of_certificates(desired: &Desired, ids: &[CertificateId]) -> Scope {
        let uses = |id: &HostnameId| ids.contains(&desired.hostname(*id).certificate);
        let unused = desired.unused_certificates();
        Scope {
            hostnames: desired.hostname_ids().filter(uses).collect(),
            certificates: ids.iter().copied().filter(|id| unused.contains(id)).collect(),
        }
    }
}

/// How many things a run sees to, and how many of them are certificates that it names by
/// themselves.
fn sizes(scope: &Scope, aim: Aim, looked_at: usize) -> (usize, usize) {
    match aim {
        Aim::Hold => (scope.hostnames.len() + scope.certificates.len(), scope.certificates.len()),
        Aim::Rehearse => (looked_at, looked_at),
    }
}

/// How far a run goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Aim {
    /// Everything is held.
    #[default]
    Hold,
    /// Every set-up is proven at its practice authority; nothing else is done.
    Rehearse,
}

/// What a step or an outlook is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Subject {
    Hostname(HostnameId),
    Certificate(CertificateId),
}

/// The steps of a run, and what lies ahead of each subject.
type Decided = (Vec<Step>, Vec<(Subject, Outlook)>);
type Outcome = Result<(), Arc<StepFailure>>;
type Running<'r> = Shared<BoxFuture<'r, Outcome>>;

impl Engine {
    /// Says what a run would do, changing nothing.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn plan(&self, scope: &Scope, aim: Aim) -> Result<Plan, EngineError> {
        let see_to = self.due_certificates(Timestamp::now())?;
        let open = self.survey_open(&scope.hostnames, &see_to).await?;
        let (steps, outlooks) = self.decide(&open, &scope.certificates, aim).await?;
        let held = outlooks.iter().filter(|(_, outlook)| *outlook == Outlook::Held).count();
        let looked_at = outlooks.len();
        let stuck = outlooks.into_iter().filter_map(|(subject, outlook)| {
            let hostname = self.name_of(subject);
            match outlook {
                Outlook::Blocked(findings) => Some(Stuck { hostname, outage: false, findings }),
                Outlook::Outage(findings) => Some(Stuck { hostname, outage: true, findings }),
                Outlook::Held | Outlook::Steps => None,
            }
        });
        let (total, certificates) = sizes(scope, aim, looked_at);
        Ok(Plan { stuck: stuck.collect(), steps, total, held: total - looked_at + held, certificates })
    }

    /// Brings the world to the manifest for some hostnames, and verifies it.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written; what fails in the
    /// world is told to the listener and counted in the summary.
    pub async fn settle(&self, scope: &Scope, aim: Aim) -> Result<Summary, EngineError> {
        let begun = Instant::now();
        self.forget_old_spendings()?;
        self.finish_revocations().await?;
        let see_to = self.take_advice().await?;
        let open = self.survey_open(&scope.hostnames, &see_to).await?;
        let (steps, outlooks) = self.decide(&open, &scope.certificates, aim).await?;
        self.listener.on(Event::Planned { steps: steps.len() });

        let outcomes = self.take(&steps).await;
        self.drop_unwanted_orders()?;
        self.clear_leftovers().await?;

        let mut failures: BTreeMap<Subject, Arc<StepFailure>> = BTreeMap::new();
        for (step, outcome) in steps.iter().zip(&outcomes) {
            let Err(failure) = outcome else { continue };
            for subject in self.subjects_of(step.work, aim, &scope.certificates) {
                failures.entry(subject).or_insert_with(|| failure.clone());
            }
        }
        let now = Timestamp::now();
        let (total, certificates) = sizes(scope, aim, outlooks.len());
        let mut held = total - outlooks.len();
        let mut failed = 0;
        for (subject, outlook) in &outlooks {
            let hostname = self.name_of(*subject);
            let stuck = |failed: bool, says: &str, remedy: &str| {
                let (says, remedy) = (says.to_owned(), remedy.to_owned());
                self.listener.on(Event::Stuck { hostname: hostname.clone(), failed, says, remedy });
            };
            if let Some(failure) = failures.get(subject) {
                failed += 1;
                stuck(true, &failure.says, &failure.remedy);
                continue;
            }
            if let Outlook::Outage(findings) = outlook {
                failed += 1;
                findings.iter().for_each(|finding| stuck(true, &finding.says, &finding.remedy));
                continue;
            }
            let loose = match (aim, outlook, subject) {
                (Aim::Rehearse, ..) => Vec::new(),
                // What would be done if nothing stood in the way is not told.
                (Aim::Hold, Outlook::Blocked(findings), _) => findings.clone(),
                (Aim::Hold, _, Subject::Hostname(id)) => told(&self.judge(*id, now)),
                (Aim::Hold, _, Subject::Certificate(id)) => {
                    let report = self.judge_certificate(*id, now);
                    if report.state == PinState::Held { Vec::new() } else { report.findings }
                }
            };
            if loose.is_empty() {
                held += 1;
            }
            loose.iter().for_each(|finding| stuck(false, &finding.says, &finding.remedy));
        }
        let summary = Summary {
            held,
            total,
            certificates,
            failed,
            steps: outcomes.iter().filter(|outcome| outcome.is_ok()).count(),
            planned: steps.len(),
            seconds: begun.elapsed().as_secs_f64(),
            waited_seconds: self.waits.total().as_secs_f64(),
            acme_requests: self.world.connected().iter().map(|authority| authority.signed()).sum(),
            acme_waiting_requests: self.waiting_requests.load(Ordering::Relaxed),
            lost_orders: self.lost_orders.load(Ordering::Relaxed),
        };
        self.listener.on(Event::Summary(summary.clone()));
        Ok(summary)
    }

    async fn decide(
        &self,
        open: &[HostnameId],
        certificates: &[CertificateId],
        aim: Aim,
    ) -> Result<Decided, EngineError> {
        for id in certificates {
            self.remember_certificate(*id)?;
        }
        let now = Timestamp::now();
        let mut wanting: BTreeSet<CertificateId> = BTreeSet::new();
        let used = open.iter().map(|id| self.desired.hostname(*id).certificate);
        for id in used.chain(certificates.iter().copied()) {
            let wants = aim == Aim::Rehearse || self.judge_certificate(id, now).state != PinState::Held;
            if wants {
                wanting.insert(id);
            }
        }
        let rehearsals = self.rehearsals(&wanting).await?;
        let mut planner = Planner::new(self.known_accounts(!wanting.is_empty())?, rehearsals.clone());
        let mut outlooks = Vec::with_capacity(open.len() + certificates.len());
        if aim == Aim::Rehearse {
            // One certificate stands for all of its set-up.
            for id in wanting.into_iter().filter(|id| rehearsals.get(id).is_none_or(|proving| proving == id)) {
                let steps = planner.add_rehearsal(&self.desired, id);
                let outlook = if steps { Outlook::Steps } else { Outlook::Held };
                outlooks.push((Subject::Certificate(id), outlook));
            }
            return Ok((planner.into_steps(), outlooks));
        }
        // What ends first is seen to first: where a limit bites, it bites what can wait.
        let mut open: Vec<HostnameId> = open.to_vec();
        open.sort_by_key(|id| self.urgency(self.desired.hostname(*id).certificate, now));
        let mut certificates: Vec<CertificateId> = certificates.to_vec();
        certificates.sort_by_key(|id| self.urgency(*id, now));
        for id in &open {
            let pins = self.judge(*id, now);
            let outlook = self.with_known(*id, |known| planner.add(*id, known, &pins));
            outlooks.push((Subject::Hostname(*id), outlook));
        }
        for id in &certificates {
            let report = self.judge_certificate(*id, now);
            outlooks.push((Subject::Certificate(*id), planner.add_certificate(&self.desired, *id, &report)));
        }
        Ok((planner.into_steps(), outlooks))
    }

    /// The end of a certificate that is due; what is held or new comes after all of these.
    fn urgency(&self, id: CertificateId, now: Timestamp) -> Timestamp {
        let memory = self.memory();
        let held = memory.certificates.get(&id).and_then(Option::as_ref);
        let due = held.filter(|held| now >= held.due_at(self.desired.certificate(id).terms.renewal));
        due.map_or(Timestamp::MAX, |held| held.not_after)
    }

    fn known_accounts(&self, needed: bool) -> Result<Vec<AuthorityId>, EngineError> {
        let mut accounts = Vec::new();
        for (authority, id) in self.desired.authorities.iter().zip(0u32..).filter(|_| needed) {
            let account = self.state.account(authority.directory.as_str())?;
            if account.is_some_and(|account| account.url.is_some() && account.status == AccountStatus::Valid) {
                accounts.push(AuthorityId(id));
            }
        }
        Ok(accounts)
    }

    /// The certificates of the manifest that are due or have advice to be asked for.
    pub(crate) fn due_certificates(&self, now: Timestamp) -> Result<HashSet<CertificateId>, EngineError> {
        let names: HashSet<String> = self.state.certificates_to_see_to(now)?.into_iter().collect();
        let due = |id: &CertificateId| names.contains(&self.desired.certificate(*id).name);
        Ok(if names.is_empty() { HashSet::new() } else { self.desired.certificate_ids().filter(due).collect() })
    }

    /// Judges a certificate by what this run knows.
    pub(crate) fn judge_certificate(&self, id: CertificateId, now: Timestamp) -> PinReport {
        let memory = self.memory();
        let held = memory.certificates.get(&id).and_then(Option::as_ref);
        judge_certificate(&self.desired, self.desired.certificate(id), held, memory.undelivered.get(&id), now)
    }

    /// The name that a subject is told under.
    fn name_of(&self, subject: Subject) -> Hostname {
        match subject {
            Subject::Hostname(id) => self.desired.hostname(id).hostname.clone(),
            Subject::Certificate(id) => self.desired.certificate(id).names[0].clone(),
        }
    }

    /// Whom a failed step is told about. A failure of a step that hostnames share reaches
    /// them by the steps of their own that need it.
    fn subjects_of(&self, work: Work, aim: Aim, certificates: &[CertificateId]) -> Vec<Subject> {
        match work {
            Work::Bind(id) | Work::Connect(id) | Work::Alias(id) | Work::Answer(id) => vec![Subject::Hostname(id)],
            Work::Rehearse(id) | Work::Issue(id) | Work::Deliver(id) => {
                let told = aim == Aim::Rehearse || certificates.contains(&id);
                if told { vec![Subject::Certificate(id)] } else { Vec::new() }
            }
            Work::Register(authority) => {
                let at = |id: &CertificateId| {
                    let own = self.desired.certificate(*id).authority;
                    own == Some(authority)
                        || own.and_then(|own| self.desired.authority(own).rehearsal) == Some(authority)
                };
                let all =
                    if aim == Aim::Rehearse { self.desired.certificate_ids().collect() } else { certificates.to_vec() };
                all.into_iter().filter(at).map(Subject::Certificate).collect()
            }
            Work::Store(..) => Vec::new(),
        }
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

/// What is told of pins that are not held: not the answer where something before it is
/// the cause.
fn told(pins: &Pins) -> Vec<Finding> {
    let only_answer = pins.findings().all(|finding| finding.pin == Pin::Answer);
    if pins.held() {
        return Vec::new();
    }
    let told = pins.findings().filter(|finding| only_answer || finding.pin != Pin::Answer);
    let mut told: Vec<Finding> = told.cloned().collect();
    if told.is_empty() {
        let says = "not everything of it could be looked at";
        told.push(Finding::new(Code::AnswerUnresolved, Pin::Answer, says, "run settle again"));
    }
    told
}
