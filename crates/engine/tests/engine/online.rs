//! What the manifest depends on, looked at before anything is done.

use std::net::SocketAddr;
use std::time::Duration;

use pindrel_core::judging::findings::Code;
use pindrel_core::zones::records::RecordData;
use pindrel_engine::OnlineKind;
use pindrel_testkit::memory::{Faults, PRIMARY, Pace, SECONDARY, Setting};

use crate::{API, ONE, several};

/// What each fault is told as, and how many certificates could not be looked at for it.
#[tokio::test(start_paused = true)]
async fn what_cannot_be_used_is_told_once_and_nothing_is_changed() {
    type Row<'r> = (&'r str, fn(&mut Faults), &'r [(OnlineKind, Code)], usize);
    let table: [Row<'_>; 6] = [
        ("nothing", |_| {}, &[], 0),
        (
            "the authority",
            |faults| faults.authority.down = true,
            &[(OnlineKind::Authority, Code::AuthorityUnreachable)],
            1,
        ),
        (
            "the platform",
            |faults| faults.platform_down = true,
            &[(OnlineKind::Endpoint, Code::PlatformUnreachable), (OnlineKind::Endpoint, Code::PlatformUnreachable)],
            0,
        ),
        (
            "the primary",
            |faults| faults.silent.extend([PRIMARY.parse::<SocketAddr>().unwrap()]),
            &[(OnlineKind::Zone, Code::ServerUnreachable)],
            1,
        ),
        (
            "the secondary",
            |faults| faults.silent.extend([SECONDARY.parse::<SocketAddr>().unwrap()]),
            &[(OnlineKind::Zone, Code::ServerUnreachable)],
            1,
        ),
        (
            "all",
            |faults| {
                faults.authority.down = true;
                faults.platform_down = true;
                faults.silent.extend([PRIMARY, SECONDARY].map(|server| server.parse::<SocketAddr>().unwrap()));
            },
            &[
                (OnlineKind::Zone, Code::ServerUnreachable),
                (OnlineKind::Authority, Code::AuthorityUnreachable),
                (OnlineKind::Endpoint, Code::PlatformUnreachable),
                (OnlineKind::Endpoint, Code::PlatformUnreachable),
            ],
            1,
        ),
    ];
    for (what, fault, expected, unseen) in table {
        let setting = Setting::new(Pace::default(), ONE);
        setting.break_or_mend(fault);
        let before = (setting.change_counts().0, setting.authority_counts().1, setting.accounts());
        let reports = setting.engine().await.reports.online().await.unwrap();
        let found: Vec<(OnlineKind, Code)> = reports
            .iter()
            .flat_map(|report| report.findings.iter().map(|finding| (report.kind, finding.code())))
            .collect();
        assert_eq!(found, expected, "{what} is down");
        let kinds = reports.iter().map(|report| report.kind).collect::<Vec<_>>();
        let endpoint = OnlineKind::Endpoint;
        let all = [OnlineKind::Zone, OnlineKind::Authority, OnlineKind::Certificate, endpoint, endpoint];
        assert_eq!(kinds, all, "{what}: all is listed, whatever is down");
        assert_eq!(reports.iter().filter(|report| report.is_partial).count(), unseen, "{what}");
        let after = (setting.change_counts().0, setting.authority_counts().1, setting.accounts());
        assert_eq!(after, before, "{what}: nothing is changed, ordered or opened");
    }
}

/// A leftover is told with since when it is seen, over any number of runs, and with what leads to it.
#[tokio::test(start_paused = true)]
async fn a_leftover_has_the_age_of_its_first_sight_and_what_leads_to_it() {
    let setting = Setting::new(Pace::default(), ONE);
    let elsewhere = |last: u8| Some(RecordData::A([192, 0, 2, last].into()));
    let docs = RecordData::Cname(API.parse().unwrap());
    setting.somebody_makes(API, elsewhere(44));
    setting.somebody_makes("docs.larkfield.example", Some(docs));
    let evidence = async || {
        let report = setting.status().await;
        let found = report.hostnames[0].pins.findings().find(|finding| finding.code() == Code::AliasConflict).cloned();
        let lines = found.unwrap().words().evidence;
        lines.into_iter().find(|line| line.contains("it has been so since")).unwrap()
    };
    let first = evidence().await;
    let report = setting.status().await;
    let told: Vec<String> = report.hostnames[0].pins.findings().flat_map(|finding| finding.words().evidence).collect();
    assert!(told.iter().any(|line| line.contains("CNAME of docs.larkfield.example")), "{told:?}");
    setting.pass(Duration::from_secs(3_600)).await;
    assert_eq!(evidence().await, first);
    // Another record is another leftover.
    setting.somebody_makes(API, elsewhere(45));
    assert_ne!(evidence().await, first);
    let summary = setting.settle().await;
    assert_eq!((summary.held, setting.aliases(API)), (0, vec![elsewhere(45).unwrap()]), "it stays");
}

/// Of very many leftovers a run looks at some, those that were not looked at for the longest time; it reports all.
#[tokio::test(start_paused = true)]
async fn each_of_very_many_leftovers_is_told_and_looked_at_in_its_turn() {
    const MANY: usize = 220;
    let all = "[certificate.all]\nnames = [\"*.larkfield.example\"]\n";
    let mut setting = Setting::new(Pace::default(), &(all.to_owned() + &several(MANY)));
    assert_eq!(setting.settle().await.held, MANY);
    setting.names = ONE.to_owned();
    let left = async || setting.settle().await.leftovers;
    assert_eq!(left().await, MANY);
    for n in 0..MANY {
        let hostname = format!("survey-{n}.larkfield.example");
        setting.remove_aliases(&hostname);
        ["catalogue", "plates"].iter().for_each(|endpoint| setting.remove_binding(endpoint, &hostname));
    }
    setting.pass(Duration::from_secs(3_600)).await;
    assert_eq!((left().await, left().await), (MANY - 200, 0));
}
