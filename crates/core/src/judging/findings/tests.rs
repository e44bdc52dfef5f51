use super::*;

fn hostname(name: &str) -> Hostname {
    name.parse().unwrap()
}

/// What is stored is read back as the same, and with its words by whoever knows no causes, or not this one.
#[test]
fn a_stored_finding_is_the_same_and_readable_by_other_versions() {
    let api = hostname("api.larkfield.example");
    let finding = Finding::binding(
        &api,
        "catalogue",
        BindingCause::Former { until: Some("2026-12-01T00:00:00Z".parse().unwrap()) },
    );
    let text = serde_json::to_string(&StoredFinding::from(&finding)).unwrap();
    let read = |text: &str| Finding::from(serde_json::from_str::<StoredFinding>(text).unwrap());
    assert_eq!(read(&text), finding);
    let of_another_version = text.replace("\"former\"", "\"former-of-tomorrow\"");
    let before = serde_json::to_string(&finding).unwrap();
    for other in [of_another_version, before] {
        let read = read(&other);
        assert_ne!(read, finding);
        assert_eq!(
            (read.code(), read.pin(), read.again(), read.words()),
            (finding.code(), finding.pin(), finding.again(), finding.words())
        );
    }
}

/// Makes a finding about a hostname.
type Make<'m> = &'m dyn Fn(&Hostname) -> Finding;

/// Findings that differ in a name alone are alike, and read so.
#[test]
fn what_differs_by_the_name_alone_is_alike() {
    let [one, other] = ["one.larkfield.example", "other.larkfield.example"].map(hostname);
    let missing = |hostname: &Hostname| Finding::binding(hostname, "catalogue", BindingCause::Missing);
    let reported = |hostname: &Hostname| {
        let says = format!("https://edge.test/bindings/{hostname} refused the binding");
        let subject = Subject::Binding { hostname: hostname.clone(), endpoint: "catalogue".into() };
        Finding::reported(Report::new(Code::PlatformRefuses, says, "Correct it")).about(subject)
    };
    let certificate = |hostname: &Hostname| {
        let name = CertificateName { name: hostname.to_string(), first: Some(hostname.clone()), others: 0 };
        Finding::certificate(name, CertificateCause::Missing(Renewal::Settle))
    };
    let table: [(Make<'_>, &str); 3] = [
        (&missing, "the endpoint catalogue has no binding of each"),
        (&reported, "https://edge.test/bindings/each refused the binding"),
        (&certificate, "there is no certificate for each yet"),
    ];
    for (make, says) in table {
        let (first, second) = (make(&one), make(&other));
        assert_eq!(first.alike(one.as_str()), second.alike(other.as_str()));
        assert_ne!(first.alike(other.as_str()), second.alike(one.as_str()));
        assert_eq!(first.words_of_each(one.as_str()).says, says);
        assert!(first.says().contains(one.as_str()));
    }
    let elsewhere = Finding::binding(&one, "reports", BindingCause::Missing);
    assert_ne!(missing(&one).alike(one.as_str()), elsewhere.alike(one.as_str()));
    let remedy = Finding::alias(&one, AliasCause::ConflictHidden).words_of_each(one.as_str()).remedy;
    assert!(remedy.contains("dig HOSTNAME ANY"), "{remedy}");
}
