//! What may go from a name, and what somebody else makes in a zone.

use super::*;
use crate::desired::Desired;
use crate::zones::records::AliasPlace;

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
        assert_eq!((pins.alias.state, found.map(|finding| finding.code())), (state, code), "{types}: {found:?}");
        assert_eq!(actions.contains(&"alias"), state == PinState::Loose, "{types}: {actions:?}");
        if types == "\"A\"" && state == PinState::Blocked {
            assert!(found.unwrap().remedy().contains("replace = [\"TXT\"]"), "only what is not named yet: {found:?}");
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
        let codes: Vec<Code> = pins.alias.findings.iter().map(|finding| finding.code()).collect();
        assert_eq!((pins.alias.state, &codes[..]), (PinState::Blocked, &[Code::AliasAwaited][..]), "{present:?}");
        assert_eq!(actions, ["alias", "answer"], "it is waited for, and then verified");
        assert!(pins.alias.findings[0].remedy().contains("pindrel handoff api.larkfield.example"));
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

/// Of a zone that works it is told what is not as it should be; only a missing marker has a step of its own.
#[test]
fn a_zone_that_works_is_told_what_is_odd_and_is_marked_where_that_is_wanted() {
    let marked = MANIFEST.replace("driver = \"rfc2136\"", "driver = \"rfc2136\"\nmarker = true");
    let glue = |own: &str| ServerWithin {
        name: "ns2.larkfield.example".parse().unwrap(),
        glue: Some(vec![[192, 0, 2, 9].into()]),
        own: vec![own.parse().unwrap()],
    };
    type Row<'r> = (&'r str, &'r dyn Fn(&mut ZoneView), PinState, Option<Code>, &'r [&'r str]);
    let others = || Some(Marker::Others(vec!["installation=0123456789abcdef".into()]));
    let table: [Row<'_>; 7] = [
        (&marked, &|zone| zone.marker = Some(Marker::Absent), PinState::Loose, Some(Code::ZoneUnmarked), &["mark"]),
        (&marked, &|zone| zone.marker = Some(Marker::Own), PinState::Held, None, &[]),
        (&marked, &|zone| zone.marker = others(), PinState::Held, Some(Code::ZoneMarkedByOther), &[]),
        // Its server did not say.
        (&marked, &|zone| zone.marker = None, PinState::Held, None, &[]),
        // The manifest wants none any longer.
        (MANIFEST, &|zone| zone.marker = Some(Marker::Absent), PinState::Held, None, &[]),
        (MANIFEST, &|zone| zone.marker = others(), PinState::Held, None, &[]),
        (
            MANIFEST,
            &|zone| zone.servers_within = vec![glue("192.0.2.54")],
            PinState::Held,
            Some(Code::GlueDiffers),
            &[],
        ),
    ];
    for (manifest, change, state, code, steps) in table {
        let desired = resolved(manifest);
        let mut scene = Scene::held(&desired);
        change(&mut scene.zone);
        let (pins, _, actions) = scene.look(&desired);
        let found = pins.zone.findings.first().map(|finding| finding.code());
        assert_eq!((pins.zone.state, found, &actions[..]), (state, code, steps), "{:?}", scene.zone);
    }
    // A dead server at an address that only the glue knows is no server to be started.
    let desired = resolved(MANIFEST);
    for (dead, own, remedy) in [
        ("192.0.2.9:53", "192.0.2.54", "correct the glue records"),
        ("192.0.2.54:53", "192.0.2.54", "Start that server"),
        ("192.0.2.9:53", "192.0.2.9", "Start that server"),
    ] {
        let mut scene = Scene::held(&desired);
        scene.zone.servers_within = vec![glue(own)];
        let status = ServerStatus::Unreachable { why: Unreachable::Refused };
        scene.zone.servers.push(ServerView { server: dead.parse().unwrap(), status });
        let (pins, ..) = scene.look(&desired);
        assert!(pins.zone.findings[0].remedy().contains(remedy), "{dead}: {:?}", pins.zone.findings);
    }
}

/// Servers that nobody finds, or that do not answer, make a zone that serves those who know its servers by heart alone.
#[test]
fn a_zone_that_nobody_else_can_resolve_is_blocked() {
    let desired = resolved(MANIFEST);
    let name = |text: &str| text.parse::<DnsName>().unwrap();
    let delegated = |names: &[&str], addresses: &[[u8; 4]]| DelegationView::Delegated {
        by: "192.0.2.1:53".parse().unwrap(),
        name_servers: names.iter().map(|text| name(text)).collect(),
        addresses: addresses.iter().copied().map(IpAddr::from).collect(),
    };
    let within = |text: &str, glue: Option<&[[u8; 4]]>| ServerWithin {
        name: name(text),
        glue: glue.map(|glue| glue.iter().copied().map(IpAddr::from).collect()),
        own: vec![[192, 0, 2, 9].into()],
    };
    let (inside, outside) = ("ns1.larkfield.example", "ns.elsewhere.test");
    let dead = ServerStatus::Unreachable { why: Unreachable::Refused };
    let lame = ServerStatus::Lame { how: Lameness::NotAuthoritative };
    type Row<'r> = (&'r [&'r str], Option<&'r [[u8; 4]]>, &'r [&'r ServerStatus], PinState, Option<Code>);
    let table: [Row<'_>; 7] = [
        (&[inside], Some(&[[192, 0, 2, 9]]), &[], PinState::Held, None),
        (&[inside], None, &[], PinState::Held, None),
        (&[inside], Some(&[]), &[], PinState::Blocked, Some(Code::GlueMissing)),
        (&[inside, outside], Some(&[]), &[], PinState::Held, Some(Code::GlueMissing)),
        (&[outside], None, &[&dead], PinState::Blocked, Some(Code::DelegationDead)),
        (&[outside], None, &[&dead, &lame], PinState::Blocked, Some(Code::DelegationDead)),
        // One that answers is enough to be resolved; that another does not is reported as before.
        (&[outside], None, &[], PinState::Held, None),
    ];
    for (names, glue, delegated_servers, state, code) in table {
        let mut scene = Scene::held(&desired);
        // The servers of the manifest serve the zone; those of the delegation are others.
        for server in &mut scene.zone.servers {
            if let ServerStatus::Serves { name_servers, .. } = &mut server.status {
                *name_servers = names.iter().map(|text| name(text)).collect();
            }
        }
        let addresses: Vec<[u8; 4]> = (10..).take(delegated_servers.len()).map(|last| [192, 0, 2, last]).collect();
        scene.zone.delegation = delegated(names, &addresses);
        for (address, status) in addresses.iter().zip(delegated_servers) {
            let status = (*status).clone();
            scene.zone.servers.push(ServerView { server: (*address, 53).into(), status });
        }
        scene.zone.servers_within = vec![within(inside, glue)];
        let (pins, ..) = scene.look(&desired);
        let found = pins.zone.findings.first();
        assert_eq!((pins.zone.state, found.map(Finding::code)), (state, code), "{:?}", scene.zone);
        let silent = pins.zone.findings.iter().filter(|finding| finding.code() == Code::ServerUnreachable).count();
        assert_eq!(silent, 0, "a dead server is reported once");
        if code == Some(Code::GlueMissing) {
            assert!(found.unwrap().remedy().contains("ns1.larkfield.example (192.0.2.9)"), "{found:?}");
        }
    }
}

/// An HTTPS record is part of the alias of an apex where it is wanted, and of what is looked at as long as it is there.
#[test]
fn an_https_record_counts_where_it_is_wanted_and_until_it_is_gone() {
    let apex = "[hostname.\"larkfield.example\"]\n";
    let wanted = resolved(&MANIFEST.replace(apex, &format!("{apex}https_alias = true\n")));
    let plain = resolved(MANIFEST);
    let (ttl, address) = (Ttl::TEN_MINUTES, RecordData::A([192, 0, 2, 80].into()));
    let https = |target: &str| RecordData::HttpsAlias(target.parse().unwrap());
    let both = || RecordSet::group([(ttl, address.clone()), (ttl, https("edge.test"))]);
    let only = || RecordSet::group([(ttl, address.clone())]);
    let info = EndpointInfo {
        default_name: Some("edge.test".parse().unwrap()),
        ..EndpointInfo::plain("catalogue", EndpointKind::Gateway, "north", vec![[192, 0, 2, 80].into()])
    };
    let dead = [IpAddr::from([192, 0, 2, 80])];
    let of = |desired: &Desired, id: u32, dead: &[IpAddr], info: &EndpointInfo| {
        let target = crate::desired::AliasTarget { info, target: None, dead };
        desired.hostname(HostnameId(id)).alias_to(desired, &[target], ttl)
    };
    let apex_of =
        |desired: &Desired| desired.hostname_ids().find(|id| desired.hostname(*id).is_apex(desired)).unwrap().0;
    assert_eq!(of(&wanted, apex_of(&wanted), &[], &info), both());
    assert_eq!(of(&plain, apex_of(&plain), &[], &info), only());
    // Not in the place of addresses, nor where some of them do not work, nor without a name to lead to.
    assert_eq!(of(&wanted, apex_of(&wanted), &dead, &info), only());
    let without = EndpointInfo { addresses: Vec::new(), ..info.clone() };
    assert_eq!(of(&wanted, apex_of(&wanted), &[], &without), []);
    let nameless = EndpointInfo { default_name: None, ..info.clone() };
    assert_eq!(of(&wanted, apex_of(&wanted), &[], &nameless), only());
    let place = |desired: &Desired, made: Vec<RecordSet>| {
        let mut knowledge = Knowledge::default();
        let id = HostnameId(apex_of(desired));
        knowledge.hostnames.entry(id).or_default().ownership.alias = written(made);
        Known::about(desired, &knowledge, id).alias_place()
    };
    for (desired, made, expected) in [
        (&wanted, only(), AliasPlace::ApexWithHttps),
        (&plain, both(), AliasPlace::ApexWithHttps),
        (&plain, only(), AliasPlace::Apex),
    ] {
        assert_eq!(place(desired, made), expected);
    }
    assert_eq!(Known::about(&plain, &Knowledge::default(), HostnameId(0)).alias_place(), AliasPlace::Name);
}
