//! What a run does where something is broken: it says so, hurts nothing, and goes on with it
//! once that is mended.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Duration;

use jiff::SignedDuration;
use pindrel_core::judging::findings::Code;
use pindrel_core::judging::pins::{Pin, PinState};
use pindrel_engine::{AttemptEnd, Event};
use pindrel_testkit::memory::{Faults, PRIMARY, Pace, SECONDARY, Setting};

use crate::{API, ONE, several};

/// What is broken, the finding that says so, and how many orders it takes in the end.
type Fault = (&'static str, fn(&mut Faults), Code, usize);

const FAULTS: [Fault; 7] = [
    ("authority down", |faults| faults.authority.down = true, Code::AuthorityUnreachable, 1),
    (
        "primary silent",
        |faults| faults.silent.extend([PRIMARY.parse::<SocketAddr>().unwrap()]),
        Code::ServerUnreachable,
        1,
    ),
    (
        "secondary silent",
        |faults| faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]),
        Code::ServerUnreachable,
        1,
    ),
    ("updates refused", |faults| faults.refuses_updates = true, Code::UpdateRefused, 1),
    ("platform down", |faults| faults.platform_down = true, Code::PlatformUnreachable, 1),
    ("deployment fails", |faults| faults.refused.extend([API.into()]), Code::BindingFailed, 1),
    ("name invalid", |faults| faults.authority.invalid.extend([API.into()]), Code::ValidationFailed, 2),
];

#[tokio::test(start_paused = true)]
async fn every_fault_is_told_in_bounded_time_as_itself_and_overcome_once_it_is_mended() {
    for (what, fault, code, orders) in FAULTS {
        let setting = Setting::new(Pace::default(), ONE);
        setting.break_or_mend(fault);
        let summary = setting.settle().await;
        let is_for_person = code.is_hindrance();
        let (failed, waiting) = (usize::from(!is_for_person), usize::from(is_for_person));
        let events = setting.recorder.take();
        assert_eq!((summary.held, summary.failed, summary.waiting), (0, failed, waiting), "{what}: {events:?}");
        assert!(summary.seconds < 700.0, "{what}: {summary:?}");
        assert!(setting.client_gets(API).await.is_none(), "{what}");
        // What is in the way is known to a later status, as the pin's finding or the last attempt's.
        let status = setting.status().await;
        let host = &status.hostnames[0];
        let attempt = host.last_attempt.iter().filter_map(|attempt| attempt.finding.as_ref());
        let codes: Vec<Code> = host.pins.findings().chain(attempt).map(|finding| finding.code()).collect();
        assert!(codes.contains(&code), "{what}: {codes:?}");

        setting.break_or_mend(|faults| *faults = Faults::default());
        setting.pass(Duration::from_secs(2 * 3600)).await;
        let summary = setting.settle().await;
        assert_eq!((summary.held, summary.failed), (1, 0), "{what}: {:?}", setting.recorder.take());
        assert_eq!(setting.authority_counts().2, orders, "{what}");
        assert_eq!(setting.challenge_records(), 0, "{what}");
        assert!(setting.client_gets(API).await.is_some(), "{what}");
    }
}

#[tokio::test(start_paused = true)]
async fn what_is_down_for_one_hostname_stops_no_other() {
    let setting = Setting::new(Pace::default(), &several(6));
    setting.break_or_mend(|faults| {
        faults.authority.invalid.insert("survey-1.larkfield.example".into());
        faults.refused.insert("survey-2.larkfield.example".into());
    });
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (4, 2), "{:?}", setting.recorder.take());
}

#[tokio::test(start_paused = true)]
async fn an_authority_that_says_when_to_come_back_is_not_asked_before_that() {
    let setting = Setting::new(Pace::default(), ONE);
    let until = setting.now().checked_add(SignedDuration::from_hours(3)).unwrap();
    setting.break_or_mend(|faults| faults.authority.limited_until = Some(until));
    setting.settle().await;
    let asked = setting.authority_counts().0;
    let attempt = setting.status().await.hostnames[0].last_attempt.clone().unwrap();
    assert_eq!((attempt.action.as_str(), attempt.next), ("issue", Some(until)), "{attempt:?}");

    setting.recorder.take();
    setting.pass(Duration::from_secs(3600)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.planned), (0, 0), "{summary:?}");
    assert_eq!(setting.authority_counts().0, asked, "it was asked all the same");
    let next = setting.recorder.take().into_iter().find_map(|event| match event {
        Event::Stuck { next, .. } => next,
        _ => None,
    });
    assert_eq!(next, Some(until), "the person is told when it goes on");

    setting.pass(Duration::from_secs(2 * 3600 + 1)).await;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
}

#[tokio::test(start_paused = true)]
async fn an_order_whose_answer_is_lost_is_found_again() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.break_or_mend(|faults| faults.authority.lose_next_answer = true);
    let summary = setting.settle().await;
    assert_eq!(summary.held, 0);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.lost_orders), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.authority_counts().2, 1);
}

#[tokio::test(start_paused = true)]
async fn a_secondary_that_never_follows_costs_one_order_and_no_attempt() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.break_or_mend(|faults| faults.frozen = true);
    for _ in 0..3 {
        assert_eq!(setting.settle().await.held, 0);
    }
    let status = setting.status().await;
    let attempt = status.hostnames[0].last_attempt.as_ref().unwrap();
    assert_eq!((attempt.action.as_str(), attempt.ended), ("issue", AttemptEnd::Failed), "{attempt:?}");
    assert!(attempt.finding.as_ref().unwrap().says().contains(SECONDARY), "{attempt:?}");
    assert_eq!(setting.authority_counts().2, 1, "the order is gone on with, not made again");
    setting.break_or_mend(|faults| faults.frozen = false);
    assert_eq!(setting.settle().await.held, 1);
    assert_eq!((setting.authority_counts().2, setting.challenge_records()), (1, 0));
}

/// Each change of a pin is reported once, from the state that was stored before this process to the present one.
#[tokio::test(start_paused = true)]
async fn each_change_of_a_pin_is_told_from_where_the_last_one_led() {
    let setting = Setting::new(Pace::default(), ONE);
    let changes = |events: Vec<Event>| -> Vec<(Pin, PinState, PinState)> {
        let change = |event| match event {
            Event::Changed { pin, from, to, .. } => Some((pin, from, to)),
            _ => None,
        };
        events.into_iter().filter_map(change).collect()
    };
    let mut stands = BTreeMap::new();
    let mut follow = |told: &[(Pin, PinState, PinState)]| {
        for (pin, from, to) in told {
            let before = stands.insert(*pin, *to).unwrap_or(*from);
            assert_eq!(before, *from, "{pin:?}: {told:?}");
        }
        stands.values().copied().collect::<Vec<_>>()
    };
    // From nothing, nothing new, an alias taken away, and put back.
    setting.settle().await;
    assert_eq!(follow(&changes(setting.recorder.take())), [PinState::Held; 5]);
    setting.settle().await;
    assert_eq!(changes(setting.recorder.take()), []);
    setting.remove_aliases(API);
    setting.pass(Duration::from_secs(2 * 3600)).await;
    setting.settle().await;
    let told = changes(setting.recorder.take());
    assert_eq!(told[0], (Pin::Alias, PinState::Held, PinState::Loose), "{told:?}");
    assert_eq!(follow(&told), [PinState::Held; 5]);
}
