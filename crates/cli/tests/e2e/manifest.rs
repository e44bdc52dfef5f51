//! `check` and `init`.

use std::os::unix::fs::PermissionsExt as _;

use pindrel_testkit::{Workspace, dig};
use serde_json::Value;

use crate::commands::{assert_fits, schema};
use crate::{PINDREL, edit, one_name, quick, sandboxed};

/// A manifest with one mistake of each kind.
const MISTAKEN: &str = r#"manifest = 1

[defaults]
ttl = "ten minutes"

[authority.main]
directroy = "https://authority.example/directory"
contact = ["tls at larkfield"]
agree_to_terms = "yes"

[zone."larkfield.example"]
driver = "rfc2136"
servers = ["ns1.larkfield.example"]
tsig = { name = "pindrel.", algorithm = "hmac-sha256", secret = "c2VjcmV0LXBsYW50ZWQ=" }

[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "http://platform.example"
token = "env:ABSENT_TOKEN"
api_roots = "absent.pem"

[hostname."api.larkfield.example"]
endpoint = "catalog"

[hostname."API.larkfield.example"]
endpoint = "catalogue"

[hostname."api.elsewhere.example"]
endpoint = "catalogue"

[hostname."not a name"]
endpoint = "catalogue"

[hostname."*.stations.larkfield.example"]
endpoint = "catalogue"
routes = [{ prefix = "v1", service = 3 }]
"#;

#[test]
fn every_mistake_is_told_in_one_run_with_its_place() {
    let workspace = Workspace::new(PINDREL);
    workspace.write("pindrel.toml", MISTAKEN);
    let told = workspace.run(&["check"]).ended(2).stdout;
    assert!(told.contains("secret = \"****") && !told.contains("c2VjcmV0"), "a secret in clear is blotted out: {told}");
    let ran = workspace.run(&["check", "--format", "json"]).ended(2);
    let document = ran.json();
    let errors: Vec<(String, u64, u64)> = document["errors"]
        .as_array()
        .unwrap()
        .iter()
        .map(|error| {
            (
                error["code"].as_str().unwrap().to_owned(),
                error["line"].as_u64().unwrap(),
                error["column"].as_u64().unwrap(),
            )
        })
        .collect();
    let expected = [
        ("bad-value", 4, 7),
        ("unknown-key", 7, 1),
        ("bad-value", 8, 12),
        ("wrong-type", 9, 18),
        ("bad-value", 13, 12),
        ("secret-in-clear", 14, 65),
        ("bad-value", 19, 7),
        ("unknown-reference", 24, 12),
        ("duplicate", 26, 11),
        ("outside-zones", 29, 11),
        ("bad-name", 32, 11),
        ("missing-key", 35, 11),
        ("bad-value", 37, 22),
        ("wrong-type", 37, 38),
    ];
    // Each mistake once, and nothing that only follows from another.
    assert_eq!(errors, expected.map(|(code, line, column)| (code.to_owned(), line, column)));
    assert!(!ran.stdout.contains("c2VjcmV0LXBsYW50ZWQ="), "the secret in clear is not repeated");
    let text = workspace.run(&["check"]).ended(2);
    for part in [
        "pindrel.toml:7:1",
        "did you mean \"directory\"?",
        // What stands under a misspelt key may be a secret.
        "directroy = \"***********************************\"",
        "mistakes.",
    ] {
        assert!(text.stdout.contains(part), "{part} in {}", text.stdout);
    }
}

#[test]
fn references_are_followed_once_the_rest_is_right() {
    let workspace = Workspace::new(PINDREL);
    let mended = MISTAKEN
        .replace("ten minutes", "10m")
        .replace("directroy", "directory")
        .replace("tls at larkfield", "mailto:tls@larkfield.example")
        .replace("\"yes\"", "true")
        .replace("ns1.larkfield.example", "127.0.0.1")
        .replace("c2VjcmV0LXBsYW50ZWQ=", "file:absent.secret")
        .replace("http://platform", "https://platform")
        .replace("not a name", "also.larkfield.example")
        .replace("routes = [{ prefix = \"v1\", service = 3 }]", "probe_as = \"lowell\"");
    workspace.write("pindrel.toml", &mended);
    let document = workspace.run(&["check", "--format", "json"]).ended(2).json();
    let told = |kind: &str| -> Vec<(String, u64)> {
        let told = document[kind].as_array().unwrap().iter();
        told.map(|one| (one["code"].as_str().unwrap().to_owned(), one["line"].as_u64().unwrap())).collect()
    };
    let expected = [("unreadable-file", 21), ("unknown-reference", 24), ("duplicate", 26), ("outside-zones", 29)];
    assert_eq!(told("errors"), expected.map(|(code, line)| (code.to_owned(), line)));
    assert_eq!(document["errors"][1]["help"], "did you mean \"catalogue\"?");
    // Where the manifest is checked, its secrets need not be.
    let missing = told("warnings").into_iter().filter(|(code, _)| code == "unreadable-secret");
    assert_eq!(missing.map(|(_, line)| line).collect::<Vec<_>>(), [14, 20]);
}

#[test]
fn broken_text_is_told_with_its_place() {
    let workspace = Workspace::new(PINDREL);
    for (text, code, line) in [
        ("manifest = 1\n[hostname.\"a.larkfield.example\"\n", "syntax", 2),
        ("manifest = 1\n[zone.a]\n[zone.a]\n", "duplicate", 3),
        ("manifest = 2\n", "bad-value", 1),
        ("", "missing-key", 1),
    ] {
        workspace.write("pindrel.toml", text);
        let document = workspace.run(&["check", "--format", "json"]).ended(2).json();
        let errors = document["errors"].as_array().unwrap();
        let found = errors.iter().any(|error| error["code"] == code && error["line"] == line);
        assert!(found, "{code} at {line} in {errors:#?}");
    }
    std::fs::write(workspace.path().join("pindrel.toml"), b"manifest = 1\n\xff").unwrap();
    let ran = workspace.run(&["check"]).ended(2);
    assert!(ran.stderr.contains("byte 0xff in line 2"), "{}", ran.stderr);
}

#[test]
fn init_writes_what_check_accepts_and_overwrites_nothing() {
    let workspace = Workspace::new(PINDREL);
    for (hostname, more) in [
        ("api.larkfield.example", &["--server", "127.0.0.1:53", "--kind", "balancer", "--endpoint", "queue"][..]),
        ("larkfield.example", &[]),
        ("live.larkfield.example", &["--static", "--tsig", "observatory", "--resolver", "127.0.0.1:53"]),
        ("web-shop.larkfield.example.test", &["--nginx", "web", "--zone", "example.test", "--agree-to-terms"]),
        ("mail.larkfield.example.test", &["--certificate-only", "--zone", "example.test", "--agree-to-terms"]),
        (
            "*.stations.larkfield.example",
            &["--zone", "larkfield.example", "--authority", "https://127.0.0.1:14000/dir"],
        ),
    ] {
        let manifest = format!("{}/pindrel.toml", hostname.len());
        let args = [&["init", "--hostname", hostname, "-m", &manifest], more].concat();
        workspace.run(&args).ended(0);
        let codes = |status: i32, of: &str| {
            let document = workspace.run(&["check", "-m", &manifest, "--format", "json"]).ended(status).json();
            let found = document[of].as_array().unwrap().clone();
            found.into_iter().map(|found| found["code"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
        };
        let errors = codes(2, "errors");
        assert!(errors.iter().filter(|code| *code == "placeholder").count() >= 1, "{errors:?}");
        assert!(errors.iter().all(|code| code == "placeholder" || code == "bad-value"), "{errors:?}");
        let text = std::fs::read_to_string(workspace.path().join(&manifest)).unwrap();
        let filled = text
            .replace("<ADDRESS:PORT where it serves TLS>", "192.0.2.10:443")
            .replace("<the URL of a service behind it>", "http://127.0.0.1:9001")
            .replace("<the URL of the ACME directory>", "https://authority.example/directory")
            .replace("<the URL of the endpoint protocol>", "https://platform.example")
            .replace("<the name that aliases point at>", "edge7.vendor.test.")
            .replace("<an address of the endpoint>", "192.0.2.80")
            .replace("agree_to_terms = false", "agree_to_terms = true");
        workspace.write(&manifest, &filled);
        assert_eq!(codes(0, "errors"), [""; 0]);
        assert_eq!(codes(0, "warnings")[0], "placeholder-secret");
        workspace.run(&args).ended(2);
        let ignored = std::fs::read_to_string(workspace.path().join(&manifest).with_file_name(".gitignore")).unwrap();
        assert_eq!(ignored, ".pindrel/\nsecrets/\ntls/\n");
        let secrets = workspace.path().join(&manifest).with_file_name("secrets");
        assert_eq!(std::fs::metadata(secrets).unwrap().permissions().mode() & 0o777, 0o700);
    }
    workspace.run(&["init", "--hostname", "api.larkfield.example", "--zone", "other.example", "-m", "x.toml"]).ended(2);
}

/// A manifest of more than a megabyte is read block by block: what is said of it, and where,
/// must not show that.
#[test]
fn a_large_manifest_is_told_its_mistakes_at_their_places() {
    let workspace = Workspace::new(PINDREL);
    let mut text = MISTAKEN.split("[hostname.").next().unwrap().replace("ten minutes", "10m").to_owned();
    let known = places(&workspace, &text);
    for n in 0..11_000 {
        text.push_str(&format!(
            "\n[hostname.\"t{n}.larkfield.example\"]\nendpoint = \"catalogue\"\nnote = \"station {n} of the survey, é\"\n"
        ));
        if n == 4_000 {
            text.push_str("ttl = \"soon\"\n");
        }
    }
    assert!(text.len() > 1 << 20);
    let line = |part: &str| text.lines().position(|line| line.contains(part)).unwrap() + 1;
    let own = |places: Vec<(String, usize)>| -> Vec<(String, usize)> {
        places.into_iter().filter(|place| !known.contains(place)).collect()
    };
    assert_eq!(own(places(&workspace, &text)), [("bad-value".to_owned(), line("soon"))]);
    // A name twice, and a text that is broken at its very end: only the whole explains them.
    let twice = format!("{text}\n[hostname.\"t7.larkfield.example\"]\nendpoint = \"catalogue\"\n");
    let last = twice.lines().count();
    assert!(own(places(&workspace, &twice)).contains(&("duplicate".to_owned(), last - 1)));
    let torn = format!("{text}[hostname.\"torn.larkfield.example\n");
    let last = torn.lines().count();
    assert!(own(places(&workspace, &torn)).contains(&("syntax".to_owned(), last)));
}

/// Checks a text, and returns the code and the line of every mistake.
fn places(workspace: &Workspace, text: &str) -> Vec<(String, usize)> {
    workspace.write("pindrel.toml", text);
    let document = workspace.run(&["check", "--format", "json"]).ended(2).json();
    let place = |error: &Value| {
        let line = usize::try_from(error["line"].as_u64().unwrap()).unwrap();
        (error["code"].as_str().unwrap().to_owned(), line)
    };
    document["errors"].as_array().unwrap().iter().map(place).collect()
}

#[test]
fn what_can_never_be_delivered_is_found_before_anything_is_issued() {
    let workspace = Workspace::new(PINDREL);
    // The state is not there yet: what would be written over it is known all the same.
    std::fs::create_dir(workspace.path().join("tls")).unwrap();
    std::os::unix::fs::symlink("elsewhere.pem", workspace.path().join("tls/link.pem")).unwrap();
    let pipe = workspace.path().join("tls/pipe.pem");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().is_ok_and(|status| status.success()));
    workspace.write("tsig.secret", "not base64!\n");
    workspace.write("edge.token", "planted-token\n");
    let head = "manifest = 1\n[authority.main]\ndirectory = \"https://authority.example/directory\"\nagree_to_terms = true\n
        [zone.\"larkfield.example\"]\ndriver = \"rfc2136\"\ntsig = { name = \"pindrel.\", secret = \"file:tsig.secret\" }\n
        [endpoint.home]\nkind = \"gateway\"\ndriver = \"http\"\nurl = \"https://platform.example\"\ntoken = \"file:edge.token\"\n
        [certificate.edge]\nnames = [\"edge.larkfield.example\"]\n";
    let found = |deliver: &str, of: &str| -> Vec<String> {
        workspace.write("pindrel.toml", &format!("{head}deliver = [{{ {deliver} }}]\n"));
        let document = workspace.run(&["check", "--format", "json", "--state", "kept.sqlite"]).json();
        let codes = document[of].as_array().unwrap().iter().map(|found| found["code"].as_str().unwrap().to_owned());
        codes.collect()
    };
    for file in [
        "tls",
        "pindrel.toml",
        "tls/../edge.token",
        ".pindrel/state.sqlite",
        ".pindrel/sealing.key",
        "kept.sqlite",
        "kept.sqlite-wal",
        "tls/../sealing.key",
        "tls/link.pem",
        "tls/pipe.pem",
    ] {
        let errors = found(&format!("file = \"{file}\", holds = [\"leaf\"]"), "errors");
        assert_eq!(errors, ["unusable-secret", "bad-delivery"], "{file}");
    }
    workspace.write("tsig.secret", "c2VjcmV0\n");
    for (deliver, expected) in [
        ("file = \"none/edge.pem\", holds = [\"leaf\"]", "missing-folder"),
        ("file = \"tls/edge.pem\", holds = [\"leaf\"], owner = \"nobody-at-all\"", "unknown-owner"),
        ("file = \"tls/edge.key\", holds = [\"key\"], mode = \"0644\"", "open-key"),
        ("file = \"tls/edge.pem\", holds = [\"leaf\"]", "unverified-delivery"),
    ] {
        let warnings = found(deliver, "warnings");
        assert!(warnings.iter().any(|code| code == expected), "{deliver}: {warnings:?}");
        assert_eq!(found(deliver, "errors"), [""; 0], "{deliver}");
    }
}

/// A manifest in several files, with values, is one manifest: every mistake is told in the file that it stands in.
#[tokio::test(flavor = "multi_thread")]
async fn several_files_and_values_make_one_manifest() {
    let (workspace, _sandbox) =
        sandboxed(quick(), |manifest, listing| manifest.endpoint(listing, "catalogue", "gateway")).await;
    let text = workspace.read("pindrel.toml");
    let head = "manifest = 1\n";
    assert!(text.contains(head));
    let more = "[values]\nsite = \"lowell\"\n[hostname.\"${site}.larkfield.example\"]\nendpoint = \"catalogue\"\n";
    let text = text.replace(head, &format!("{head}include = [\"stations/*.toml\"]\n"));
    workspace.write("pindrel.toml", &format!("{text}{more}"));
    let missing = workspace.run(&["check"]).ended(2);
    assert!(missing.stdout.contains("there is no file \"stations/*.toml\""), "{}", missing.stdout);
    let station = |name: &str| format!("# {name}\n[hostname.\"{name}.larkfield.example\"]\nendpoint = \"catalogue\"\n");
    workspace.write("stations/b.toml", &station("beta"));
    workspace.write("stations/a.toml", &station("${site}-two"));
    workspace.run(&["check"]).ended(0);
    workspace.run(&["settle", "-q"]).ended(0);
    let names = |args: &[&str]| -> Vec<String> {
        let status = workspace.run(&[&["status", "--format", "json"][..], args].concat()).json();
        let hostnames = status["hostnames"].as_array().unwrap().clone();
        hostnames.iter().map(|one| one["hostname"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(names(&[]), ["lowell.larkfield.example", "lowell-two.larkfield.example", "beta.larkfield.example"]);
    workspace.write("practice.toml", "site = \"trial\"\n");
    assert_eq!(names(&["--values", "practice.toml", "--state", "practice.sqlite"])[1], "trial-two.larkfield.example");
    workspace.write("practice.toml", "sitte = \"trial\"\n");
    let typo = workspace.run(&["check", "--values", "practice.toml"]).ended(2);
    assert!(typo.stderr.contains("Did you mean \"site\"?"), "{}", typo.stderr);
    // Each mistake in its own file, at its own line, as it is written there.
    workspace.write("stations/b.toml", &format!("{}rutes = []\n", station("beta")));
    workspace.write("stations/c.toml", "[zone.\"other.example\"]\ndriver = \"none\"\n[hostname.\"${sitte}.larkfield.example\"]\nendpoint = \"nowhere\"\n");
    let json = workspace.run(&["check", "--format", "json"]).ended(2).json();
    let told: Vec<_> = json["errors"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let file = one["file"].as_str().unwrap().rsplit('/').next().unwrap().to_owned();
            (file, one["line"].as_u64().unwrap(), one["code"].as_str().unwrap().to_owned())
        })
        .collect();
    let expected = [("b.toml", 4, "unknown-key"), ("c.toml", 1, "bad-include"), ("c.toml", 3, "unknown-value")];
    for (file, line, code) in expected {
        assert!(told.contains(&(file.to_owned(), line, code.to_owned())), "{file}:{line} {code}: {told:?}");
    }
    let shown = workspace.run(&["check"]).ended(2).stdout;
    assert!(shown.contains("${sitte}.larkfield.example") && shown.contains("did you mean ${site}?"), "{shown}");
}

/// Whatever the manifest depends on is looked at, and nothing is changed by that.
#[tokio::test(flavor = "multi_thread")]
async fn check_online_tells_what_cannot_be_used_before_anything_is_done() {
    let (workspace, sandbox) = sandboxed(quick(), one_name).await;
    let online = ["check", "--online", "--format", "json"];
    let schema = schema("check");
    let serial = || dig(sandbox.listing().primary, "larkfield.example", "SOA");
    let before = serial();
    let found = |status: i32| -> Vec<String> {
        let document = workspace.run(&online).ended(status).json();
        assert_fits(&schema, &document);
        let reports = document["online"].as_array().unwrap().clone();
        let codes = reports.iter().flat_map(|report| report["findings"].as_array().unwrap().clone());
        codes.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(found(0), [""; 0]);
    let told = workspace.run(&["check", "--online"]).ended(0).stdout;
    for part in ["all 2 rights that it needs tried", "may change every name", "1 of 1 can be issued", "2 warnings"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert_eq!(serial(), before, "the zone is as it was");
    sandbox.primary().add_caa("larkfield.example", "issue", "elsewhere.test");
    assert_eq!(found(3), ["caa-forbids"]);
    let secret = workspace.read("sandbox/tsig.secret");
    workspace.write("sandbox/tsig.secret", "d3JvbmcgYnV0IHZhbGlkIGJhc2U2NCwgMzIgb2N0ZXRzIQ==");
    workspace.write("sandbox/edge.token", "nobody knows this one");
    assert_eq!(found(3), ["update-refused", "caa-forbids", "platform-refuses"]);
    let told = workspace.run(&["check", "--online"]).ended(3).stdout;
    assert!(told.contains("BADSIG") && !told.contains(secret.trim()) && !told.contains("nobody knows"), "{told}");
    // What is a warning at its line without --online is a finding with it, and reported once.
    workspace.write("sandbox/tsig.secret", &secret);
    let own = "\n[certificate.mail]\nnames = [\"mail.larkfield.example\"]\ndeliver = [{ file = \"none/mail.pem\", holds = [\"leaf\"] }]\n";
    workspace.write("pindrel.toml", &(workspace.read("pindrel.toml") + own));
    for (args, online) in [(&["check"][..], false), (&["check", "--online"], true)] {
        let told = workspace.run(args).stdout;
        assert_eq!((told.contains("[missing-folder]"), told.matches("mkdir -p").count()), (!online, 1), "{told}");
    }
    edit(&workspace, "manifest = 1", "manifest = 2");
    let wrong = workspace.run(&online).ended(2).json();
    assert!(wrong.get("online").is_none(), "nothing is asked for a manifest that has mistakes: {wrong}");
}

/// People read names in Unicode, programs and servers A-labels; a name that deceives is told and stays an A-label.
#[tokio::test(flavor = "multi_thread")]
async fn internationalised_names_are_shown_in_unicode_and_sent_as_labels() {
    let (workspace, _sandbox) = sandboxed(quick(), one_name).await;
    let names = [("sternwärte", "xn--sternwrte-02a", true), ("аpi", "xn--pi-6kc", false)];
    for (label, ascii, is_shown) in names {
        let manifest = workspace.read("pindrel.toml").replace("api.larkfield", &format!("{label}.larkfield"));
        workspace.write("named.toml", &manifest);
        let run = |args: &[&str], status| workspace.run(&[&["-m", "named.toml"], args].concat()).ended(status);
        let checked = run(&["check"], 0).stdout;
        assert_eq!(checked.contains("mixes letters of several scripts"), !is_shown, "{checked}");
        let steps = run(&["settle", "--dry-run"], 3).stdout;
        let shown = |text: &str| (text.contains(label), text.contains(ascii));
        assert_eq!(shown(&steps), (is_shown, !is_shown), "{steps}");
        let column_of = |text: &str| {
            let line = steps.lines().find(|line| line.contains(text)).unwrap();
            line[..line.find(text).unwrap()].chars().count()
        };
        assert_eq!(column_of("gateway catalogue"), column_of("no account at this"), "{steps}");
        let json = run(&["settle", "--dry-run", "--format", "json"], 3).stdout;
        assert_eq!(shown(&json), (false, true), "{json}");
        run(&["status", "--only", &format!("{label}.larkfield.example")], 3);
    }
}
