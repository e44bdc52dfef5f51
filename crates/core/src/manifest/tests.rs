//! The reader and the resolver together: each mistake with its code, its place and its
//! help; each key with what becomes of it.

use std::time::Duration;

use super::*;
use crate::certificates::budget::{Per, Spending};
use crate::certificates::delivery::Piece;
use crate::certificates::renewal::RenewalRule;
use crate::desired::{Desired, resolve};

pub(super) const GOOD: &str = r#"manifest = 1

[defaults]
authority = "main"

[authority.main]
directory = "https://authority.example/directory"
agree_to_terms = true

[zone."larkfield.example"]
driver = "rfc2136"
tsig = { name = "pindrel.", secret = "env:TSIG_SECRET" }

[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:EDGE_TOKEN"

[certificate.stations]
names = ["stations.larkfield.example"]

[hostname."api.larkfield.example"]
endpoint = "catalogue"
"#;

pub(super) fn examine(text: &str) -> (Desired, Vec<Diagnostic>) {
    let mut problems = Diagnostics::default();
    let desired = resolve(read(text, &mut problems), &mut problems);
    (desired, problems.into_sorted())
}

/// Reads the good manifest with further lines in one of its tables.
fn with(table: &str, lines: &str) -> (Desired, Vec<Diagnostic>) {
    let header = format!("[{table}]\n");
    assert!(GOOD.contains(&header), "{table}");
    examine(&GOOD.replace(&header, &format!("{header}{lines}\n")))
}

#[test]
fn the_manifest_that_the_others_change_is_right() {
    let (desired, problems) = examine(GOOD);
    assert_eq!(problems, []);
    assert_eq!((desired.hostnames.len(), desired.certificates.len()), (1, 2));
    assert_eq!(desired.unused_certificates().len(), 1);
}

#[test]
fn one_slip_is_one_mistake() {
    for (text, code, says, help) in [
        (
            GOOD.replace("[hostname.\"api.larkfield.example\"]", "[hostname.api.larkfield.example]"),
            "bad-name",
            "the name \"api.larkfield.example\" is written without quotation marks",
            "write [hostname.\"api.larkfield.example\"]",
        ),
        // What a misspelt key means is read, so that nothing is said to be missing.
        (
            format!("{GOOD}endpoints = [\"catalogue\", \"other\"]\npolcy = \"standby\"\n")
                .replace("\nendpoint = \"catalogue\"\nendpoints", "\nendpoints")
                + "health = { path = \"/\" }\n[endpoint.other]\nkind = \"gateway\"\ndriver = \"http\"\n\
                   url = \"https://other.example\"\ntoken = \"env:EDGE_TOKEN\"\n",
            "unknown-key",
            "has no key \"polcy\"",
            "did you mean \"policy\"?",
        ),
        (
            GOOD.replace("agree_to_terms", "agree_to_term"),
            "unknown-key",
            "has no key \"agree_to_term\"",
            "did you mean \"agree_to_terms\"?",
        ),
        (
            GOOD.replace("\n[hostname", "after = [\"reload\"]\n\n[hostname"),
            "wrong-type",
            "each of \"after\" must be a table, not a string",
            "write after = [{ run = … }]",
        ),
    ] {
        let (_, problems) = examine(&text);
        let told: Vec<_> =
            problems.iter().map(|found| (found.code, found.message.as_str(), found.help.as_deref())).collect();
        assert!(
            matches!(&told[..], [(own, message, own_help)]
                if *own == code && message.contains(says) && *own_help == Some(help)),
            "{told:#?}"
        );
    }
}

/// A table, lines that are wrong in it, the code, and a part of what is said.
const MISTAKES: &[(&str, &str, &str, &str)] = &[
    (
        "hostname.\"api.larkfield.example\"",
        "routes = [{ prefix = \"/v1\", service = \"one\" }, { prefix = \"/v1/\", service = \"two\" }]",
        "duplicate",
        "the prefix /v1/ is given twice",
    ),
    (
        "hostname.\"api.larkfield.example\"",
        "expect = { origin = \"larkfield.example\" }",
        "bad-value",
        "is not an origin",
    ),
    ("hostname.\"api.larkfield.example\"", "expect = { method = \"POST\" }", "bad-value", "\"POST\""),
    ("hostname.\"api.larkfield.example\"", "client_certificates = { need = \"required\" }", "missing-key", "\"roots\""),
    ("certificate.stations", "issued_by = \"platform\"", "unused-certificate", "no hostname uses it"),
    ("authority.main", "limits = 4", "wrong-type", "\"limits\" must be a list of tables"),
    (
        "authority.main",
        "limits = [{ count = 1, of = \"order\", per = \"account\" }]",
        "missing-key",
        "needs the key \"within\"",
    ),
    (
        "authority.main",
        "limits = [{ count = 0, of = \"order\", per = \"account\", within = \"1h\" }]",
        "bad-value",
        "out of range",
    ),
    (
        "authority.main",
        "limits = [{ count = \"4\", of = \"order\", per = \"account\", within = \"1h\" }]",
        "wrong-type",
        "a whole number",
    ),
    (
        "authority.main",
        "limits = [{ count = 4, of = \"orders\", per = \"account\", within = \"1h\" }]",
        "bad-value",
        "\"orders\" does not name what a limit counts",
    ),
    (
        "authority.main",
        "limits = [{ count = 4, of = \"order\", per = \"month\", within = \"1h\" }]",
        "bad-value",
        "\"month\" does not name what a limit counts for",
    ),
    (
        "authority.main",
        "limits = [{ count = 4, of = \"order\", per = \"account\", within = \"90d\" }]",
        "bad-value",
        "from 1s to 60d",
    ),
    (
        "authority.main",
        "limits = [{ count = 4, of = \"order\", per = \"account\", within = \"1h\", reserve = 4 }]",
        "bad-value",
        "leaves nothing for new certificates",
    ),
    (
        "authority.main",
        "limits = [{ count = 4, each = 1, of = \"order\", per = \"account\", within = \"1h\" }]",
        "unknown-key",
        "has no key \"each\"",
    ),
    ("authority.main", "rehearsal = \"main\"", "bad-value", "cannot be its own rehearsal"),
    ("authority.main", "rehearsal = \"practise\"", "unknown-reference", "there is no [authority.practise]"),
    ("authority.main", "account_key = \"dsa\"", "bad-value", "not a supported kind of key"),
    (
        "authority.main",
        "external_account_key = { id = \"a\", secret = \"env:A\", algorithm = \"md5\" }",
        "bad-value",
        "not a MAC of an external account key",
    ),
    (
        "authority.main",
        "external_account_key = { id = \"a\", secret = \"hunter2\" }",
        "secret-in-clear",
        "must say where the secret is",
    ),
    ("zone.\"larkfield.example\"", "least_wait = \"soon\"", "bad-value", "\"soon\" is not a duration"),
    ("zone.\"larkfield.example\"", "least_wait = \"\"\"so\non\"\"\"", "bad-value", "\"so on\" is not a duration"),
    ("zone.\"larkfield.example\"", "least_wait = \"2h\"", "bad-value", "\"least_wait\" is at most 1h"),
    ("zone.\"larkfield.example\"", "challenge_ttl = \"1d\"", "bad-value", "\"challenge_ttl\" is at most 1h"),
    ("authority.main", "caa_identities = [\"not a name\"]", "bad-value", "not a"),
    ("zone.\"larkfield.example\"", "least_wait = 5", "wrong-type", "must be a string, not a whole number"),
    ("defaults", "key = \"ed25519\"", "bad-value", "no authority issues for a key of the kind ed25519"),
    ("defaults", "renew = \"-3d\"", "bad-value", "not a duration"),
    ("certificate.stations", "key = \"rsa-1024\"", "bad-value", "not a supported kind of key"),
    ("certificate.stations", "issued_by = \"nobody\"", "bad-value", "is not an issuer of certificates"),
    ("certificate.stations", "issued_by = \"elsewhere\"\nauthority = \"main\"", "bad-value", "has no ACME authority"),
    ("certificate.stations", "reuse_key = \"yes\"", "wrong-type", "must be true or false"),
    ("certificate.stations", "deliver = [{ holds = [\"key\"] }]", "missing-key", "needs the key \"file\""),
    ("certificate.stations", "deliver = [{ file = \"a\" }]", "missing-key", "needs the key \"holds\""),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"root\"] }]",
        "bad-value",
        "\"root\" is not a part of a certificate",
    ),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"pkcs12\"] }]",
        "missing-key",
        "needs the key \"password\"",
    ),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"pkcs12\", \"key\"], password = \"env:P\" }]",
        "bad-value",
        "already holds the key and the chain",
    ),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"key\"], mode = \"rw\" }]",
        "bad-value",
        "not permission bits",
    ),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"pkcs12\"], password = \"hunter2\" }]",
        "secret-in-clear",
        "must say where the secret is",
    ),
    (
        "certificate.stations",
        "deliver = [{ file = \"a\", holds = [\"key\"] }, { file = \"./b/../a\", holds = [\"leaf\"] }]",
        "duplicate",
        "./b/../a is delivered twice",
    ),
    ("certificate.stations", "after = [{ run = [\"reload\"], within = \"2h\" }]", "bad-value", "from 1s to 1h"),
    ("endpoint.catalogue", "port = 8443", "unknown-key", "\"port\" belongs to the driver \"static\" and \"haproxy\""),
    ("certificate.stations", "served_at = [\"mail:465\"]", "bad-value", "invalid socket address"),
    (
        "hostname.\"api.larkfield.example\"",
        "routes = [{ prefix = \"/v1\", service = \"a\" }, { prefix = \"/v1\", service = \"b\" }]",
        "duplicate",
        "/v1 is given twice",
    ),
    ("certificate.stations", "after = [{ run = \"reload\" }]", "wrong-type", "\"run\" must be a list of strings"),
    ("certificate.stations", "after = [{ run = [] }]", "missing-key", "needs the key \"run\""),
    ("certificate.stations", "after = [{ run = [\"reload\"], within = \"long\" }]", "bad-value", "not a duration"),
    ("certificate.stations", "label = [\"a\"]", "unknown-key", "has no key \"label\""),
    ("hostname.\"api.larkfield.example\"", "labels = \"public\"", "wrong-type", "a list of strings"),
    ("hostname.\"api.larkfield.example\"", "note = [\"public\"]", "wrong-type", "must be a string, not a list"),
    (
        "hostname.\"api.larkfield.example\"",
        "certificate = \"stations\"",
        "not-covered",
        "does not cover api.larkfield.example",
    ),
];

#[test]
fn each_mistake_is_told_once_with_its_place_and_what_to_write() {
    for (table, lines, code, says) in MISTAKES {
        let (_, problems) = with(table, lines);
        let told: Vec<_> = problems.iter().filter(|problem| problem.message.contains(says)).collect();
        assert_eq!((told.len(), problems.len()), (1, 1), "{lines}: {problems:?}");
        assert_eq!(told[0].code, *code, "{lines}");
        assert!(told[0].help.as_ref().is_some_and(|help| !help.is_empty()), "{lines}");
        assert!(!told[0].message.contains("hunter2"), "a secret is never repeated");
    }
}

#[test]
fn a_hundred_names_are_one_too_few_to_refuse() {
    let names = |count: usize| {
        let names: Vec<String> = (0..count).map(|n| format!("n{n}.larkfield.example")).collect();
        examine(&GOOD.replace("names = [\"stations.larkfield.example\"]", &format!("names = {names:?}"))).1
    };
    assert_eq!(names(100), []);
    assert!(names(101)[0].message.contains("at most 100 names"));
}

#[test]
fn every_key_of_a_certificate_arrives() {
    let (desired, problems) = with(
        "certificate.stations",
        r#"key = "rsa-3072"
reuse_key = true
renew = "20d"
profile = "month"
chain_root = "Some root"
labels = ["survey"]
note = "for the partners"
deliver = [
  { file = "a.pem", holds = ["key", "leaf", "intermediates"], owner = "edge", group = "tls" },
  { file = "b.pem", holds = ["leaf"], mode = "0640" },
  { file = "c.p12", holds = ["pkcs12"], password = "file:p12.secret" },
]
after = [{ run = ["systemctl", "reload", "edge"], within = "2m" }, { run = ["true"] }]"#,
    );
    assert_eq!(problems, []);
    let id = desired.certificate_named("stations").unwrap();
    let terms = &desired.certificate(id).terms;
    assert_eq!((terms.key, terms.reuse_key), (crate::values::KeyKind::Rsa3072, true));
    assert_eq!(terms.renewal, RenewalRule::Before(Duration::from_secs(20 * 86_400)));
    assert_eq!((terms.profile.as_deref(), terms.chain_root.as_deref()), (Some("month"), Some("Some root")));
    let modes: Vec<u32> = terms.deliveries.iter().map(|delivery| delivery.mode.bits()).collect();
    assert_eq!(modes, [0o600, 0o640, 0o600], "what holds a key is its owner's alone unless said");
    assert_eq!(terms.deliveries[0].contents, Contents::Pem(vec![Piece::Key, Piece::Leaf, Piece::Intermediates]));
    assert_eq!(
        (terms.deliveries[0].owner.as_deref(), terms.deliveries[0].group.as_deref()),
        (Some("edge"), Some("tls"))
    );
    assert_eq!(terms.after[0].to_string(), "systemctl reload edge");
    assert_eq!((terms.after[0].within, terms.after[1].within), (Duration::from_secs(120), Duration::from_secs(300)));
    let manifest = read(&GOOD.replace("[certificate.stations]", "[certificate.stations]\ndeliver = [{ file = \"c\", holds = [\"pkcs12\"], password = \"file:p12.secret\" }]"), &mut Diagnostics::default());
    assert_eq!(manifest.secrets().count(), 3, "a password is tried by check like any secret");
}

#[test]
fn every_key_of_an_authority_arrives() {
    let (desired, problems) = with(
        "authority.main",
        r#"account_key = "ed25519"
profile = "week"
limits = [
  { count = 50, of = "certificate", per = "registered-domain", within = "7d" },
  { count = 4, of = "failed-validation", per = "hostname", within = "1h" },
  { count = 20, of = "order", per = "names", within = "3h", reserve = 5 },
]
external_account_key = { id = "observatory-1", secret = "env:EAB", algorithm = "hmac-sha512" }"#,
    );
    assert_eq!(problems, []);
    let authority = &desired.authorities[0];
    let limits: Vec<_> = authority.limits.iter().map(|limit| (limit.of, limit.per, limit.reserve)).collect();
    let expected = [
        (Spending::Certificate, Per::RegisteredDomain, 5),
        (Spending::FailedValidation, Per::Hostname, 0),
        (Spending::Order, Per::Names, 5),
    ];
    assert_eq!(limits, expected, "a tenth is kept for renewals unless said");
    assert_eq!(authority.account_key, crate::values::KeyKind::Ed25519);
    assert_eq!(authority.external_account_key.as_ref().unwrap().algorithm, MacAlgorithm::Hs512);
}

#[test]
fn defaults_reach_certificates_that_say_nothing_and_no_others() {
    let (desired, problems) = with("defaults", "key = \"rsa-2048\"\nrenew = \"10d\"");
    assert_eq!(problems, []);
    let implied = desired.certificate(desired.hostnames[0].certificate);
    assert_eq!((implied.terms.key, implied.name.as_str()), (crate::values::KeyKind::Rsa2048, "api.larkfield.example"));
    let (desired, _) = examine(
        &GOOD
            .replace("[defaults]\n", "[defaults]\nkey = \"rsa-2048\"\n")
            .replace("[certificate.stations]\n", "[certificate.stations]\nkey = \"ecdsa-p384\"\n"),
    );
    assert_eq!(desired.certificates[0].terms.key, crate::values::KeyKind::EcdsaP384);
}

#[test]
fn what_is_wanted_changes_its_digest_and_a_note_alone_does_not() {
    let digest = |text: &str| {
        let (desired, problems) = examine(text);
        assert_eq!(problems, []);
        let id = desired.hostname_ids().next().unwrap();
        desired.digests().of(&desired, id)
    };
    let first = digest(GOOD);
    assert_eq!(first, digest(&GOOD.replace("[endpoint.catalogue]", "# a comment\n[endpoint.catalogue]")));
    assert_eq!(
        first,
        digest(&GOOD.replace("endpoint = \"catalogue\"", "endpoint = \"catalogue\"\nnote = \"x\"\nlabels = [\"y\"]"))
    );
    for (written, instead) in [
        ("endpoint = \"catalogue\"", "endpoint = \"catalogue\"\nttl = \"5m\""),
        ("[defaults]\n", "[defaults]\nkey = \"rsa-2048\"\n"),
        ("[defaults]\n", "[defaults]\nrenew = \"9d\"\n"),
        ("https://authority.example", "https://other.example"),
        ("https://platform.example", "https://other.example"),
        ("[authority.main]\n", "[authority.main]\nprofile = \"week\"\n"),
    ] {
        assert_ne!(first, digest(&GOOD.replace(written, instead)), "{instead}");
    }
}

#[test]
fn a_bought_certificate_needs_no_zone_of_ours() {
    let bought = "[certificate.sold]\nnames = [\"www.elsewhere.example\"]\nissued_by = \"elsewhere\"\n\n";
    assert_eq!(examine(&format!("{GOOD}\n{bought}")).1, []);
    let ordered = bought.replace("issued_by = \"elsewhere\"\n", "");
    assert_eq!(examine(&format!("{GOOD}\n{ordered}")).1[0].code, "outside-zones");
}

mod any_order {
    use proptest::prelude::*;

    use super::*;

    /// Everything that is wanted of each name, whatever its place among the others.
    fn wanted(text: &str) -> Vec<String> {
        let (desired, problems) = examine(text);
        assert_eq!(problems, [], "{text}");
        let digests = desired.digests();
        let mut wanted: Vec<String> = desired
            .hostname_ids()
            .map(|id| format!("{} {}", desired.hostname(id).hostname, digests.of(&desired, id)))
            .chain(
                desired.certificates.iter().map(|certificate| format!("{} {:?}", certificate.name, certificate.names)),
            )
            .collect();
        wanted.sort();
        wanted
    }

    proptest! {
        /// The order of the tables says nothing: what is wanted is the same.
        #[test]
        fn of_the_tables_wants_the_same(seed in prop::collection::vec(any::<u16>(), 10)) {
            let more = "[hostname.\"shop.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"5m\"\n\n\
                [hostname.\"larkfield.example\"]\nendpoint = \"catalogue\"\n\n\
                [hostname.\"stations.larkfield.example\"]\nendpoint = \"catalogue\"\ncertificate = \"stations\"\n";
            let whole = format!("{GOOD}\n{more}");
            let mut tables: Vec<&str> = whole.split("\n\n").collect();
            let root = tables.remove(0);
            let mut order: Vec<(u16, &str)> = seed.into_iter().zip(tables).collect();
            order.sort();
            let shuffled: Vec<&str> = order.into_iter().map(|(_, table)| table).collect();
            prop_assert_eq!(wanted(&whole), wanted(&format!("{root}\n\n{}", shuffled.join("\n\n"))));
        }
    }
}

mod any_text {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// No text makes the reader panic, and every place lies within it.
        #[test]
        fn is_read_without_a_panic(cut in 0usize..700, inserted in "[\\[\\]{}=\"#a-z0-9\\n. ]{0,12}") {
            let mut at = cut.min(GOOD.len());
            while !GOOD.is_char_boundary(at) {
                at -= 1;
            }
            let text = format!("{}{inserted}{}", &GOOD[..at], &GOOD[at..]);
            let (_, problems) = examine(&text);
            for problem in problems {
                prop_assert!(problem.span.start <= text.len());
                let place = LineIndex::new(&text).place(problem.span.start);
                prop_assert!(place.line >= 1 && place.column >= 1);
            }
        }
    }
}

/// The tables of an endpoint on this machine or behind a program: what is wrong, and a part of what is said.
#[test]
fn an_endpoint_is_told_what_its_driver_lacks_or_does_not_know() {
    const NGINX: &str = "driver = \"nginx\"\nfolder = \"web\"\nlisten = [\"192.0.2.10\"]\nservices = { one = \"http://127.0.0.1:9001\" }\n";
    const HAPROXY: &str = "driver = \"haproxy\"\nsocket = \"s\"\nfolder = \"f\"\naddresses = [\"192.0.2.20\"]\n";
    const PROGRAM: &str = "driver = \"program\"\nprogram = [\"python3\", \"adapter.py\"]\n";
    let table: &[(&str, &[(&str, &str)])] = &[
        (NGINX, &[]),
        (HAPROXY, &[]),
        (PROGRAM, &[]),
        (&format!("{PROGRAM}token = \"env:SHOP_TOKEN\"\ncalls_per_second = 5\nid = \"shop\"\n"), &[]),
        (&format!("{PROGRAM}token = \"s3cret\"\n"), &[("secret-in-clear", "must say where the secret is")]),
        (
            &format!("{PROGRAM}url = \"https://platform.example\"\n"),
            &[("unknown-key", "belongs to the driver \"http\"")],
        ),
        ("driver = \"program\"\n", &[("missing-key", "\"program\"")]),
        ("driver = \"program\"\nprogram = []\n", &[("bad-value", "names no program")]),
        ("driver = \"program\"\nprogram = [\"\"]\n", &[("bad-value", "names no program")]),
        ("driver = \"program\"\nprogram = \"adapter.py\"\n", &[("wrong-type", "must be a list of strings")]),
        (&HAPROXY.replace("\"f\"", "\"with space\""), &[("bad-value", "cannot be named in a command of the balancer")]),
        (&HAPROXY.replace("socket = \"s\"\n", ""), &[("missing-key", "\"socket\"")]),
        (&format!("{HAPROXY}port = 0\n"), &[("bad-value", "port")]),
        (&NGINX.replace("192.0.2.10", "0.0.0.0"), &[("bad-value", "is every address")]),
        (
            &NGINX.replace("[\"192.0.2.10\"]", "[\"192.0.2.10\", \"192.0.2.11:8443\"]"),
            &[("bad-value", "has another port than")],
        ),
        (&NGINX.replace("one =", "\"o{ne\" ="), &[("bad-name", "is not a name for a service")]),
        (&format!("{NGINX}service = \"two\"\n"), &[("unknown-reference", "there is no service \"two\"")]),
        ("driver = \"nginx\"\n", &[("missing-key", "folder"), ("missing-key", "listen"), ("missing-key", "services")]),
        ("driver = \"static\"\n", &[("missing-key", "default_name"), ("missing-key", "addresses")]),
        ("driver = \"ngnix\"\n", &[("bad-value", "nginx")]),
    ];
    for (lines, expected) in table {
        let text = format!("{GOOD}\n[endpoint.shop]\nkind = \"gateway\"\n{lines}");
        let (_, problems) = examine(&text);
        let told: Vec<String> = problems.iter().map(|problem| format!("{} {problem:?}", problem.code)).collect();
        assert_eq!(told.len(), expected.len(), "{lines}: {told:#?}");
        for (code, part) in *expected {
            let is_told = |told: &String| told.starts_with(code) && told.replace("\\\"", "\"").contains(part);
            assert!(told.iter().any(is_told), "{lines}: {code} {part}: {told:#?}");
        }
    }
}

/// What works and may not be meant: lines of the hostname or the endpoint, and the code of the warning.
#[test]
fn what_may_not_be_meant_is_told_and_what_is_meant_is_not() {
    let route =
        |prefix: &str, service: &str, more: &str| format!("{{ prefix = \"{prefix}\", service = \"{service}\"{more} }}");
    let routes = |routes: &[String]| format!("routes = [{}]", routes.join(", "));
    let hostname = "hostname.\"api.larkfield.example\"";
    let clients =
        |more: &str| format!("client_certificates = {{ roots = \"clients.pem\"{more} }}\nexpect = {{ path = \"/a\" }}");
    let table = [
        (hostname, routes(&[route("/v1", "one", ""), route("/v1/old", "two", "")]), None),
        (hostname, routes(&[route("/v1", "one", ""), route("/v1/old", "one", "")]), Some("idle-route")),
        (
            hostname,
            routes(&[route("/v1/old/x", "one", ""), route("/v1/old", "two", ""), route("/v1", "one", "")]),
            None,
        ),
        (hostname, routes(&[route("/", "one", ""), route("/a", "one", ", release = \"live\"")]), None),
        (hostname, routes(&[route("/v1", "one", ""), route("/v10", "one", "")]), None),
        (hostname, routes(&[route("/v1", "one", ", expect = { path = \"/v1/ready?all=1\" }")]), None),
        (hostname, routes(&[route("/v1", "one", ", expect = { path = \"/v2\" }")]), Some("unrouted-sample")),
        (hostname, clients(""), Some("unverified-expectation")),
        (hostname, clients(", need = \"optional\""), None),
        (hostname, clients(", probe_with = \"file:probe.pem\""), None),
        ("endpoint.catalogue", "origin = { scheme = \"http\" }".into(), Some("open-origin")),
        ("endpoint.catalogue", "origin = { verify = false }".into(), Some("open-origin")),
        ("endpoint.catalogue", "origin = { server_name = \"origin.larkfield.example\" }".into(), None),
    ];
    for (table, lines, expected) in table {
        let header = format!("[{table}]\n");
        let (mut problems, mut warnings) = (Diagnostics::default(), Diagnostics::default());
        let manifest = read(&GOOD.replace(&header, &format!("{header}{lines}\n")), &mut problems);
        review(&manifest, &mut warnings);
        assert!(problems.is_empty(), "{lines}: {problems:?}");
        let codes: Vec<_> = warnings.into_sorted().into_iter().map(|warning| warning.code).collect();
        assert_eq!(codes, expected.into_iter().collect::<Vec<_>>(), "{lines}");
    }
}
