//! Outages that came of two things at once: each was seen on the built program, and holds here under an invented clock.

use std::net::SocketAddr;
use std::time::Duration;

use pindrel_core::zones::records::RecordData;
use pindrel_testkit::memory::{PRIMARY, Pace, SECONDARY, Setting};

use crate::health::{FIRST, PUBLISHED_WITHIN, SECOND, SEEN_WITHIN, STANDBY, TTL, die, given, kept, live, until_given};

/// Until traffic is back at an endpoint that works again: it must have worked for two minutes.
const BACK_WITHIN: Duration = Duration::from_secs(120 + 20 + 5);

/// Goes through a failure of the first endpoint and its return.
async fn fails_and_returns(setting: &Setting) {
    die(setting, FIRST);
    until_given(setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    returns(setting).await;
}

/// The first endpoint works again, and traffic returns to it.
async fn returns(setting: &Setting) {
    live(setting, FIRST);
    until_given(setting, 1, BACK_WITHIN).await;
    setting.pass(TTL).await;
}

/// A pass is deploying at both endpoints while the first one fails: what the switch wrote is what is known afterwards.
#[tokio::test(start_paused = true)]
async fn a_switch_during_a_pass_is_not_written_over() {
    let mut setting = Setting::new(Pace { deploy: Duration::from_secs(100), ..Pace::default() }, STANDBY);
    assert_eq!(setting.settle().await.held, 1);
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(60)).await;
    setting.names = format!("{STANDBY}minimum_tls = \"1.3\"\n");
    keeping.replace(&setting).await;
    setting.pass(Duration::from_secs(5)).await;
    die(&setting, FIRST);
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    // The pass ends long after.
    setting.pass(Duration::from_secs(300)).await;
    returns(&setting).await;
    fails_and_returns(&setting).await;
    keeping.stop().await;
    // Nothing of it is foreign to whoever comes next.
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:#?}", setting.recorder.take());
}

/// A secondary that stays dead prevents neither failover nor return; it is reported.
#[tokio::test(start_paused = true)]
async fn a_dead_secondary_stops_no_failover() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.recorder.take();
    setting.break_or_mend(|faults| faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]));
    for _ in 0..2 {
        fails_and_returns(&setting).await;
    }
    let told = format!("{:?}", setting.recorder.take());
    assert!(told.contains(SECONDARY), "who is behind is told: {told}");
    keeping.stop().await;
}

/// The primary is silent while an endpoint dies: as soon as it answers again the switch is made, and so are all later.
#[tokio::test(start_paused = true)]
async fn what_could_not_be_switched_is_switched_as_soon_as_it_can_be() {
    for secs in [12, 90] {
        let (setting, keeping) = kept(STANDBY).await;
        die(&setting, FIRST);
        setting.pass(Duration::from_secs(15)).await;
        setting.break_or_mend(|faults| faults.silent.extend([PRIMARY.parse::<SocketAddr>().unwrap()]));
        setting.pass(SEEN_WITHIN + Duration::from_secs(secs)).await;
        assert_eq!(given(&setting), 1);
        setting.break_or_mend(|faults| faults.silent.clear());
        until_given(&setting, 2, Duration::from_secs(61) + PUBLISHED_WITHIN).await;
        returns(&setting).await;
        fails_and_returns(&setting).await;
        keeping.stop().await;
    }
}

/// Somebody changes the alias by hand, and puts it back: failover goes on without anybody's help.
#[tokio::test(start_paused = true)]
async fn an_alias_that_is_changed_by_hand_and_put_back_fails_over_again() {
    let (setting, keeping) = kept(STANDBY).await;
    let [own] = setting.aliases(crate::health::TONIGHT).try_into().unwrap();
    setting.somebody_makes(crate::health::TONIGHT, Some(RecordData::A("192.0.2.99".parse().unwrap())));
    die(&setting, FIRST);
    setting.pass(SEEN_WITHIN + Duration::from_secs(60)).await;
    assert_eq!(setting.aliases(crate::health::TONIGHT), [RecordData::A("192.0.2.99".parse().unwrap())]);
    setting.somebody_makes(crate::health::TONIGHT, Some(own));
    until_given(&setting, 2, Duration::from_secs(61) + PUBLISHED_WITHIN).await;
    returns(&setting).await;
    fails_and_returns(&setting).await;
    keeping.stop().await;
}

/// The first pass waits for an endpoint that serves nothing: other hostnames fail over all the same.
#[tokio::test(start_paused = true)]
async fn failover_waits_for_no_stranger() {
    let others: String = ["api", "home", "www", "plates"]
        .map(|name| format!("[hostname.\"{name}.larkfield.example\"]\nendpoint = \"home\"\n"))
        .concat();
    let home = "[endpoint.home]\nkind = \"gateway\"\ndriver = \"http\"\nurl = \"https://platform.test\"\ntoken = \"env:TOKEN\"\n";
    let setting = Setting::new(Pace::default(), &format!("{home}{STANDBY}{others}"));
    assert_eq!(setting.settle().await.held, 5, "{:#?}", setting.recorder.take());
    // It is down from the start of the process.
    die(&setting, "192.0.2.23");
    let keeping = setting.keep();
    setting.pass(Duration::from_secs(12)).await;
    die(&setting, FIRST);
    // No verdict was known before: that the second is up must be seen, too.
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    keeping.stop().await;
}

/// A renewal by another process, with its own keys and bindings, takes nothing from the failovers that follow.
#[tokio::test(start_paused = true)]
async fn a_renewal_by_another_process_spoils_no_later_failover() {
    let (setting, keeping) = kept(STANDBY).await;
    let engine = setting.engine().await;
    let ids: Vec<_> = engine.desired().certificate_ids().collect();
    engine.certificates.request_renewal(&ids).await.unwrap();
    drop(engine);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (1, 0), "{:#?}", setting.recorder.take());
    for _ in 0..2 {
        fails_and_returns(&setting).await;
    }
    die(&setting, FIRST);
    until_given(&setting, 2, SEEN_WITHIN + PUBLISHED_WITHIN).await;
    die(&setting, SECOND);
    setting.pass(SEEN_WITHIN + TTL).await;
    assert_eq!(given(&setting), 2, "with none alive the last answer stays");
    keeping.stop().await;
}

/// Checks that end by a fault of Pindrel's own are made again, and say nothing of what they look at.
#[tokio::test(start_paused = true)]
async fn a_check_that_ends_by_a_fault_is_made_again() {
    let (setting, keeping) = kept(STANDBY).await;
    setting.break_or_mend(|faults| faults.panics = true);
    setting.pass(Duration::from_secs(120)).await;
    assert_eq!(given(&setting), 1);
    setting.break_or_mend(|faults| faults.panics = false);
    fails_and_returns(&setting).await;
    keeping.stop().await;
}
