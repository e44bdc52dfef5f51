//! Lookups against servers that are made up here: right ones, hostile ones, and ones that
//! lead in circles.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, CAA, CNAME, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType as WireType};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{AliasPlace, RecordData, RecordType, ZoneRecord};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_core::zones::rights::Right;
use pindrel_dns::challenge::{self, PlaceError};
use pindrel_dns::lookup::{self, Resolved};
use pindrel_dns::{Resolver, Rfc2136, TriedRights, ZoneDriver as _, caa, present};
use pindrel_testkit::{ClosedPort, Received, ScriptedServer, udp_and_tcp};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::UdpSocket;

/// How long a transfer may take.
const WITHIN: Duration = Duration::from_secs(30);

/// Makes the raw answers to a question, each sent in turn.
type Answering = Arc<dyn Fn(&Message) -> Vec<Vec<u8>> + Send + Sync>;

async fn server(answering: Answering) -> SocketAddr {
    let socket = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let address = socket.local_addr().unwrap();
    serve(socket, answering);
    address
}

fn serve(socket: UdpSocket, answering: Answering) {
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
            let Ok(question) = Message::from_vec(&buffer[..length]) else { continue };
            for answer in answering(&question) {
                let _ = socket.send_to(&answer, client).await;
            }
        }
    });
}

fn name(text: &str) -> Name {
    let mut name = Name::from_ascii(text).unwrap();
    name.set_fqdn(true);
    name
}

fn core(text: &str) -> DnsName {
    text.parse().unwrap()
}

/// An answer to a question, with authority.
fn answer(question: &Message, code: ResponseCode, records: Vec<Record>) -> Message {
    let mut answer = Message::response(question.metadata.id, OpCode::Query);
    answer.metadata.authoritative = true;
    answer.metadata.response_code = code;
    answer.queries = question.queries.clone();
    answer.add_answers(records);
    answer
}

/// A server that gives these records and nothing else; aliases are followed as far as it
/// knows them.
async fn serving(records: Vec<(&'static str, RData)>) -> SocketAddr {
    let mut sets: HashMap<(Name, WireType), Vec<Record>> = HashMap::new();
    for (owner, data) in records {
        let owner = name(owner);
        sets.entry((owner.clone(), data.record_type())).or_default().push(Record::from_rdata(owner, 60, data));
    }
    server(Arc::new(move |question: &Message| {
        let query = &question.queries[0];
        let mut owner = query.name().to_lowercase();
        let mut found = Vec::new();
        for _ in 0..12 {
            if let Some(set) = sets.get(&(owner.clone(), query.query_type())) {
                found.extend(set.iter().cloned());
                break;
            }
            let Some(alias) = sets.get(&(owner.clone(), WireType::CNAME)) else { break };
            found.extend(alias.iter().cloned());
            let RData::CNAME(target) = &alias[0].data else { break };
            owner = target.0.clone();
        }
        let code = if found.is_empty() { ResponseCode::NXDomain } else { ResponseCode::NoError };
        vec![answer(question, code, found).to_vec().unwrap()]
    }))
    .await
}

fn alias(target: &str) -> RData {
    RData::CNAME(CNAME(name(target)))
}

fn text(text: &str) -> RData {
    RData::TXT(TXT::new(vec![text.to_owned()]))
}

fn issue(value: &str) -> RData {
    let mut caa = CAA::new_issue(false, None, Vec::new());
    caa.value = value.as_bytes().to_vec();
    RData::CAA(caa)
}

const OWNER: &str = "_acme-challenge.api.larkfield.example";

fn zone_record(owner: &str, text: &str) -> ZoneRecord {
    ZoneRecord { owner: core(owner), ttl: Ttl::MINUTE, data: RecordData::Txt(text.into()) }
}

fn record() -> ZoneRecord {
    zone_record(OWNER, "expected")
}

#[tokio::test]
async fn forged_and_torn_answers_are_passed_over_until_the_right_one_comes() {
    let hostile: Answering = Arc::new(|question: &Message| {
        let right =
            answer(question, ResponseCode::NoError, vec![Record::from_rdata(name(OWNER), 60, text("expected"))]);
        let mut other_id =
            answer(question, ResponseCode::NoError, vec![Record::from_rdata(name(OWNER), 60, text("forged"))]);
        other_id.metadata.id = question.metadata.id.wrapping_add(1);
        let mut other_question = right.clone();
        other_question.queries[0].set_name(name("other.larkfield.example"));
        let mut no_response = right.clone();
        no_response.metadata.message_type = hickory_proto::op::MessageType::Query;
        let torn = right.to_vec().unwrap()[..20].to_vec();
        vec![
            vec![],
            vec![0xff; 7],
            torn,
            other_id.to_vec().unwrap(),
            other_question.to_vec().unwrap(),
            no_response.to_vec().unwrap(),
            right.to_vec().unwrap(),
        ]
    });
    let address = server(hostile).await;
    assert_eq!(gives(address, &record()).await, Ok(true));
}

async fn gives(server: SocketAddr, record: &ZoneRecord) -> Result<bool, Unreachable> {
    present::present(server, [record]).await.map(|present| present.has(record))
}

/// What a server says, and what a lookup makes of it.
type Case = (fn(&Message) -> Message, Result<bool, &'static str>);

#[tokio::test]
async fn each_way_of_not_answering_is_told_apart() {
    let table: [Case; 5] = [
        (|question| answer(question, ResponseCode::NXDomain, Vec::new()), Ok(false)),
        (|question| answer(question, ResponseCode::NoError, Vec::new()), Ok(false)),
        (|question| answer(question, ResponseCode::ServFail, Vec::new()), Err("SERVFAIL")),
        (|question| answer(question, ResponseCode::Refused, Vec::new()), Err("REFUSED")),
        (
            |question| {
                let mut answer = answer(question, ResponseCode::NoError, Vec::new());
                answer.metadata.authoritative = false;
                answer
            },
            Err("not authoritative"),
        ),
    ];
    for (make, expected) in table {
        let address = server(Arc::new(move |question: &Message| vec![make(question).to_vec().unwrap()])).await;
        let said = gives(address, &record()).await;
        match expected {
            Ok(gives) => assert_eq!(said, Ok(gives)),
            Err(says) => assert!(said.clone().is_err_and(|error| error.to_string().contains(says)), "{says}: {said:?}"),
        }
    }
}

#[tokio::test]
async fn silence_ends_in_bounded_time_and_a_closed_port_at_once() {
    let silent = server(Arc::new(|_: &Message| Vec::new())).await;
    let begun = Instant::now();
    let said = gives(silent, &record()).await;
    assert!(matches!(said, Err(Unreachable::TimedOut { .. })), "{said:?}");
    assert!(begun.elapsed() < Duration::from_secs(20));
    let closed = ClosedPort::take().await;
    let begun = Instant::now();
    let said = gives(closed.address, &record()).await;
    assert_eq!(said.unwrap_err().to_string(), "connection refused");
    assert!(begun.elapsed() < Duration::from_secs(5));
}

#[tokio::test]
async fn a_cut_answer_over_udp_needs_a_whole_one_over_tcp() {
    let cut = server(Arc::new(|question: &Message| {
        let mut cut = answer(question, ResponseCode::NoError, Vec::new());
        cut.metadata.truncation = true;
        vec![cut.to_vec().unwrap()]
    }))
    .await;
    // Nothing listens there over TCP: the cut answer is not taken for the whole one.
    assert!(gives(cut, &record()).await.is_err());
}

#[tokio::test]
async fn a_resolver_is_followed_along_aliases_and_not_in_circles() {
    let resolver = serving(vec![
        ("www.larkfield.example", alias("edge.test")),
        ("edge.test", RData::A(A(Ipv4Addr::new(127, 0, 0, 9)))),
        ("a.larkfield.example", alias("b.larkfield.example")),
        ("b.larkfield.example", alias("a.larkfield.example")),
    ])
    .await;
    let resolver = resolver.into();
    let found = lookup::resolve(&resolver, &core("www.larkfield.example")).await;
    let Resolved::Addresses { addresses, for_secs } = found else { panic!("{found:?}") };
    assert_eq!(addresses, [std::net::IpAddr::from(Ipv4Addr::new(127, 0, 0, 9))]);
    assert!(for_secs > 0, "it says how long it may be kept");
    for absent in ["a.larkfield.example", "none.larkfield.example"] {
        assert!(matches!(lookup::resolve(&resolver, &core(absent)).await, Resolved::Nothing { .. }), "{absent}");
    }
}

#[tokio::test]
async fn several_values_at_one_name_and_several_record_types_are_kept_apart() {
    let address = serving(vec![(OWNER, text("first")), (OWNER, text("expected")), (OWNER, text("third"))]).await;
    assert_eq!(gives(address, &record()).await, Ok(true));
    let other = zone_record(OWNER, "absent");
    assert_eq!(gives(address, &other).await, Ok(false));
    assert_eq!(lookup::records(address, &core(OWNER), RecordType::A).await, Ok(Vec::new()));
}

#[tokio::test]
async fn caa_is_climbed_from_the_name_to_above_the_zone() {
    let apex = core("larkfield.example");
    // The records of each server, and where the set that counts stands.
    type Records = Vec<(&'static str, RData)>;
    let table: [(Records, Records, Option<&str>); 5] = [
        (vec![], vec![], None),
        (vec![("a.b.larkfield.example", issue("x.test"))], vec![], Some("a.b.larkfield.example")),
        (
            vec![("b.larkfield.example", issue("x.test")), ("larkfield.example", issue("y.test"))],
            vec![],
            Some("b.larkfield.example"),
        ),
        (vec![("larkfield.example", issue("y.test"))], vec![("example", issue("z.test"))], Some("larkfield.example")),
        (vec![], vec![("example", issue("z.test"))], Some("example")),
    ];
    for (zone, parent, expected) in table {
        let (zone, parent) = ([serving(zone).await], [serving(parent).await]);
        let servers = caa::Servers { apex: &apex, zone: &zone, parents: &parent };
        let found = caa::CaaCache::default().look_up(&core("a.b.larkfield.example"), servers, &[]).await.unwrap();
        assert_eq!(found.set.map(|set| set.owner), expected.map(core));
    }
}

#[tokio::test]
async fn caa_of_an_alias_is_that_of_its_target_and_a_failing_zone_is_no_absence() {
    let apex = core("larkfield.example");
    let zone = [serving(vec![("api.larkfield.example", alias("gw.edge.test"))]).await];
    let resolver = [serving(vec![("gw.edge.test", issue("edge.test"))]).await.into()];
    let servers = caa::Servers { apex: &apex, zone: &zone, parents: &[] };
    let found = caa::CaaCache::default().look_up(&core("api.larkfield.example"), servers, &resolver).await.unwrap();
    assert_eq!(found.set.unwrap().records[0].value, "edge.test");
    assert_eq!(found.unseen, None, "above the zone there are none");

    let failing = server(Arc::new(|question: &Message| {
        vec![answer(question, ResponseCode::ServFail, Vec::new()).to_vec().unwrap()]
    }))
    .await;
    let zone = [failing];
    let servers = caa::Servers { apex: &apex, zone: &zone, parents: &[] };
    assert!(
        caa::CaaCache::default().look_up(&core("api.larkfield.example"), servers, &resolver).await.is_err(),
        "an authority would refuse too"
    );
    // Nor is a failure above the zone.
    let (zone, resolver) = ([serving(vec![("larkfield.example", text("no CAA"))]).await], [failing.into()]);
    let servers = caa::Servers { apex: &apex, zone: &zone, parents: &[] };
    let found = caa::CaaCache::default().look_up(&core("api.larkfield.example"), servers, &resolver).await.unwrap();
    let why = Unreachable::Code { code: "SERVFAIL".into() };
    assert_eq!((found.set, found.unseen), (None, Some((core("example"), why))));
}

/// A server that says the same to every question, and counts them.
async fn counting(data: RData) -> (SocketAddr, Arc<AtomicUsize>) {
    let count = Arc::new(AtomicUsize::new(0));
    let questions = Arc::clone(&count);
    let address = server(Arc::new(move |question: &Message| {
        questions.fetch_add(1, Ordering::Relaxed);
        let query = &question.queries[0];
        let own = data.record_type() == query.query_type();
        let found = own.then(|| Record::from_rdata(query.name().clone(), 60, data.clone()));
        vec![answer(question, ResponseCode::NoError, found.into_iter().collect()).to_vec().unwrap()]
    }));
    (address.await, count)
}

#[tokio::test]
async fn a_server_is_asked_for_each_name_once_and_where_it_lags_for_one_only() {
    let records: Vec<ZoneRecord> = (0..30)
        .flat_map(|n| ["expected", "another"].map(|text| (n, text)))
        .map(|(n, text)| zone_record(&format!("n{n}.larkfield.example"), text))
        .collect();
    for (text_there, lacking, questions) in [("expected", 30, 1 + 30), ("older", 60, 1)] {
        let (address, count) = counting(text(text_there)).await;
        assert_eq!(present::lacking(address, &records).await.unwrap().len(), lacking, "{text_there}");
        assert_eq!(count.load(Ordering::Relaxed), questions, "{text_there}");
    }
    let (address, count) = counting(text("expected")).await;
    assert_eq!(present::lacking(address, &[]).await, Ok(Vec::new()));
    assert_eq!(count.load(Ordering::Relaxed), 0, "nothing is asked for nothing");
}

#[tokio::test]
async fn however_many_questions_there_are_a_bounded_number_is_under_way() {
    let socket = Arc::new(UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap());
    let address = socket.local_addr().unwrap();
    let (under_way, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let seen = Arc::clone(&most);
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
            let question = Message::from_vec(&buffer[..length]).unwrap();
            let (socket, under_way) = (Arc::clone(&socket), Arc::clone(&under_way));
            seen.fetch_max(under_way.fetch_add(1, Ordering::Relaxed) + 1, Ordering::Relaxed);
            tokio::spawn(async move {
                tokio::time::sleep(Duration::from_millis(30)).await;
                under_way.fetch_sub(1, Ordering::Relaxed);
                let answer = answer(&question, ResponseCode::NXDomain, Vec::new()).to_vec().unwrap();
                socket.send_to(&answer, client).await
            });
        }
    });
    let owner = core(OWNER);
    let asked = futures::future::join_all((0..500).map(|_| lookup::records(address, &owner, RecordType::Txt))).await;
    assert!(asked.into_iter().all(|answer| answer == Ok(Vec::new())));
    let most = most.load(Ordering::Relaxed);
    assert!((2..=128).contains(&most), "{most} at once");
}

#[tokio::test]
async fn what_lies_above_many_names_is_looked_up_once() {
    let apex = core("larkfield.example");
    let ((zone, at_zone), (parent, above)) = (counting(text("no CAA")).await, counting(text("no CAA")).await);
    let (zone, parents) = ([zone], [parent]);
    let servers = caa::Servers { apex: &apex, zone: &zone, parents: &parents };
    let found = caa::CaaCache::default();
    let names: Vec<DnsName> = (0..20).map(|n| core(&format!("n{n}.larkfield.example"))).collect();
    let sets = futures::future::try_join_all(names.iter().map(|name| found.look_up(name, servers, &[]))).await.unwrap();
    assert!(sets.iter().all(|found| found.set.is_none()));
    assert_eq!(at_zone.load(Ordering::Relaxed), 20 + 1, "each name, and the zone's own");
    assert_eq!(above.load(Ordering::Relaxed), 1, "example");
}

#[tokio::test]
async fn a_challenge_belongs_at_the_end_of_its_aliases() {
    let mut long: Vec<(&'static str, RData)> = Vec::new();
    for n in 0..12 {
        let (from, to) = (format!("h{n}.larkfield.example"), format!("h{}.larkfield.example", n + 1));
        long.push((from.leak(), alias(&to)));
    }
    let zone = serving(
        [
            ("_acme-challenge.plain.larkfield.example", text("x")),
            ("_acme-challenge.two.larkfield.example", alias("hop.larkfield.example")),
            ("hop.larkfield.example", alias("two.validation.test")),
            ("_acme-challenge.circle.larkfield.example", alias("round.larkfield.example")),
            ("round.larkfield.example", alias("_acme-challenge.circle.larkfield.example")),
            ("_acme-challenge.out.larkfield.example", alias("out.elsewhere.test")),
            ("_acme-challenge.through.larkfield.example", alias("through.elsewhere.test")),
            ("_acme-challenge.long.larkfield.example", alias("h0.larkfield.example")),
            // What a wildcard gives is gone as soon as the record is made.
            ("*.wild.larkfield.example", alias("parked.edge.test")),
            ("_acme-challenge.wild.larkfield.example", alias("parked.edge.test")),
            ("_pindrel-nothing._acme-challenge.wild.larkfield.example", alias("parked.edge.test")),
            // What stands there by itself stays, though a wildcard would give the same.
            ("*.own.larkfield.example", alias("own.validation.test")),
            ("_acme-challenge.own.larkfield.example", alias("own.validation.test")),
            ("_acme-challenge.eight.larkfield.example", alias("h5.larkfield.example")),
        ]
        .into_iter()
        .chain(long)
        .collect(),
    )
    .await;
    let validation = serving(vec![]).await;
    let resolver = serving(vec![("through.elsewhere.test", alias("through.validation.test"))]).await;
    let servers_of = |at: &DnsName| {
        if at.is_within(&core("larkfield.example")) {
            Some(vec![zone])
        } else {
            at.is_within(&core("validation.test")).then(|| vec![validation])
        }
    };
    let resolvers = [resolver.into()];
    for (label, expected) in [
        ("plain", Ok("_acme-challenge.plain.larkfield.example")),
        ("absent", Ok("_acme-challenge.absent.larkfield.example")),
        ("two", Ok("two.validation.test")),
        ("through", Ok("through.validation.test")),
        ("wild", Ok("_acme-challenge.wild.larkfield.example")),
        ("own", Ok("own.validation.test")),
        ("eight", Ok("h12.larkfield.example")),
        ("circle", Err("form a loop")),
        ("out", Err("an alias of out.elsewhere.test, which is not in any zone")),
        ("long", Err("more than 8 CNAME records")),
    ] {
        let start = core(&format!("_acme-challenge.{label}.larkfield.example"));
        let found: Result<DnsName, PlaceError> = challenge::place(&start, &servers_of, &resolvers).await;
        match (found, expected) {
            (Ok(place), Ok(expected)) => assert_eq!(place, core(expected)),
            (Err(error), Err(says)) => {
                assert!(error.to_string().contains(says) && !error.remedy().is_empty(), "{label}: {error}");
            }
            (found, expected) => panic!("{label}: {found:?}, not {expected:?}"),
        }
    }
}

/// A server that knows nothing of EDNS returns an error to what has it (RFC 6891 §7), and is asked without.
#[tokio::test]
async fn a_server_without_edns_is_asked_without() {
    for code in [ResponseCode::FormErr, ResponseCode::NotImp] {
        let old = server(Arc::new(move |question: &Message| {
            let (code, answers) = match &question.edns {
                Some(_) => (code, Vec::new()),
                None => {
                    let name = question.queries[0].name().clone();
                    (ResponseCode::NoError, vec![Record::from_rdata(name, 60, alias("edge.larkfield.test"))])
                }
            };
            vec![answer(question, code, answers).to_vec().unwrap()]
        }))
        .await;
        let view = lookup::alias(&[old], &core("www.larkfield.example"), AliasPlace::Name).await;
        assert_eq!(view.servers[0].gives.as_ref().unwrap().len(), 1, "{code}");
    }
}

#[tokio::test]
async fn a_server_that_answers_over_tcp_alone_is_heard_and_an_absent_name_is_asked_for_once() {
    let (udp, tcp) = udp_and_tcp().await;
    let address = tcp.local_addr().unwrap();
    tokio::spawn(async move {
        let _bound = udp;
        while let Ok((mut stream, _)) = tcp.accept().await {
            let length = stream.read_u16().await.unwrap();
            let mut question = vec![0; usize::from(length)];
            stream.read_exact(&mut question).await.unwrap();
            let question = Message::from_vec(&question).unwrap();
            let bytes = answer(&question, ResponseCode::NXDomain, Vec::new()).to_vec().unwrap();
            stream.write_u16(u16::try_from(bytes.len()).unwrap()).await.unwrap();
            stream.write_all(&bytes).await.unwrap();
        }
    });
    let view = lookup::alias(&[address], &core("absent.larkfield.example"), AliasPlace::Name).await;
    assert_eq!(view.servers[0].gives, Ok(Vec::new()));

    let count = Arc::new(AtomicUsize::new(0));
    let counted = count.clone();
    let absent = server(Arc::new(move |question: &Message| {
        counted.fetch_add(1, Ordering::Relaxed);
        vec![answer(question, ResponseCode::NXDomain, Vec::new()).to_vec().unwrap()]
    }))
    .await;
    let view = lookup::alias(&[absent], &core("absent.larkfield.example"), AliasPlace::Name).await;
    assert_eq!((view.servers[0].gives.clone(), count.load(Ordering::Relaxed)), (Ok(Vec::new()), 1));
}

/// What a resolver over HTTPS may send in the place of a DNS message, and one that answers another question.
#[tokio::test]
async fn a_resolver_over_https_or_tls_that_breaks_the_rules_is_told_as_what_it_does() {
    fn message(status: u16, kind: &str, body: &[u8]) -> Vec<u8> {
        let head = format!("HTTP/1.1 {status} Told\r\ncontent-type: {kind}\r\ncontent-length: {}\r\n\r\n", body.len());
        [head.as_bytes(), body].concat()
    }
    const DNS: &str = "application/dns-message";
    let other = answer(&Message::query(), ResponseCode::NoError, Vec::new()).to_vec().unwrap();
    let forged = move |request: &Received| {
        let asked = Message::from_vec(&request.body).unwrap();
        let mut forged = answer(&asked, ResponseCode::NoError, Vec::new());
        forged.metadata.id = asked.metadata.id.wrapping_add(1);
        forged.to_vec().unwrap()
    };
    type Script = Box<dyn Fn(&Received) -> Vec<u8> + Send + Sync>;
    let table: [(Script, &str); 7] = [
        (Box::new(move |_| message(200, "text/html", b"<p>Sign in")), "no DNS message but \"text/html\""),
        (Box::new(move |_| message(503, DNS, b"")), "HTTP status 503"),
        (Box::new(move |_| message(302, DNS, b"")), "HTTP status 302"),
        (Box::new(move |_| message(200, DNS, b"\x00")), "it is not an answer to the question"),
        (Box::new(move |_| message(200, DNS, &vec![0; 70_000])), "sends more than 65535 bytes"),
        (Box::new(move |_| message(200, DNS, &other)), "it is not an answer to the question"),
        (Box::new(move |request| message(200, DNS, &forged(request))), "it is not an answer to the question"),
    ];
    for (script, says) in table {
        let server = ScriptedServer::start(&["127.0.0.1"], move |_, request| script(request)).await;
        let url = format!("https://{}/dns-query", server.address);
        let told = asked_over(&url, &server).await;
        assert!(told.contains(says), "{says}: {told}");
    }
    // Where DNS is expected over TLS, something else answers, or has another name.
    let web = ScriptedServer::start(&["127.0.0.1"], |_, _| Vec::new()).await;
    let told = asked_over(&format!("tls://{}", web.address), &web).await;
    assert_eq!(told, "timed out after 6 s");
    let stranger = ScriptedServer::start(&["resolver.example"], |_, _| Vec::new()).await;
    let told = asked_over(&format!("tls://{}", stranger.address), &stranger).await;
    assert!(told.contains("the TLS handshake failed"), "{told}");
}

/// What is said of a resolver that is asked for a name.
async fn asked_over(url: &str, server: &ScriptedServer) -> String {
    let ResolverAddress::Encrypted(own) = url.parse().unwrap() else { panic!("{url}") };
    let root = rustls::pki_types::CertificateDer::from(server.root.to_vec());
    let anchor = webpki::anchor_from_trusted_cert(&root).unwrap().to_owned();
    let resolver = Resolver::encrypted(&own, vec![anchor], Some(server.root_pem.as_bytes()));
    match lookup::resolve(&resolver, &core("www.larkfield.example")).await {
        Resolved::Nothing { why, .. } => why.to_string(),
        found => panic!("{found:?}"),
    }
}

/// How a server treats a connection over TCP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Manner {
    /// It answers one message after another.
    Keeps,
    /// It closes each connection once it has answered.
    Closes,
    /// It closes a connection with the second message on it unanswered.
    Cuts,
}

/// A server that answers nothing over UDP but that the answer is cut, and the rest over TCP; with how many connections
/// and messages it had there.
async fn over_tcp_only(manner: Manner, code: ResponseCode) -> (SocketAddr, Arc<[AtomicUsize; 2]>) {
    let counts = Arc::new([AtomicUsize::new(0), AtomicUsize::new(0)]);
    let (socket, listener) = udp_and_tcp().await;
    let address = listener.local_addr().unwrap();
    serve(
        socket,
        Arc::new(|question: &Message| {
            let mut cut = answer(question, ResponseCode::NoError, Vec::new());
            cut.metadata.truncation = true;
            vec![cut.to_vec().unwrap()]
        }),
    );
    let counted = counts.clone();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            counted[0].fetch_add(1, Ordering::Relaxed);
            let counted = counted.clone();
            tokio::spawn(async move {
                for number in 0.. {
                    let Ok(length) = stream.read_u16().await else { return };
                    let mut raw = vec![0; usize::from(length)];
                    stream.read_exact(&mut raw).await.unwrap();
                    counted[1].fetch_add(1, Ordering::Relaxed);
                    if manner == Manner::Cuts && number == 1 {
                        return;
                    }
                    let question = Message::from_vec(&raw).unwrap();
                    let mut answer = match question.queries.first() {
                        Some(asked) if code == ResponseCode::NoError => {
                            let owner = asked.name().clone();
                            let record = Record::from_rdata(owner, 60, RData::A(A(Ipv4Addr::new(192, 0, 2, 7))));
                            answer(&question, code, vec![record])
                        }
                        _ => answer(&question, code, Vec::new()),
                    };
                    answer.metadata.op_code = question.metadata.op_code;
                    let raw = answer.to_vec().unwrap();
                    stream.write_all(&(raw.len() as u16).to_be_bytes()).await.unwrap();
                    stream.write_all(&raw).await.unwrap();
                    if manner == Manner::Closes {
                        return;
                    }
                }
            });
        }
    });
    (address, counts)
}

/// A connection is kept for the next question, and whoever closes it meanwhile is asked over another one.
#[tokio::test]
async fn questions_share_a_connection_and_one_that_is_closed_costs_no_answer() {
    for (manner, connections) in [(Manner::Keeps, 1), (Manner::Closes, 6), (Manner::Cuts, 6)] {
        let (address, counts) = over_tcp_only(manner, ResponseCode::NoError).await;
        for n in 0..6 {
            let found =
                lookup::records(address, &core(&format!("h{n}.larkfield.example")), RecordType::A).await.unwrap();
            assert_eq!(found[0].data(), [RecordData::A(Ipv4Addr::new(192, 0, 2, 7))], "{manner:?}");
            // Whoever closes has done so by now.
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        assert_eq!(counts[0].load(Ordering::Relaxed), connections, "{manner:?}");
    }
}

/// An update that may have been carried out is not sent again: whoever sent it looks whether it was.
#[tokio::test]
async fn an_update_without_an_answer_is_sent_once() {
    let (address, counts) = over_tcp_only(Manner::Cuts, ResponseCode::Refused).await;
    let key = core("pindrel");
    let driver =
        Rfc2136::new(core("larkfield.example"), address, key, TsigAlgorithm::HmacSha256, vec![7; 32], WITHIN).unwrap();
    let right = |n: usize| Right { owner: core(&format!("h{n}.larkfield.example")), record_type: RecordType::Txt };
    let needed = [right(0)];
    let tried = TriedRights { needed: &needed, others: &[], servers: &[] };
    // Of the trial's updates the second goes over the kept connection, and is cut.
    let error = driver.rights(&tried).await.unwrap_err();
    assert!(error.to_string().contains("the connection was closed"), "{error}");
    assert_eq!(counts.each_ref().map(|count| count.load(Ordering::Relaxed)), [1, 2]);
}
