//! What platforms do otherwise: certificates of their own, client certificates, targets, the alias first.

use super::*;
use crate::endpoints::endpoint::{AskedRecord, AskedType, IssuedCertificate, KeepRecord, PlatformReply};
use crate::manifest::{Diagnostics, read};

pub(super) fn proof() -> AskedRecord {
    let name = "_proof.api.larkfield.example".parse().unwrap();
    AskedRecord { name, record_type: AskedType::Txt, value: "a1b2".into(), keep: KeepRecord::WhileBound }
}

/// The manifest with a line more in the table of its first hostname, and a file of roots.
fn desired_with(line: &str) -> Desired {
    let table = "[hostname.\"api.larkfield.example\"]\n";
    let mut problems = Diagnostics::default();
    let mut manifest = read(&MANIFEST.replace(table, &format!("{table}{line}\n")), &mut problems);
    manifest.trust_bundles.insert("clients.pem".into(), "roots".into());
    let desired = crate::desired::resolve(manifest, &mut problems);
    assert!(problems.is_empty(), "{problems:?}");
    desired
}

fn answered(status: u16) -> ClientOutcome {
    let address = "127.0.0.21:8443".parse().unwrap();
    let (location, body, samples) = (None, None, Vec::new());
    ClientOutcome::Answered { address, sha256: Fingerprint::of(b"leaf"), status, location, body, samples }
}

#[test]
fn a_client_without_a_certificate_is_refused_where_one_is_required() {
    let refused = || {
        let address = "127.0.0.21:8443".parse().unwrap();
        ClientOutcome::NoAnswer { address, sha256: Fingerprint::of(b"leaf"), why: Unreachable::Closed }
    };
    let required = "client_certificates = { roots = \"clients.pem\" }";
    let optional = "client_certificates = { roots = \"clients.pem\", need = \"optional\" }";
    let probed = "client_certificates = { roots = \"clients.pem\", probe_with = \"file:probe.pem\" }";
    // What the sample request got, and where one was made with a certificate, what one without got.
    let table = [
        (required, refused(), None, None),
        (required, answered(400), None, None),
        (required, answered(200), None, Some(Code::ClientCertificateNotRequired)),
        (required, answered(302), None, Some(Code::ClientCertificateNotRequired)),
        (probed, answered(200), Some(refused()), None),
        (probed, answered(200), Some(answered(200)), Some(Code::ClientCertificateNotRequired)),
        (probed, answered(403), Some(answered(403)), Some(Code::AnswerUnexpected)),
        (optional, answered(200), None, None),
        (optional, answered(400), None, Some(Code::AnswerUnexpected)),
        (optional, refused(), None, Some(Code::AnswerUnexpected)),
    ];
    for (n, (line, outcome, bare, expected)) in table.into_iter().enumerate() {
        let desired = desired_with(line);
        let mut scene = Scene::held(&desired);
        scene.answer.through[0].outcome = outcome;
        scene.answer.through[0].without_certificate = bare;
        let (pins, ..) = scene.look(&desired);
        let code = pins.answer.findings.first().map(|finding| finding.code());
        assert_eq!(code, expected, "row {n}");
        assert_eq!(pins.answer.state == PinState::Held, expected.is_none(), "row {n}");
    }
}

/// The service is asked at its endpoint before the alias leads there; afterwards clients are what counts.
#[test]
fn what_the_endpoint_answers_itself_counts_until_the_alias_leads_there() {
    let desired = desired_with(
        "routes = [{ prefix = \"/v1\", service = \"one\" }, { prefix = \"/v2\", service = \"two\", \
         expect = { status = \"204\", method = \"OPTIONS\", origin = \"https://larkfield.example\" } }]",
    );
    let samples: Vec<_> = desired.hostnames[0].all_samples().cloned().collect();
    assert_eq!(samples.iter().map(|sample| sample.path.as_str()).collect::<Vec<_>>(), ["/v1", "/v2"]);
    for (status, is_led, says) in [
        ([200, 204], false, None),
        (
            [200, 200],
            false,
            Some("OPTIONS https://api.larkfield.example/v2 at 127.0.0.21:8443: returned status 200, not 204"),
        ),
        ([500, 204], false, Some("https://api.larkfield.example/v1 at 127.0.0.21:8443: returned status 500")),
        ([500, 500], true, None),
    ] {
        let mut scene = Scene::held(&desired);
        if !is_led {
            scene.all_servers_give(&[]);
        }
        let address = "127.0.0.21:8443".parse().unwrap();
        let answers = samples.iter().zip(status).map(|(sample, status)| SampleAnswer {
            address,
            sample: sample.clone(),
            outcome: SampleOutcome::Answered { status, location: None, body: None },
        });
        if let BindingView::Present { served: ServedView::Certificate { samples, .. }, .. } = &mut scene.binding {
            samples.extend(answers);
        }
        let (pins, ..) = scene.look(&desired);
        assert_eq!(pins.binding.state == PinState::Held, says.is_none(), "{status:?}");
        assert_eq!(pins.binding.is_in_force(), says.is_none(), "{status:?}: the alias must not follow");
        if let Some(says) = says {
            assert!(pins.binding.findings[0].says().contains(says), "{:?}", pins.binding.findings[0]);
        }
    }
}

#[test]
fn an_endpoint_that_takes_older_versions_than_wanted_is_told_before_the_alias_follows() {
    // What the manifest says, how a client of TLS 1.2 was answered, and whether that is as it should be.
    for (line, status, held) in [
        ("minimum_tls = \"1.3\"", None, true),
        ("minimum_tls = \"1.3\"", Some(426), true),
        ("minimum_tls = \"1.3\"", Some(200), false),
        ("", Some(200), true),
    ] {
        let desired = desired_with(line);
        let mut scene = Scene::held(&desired);
        scene.all_servers_give(&[]);
        if let BindingView::Present { served: ServedView::Certificate { tls12_status, .. }, .. } = &mut scene.binding {
            *tls12_status = status;
        }
        let (pins, ..) = scene.look(&desired);
        let code = pins.binding.findings.first().map(|finding| finding.code());
        assert_eq!(code, (!held).then_some(Code::OldTlsServed), "{line} {status:?}");
    }
}

#[test]
fn a_certificate_of_the_platform_is_held_while_the_platform_renews_it() {
    let table = "[hostname.\"api.larkfield.example\"]";
    let declared = format!("[certificate.app]\nnames = [\"api.larkfield.example\"]\nissued_by = \"platform\"\n{table}");
    let desired = resolved(&MANIFEST.replace(table, &declared));
    let at = |days: i64| Timestamp::from_second(now().as_second() + days * 86_400).unwrap();
    let issued = |days| Some(IssuedCertificate { sha256: Fingerprint::of(b"theirs"), not_after: at(days) });
    // What the platform says it has issued, how far it is, and what becomes of the pin.
    let table = [
        (issued(60), Deployment::Deployed, PinState::Held, None),
        (None, Deployment::Deployed, PinState::Held, None),
        (None, Deployment::Deploying, PinState::Working, Some(Code::PlatformCertificateAwaited)),
        (issued(2), Deployment::Deployed, PinState::Blocked, Some(Code::CertificateDue)),
        (issued(-1), Deployment::Deployed, PinState::Blocked, Some(Code::CertificateExpired)),
    ];
    for (n, (issued, deployed, state, code)) in table.into_iter().enumerate() {
        let mut scene = Scene { certificate: None, ..Scene::held(&desired) };
        let wanted = desired.hostnames[0].binding(&desired, desired.hostnames[0].first_endpoint(), None);
        let sha256 = Fingerprint::of(b"theirs");
        scene.ownership.adopt_binding(desired.endpoints[0].key(), wanted.clone());
        let reply = PlatformReply { issued, ..PlatformReply::default() }.told();
        let (lacking, served) = (Vec::new(), ServedView::certificate(sha256));
        scene.binding = BindingView::Present { binding: wanted, deployment: deployed, reply, lacking, served };
        scene.outcome(|outcome| {
            if let ClientOutcome::Answered { sha256: got, .. } = outcome {
                *got = sha256;
            }
        });
        let (pins, outlook, steps) = scene.look(&desired);
        assert_eq!(pins.certificate.state, state, "row {n}: {:?}", pins.certificate);
        assert_eq!(pins.certificate.findings.first().map(|finding| finding.code()), code, "row {n}");
        assert_eq!(outlook == Outlook::Held, code.is_none(), "row {n}");
        assert!(!steps.contains(&"issue") && !steps.contains(&"store"), "row {n}: {steps:?}");
    }
    let absent = Scene { certificate: None, binding: BindingView::Absent, ..Scene::held(&desired) };
    if let EndpointView::Listed(info) = &absent.endpoint {
        assert!(!info.offers.issued_certificates);
    }
    assert_eq!(absent.look(&desired).0.binding.findings[0].code(), Code::NotOffered);
}

/// A platform that binds only what its alias leads to gets the alias first, and its certificate before that.
#[test]
fn the_alias_comes_first_where_a_platform_wants_it_and_the_plan_says_what_that_costs() {
    let desired = desired();
    let mut scene = Scene { certificate: None, binding: BindingView::Absent, ..Scene::held(&desired) };
    scene.all_servers_give(&[]);
    if let EndpointView::Listed(info) = &mut scene.endpoint {
        (info.alias_first, info.deploys_in_seconds) = (true, Some(90));
    }
    let knowledge = scene.knowledge(&desired);
    let mut planner = Planner::new(&desired, &knowledge, now());
    assert_eq!(planner.add_hostname(HostnameId(0)), Outlook::Steps);
    let steps = planner.into_steps();
    let actions: Vec<_> = steps.iter().map(|step| step.action).collect();
    assert_eq!(actions, ["issue", "store", "alias", "bind", "connect", "answer"]);
    assert!(steps[2].why.contains("about 90 s") && steps[2].why.contains("will not be answered"), "{}", steps[2].why);
    assert_eq!(steps[5].after, [3, 5], "an answer needs both");
}

#[test]
fn a_hostname_is_aliased_to_the_target_that_it_has_of_its_own() {
    let desired = desired();
    let mut scene = Scene::held(&desired);
    let target = "api-7f.own.edge.test";
    let is_held = |scene: &Scene| scene.look(&desired).0.alias.state;
    if let BindingView::Present { reply, .. } = &mut scene.binding {
        *reply = PlatformReply { target: Some(target.parse().unwrap()), ..PlatformReply::default() }.told();
    }
    assert_eq!(is_held(&scene), PinState::Loose, "it points at the endpoint's default name");
    scene.all_servers_give(&cname(target));
    scene.ownership.alias = written(cname(target));
    assert_eq!(is_held(&scene), PinState::Held);
}
