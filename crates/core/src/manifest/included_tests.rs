//! What comes out of included files, whatever stands in them.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::{Diagnostics, Manifest, Source, read_source};

const OWN: &str = r#"manifest = 1
[authority.main]
directory = "https://a.example/"
agree_to_terms = true
[zone."larkfield.example"]
driver = "none"
[endpoint.x]
kind = "gateway"
driver = "static"
default_name = "x.vendor.test."
addresses = ["192.0.2.80"]
"#;

/// Reads a manifest that includes some texts; returns it with the mistakes: file, the text at their place, message.
fn included(texts: &[&str]) -> (Manifest, Vec<(usize, String, String)>) {
    let mut problems = Diagnostics::default();
    let files = std::iter::once(OWN).chain(texts.iter().copied()).enumerate();
    let files: Vec<_> = files.map(|(n, text)| (format!("{n}.toml"), text.to_owned())).collect();
    let source = Source::assemble(files.clone(), &BTreeMap::new(), &mut problems);
    let manifest = read_source(&source, &mut problems);
    let told = problems.into_sorted().into_iter().map(|problem| {
        let (file, span) = source.locate(&problem.span);
        (file, files[file].1.get(span).unwrap_or("?").to_owned(), problem.message)
    });
    (manifest, told.collect())
}

/// What must be the same with and without included files: all but hostnames, and certificates that are names alone.
fn beyond_names(mut manifest: Manifest) -> String {
    manifest.hostnames.retain(|entry| entry.client_certificates.is_some());
    manifest.certificates.retain(|entry| {
        !(entry.deliver.is_empty() && entry.after.is_empty() && entry.served_at.is_empty() && entry.key.is_none())
    });
    manifest.mistaken.clear();
    format!("{manifest:?}")
}

#[test]
fn an_included_file_decides_over_hostnames_alone() {
    let probe = r#"{ url = "http://a.example:6379/", method = "POST", send = "QUIT" }"#;
    let probing = format!("[hostname.\"a.example\"]\nhealth = {probe}\n");
    let table: [(&str, &[(&str, &str)]); 11] = [
        ("[hostname.\"a.example\"]\nendpoint = \"x\"\n[certificate.c]\nnames = [\"a.example\"]\n", &[]),
        ("[zone.\"a.example\"]\ndriver = \"none\"\n", &[("zone", "may not hold \"zone\"")]),
        ("[authority.main]\ndirectory = \"https://x.example\"\n", &[("authority", "may not hold \"authority\"")]),
        (
            "[certificate.c]\nnames = [\"a.example\"]\nafter = [{ run = [\"rm\"] }]\n",
            &[("after", "\"after\" may not stand")],
        ),
        ("endpoint = \"y\"\n", &[("endpoint", "may not hold \"endpoint\"")]),
        ("# nothing yet\n\n", &[]),
        (
            "[hostname.\"a.example\"]\nclient_certificates = { roots = \"/x\" }\n",
            &[("client_certificates", "may not stand")],
        ),
        // A check leads to no other port, and sends nothing of its own.
        ("[hostname.\"a.example\"]\nhealth = { path = \"/ready\", every = \"5s\" }\n", &[]),
        (&probing, &[(probe, "own port"), ("method", "\"method\" may not stand"), ("send", "\"send\" may not stand")]),
        (
            "[hostname.\"a.example\"]\nhealth = \"https://a.example:6379/\"\nhealth_terms = { roots = \"/x\" }\n",
            &[("\"https://a.example:6379/\"", "own port"), ("roots", "\"roots\" may not stand")],
        ),
        ("[hostname.\"a.example\"]\nhealth = \"http://a.example/\"\n", &[("\"http://a.example/\"", "over HTTPS")]),
    ];
    for (text, expected) in table {
        let (manifest, told) = included(&[text]);
        assert_eq!(told.len(), expected.len(), "{text}: {told:?}");
        for ((file, at, message), (place, says)) in told.iter().zip(expected) {
            assert_eq!((*file, at.as_str()), (1, *place), "{text}");
            assert!(message.contains(says), "{message}");
        }
        let is_empty = manifest.hostnames.is_empty() && manifest.certificates.is_empty();
        assert!(expected.is_empty() || is_empty, "nothing comes of a table with what may not stand there: {text}");
    }
    let (_, told) = included(&["[certificate.c]\nnames = [\"a.example\"]\n"; 2]);
    assert_eq!(told, [(2, "c".to_owned(), "[certificate.c] is given twice".to_owned())]);
}

/// What one file leaves open, the next must not close: a text, a list, a header.
#[test]
fn a_value_that_one_file_leaves_open_ends_with_it() {
    let evil = "[endpoint.evil]\nkind = \"gateway\"\ndriver = \"program\"\nprogram = [\"sh\", \"-c\", \"id\"]\n";
    let plain = beyond_names(included(&[]).0);
    for (open, close) in [("note = \"\"\"", "\"\"\""), ("note = '''", "'''"), ("labels = [", "]"), ("[hostname.b", "]")]
    {
        let first = format!("[hostname.\"a.larkfield.example\"]\nendpoint = \"x\"\n{open}\n");
        let (manifest, told) = included(&[&first, &format!("{close}\n{evil}")]);
        assert!(told.iter().any(|(file, _, message)| *file == 1 && message.contains("not valid TOML")), "{told:?}");
        assert_eq!(beyond_names(manifest), plain, "{open}");
    }
}

/// Pieces of manifests, whole and torn.
const PIECES: [&str; 18] = [
    "\"\"\"",
    "'''",
    "]",
    "}",
    "\n",
    "note = \"\"\"\n",
    "labels = [\n",
    "shares = { a = 1\n",
    "endpoint = \"x\"\n",
    "[hostname.\"a.larkfield.example\"]\n",
    "[hostname.\"b.larkfield.example\"]\nendpoint = \"x\"\n",
    "[[hostname]]\n",
    "[certificate.c]\nnames = [\"c.larkfield.example\"]\n",
    "after = [{ run = [\"sh\"] }]\n",
    "deliver = [{ file = \"/etc/x\" }]\n",
    "[endpoint.evil]\nkind = \"gateway\"\ndriver = \"program\"\nprogram = [\"sh\"]\n",
    "[defaults]\nendpoint = \"x\"\n",
    "client_certificates = { roots = \"/x\" }\n",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]

    /// Whatever stands in included files, in whatever order, large or small: all else stays as the manifest says.
    #[test]
    fn nothing_but_names_comes_out_of_included_files(
        pieces in prop::collection::vec((0usize..2, prop::sample::select(&PIECES[..])), 0..12),
        is_large in prop::bool::weighted(0.01),
    ) {
        let mut files = [String::new(), String::new()];
        for (file, piece) in pieces {
            files[file].push_str(piece);
        }
        if is_large {
            files[0].push_str(&"# a long file is read in blocks\n".repeat(40_000));
        }
        let (manifest, _) = included(&[&files[0], &files[1]]);
        prop_assert_eq!(beyond_names(manifest), beyond_names(included(&[]).0));
    }
}
