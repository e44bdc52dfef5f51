//! A zone that somebody else edits: waited for, never written to, and nothing taken from under clients.

use std::time::Duration;

use pindrel_core::judging::findings::Code;
use pindrel_core::zones::records::RecordData;
use pindrel_testkit::memory::{PRIMARY, Pace, RESOLVER, SECONDARY, Setting};

const ALERTS: &str = "alerts.larkfield.example";
const FEED: &str = "feed.alerts.larkfield.example";

fn manifest(endpoint: &str) -> String {
    format!(
        "[zone.\"{ALERTS}\"]\ndriver = \"none\"\nservers = [\"{PRIMARY}\", \"{SECONDARY}\"]\nresolvers = [\"{RESOLVER}\"]\n\
         [certificate.own]\nnames = [\"{FEED}\"]\nissued_by = \"self\"\n\
         [hostname.\"{FEED}\"]\nendpoint = \"{endpoint}\"\ncertificate = \"own\"\nttl = \"1m\"\n"
    )
}

fn leads_to(endpoint: &str) -> RecordData {
    let site = if endpoint == "catalogue" { "north" } else { "south" };
    RecordData::Cname(format!("{endpoint}.{site}.edge.test").parse().unwrap())
}

#[tokio::test(start_paused = true)]
async fn what_somebody_else_makes_is_followed_through_a_move_and_to_its_end() {
    let mut setting = Setting::new(Pace::default(), &manifest("catalogue"));
    setting.bounds.patience = Duration::from_secs(20);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed, summary.waiting), (0, 0, 1), "{:?}", setting.recorder.take());
    assert!(setting.binding("catalogue", FEED).is_some(), "all else is ready");
    let status = setting.status().await;
    let codes: Vec<Code> = status.hostnames[0].pins.findings().map(|finding| finding.code()).collect();
    assert_eq!(codes, [Code::AliasAwaited], "{codes:?}");
    // They make it, with a TTL of their own.
    setting.somebody_makes(FEED, Some(leads_to("catalogue")));
    let before = setting.change_counts().0;
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert!(setting.client_gets(FEED).await.is_some());
    // It moves: they are waited for, and the old endpoint stays bound until caches have forgotten it.
    setting.names = manifest("plates");
    let summary = setting.settle().await;
    assert_eq!((summary.failed, summary.waiting), (0, 1), "{:?}", setting.recorder.take());
    assert_eq!(setting.aliases(FEED), [leads_to("catalogue")]);
    assert!(setting.binding("catalogue", FEED).is_some() && setting.binding("plates", FEED).is_some());
    setting.somebody_makes(FEED, Some(leads_to("plates")));
    setting.settle().await;
    assert!(
        setting.binding("catalogue", FEED).is_some(),
        "caches lead there for a minute: {:?}",
        setting.recorder.take()
    );
    setting.pass(Duration::from_secs(70)).await;
    let summary = setting.settle().await;
    assert_eq!((summary.held, setting.binding("catalogue", FEED)), (1, None), "{:?}", setting.recorder.take());
    assert!(setting.client_gets(FEED).await.is_some());
    // It goes: nothing is taken down as long as their record leads there.
    let own = manifest("plates");
    setting.names = own[..own.find("[certificate.own]").unwrap()].to_owned();
    setting.retire(&[FEED], Duration::from_secs(40)).await;
    assert!(setting.client_gets(FEED).await.is_some() && setting.binding("plates", FEED).is_some());
    setting.somebody_makes(FEED, None);
    setting.retire(&[FEED], Duration::from_secs(20)).await;
    assert!(setting.binding("plates", FEED).is_some(), "caches lead there for a minute");
    setting.pass(Duration::from_secs(70)).await;
    setting.retire(&[FEED], Duration::from_secs(300)).await;
    assert_eq!(setting.binding("plates", FEED), None, "{:?}", setting.recorder.take());
    assert_eq!(setting.change_counts().0, before + 2, "only they have changed the zone");
}

/// At an apex that somebody else edits they are asked for addresses, and for the HTTPS record beside them where it is
/// wanted; each is ticked with the time when it was seen.
#[tokio::test(start_paused = true)]
async fn an_apex_of_others_is_handed_off_as_addresses_with_the_https_record_beside() {
    let apex = manifest("catalogue").replace(FEED, ALERTS).replace("ttl = \"1m\"", "ttl = \"1m\"\nhttps_alias = true");
    let mut setting = Setting::new(Pace::default(), &apex);
    setting.bounds.patience = Duration::from_secs(20);
    setting.settle().await;
    let listed = async |setting: &Setting| {
        let engine = setting.engine().await;
        let id = engine.desired().hostname_ids().next().unwrap();
        let zone = engine.desired().hostname(id).zone;
        let handoff = engine.zones.handoff(zone, &[id]).await.unwrap();
        let own = handoff.records.into_iter().filter(|record| record.name.as_str() == ALERTS);
        own.map(|record| (record.record_type.to_string(), record.label, record.value, record.done)).collect::<Vec<_>>()
    };
    let records = listed(&setting).await;
    let [(a, label, address, _), (https, _, target, done)] = &records[..] else { panic!("{records:?}") };
    assert_eq!((a.as_str(), https.as_str(), label.as_str(), *done), ("A", "HTTPS", "@", false));
    assert!(target.starts_with("0 catalogue.north.edge.test."), "{target}");
    let address: std::net::Ipv4Addr = address.parse().unwrap();
    setting.foreign_record(ALERTS, RecordData::A(address));
    assert!(listed(&setting).await.iter().all(|(.., done)| !done), "the HTTPS record is still missing");
}
