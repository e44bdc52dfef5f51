//! What programs rely on: the JSON contracts, exit statuses, and the shell's interfaces.

use std::collections::BTreeMap;
use std::path::Path;

use pindrel_testkit::Workspace;
use serde_json::{Value, json};

use crate::{PINDREL, one_name, quick, sandboxed};

pub(crate) fn schema(of: &str) -> jsonschema::Validator {
    let workspace = Workspace::new(PINDREL);
    let schema = workspace.run(&["schema", of]).ended(0).json();
    assert_eq!(schema["$schema"], "https://json-schema.org/draft/2020-12/schema");
    jsonschema::validator_for(&schema).unwrap()
}

#[track_caller]
pub(crate) fn assert_fits(schema: &jsonschema::Validator, document: &Value) {
    let errors: Vec<String> =
        schema.iter_errors(document).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(errors.is_empty(), "{errors:#?}\n{document:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_written_fits_its_schema_and_touches_nothing_it_should_not() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    assert_fits(&schema("check"), &workspace.run(&["check", "--format", "json"]).ended(0).json());

    let plan = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(3).json();
    assert_fits(&schema("steps"), &plan);
    let actions: Vec<&str> =
        plan["steps"].as_array().unwrap().iter().map(|step| step["action"].as_str().unwrap()).collect();
    assert_eq!(actions, ["register", "issue", "store", "bind", "connect", "alias", "answer"]);
    assert_eq!((sandbox.authority().requests(), sandbox.platform().writes()), (0, 0), "a dry run touches nothing");

    let status = workspace.run(&["status", "--format", "json"]).ended(3).json();
    assert_fits(&schema("status"), &status);
    let ran = workspace.run(&["settle", "--format", "json"]).ended(0);
    let event = schema("event");
    ran.events().iter().for_each(|line| assert_fits(&event, line));
    assert!(ran.summary()["waited_seconds"].as_f64().unwrap() > 0.0);
    let status = workspace.run(&["status", "--format", "json"]).ended(0).json();
    assert_fits(&schema("status"), &status);
    assert_eq!((&status["held"], &status["total"]), (&json!(1), &json!(1)));
    assert_eq!(status["hostnames"][0]["pins"]["answer"]["status"], 200);
    let none = workspace.run(&["settle", "--dry-run", "--format", "json"]).ended(0).json();
    assert_eq!(none["steps"], json!([]));

    let csv = workspace.run(&["status", "--format", "csv"]).ended(0).stdout;
    let mut lines = csv.lines();
    let heads = "hostname,endpoints,zone,certificate,binding,alias,answer,expires,held,given,given_since,given_because,\
                 caches_until";
    assert_eq!(lines.next(), Some(heads));
    let row = lines.next().unwrap();
    assert!(row.starts_with("api.larkfield.example,catalogue,held,held,held,held,held,20"), "{row}");
    assert!(row.ends_with(",true,catalogue,,it is the only endpoint,"), "{row}");
}

/// What a program reads that typed something wrong has the form of `check`, whatever was wrong.
#[tokio::test(flavor = "multi_thread")]
async fn errors_of_every_command_have_one_form() {
    let (workspace, _sandbox) = sandboxed(quick(), one_name).await;
    let check = schema("check");
    std::fs::write(workspace.path().join("latin.toml"), b"manifest = 1\n# \xe4\n").unwrap();
    workspace.write("broken.toml", "manifest = 1\nzone = 3\n");
    workspace.write("a.zone", "$TTL 300\n@ SOA\n");
    for (args, status, code) in [
        (&["settle", "--absent"][..], 2, "usage"),
        (&["settle", "--undo", "zero"], 2, "usage"),
        (&["absent"], 2, "usage"),
        (&["status", "--only", "absent.larkfield.example"], 2, "usage"),
        (&["settle", "--state", "absent://"], 2, "usage"),
        (&["status", "-m", "absent.toml"], 2, "no-manifest"),
        (&["keep", "-m", "latin.toml"], 2, "encoding"),
        (&["settle", "-m", "broken.toml"], 2, "wrong-type"),
        (&["settle", "--reviewed", "absent.plan"], 1, "file"),
        (&["settle", "--reviewed", "pindrel.toml"], 2, "usage"),
        (&["zone", "check", "a.zone"], 1, "bad-data"),
        (&["cert", "import", "absent", "--chain", "absent.pem"], 2, "usage"),
    ] {
        let ran = workspace.run(&[args, &["--format", "json"]].concat());
        assert_eq!(ran.status, status, "{args:?}: {}{}", ran.stdout, ran.stderr);
        let document = ran.json();
        assert_fits(&check, &document);
        assert_eq!(document["errors"][0]["code"], code, "{args:?}: {document}");
        if code == "encoding" {
            assert_eq!(
                (&document["errors"][0]["file"], &document["errors"][0]["line"]),
                (&json!("latin.toml"), &json!(2))
            );
        }
    }
}

/// A plan that somebody has read is carried out as it was read, or not at all.
#[tokio::test(flavor = "multi_thread")]
async fn a_reviewed_plan_is_carried_out_exactly() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    workspace.run(&["settle", "--dry-run", "--out", "plan.json"]).ended(3);
    let reviewed = &["settle", "--reviewed", "plan.json", "--format", "json"];
    let manifest = workspace.read("pindrel.toml");
    let event = schema("event");
    // Another TTL, and another hostname.
    for (more, how) in
        [("ttl = \"3m\"\n", "changed"), ("[hostname.\"more.larkfield.example\"]\nendpoint = \"catalogue\"\n", "added")]
    {
        workspace.write("pindrel.toml", &format!("{manifest}{more}"));
        let events = workspace.run(reviewed).ended(3).events();
        events.iter().for_each(|line| assert_fits(&event, line));
        let differs = events.last().unwrap();
        assert_eq!((&differs["event"], &differs["differences"][0]["how"]), (&json!("differs"), &json!(how)));
        assert_eq!((sandbox.authority().requests(), sandbox.platform().writes()), (0, 0), "nothing is done");
    }
    workspace.write("pindrel.toml", &format!("# What says nothing else.\n{manifest}"));
    let events = workspace.run(reviewed).ended(0).events();
    assert!(events.iter().all(|event| event["at"].is_string()), "{events:#?}");
    let ended: Vec<&str> = events
        .iter()
        .filter(|event| event["event"] == "step_ended" && event["target"].is_string())
        .map(|event| event["action"].as_str().unwrap())
        .collect();
    assert_eq!(ended, ["register", "issue", "store", "bind", "connect", "alias", "answer"]);
    // What is done is not done again.
    let gone = workspace.run(reviewed).ended(3).events();
    assert_eq!(gone.last().unwrap()["differences"].as_array().map(Vec::len), Some(7));

    // A plan to take away what a run has added takes it away, and begins nothing where it is another by now.
    let undo = ["settle", "--undo", "1", "--dry-run", "--out", "undo.json"];
    workspace.run(&undo).ended(3);
    let undo = &["settle", "--reviewed", "undo.json", "--now"];
    let plan = workspace.read("undo.json");
    workspace.write("undo.json", &plan.replace("remove-alias", "remove-aliases"));
    workspace.run(undo).ended(3);
    workspace.run(&["settle", "--dry-run"]).ended(0);
}

/// Each step begins once and ends once, and each hostname's come in the order that protects
/// traffic: nothing is bound before its certificate is there, and no alias points at what
/// does not answer yet.
#[tokio::test(flavor = "multi_thread")]
async fn the_events_of_a_run_tell_an_order_that_protects_traffic() {
    let names: Vec<String> = (0..6).map(|n| format!("t{n}.larkfield.example")).collect();
    let (workspace, _sandbox) = sandboxed(quick(), |manifest, listing| {
        let start = manifest.endpoint(listing, "catalogue", "gateway");
        names.iter().fold(start, |manifest, name| manifest.hostname(name, "catalogue", ""))
    })
    .await;
    let events = workspace.run(&["settle", "--format", "json"]).ended(0).events();
    let mut open: BTreeMap<u64, usize> = BTreeMap::new();
    // Where each hostname's step began and ended, by what it does.
    let mut done: BTreeMap<(&str, &str), (usize, usize)> = BTreeMap::new();
    for (at, event) in events.iter().enumerate() {
        let text = |key: &str| event[key].as_str().unwrap();
        match text("event") {
            "step_started" => assert_eq!(open.insert(event["id"].as_u64().unwrap(), at), None, "{event}"),
            "step_ended" => {
                let begun = open.remove(&event["id"].as_u64().unwrap()).unwrap();
                assert_eq!(done.insert((text("hostname"), text("action")), (begun, at)), None, "{event}");
            }
            "step_failed" => panic!("{event}"),
            _ => {}
        }
    }
    assert_eq!((open.len(), done.len()), (0, 1 + 6 * names.len()), "one account, and six steps each");
    for name in &names {
        let order = ["issue", "store", "bind", "connect", "alias", "answer"];
        for pair in order.windows(2) {
            let [(_, ended), (begun, _)] = [pair[0], pair[1]].map(|action| done[&(name.as_str(), action)]);
            assert!(ended < begun, "{name}: {} ended at {ended}, {} began at {begun}", pair[0], pair[1]);
        }
    }
    let summary = events.last().unwrap();
    assert_eq!((&summary["event"], &summary["held"]), (&json!("summary"), &json!(6)));
    // They do not wait for each other: the last is ordered before the first is through.
    let began = |action| names.iter().map(|name| done[&(name.as_str(), action)].0).collect::<Vec<_>>();
    assert!(began("issue").iter().max() < began("answer").iter().min());
}

/// The schema takes what the reader takes, and refuses what it refuses for a key's place or its driver.
#[test]
fn the_schema_of_the_manifest_accepts_the_demo_and_refuses_what_the_reader_refuses() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let schema = schema("manifest");
    let demo: Value = toml::from_str(&std::fs::read_to_string(root.join("demo/pindrel.toml")).unwrap()).unwrap();
    assert_fits(&schema, &demo);
    let zone = demo["zone"].as_object().unwrap().keys().next().unwrap().clone();
    let endpoint = demo["endpoint"].as_object().unwrap().keys().next().unwrap().clone();
    for (place, value) in [
        (format!("/zone/{zone}/url"), json!("https://powerdns.example")),
        (format!("/zone/{zone}/frobnicate"), json!(true)),
        (format!("/endpoint/{endpoint}/listen"), json!(["192.0.2.1:443"])),
        (format!("/endpoint/{endpoint}/calls_per_second"), json!(0)),
        ("/defaults/ttl".to_owned(), json!(600)),
    ] {
        let mut wrong = demo.clone();
        let (table, key) = place.rsplit_once('/').unwrap();
        wrong.pointer_mut(table).unwrap()[key] = value;
        assert!(!schema.is_valid(&wrong), "{place}");
    }
}

#[test]
fn every_finding_is_documented() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let findings = std::fs::read_to_string(docs.join("findings.md")).unwrap();
    let row = |line: &str| {
        let (code, rest) = line.strip_prefix("| `")?.split_once("` | ")?;
        Some(format!("{code} {}", rest.split(' ').next()?))
    };
    let documented: Vec<String> = findings.lines().filter_map(row).collect();
    let known = pindrel_core::judging::findings::Code::ALL.iter().map(|code| format!("{code} {}", code.pin().as_str()));
    let known: Vec<String> = known.collect();
    assert_eq!(documented, known);
}

#[test]
fn the_shells_interfaces_come_out_whole() {
    let workspace = Workspace::new(PINDREL);
    for shell in ["bash", "elvish", "fish", "powershell", "zsh"] {
        let script = workspace.run(&["completions", shell]).ended(0).stdout;
        assert!(script.contains("PINDREL_COMPLETE") && script.contains("pindrel"), "{shell}: {script}");
    }
    assert!(workspace.run(&["man"]).ended(0).stdout.contains(".TH pindrel 1"));
    workspace.run(&["man", "--folder", "man"]).ended(0);
    assert!(workspace.path().join("man/pindrel-settle.1").exists());
    workspace.run(&["status", "--format", "yaml"]).ended(2);
    workspace.run(&["settle"]).ended(2);
    assert!(workspace.run(&["--version"]).ended(0).stdout.starts_with("pindrel "));
    // A shell that asks what may follow is told the names of the manifest that the line is about.
    let mut asked = Workspace::new(PINDREL);
    asked.write("survey.toml", include_str!("../../../../demo/pindrel.toml"));
    asked.set("PINDREL_COMPLETE", "bash");
    asked.set("_CLAP_IFS", "\n");
    for (line, offered, not_offered) in [
        ("pindrel sta", "status", "settle"),
        ("pindrel -m survey.toml cert show sta", "stations", "api.larkfield.example"),
        ("pindrel --manifest=survey.toml settle --only api", "api.larkfield.example", "stations"),
        ("pindrel cert show a", "", "api.larkfield.example"),
    ] {
        let words: Vec<&str> = line.split(' ').collect();
        asked.set("_CLAP_COMPLETE_INDEX", &(words.len() - 1).to_string());
        let told = asked.run(&[&["--"], &words[..]].concat()).ended(0).stdout;
        assert!(told.contains(offered) && !told.contains(not_offered), "{line}: {told}");
    }
    let mut coloured = Workspace::new(PINDREL);
    coloured.set("NO_COLOR", "1");
    assert!(!coloured.run(&["check"]).stderr.contains('\u{1b}'));
    assert!(coloured.run(&["check", "--color", "always"]).stderr.contains('\u{1b}'));
}
