//! What may go from a name, and what somebody else makes in a zone.

use super::*;

fn address_set(last: u8) -> Vec<RecordSet> {
    RecordSet::group([(Ttl::HOUR, RecordData::A([192, 0, 2, last].into()))])
}

fn mixed() -> Vec<RecordSet> {
    RecordSet::group([(Ttl::HOUR, RecordData::A([192, 0, 2, 7].into())), (Ttl::HOUR, RecordData::Txt("parked".into()))])
}

#[test]
fn what_others_made_goes_where_the_manifest_names_all_its_types() {
    let table: [(&str, Vec<RecordSet>, PinState, Option<Code>); 7] = [
        ("", address_set(7), PinState::Blocked, Some(Code::AliasConflict)),
        ("\"A\"", address_set(7), PinState::Loose, Some(Code::AliasReplaces)),
        ("\"a\", \"CNAME\"", address_set(7), PinState::Loose, Some(Code::AliasReplaces)),
        ("\"AAAA\", \"CNAME\"", address_set(7), PinState::Blocked, Some(Code::AliasConflict)),
        ("\"A\"", mixed(), PinState::Blocked, Some(Code::AliasConflict)),
        ("\"A\", \"TXT\"", mixed(), PinState::Loose, Some(Code::AliasReplaces)),
        ("\"CNAME\"", cname("parked.example"), PinState::Loose, Some(Code::AliasReplaces)),
    ];
    for (types, present, state, code) in table {
        let named = "[hostname.\"api.larkfield.example\"]\n";
        let manifest = MANIFEST.replace(named, &format!("{named}replace = [{types}]\n"));
        let desired = resolved(&manifest);
        let mut scene = Scene::held(&desired);
        scene.all_servers_give(&present);
        scene.ownership.alias = Written::default();
        let (pins, _, actions) = scene.look(&desired);
        let found = pins.alias.findings.first();
        assert_eq!((pins.alias.state, found.map(|finding| finding.code)), (state, code), "{types}: {found:?}");
        assert_eq!(actions.contains(&"alias"), state == PinState::Loose, "{types}: {actions:?}");
        if types == "\"A\"" && state == PinState::Blocked {
            assert!(found.unwrap().remedy.contains("replace = [\"TXT\"]"), "only what is not named yet: {found:?}");
        }
    }
}

#[test]
fn what_somebody_else_makes_is_waited_for_and_never_a_matter_of_ttls() {
    let of_others = MANIFEST.replace("tsig = { name = \"pindrel\", secret = \"env:SECRET\" }\n", "");
    let desired = resolved(&of_others.replace("driver = \"rfc2136\"", "driver = \"none\""));
    // Another TTL than the manifest's is theirs to choose.
    let mut scene = Scene::held(&desired);
    scene.all_servers_give(&cname(TARGET).iter().map(|set| set.with_ttl(Ttl::HOUR)).collect::<Vec<_>>());
    scene.ownership.alias = written(cname(TARGET).iter().map(|set| set.with_ttl(Ttl::HOUR)).collect());
    assert_eq!(scene.look(&desired).1, Outlook::Held);
    for present in [Vec::new(), address_set(7), cname("parked.example")] {
        let mut scene = Scene::held(&desired);
        scene.all_servers_give(&present);
        let (pins, _, actions) = scene.look(&desired);
        let codes: Vec<Code> = pins.alias.findings.iter().map(|finding| finding.code).collect();
        assert_eq!((pins.alias.state, &codes[..]), (PinState::Blocked, &[Code::AliasAwaited][..]), "{present:?}");
        assert_eq!(actions, ["alias", "answer"], "it is waited for, and then verified");
        assert!(pins.alias.findings[0].remedy.contains("pindrel handoff api.larkfield.example"));
    }
}

#[test]
fn a_challenge_of_a_zone_of_others_is_led_to_one_that_pindrel_changes() {
    let more = "[zone.\"alerts.larkfield.example\"]\ndriver = \"none\"\n[zone.\"deep.alerts.larkfield.example\"]\n\
                driver = \"file\"\nfile = \"deep.zone\"\n";
    let desired = resolved(&format!("{MANIFEST}{more}"));
    let table = [
        ("_acme-challenge.api.larkfield.example", None),
        (
            "_acme-challenge.alerts.larkfield.example",
            Some("alerts.larkfield.example._acme-challenge.larkfield.example"),
        ),
        (
            "_acme-challenge.feed.alerts.larkfield.example",
            Some("feed.alerts.larkfield.example._acme-challenge.larkfield.example"),
        ),
        ("_acme-challenge.x.deep.alerts.larkfield.example", None),
    ];
    for (challenge, target) in table {
        let found = desired.challenge_delegation(&challenge.parse().unwrap());
        assert_eq!(found.as_ref().map(|name| name.as_str()), target, "{challenge}");
    }
    // Where no zone is left that Pindrel changes, there is nowhere to lead it.
    let alone = resolved(
        &MANIFEST.replace("tsig = { name = \"pindrel\", secret = \"env:SECRET\" }\n", "").replace("rfc2136", "none"),
    );
    assert_eq!(alone.challenge_delegation(&"_acme-challenge.api.larkfield.example".parse().unwrap()), None);
}
