//! Deciding what an alias should give, by the verdicts of this process and by what the state says of the hostname at that
//! moment: a pass, another command or another process may have changed it. And switching it.

use std::collections::HashMap;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use super::board::Board;
use super::schedule::Task;
use super::{
    Action, News, Now, Question, Recalled, RetryDelay, SwitchOrder, SwitchReport, Switched, Topic, with_members,
};
use crate::desired::{EndpointId, HostnameId};
use crate::health::policy::Reason;
use crate::judging::findings::Finding;
use crate::judging::pins::Known;
use crate::names::name::Hostname;

/// The most switches under way at once; as many hostnames are decided about at a time.
const SWITCHES_AT_ONCE: usize = 256;

/// How far the switch of one hostname has got.
#[derive(Debug, Default)]
struct Switching {
    is_under_way: bool,
    /// How many in a row failed.
    failures: u32,
    /// When the next may begin.
    not_before: Duration,
    /// The last finding that was told.
    told: Option<Finding>,
    /// What was told last of what its alias gives, by the names of the endpoints, and why.
    choice: Option<(Vec<String>, Reason)>,
}

/// The switches of all hostnames, by hostname: another manifest changes none of them.
#[derive(Debug, Default)]
pub(super) struct Switches {
    by_hostname: HashMap<Hostname, Switching>,
}

impl Switches {
    /// Has it decided anew at a time of day.
    fn decide_at(board: &mut Board, id: HostnameId, at: Timestamp, now: Now) {
        let pause = Duration::try_from(at.duration_since(now.wall)).unwrap_or_default();
        board.later(now, pause, Task::Decide(id));
    }

    /// Asks the state about the next hostnames that are to be decided about.
    pub(super) fn begin_recall(&mut self, board: &mut Board) {
        let under_way = self.by_hostname.values().filter(|switching| switching.is_under_way).count();
        let places = SWITCHES_AT_ONCE.saturating_sub(under_way);
        if board.is_asked(Topic::Recall) || board.to_decide.is_empty() || places == 0 {
            return;
        }
        let ids = std::iter::from_fn(|| board.to_decide.pop_first()).take(places).collect();
        board.ask(Question::Recall(ids));
    }

    /// Decides about hostnames; of those that the state did not say anything about by what was known before.
    pub(super) fn recalled(&mut self, board: &mut Board, ids: Vec<HostnameId>, said: Vec<Recalled>, now: Now) {
        for said in said {
            self.know(board, said);
        }
        for id in ids {
            self.decide_now(board, id, now);
        }
    }

    /// Takes over what the state says, but for what a switch of this process is changing.
    fn know(&mut self, board: &mut Board, said: Recalled) {
        let Recalled { id, own, certificate, endpoints } = said;
        if self.is_switching(board, id) {
            return;
        }
        if let Some(mut own) = own {
            // What this process saw last may be newer than what a run has stored since.
            own.facts.take_later_alias(board.known.hostnames.remove(&id).and_then(|known| known.facts.alias));
            board.known.hostnames.insert(id, own);
        }
        board.known.certificates.insert(board.desired.hostname(id).certificate, certificate);
        for (endpoint, fact) in endpoints {
            if board.known.endpoints.get(&endpoint).is_none_or(|known| known.seen < fact.seen) {
                board.known.endpoints.insert(endpoint, fact);
            }
        }
    }

    fn of(&mut self, hostname: &Hostname) -> &mut Switching {
        self.by_hostname.entry(hostname.clone()).or_default()
    }

    /// Whether a switch of this hostname is under way.
    pub(super) fn is_switching(&self, board: &Board, id: HostnameId) -> bool {
        self.by_hostname.get(&board.desired.hostname(id).hostname).is_some_and(|switching| switching.is_under_way)
    }

    /// Decides what an alias should give, and begins to give it where that is something else.
    fn decide_now(&mut self, board: &mut Board, id: HostnameId, now: Now) {
        if self.is_switching(board, id) {
            // It is decided again when that has ended.
            return;
        }
        let choice = Known::about(&board.desired, &board.known, id).decide(now.wall);
        if let Some(choice) = choice {
            if let Some(again) = choice.again_at {
                Switches::decide_at(board, id, again, now);
            }
            board.known.choices.insert(id, choice);
        }
        let known = Known::about(&board.desired, &board.known, id);
        let (led, to) = (known.aliased_at(), known.given());
        if led == to {
            self.emit_choice(board, id);
        }
        let known = Known::about(&board.desired, &board.known, id);
        // What leads nowhere, as where somebody else has changed it, still has to leave what it was last led to.
        let leads_nowhere = led.is_empty();
        let from = if leads_nowhere { known.written_to() } else { led };
        // An alias that never led anywhere, or moves from elsewhere, is a pass's work.
        if from.is_empty() || known.is_alias_written() || known.wanted_alias().is_none() {
            return;
        }
        if from == to && (leads_nowhere || !known.is_alias_behind() || !Switches::may_change_addresses(board, id, now))
        {
            return;
        }
        let hostname = &board.desired.hostname(id).hostname;
        if self.by_hostname.get(hostname).is_some_and(|switching| now.elapsed < switching.not_before) {
            return;
        }
        self.begin_switch(board, id, from, to, now);
    }

    fn begin_switch(
        &mut self,
        board: &mut Board,
        id: HostnameId,
        from: Vec<EndpointId>,
        to: Vec<EndpointId>,
        now: Now,
    ) {
        let seen = Switches::failing_since(board, id, &from);
        let hostname = board.desired.hostname(id).hostname.clone();
        self.of(&hostname).is_under_way = true;
        board.actions.push(Action::Switch(Box::new(SwitchOrder {
            desired: board.desired.clone(),
            generation: board.generation,
            id,
            from,
            to,
            choice: board.known.choices.get(&id).cloned(),
            seen,
            decided: now.wall,
            verdicts: board.known.verdicts.clone(),
            drained: board.known.drained.clone(),
            endpoints: board.known.endpoints.clone(),
            known: board.known.hostnames.get(&id).cloned(),
            zone: board.known.zones.get(&board.desired.hostname(id).zone).cloned(),
        })));
    }

    /// Whether the addresses of an alias may change: once in its TTL.
    fn may_change_addresses(board: &mut Board, id: HostnameId, now: Now) -> bool {
        let wanted = board.desired.hostname(id);
        let switched = board.known.hostnames.get(&id).and_then(|own| own.ownership.switched);
        let ttl = SignedDuration::from_secs(i64::from(wanted.ttl.as_secs()));
        let free_at = switched.and_then(|at| at.checked_add(ttl).ok());
        match free_at.filter(|at| now.wall < *at) {
            None => true,
            Some(at) => {
                Switches::decide_at(board, id, at, now);
                false
            }
        }
    }

    /// When the failures began that are the reason to leave endpoints.
    fn failing_since(board: &Board, id: HostnameId, from: &[EndpointId]) -> Option<Timestamp> {
        let members = &board.desired.hostname(id).placement.members;
        let left = members.iter().filter(|member| from.contains(&member.endpoint)).filter_map(|member| member.check);
        let checks = with_members(&board.desired, left);
        checks.iter().filter_map(|check| board.known.verdicts.get(check)?.failing_since()).min()
    }

    /// Tells what an alias gives and why, where that is not what was told last.
    fn emit_choice(&mut self, board: &mut Board, id: HostnameId) {
        let Some(choice) = board.known.choices.get(&id) else { return };
        let (endpoints, reason) = (choice.give.clone(), choice.reason);
        let names = endpoints.iter().map(|id| board.desired.endpoint(*id).name.clone()).collect();
        let hostname = board.desired.hostname(id).hostname.clone();
        let told = Some((names, reason));
        let switching = self.of(&hostname);
        if switching.choice != told {
            switching.choice = told;
            board.tell(News::Gives { id, endpoints, reason });
        }
    }

    /// Tells what keeps clients from the new answer, where that is not what was told last.
    fn emit_in_the_way(&mut self, board: &mut Board, hostname: &Hostname, finding: Finding, failed: bool) {
        let switching = self.of(hostname);
        // Evidence and times differ from try to try.
        if switching.told.as_ref().is_some_and(|told| told.is_same(&finding)) {
            return;
        }
        switching.told = Some(finding.clone());
        board.tell(News::InTheWay { hostname: hostname.clone(), finding, failed });
    }

    /// Takes note of how a switch ended; one that failed is tried again for as long as it is wanted.
    pub(super) fn switch_ended(&mut self, board: &mut Board, report: SwitchReport, now: Now) {
        let SwitchReport { order, primary, ended, outcome, behind, known } = report;
        let SwitchOrder { desired, generation, id: id_then, from, to, choice, seen, decided, .. } = order;
        let hostname = desired.hostname(id_then).hostname.clone();
        let is_same = generation == board.generation;
        // The manifest may have changed since, and still name it.
        let id = if is_same { Some(id_then) } else { board.desired.hostname_named(&hostname) };
        let until = known.as_ref().and_then(|own| own.ownership.former_alias).and_then(|former| former.forgotten_at());
        if let Some(known) = known.filter(|_| is_same) {
            board.known.hostnames.insert(id_then, known);
        }
        let names =
            |ids: &[EndpointId]| -> Vec<String> { ids.iter().map(|id| desired.endpoint(*id).name.clone()).collect() };
        let reason = choice.map(|choice| choice.reason);
        let switching = self.of(&hostname);
        switching.is_under_way = false;
        let pause = match outcome {
            Ok(()) => {
                switching.failures = 0;
                // The message about the switch says why.
                switching.choice = reason.map(|reason| (names(&to), reason));
                if behind.is_none() {
                    switching.told = None;
                }
                board.summary.switches += 1;
                let (from, to) = (names(&from), names(&to));
                let everywhere = ended;
                let switched = Switched {
                    hostname: hostname.clone(),
                    from,
                    to,
                    reason,
                    seen,
                    decided,
                    primary,
                    everywhere,
                    until,
                };
                board.tell(News::Switched(Box::new(switched)));
                if let Some(finding) = behind {
                    self.emit_in_the_way(board, &hostname, finding, false);
                }
                // What has changed meanwhile is decided now.
                Duration::ZERO
            }
            Err(finding) => {
                switching.failures = switching.failures.saturating_add(1);
                let pause = RetryDelay::SWITCH.after(switching.failures);
                switching.not_before = now.elapsed + pause;
                self.emit_in_the_way(board, &hostname, finding, true);
                pause
            }
        };
        if let Some(id) = id {
            board.later(now, pause, Task::Decide(id));
        } else {
            self.by_hostname.remove(&hostname);
        }
    }
}
