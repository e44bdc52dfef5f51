//! What holds one piece of work back holds back no other.

use std::net::SocketAddr;
use std::time::Duration;

use pindrel_core::judging::findings::{Code, Finding};
use pindrel_testkit::memory::{Faults, Life, PRIMARY, Pace, SECONDARY, Setting};

use crate::{API, ONE, several};

const DAY: Duration = Duration::from_secs(86_400);

/// A hostname that is held, whose certificate is due by now.
async fn due() -> Setting {
    let setting = Setting::new(Pace::default(), ONE);
    setting.certificates_live(Life(DAY * 30));
    setting.settle().await;
    setting.pass(DAY * 24).await;
    setting
}

#[tokio::test(start_paused = true)]
async fn a_platform_that_is_down_stops_no_renewal_and_a_silent_server_no_binding() {
    let setting = due().await;
    let first = setting.client_gets(API).await;
    setting.break_or_mend(|faults| faults.platform_down = true);
    assert_eq!(setting.settle().await.failed, 1);
    assert_eq!(setting.authority_counts().1, 2, "it is renewed all the same");

    // Now the other way round: the store and the endpoint are ready, the secondary is not.
    setting.break_or_mend(|faults| {
        *faults = Faults::default();
        faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]);
    });
    setting.settle().await;
    setting.pass(Duration::from_secs(10)).await;
    assert_ne!(setting.client_gets(API).await, first, "{:?}", setting.recorder.take());
}

#[tokio::test(start_paused = true)]
async fn a_silent_server_spends_no_order_and_is_named() {
    let setting = due().await;
    setting.break_or_mend(|faults| faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]));
    let (before, first) = (setting.authority_counts().2, setting.client_gets(API).await);
    assert_eq!(setting.settle().await.failed, 1);
    assert_eq!(setting.authority_counts().2, before);
    assert_eq!(setting.client_gets(API).await, first);
    let status = setting.status().await;
    let codes: Vec<Code> = status.hostnames[0].pins.findings().map(|finding| finding.code()).collect();
    assert!(codes.contains(&Code::ServerUnreachable), "{codes:?}");
}

#[tokio::test(start_paused = true)]
async fn near_its_end_a_certificate_is_renewed_although_one_server_is_down() {
    let setting = due().await;
    let first = setting.client_gets(API).await;
    setting.pass(DAY * 4).await;
    setting.break_or_mend(|faults| faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]));
    setting.settle().await;
    assert_eq!(setting.authority_counts().1, 2, "two days of thirty are left: {:?}", setting.recorder.take());
    let status = setting.status().await;
    let codes: Vec<Code> = status.hostnames[0].pins.findings().map(|finding| finding.code()).collect();
    assert!(codes.contains(&Code::ServerUnreachable), "it is still told: {codes:?}");
    // Where the server is down that takes changes there is nothing to be done.
    setting.pass(DAY * 28).await;
    setting.break_or_mend(|faults| {
        *faults = Faults::default();
        faults.silent.extend([PRIMARY.parse::<SocketAddr>().unwrap()]);
    });
    setting.settle().await;
    assert_eq!(setting.authority_counts().1, 2);
    setting.break_or_mend(|faults| *faults = Faults::default());
    setting.settle().await;
    assert_ne!(setting.client_gets(API).await, first);
    assert_eq!(setting.challenge_records(), 0);
}

const LIMITED: &str = "
[[authority.main.limits]]
count = 4
of = \"certificate\"
per = \"registered-domain\"
within = \"7d\"
reserve = 2
";

#[tokio::test(start_paused = true)]
async fn new_names_stop_before_the_reserve_renewals_use_it_and_all_go_on_in_time() {
    let setting = Setting::new(Pace::default(), &(LIMITED.to_owned() + &several(4)));
    let foreseen = async || setting.plan().await.foreseen.iter().map(Finding::says).collect::<Vec<_>>();
    let says = |spent: usize, takes: &str| {
        format!(
            "[authority.main] allows 4 certificates for a registered domain within 7 days (larkfield.example), and \
             {spent} are spent; 2 of them are reserved for renewals: {takes} new certificates can be ordered now"
        )
    };
    assert_eq!(foreseen().await, [says(0, "2 of 4")]);
    let summary = setting.settle().await;
    assert_eq!((summary.held, setting.authority_counts().1), (2, 2), "{:?}", setting.recorder.take());
    assert_eq!(foreseen().await, [says(2, "0 of 2")]);
    let status = setting.status().await;
    let next = |host: &pindrel_engine::HostnameReport| host.last_attempt.as_ref().and_then(|attempt| attempt.next);
    let waiting: Vec<_> = status.hostnames.iter().filter(|host| !host.pins.held()).filter_map(next).collect();
    assert_eq!(waiting.len(), 2, "each knows when it goes on");
    assert!(waiting.iter().all(|at| at.duration_since(setting.now()).as_hours() >= 6 * 24), "{waiting:?}");

    // The reserve is a renewal's.
    let held = status.hostnames.iter().position(|host| host.pins.held()).unwrap();
    let engine = setting.engine().await;
    let id = engine.desired().hostname_ids().nth(held).unwrap();
    engine.certificates.request_renewal(&[engine.desired().hostname(id).certificate]).await.unwrap();
    assert_eq!(setting.settle().await.held, 2);
    assert_eq!(setting.authority_counts().1, 3);

    setting.pass(DAY * 7).await;
    assert_eq!(foreseen().await, [""; 0]);
    assert_eq!(setting.settle().await.held, 4, "{:?}", setting.recorder.take());
}

#[tokio::test(start_paused = true)]
async fn a_name_that_fails_again_and_again_is_not_asked_for_without_end() {
    let limits =
        "[[authority.main.limits]]\ncount = 3\nof = \"failed-validation\"\nper = \"hostname\"\nwithin = \"1h\"\n";
    let setting = Setting::new(Pace::default(), &(limits.to_owned() + ONE));
    setting.break_or_mend(|faults| faults.authority.invalid.extend([API.to_owned()]));
    for _ in 0..6 {
        assert_eq!(setting.settle().await.held, 0);
        setting.pass(Duration::from_secs(60)).await;
    }
    assert_eq!(setting.authority_counts().2, 3, "the limit is kept");
    setting.break_or_mend(|faults| *faults = Faults::default());
    setting.pass(Duration::from_secs(3600)).await;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
}
