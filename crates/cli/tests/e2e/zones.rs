//! Whole zones by the built program: checked, compared, exported and imported, on a real server and in files.

use std::time::{Duration, Instant};

use pindrel_testkit::{ManifestText, RealOptions, RealPowerDns, RealWorld, Workspace, dig};

use crate::commands::{assert_fits, schema};
use crate::{PINDREL, edit, one_name, quick, sandboxed};

const GOOD: &str =
    "$TTL 600\n@ IN SOA ns1 hostmaster 7 3600 900 604800 300\n@ NS ns1\nns1 A 192.0.2.1\nwww A 192.0.2.8\n";

#[test]
fn a_file_is_checked_and_compared_without_a_manifest() {
    let workspace = Workspace::new(PINDREL);
    workspace.write("larkfield.example.zone", GOOD);
    let right = workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(0);
    assert!(right.stdout.contains("is right: larkfield.example. with 4 records, serial 7"), "{}", right.stdout);
    let bad = format!("{GOOD}x IN CNMAE www\ny MX mail\nz\\999 A 192.0.2.1\n");
    workspace.write("larkfield.example.zone", &bad);
    let ran = workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(1);
    assert!(ran.stdout.contains("did you mean CNAME?") && ran.stdout.contains("has 3 mistakes"), "{}", ran.stdout);
    let json = workspace.run(&["zone", "check", "larkfield.example.zone", "--format", "json"]).ended(1).json();
    assert_fits(&schema("zone-check"), &json);
    let places: Vec<_> =
        json["errors"].as_array().unwrap().iter().map(|one| (one["line"].clone(), one["column"].clone())).collect();
    assert_eq!(places, [(6.into(), 6.into()), (7.into(), 6.into()), (8.into(), 1.into())]);
    // A comparison of what cannot be read is refused, and shows why.
    workspace.write("old.zone", GOOD);
    let ran = workspace.run(&["zone", "compare", "old.zone", "larkfield.example.zone"]).ended(1);
    assert!(ran.stderr.contains("nothing was done") && ran.stdout.is_empty(), "{}", ran.stderr);
    workspace.write("larkfield.example.zone", &GOOD.replace("192.0.2.8", "192.0.2.9").replace(" 7 ", " 8 "));
    let args = ["zone", "compare", "old.zone", "larkfield.example.zone"];
    let ran = workspace.run(&args).ended(3);
    assert!(ran.stdout.contains("- 192.0.2.8") && ran.stdout.contains("1 record set differs"), "{}", ran.stdout);
    let json = workspace.run(&[&args[..], &["--format", "json"]].concat()).ended(3).json();
    assert_fits(&schema("zone-compare"), &json);
    assert_eq!(json["differences"][0]["left"][0], "192.0.2.8");
    assert_eq!(workspace.run(&["zone", "compare", "old.zone", "old.zone"]).ended(0).stdout.lines().count(), 1);
    for (args, says) in [
        (&["zone", "check", "nothing.zone"][..], "nothing.zone cannot be read: there is no such file"),
        (&["zone", "check", "larkfield.test"], "there is no file larkfield.test, and no manifest"),
        (&["zone", "check", "manifest"], "this checks zone files and live zones"),
        (&["zone", "compare", "manifest", "manifest"], "there is no manifest"),
        (&["zone", "check", "."], "cannot be read: it is a directory"),
    ] {
        let ran = workspace.run(args);
        assert!(ran.status > 0 && ran.stderr.contains(says), "{args:?}: {}", ran.stderr);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_zone_of_a_real_server_is_exported_and_a_file_brought_into_it() {
    let test = "a_zone_of_a_real_server_is_exported_and_a_file_brought_into_it";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| one_name(manifest, world.sandbox.listing()));
    let exported = workspace.run(&["zone", "export", "larkfield.example"]).ended(0).stdout;
    assert!(exported.starts_with("$ORIGIN larkfield.example.\nlarkfield.example.\t"), "{exported}");
    workspace.write("larkfield.example.zone", &exported);
    workspace.run(&["zone", "check", "larkfield.example.zone"]).ended(0);
    let same = workspace.run(&["zone", "compare", "larkfield.example.zone", "larkfield.example"]).ended(0).stdout;
    assert!(same.contains("have the same records"), "{same}");
    // Both servers have it, each asked by itself.
    let at = |server| format!("larkfield.example@{server}");
    workspace.run(&["zone", "compare", &at(world.primary), &at(world.secondary)]).ended(0);
    let json = workspace.run(&["zone", "export", "larkfield.example", "--format", "json"]).ended(0).json();
    assert_fits(&schema("zone-export"), &json);
    assert_eq!(json["partial"], false);
    let listed = workspace.run(&["zone", "list", "--format", "json"]).json();
    assert_fits(&schema("zone-list"), &listed);
    assert_eq!(listed["zones"][0]["driver"], "rfc2136");

    // Names are compared without their case, and shown as they were written: by the server and in a file.
    world.update("Wiki", "CNAME", "Docs.Larkfield.Example.");
    let cased = workspace.run(&["zone", "export", "larkfield.example"]).ended(0).stdout;
    assert!(cased.contains("Wiki.larkfield.example.\t60\tIN\tCNAME\tDocs.Larkfield.Example.\n"), "{cased}");
    workspace.write("cased.zone", &cased.replace("$ORIGIN larkfield.example.\n", ""));
    let again = workspace.run(&["zone", "export", "cased.zone", "--origin", "larkfield.example"]).ended(0).stdout;
    assert_eq!(again, cased);
    // A file is shown first, then brought in, and a second time there is nothing to do.
    world.update("old", "A", "192.0.2.50");
    workspace.write("more.zone", "$TTL 300\nold A 192.0.2.51\nnew MX 10 old\nnew TXT \"x\" \"y\"\n");
    let import = ["zone", "import", "more.zone", "--into", "larkfield.example"];
    let shown = workspace.run(&import).ended(3).stdout;
    assert!(shown.contains("- 60 192.0.2.50") && shown.contains("3 record sets would change"), "{shown}");
    assert_eq!(world.dig(world.primary, "old.larkfield.example", "A").trim(), "192.0.2.50");
    let yes = [&import[..], &["--yes"]].concat();
    let done = workspace.run(&yes).ended(0).stdout;
    assert!(done.contains("3 record sets changed"), "{done}");
    assert_eq!(world.dig(world.primary, "old.larkfield.example", "A").trim(), "192.0.2.51");
    assert!(workspace.run(&yes).ended(0).stdout.contains("nothing to change"));
    // Many names in several messages, of which the first is refused where its host comes in the last; a set of which the
    // records are written with several TTLs has one.
    let many: String = (0..1_000).map(|n| format!("h{n} A 192.0.2.1\n")).collect();
    workspace.write(
        "many.zone",
        &format!("$TTL 300\n@ MX 10 zz-mail\ntwo 60 TXT x\ntwo 90 TXT y\n{many}zz-mail A 192.0.2.9\n"),
    );
    let import_many = ["zone", "import", "many.zone", "--into", "larkfield.example", "--yes"];
    workspace.run(&import_many).ended(0);
    assert_eq!(world.dig(world.primary, "larkfield.example", "MX").trim(), "10 zz-mail.larkfield.example.");
    assert!(workspace.run(&import_many).ended(0).stdout.contains("nothing to change"));
    // All that the file does not have goes only where that is asked for; the zone's own records stay.
    let rest = workspace.run(&[&import[..], &["--delete"]].concat()).ended(3).stdout;
    assert!(!rest.contains(" SOA") && !rest.contains("larkfield.example. NS"), "{rest}");
    // A name of another zone, and a slip, are refused before anything is changed.
    for (text, says) in [
        ("$TTL 60\nx.larkfield.test. A 192.0.2.1\n", "does not lie in larkfield.example"),
        ("$TTL 60\nx CNAME y\nx A 192.0.2.1\n", "more.zone:3: x.larkfield.example. has a CNAME record"),
    ] {
        workspace.write("more.zone", text);
        let ran = workspace.run(&yes).ended(2);
        assert!(ran.stderr.contains(says), "{}", ran.stderr);
    }
    let unknown = workspace.run(&["zone", "export", "larkfeild.example"]).ended(2).stderr;
    assert!(unknown.contains("Did you mean \"larkfield.example\"?"), "{unknown}");
    let silent = workspace.run(&["zone", "export", "larkfield.example@127.99.99.99:9"]).ended(1).stderr;
    assert!(silent.contains("cannot be asked to transfer larkfield.example: connection refused"), "{silent}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_manifest_wants_is_compared_with_what_is() {
    let (workspace, _sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle", "-q"]).ended(0);
    let ran = workspace.run(&["zone", "compare", "manifest", "larkfield.example"]).ended(0);
    assert!(ran.stdout.contains("have the same records"), "{}", ran.stdout);
    let exported = workspace.run(&["zone", "export", "larkfield.example"]).ended(0);
    assert!(exported.stdout.contains("api.larkfield.example.\t600\tIN\tCNAME\t"), "{}", exported.stdout);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_watched_until_the_last_server_and_no_longer() {
    let test = "a_change_is_watched_until_the_last_server_and_no_longer";
    let options = RealOptions { notify: false, ..RealOptions::default() };
    let Some(mut world) = RealWorld::start(test, options).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| one_name(manifest, world.sandbox.listing()));
    let watch = ["zone", "watch", "fresh.larkfield.example", "--type", "TXT", "--value", "\"now\"", "--format", "json"];
    let patient = |secs: &'static str| [&watch[..], &["--patience", secs]].concat();
    // Nobody has made it: that is told as it is, and the resolver is left alone.
    let ran = workspace.run(&patient("2s")).ended(3);
    let schema = schema("watch-event");
    ran.events().iter().for_each(|event| assert_fits(&schema, event));
    let summary = ran.summary();
    assert_eq!((summary["done"].clone(), summary["waiting_for"].as_array().unwrap().len()), (false.into(), 3));
    assert!(ran.events().iter().all(|event| event["role"] != "resolver"), "{}", ran.stdout);
    world.update("fresh", "TXT", "now");
    let begun = Instant::now();
    let done = workspace.run(&patient("60s")).ended(0);
    let (took, events) = (begun.elapsed(), done.events());
    assert!(took < Duration::from_secs(20), "the secondary looks every few seconds: {took:?}");
    let states = |address: &str| -> Vec<String> {
        let own = events.iter().filter(|event| event["address"] == address);
        own.map(|event| event["state"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(states(&world.primary.to_string()), ["has"]);
    let lagging = states(&world.secondary.to_string());
    assert_eq!(lagging.last().unwrap(), "has");
    assert!(lagging.iter().all(|state| state != "wrong"), "it lags, and is not wrong: {lagging:?}");
    // Asked too early, the resolver would keep that there is none.
    assert_eq!(states(&world.resolver.to_string()), ["has"]);
    // A change of what a resolver has in its cache ends when the old TTL does.
    workspace.run(&patient("60s")).ended(0);
    world.update("fresh", "TXT", "more");
    let both = [&patient("9s")[..], &["--value", "\"more\""]].concat();
    let late = workspace.run(&both).ended(3).summary();
    assert_eq!(late["wrong"], serde_json::json!([]));
    assert_eq!(late["waiting_for"], serde_json::json!([world.resolver.to_string()]), "{late}");
    let until: jiff::Timestamp = late["until"].as_str().unwrap().parse().unwrap();
    let left = until.duration_since(jiff::Timestamp::now()).as_secs();
    assert!((20..=62).contains(&left), "the TTL is 60 s: {left}");
    // Over TLS and over HTTPS the same resolver says the same, once its certificate can be verified.
    let listed = world.resolver_over_tls.clone();
    let text = workspace.read("pindrel.toml");
    let plain = format!("resolvers = [\"{}\"]", world.resolver);
    let encrypted = format!("resolvers = {listed:?}\nresolver_roots = \"resolver-root.pem\"");
    workspace.write("pindrel.toml", &text.replace(&plain, &encrypted));
    workspace.write("resolver-root.pem", &world.resolver_root);
    world.update("secret", "TXT", "kept");
    let watch = ["zone", "watch", "secret.larkfield.example", "--type", "TXT", "--value", "\"kept\""];
    let table = workspace.run(&[&watch[..], &["--patience", "60s"]].concat()).ended(0).stdout;
    assert!(listed.iter().all(|resolver| table.contains(resolver.as_str())), "{table}");
    workspace.write("resolver-root.pem", &world.authority_root);
    let untrusted = workspace.run(&[&watch[..], &["--patience", "1s"]].concat()).ended(3).stdout;
    assert_eq!(untrusted.matches("no answer").count(), 2, "{untrusted}");
    assert_eq!(
        untrusted.matches("its certificate is not accepted: its issuer is not trusted").count(),
        2,
        "{untrusted}"
    );
    // A server that is down is named.
    world.secondary_process.kill();
    let down = workspace.run(&patient("2s")).ended(3);
    assert!(down.stdout.contains("\"state\":\"silent\""), "{}", down.stdout);
    let wrong = workspace.run(&["zone", "watch", "fresh.larkfield.example"]).ended(2);
    assert!(wrong.stderr.contains("has no hostname fresh.larkfield.example"), "{}", wrong.stderr);
}

/// A hostname in the zone that somebody else edits.
fn of_others(manifest: ManifestText, listing: &pindrel_sandbox::Listing) -> ManifestText {
    let zone = format!(
        "[zone.\"alerts.larkfield.example\"]\ndriver = \"none\"\nservers = [\"{}\"]\nparents = [\"{}\"]\nresolvers = [\"{}\"]\n",
        listing.elsewhere, listing.primary, listing.resolver
    );
    let manifest = manifest.endpoint(listing, "catalogue", "gateway").with(&zone);
    manifest.hostname("alerts.larkfield.example", "catalogue", "").hostname(
        "feed.alerts.larkfield.example",
        "catalogue",
        "",
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_else_makes_is_listed_waited_for_and_ticked() {
    let (workspace, sandbox) = sandboxed(quick(), of_others).await;
    let listing = sandbox.listing().clone();
    let zone = "alerts.larkfield.example";
    let handoff = |more: &[&str]| workspace.run(&[&["handoff", zone][..], more].concat());
    let json = handoff(&["--format", "json"]).ended(3).json();
    assert_fits(&schema("handoff"), &json);
    let records = json["records"].as_array().unwrap().clone();
    assert_eq!(records.len(), 4, "an alias and a challenge for each: {json}");
    let find = |name: &str, record_type: &str| {
        let is = |record: &&serde_json::Value| record["name"] == name && record["type"] == record_type;
        records.iter().find(is).unwrap_or_else(|| panic!("{name} {record_type}: {json}")).clone()
    };
    let catalogue = listing.endpoints.iter().find(|endpoint| endpoint.id == "catalogue").unwrap();
    let apex = find(zone, "A");
    assert_eq!((apex["label"].clone(), apex["value"].clone()), ("@".into(), catalogue.address.ip().to_string().into()));
    assert!(apex["alternative"].as_str().unwrap().contains(&catalogue.default_name));
    assert!(apex["not_before"].as_str().unwrap().contains("catalogue serves"));
    let feed = find("feed.alerts.larkfield.example", "CNAME");
    assert_eq!(
        (feed["label"].clone(), feed["value"].clone()),
        ("feed".into(), format!("{}.", catalogue.default_name).into())
    );
    let challenge = find("_acme-challenge.feed.alerts.larkfield.example", "CNAME");
    assert_eq!(challenge["value"], "feed.alerts.larkfield.example._acme-challenge.larkfield.example.");
    assert_eq!(challenge["not_before"], serde_json::Value::Null);
    // The forms: the lines are a zone file's, the page needs nothing else.
    let lines = handoff(&["--as", "zone"]).ended(3).stdout;
    let soa = "@ 60 IN SOA ns1 hostmaster 1 60 5 86400 5\n@ 60 IN NS ns1\nns1 60 IN A 127.0.0.1\n";
    workspace.write("alerts.larkfield.example.zone", &format!("{soa}{lines}"));
    workspace.run(&["zone", "check", "alerts.larkfield.example.zone"]).ended(0);
    assert_eq!(handoff(&["--as", "csv"]).stdout.lines().count(), 5);
    assert_eq!(handoff(&["--as", "markdown"]).stdout.matches("| ☐ |").count(), 4);
    let page = handoff(&["--as", "page"]).stdout;
    assert!(page.starts_with("<!doctype html>") && page.matches("data-copy=").count() >= 20, "{page}");
    assert!(!page.contains("src=") && !page.contains("href="), "it loads nothing");

    // A zone that may not be transferred is read name by name, with the addresses of its servers.
    let part = workspace.run(&["zone", "export", zone]).ended(0);
    assert!(part.stdout.contains("ns1.alerts.larkfield.example.\t60\tIN\tA\t"), "{} {}", part.stdout, part.stderr);
    // What stands there instead, and what was typed with the zone's name behind it, is shown in every form.
    assert!(sandbox.record("feed.alerts.larkfield.example", "A", "192.0.2.7"));
    let challenge = "_acme-challenge.feed.alerts.larkfield.example";
    let doubled = format!("{challenge}.alerts.larkfield.example");
    assert!(sandbox.record(&doubled, "CNAME", "feed.alerts.larkfield.example._acme-challenge.larkfield.example."));
    for form in ["text", "markdown", "zone", "csv", "page"] {
        let told = handoff(&["--as", form]).ended(3).stdout.replace('\\', "");
        for says in ["Now there is A 192.0.2.7", "enter _acme-challenge.feed alone"] {
            assert!(told.contains(says), "{form}: {says}: {told}");
        }
    }
    // A challenge name that leads to another name in a zone of the manifest does as well.
    assert!(sandbox.record(challenge, "CNAME", "proofs.larkfield.example."));
    let other = handoff(&["--format", "json"]).ended(3).json();
    let is_challenge = |one: &&serde_json::Value| one["name"] == challenge && one["done"] == true;
    let led = other["records"].as_array().unwrap().iter().find(is_challenge).unwrap_or_else(|| panic!("{other}"));
    assert_eq!(led["value"], "proofs.larkfield.example.");
    for (name, record_type) in
        [("feed.alerts.larkfield.example", "A"), (challenge, "CNAME"), (doubled.as_str(), "CNAME")]
    {
        sandbox.delete_record(name, record_type);
    }

    // Settle goes as far as it can, says for what it waits, and orders nothing in vain.
    let waits = workspace.run(&["settle", "--patience", "3s"]).ended(3);
    assert!(waits.stdout.contains("pindrel handoff"), "{}", waits.stdout);
    let status = workspace.run(&["status", "--format", "json"]).ended(3).json();
    assert!(status.to_string().contains("alias-awaited"), "{status}");
    for record in &records {
        let text = |key: &str| record[key].as_str().unwrap().to_owned();
        let (name, value) = (text("name"), text("value"));
        if text("type") == "CNAME" {
            assert!(sandbox.record(&name, "CNAME", &value));
        }
    }
    let half = handoff(&["--format", "json"]).ended(3).json();
    let done =
        |json: &serde_json::Value| json["records"].as_array().unwrap().iter().filter(|one| one["done"] == true).count();
    assert_eq!(done(&half), 3);
    let held = workspace.run(&["settle", "--patience", "5s"]).ended(3);
    assert!(held.stdout.contains("1 of 2 hostnames held"), "{}", held.stdout);
    assert!(sandbox.record(zone, "A", apex["value"].as_str().unwrap()));
    workspace.run(&["settle"]).ended(0);
    let all = handoff(&["--format", "json"]).ended(0).json();
    assert_eq!(done(&all), 4);
    assert!(all["records"].as_array().unwrap().iter().all(|record| record["seen"].is_string()), "{all}");
    // A renewal needs nobody, and nothing of it is left in either zone.
    workspace.run(&["cert", "renew", "feed.alerts.larkfield.example"]).ended(0);
    assert_eq!(sandbox.primary().texts("feed.alerts.larkfield.example._acme-challenge.larkfield.example"), [""; 0]);
    // Of its own zone Pindrel hands off the delegation.
    let own = workspace.run(&["handoff", "larkfield.example"]).ended(0).stdout;
    assert!(own.contains("[x] NS record at larkfield.example"), "{own}");
    let typo = workspace.run(&["handoff", "alert.larkfield.example"]).ended(2);
    assert!(typo.stderr.contains("Did you mean \"alerts.larkfield.example\"?"), "{}", typo.stderr);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_others_left_is_replaced_where_it_is_named_and_nowhere_else() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    sandbox.record("api.larkfield.example", "A", "192.0.2.44");
    sandbox.record("api.larkfield.example", "TXT", "v=spf1 -all");
    let refused = workspace.run(&["settle", "--patience", "5s"]);
    assert_eq!(refused.status, 3, "{}", refused.stdout);
    assert!(refused.stdout.contains("replace = [\"A\", \"TXT\"]"), "{}", refused.stdout);
    assert!(sandbox.primary().has_name("api.larkfield.example"));
    let manifest = workspace.read("pindrel.toml");
    let table = "[hostname.\"api.larkfield.example\"]\n";
    workspace.write("pindrel.toml", &manifest.replace(table, &format!("{table}replace = [\"A\"]\n")));
    let refused = workspace.run(&["settle", "--patience", "5s"]).ended(3).stdout;
    assert!(refused.contains("replace = [\"TXT\"]"), "only what is not named yet: {refused}");
    workspace.write("pindrel.toml", &manifest.replace(table, &format!("{table}replace = [\"A\", \"TXT\"]\n")));
    let shown = workspace.run(&["settle", "--dry-run"]).ended(3).stdout;
    assert!(shown.contains("which the manifest says may go: A 192.0.2.44"), "{shown}");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(sandbox.primary().texts("api.larkfield.example"), [""; 0]);
    // It had an alias before, by somebody else: undoing the run takes nothing away.
    let undone = workspace.run(&["settle", "--undo", "1", "--yes"]).ended(3).stdout;
    assert!(undone.contains("leads to no endpoint of the manifest") && !undone.contains("is undone"), "{undone}");
    assert!(sandbox.primary().has_name("api.larkfield.example"));
    workspace.run(&["status"]).ended(0);
}

/// Whoever is to decide whether a leftover may go learns since when it is seen, and what in the zone leads to it.
#[tokio::test(flavor = "multi_thread")]
async fn what_depends_on_a_leftover_and_since_when_it_is_seen_is_told() {
    let test = "what_depends_on_a_leftover_and_since_when_it_is_seen_is_told";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let workspace = world.workspace(PINDREL, |manifest| one_name(manifest, world.sandbox.listing()));
    world.update("api", "A", "192.0.2.44");
    world.update("docs", "CNAME", "api.larkfield.example.");
    world.update("@", "MX", "10 api.larkfield.example.");
    world.update("other", "CNAME", "elsewhere.larkfield.example.");
    let evidence = || -> Vec<String> {
        let document = workspace.run(&["status", "--max-age", "0", "--format", "json"]).ended(3).json();
        let found = &document["hostnames"][0]["pins"]["alias"]["findings"][0]["evidence"];
        found.as_array().unwrap().iter().map(|line| line.as_str().unwrap().to_owned()).collect()
    };
    let first = evidence();
    let leads = "what leads to it in the zone: MX of larkfield.example, CNAME of docs.larkfield.example";
    assert!(first.iter().any(|line| line == leads), "{first:?}");
    let since = |lines: &[String]| lines.iter().find(|line| line.contains("since")).cloned().unwrap();
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    assert_eq!(since(&evidence()), since(&first), "the first look counts");
    world.update("api", "A", "192.0.2.45");
    assert_ne!(since(&evidence()), since(&first), "it is another set now");
    // A name that nobody bound leads to an endpoint: clients are refused there.
    let endpoint = &world.sandbox.listing().endpoints.iter().find(|endpoint| endpoint.id == "catalogue").unwrap();
    world.update("stray", "CNAME", &format!("{}.", endpoint.default_name));
    let checked = workspace.run(&["zone", "check", "larkfield.example", "--format", "json"]).json();
    assert_fits(&schema("zone-check"), &checked);
    let warnings = checked["warnings"].as_array().unwrap();
    let found = warnings.iter().find(|warning| warning["code"] == "alias-unbound").unwrap();
    let says = "stray.larkfield.example leads to the endpoint catalogue, which has no binding of it";
    assert_eq!(found["message"], says, "{checked}");
    // Whoever gets from the platform what the shop had there answers under the shop's name.
    let (_, platform) = endpoint.default_name.split_once('.').unwrap();
    let gone = format!("gone.{platform}.");
    world.update("shop", "CNAME", &gone);
    let checked = workspace.run(&["zone", "check", "larkfield.example", "--format", "json"]).ended(1).json();
    assert_fits(&schema("zone-check"), &checked);
    let gone = gone.trim_end_matches('.');
    let says = format!(
        "shop.larkfield.example is an alias of {gone}, which does not exist: whoever creates that name takes it over"
    );
    let mut errors = checked["errors"].as_array().unwrap().iter();
    assert!(errors.any(|error| error["code"] == "outside-missing" && error["message"] == says), "{checked}");
}

/// An apex on a server that knows ALIAS records: made, verified, moved, and never fought over.
#[tokio::test(flavor = "multi_thread")]
async fn an_apex_on_a_server_that_resolves_aliases_itself_is_held_and_moves() {
    let test = "an_apex_on_a_server_that_resolves_aliases_itself_is_held_and_moves";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let Some(server) = RealPowerDns::start(test, "larkfield.example", world.resolver).await else { return };
    let mut workspace = world.workspace(PINDREL, |manifest| {
        let listing = world.sandbox.listing();
        let manifest = manifest.endpoint(listing, "home", "distribution").endpoint(listing, "plates", "distribution");
        let own = "[certificate.own]\nnames = [\"larkfield.example\"]\nissued_by = \"self\"\n";
        manifest.with(own).hostname("larkfield.example", "home", "certificate = \"own\"\nttl = \"2s\"\n")
    });
    let text = workspace.read("pindrel.toml");
    let (begin, end) = (text.find("[zone.").unwrap(), text.find("[endpoint.").unwrap());
    let zone = format!(
        "[zone.\"larkfield.example\"]\ndriver = \"powerdns\"\nurl = \"{}\"\ntoken = \"env:PDNS_KEY\"\nservers = [\"{1}\"]\n\
         parents = [\"{2}\"]\nresolvers = [\"{1}\"]\n",
        server.api, server.server, world.parent
    );
    workspace.write("pindrel.toml", &format!("{}{zone}{}", &text[..begin], &text[end..]));
    workspace.set("PDNS_KEY", server.key);
    workspace.run(&["zone", "conformance", "larkfield.example"]).ended(0);
    let address = |id: &str| {
        let endpoint = world.sandbox.listing().endpoints.iter().find(|endpoint| endpoint.id == id).unwrap().clone();
        (endpoint.address.ip().to_string(), endpoint.default_name)
    };
    let settled = workspace.run(&["settle"]).ended(0);
    let alias = |id: &str| {
        let exported = workspace.run(&["zone", "export", "larkfield.example"]).ended(0).stdout;
        exported.contains(&format!("\tALIAS\t{}.", address(id).1))
    };
    assert!(alias("home"), "{}{}", settled.stdout, settled.stderr);
    assert_eq!(dig(server.server, "larkfield.example", "A").trim(), address("home").0);
    let again = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(0).json();
    assert_eq!(again["steps"].as_array().unwrap().len(), 0, "{again}");
    // Moved, the record leads elsewhere, and an HTTPS record beside it to the same name.
    let text = workspace.read("pindrel.toml");
    workspace.write("pindrel.toml", &text.replace("endpoint = \"home\"", "endpoint = \"plates\"\nhttps_alias = true"));
    let moved = workspace.run(&["settle"]).ended(0);
    assert!(alias("plates") && !alias("home"), "{}{}", moved.stdout, moved.stderr);
    assert_eq!(dig(server.server, "larkfield.example", "A").trim(), address("plates").0);
    assert_eq!(dig(server.server, "larkfield.example", "HTTPS").trim(), format!("0 {}.", address("plates").1));
}

/// An HTTPS record stands beside the addresses of an apex, leads to the same endpoint, and goes with them.
#[tokio::test(flavor = "multi_thread")]
async fn an_https_record_beside_an_apex_comes_moves_and_goes_with_the_addresses() {
    let test = "an_https_record_beside_an_apex_comes_moves_and_goes_with_the_addresses";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let listing = world.sandbox.listing();
    let workspace = world.workspace(PINDREL, |manifest| {
        let manifest = manifest.endpoint(listing, "home", "distribution").endpoint(listing, "plates", "distribution");
        let own = "[certificate.own]\nnames = [\"larkfield.example\"]\nissued_by = \"self\"\n";
        let terms = "certificate = \"own\"\nttl = \"2s\"\nhttps_alias = true\n";
        manifest.with(own).hostname("larkfield.example", "home", terms)
    });
    let served = || {
        let ask = |record_type| world.dig(world.primary, "larkfield.example", record_type).trim().to_owned();
        [ask("A"), ask("HTTPS")]
    };
    let of = |id: &str| {
        let endpoint = listing.endpoints.iter().find(|endpoint| endpoint.id == id).unwrap();
        [endpoint.address.ip().to_string(), format!("0 {}.", endpoint.default_name)]
    };
    workspace.run(&["settle"]).ended(0);
    assert_eq!(served(), of("home"));
    workspace.run(&["settle", "--dry-run", "--max-age", "0"]).ended(0);
    workspace.run(&["zone", "watch", "larkfield.example", "--patience", "20s"]).ended(0);
    edit(&workspace, "endpoint = \"home\"", "endpoint = \"plates\"");
    workspace.run(&["settle", "--now"]).ended(0);
    assert_eq!(served(), of("plates"));
    // No longer wanted it goes, and the addresses stay; so does the zone's own.
    edit(&workspace, "https_alias = true\n", "");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(served(), [of("plates")[0].clone(), String::new()]);
    edit(&workspace, "ttl = \"2s\"\n", "ttl = \"2s\"\nhttps_alias = true\n");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(served(), of("plates"));
    let whole = workspace.read("pindrel.toml");
    let other = "[hostname.\"api.larkfield.example\"]";
    let wrong = whole.replace("[hostname.\"larkfield.example\"]", other).replace("certificate = \"own\"\n", "");
    workspace.write("wrong.toml", &wrong);
    let wrong = workspace.run(&["check", "-m", "wrong.toml"]).ended(2).stdout;
    assert!(wrong.contains("this name is a CNAME"), "{wrong}");
    workspace.write("pindrel.toml", &whole[..whole.find("[hostname.").unwrap()]);
    workspace.run(&["retire", "larkfield.example", "--yes"]).ended(0);
    assert_eq!(served(), ["", ""]);
    assert!(!world.dig(world.primary, "larkfield.example", "NS").is_empty());
    // Somebody's record stays until it is named.
    workspace.write("pindrel.toml", &whole);
    world.update("@", "HTTPS", "1 . alpn=h2");
    let blocked = workspace.run(&["settle"]).ended(3);
    assert!(blocked.stdout.contains("replace = [\"HTTPS\"]"), "{}", blocked.stdout);
    assert_eq!(served(), [String::new(), "1 . alpn=\"h2\"".into()]);
    edit(&workspace, "https_alias = true", "https_alias = true\nreplace = [\"HTTPS\"]");
    workspace.run(&["settle"]).ended(0);
    assert_eq!(served(), of("plates"));
}

/// One record names the installation; a second one is told of it, and keeps its hands off.
#[tokio::test(flavor = "multi_thread")]
async fn a_marked_zone_tells_two_installations_apart() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let driver = "driver = \"rfc2136\"";
    edit(&workspace, driver, &format!("{driver}\nmarker = true"));
    let marker = || dig(sandbox.listing().primary, "_pindrel.larkfield.example", "TXT");
    let steps = workspace.run(&["settle", "--dry-run"]).ended(3).stdout;
    assert!(steps.contains("mark") && marker().is_empty(), "{steps}");
    workspace.run(&["settle", "-q"]).ended(0);
    let first = marker();
    assert!(first.starts_with("\"installation="), "{first}");
    workspace.run(&["settle", "--dry-run", "--max-age", "0"]).ended(0);
    // The same manifest elsewhere, with a state of its own.
    std::fs::remove_dir_all(workspace.path().join(".pindrel")).unwrap();
    let told = workspace.run(&["zone", "list", "--format", "json"]).ended(0);
    assert!(told.stdout.contains("zone-marked-by-other") && told.stdout.contains(first.trim().trim_matches('"')));
    workspace.run(&["settle", "-q"]);
    assert_eq!(marker(), first, "no second marker, and the first stays");
    // It was taken away meanwhile: then it is added again.
    sandbox.primary().delete("_pindrel.larkfield.example", "TXT");
    workspace.run(&["adopt", "--all", "--yes", "-q"]);
    workspace.run(&["settle", "-q", "--max-age", "0"]).ended(0);
    assert!(!marker().is_empty() && marker() != first);
}

/// Between two servers of one zone it is said what a change of name servers brings.
#[tokio::test(flavor = "multi_thread")]
async fn a_change_of_name_servers_is_looked_at_before_it_is_made() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    sandbox.secondary().freeze(true);
    sandbox.primary().add_address("api.larkfield.example", [127, 0, 0, 9].into());
    let listing = sandbox.listing();
    let sides = [listing.primary, listing.secondary].map(|server| format!("larkfield.example@{server}"));
    let compare = ["zone", "compare", &sides[0], &sides[1]];
    let told = workspace.run(&compare).ended(3).stdout;
    for part in [
        "lost: A of api.larkfield.example",
        "    larkfield.example. NS ns1.larkfield.example.",
        "have to go on serving for 60 s after that",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let json = workspace.run(&[&compare[..], &["--format", "json"]].concat()).ended(3).json();
    assert_fits(&schema("zone-compare"), &json);
    assert_eq!(json["name_server_change"]["name_servers"].as_array().unwrap().len(), 2);
    sandbox.secondary().freeze(false);
    let file = workspace.run(&["zone", "export", "larkfield.example"]).ended(0).stdout;
    workspace.write("larkfield.example.zone", &file);
    let plain = workspace.run(&["zone", "compare", "larkfield.example.zone", "larkfield.example"]).ended(0).stdout;
    assert!(!plain.contains("The zone above"), "{plain}");
}
