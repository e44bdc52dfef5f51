//! What the servers of the zone above say, one by one, and what a signed zone's servers have.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::process::Command;
use std::sync::Arc;
use std::time::Duration;

use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, NS, SOA};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use jiff::Timestamp;
use pindrel_core::judging::facts::{DelegationView, ServerWithin, ZoneView};
use pindrel_core::judging::name_servers::hindrance;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::name_servers::KeptRecords;
use pindrel_dns::{discover, name_servers};
use pindrel_testkit::{Program, dig, eventually, free_port, require};
use tokio::net::UdpSocket;

const ZONE: &str = "larkfield.example";

fn name(text: &str) -> Name {
    let mut name = Name::from_ascii(text).unwrap();
    name.set_fqdn(true);
    name
}

fn record(owner: &str, data: RData) -> Record {
    Record::from_rdata(name(owner), 60, data)
}

fn ns(owner: &str, host: &str) -> Record {
    record(owner, RData::NS(NS(name(host))))
}

fn soa(owner: &str) -> Record {
    record(owner, RData::SOA(SOA::new(name("ns1.example"), name("hostmaster.example"), 7, 60, 5, 86_400, 5)))
}

fn glue(host: &str, last: u8) -> Record {
    record(host, RData::A(A(Ipv4Addr::new(127, 0, 0, last))))
}

/// How a server of the zone above behaves.
#[derive(Debug, Clone, Copy)]
enum Above {
    /// It refers to this host for the zone.
    Refers(&'static str),
    /// The same, without the host's address.
    RefersBare(&'static str),
    /// There is no such name.
    Denies,
    /// It serves the zone itself, and nothing else.
    IsBelow,
    /// The same, and its own server has the address 127.0.0.LAST.
    IsBelowAt(u8),
    /// It serves the zone and the one above.
    IsBoth,
    /// It refers to the zone between, at 127.0.0.LAST.
    RefersOn(u8),
    Refuses,
}

impl Above {
    fn answer(self, question: &Message) -> Message {
        let asked = question.queries[0].query_type();
        let mut answer = Message::response(question.metadata.id, OpCode::Query);
        answer.queries = question.queries.clone();
        let is_ds = asked == RecordType::DS;
        match self {
            Above::Refers(host) if !is_ds => {
                answer.add_authorities([ns(ZONE, host)]);
                answer.add_additionals([glue(host, 9)]);
            }
            Above::RefersBare(host) if !is_ds => {
                answer.add_authorities([ns(ZONE, host)]);
            }
            Above::Refers(_) | Above::RefersBare(_) => {
                answer.metadata.authoritative = true;
                answer.add_authorities([soa("example")]);
            }
            Above::Denies => {
                answer.metadata.authoritative = true;
                answer.metadata.response_code = ResponseCode::NXDomain;
                answer.add_authorities([soa("example")]);
            }
            Above::IsBelowAt(last) if asked == RecordType::A => {
                answer.metadata.authoritative = true;
                answer.add_answers([glue("ns1.larkfield.example", last)]);
            }
            Above::IsBelowAt(_) if asked == RecordType::SOA => {
                answer.metadata.authoritative = true;
                answer.add_answers([soa(ZONE)]);
            }
            Above::IsBelow | Above::IsBoth | Above::IsBelowAt(_) if !is_ds => {
                answer.metadata.authoritative = true;
                answer.add_answers([ns(ZONE, "ns1.larkfield.example")]);
            }
            Above::IsBelow | Above::IsBelowAt(_) => {
                answer.metadata.authoritative = true;
                answer.add_authorities([soa(ZONE)]);
            }
            Above::IsBoth => {
                answer.metadata.authoritative = true;
                answer.add_authorities([soa("example")]);
            }
            Above::RefersOn(last) => {
                answer.add_authorities([ns("example", "ns.between.test")]);
                answer.add_additionals([glue("ns.between.test", last)]);
            }
            Above::Refuses => answer.metadata.response_code = ResponseCode::Refused,
        }
        answer
    }

    async fn serve(self, at: SocketAddr) -> SocketAddr {
        let socket = UdpSocket::bind(at).await.unwrap();
        let address = socket.local_addr().unwrap();
        tokio::spawn(async move {
            let socket = Arc::new(socket);
            let mut buffer = vec![0; 4096];
            while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
                let Ok(question) = Message::from_vec(&buffer[..length]) else { continue };
                let _ = socket.send_to(&self.answer(&question).to_vec().unwrap(), client).await;
            }
        });
        address
    }
}

async fn seen_by(parents: &[Above]) -> (ZoneView, Vec<SocketAddr>) {
    let mut addresses = Vec::new();
    for parent in parents {
        addresses.push(parent.serve(SocketAddr::from(([127, 0, 0, 1], 0))).await);
    }
    let child = Above::IsBelow.serve(SocketAddr::from(([127, 0, 0, 1], 0))).await;
    (discover::zone(&ZONE.parse().unwrap(), &[child], &addresses, &[]).await, addresses)
}

fn names(view: &ZoneView) -> Result<Vec<String>, String> {
    match &view.delegation {
        DelegationView::Delegated { name_servers, .. } => Ok(name_servers.iter().map(DnsName::to_string).collect()),
        DelegationView::Missing { .. } => Ok(Vec::new()),
        DelegationView::AskedBelow { .. } => Err("asked below".into()),
        DelegationView::Unreachable { why } => Err(why.to_string()),
    }
}

#[tokio::test]
async fn every_server_of_the_zone_above_is_heard_and_those_below_have_no_say() {
    let one = "ns1.larkfield.example";
    type Case<'c> = (&'c [Above], Result<&'c [&'c str], &'c str>, &'c [usize]);
    let table: [Case<'_>; 9] = [
        (&[Above::Refers(one)], Ok(&[one]), &[]),
        (&[Above::Refers(one), Above::Refers(one)], Ok(&[one]), &[]),
        (&[Above::Refers(one), Above::Refers("ns9.larkfield.example")], Ok(&[one]), &[1]),
        (&[Above::Denies, Above::Refers(one)], Ok(&[one]), &[0]),
        (&[Above::Denies, Above::Denies], Ok(&[]), &[]),
        (&[Above::Refuses, Above::Refers(one)], Ok(&[one]), &[]),
        (&[Above::Refuses], Err("REFUSED"), &[]),
        (&[Above::IsBelow], Err("asked below"), &[]),
        (&[Above::IsBelow, Above::IsBoth], Ok(&[one]), &[]),
    ];
    for (parents, expected, differing) in table {
        let (view, addresses) = seen_by(parents).await;
        match (names(&view), expected) {
            (Ok(found), Ok(expected)) => assert_eq!(found, expected, "{parents:?}"),
            (Err(found), Err(says)) => assert!(found.contains(says), "{parents:?}: {found}"),
            (found, _) => panic!("{parents:?}: {found:?}"),
        }
        let differing: Vec<SocketAddr> = differing.iter().map(|at| addresses[*at]).collect();
        assert_eq!(view.parents_differing, differing, "{parents:?}");
        // These servers answer over UDP alone.
        assert_eq!(view.without_tcp.len(), usize::from(view.own_name_servers().is_some()), "{view:?}");
    }
}

#[tokio::test]
async fn a_referral_to_a_zone_between_is_followed_and_not_in_circles() {
    let on = Above::RefersOn(1).serve(SocketAddr::from(([127, 0, 0, 7], 0))).await;
    let next = Above::Refers("ns1.larkfield.example").serve(SocketAddr::from(([127, 0, 0, 1], on.port()))).await;
    assert_eq!(next.port(), on.port());
    let view = discover::zone(&ZONE.parse().unwrap(), &[next], &[on], &[]).await;
    assert_eq!(names(&view).unwrap(), ["ns1.larkfield.example"]);
    let around = Above::RefersOn(8).serve(SocketAddr::from(([127, 0, 0, 8], 0))).await;
    let view = discover::zone(&ZONE.parse().unwrap(), &[next], &[around], &[]).await;
    assert!(names(&view).unwrap_err().contains("refers from one server to the next"), "{view:?}");
}

/// A real server of `example` and of a signed zone below it, whose signatures end `days` from now, and of which the
/// zone above has the right DS record or another one.
async fn signed(days: i64, right: bool) -> (SocketAddr, Program, tempfile::TempDir) {
    let folder = tempfile::tempdir().unwrap();
    let (path, address) = (folder.path(), free_port());
    let run = |program: &str, args: &[&str]| {
        let output = Command::new(program).args(args).current_dir(path).output().unwrap();
        assert!(output.status.success(), "{program}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    };
    let head = |zone: &str| {
        format!(
            "$TTL 60\n@ IN SOA ns1.{zone}. hostmaster.{zone}. 7 60 5 86400 5\n@ IN NS ns1.{zone}.\nns1.{zone}. A 127.0.0.1\n"
        )
    };
    let key = run("dnssec-keygen", &["-q", "-a", "ECDSAP256SHA256", "-f", "KSK", ZONE]);
    let public = std::fs::read_to_string(path.join(format!("{key}.key"))).unwrap();
    std::fs::write(path.join("child"), format!("{}{public}", head(ZONE))).unwrap();
    let begun = Timestamp::now().as_second() - 40 * 86_400;
    let time = |second: i64| Timestamp::from_second(second).unwrap().strftime("%Y%m%d%H%M%S").to_string();
    let (start, end) = (time(begun), time(Timestamp::now().as_second() + days * 86_400));
    run(
        "dnssec-signzone",
        &["-q", "-P", "-z", "-s", &start, "-e", &end, "-o", ZONE, "-f", "child.signed", "child", &key],
    );
    let mut digest = run("dnssec-dsfromkey", &["-2", &format!("{key}.key")]);
    if !right {
        let cut = digest.len() - 4;
        digest.replace_range(cut.., "0000");
    }
    let above = format!("{}{ZONE}. NS ns1.{ZONE}.\nns1.{ZONE}. A 127.0.0.1\n{digest}\n", head("example"));
    std::fs::write(path.join("above"), above).unwrap();
    let shown = path.display();
    let text = format!(
        "options {{ directory \"{shown}\"; pid-file \"{shown}/pid\"; session-keyfile \"{shown}/session.key\"; \
         managed-keys-directory \"{shown}\"; lock-file none; listen-on port {} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }}; \
         recursion no; dnssec-validation no; notify no; }};\ncontrols {{ }};\n\
         zone \"example\" {{ type primary; file \"above\"; }};\nzone \"{ZONE}\" {{ type primary; file \"child.signed\"; }};\n",
        address.port()
    );
    std::fs::write(path.join("named.conf"), text).unwrap();
    let conf = path.join("named.conf").display().to_string();
    let process = Program::start("named", path, &["-f", "-c", &conf], &[]);
    eventually("the signed zone", Duration::from_secs(20), async || dig(address, ZONE, "SOA").contains("hostmaster"))
        .await;
    (address, process, folder)
}

#[tokio::test]
async fn keys_and_signatures_of_a_signed_zone_are_seen_on_each_server() {
    let test = "keys_and_signatures_of_a_signed_zone_are_seen_on_each_server";
    if !require(test, &[("named", "bind9"), ("dnssec-signzone", "bind9-utils"), ("dig", "bind9-dnsutils")]) {
        return;
    }
    for (days, right) in [(20, true), (-2, true), (20, false)] {
        let (address, _process, _folder) = signed(days, right).await;
        let view = discover::zone(&ZONE.parse().unwrap(), &[address], &[address], &[]).await;
        let signed = view.signed.as_ref().unwrap_or_else(|| panic!("{view:?}"));
        assert_eq!(signed.without_key.is_empty(), right, "{signed:?}");
        let [(server, end)] = signed.ends[..] else { panic!("{signed:?}") };
        let left = end.duration_since(Timestamp::now()).as_secs();
        assert_eq!(server, address);
        assert!((left - days * 86_400).abs() < 3_600, "{left} s left of {days} days");
        assert_eq!((view.without_tcp.len(), view.parents_differing.len()), (0, 0));
    }
}

/// Who does not know the zone yet goes where the glue says, whatever the zone itself has by now.
#[tokio::test]
async fn servers_that_lie_in_the_zone_are_seen_with_their_glue_and_their_own_addresses() {
    let local = || SocketAddr::from(([127, 0, 0, 1], 0));
    let zone: DnsName = ZONE.parse().unwrap();
    let (inside, elsewhere) = ("ns1.larkfield.example", "ns1.elsewhere.test");
    let table = [
        (Above::Refers(inside), 9, Some(vec![9]), (false, false)),
        (Above::Refers(inside), 8, Some(vec![9]), (true, false)),
        (Above::RefersBare(inside), 9, Some(vec![]), (false, true)),
        // The address of a server elsewhere is none of the zone above's business, and one that the delegation does not
        // name has no glue to lack.
        (Above::Refers(elsewhere), 8, None, (false, false)),
        (Above::RefersBare(elsewhere), 8, None, (false, false)),
    ];
    for (above, own, glue, is_wrong) in table {
        let parent = above.serve(local()).await;
        let child = Above::IsBelowAt(own).serve(local()).await;
        let view = discover::zone(&zone, &[child], &[parent], &[]).await;
        let addresses = |last: &[u8]| last.iter().map(|last| IpAddr::from([127, 0, 0, *last])).collect();
        let expected = ServerWithin {
            name: inside.parse().unwrap(),
            glue: glue.map(|last| addresses(&last)),
            own: addresses(&[own]),
        };
        assert_eq!(view.servers_within, std::slice::from_ref(&expected), "{above:?}");
        assert_eq!((expected.has_stale_glue(), expected.lacks_glue()), is_wrong, "{above:?}");
    }
}

/// A validating resolver may have the keys of the old server and an answer of the new one.
#[tokio::test]
async fn a_change_of_name_servers_sees_what_caches_keep_and_whose_keys_are_missing() {
    let test = "a_change_of_name_servers_sees_what_caches_keep_and_whose_keys_are_missing";
    if !require(test, &[("named", "bind9"), ("dnssec-signzone", "bind9-utils"), ("dig", "bind9-dnsutils")]) {
        return;
    }
    let (old, _process, _folder) = signed(20, true).await;
    let (new, _process, _folder) = signed(20, true).await;
    let zone: DnsName = ZONE.parse().unwrap();
    let same = name_servers::look(&zone, [old, old], &[old], &[]).await.unwrap();
    assert_eq!(same.name_servers, ["ns1.larkfield.example".parse().unwrap()]);
    let kept: Vec<KeptRecords> = same.kept.iter().map(|kept| kept.records).collect();
    assert_eq!(kept, [KeptRecords::NsOwn, KeptRecords::NsAbove, KeptRecords::Glue, KeptRecords::Ds]);
    assert!(hindrance(&same).is_none(), "{same:?}");
    let other = name_servers::look(&zone, [old, new], &[old], &[]).await.unwrap();
    let keys = other.keys.as_ref().unwrap();
    assert_eq!((keys.new_matches_ds, keys.missing_at_new.len(), keys.missing_at_old.len()), (false, 1, 1));
    assert_eq!(hindrance(&other).unwrap().words().evidence.len(), 3);
    assert!(name_servers::look(&zone, [old, free_port()], &[old], &[]).await.is_err());
}
