//! Against real DNS servers, a real resolver and a real ACME test authority.

use pindrel_testkit::{EXTERNAL_ID, EXTERNAL_KEY, RealOptions, RealWorld};

use crate::PINDREL;

#[tokio::test(flavor = "multi_thread")]
async fn settles_one_name_while_half_of_all_nonces_are_refused() {
    let options = RealOptions { refuse_nonces: 50, ..RealOptions::default() };
    let Some(world) = RealWorld::start("settles_one_name_while_half_of_all_nonces_are_refused", options).await else {
        return;
    };
    let listing = world.sandbox.listing().clone();
    let workspace = world.workspace(PINDREL, |manifest| {
        manifest.endpoint(&listing, "catalogue", "gateway").hostname(
            "api.larkfield.example",
            "catalogue",
            "routes = [{ prefix = \"/v2\", service = \"catalogue\", release = \"live\" }]\nexpect = { path = \"/v2/\", status = \"200\", body = \"release live\" }",
        )
    });
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    let summary = ran.summary();
    assert_eq!((&summary["held"], &summary["failed"]), (&1.into(), &0.into()));

    let target = &listing.endpoints[0].default_name;
    for server in [world.primary, world.secondary, world.resolver] {
        assert_eq!(world.dig(server, "api.larkfield.example", "CNAME").trim(), format!("{target}."));
        assert_eq!(world.dig(server, "_acme-challenge.api.larkfield.example", "TXT"), "");
    }

    // A second run finds nothing to do, and the authority does not hear of it.
    let again = workspace.run(&["settle", "--format", "json"]).ended(0).summary();
    assert_eq!((&again["steps"], &again["acme_requests"]), (&0.into(), &0.into()));

    // This authority does not say what CAA records call it: what they say of it is not known, and nothing stops.
    world.update("@", "CAA", "0 issue \"elsewhere.test\"");
    let told = workspace.run(&["check", "--online", "--format", "json"]).ended(0).json();
    let doubts: Vec<_> =
        told["online"].as_array().unwrap().iter().flat_map(|one| one["advice"].as_array().unwrap()).collect();
    let doubt = doubts.iter().find(|one| one["code"] == "caa-uncertain").unwrap_or_else(|| panic!("{told}"));
    let (says, remedy) = (doubt["says"].as_str().unwrap(), doubt["remedy"].as_str().unwrap());
    assert!(says.contains("allow elsewhere.test") && remedy.contains("caa_identities"), "{doubt}");
    workspace.run(&["cert", "renew", "api.larkfield.example"]).ended(0);
}

#[tokio::test(flavor = "multi_thread")]
async fn waits_for_a_secondary_that_lags_behind() {
    let options = RealOptions { notify: false, ..RealOptions::default() };
    let Some(world) = RealWorld::start("waits_for_a_secondary_that_lags_behind", options).await else { return };
    let listing = world.sandbox.listing().clone();
    let workspace = world.workspace(PINDREL, |manifest| {
        manifest.endpoint(&listing, "home", "distribution").hostname(
            "larkfield.example",
            "home",
            "also = [\"www.larkfield.example\"]",
        )
    });
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    assert_eq!(ran.summary()["held"], 2);
    let lagged = |event: &serde_json::Value| {
        event["event"] == "waiting"
            && event["what"].as_str().is_some_and(|what| what.contains(&world.secondary.to_string()))
    };
    assert!(ran.events().iter().any(lagged), "{}", ran.stdout);
    let apex = listing.endpoints[2].address.ip().to_string();
    assert_eq!(world.dig(world.secondary, "larkfield.example", "A").trim(), apex);
}

/// What this authority has not (renewal information, profiles, CAA) is proven against the
/// sandbox's.
#[tokio::test(flavor = "multi_thread")]
async fn a_strict_authority_with_all_that_it_offers() {
    let options = RealOptions {
        refuse_nonces: 50,
        reuse_authorizations: 100,
        alternate_roots: 2,
        chain_length: 3,
        external_account: true,
        ..RealOptions::default()
    };
    let Some(world) = RealWorld::start("a_strict_authority_with_all_that_it_offers", options).await else { return };
    let mut workspace = world.workspace(PINDREL, |manifest| {
        let external = format!("external_account_key = {{ id = \"{EXTERNAL_ID}\", secret = \"env:EAB_SECRET\" }}");
        manifest.authority(&external).with(
            "\n[certificate.stations]\nnames = [\"stations.larkfield.example\", \"*.stations.larkfield.example\"]\n",
        )
    });
    let plain = workspace.read("pindrel.toml");
    workspace.set("EAB_SECRET", "d3Jvbmcgc2VjcmV0IHdyb25nIHNlY3JldCB3cm9uZyBzZWNyZXQ");
    let ran = workspace.run(&["settle"]).ended(1);
    assert!(ran.stdout.contains("main does not accept the external account key"), "{}", ran.stdout);
    workspace.set("EAB_SECRET", EXTERNAL_KEY);
    workspace.run(&["settle"]).ended(0);
    let shown = |name: &str| workspace.run(&["cert", "show", name, "--format", "json"]).ended(0).json();
    let first = shown("stations");
    assert_eq!(first["chain"].as_array().unwrap().len(), 4, "a leaf and three intermediates");

    // Valid authorizations are reused: the order is born ready, and nothing is proven again.
    let ran = workspace.run(&["cert", "renew", "stations", "--format", "json"]).ended(0);
    assert!(!ran.stdout.contains("challenge record"), "{}", ran.stdout);
    assert!(ran.summary()["acme_requests"].as_u64().unwrap() <= 4, "{}", ran.stdout);

    // Another root, by its name.
    let chains: Vec<String> = (0..6)
        .find_map(|_| {
            workspace.write(
                "pindrel.toml",
                &plain.replace("[certificate.stations]", "[certificate.stations]\nchain_root = \"none\""),
            );
            let said = workspace.run(&["cert", "renew", "stations"]).ended(0).stderr;
            let offered = said.split("is used: ").nth(1)?.lines().next()?;
            Some(offered.split("; ").map(|name| name.trim_start_matches("CN=").to_owned()).collect())
        })
        .unwrap();
    assert_eq!(chains.len(), 3, "{chains:?}");
    let wanted = format!("[certificate.stations]\nchain_root = \"{}\"", chains[2]);
    workspace.write("pindrel.toml", &plain.replace("[certificate.stations]", &wanted));
    workspace.run(&["cert", "renew", "stations"]).ended(0);
    assert!(shown("stations")["root"].as_str().unwrap().contains(&chains[2]));

    // The account: its key changed, and closed at the end.
    workspace.run(&["account", "change-key"]).ended(0);
    workspace.run(&["cert", "revoke", "stations", "--by", "certificate"]).ended(0);
    assert!(!shown("stations")["former"][0]["revoked"].is_null());
    workspace.run(&["cert", "revoke", "stations", "--reason", "superseded", "--no-replacement"]).ended(0);
    workspace.run(&["account", "close", "main", "--permanently"]).ended(0);
    let account = workspace.run(&["account", "show", "--format", "json"]).ended(0).json();
    assert_eq!(account["accounts"][0]["status"], "deactivated");
}

#[tokio::test(flavor = "multi_thread")]
async fn challenges_delegated_into_a_zone_of_its_own_and_every_kind_of_key() {
    let test = "challenges_delegated_into_a_zone_of_its_own_and_every_kind_of_key";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| {
        let kinds = ["ecdsa-p384", "rsa-2048", "rsa-4096"];
        let declared = kinds
            .map(|kind| format!("\n[certificate.{kind}]\nnames = [\"{kind}.larkfield.example\"]\nkey = \"{kind}\"\n"));
        manifest.authority("account_key = \"ecdsa-p384\"").with(&declared.concat())
    });
    world.update("_acme-challenge.rsa-2048", "CNAME", "moved.larkfield.example.");
    workspace.run(&["settle"]).ended(0);
    let listed = workspace.run(&["cert", "list", "--format", "csv"]).ended(0).stdout;
    for kind in ["ecdsa-p384", "rsa-2048", "rsa-4096"] {
        assert!(listed.contains(&format!("main,{kind},held")), "{listed}");
    }
    assert_eq!(world.dig(world.secondary, "moved.larkfield.example", "TXT"), "");
}

/// What RFC 4592 §2.2.2 says of names that come to exist by what stands below them is the server's
/// own doing, so a real one is asked, through a resolver that keeps what it hears.
#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_a_wildcard_answers_is_answered_all_the_time() {
    let test = "a_name_that_a_wildcard_answers_is_answered_all_the_time";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let listing = world.sandbox.listing().clone();
    world.update("*", "CNAME", &format!("{}.", listing.endpoints[0].default_name));
    let workspace = world.workspace(PINDREL, |manifest| {
        manifest.endpoint(&listing, "catalogue", "gateway").hostname("live.larkfield.example", "catalogue", "")
    });
    let resolves = || world.dig(world.resolver, "live.larkfield.example", "A").lines().count() == 2;
    pindrel_testkit::eventually("the wildcard", std::time::Duration::from_secs(20), async || resolves()).await;
    let mut child = workspace.command(&["settle"]).spawn().unwrap();
    let mut asked = 0;
    while child.try_wait().unwrap().is_none() {
        assert!(resolves(), "after {asked} questions");
        asked += 1;
    }
    assert_eq!(child.wait().unwrap().code(), Some(0));
    assert!(asked > 20, "asked {asked} times");
    let target = format!("{}.", listing.endpoints[0].default_name);
    assert_eq!(world.dig(world.secondary, "live.larkfield.example", "CNAME").trim(), target);
    workspace.run(&["cert", "renew", "live.larkfield.example"]).ended(0);
    assert!(resolves());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_record_of_any_type_in_the_way_of_an_alias_is_told_as_that() {
    let test = "a_record_of_any_type_in_the_way_of_an_alias_is_told_as_that";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let listing = world.sandbox.listing().clone();
    world.update("api", "SSHFP", &format!("4 2 {}", "ab".repeat(32)));
    let workspace = world.workspace(PINDREL, |manifest| {
        manifest.endpoint(&listing, "catalogue", "gateway").hostname("api.larkfield.example", "catalogue", "")
    });
    for _ in 0..2 {
        let ran = workspace.run(&["settle"]).ended(1);
        assert!(ran.stdout.contains("has records of a type that cannot stand beside an alias"), "{}", ran.stdout);
        assert!(ran.stdout.contains("dig api.larkfield.example ANY"), "{}", ran.stdout);
    }
    assert!(world.dig(world.primary, "api.larkfield.example", "SSHFP").starts_with("4 2"));
}
