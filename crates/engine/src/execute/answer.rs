//! Verifying what clients get, through every resolver.

use std::time::Duration;

use pindrel_core::desired::HostnameId;
use pindrel_core::judging::facts::{ClientOutcome, ResolverAnswer};
use pindrel_core::judging::findings::{AnswerCause, Finding};
use pindrel_core::judging::pins::PinState;

use crate::context::progress::{Progress, Wait};
use crate::execute::alias::Switcher;

/// How long a resolver or a service may take to come round, besides what a cached
/// answer says of itself.
const ANSWER: Duration = Duration::from_secs(30);
/// The longest time that a cached answer is waited for.
const CACHED: Duration = Duration::from_secs(900);

impl Switcher {
    pub(crate) async fn answer(&self, id: HostnameId) -> Result<Progress, Finding> {
        let wanted = self.context.desired.hostname(id);
        // The alias may have been switched since this was planned.
        self.hostnames.follow_switches(id).await?;
        let fact = self.answers.observe(id).await;
        let within = ANSWER.max(cached_for(&fact.value.through));
        let pins = self.hostnames.record_facts(id, |facts| facts.answer = Some(fact)).await?;
        if pins.answer.state == PinState::Held {
            return Ok(Progress::Done);
        }
        let finding = pins.answer.findings.into_iter().next();
        let finding = finding.ok_or_else(|| Finding::answer(&wanted.hostname, AnswerCause::NoResolver))?;
        let what = format!("the expected answer: {}", finding.says());
        Ok(Progress::NotYet(Wait { until: None, topic: "answer", what, within: Some(within), finding }))
    }
}

/// For how long resolvers may go on giving a cached answer that is not the wanted one.
fn cached_for(through: &[ResolverAnswer]) -> Duration {
    let longest = through.iter().filter_map(|answer| match &answer.outcome {
        ClientOutcome::Unresolved { for_secs, .. } => *for_secs,
        ClientOutcome::Elsewhere { for_secs, .. } => Some(*for_secs),
        _ => None,
    });
    longest.max().map_or(Duration::ZERO, |secs| Duration::from_secs(u64::from(secs) + 5).min(CACHED))
}
