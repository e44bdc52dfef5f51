//! What happens around an order: delegated challenges, CAA, rehearsal, budgets, the
//! authority's faults.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use pindrel_sandbox::authority::Fault;
use pindrel_sandbox::{IDENTITY, Listing, Options, PRACTICE_IDENTITY, Sandbox};
use pindrel_testkit::{ManifestText, RealOptions, RealWorld, dig};

use crate::{PINDREL, edit, one_name, quick, sandboxed};

/// A certificate that no endpoint takes: the shortest way to an order.
fn certificate(name: &str, names: &[&str], more: &str) -> String {
    format!("\n[certificate.{name}]\nnames = {names:?}\n{more}\n")
}

fn on_both(sandbox: &Sandbox, change: impl Fn(&pindrel_sandbox::dns::server::DnsServer)) {
    change(sandbox.primary());
    change(sandbox.secondary());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_delegated_challenge_goes_where_its_aliases_lead() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, listing| {
        manifest.validation_zone(listing).with(&certificate(
            "api",
            &["api.larkfield.example", "*.api.larkfield.example"],
            "",
        ))
    })
    .await;
    on_both(&sandbox, |server| {
        server.add_alias("_acme-challenge.api.larkfield.example", "hop.larkfield.example");
        server.add_alias("hop.larkfield.example", "api.validation.test");
    });
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.authority().issued(), (1, 0));
    for name in ["_acme-challenge.api.larkfield.example", "api.validation.test"] {
        on_both(&sandbox, |server| assert_eq!(server.texts(name), [""; 0], "{name}"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_over_two_zones_is_proven_in_both_at_once() {
    let options = Options { lag: Duration::from_millis(300), ..quick() };
    let names = ["api.larkfield.example", "plates.larkfield.example", "*.plates.larkfield.example"];
    let (workspace, sandbox) = sandboxed(options, |manifest, listing| {
        manifest.validation_zone(listing).with(&certificate("both", &names, ""))
    })
    .await;
    let delegated = "api.validation.test";
    on_both(&sandbox, |server| server.add_alias("_acme-challenge.api.larkfield.example", delegated));
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    let lagging = format!("{} to return the challenge record", sandbox.listing().secondary);
    let told = |event: &serde_json::Value| event["what"].as_str().is_some_and(|what| what.contains(&lagging));
    assert!(ran.events().iter().any(told), "who lags is named: {}", ran.stdout);
    let summary = ran.summary();
    let [all, waited] = ["seconds", "waited_seconds"].map(|key| summary[key].as_f64().unwrap());
    assert!(waited >= 0.3 && waited <= all, "{waited} s of {all} s");
    for name in ["_acme-challenge.api.larkfield.example", "_acme-challenge.plates.larkfield.example", delegated] {
        on_both(&sandbox, |server| assert_eq!(server.texts(name), [""; 0], "{name}"));
    }
}

/// Aliases that lead nowhere, and what is said of them.
const NOWHERE: [(&str, &str); 2] = [
    ("_acme-challenge.api.larkfield.example", "form a loop"),
    ("api.elsewhere.test", "is an alias of api.elsewhere.test, which is not in any zone of the manifest"),
];

#[tokio::test(flavor = "multi_thread")]
async fn aliases_that_lead_nowhere_are_found_before_anything_is_ordered() {
    for (target, says) in NOWHERE {
        let (workspace, sandbox) =
            sandboxed(quick(), |manifest, _| manifest.with(&certificate("api", &["api.larkfield.example"], ""))).await;
        on_both(&sandbox, |server| {
            server.add_alias("_acme-challenge.api.larkfield.example", "hop.larkfield.example");
            server.add_alias("hop.larkfield.example", target);
        });
        let ran = workspace.run(&["settle"]).ended(1);
        assert!(ran.stdout.contains(says), "{}", ran.stdout);
        assert_eq!(sandbox.authority().orders_for(&["api.larkfield.example"]), 0);
    }
}

/// CAA records, whether a wildcard is wanted, and what is said before the order, if
/// anything.
const CAA: [(&str, &str, bool, Option<&str>); 6] = [
    ("issue", "other.test", false, Some("allow other.test, not authority.sandbox.test")),
    ("issue", ";", false, Some("allow nobody")),
    ("issuewild", ";", true, Some("Add to larkfield.example: CAA 0 issuewild \"authority.sandbox.test\"")),
    ("issue", "authority.sandbox.test; validationmethods=http-01", false, Some("validate by http-01 only")),
    ("issue", "authority.sandbox.test; accounturi=https://elsewhere.test/1", false, Some("for another account only")),
    ("issue", "authority.sandbox.test; validationmethods=dns-01", false, None),
];

#[tokio::test(flavor = "multi_thread")]
async fn caa_that_would_refuse_is_known_before_an_attempt_is_spent() {
    for (tag, value, wildcard, says) in CAA {
        let name = if wildcard { "*.api.larkfield.example" } else { "api.larkfield.example" };
        let (workspace, sandbox) =
            sandboxed(quick(), |manifest, _| manifest.with(&certificate("api", &[name], ""))).await;
        on_both(&sandbox, |server| server.add_caa("larkfield.example", tag, value));
        let ran = workspace.run(&["settle"]);
        let orders = sandbox.authority().orders_for(&[name]);
        match says {
            Some(says) => {
                assert!(ran.status == 3 && orders == 0 && ran.stdout.contains(says), "{value}: {}", ran.stdout)
            }
            None => assert!(ran.status == 0 && orders == 1, "{value}: {}", ran.stdout),
        }
    }
}

fn tenants(manifest: ManifestText, listing: &Listing) -> ManifestText {
    let manifest = manifest.rehearsed(listing);
    (0..6).fold(manifest, |manifest, n| {
        manifest.with(&certificate(&format!("t{n}"), &[&format!("t{n}.larkfield.example")], ""))
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_set_up_is_rehearsed_once_for_all_its_tenants_and_leaves_nothing_behind() {
    let (workspace, sandbox) = sandboxed(quick(), tenants).await;
    let ran = workspace.run(&["settle", "--rehearse"]).ended(0);
    assert!(ran.stdout.contains("3 steps"), "two accounts and one rehearsal: {}", ran.stdout);
    assert_eq!((sandbox.practice().issued(), sandbox.authority().issued()), ((1, 0), (0, 0)));
    let again = workspace.run(&["settle", "--rehearse", "--dry-run"]).ended(0);
    assert!(again.stdout.contains("Nothing to do"), "{}", again.stdout);
    workspace.run(&["settle"]).ended(0);
    assert_eq!((sandbox.practice().issued(), sandbox.authority().issued()), ((1, 0), (6, 0)));
    let listed = workspace.run(&["cert", "list", "--format", "json"]).ended(0).json();
    let listed = listed["certificates"].as_array().unwrap();
    assert!(listed.len() == 6 && listed.iter().all(|row| row["from"] == "main"), "{listed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn caa_that_bars_only_the_practice_authority_skips_the_rehearsal() {
    let (workspace, sandbox) = sandboxed(quick(), tenants).await;
    on_both(&sandbox, |server| server.add_caa("larkfield.example", "issue", IDENTITY));
    let ran = workspace.run(&["settle"]).ended(0);
    assert!(ran.stderr.contains("is skipped") && ran.stderr.contains(PRACTICE_IDENTITY), "{}", ran.stderr);
    assert_eq!((sandbox.practice().issued(), sandbox.authority().issued()), ((0, 0), (6, 0)));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_authoritys_own_word_counts_more_than_any_limit() {
    let (workspace, sandbox) =
        sandboxed(quick(), |manifest, _| manifest.with(&certificate("api", &["api.larkfield.example"], ""))).await;
    sandbox.authority().switch(Fault::Limit, true);
    let ran = workspace.run(&["settle"]).ended(1);
    assert!(ran.stdout.contains("is rate-limiting this account until "), "{}", ran.stdout);
    sandbox.authority().mend();
    let before = sandbox.authority().requests();
    let ran = workspace.run(&["settle"]).ended(3);
    assert!(ran.stdout.contains("is rate-limiting this account until "), "{}", ran.stdout);
    assert_eq!(sandbox.authority().requests(), before, "nothing was asked");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_that_is_limited_is_left_alone_until_a_person_says_otherwise() {
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        (0..40).fold(manifest, |manifest, n| {
            manifest.with(&certificate(&format!("c{n}"), &[&format!("c{n}.larkfield.example")], ""))
        })
    })
    .await;
    workspace.run(&["account", "register"]).ended(0);
    sandbox.authority().switch(Fault::Limit, true);
    let before = sandbox.authority().requests();
    let ran = workspace.run(&["settle"]).ended(1);
    // Those that were asked for side by side may have been told another second.
    assert!(ran.stdout.matches("is rate-limiting this account").count() <= 3, "{}", ran.stdout);
    assert!(ran.stdout.contains("40 failed"), "{}", ran.stdout);
    let asked = sandbox.authority().requests() - before;
    assert!(asked <= 6, "{asked} requests: a directory, nonces, and no more than two orders");

    sandbox.authority().mend();
    workspace.run(&["settle"]).ended(3);
    let ran = workspace.run(&["account", "resume"]).ended(0);
    assert!(ran.stdout.contains("Orders are sent to main again"), "{}", ran.stdout);
    workspace.run(&["settle"]).ended(0);

    // A wish that is refused is withdrawn, and one that cannot be granted is not kept.
    sandbox.authority().switch(Fault::Limit, true);
    workspace.run(&["cert", "renew", "c0"]).ended(1);
    workspace.run(&["cert", "renew", "c1"]).ended(1);
    let status = workspace.run(&["status", "--format", "json"]).ended(3).json();
    let loose = status["certificates"].as_array().unwrap().iter().filter(|row| row["state"] != "held").count();
    assert_eq!(loose, 1, "{status}");
    assert!(workspace.run(&["cert", "renew", "c0", "--cancel"]).ended(0).stdout.contains("is withdrawn"));
    workspace.run(&["status"]).ended(0);
}

/// A fault, whether the first run gets through all the same, and what it says if not.
const FAULTS: [(&str, Option<&str>); 9] = [
    ("nonces", None),
    ("busy", None),
    ("slow-validation", None),
    ("dropped", Some("returned no complete response")),
    ("half", Some("returned no complete response")),
    ("down", Some("503")),
    ("other-key", Some("its key is not the one that Pindrel made")),
    ("missing-name", Some("it does not cover")),
    (
        "validation=b.larkfield.example",
        Some("could not validate b.larkfield.example (unauthorized: b.larkfield.example is made to fail)"),
    ),
];

#[tokio::test(flavor = "multi_thread")]
async fn every_fault_of_the_authority_ends_in_bounded_time_is_told_and_is_overcome() {
    for (fault, says) in FAULTS {
        let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
            manifest.with(&certificate("pair", &["a.larkfield.example", "b.larkfield.example"], ""))
        })
        .await;
        assert!(sandbox.switch(fault, true));
        let begun = Instant::now();
        let ran = workspace.run(&["settle"]);
        assert!(begun.elapsed() < Duration::from_secs(90), "{fault}");
        match says {
            None => assert_eq!(ran.status, 0, "{fault}: {}", ran.stdout),
            Some(says) => {
                assert_eq!(ran.status, 1, "{fault}: {}", ran.stdout);
                assert!(ran.stdout.contains(says) && ran.stdout.contains('→'), "{fault}: {}", ran.stdout);
            }
        }
        assert!(sandbox.switch(fault, false));
        workspace.run(&["settle"]).ended(0);
        for name in ["a", "b"] {
            on_both(&sandbox, |server| {
                assert_eq!(server.texts(&format!("_acme-challenge.{name}.larkfield.example")), [""; 0], "{fault}");
            });
        }
        if fault.starts_with("validation") {
            // The name that did not fail was given up with its order.
            assert_eq!(sandbox.authority().deactivated(), 1, "{fault}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hundred_names_keys_of_every_kind_profiles_and_other_roots() {
    let many: Vec<String> = (0..100).map(|n| format!("n{n}.larkfield.example")).collect();
    let many: Vec<&str> = many.iter().map(String::as_str).collect();
    let (workspace, sandbox) = sandboxed(quick(), |manifest, _| {
        let kinds = ["ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072"].map(|kind| {
            certificate(kind, &[&format!("{kind}.larkfield.example")], &format!("key = {kind:?}\nprofile = \"week\""))
        });
        manifest.with(&certificate("many", &many, "chain_root = \"no such root\"")).with(&kinds.concat())
    })
    .await;
    let ran = workspace.run(&["settle"]).ended(0);
    assert!(ran.stderr.contains("no chain ends at \"no such root\""), "{}", ran.stderr);
    assert_eq!(sandbox.authority().orders_for(&many), 1);
    for kind in ["ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072"] {
        let shown = workspace.run(&["cert", "show", kind, "--format", "json"]).ended(0).json();
        assert_eq!((&shown["key"], &shown["days_left"]), (&kind.into(), &5.into()), "{kind}");
    }
    // The other chain of the same certificate, by the name of its root.
    let roots = workspace.run(&["cert", "show", "many", "--format", "json"]).ended(0).json();
    let other = ran.stderr.split("CN=Sandbox other root").nth(1).unwrap().split([';', '\n', ',']).next().unwrap();
    let other = format!("Sandbox other root{other}");
    assert!(!roots["root"].as_str().unwrap().contains(&other));
    edit(&workspace, "no such root", &other);
    workspace.run(&["cert", "renew", "many"]).ended(0);
    let shown = workspace.run(&["cert", "show", "many", "--format", "json"]).ended(0).json();
    assert!(shown["root"].as_str().unwrap().contains(&other), "{}", shown["root"]);
    edit(&workspace, "profile = \"week\"", "profile = \"decade\"");
    let ran = workspace.run(&["cert", "renew", "rsa-2048"]).ended(1);
    assert!(
        ran.stdout.contains("does not offer the profile \"decade\"") && ran.stdout.contains("month, season, week"),
        "{}",
        ran.stdout
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_least_wait_is_kept_before_the_challenge_is_answered() {
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        let text = one_name(manifest, listing)
            .text()
            .replace("driver = \"rfc2136\"", "driver = \"rfc2136\"\nleast_wait = \"3s\"");
        ManifestText::default().with(&text)
    })
    .await;
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    let waited = |event: &serde_json::Value| event["what"] == "3 s to pass since the challenge records were made";
    assert!(ran.events().iter().any(waited), "{}", ran.stdout);
    assert!(ran.summary()["seconds"].as_f64().unwrap() > 3.0);
}

/// A name server takes only so many records at one name; orders whose challenges meet there come one after another.
#[tokio::test(flavor = "multi_thread")]
async fn challenges_of_many_orders_at_one_name_are_spread_in_time() {
    const ORDERS: usize = 40;
    let test = "challenges_of_many_orders_at_one_name_are_spread_in_time";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| {
        (0..ORDERS).fold(manifest, |manifest, n| {
            manifest.with(&format!("[certificate.c{n}]\nnames = [\"h{n}.larkfield.example\"]\n"))
        })
    });
    for n in 0..ORDERS {
        world.update(&format!("_acme-challenge.h{n}"), "CNAME", "all.larkfield.example.");
    }
    let most = Arc::new(AtomicUsize::new(0));
    let (seen, primary) = (most.clone(), world.primary);
    let watching = tokio::task::spawn_blocking(move || {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(120) && seen.load(Ordering::Relaxed) < usize::MAX / 2 {
            let texts = dig(primary, "all.larkfield.example", "TXT");
            seen.fetch_max(texts.lines().filter(|line| line.starts_with('"')).count(), Ordering::Relaxed);
        }
    });
    let ran = workspace.run(&["settle", "--at-once", "200", "--patience", "120s"]).ended(0);
    let highest = most.swap(usize::MAX, Ordering::Relaxed);
    watching.await.unwrap();
    assert!((3..=6).contains(&highest), "{highest} at once: {}", ran.stdout);
    assert_eq!(dig(world.primary, "all.larkfield.example", "TXT"), "", "none is left");
}
