//! Carrying a plan out: each step as soon as those before it have succeeded, one file for
//! each kind of work.

mod alias;
mod answer;
mod asked_records;
mod bind;
mod catch_up;
mod connect;
pub(crate) mod deliver;
mod executor;
mod issue;
mod mark;
mod moving;
mod store;
mod unbind;

use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::judging::findings::Finding;
use pindrel_core::planning::plan::{Step, Work};
use pindrel_state::Claim;

use crate::run::Engine;

pub(crate) use executor::{Backoff, Outcome, certificate_claim, seconds_from};

/// What a step came to, if it did not fail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Progress {
    /// It is done, and verified.
    Done,
    /// The world has to catch up: the step gives its place back and is begun again then.
    NotYet(Wait),
}

/// What a step waits for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Wait {
    /// When to look again; `None` looks at a growing pace.
    pub(crate) until: Option<Timestamp>,
    /// What is waited for: waits of one topic are measured together.
    pub(crate) topic: &'static str,
    /// What is waited for, as in "catalogue to deploy the binding".
    pub(crate) what: String,
    /// How long it may take before it counts as failed; as long as the run has patience where
    /// `None`, and then the step is put off to a later run.
    pub(crate) within: Option<Duration>,
    /// What is told when that time is over.
    pub(crate) finding: Finding,
}

impl Engine {
    /// Does one piece of work under a claim as far as it can be done now, by what the state says at that moment.
    async fn execute_claimed(&self, step: &Step, claim: &Claim) -> Result<Progress, Finding> {
        if claim.is_shared && self.catch_up(step.work).await? {
            return Ok(Progress::Done);
        }
        self.execute(step, claim).await
    }

    /// Does one piece of work as far as it can be done now.
    async fn execute(&self, step: &Step, claim: &Claim) -> Result<Progress, Finding> {
        match step.work {
            Work::Mark(zone) => self.mark(zone).await.map(|()| Progress::Done),
            Work::Register(authority) => self.register(authority).await.map(|()| Progress::Done),
            Work::Rehearse(certificate) => self.rehearse(certificate, claim).await,
            Work::Issue(certificate) => self.issue(certificate, claim).await,
            Work::Deliver(certificate) => self.deliver(certificate, &step.hostname).await,
            Work::Store(certificate, endpoint) => self.store(certificate, endpoint).await.map(|()| Progress::Done),
            Work::Bind(hostname, endpoint) => self.bind(hostname, endpoint, claim).await,
            Work::Connect(hostname, endpoint) => self.connect(hostname, endpoint).await,
            Work::Alias(hostname) => self.alias(hostname, claim).await,
            Work::Answer(hostname) => self.answer(hostname).await,
            Work::LowerTtl(hostname) => self.lower_ttl(hostname, claim).await,
            Work::RaiseTtl(hostname) => self.alias(hostname, claim).await,
            Work::RemoveAlias(id) => self.remove_alias(id, claim).await,
            Work::Unbind(whose, endpoint) => self.unbind(whose, endpoint, claim).await,
        }
    }
}
