//! Manifests: one file, or several with values. Files end where a zero octet stands.

use std::collections::BTreeMap;

use pindrel_core::desired::resolve;
use pindrel_core::manifest::{Diagnostics, Manifest, Source, other_values, preamble, read_source, review};

use crate::texts;

/// The manifest that includes files.
const OWN: &str = r#"manifest = 1
[values]
domain = "larkfield.example"
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

/// Whatever stands in a manifest, it is read, and every mistake has a place in its file.
pub(crate) fn run(input: &[u8]) {
    let Ok(text) = std::str::from_utf8(input) else { return };
    let mut problems = Diagnostics::default();
    let values = preamble(text, &mut problems).values;
    let files = vec![("pindrel.toml".to_owned(), text.to_owned())];
    let source = Source::assemble(files, &values, &mut problems);
    let manifest = read_source(&source, &mut problems);
    review(&manifest, &mut problems);
    let _ = resolve(manifest, &mut problems);
    for problem in problems.into_sorted() {
        let (file, span) = source.locate(&problem.span);
        assert!(file == 0 && span.start <= span.end, "{problem:?}");
        assert!(!problem.message.is_empty() && !problem.message.contains('\n'), "{problem:?}");
    }
}

/// Whatever stands in included files, and in values, nothing but hostnames and certificate names comes out of them.
pub(crate) fn run_included(input: &[u8]) {
    let parts: Vec<&str> = input.split(|octet| *octet == 0).filter_map(|part| std::str::from_utf8(part).ok()).collect();
    let Some((first, rest)) = parts.split_first() else { return };
    let mut problems = Diagnostics::default();
    let mut values = preamble(OWN, &mut problems).values;
    values.extend(other_values(first, &mut Diagnostics::default()));
    let alone = beyond_names(read_all(&[], &values).0);
    let (manifest, source, problems) = read_all(rest, &values);
    assert_eq!(beyond_names(manifest), alone, "an included file says more than names");
    let files: Vec<&str> = source.files().map(|(_, text)| text).collect();
    for problem in problems.into_sorted() {
        let (file, span) = source.locate(&problem.span);
        assert!(span.end <= files[file].len(), "{problem:?} is placed at {span:?} of {} octets", files[file].len());
    }
}

fn read_all(included: &[&str], values: &BTreeMap<String, String>) -> (Manifest, Source, Diagnostics) {
    let mut problems = Diagnostics::default();
    let files = std::iter::once(OWN).chain(included.iter().copied()).enumerate();
    let files = files.map(|(number, text)| (format!("{number}.toml"), text.to_owned())).collect();
    let source = Source::assemble(files, values, &mut problems);
    let manifest = read_source(&source, &mut problems);
    (manifest, source, problems)
}

/// All but hostnames that are plain, and certificates that are names alone.
fn beyond_names(mut manifest: Manifest) -> String {
    manifest.hostnames.retain(|entry| {
        let is_plain_check = entry.health.as_ref().is_none_or(|health| {
            let request = &health.request;
            request.exchange.port.is_none()
                && request.exchange.is_tls
                && request.exchange.send.is_none()
                && request.roots.is_none()
        });
        entry.client_certificates.is_some() || !is_plain_check
    });
    manifest.certificates.retain(|entry| {
        let is_kept = entry.deliver.is_empty() && entry.after.is_empty() && entry.served_at.is_empty();
        !(is_kept && entry.key.is_none() && entry.authority.is_none() && entry.issued_roots.is_none())
    });
    manifest.mistaken.clear();
    format!("{manifest:?}")
}

pub(crate) fn seeds() -> Vec<Vec<u8>> {
    let more = "[hostname.\"api.${domain}\"]\nendpoint = \"x\"\nroutes = [{ prefix = \"/v1\", service = \"a\" }]\n\
                health = { url = \"https://api.larkfield.example/ready\", every = \"20s\" }\n\
                [certificate.c]\nnames = [\"c.larkfield.example\"]\ndeliver = [{ file = \"a.pem\", holds = [\"leaf\"] }]\n\
                [health.queue]\nof = [\"x\"]\nneed = 1\n[keep]\nlook_every = \"1h\"\n";
    let server = "[endpoint.web]\nkind = \"gateway\"\ndriver = \"nginx\"\nfolder = \"/etc/nginx/pindrel.d\"\n\
                  services = { a = [{ url = \"http://127.0.0.1:9001\", weight = 3 }] }\nlisten = [\"192.0.2.10:443\"]\n\
                  [zone.\"file.example\"]\ndriver = \"file\"\nfile = \"a.zone\"\nafter = [{ run = [\"true\"] }]\n";
    texts(&[OWN, &format!("{OWN}{more}"), &format!("{OWN}{server}")])
}

pub(crate) fn seeds_of_included() -> Vec<Vec<u8>> {
    texts(&[
        "domain = \"larkfield.test\"\0[hostname.\"a.${domain}\"]\nendpoint = \"x\"\nnote = \"n\"\n\0[certificate.c]\nnames = [\"c.${domain}\"]\n",
        "\0[hostname.a]\nnote = \"\"\"\n\0\"\"\"\n[endpoint.evil]\nkind = \"gateway\"\ndriver = \"program\"\nprogram = [\"sh\"]\n",
        "\0[hostname.\"a.larkfield.example\"]\nlabels = [\n\0]\n[certificate.c]\nafter = [{ run = [\"sh\"] }]\n",
        "\0[hostname.\"a.larkfield.example\"]\nhealth = { url = \"http://a.example:6379/\", method = \"POST\", send = \"x\" }\n",
        "\0[[hostname]]\n\0hostname = { \"a.example\" = { endpoint = \"x\", client_certificates = { roots = \"/x\" } } }\n",
    ])
}
