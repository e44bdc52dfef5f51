//! When what is due: a queue of times.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::time::Duration;

use crate::desired::{CheckId, HostnameId};

/// What is due at some time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Task {
    /// A check is to be made.
    Check(CheckId),
    /// What an alias gives is to be decided anew.
    Decide(HostnameId),
    /// It is to be read which hostnames and certificates are due.
    Due,
    /// Checks that another process makes are to be taken over where that has ended.
    Claim,
    /// What checks found is to be stored.
    Store,
    /// What is stored of checks is to be thinned.
    Thin,
    /// A changed manifest that could not be loaded is to be tried again.
    Load,
}

/// What is due, and when: on the clock that nobody sets. Each thing is due once, at the earliest of the times that it was
/// added for: whatever is done then says when it is due again.
#[derive(Debug, Default)]
pub(super) struct Schedule {
    due: HashMap<Task, Duration>,
    /// The same in the order of time, with times that earlier ones have replaced.
    queue: BinaryHeap<Reverse<(Duration, Task)>>,
}

impl Schedule {
    /// Adds a task, unless it is due by then.
    pub(super) fn add(&mut self, at: Duration, task: Task) {
        if self.due.get(&task).is_none_or(|due| at < *due) {
            self.due.insert(task, at);
            self.queue.push(Reverse((at, task)));
        }
    }

    /// Returns when the next task is due.
    pub(super) fn next_at(&self) -> Option<Duration> {
        self.queue.peek().map(|Reverse((at, _))| *at)
    }

    /// Takes the next task that is due, with the time at which it was.
    pub(super) fn take_due(&mut self, now: Duration) -> Option<(Duration, Task)> {
        while self.next_at().is_some_and(|at| at <= now) {
            let Reverse((at, task)) = self.queue.pop()?;
            if self.due.get(&task) == Some(&at) {
                self.due.remove(&task);
                return Some((at, task));
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_due_comes_in_its_order_and_not_before() {
        let mut schedule = Schedule::default();
        let at = Duration::from_secs;
        for (n, secs) in [(0, 7), (1, 3), (2, 3), (3, 9)] {
            schedule.add(at(secs), Task::Check(CheckId(n)));
        }
        assert_eq!(schedule.take_due(at(2)), None);
        let due: Vec<_> = std::iter::from_fn(|| schedule.take_due(at(7))).collect();
        let check = |n| Task::Check(CheckId(n));
        assert_eq!(due, [(at(3), check(1)), (at(3), check(2)), (at(7), check(0))]);
        assert_eq!(schedule.next_at(), Some(at(9)));
        // However often a thing is added, it is due once, and at the earliest of its times.
        for secs in [30, 20, 25, 20, 40] {
            schedule.add(at(secs), Task::Due);
        }
        let due: Vec<_> = std::iter::from_fn(|| schedule.take_due(at(50))).collect();
        assert_eq!(due, [(at(9), check(3)), (at(20), Task::Due)]);
        assert_eq!(schedule.next_at(), None);
    }
}
