//! Against real DNS servers, a real resolver and a real ACME test authority.

use pindrel_testkit::{RealOptions, RealWorld};

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
