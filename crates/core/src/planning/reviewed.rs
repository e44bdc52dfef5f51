//! A plan that was kept for somebody to read: whether what is to be done now is still exactly that.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::plan::{HostnameRef, Step, Work};
use crate::desired::{Desired, Digests};
use crate::names::name::Hostname;

/// One step of a kept plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ReviewedStep {
    /// The first hostname that needs it.
    pub hostname: Hostname,
    /// What it does.
    pub action: String,
    /// What it does it to.
    pub target: String,
    /// A digest of what the manifest wants there, in hexadecimal digits: the same step of another manifest is another.
    pub wanted: String,
    /// Why it was needed then; it may read otherwise now.
    pub why: String,
}

/// How what is to be done now differs from a kept plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Difference {
    /// A step that the plan does not have.
    Added(ReviewedStep),
    /// A step of the plan that is not to be taken any more.
    Gone(ReviewedStep),
    /// A step that would write something else than when the plan was made.
    Changed(ReviewedStep),
}

impl fmt::Display for Difference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (ReviewedStep { hostname, action, target, .. }, how) = match self {
            Difference::Added(step) => (step, "is to be taken and is not in the plan"),
            Difference::Gone(step) => (step, "is in the plan and is no longer to be taken"),
            Difference::Changed(step) => (step, "is in the plan, and the manifest now wants something else there"),
        };
        write!(f, "{action} {hostname} ({target}) {how}")
    }
}

/// Returns the steps of a plan as they are kept.
pub fn kept(desired: &Desired, steps: &[Step]) -> Vec<ReviewedStep> {
    let digests = desired.digests();
    let keep = |step: &Step| ReviewedStep {
        hostname: step.hostname.clone(),
        action: step.action.to_owned(),
        target: step.target.clone(),
        wanted: wanted(desired, &digests, step.work),
        why: step.why.clone(),
    };
    steps.iter().map(keep).collect()
}

/// Returns how the steps that are to be taken now differ from those of a kept plan, whatever their order.
pub fn differences(reviewed: &[ReviewedStep], now: &[ReviewedStep]) -> Vec<Difference> {
    fn key(step: &ReviewedStep) -> (&Hostname, &str, &str) {
        (&step.hostname, &step.action, &step.target)
    }
    let mut before: BTreeMap<_, &ReviewedStep> = reviewed.iter().map(|step| (key(step), step)).collect();
    let mut differences = Vec::new();
    for step in now {
        match before.remove(&key(step)) {
            None => differences.push(Difference::Added(step.clone())),
            Some(then) if then.wanted != step.wanted => differences.push(Difference::Changed(step.clone())),
            Some(_) => {}
        }
    }
    differences.extend(before.into_values().cloned().map(Difference::Gone));
    differences
}

fn wanted(desired: &Desired, digests: &Digests, work: Work) -> String {
    let digest = match work {
        Work::Mark(zone) => digests.of_zone(zone),
        Work::Register(authority) => digests.of_authority(authority),
        Work::Rehearse(id) | Work::Issue(id) | Work::Deliver(id) | Work::Store(id, _) => {
            digests.of_certificate(desired, id)
        }
        Work::Bind(id, _)
        | Work::Connect(id, _)
        | Work::LowerTtl(id)
        | Work::Alias(id)
        | Work::Answer(id)
        | Work::RaiseTtl(id)
        | Work::Unbind(HostnameRef::Wanted(id), _) => digests.of(desired, id),
        // The manifest wants nothing of what is taken away.
        Work::RemoveAlias(_) | Work::Unbind(HostnameRef::Retiring(_), _) => 0,
    };
    format!("{digest:016x}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::desired::{HostnameId, SMALL_MANIFEST, ZoneId, resolved};

    #[test]
    fn a_plan_is_the_same_only_while_it_would_write_the_same() {
        let now = |manifest: &str, works: &[Work]| {
            let desired = resolved(manifest);
            let hostname = &desired.hostname(HostnameId(0)).hostname;
            let step = |(n, work): (usize, &Work)| Step {
                id: n as u32 + 1,
                hostname: hostname.clone(),
                action: work.action(),
                target: "catalogue".into(),
                after: Vec::new(),
                why: String::new(),
                work: *work,
                goals: Vec::new(),
            };
            kept(&desired, &works.iter().enumerate().map(step).collect::<Vec<_>>())
        };
        let [alias, answer, mark] = [Work::Alias(HostnameId(0)), Work::Answer(HostnameId(0)), Work::Mark(ZoneId(0))];
        let more = format!("{SMALL_MANIFEST}[hostname.\"api.larkfield.example\"]\nendpoint = \"catalogue\"\n");
        let other = format!("{more}ttl = \"2m\"\n");
        let reviewed = now(&more, &[alias, answer]);
        for (manifest, works, expected) in [
            (&more, &[answer, alias][..], &[][..]),
            (&format!("# a comment\n{more}note = \"a note\"\n"), &[alias, answer], &[]),
            (&other, &[alias, answer], &["alias changed", "answer changed"]),
            (&more, &[alias], &["answer gone"]),
            (&more, &[alias, answer, mark], &["mark added"]),
            (&other, &[mark], &["mark added", "alias gone", "answer gone"]),
        ] {
            let told: Vec<String> = differences(&reviewed, &now(manifest, works))
                .iter()
                .map(|difference| match difference {
                    Difference::Added(step) => format!("{} added", step.action),
                    Difference::Gone(step) => format!("{} gone", step.action),
                    Difference::Changed(step) => format!("{} changed", step.action),
                })
                .collect();
            assert_eq!(told, expected, "{manifest}");
        }
    }
}
