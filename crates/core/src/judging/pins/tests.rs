//! One hostname, all that can be known of it, and what follows for pins and steps.

use std::net::IpAddr;

use jiff::Timestamp;

use super::*;
use crate::certificates::delivery::Undelivered;
use crate::desired::{AuthorityId, HostnameId, resolved};
use crate::endpoints::endpoint::{CustomHostnames, Deployment, EndpointInfo, EndpointKind, NameLeads};
use crate::judging::facts::Origin;
use crate::judging::facts::*;
use crate::judging::findings::{AuthorityCause, Code};
use crate::planning::plan::{Goal, Outlook, Planner, Step};
use crate::values::KeyKind;
use crate::values::{Serial, Ttl};
use crate::zones::records::{RecordData, RecordSet};

mod platforms;
mod zones;

const MANIFEST: &str = r#"
manifest = 1
[authority.main]
directory = "https://authority.example/directory"
agree_to_terms = true
[zone."larkfield.example"]
driver = "rfc2136"
servers = ["127.0.0.3:53", "127.0.0.4:53"]
tsig = { name = "pindrel", secret = "env:SECRET" }
[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:TOKEN"
[hostname."api.larkfield.example"]
endpoint = "catalogue"
[hostname."larkfield.example"]
endpoint = "catalogue"
also = ["www.larkfield.example"]
"#;

/// All that is known of one hostname; each test changes one thing of a world in which
/// it is held.
#[derive(Clone)]
struct Scene {
    zone: ZoneView,
    endpoint: EndpointView,
    certificate: Option<HeldCertificate>,
    undelivered: Undelivered,
    binding: BindingView,
    alias: AliasView,
    answer: AnswerView,
    ownership: Ownership,
}

fn now() -> Timestamp {
    Timestamp::from_second(1_800_000_000).unwrap()
}

fn desired() -> Desired {
    resolved(MANIFEST)
}

fn address(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn cname(target: &str) -> Vec<RecordSet> {
    RecordSet::group([(Ttl::TEN_MINUTES, RecordData::Cname(target.parse().unwrap()))])
}

fn written<T>(made: T) -> Written<T> {
    Written { made: Some(made), ..Written::default() }
}

const TARGET: &str = "gw-1.north.edge.test";

impl Scene {
    fn held(desired: &Desired) -> Scene {
        let wanted = &desired.hostnames[0];
        let sha256 = Fingerprint::of(b"leaf");
        let name_servers: Vec<_> =
            ["ns1", "ns2"].iter().map(|host| format!("{host}.larkfield.example").parse().unwrap()).collect();
        let servers = &desired.zones[0].servers;
        let serves = |server: &std::net::SocketAddr| ServerView {
            server: *server,
            status: ServerStatus::Serves { serial: Serial(1), name_servers: name_servers.clone() },
        };
        let day = |days: i64| Timestamp::from_second(now().as_second() + days * 86_400).unwrap();
        Scene {
            zone: ZoneView::plain(
                DelegationView::Delegated {
                    by: "127.0.0.2:53".parse().unwrap(),
                    name_servers: name_servers.clone(),
                    addresses: vec![address("127.0.0.3"), address("127.0.0.4")],
                },
                servers.iter().map(serves).collect(),
            ),
            endpoint: EndpointView::Listed(Box::new(EndpointInfo {
                default_name: Some(TARGET.parse().unwrap()),
                port: 8443,
                ..EndpointInfo::plain("catalogue", EndpointKind::Gateway, "north", vec![address("127.0.0.21")])
            })),
            certificate: Some(HeldCertificate::issued(sha256, wanted.hostname.clone(), day(-10)..day(80))),
            undelivered: Undelivered::default(),
            binding: BindingView::Present {
                binding: wanted.binding(desired, wanted.first_endpoint(), Some(sha256)),
                deployment: Deployment::Deployed,
                reply: None,
                lacking: Vec::new(),
                served: ServedView::certificate(sha256),
            },
            alias: AliasView::of(
                servers.iter().map(|server| ServerRecords { server: *server, gives: Ok(cname(TARGET)) }).collect(),
            ),
            answer: AnswerView {
                through: vec![ResolverAnswer {
                    resolver: "127.0.0.5:53".parse().unwrap(),
                    outcome: ClientOutcome::Answered {
                        address: "127.0.0.21:8443".parse().unwrap(),
                        sha256,
                        status: 200,
                        location: None,
                        body: None,
                        samples: Vec::new(),
                    },
                    without_certificate: None,
                }],
            },
            ownership: Ownership {
                alias: written(cname(TARGET)),
                bindings: [(
                    desired.endpoints[0].key(),
                    written(wanted.binding(desired, wanted.first_endpoint(), Some(sha256))),
                )]
                .into(),
                ..Ownership::default()
            },
        }
    }

    /// How the hostname's own sample request is answered at its endpoint.
    fn sample_answers(&mut self, outcome: SampleOutcome) {
        if let BindingView::Present { served: ServedView::Certificate { samples, .. }, .. } = &mut self.binding {
            let sample = crate::endpoints::expectation::Expectation::at("/");
            samples.push(SampleAnswer { address: "127.0.0.21:8443".parse().unwrap(), sample, outcome });
        }
    }

    /// What is known in this scene, for every hostname of the manifest.
    fn knowledge(&self, desired: &Desired) -> Knowledge {
        let seen = now();
        let facts = HostnameFacts {
            bindings: [(desired.endpoints[0].key(), Fact { seen, value: self.binding.clone() })].into(),
            alias: Some(Fact { seen, value: self.alias.clone() }),
            answer: Some(Fact { seen, value: self.answer.clone() }),
        };
        let own = HostnameKnowledge { facts, ownership: self.ownership.clone() };
        let certificate = desired.hostnames[0].certificate;
        Knowledge {
            zones: [(desired.hostnames[0].zone, Fact { seen, value: self.zone.clone() })].into(),
            endpoints: [(desired.hostnames[0].first_endpoint(), Fact { seen, value: self.endpoint.clone() })].into(),
            certificates: [(certificate, self.certificate.clone())].into(),
            undelivered: [(certificate, self.undelivered.clone())].into(),
            hostnames: [(HostnameId(0), own)].into(),
            accounts: [AuthorityId(0)].into(),
            ..Knowledge::default()
        }
    }

    /// Judges and plans the first hostname.
    fn look(&self, desired: &Desired) -> (Pins, Outlook, Vec<&'static str>) {
        let knowledge = self.knowledge(desired);
        let pins = Pins::judge(Known::about(desired, &knowledge, HostnameId(0)), now());
        let mut planner = Planner::new(desired, &knowledge, now());
        let outlook = planner.add_hostname(HostnameId(0));
        let actions = planner.into_steps().iter().map(|step| step.action).collect();
        (pins, outlook, actions)
    }

    fn all_servers_give(&mut self, sets: &[RecordSet]) {
        self.alias.servers.iter_mut().for_each(|server| server.gives = Ok(sets.to_vec()));
    }

    fn outcome(&mut self, change: impl FnOnce(&mut ClientOutcome)) {
        change(&mut self.answer.through[0].outcome);
    }
}

#[test]
fn what_is_as_it_should_be_is_held_and_needs_nothing() {
    let desired = desired();
    let (pins, outlook, actions) = Scene::held(&desired).look(&desired);
    assert!(pins.held(), "{:?}", pins.findings().collect::<Vec<_>>());
    assert_eq!((outlook, actions.len()), (Outlook::Held, 0));
}

type Change = fn(&mut Scene);

/// One change of the held world each: the finding it makes, the state of its pin, and
/// the steps that follow (none where a person is needed or something is down).
const CHANGES: &[(Code, PinState, &[&str], Change)] = &[
    (Code::DelegationMissing, PinState::Blocked, &[], |scene| {
        scene.zone.delegation = DelegationView::Missing { by: "127.0.0.2:53".parse().unwrap() };
    }),
    (Code::DelegationDiffers, PinState::Blocked, &[], |scene| {
        if let DelegationView::Delegated { name_servers, .. } = &mut scene.zone.delegation {
            name_servers.pop();
        }
    }),
    (Code::ParentUnreachable, PinState::Unknown, &["answer"], |scene| {
        scene.zone.delegation = DelegationView::Unreachable { why: Unreachable::TimedOut { after_ms: 5200 } };
        scene
            .outcome(|outcome| *outcome = ClientOutcome::Unresolved { why: Unresolved::NoSuchName, for_secs: Some(5) });
    }),
    (Code::ServerUnreachable, PinState::Unknown, &[], |scene| {
        scene.zone.servers[1].status = ServerStatus::Unreachable { why: Unreachable::TimedOut { after_ms: 5200 } };
    }),
    (Code::ServerLame, PinState::Blocked, &[], |scene| {
        scene.zone.servers[1].status = ServerStatus::Lame { how: Lameness::Code { code: "REFUSED".into() } };
    }),
    (Code::ServersDiffer, PinState::Blocked, &[], |scene| {
        scene.zone.servers[1].status = ServerStatus::Serves { serial: Serial(1), name_servers: Vec::new() };
    }),
    (Code::ZoneBogus, PinState::Blocked, &[], |scene| scene.zone.validates = Some(false)),
    (Code::CertificateMissing, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate = None
    }),
    (Code::CertificateDue, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        let held = scene.certificate.as_mut().unwrap();
        held.not_before = Timestamp::from_second(now().as_second() - 70 * 86_400).unwrap();
        held.not_after = Timestamp::from_second(now().as_second() + 20 * 86_400).unwrap();
    }),
    (Code::CertificateExpired, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate.as_mut().unwrap().not_after = now();
    }),
    (Code::CertificateDiffers, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate.as_mut().unwrap().authority = "https://other.example/".into();
    }),
    (Code::CertificateDiffers, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate.as_mut().unwrap().names.clear();
    }),
    (Code::CertificateDiffers, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate.as_mut().unwrap().key = Some(KeyKind::Rsa2048);
    }),
    (Code::CertificateReplaced, PinState::Loose, &["issue", "store", "bind", "connect", "answer"], |scene| {
        scene.certificate.as_mut().unwrap().replace = Some(ReplaceReason::Revoked);
    }),
    (Code::CertificateUndelivered, PinState::Loose, &["deliver"], |scene| {
        scene.undelivered.files = vec!["tls/chain.pem".into()];
    }),
    (Code::CommandFailed, PinState::Loose, &["deliver"], |scene| {
        scene.undelivered.commands = vec![("reload".into(), Some("exit status 1".into()))];
    }),
    (Code::PlatformUnreachable, PinState::Unknown, &[], |scene| {
        scene.endpoint = EndpointView::Unreachable { why: Unreachable::Refused, before: None }
    }),
    (Code::PlatformRefuses, PinState::Unknown, &[], |scene| {
        scene.endpoint = EndpointView::Refused { status: 401, detail: "unknown token".into() }
    }),
    (Code::EndpointUnknown, PinState::Blocked, &[], |scene| {
        scene.endpoint = EndpointView::NotListed { known: vec!["other".into()] }
    }),
    (Code::CustomHostnamesRefused, PinState::Blocked, &[], |scene| {
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.custom_hostnames = CustomHostnames { allowed: false, reason: Some("trial plan".into()) };
        }
    }),
    (Code::QuotaReached, PinState::Blocked, &[], |scene| {
        scene.binding = BindingView::Absent;
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.quotas.hostnames = Some(crate::endpoints::endpoint::Quota { used: 7, most: 7 });
        }
    }),
    // Where it was bound before is not in the manifest.
    (Code::FormerBinding, PinState::Blocked, &[], |scene| {
        let elsewhere = EndpointKey::new(&"https://platform.example".parse().unwrap(), "before");
        let own = scene.ownership.bindings.values().next().unwrap().clone();
        scene.ownership.bindings.insert(elsewhere, own);
    }),
    (Code::BindingMissing, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        scene.binding = BindingView::Absent
    }),
    (Code::BindingDiffers, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { binding, .. } = &mut scene.binding {
            binding.minimum_tls = crate::endpoints::endpoint::TlsVersion::V1_3;
            // Written by a run that was stopped before it could verify.
            scene.ownership.bindings.values_mut().for_each(|written| written.intend(binding.clone(), |_| true));
        }
    }),
    (Code::BindingForeign, PinState::Blocked, &[], |scene| {
        scene.ownership.bindings.clear();
        if let BindingView::Present { binding, .. } = &mut scene.binding {
            binding.redirect_to = Some("other.larkfield.example".parse().unwrap());
        }
    }),
    (Code::BindingDeploying, PinState::Working, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { deployment, .. } = &mut scene.binding {
            *deployment = Deployment::Deploying;
        }
    }),
    (Code::BindingFailed, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { deployment, .. } = &mut scene.binding {
            *deployment = Deployment::Failed { reason: "no capacity".into() };
        }
    }),
    (Code::ServedCertificateDiffers, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { served, .. } = &mut scene.binding {
            *served = ServedView::certificate(Fingerprint::of(b"old"));
        }
    }),
    (Code::DefaultNameDangling, PinState::Blocked, &[], |scene| {
        scene.all_servers_give(&[]);
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.leads = Some(NameLeads::Nowhere { exists: false });
        }
    }),
    (Code::DefaultNameElsewhere, PinState::Loose, &["store", "bind", "connect", "alias", "answer"], |scene| {
        scene.all_servers_give(&[]);
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.leads = Some(NameLeads::To(vec![address("127.0.0.9")]));
        }
        if let BindingView::Present { served, .. } = &mut scene.binding {
            let address = Some("127.0.0.9:8443".parse().unwrap());
            *served = ServedView::Failed { address, why: Unreachable::Refused };
        }
    }),
    (Code::ServedAnswerDiffers, PinState::Loose, &["store", "bind", "connect", "alias", "answer"], |scene| {
        scene.all_servers_give(&[]);
        scene.sample_answers(SampleOutcome::Answered { status: 502, location: None, body: None });
    }),
    (Code::NotOffered, PinState::Blocked, &[], |scene| {
        scene.binding = BindingView::Absent;
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.offers.minimum_tls.clear();
        }
    }),
    (Code::AskedRecordMissing, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { lacking, .. } = &mut scene.binding {
            lacking.push(platforms::proof());
        }
    }),
    // A run was stopped before it could take the record away.
    (Code::AskedRecordLeft, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        let key = scene.ownership.bindings.keys().next().unwrap().clone();
        let keep = crate::endpoints::endpoint::KeepRecord::UntilDeployed;
        scene.ownership.add_record(key, crate::endpoints::endpoint::AskedRecord { keep, ..platforms::proof() });
    }),
    (Code::AliasMissing, PinState::Loose, &["alias", "answer"], |scene| scene.all_servers_give(&[])),
    (Code::AliasDiffers, PinState::Loose, &["alias", "answer"], |scene| {
        scene.all_servers_give(&cname("old.edge.test"));
        scene.ownership.alias = written(cname("old.edge.test"));
    }),
    (Code::AliasDiffers, PinState::Loose, &["alias", "answer"], |scene| {
        // Written by a run that was stopped before it could verify.
        scene.all_servers_give(&cname("next.edge.test"));
        scene.ownership.alias.intend(cname("next.edge.test"), |_| true);
    }),
    (Code::AliasConflict, PinState::Blocked, &[], |scene| scene.all_servers_give(&cname("parked.edge.test"))),
    (Code::AliasConflict, PinState::Blocked, &[], |scene| {
        scene.all_servers_give(&RecordSet::group([(Ttl::MINUTE, RecordData::Txt("note".into()))]));
    }),
    (Code::AliasRedirected, PinState::Blocked, &[], |scene| {
        scene.all_servers_give(&cname("api.old.edge.test"));
        scene.alias.dname = Some("example".parse().unwrap());
    }),
    (Code::AliasDangling, PinState::Blocked, &[], |scene| {
        scene.all_servers_give(&cname("gone.edge.test"));
        scene.alias.dangling = Some("gone.edge.test".parse().unwrap());
    }),
    (Code::AliasLagging, PinState::Working, &["alias", "answer"], |scene| {
        scene.alias.servers[1].gives = Ok(Vec::new())
    }),
    (Code::ServerUnreachable, PinState::Unknown, &[], |scene| scene.alias.servers[1].gives = Err(Unreachable::Closed)),
    (Code::AnswerUnresolved, PinState::Loose, &["answer"], |scene| {
        scene
            .outcome(|outcome| *outcome = ClientOutcome::Unresolved { why: Unresolved::NoSuchName, for_secs: Some(5) });
    }),
    (Code::AnswerUnreachable, PinState::Loose, &["answer"], |scene| {
        scene.outcome(|outcome| {
            *outcome =
                ClientOutcome::NotConnected { address: "127.0.0.21:8443".parse().unwrap(), why: Unreachable::Refused }
        });
    }),
    (Code::AnswerUnverified, PinState::Loose, &["answer"], |scene| {
        scene.outcome(|outcome| {
            *outcome = ClientOutcome::Unverified {
                address: "127.0.0.21:8443".parse().unwrap(),
                sha256: None,
                why: Untrusted::Expired,
            }
        });
    }),
    (Code::AnswerStale, PinState::Loose, &["answer"], |scene| {
        scene.outcome(|outcome| {
            if let ClientOutcome::Answered { sha256, .. } = outcome {
                *sha256 = Fingerprint::of(b"old");
            }
        });
    }),
    (Code::AnswerUnexpected, PinState::Loose, &["answer"], |scene| {
        scene.outcome(|outcome| {
            if let ClientOutcome::Answered { status, .. } = outcome {
                *status = 403;
            }
        });
    }),
];

#[test]
fn each_change_is_diagnosed_and_leads_to_its_steps() {
    let desired = desired();
    for (code, state, steps, change) in CHANGES {
        let mut scene = Scene::held(&desired);
        change(&mut scene);
        let (pins, outlook, actions) = scene.look(&desired);
        let finding = pins.findings().find(|finding| finding.code() == *code);
        let finding = finding.unwrap_or_else(|| panic!("{code} not among {:?}", pins.findings().collect::<Vec<_>>()));
        assert_eq!(pins.get(finding.pin()).state, *state, "{code}");
        assert!(!finding.says().is_empty() && !finding.remedy().is_empty(), "{code}");
        assert_eq!(actions, *steps, "{code}");
        match outlook {
            Outlook::Blocked(findings) => {
                assert_eq!(*state, PinState::Blocked, "{code}");
                assert!(findings.iter().all(|finding| pins.get(finding.pin()).state == PinState::Blocked), "{code}");
                assert!(findings.iter().any(|finding| finding.code() == *code), "{code}");
            }
            Outlook::Outage(_) => assert!(code.is_outage(), "{code}"),
            Outlook::Waiting(_) => assert_eq!(*code, Code::ParentUnreachable, "{code}"),
            Outlook::Steps => assert!(!steps.is_empty(), "{code}"),
            Outlook::Held => panic!("{code} is not held"),
        }
    }
    // The others are what steps fail with.
    let judged = |code: &&Code| {
        // What steps fail with, and what needs another manifest.
        let elsewhere = [
            Code::BindingChanged,
            Code::AskedRecordMisplaced,
            Code::ClientCertificateNotRequired,
            Code::OldTlsServed,
            Code::EndpointUnready,
            Code::KindDiffers,
        ];
        matches!(code.pin(), Pin::Binding | Pin::Answer) && !elsewhere.contains(code)
    };
    for code in Code::ALL.iter().filter(judged) {
        assert!(CHANGES.iter().any(|(tried, ..)| tried == code), "{code} is not tried");
    }
}

#[test]
fn a_bought_certificate_is_a_persons_work_but_serves_until_it_ends() {
    let desired = desired();
    let mut bought = (*desired.certificates[0].terms).clone();
    bought.issued_by = Origin::Elsewhere;
    let mut desired = desired;
    let first = &mut desired.certificates[0];
    (first.authority, first.terms) = (None, std::sync::Arc::new(bought));
    let mut scene = Scene::held(&desired);
    let held = scene.certificate.as_mut().unwrap();
    held.origin = Origin::Elsewhere;
    held.key = None;
    assert!(scene.look(&desired).0.held());

    // Due: a finding, but what else is loose is still mended.
    scene.certificate.as_mut().unwrap().not_before = Timestamp::from_second(now().as_second() - 400 * 86_400).unwrap();
    scene.binding = BindingView::Absent;
    let (pins, outlook, actions) = scene.look(&desired);
    let finding = &pins.certificate.findings[0];
    assert_eq!((pins.certificate.state, finding.code()), (PinState::Blocked, Code::CertificateAwaited));
    assert!(
        finding.remedy().contains("cert request") && finding.remedy().contains("cert import"),
        "{}",
        finding.remedy()
    );
    assert!(matches!(outlook, Outlook::Blocked(_)), "what is left after the steps: {outlook:?}");
    assert_eq!(actions, ["store", "bind", "connect", "answer"]);

    // Absent: nothing can be done.
    scene.certificate = None;
    let (_, outlook, actions) = scene.look(&desired);
    assert!(matches!(outlook, Outlook::Blocked(_)) && actions.is_empty());
}

#[test]
fn a_new_set_up_is_rehearsed_once_before_it_is_issued() {
    let text = r#"
manifest = 1
[defaults]
authority = "main"
[authority.main]
directory = "https://a.example/directory"
agree_to_terms = true
rehearsal = "practice"
[authority.practice]
directory = "https://b.example/directory"
agree_to_terms = true
[zone."larkfield.example"]
driver = "rfc2136"
tsig = { name = "k.", secret = "env:S" }
[certificate.stations]
names = ["*.stations.larkfield.example"]
"#;
    let mut problems = crate::manifest::Diagnostics::default();
    let desired = crate::desired::resolve(crate::manifest::read(text, &mut problems), &mut problems);
    assert!(problems.is_empty());
    let id = desired.unused_certificates()[0];
    let plan = |unproven: bool, only_rehearse: bool| {
        let mut knowledge = Knowledge::default();
        knowledge.unproven.extend(unproven.then_some((id, id)));
        let mut planner = Planner::new(&desired, &knowledge, now());
        let outlook = if only_rehearse { planner.add_rehearsal(id) } else { planner.add_certificate(id) };
        let steps = planner.into_steps();
        let steps: Vec<_> = steps.iter().map(|step| (step.action, step.target.clone(), step.after.clone())).collect();
        (outlook, steps)
    };
    let (outlook, steps) = plan(true, false);
    let actions = |steps: &[(&'static str, String, Vec<u32>)]| steps.iter().map(|step| step.0).collect::<Vec<_>>();
    assert_eq!((outlook, actions(&steps)), (Outlook::Steps, vec!["register", "register", "rehearse", "issue"]));
    assert!(steps[0].1.contains("practice") && steps[1].1.contains("main"));
    assert_eq!((steps[2].2.as_slice(), steps[3].2.as_slice()), (&[1, 2][..], &[2, 3][..]));
    assert_eq!(actions(&plan(false, false).1), ["register", "issue"]);
    // Only to prove it: as far as that is still to be done.
    let (outlook, steps) = plan(true, true);
    assert_eq!((outlook, actions(&steps)), (Outlook::Steps, vec!["register", "register", "rehearse"]));
    assert_eq!(plan(false, true), (Outlook::Held, Vec::new()));
}

/// A certificate that no hostname uses, and what its steps are done to.
const ALONE: [(&str, &[&str]); 4] = [
    ("names = [\"a.larkfield.example\"]", &["certificate for a.larkfield.example from main"]),
    (
        "names = [\"a.larkfield.example\", \"b.larkfield.example\", \"c.larkfield.example\", \"d.larkfield.example\"]
         after = [{ run = [\"true\"] }]",
        &[
            "certificate for a.larkfield.example, b.larkfield.example, c.larkfield.example, d.larkfield.example from main",
            "`true`",
        ],
    ),
    (
        "names = [\"a.larkfield.example\", \"b.larkfield.example\", \"c.larkfield.example\", \"d.larkfield.example\", \"e.larkfield.example\"]
         deliver = [{ file = \"tls/chain.pem\", holds = [\"leaf\"] }, { file = \"tls/key.pem\", holds = [\"key\"] }]",
        &["certificate for a.larkfield.example and 4 more names from main", "tls/chain.pem, tls/key.pem"],
    ),
    (
        "names = [\"a.larkfield.example\"]\nissued_by = \"self\"",
        &["self-signed certificate for a.larkfield.example"],
    ),
];

#[test]
fn a_certificate_alone_is_issued_and_delivered_and_then_held() {
    for (table, targets) in ALONE {
        let text = format!("{}\n[certificate.alone]\n{table}\n", MANIFEST.split("[hostname").next().unwrap());
        let desired = resolved(&text);
        let id = desired.unused_certificates()[0];
        let wanted = desired.certificate(id);
        let steps_of = |held: Option<&HeldCertificate>| {
            let knowledge = Knowledge {
                accounts: [AuthorityId(0)].into(),
                certificates: [(id, held.cloned())].into(),
                ..Knowledge::default()
            };
            let mut planner = Planner::new(&desired, &knowledge, now());
            let report = judge_certificate(&desired, wanted, held, Some(&Undelivered::default()), now());
            let outlook = planner.add_certificate(id);
            let steps = planner.into_steps();
            assert_eq!(steps.first().map(|step| step.why.clone()), report.findings.first().map(Finding::says));
            (outlook, steps)
        };
        let (outlook, steps) = steps_of(None);
        assert_eq!(
            (outlook, steps.iter().map(|step| step.target.as_str()).collect::<Vec<_>>()),
            (Outlook::Steps, targets.to_vec())
        );
        assert!(steps.iter().skip(1).all(|step| step.after == [step.id - 1]), "each after the one before");
        let issuer = wanted.authority.map_or_else(String::new, |id| desired.authority(id).directory.to_string());
        let held = HeldCertificate {
            names: wanted.names.clone(),
            origin: wanted.terms.issued_by,
            authority: issuer,
            ..Scene::held(&self::desired()).certificate.unwrap()
        };
        let (outlook, steps) = steps_of(Some(&held));
        assert_eq!((outlook, steps), (Outlook::Held, Vec::new()));
    }
}

#[test]
fn a_redirect_must_lead_to_the_primary_name() {
    let mut desired = desired();
    desired.hostnames.swap(0, 2);
    let mut scene = Scene::held(&desired);
    for (location, held) in [
        (Some("https://larkfield.example:8443/"), true),
        (Some("http://larkfield.example/"), false),
        (Some("https://larkfield.example.other.example/"), false),
        (None, false),
    ] {
        scene.outcome(|outcome| {
            if let ClientOutcome::Answered { status, location: to, .. } = outcome {
                (*status, *to) = (308, location.map(str::to_owned));
            }
        });
        assert_eq!(scene.look(&desired).0.answer.state == PinState::Held, held, "{location:?}");
    }
}

#[test]
fn the_apex_gets_addresses_and_the_rest_a_cname() {
    let desired = desired();
    let EndpointView::Listed(info) = Scene::held(&desired).endpoint else { panic!("listed") };
    let alias = |index: usize| {
        let wanted = &desired.hostnames[index];
        crate::zones::records::in_words(&wanted.alias_to(
            &desired,
            &[AliasTarget { info: &info, target: None, dead: &[] }],
            wanted.ttl,
        ))
    };
    assert_eq!(alias(1), "A 127.0.0.21");
    assert_eq!(alias(2), format!("CNAME {TARGET}."));
}

#[test]
fn the_order_of_steps_protects_traffic_and_shares_what_is_shared() {
    let desired = desired();
    let scene = Scene { certificate: None, binding: BindingView::Absent, ..Scene::held(&desired) };
    let mut knowledge = scene.knowledge(&desired);
    knowledge.accounts.clear();
    knowledge.hostnames.clear();
    let mut planner = Planner::new(&desired, &knowledge, now());
    for id in desired.hostname_ids() {
        assert_eq!(planner.add_hostname(id), Outlook::Steps);
    }
    let steps = planner.into_steps();
    let count = |action: &str| steps.iter().filter(|step| step.action == action).count();
    assert_eq!((count("register"), count("issue"), count("store"), count("bind"), count("alias")), (1, 2, 2, 3, 3));
    let order = ["register", "issue", "store", "bind", "connect", "alias", "answer"];
    let rank = |action: &str| order.iter().position(|known| *known == action).unwrap();
    for step in &steps {
        for before in &step.after {
            let before = &steps[*before as usize - 1];
            assert!(before.id < step.id && rank(before.action) + 1 == rank(step.action), "{before:?} {step:?}");
        }
        assert_eq!(step.after.is_empty(), step.action == "register", "{step:?}");
    }
}

/// Judges and plans the first hostname where its certificate is also delivered to a file.
fn plan_delivered(change: impl FnOnce(&mut Scene, &mut Knowledge)) -> (Outlook, Vec<Step>) {
    let mut desired = desired();
    let mut terms = (*desired.certificates[0].terms).clone();
    terms.after = vec![crate::certificates::delivery::Command {
        run: vec!["reload".into()],
        within: std::time::Duration::from_secs(60),
    }];
    desired.certificates[0].terms = std::sync::Arc::new(terms);
    let mut scene = Scene::held(&desired);
    let mut extra = Knowledge::default();
    change(&mut scene, &mut extra);
    let knowledge = Knowledge { holds: extra.holds, ..scene.knowledge(&desired) };
    let mut planner = Planner::new(&desired, &knowledge, now());
    let outlook = planner.add_hostname(HostnameId(0));
    (outlook, planner.into_steps())
}

fn is_due(scene: &mut Scene) {
    let held = scene.certificate.as_mut().unwrap();
    held.not_before = Timestamp::from_second(now().as_second() - 70 * 86_400).unwrap();
    held.not_after = Timestamp::from_second(now().as_second() + 20 * 86_400).unwrap();
}

/// What stands in the way of one piece of work stops no other that does not need it.
#[test]
fn a_gate_stops_only_the_work_that_it_is_about() {
    let actions = |steps: &[Step]| steps.iter().map(|step| step.action).collect::<Vec<_>>();
    // A command that fails stops no endpoint.
    let (outlook, steps) = plan_delivered(|scene, _| {
        scene.undelivered.commands = vec![("reload".into(), Some("exit status 1".into()))];
        scene.binding = BindingView::Absent;
    });
    assert_eq!((outlook, actions(&steps)), (Outlook::Steps, vec!["deliver", "store", "bind", "connect", "answer"]));
    assert!(steps[1].after.is_empty(), "{:?}", steps[1]);
    // A platform that is down stops its stores and bindings, not the order and the delivery.
    let (outlook, steps) = plan_delivered(|scene, _| {
        is_due(scene);
        scene.endpoint = EndpointView::Unreachable { why: Unreachable::Refused, before: None };
    });
    assert!(matches!(outlook, Outlook::Outage(_)), "{outlook:?}");
    assert_eq!(actions(&steps), ["issue", "deliver"]);
    assert!(steps.iter().all(|step| step.goals == [Goal::Hostname(HostnameId(0))]));
    // A silent secondary stops challenges and aliases, not a binding with the certificate
    // that is there.
    let (outlook, steps) = plan_delivered(|scene, _| {
        is_due(scene);
        scene.zone.servers[1].status = ServerStatus::Unreachable { why: Unreachable::Closed };
        scene.binding = BindingView::Absent;
    });
    assert!(matches!(outlook, Outlook::Outage(_)), "{outlook:?}");
    assert_eq!(actions(&steps), ["store", "bind", "connect", "answer"]);
    // An authority that named a time is not asked before it.
    let mut held_until = None;
    for (until, expected) in [(60, &[][..]), (-60, &["issue", "deliver", "store", "bind", "connect", "answer"])] {
        let (outlook, steps) = plan_delivered(|scene, knowledge| {
            is_due(scene);
            let until = Timestamp::from_second(now().as_second() + until).unwrap();
            let limited = AuthorityCause::RateLimited { until, said: "too many orders".into() };
            let finding = Finding::authority("main", limited);
            held_until = Some(finding.clone());
            knowledge.holds.insert(crate::desired::CertificateId(0), (until, finding));
        });
        assert_eq!(actions(&steps), expected);
        let waits = Outlook::Waiting(held_until.take().into_iter().collect());
        assert_eq!(outlook, if expected.is_empty() { waits } else { Outlook::Steps });
    }
}

/// After an endpoint has changed, what stands at the new one is a stranger's, and an equal
/// binding that Pindrel never wrote stays unclaimed.
#[test]
fn a_binding_is_known_only_at_the_endpoint_that_it_was_written_to() {
    let desired = desired();
    let mut scene = Scene::held(&desired);
    let written = scene.ownership.bindings.remove(&desired.endpoints[0].key()).unwrap();
    let elsewhere = EndpointKey::new(&"https://platform.example".parse().unwrap(), "before");
    scene.ownership.bindings.insert(elsewhere, written);
    let pins = scene.look(&desired).0;
    assert!(pins.binding.is_in_force(), "an equal one is right, whoever made it");
    assert_eq!(pins.binding.findings[0].code(), Code::FormerBinding, "the other one is not forgotten");
    if let BindingView::Present { binding, .. } = &mut scene.binding {
        binding.certificate = Some(Fingerprint::of(b"stranger"));
    }
    let (pins, outlook, actions) = scene.look(&desired);
    assert_eq!(pins.binding.findings[0].code(), Code::BindingForeign);
    assert!(matches!(outlook, Outlook::Blocked(_)) && actions.is_empty());
}

#[test]
fn addresses_of_a_family_that_this_machine_lacks_are_left_out_while_others_serve() {
    let out = ServerStatus::Unreachable { why: Unreachable::NoRoute };
    let server =
        |address: &str, status: &ServerStatus| ServerView { server: address.parse().unwrap(), status: status.clone() };
    let desired = desired();
    let mut scene = Scene::held(&desired);
    let serves = scene.zone.servers[0].status.clone();
    scene.zone.servers.push(server("[2001:db8::53]:53", &out));
    let report = judge_zone(&desired.zones[0], &Fact { seen: now(), value: scene.zone.clone() });
    assert_eq!(report.state, PinState::Held, "{report:?}");
    assert!(report.detail.unwrap().contains("1 left out"));
    // One that has a route to any of the family misses the others of it.
    scene.zone.servers.push(server("[2001:db8::54]:53", &serves));
    assert_eq!(
        judge_zone(&desired.zones[0], &Fact { seen: now(), value: scene.zone.clone() }).findings[0].code(),
        Code::ServerUnreachable
    );
    // Where nobody serves, everybody is told.
    scene.zone.servers = vec![server("192.0.2.1:53", &out), server("[2001:db8::53]:53", &out)];
    let told = &judge_zone(&desired.zones[0], &Fact { seen: now(), value: scene.zone.clone() }).findings[0];
    assert_eq!(told.words().evidence.len(), 2, "{told:?}");
    for (address, local) in [
        ("169.254.169.254", true),
        ("fe80::1", true),
        ("::ffff:169.254.169.254", true),
        ("fd00:ec2::254", true),
        ("192.0.2.1", false),
        ("fd00::1", false),
        ("127.0.0.1", false),
    ] {
        assert_eq!(crate::values::is_link_local_or_metadata(address.parse().unwrap()), local, "{address}");
    }
}
