//! Which of several endpoints a hostname's alias gives: a decision of verdicts, the policy and the time.

use std::fmt;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};

use crate::desired::ids::EndpointId;

/// How a hostname's endpoints share its traffic.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash)]
pub enum Policy {
    /// There is one.
    #[default]
    Single,
    /// The first healthy one, in their order.
    Standby,
    /// All healthy ones at once.
    Split,
}

impl Policy {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Policy::Single => "single",
            Policy::Standby => "standby",
            Policy::Split => "split",
        }
    }
}

/// What is known of how well an endpoint works.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Health {
    /// It works, since then; since always where it was never down.
    Up(Timestamp),
    /// It does not.
    Down,
    /// There are not enough results yet.
    Pending,
    /// Nobody checks it, or nothing can be known from here.
    Unwatched,
}

/// Whether an endpoint can take the hostname's traffic.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Readiness {
    /// The hostname is bound there, and that was verified.
    Ready,
    /// A step can make it ready.
    Coming,
    /// No step can.
    Barred,
}

/// One endpoint of a hostname, in the manifest's order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Member {
    /// The endpoint.
    pub endpoint: EndpointId,
    /// How well it works.
    pub health: Health,
    /// Whether the hostname is bound there.
    pub readiness: Readiness,
    /// Whether somebody has taken it out of answers.
    pub is_drained: bool,
}

/// What the alias gives now, where that is known.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Given {
    /// The endpoints, in the manifest's order; none where the alias leads to none of them.
    pub endpoints: Vec<EndpointId>,
    /// When it was last changed from one to another.
    pub since: Option<Timestamp>,
}

/// The rules of a decision.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Rules {
    /// The policy.
    pub policy: Policy,
    /// How long an endpoint must have been up before traffic returns to it.
    pub back_after: Duration,
    /// The TTL of the alias: no answer changes twice within it.
    pub ttl: Duration,
}

/// What the alias should give, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Choice {
    /// The endpoints; never none.
    pub give: Vec<EndpointId>,
    /// Why these.
    pub reason: Reason,
    /// When the decision may be another one though nothing else changes.
    pub again_at: Option<Timestamp>,
}

/// Why an alias gives what it gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reason {
    /// There is no other.
    Only,
    /// These are preferred, and nothing speaks against them.
    Preferred,
    /// One that is preferred does not work.
    FailedOver,
    /// One that is preferred works again, but not for long enough yet.
    NotBackYet {
        /// When it has, if it goes on to.
        at: Timestamp,
    },
    /// The hostname is not ready at one that is preferred.
    NotReady,
    /// Of one that is preferred nothing is concluded yet.
    Unproven,
    /// The hostname moves to another endpoint, and its alias has not been moved yet.
    Moving,
    /// None works: the last answer stays.
    AllDown,
    /// Another one should be given, but the answer has changed within its TTL.
    ChangedJustNow,
    /// Somebody has taken a preferred one out.
    Drained,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Reason::NotBackYet { at } => {
                return write!(f, "a preferred endpoint is up again, and traffic returns to it at {at:.0}");
            }
            Reason::Only => "it is the only endpoint",
            Reason::Preferred => "it is preferred",
            Reason::FailedOver => "a preferred endpoint is down",
            Reason::NotReady => "the hostname is not ready at a preferred endpoint",
            Reason::Unproven => "the check of a preferred endpoint has no verdict yet",
            Reason::Moving => "its alias has not been moved yet",
            Reason::AllDown => "no endpoint is up: the last answer stays",
            Reason::ChangedJustNow => "the answer changed less than its TTL ago",
            Reason::Drained => "a preferred endpoint is held out of answers",
        })
    }
}

/// Decides what an alias should give at `now`. There is at least one member.
///
/// An endpoint is given only once the hostname is bound there, unless none is; one that is down only where
/// none is up; and what is given changes at most once in the TTL. Where nothing works, what is given stays.
pub fn decide(rules: Rules, members: &[Member], given: &Given, now: Timestamp) -> Choice {
    let current: Vec<&Member> = members.iter().filter(|member| given.endpoints.contains(&member.endpoint)).collect();
    let chosen = match rules.policy {
        Policy::Single => Choice { give: vec![members[0].endpoint], reason: Reason::Preferred, again_at: None },
        Policy::Standby => standby(rules, members, &current, now),
        Policy::Split => split(rules, members, &current, now),
    };
    let changes = !current.is_empty() && chosen.give != given.endpoints;
    let steady_at = given.since.map(|since| later(since, rules.ttl));
    match steady_at {
        Some(at) if changes && now < at => {
            let again_at = Some(chosen.again_at.map_or(at, |again| again.min(at)));
            let give = current.iter().map(|member| member.endpoint).collect();
            Choice { give, reason: Reason::ChangedJustNow, again_at }
        }
        _ => chosen,
    }
}

fn later(at: Timestamp, by: Duration) -> Timestamp {
    SignedDuration::try_from(by).ok().and_then(|by| at.checked_add(by).ok()).unwrap_or(Timestamp::MAX)
}

impl Member {
    /// When traffic may return to it, where it works.
    fn back_at(&self, rules: Rules) -> Option<Timestamp> {
        match self.health {
            Health::Up(since) => Some(later(since, rules.back_after)),
            Health::Unwatched => Some(Timestamp::MIN),
            Health::Down | Health::Pending => None,
        }
    }

    /// Says whether it can be given instead of one that failed: it works for all that is known, and is
    /// bound.
    fn can_step_in(&self, is_up: bool) -> bool {
        let works = matches!((self.health, is_up), (Health::Up(_), true) | (Health::Unwatched, false));
        works && self.readiness == Readiness::Ready && !self.is_drained
    }

    /// Says whether it should be left: it does not work, or somebody has taken it out.
    fn is_to_leave(&self) -> bool {
        self.health == Health::Down || self.is_drained
    }
}

/// Why a preferred endpoint is passed over.
fn why_passed(rules: Rules, preferred: &[&Member], now: Timestamp) -> Reason {
    let is_up = |member: &&&Member| matches!(member.health, Health::Up(_));
    let back_at = preferred.iter().filter(is_up).filter_map(|member| member.back_at(rules)).min();
    if preferred.iter().any(|member| member.is_drained) {
        Reason::Drained
    } else if preferred.iter().any(|member| member.health == Health::Down) {
        Reason::FailedOver
    } else if let Some(at) = back_at.filter(|at| *at > now) {
        Reason::NotBackYet { at }
    } else if preferred.iter().any(|member| member.readiness != Readiness::Ready) {
        Reason::NotReady
    } else if preferred.iter().any(|member| member.health == Health::Pending) {
        Reason::Unproven
    } else {
        Reason::Preferred
    }
}

fn standby(rules: Rules, members: &[Member], current: &[&Member], now: Timestamp) -> Choice {
    let give = |member: &Member, again_at| {
        let before: Vec<&Member> = members.iter().take_while(|own| own.endpoint != member.endpoint).collect();
        Choice { give: vec![member.endpoint], reason: why_passed(rules, &before, now), again_at }
    };
    let Some(current) = current.first() else {
        // Nothing is given yet: the first that may work, whether or not it is bound already.
        let may_work = |member: &&Member| {
            !member.is_drained && member.health != Health::Down && member.readiness != Readiness::Barred
        };
        let is_up = |member: &&Member| may_work(member) && matches!(member.health, Health::Up(_));
        let first = members.iter().find(is_up).or_else(|| members.iter().find(may_work));
        let first = first.or_else(|| members.iter().find(|member| member.readiness != Readiness::Barred));
        return give(first.unwrap_or(&members[0]), None);
    };
    if current.is_to_leave() {
        let steps_in = [true, false].into_iter().find_map(|up| members.iter().find(|member| member.can_step_in(up)));
        return match steps_in {
            Some(member) => give(member, None),
            None => Choice { give: vec![current.endpoint], reason: Reason::AllDown, again_at: None },
        };
    }
    // One that is preferred to what is given, and has worked for long enough.
    let preferred: Vec<&Member> = members
        .iter()
        .take_while(|member| member.endpoint != current.endpoint)
        .filter(|member| !member.is_drained && member.readiness != Readiness::Barred)
        .collect();
    let back = preferred.iter().find(|member| member.back_at(rules).is_some_and(|at| at <= now));
    // One that is preferred still more comes back within the TTL: one change instead of two.
    let better = preferred.iter().take_while(|member| back.is_none_or(|back| back.endpoint != member.endpoint));
    let soon = later(now, rules.ttl);
    let better = better.filter_map(|member| member.back_at(rules)).filter(|at| *at > now && *at <= soon).min();
    match back {
        Some(_) if better.is_some() => give(current, better),
        Some(member) => give(member, None),
        None => give(current, preferred.iter().filter_map(|member| member.back_at(rules)).min()),
    }
}

fn split(rules: Rules, members: &[Member], current: &[&Member], now: Timestamp) -> Choice {
    let is_given = |member: &Member| current.iter().any(|own| own.endpoint == member.endpoint);
    let mut again_at: Option<Timestamp> = None;
    let mut give = Vec::new();
    for member in members {
        let is_in = match member.readiness {
            _ if member.is_to_leave() => false,
            _ if is_given(member) => true,
            Readiness::Barred => false,
            _ if current.is_empty() => true,
            // It comes back once it has worked for long enough.
            _ => member.back_at(rules).is_some_and(|at| {
                if at > now {
                    again_at = Some(again_at.map_or(at, |own| own.min(at)));
                }
                at <= now
            }),
        };
        if is_in {
            give.push(member.endpoint);
        }
    }
    if !give.is_empty() {
        let out: Vec<&Member> = members.iter().filter(|member| !give.contains(&member.endpoint)).collect();
        return Choice { give, reason: why_passed(rules, &out, now), again_at };
    }
    // None of those that are given works: one that does returns at once.
    let steps_in = |up: bool| -> Vec<EndpointId> {
        members.iter().filter(|member| member.can_step_in(up)).map(|member| member.endpoint).collect()
    };
    let steps_in = [true, false].into_iter().map(steps_in).find(|all| !all.is_empty());
    if let Some(give) = steps_in {
        return Choice { give, reason: Reason::FailedOver, again_at: None };
    }
    let give: Vec<EndpointId> = match current {
        [] => members.iter().filter(|member| member.readiness != Readiness::Barred).map(|own| own.endpoint).collect(),
        current => current.iter().map(|member| member.endpoint).collect(),
    };
    let give = if give.is_empty() { vec![members[0].endpoint] } else { give };
    Choice { give, reason: Reason::AllDown, again_at: None }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    fn rules(policy: Policy) -> Rules {
        Rules { policy, back_after: Duration::from_secs(60), ttl: Duration::from_secs(30) }
    }

    fn member(endpoint: u32, health: Health) -> Member {
        Member { endpoint: EndpointId(endpoint), health, readiness: Readiness::Ready, is_drained: false }
    }

    fn given(endpoints: &[u32], since: i64) -> Given {
        Given { endpoints: endpoints.iter().copied().map(EndpointId).collect(), since: Some(at(since)) }
    }

    #[test]
    fn two_that_return_together_are_one_change() {
        use Health::{Down, Up};
        // Back at 60 s after they are up, and a TTL of 30 s; the last one is given.
        for (first, second, expected, again) in [
            (Up(at(-61)), Up(at(-62)), 0, None),
            (Up(at(-50)), Up(at(-60)), 2, Some(10)),
            (Up(at(-20)), Up(at(-60)), 1, None),
            (Down, Up(at(-60)), 1, None),
        ] {
            let members = [member(0, first), member(1, second), member(2, Up(at(-999)))];
            let choice = decide(rules(Policy::Standby), &members, &given(&[2], -999), at(0));
            assert_eq!(
                (choice.give[0], choice.again_at),
                (EndpointId(expected), again.map(at)),
                "{first:?} {second:?}"
            );
        }
    }

    #[test]
    fn what_is_given_follows_the_policy() {
        use Health::{Down, Pending, Unwatched, Up};
        use Policy::{Split, Standby};
        let (long, short) = (Up(at(-1_000)), Up(at(-10)));
        // The policy, the health of each, what is given and since when; what is decided, why, and when again.
        type Row = (Policy, [Health; 2], &'static [u32], i64, &'static [u32], Reason, Option<i64>);
        let table: [Row; 22] = [
            (Standby, [long, long], &[], -99, &[0], Reason::Preferred, None),
            (Standby, [Pending, Pending], &[], -99, &[0], Reason::Preferred, None),
            (Standby, [Down, long], &[], -99, &[1], Reason::FailedOver, None),
            (Standby, [Pending, long], &[], -99, &[1], Reason::Unproven, None),
            (Standby, [long, long], &[0], -99, &[0], Reason::Preferred, None),
            (Standby, [Down, long], &[0], -99, &[1], Reason::FailedOver, None),
            (Standby, [Down, short], &[0], -99, &[1], Reason::FailedOver, None),
            // What is not known yet does not step in; what nobody can know does, if nothing better is there.
            (Standby, [Down, Pending], &[0], -99, &[0], Reason::AllDown, None),
            (Standby, [Down, Unwatched], &[0], -99, &[1], Reason::FailedOver, None),
            (Standby, [Down, Down], &[0], -99, &[0], Reason::AllDown, None),
            (Standby, [Down, Down], &[1], -99, &[1], Reason::AllDown, None),
            (Standby, [short, long], &[1], -99, &[1], Reason::NotBackYet { at: at(50) }, Some(50)),
            (Standby, [long, long], &[1], -99, &[0], Reason::Preferred, None),
            (Standby, [short, Down], &[1], -99, &[0], Reason::Preferred, None),
            // Not twice within the TTL.
            (Standby, [Down, long], &[0], -10, &[0], Reason::ChangedJustNow, Some(20)),
            (Standby, [long, Down], &[1], -10, &[1], Reason::ChangedJustNow, Some(20)),
            (Split, [long, long], &[], -99, &[0, 1], Reason::Preferred, None),
            (Split, [Down, long], &[0, 1], -99, &[1], Reason::FailedOver, None),
            (Split, [short, long], &[1], -99, &[1], Reason::NotBackYet { at: at(50) }, Some(50)),
            (Split, [long, long], &[1], -99, &[0, 1], Reason::Preferred, None),
            (Split, [Down, Down], &[0, 1], -99, &[0, 1], Reason::AllDown, None),
            (Split, [Pending, Down], &[0, 1], -99, &[0], Reason::FailedOver, None),
        ];
        for (n, (policy, health, gives, since, give, reason, again)) in table.into_iter().enumerate() {
            let members = [member(0, health[0]), member(1, health[1])];
            let choice = decide(rules(policy), &members, &given(gives, since), at(0));
            let expected: Vec<EndpointId> = give.iter().copied().map(EndpointId).collect();
            assert_eq!((choice.give, choice.reason), (expected, reason), "row {n}");
            assert_eq!(choice.again_at, again.map(at), "row {n}");
        }
    }

    #[test]
    fn one_that_is_not_bound_or_drained_does_not_step_in() {
        let up = Health::Up(at(-1_000));
        let given_first = given(&[0], -99);
        let with = |readiness, is_drained| {
            [member(0, Health::Down), Member { readiness, is_drained, ..member(1, up) }, member(2, up)]
        };
        for (readiness, is_drained, expected) in [
            (Readiness::Ready, false, 1),
            (Readiness::Coming, false, 2),
            (Readiness::Barred, false, 2),
            (Readiness::Ready, true, 2),
        ] {
            let choice = decide(rules(Policy::Standby), &with(readiness, is_drained), &given_first, at(0));
            assert_eq!(choice.give, [EndpointId(expected)], "{readiness:?} {is_drained}");
        }
        // A person takes out what works, and it comes back at once.
        let held = [Member { is_drained: true, ..member(0, up) }, member(1, up)];
        let choice = decide(rules(Policy::Standby), &held, &given_first, at(0));
        assert_eq!((choice.give, choice.reason), (vec![EndpointId(1)], Reason::Drained));
        let back = [member(0, up), member(1, up)];
        assert_eq!(decide(rules(Policy::Standby), &back, &given(&[1], -99), at(0)).give, [EndpointId(0)]);
    }

    #[derive(Debug, Clone)]
    struct Change {
        member: usize,
        health: u8,
        is_drained: bool,
        passed: i64,
    }

    fn changes() -> impl Strategy<Value = Vec<Change>> {
        let change = (0_usize..3, 0_u8..4, prop::bool::weighted(0.2), 0_i64..90);
        let change =
            change.prop_map(|(member, health, is_drained, passed)| Change { member, health, is_drained, passed });
        prop::collection::vec(change, 1..40)
    }

    proptest! {
        #[test]
        fn no_answer_is_empty_or_down_without_need_or_changes_twice_in_its_ttl(
            changes in changes(),
            split in any::<bool>(),
        ) {
            let rules = rules(if split { Policy::Split } else { Policy::Standby });
            let mut members = [0, 1, 2].map(|n| member(n, Health::Pending));
            let (mut given, mut now) = (Given::default(), 0);
            for change in changes {
                now += change.passed;
                let own = &mut members[change.member];
                own.is_drained = change.is_drained;
                own.health = match (change.health, own.health) {
                    (0, Health::Up(since)) => Health::Up(since),
                    (0, _) => Health::Up(at(now)),
                    (1, _) => Health::Down,
                    (2, _) => Health::Pending,
                    _ => Health::Unwatched,
                };
                let choice = decide(rules, &members, &given, at(now));
                prop_assert!(!choice.give.is_empty());
                prop_assert!(choice.again_at.is_none_or(|again| again > at(now)));
                if choice.give == given.endpoints {
                    continue;
                }
                if let Some(since) = given.since {
                    prop_assert!(at(now) >= later(since, rules.ttl), "changed twice: {:?}", choice);
                }
                let of = |id: &EndpointId| members.iter().find(|own| own.endpoint == *id).unwrap();
                let is_up = |own: &Member| matches!(own.health, Health::Up(_)) && !own.is_drained;
                let is_down = |id: &EndpointId| of(id).health == Health::Down;
                prop_assert!(!(choice.give.iter().any(is_down) && members.iter().any(is_up)), "{:?} {:?}", choice, members);
                // What is asked again at once is answered the same.
                let since = Some(at(now)).filter(|_| !given.endpoints.is_empty());
                given = Given { endpoints: choice.give.clone(), since };
                prop_assert_eq!(decide(rules, &members, &given, at(now)).give, choice.give);
            }
        }
    }
}
