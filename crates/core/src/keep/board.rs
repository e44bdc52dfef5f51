//! What the parts of the machine share: the manifest, what is known by it, what is due, and what is to be done about it.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use std::time::Duration;

use super::schedule::{Schedule, Task};
use super::{Action, KeepSummary, News, Now, Question, Topic};
use crate::desired::{Desired, HostnameId};
use crate::judging::facts::Knowledge;

/// What the parts share.
#[derive(Debug)]
pub(super) struct Board {
    pub(super) desired: Arc<Desired>,
    /// Counts the manifests: answers about an earlier one mean other hostnames.
    pub(super) generation: u64,
    /// What is known of hostnames whose alias follows checks, and of the endpoints that are checked.
    pub(super) known: Knowledge,
    pub(super) schedule: Schedule,
    /// Hostnames that are to be decided about as soon as the state has said what is known of them.
    pub(super) to_decide: BTreeSet<HostnameId>,
    /// What the state is being asked.
    pub(super) asked: HashSet<Topic>,
    pub(super) summary: KeepSummary,
    pub(super) actions: Vec<Action>,
}

impl Board {
    pub(super) fn new(desired: Arc<Desired>) -> Board {
        Board {
            desired,
            generation: 0,
            known: Knowledge::default(),
            schedule: Schedule::default(),
            to_decide: BTreeSet::new(),
            asked: HashSet::new(),
            summary: KeepSummary::default(),
            actions: Vec::new(),
        }
    }

    /// Asks the state something, unless it is being asked the same already.
    pub(super) fn ask(&mut self, question: Question) {
        if self.asked.insert(question.topic()) {
            self.actions.push(Action::Ask { generation: self.generation, question });
        }
    }

    pub(super) fn is_asked(&self, topic: Topic) -> bool {
        self.asked.contains(&topic)
    }

    pub(super) fn tell(&mut self, news: News) {
        self.actions.push(Action::Tell(news));
    }

    /// Has something done after a while.
    pub(super) fn later(&mut self, now: Now, pause: Duration, task: Task) {
        self.schedule.add(now.elapsed + pause, task);
    }

    /// Has it decided anew what an alias should give.
    pub(super) fn decide(&mut self, id: HostnameId) {
        self.to_decide.insert(id);
    }
}
