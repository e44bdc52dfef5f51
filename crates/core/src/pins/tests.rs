//! One hostname, all that can be known of it, and what follows for pins and steps.

use std::collections::HashMap;
use std::net::IpAddr;

use jiff::Timestamp;

use super::*;
use crate::delivery::Undelivered;
use crate::desired::{AuthorityId, HostnameId, resolve};
use crate::endpoint::{CustomHostnames, Deployment, EndpointInfo, EndpointKind};
use crate::facts::Origin;
use crate::facts::*;
use crate::findings::Code;
use crate::manifest::{Diagnostics, read};
use crate::records::{RecordData, RecordSet};
use crate::steps::{Outlook, Planner};
use crate::values::KeyKind;
use crate::values::{Serial, Ttl};

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
    ours: Ours,
}

fn now() -> Timestamp {
    Timestamp::from_second(1_800_000_000).unwrap()
}

fn desired() -> Desired {
    let mut problems = Diagnostics::default();
    let desired = resolve(read(MANIFEST, &mut problems), &mut problems);
    assert!(problems.is_empty(), "{problems:?}");
    desired
}

fn address(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn cname(target: &str) -> Vec<RecordSet> {
    RecordSet::group([(Ttl::TEN_MINUTES, RecordData::Cname(target.parse().unwrap()))])
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
            says: ServerSays::Serves { serial: Serial(1), name_servers: name_servers.clone() },
        };
        let day = |days: i64| Timestamp::from_second(now().as_second() + days * 86_400).unwrap();
        Scene {
            zone: ZoneView {
                delegation: DelegationView::Delegated {
                    by: "127.0.0.2:53".parse().unwrap(),
                    name_servers: name_servers.clone(),
                    addresses: vec![address("127.0.0.3"), address("127.0.0.4")],
                },
                servers: servers.iter().map(serves).collect(),
                validates: None,
            },
            endpoint: EndpointView::Listed(EndpointInfo {
                id: "catalogue".into(),
                kind: EndpointKind::Gateway,
                site: "north".into(),
                default_name: TARGET.parse().unwrap(),
                addresses: vec![address("127.0.0.21")],
                port: 8443,
                certificate_site: "north".into(),
                custom_hostnames: CustomHostnames::default(),
            }),
            certificate: Some(HeldCertificate {
                sha256,
                names: vec![wanted.hostname.clone()],
                origin: Origin::Authority,
                authority: desired.authority(AuthorityId(0)).directory.to_string(),
                key: Some(KeyKind::EcdsaP256),
                not_before: day(-10),
                not_after: day(80),
                renewal_id: None,
                window: None,
                replace: None,
            }),
            undelivered: Undelivered::default(),
            binding: BindingView::Present {
                binding: wanted.binding(sha256),
                deployment: Deployment::Deployed,
                served: ServedView::Certificate { sha256 },
            },
            alias: AliasView {
                servers: servers
                    .iter()
                    .map(|server| ServerRecords { server: *server, gives: Ok(cname(TARGET)) })
                    .collect(),
            },
            answer: AnswerView {
                through: vec![ResolverAnswer {
                    resolver: "127.0.0.5:53".parse().unwrap(),
                    met: Met::Answered {
                        address: "127.0.0.21:8443".parse().unwrap(),
                        sha256,
                        status: 200,
                        location: None,
                        body_as_expected: None,
                    },
                }],
            },
            ours: Ours { alias: cname(TARGET), binding: true, ..Ours::default() },
        }
    }

    /// Judges and plans the first hostname.
    fn look(&self, desired: &Desired) -> (Pins, Outlook, Vec<&'static str>) {
        let fact = |seen| seen;
        let seen = fact(now());
        let zone = Fact { seen, value: self.zone.clone() };
        let endpoint = Fact { seen, value: self.endpoint.clone() };
        let facts = HostnameFacts {
            binding: Some(Fact { seen, value: self.binding.clone() }),
            alias: Some(Fact { seen, value: self.alias.clone() }),
            answer: Some(Fact { seen, value: self.answer.clone() }),
        };
        let known = Known {
            desired,
            wanted: &desired.hostnames[0],
            zone: Some(&zone),
            endpoint: Some(&endpoint),
            certificate: self.certificate.as_ref(),
            undelivered: Some(&self.undelivered),
            facts: &facts,
            ours: &self.ours,
        };
        let pins = Pins::judge(known, now());
        let mut planner = Planner::new([AuthorityId(0)], HashMap::new());
        let outlook = planner.add(HostnameId(0), known, &pins);
        let actions = planner.into_steps().iter().map(|step| step.action).collect();
        (pins, outlook, actions)
    }

    fn all_servers_give(&mut self, sets: &[RecordSet]) {
        self.alias.servers.iter_mut().for_each(|server| server.gives = Ok(sets.to_vec()));
    }

    fn met(&mut self, change: impl FnOnce(&mut Met)) {
        change(&mut self.answer.through[0].met);
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
    (Code::DelegationDiffers, PinState::Blocked, &[], |scene| {
        if let DelegationView::Delegated { addresses, .. } = &mut scene.zone.delegation {
            addresses.pop();
        }
    }),
    (Code::ParentUnreachable, PinState::Unknown, &["answer"], |scene| {
        scene.zone.delegation = DelegationView::Unreachable { why: "timed out".into() };
        scene.met(|met| *met = Met::Unresolved { why: "the name does not exist".into(), for_secs: Some(5) });
    }),
    (Code::ServerUnreachable, PinState::Unknown, &[], |scene| {
        scene.zone.servers[1].says = ServerSays::Unreachable { why: "timed out".into() };
    }),
    (Code::ServerLame, PinState::Blocked, &[], |scene| {
        scene.zone.servers[1].says = ServerSays::Lame { how: "answers Refused".into() };
    }),
    (Code::ServersDiffer, PinState::Blocked, &[], |scene| {
        scene.zone.servers[1].says = ServerSays::Serves { serial: Serial(1), name_servers: Vec::new() };
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
        scene.certificate.as_mut().unwrap().replace = Some("it was revoked".into());
    }),
    (Code::CertificateUndelivered, PinState::Loose, &["deliver", "store", "bind", "connect", "answer"], |scene| {
        scene.undelivered.files = vec!["tls/chain.pem".into()];
    }),
    (Code::CommandFailed, PinState::Loose, &["deliver", "store", "bind", "connect", "answer"], |scene| {
        scene.undelivered.commands = vec![("reload".into(), Some("exit status 1".into()))];
    }),
    (Code::PlatformUnreachable, PinState::Unknown, &[], |scene| {
        scene.endpoint = EndpointView::Unreachable { why: "refused".into() }
    }),
    (Code::PlatformRefuses, PinState::Unknown, &[], |scene| {
        scene.endpoint = EndpointView::Refused { why: "status 401".into() }
    }),
    (Code::EndpointUnknown, PinState::Blocked, &[], |scene| {
        scene.endpoint = EndpointView::NotListed { known: vec!["other".into()] }
    }),
    (Code::CustomHostnamesRefused, PinState::Blocked, &[], |scene| {
        if let EndpointView::Listed(info) = &mut scene.endpoint {
            info.custom_hostnames = CustomHostnames { allowed: false, reason: Some("trial plan".into()) };
        }
    }),
    (Code::BindingMissing, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        scene.binding = BindingView::Absent
    }),
    (Code::BindingDiffers, PinState::Loose, &["store", "bind", "connect", "answer"], |scene| {
        if let BindingView::Present { binding, .. } = &mut scene.binding {
            binding.minimum_tls = crate::endpoint::TlsVersion::V1_3;
        }
    }),
    (Code::BindingForeign, PinState::Blocked, &[], |scene| {
        scene.ours.binding = false;
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
            *served = ServedView::Certificate { sha256: Fingerprint::of(b"old") };
        }
    }),
    (Code::AliasMissing, PinState::Loose, &["alias", "answer"], |scene| scene.all_servers_give(&[])),
    (Code::AliasDiffers, PinState::Loose, &["alias", "answer"], |scene| {
        scene.all_servers_give(&cname("old.edge.test"));
        scene.ours.alias = cname("old.edge.test");
    }),
    (Code::AliasDiffers, PinState::Loose, &["alias", "answer"], |scene| {
        // Written by a run that was stopped before it could verify.
        scene.all_servers_give(&cname("next.edge.test"));
        scene.ours.alias_intended = cname("next.edge.test");
    }),
    (Code::AliasConflict, PinState::Blocked, &[], |scene| scene.all_servers_give(&cname("parked.edge.test"))),
    (Code::AliasConflict, PinState::Blocked, &[], |scene| {
        scene.all_servers_give(&RecordSet::group([(Ttl::MINUTE, RecordData::Txt("note".into()))]));
    }),
    (Code::AliasLagging, PinState::Working, &["alias", "answer"], |scene| {
        scene.alias.servers[1].gives = Ok(Vec::new())
    }),
    (Code::ServerUnreachable, PinState::Unknown, &[], |scene| scene.alias.servers[1].gives = Err("timed out".into())),
    (Code::AnswerUnresolved, PinState::Loose, &["answer"], |scene| {
        scene.met(|met| *met = Met::Unresolved { why: "the name does not exist".into(), for_secs: Some(5) });
    }),
    (Code::AnswerUnreachable, PinState::Loose, &["answer"], |scene| {
        scene
            .met(|met| *met = Met::NotConnected { address: "127.0.0.21:8443".parse().unwrap(), why: "refused".into() });
    }),
    (Code::AnswerUnverified, PinState::Loose, &["answer"], |scene| {
        scene.met(|met| {
            *met = Met::Unverified { address: "127.0.0.21:8443".parse().unwrap(), sha256: None, why: "expired".into() }
        });
    }),
    (Code::AnswerStale, PinState::Loose, &["answer"], |scene| {
        scene.met(|met| {
            if let Met::Answered { sha256, .. } = met {
                *sha256 = Fingerprint::of(b"old");
            }
        });
    }),
    (Code::AnswerUnexpected, PinState::Loose, &["answer"], |scene| {
        scene.met(|met| {
            if let Met::Answered { status, .. } = met {
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
        let finding = pins.findings().find(|finding| finding.code == *code);
        let finding = finding.unwrap_or_else(|| panic!("{code} not among {:?}", pins.findings().collect::<Vec<_>>()));
        assert_eq!(pins.get(finding.pin).state, *state, "{code}");
        assert!(!finding.says.is_empty() && !finding.remedy.is_empty(), "{code}");
        assert_eq!(actions, *steps, "{code}");
        match outlook {
            Outlook::Blocked(findings) => {
                assert_eq!(*state, PinState::Blocked, "{code}");
                assert!(findings.iter().all(|finding| pins.get(finding.pin).state == PinState::Blocked), "{code}");
                assert!(findings.iter().any(|finding| finding.code == *code), "{code}");
            }
            Outlook::Outage(_) => assert!(code.is_outage(), "{code}"),
            Outlook::Steps => assert!(!steps.is_empty(), "{code}"),
            Outlook::Held => panic!("{code} is not held"),
        }
    }
    let known: Vec<Code> = CHANGES.iter().map(|(code, ..)| *code).collect();
    let untried: Vec<&Code> = Code::ALL.iter().filter(|code| !known.contains(code)).collect();
    assert_eq!(untried, [&Code::CertificateAwaited], "tried below");
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
    assert_eq!((pins.certificate.state, finding.code), (PinState::Blocked, Code::CertificateAwaited));
    assert!(finding.remedy.contains("cert request") && finding.remedy.contains("cert import"), "{}", finding.remedy);
    assert_eq!((outlook, actions), (Outlook::Steps, vec!["store", "bind", "connect", "answer"]));

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
    let report = judge_certificate(&desired, desired.certificate(id), None, None, now());
    let plan = |rehearsals: HashMap<_, _>| {
        let mut planner = Planner::new([], rehearsals);
        assert_eq!(planner.add_certificate(&desired, id, &report), Outlook::Steps);
        let steps = planner.into_steps();
        steps.iter().map(|step| (step.action, step.target.clone(), step.after.clone())).collect::<Vec<_>>()
    };
    let steps = plan([(id, id)].into());
    let actions: Vec<&str> = steps.iter().map(|step| step.0).collect();
    assert_eq!(actions, ["register", "register", "rehearse", "issue"]);
    assert!(steps[0].1.contains("practice") && steps[1].1.contains("main"));
    assert_eq!((steps[2].2.as_slice(), steps[3].2.as_slice()), (&[1, 2][..], &[3][..]));
    assert_eq!(plan(HashMap::new()).iter().map(|step| step.0).collect::<Vec<_>>(), ["register", "issue"]);
    // Only to prove it: as far as that is still to be done.
    for (rehearsals, needed) in [(HashMap::from([(id, id)]), true), (HashMap::new(), false)] {
        let mut planner = Planner::new([], rehearsals);
        assert_eq!(planner.add_rehearsal(&desired, id), needed);
        assert_eq!(planner.into_steps().last().map(|step| step.action), needed.then_some("rehearse"));
    }
}

/// A certificate that no hostname uses, and what its steps are done to.
const ALONE: [(&str, &[&str]); 4] = [
    ("names = [\"a.larkfield.example\"]", &["certificate for a.larkfield.example from main"]),
    (
        "names = [\"a.larkfield.example\", \"b.larkfield.example\", \"c.larkfield.example\", \"d.larkfield.example\"]
         after = [{ run = [\"true\"] }]",
        &[
            "certificate for a.larkfield.example, b.larkfield.example, c.larkfield.example, d.larkfield.example from main",
            "what follows \"alone\"",
        ],
    ),
    (
        "names = [\"a.larkfield.example\", \"b.larkfield.example\", \"c.larkfield.example\", \"d.larkfield.example\", \"e.larkfield.example\"]
         deliver = [{ file = \"tls/chain.pem\", holds = [\"leaf\"] }, { file = \"tls/key.pem\", holds = [\"key\"] }]",
        &["certificate for a.larkfield.example and 4 more names from main", "tls/chain.pem, tls/key.pem"],
    ),
    (
        "names = [\"a.larkfield.example\"]\nissued_by = \"self\"",
        &["certificate for a.larkfield.example from nobody (self-signed)"],
    ),
];

#[test]
fn a_certificate_alone_is_issued_and_delivered_and_then_held() {
    for (table, targets) in ALONE {
        let text = format!("{}\n[certificate.alone]\n{table}\n", MANIFEST.split("[hostname").next().unwrap());
        let mut problems = Diagnostics::default();
        let desired = resolve(read(&text, &mut problems), &mut problems);
        assert!(problems.is_empty(), "{problems:?}");
        let id = desired.unused_certificates()[0];
        let wanted = desired.certificate(id);
        let steps_of = |held: Option<&HeldCertificate>| {
            let mut planner = Planner::new([AuthorityId(0)], HashMap::new());
            let report = judge_certificate(&desired, wanted, held, Some(&Undelivered::default()), now());
            let outlook = planner.add_certificate(&desired, id, &report);
            let steps = planner.into_steps();
            assert_eq!(steps.first().map(|step| &step.why), report.findings.first().map(|finding| &finding.says));
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
        scene.met(|met| {
            if let Met::Answered { status, location: to, .. } = met {
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
    let alias = |index: usize| crate::records::in_words(&desired.hostnames[index].alias(&desired, &info));
    assert_eq!(alias(1), "A 127.0.0.21");
    assert_eq!(alias(2), format!("CNAME {TARGET}."));
}

#[test]
fn the_order_of_steps_protects_traffic_and_shares_what_is_shared() {
    let desired = desired();
    let scene = Scene { certificate: None, binding: BindingView::Absent, ..Scene::held(&desired) };
    let mut planner = Planner::new([], HashMap::new());
    for id in desired.hostname_ids() {
        let endpoint = Fact { seen: now(), value: scene.endpoint.clone() };
        let facts = HostnameFacts::default();
        let ours = Ours::default();
        let known = Known {
            desired: &desired,
            wanted: desired.hostname(id),
            zone: None,
            endpoint: Some(&endpoint),
            certificate: None,
            undelivered: None,
            facts: &facts,
            ours: &ours,
        };
        assert_eq!(planner.add(id, known, &Pins::judge(known, now())), Outlook::Steps);
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
