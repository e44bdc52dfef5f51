//! Updates of a zone: on a server that keeps to the RFCs, and on ones that do not.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hickory_proto::op::{Message, OpCode, ResponseCode};
use hickory_proto::rr::rdata::tsig::{TSIG, TsigAlgorithm as WireAlgorithm, TsigError};
use hickory_proto::rr::{DNSClass, Name, Record, TSigner};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, RecordType, ZoneChange, ZoneRecord};
use pindrel_core::zones::rights::{Beyond, Right};
use pindrel_dns::challenge::{self, PlaceError};
use pindrel_dns::lookup::{self, Resolved};
use pindrel_dns::present;
use pindrel_dns::{Rfc2136, TriedRights, UpdateError, ZoneDriver as _, ZoneError};
use pindrel_sandbox::{Options, Sandbox, TSIG_NAME, ZONE};
use pindrel_testkit::{RealOptions, RealWorld, TSIG_SECRET, eventually, udp_and_tcp};
use proptest::prelude::*;
use tempfile::TempDir;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

/// How long a transfer may take.
const WITHIN: Duration = Duration::from_secs(30);

const SHA256: TsigAlgorithm = TsigAlgorithm::HmacSha256;

fn dns(text: &str) -> DnsName {
    text.parse().unwrap()
}

fn record(owner: &str, text: &str) -> ZoneRecord {
    ZoneRecord { owner: dns(owner), ttl: Ttl::MINUTE, data: RecordData::Txt(text.into()) }
}

fn cname(target: &str) -> Vec<RecordSet> {
    RecordSet::group([(Ttl::TEN_MINUTES, RecordData::Cname(dns(target)))])
}

/// The stand-in, and the real servers: what holds on the one must hold on the others.
enum World {
    StandIn { sandbox: Box<Sandbox>, _folder: TempDir },
    Real(Box<RealWorld>),
}

impl World {
    async fn stand_in() -> World {
        let folder = tempfile::tempdir().unwrap();
        let options = Options { negative_ttl: Duration::from_secs(2), ..Options::default() };
        let sandbox = Sandbox::start(&folder.path().join("sandbox"), options).await.unwrap();
        World::StandIn { sandbox: Box::new(sandbox), _folder: folder }
    }

    /// The stand-in and, where they are installed, the real servers.
    async fn all(test: &str) -> Vec<World> {
        let real = RealWorld::start(test, RealOptions::default()).await;
        [World::stand_in().await].into_iter().chain(real.map(|real| World::Real(Box::new(real)))).collect()
    }

    /// The primary, the secondary and the resolver.
    fn servers(&self) -> [SocketAddr; 3] {
        match self {
            World::StandIn { sandbox, .. } => {
                let listing = sandbox.listing();
                [listing.primary, listing.secondary, listing.resolver]
            }
            World::Real(real) => [real.primary, real.secondary, real.resolver],
        }
    }

    fn primary(&self) -> SocketAddr {
        self.servers()[0]
    }

    fn secret(&self) -> Vec<u8> {
        let text = match self {
            World::StandIn { sandbox, .. } => std::fs::read_to_string(sandbox.folder().join("tsig.secret")).unwrap(),
            World::Real(_) => TSIG_SECRET.to_owned(),
        };
        STANDARD.decode(text).unwrap()
    }

    fn driver(&self) -> Rfc2136 {
        Rfc2136::new(dns(ZONE), self.primary(), dns(TSIG_NAME), SHA256, self.secret(), WITHIN).unwrap()
    }

    /// Adds an address as somebody else would.
    fn add_address(&self, label: &str, address: &str) {
        match self {
            World::StandIn { sandbox, .. } => {
                sandbox.primary().add_address(&format!("{label}.{ZONE}"), address.parse().unwrap());
            }
            World::Real(real) => real.update(label, "A", address),
        }
    }

    async fn texts(&self, owner: &str) -> Vec<RecordSet> {
        lookup::records(self.primary(), &dns(owner), RecordType::Txt).await.unwrap()
    }
}

#[tokio::test]
async fn challenge_records_come_and_go_by_exact_value_and_twice_is_once() {
    for world in World::all("challenge_records_come_and_go_by_exact_value_and_twice_is_once").await {
        let driver = world.driver();
        let owner = "_acme-challenge.api.larkfield.example";
        let long = "x".repeat(300);
        let ours = [record(owner, "first"), record(owner, &long)];
        driver.apply(&ZoneChange::Add(vec![record(owner, "neighbour")])).await.unwrap();
        for _ in 0..2 {
            driver.apply(&ZoneChange::Add(ours.to_vec())).await.unwrap();
            let [set] = world.texts(owner).await.try_into().unwrap();
            assert_eq!((set.data().len(), set.ttl()), (3, Ttl::MINUTE));
            assert!(set.data().contains(&RecordData::Txt(long.clone())), "more than one string of a TXT record");
        }
        for _ in 0..2 {
            driver.apply(&ZoneChange::Delete(ours.to_vec())).await.unwrap();
            let [set] = world.texts(owner).await.try_into().unwrap();
            assert_eq!(set.data(), [RecordData::Txt("neighbour".into())], "somebody else's value stays");
        }
        driver.apply(&ZoneChange::Add(vec![])).await.unwrap();
    }
}

#[tokio::test]
async fn more_challenge_records_than_one_message_holds_come_and_go() {
    for world in World::all("more_challenge_records_than_one_message_holds_come_and_go").await {
        let driver = world.driver();
        // All in one message would be more than 64 KiB.
        let owner = |n: usize| format!("_acme-challenge.n{n}.larkfield.example");
        let records: Vec<ZoneRecord> = (0..1000).map(|n| record(&owner(n), &format!("{n:043}"))).collect();
        driver.apply(&ZoneChange::Add(records.to_vec())).await.unwrap();
        let standing = present::present(world.primary(), &records).await.unwrap();
        assert!(records.iter().all(|record| standing.has(record)));
        driver.apply(&ZoneChange::Delete(records.to_vec())).await.unwrap();
        let standing = present::present(world.primary(), &records).await.unwrap();
        assert!(!records.iter().any(|record| standing.has(record)));
    }
}

#[tokio::test]
async fn an_alias_changes_only_from_exactly_what_was_expected() {
    for world in World::all("an_alias_changes_only_from_exactly_what_was_expected").await {
        let driver = world.driver();
        let owner = "moved.larkfield.example";
        let change = |expected, wanted| NameChange { owner: dns(owner), expected, wanted, place: AliasPlace::Name };
        let [old, new] = [cname("old.edge.test"), cname("new.edge.test")];
        driver.apply(&ZoneChange::Replace(change(Vec::new(), old.clone()))).await.unwrap();
        // What somebody else made in the meantime is never overwritten.
        for expected in [Vec::new(), cname("other.edge.test")] {
            let error = driver.apply(&ZoneChange::Replace(change(expected, new.clone()))).await.unwrap_err();
            assert!(matches!(error, UpdateError::Changed { .. }), "{error:?}");
            assert!(error.remedy().contains("looks again before it changes"));
        }
        driver.apply(&ZoneChange::Replace(change(old, new.clone()))).await.unwrap();
        let found = lookup::records(world.primary(), &dns(owner), RecordType::Cname).await.unwrap();
        assert!(found.len() == 1 && found[0].same_data(&new[0]), "{found:?}");

        // Beside an address record a CNAME is left out without a word (RFC 2136 §3.4.2.2):
        // reading afterwards notices.
        world.add_address("beside", "127.0.0.9");
        let owner = dns("beside.larkfield.example");
        let beside = NameChange { owner, expected: Vec::new(), wanted: new, place: AliasPlace::Apex };
        let error = driver.apply(&ZoneChange::Replace(beside)).await.unwrap_err();
        assert!(matches!(&error, UpdateError::WithoutEffect { has, .. } if has.contains("127.0.0.9")), "{error:?}");
    }
}

/// RFC 2308: what was absent a moment ago is absent for a resolver until its time is over,
/// which is why Pindrel asks the zone's own servers first.
#[tokio::test]
async fn a_resolver_remembers_for_a_while_that_a_name_was_not_there() {
    for world in World::all("a_resolver_remembers_for_a_while_that_a_name_was_not_there").await {
        let [_, _, resolver] = world.servers();
        let owner = dns("late.larkfield.example");
        let there = async || matches!(lookup::resolve(&resolver.into(), &owner).await, Resolved::Addresses { .. });
        assert!(!there().await);
        let change = RecordSet::group([(Ttl::MINUTE, RecordData::A([127, 0, 0, 9].into()))]);
        let change = NameChange { owner: owner.clone(), expected: Vec::new(), wanted: change, place: AliasPlace::Name };
        world.driver().apply(&ZoneChange::Replace(change)).await.unwrap();
        assert!(!there().await, "it remembers");
        eventually("the address", Duration::from_secs(20), there).await;
    }
}

#[tokio::test]
async fn each_refusal_of_a_key_or_a_zone_has_its_own_remedy() {
    let world = World::stand_in().await;
    let make = |zone: &str, server, key: &str, algorithm, secret: &[u8]| {
        Rfc2136::new(dns(zone), server, dns(key), algorithm, secret.to_vec(), WITHIN).unwrap()
    };
    let ([server, follower, _], secret) = (world.servers(), world.secret());
    for (driver, says, remedy) in [
        (make(ZONE, server, "stranger", SHA256, &secret), "does not know the TSIG key stranger", "tsig.name"),
        (make(ZONE, server, TSIG_NAME, TsigAlgorithm::HmacSha512, &secret), "does not know the TSIG key", "tsig.name"),
        (make(ZONE, server, TSIG_NAME, SHA256, b"another secret"), "has another secret", "same secret"),
        (make("other.example", server, TSIG_NAME, SHA256, &secret), "refuses to update other.example", "authoritative"),
        (make(ZONE, follower, TSIG_NAME, SHA256, &secret), "refuses to update larkfield.example", "dynamic update"),
    ] {
        let error =
            driver.apply(&ZoneChange::Add(vec![record("_acme-challenge.larkfield.example", "v")])).await.unwrap_err();
        assert!(error.to_string().contains(says), "{error}");
        assert!(error.remedy().contains(remedy), "{says}: {}", error.remedy());
    }
    assert!(world.texts("_acme-challenge.larkfield.example").await.is_empty());
}

type Answering = dyn Fn(&Message, &[u8]) -> Vec<u8> + Send + Sync;

/// A server over TCP that answers one message with these bytes; over UDP it is silent.
async fn answering(script: impl Fn(&Message, &[u8]) -> Vec<u8> + Send + Sync + 'static) -> SocketAddr {
    // The zone is read over UDP: whoever asks hears that there is nothing.
    let (socket, listener) = udp_and_tcp().await;
    let address = listener.local_addr().unwrap();
    let script: Arc<Answering> = Arc::new(script);
    tokio::spawn(async move {
        let mut buffer = [0; 4096];
        while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
            let Ok(question) = Message::from_vec(&buffer[..length]) else { continue };
            let mut answer = Message::response(question.metadata.id, OpCode::Query);
            answer.metadata.authoritative = true;
            answer.metadata.response_code = ResponseCode::NXDomain;
            answer.queries = question.queries;
            let _ = socket.send_to(&answer.to_vec().unwrap(), client).await;
        }
    });
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let Ok(length) = stream.read_u16().await else { continue };
            let mut raw = vec![0; usize::from(length)];
            if stream.read_exact(&mut raw).await.is_err() {
                continue;
            }
            let answer = script(&Message::from_vec(&raw).unwrap(), &raw);
            let mut framed = u16::try_from(answer.len()).unwrap().to_be_bytes().to_vec();
            framed.extend(answer);
            let _ = stream.write_all(&framed).await;
        }
    });
    address
}

fn response(message: &Message, code: ResponseCode) -> Message {
    let mut answer = Message::response(message.metadata.id, OpCode::Update);
    answer.metadata.response_code = code;
    answer
}

/// A signature that says that a clock is wrong, with the server's own time (RFC 8945 §5.2.3), made with this secret.
fn bad_time(message: &Message, ahead: u64, secret: &[u8]) -> Vec<u8> {
    let signature = message.signature().unwrap();
    let theirs = signature.data.time + ahead;
    let mut answer = response(message, ResponseCode::NotAuth);
    let signer = TSigner::new(secret.to_vec(), WireAlgorithm::HmacSha256, signature.name.clone(), 300).unwrap();
    let mut data = TSIG::clone(&signature.data);
    data.error = Some(TsigError::BadTime);
    data.other = theirs.to_be_bytes()[2..].to_vec();
    let signed = signer.encode_response_tbs(&signature.data.mac, &answer.to_vec().unwrap(), &data).unwrap();
    data.mac = signer.sign(&signed).unwrap();
    let mut record = Record::from_rdata(signature.name.clone(), 0, data);
    record.dns_class = DNSClass::ANY;
    answer.set_signature(Box::new(record));
    answer.to_vec().unwrap()
}

async fn told_by(script: impl Fn(&Message, &[u8]) -> Vec<u8> + Send + Sync + 'static) -> UpdateError {
    let server = answering(script).await;
    let driver = Rfc2136::new(dns(ZONE), server, dns(TSIG_NAME), SHA256, b"a secret".to_vec(), WITHIN).unwrap();
    driver.apply(&ZoneChange::Add(vec![record("_acme-challenge.larkfield.example", "v")])).await.unwrap_err()
}

#[tokio::test]
async fn an_answer_that_is_not_signed_right_is_believed_only_where_it_refuses() {
    let plain = told_by(|message, _| response(message, ResponseCode::NoError).to_vec().unwrap()).await;
    assert!(matches!(plain, UpdateError::Unsigned { .. }), "{plain:?}");
    let other_key = told_by(|message, _| {
        let signer =
            TSigner::new(b"guessed".to_vec(), WireAlgorithm::HmacSha256, Name::from_ascii("pindrel.").unwrap(), 300);
        let mut answer = response(message, ResponseCode::NoError);
        let (signature, _) = signer.unwrap().sign_message(&answer, message.signature().unwrap().data.time).unwrap();
        answer.set_signature(signature);
        answer.to_vec().unwrap()
    })
    .await;
    assert!(matches!(other_key, UpdateError::Unsigned { .. }), "{other_key:?}");
    // The library would subtract the fudge from a time of nought.
    let at_nought = told_by(|message, _| {
        let mut answer = response(message, ResponseCode::NoError);
        let mut signature = message.signature().unwrap().clone();
        signature.data.time = 0;
        answer.set_signature(Box::new(signature));
        answer.to_vec().unwrap()
    })
    .await;
    assert!(matches!(at_nought, UpdateError::Unsigned { .. }), "{at_nought:?}");
    let refused = told_by(|message, _| response(message, ResponseCode::Refused).to_vec().unwrap()).await;
    assert!(refused.remedy().contains("Grant the TSIG key"), "{refused:?}");
    let failing = told_by(|message, _| response(message, ResponseCode::ServFail).to_vec().unwrap()).await;
    assert!(failing.remedy().contains("server's log"), "{failing:?}");
    let late = told_by(|message, _| bad_time(message, 7200, b"a secret")).await;
    assert!(matches!(late, UpdateError::WrongTime { skew_secs: 7200, .. }), "{late:?}");
    let forged = told_by(|message, _| bad_time(message, 7200, b"guessed")).await;
    assert!(matches!(forged, UpdateError::Unsigned { .. }), "anybody may say that a clock is wrong: {forged:?}");
    let stranger = told_by(|message, _| {
        let mut answer = response(message, ResponseCode::NoError);
        answer.metadata.id = message.metadata.id.wrapping_add(1);
        answer.to_vec().unwrap()
    })
    .await;
    assert!(matches!(stranger, UpdateError::Unreachable { .. }), "{stranger:?}");
    let echo = told_by(|_, raw| raw.to_vec()).await;
    assert!(matches!(echo, UpdateError::Unsigned { .. }), "our own message comes back: {echo:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    /// Whatever a server answers, it is an error in bounded time, and never a panic.
    #[test]
    fn no_answer_makes_a_panic(bytes in prop::collection::vec(any::<u8>(), 0..600), keep in 0usize..64) {
        tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(async move {
            told_by(move |_, raw| [&raw[..keep.min(raw.len())], &bytes[..]].concat()).await;
        });
    }
}

/// Nothing is written where nobody would see it, and what a wildcard gives is no neighbour.
#[tokio::test]
async fn what_a_zone_hides_or_synthesises_is_seen_before_it_is_changed() {
    let test = "what_a_zone_hides_or_synthesises_is_seen_before_it_is_changed";
    let Some(real) = RealWorld::start(test, RealOptions::default()).await else { return };
    real.update("cut", "NS", "ns.elsewhere.test.");
    real.update("*.wild", "TXT", "anything");
    real.update("moved", "DNAME", "elsewhere.test.");
    let world = World::Real(Box::new(real));
    let driver = world.driver();
    let ours = |owner: &str| ZoneChange::Add(vec![ZoneRecord { ttl: Ttl::CHALLENGE, ..record(owner, "token") }]);
    for owner in ["cut.larkfield.example", "_acme-challenge.deep.cut.larkfield.example"] {
        let error = driver.apply(&ours(owner)).await.unwrap_err();
        assert!(
            matches!(&error, UpdateError::Delegated { cut, .. } if *cut == dns("cut.larkfield.example")),
            "{error}"
        );
        assert!(error.remedy().contains("[zone.\"cut.larkfield.example\"]"), "{}", error.remedy());
    }
    let below = "api.moved.larkfield.example";
    let error = driver.apply(&ours(below)).await.unwrap_err();
    assert!(
        matches!(&error, UpdateError::Redirected { dname, .. } if *dname == dns("moved.larkfield.example")),
        "{error}"
    );
    let view = lookup::alias(&[world.primary()], &dns(below), AliasPlace::Name).await;
    assert_eq!(view.dname, Some(dns("moved.larkfield.example")), "{view:?}");
    // The authority follows it, and so does where a challenge is placed (RFC 8555 §8.4).
    let servers = |name: &DnsName| name.is_within(&dns("larkfield.example")).then(|| vec![world.primary()]);
    let place = challenge::place(&dns("_acme-challenge.api.moved.larkfield.example"), &servers, &[]).await;
    assert!(
        matches!(&place, Err(PlaceError::Unseen { name, .. }) if *name == dns("_acme-challenge.api.elsewhere.test")),
        "{place:?}"
    );
    for owner in ["_acme-challenge.wild.larkfield.example", "-odd.larkfield.example"] {
        driver.apply(&ours(owner)).await.unwrap();
        let [set] = world.texts(owner).await.try_into().unwrap();
        assert_eq!((set.data(), set.ttl()), (&[RecordData::Txt("token".into())][..], Ttl::CHALLENGE), "{owner}");
    }
}

/// What a key may do is found out without a change: the zone keeps its serial, and all its records.
#[tokio::test]
async fn what_a_key_may_do_is_tried_on_records_that_are_not_there() {
    let test = "what_a_key_may_do_is_tried_on_records_that_are_not_there";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let right = |owner: &str, record_type| Right { owner: dns(owner), record_type };
    let needed = [
        right("_acme-challenge.api.larkfield.example", RecordType::Txt),
        right("api.larkfield.example", RecordType::Cname),
        right("larkfield.example", RecordType::A),
        right("larkfield.example", RecordType::Aaaa),
    ];
    world.update("api", "TXT", "kept");
    let before = world.dig(world.primary, ZONE, "SOA");
    let lacking = |numbers: &[usize]| -> Vec<(Right, String)> {
        numbers.iter().map(|number| (needed[*number].clone(), "REFUSED".to_owned())).collect()
    };
    let everything = [Beyond::AnyName, Beyond::Apex(vec![RecordType::Ns, RecordType::Mx])];
    for (key, expected, beyond) in [
        ("pindrel.", lacking(&[]), &everything[..]),
        ("narrow.", lacking(&[2, 3]), &[]),
        ("idle.", lacking(&[0, 1, 2, 3]), &[]),
    ] {
        let secret = STANDARD.decode(TSIG_SECRET).unwrap();
        let driver = Rfc2136::new(dns(ZONE), world.primary, dns(key), SHA256, secret, WITHIN).unwrap();
        let others = [dns("example"), dns("archive.example")];
        let tried = TriedRights { needed: &needed, others: &others, servers: &[world.primary, world.resolver] };
        let found = driver.rights(&tried).await.unwrap();
        assert_eq!((found.tried, found.lacking), (4, expected), "{key}");
        let open = [Beyond::Transfer(world.primary)];
        assert_eq!(found.beyond, beyond.iter().chain(&open).cloned().collect(), "{key}");
    }
    assert_eq!(world.dig(world.primary, ZONE, "SOA"), before, "the zone has the same serial");
    assert!(world.dig(world.primary, "api.larkfield.example", "TXT").contains("kept"));
    let unknown = Rfc2136::new(dns(ZONE), world.primary, dns("nobody."), SHA256, vec![1; 32], WITHIN).unwrap();
    let tried = TriedRights { needed: &needed, others: &[], servers: &[] };
    assert!(matches!(unknown.rights(&tried).await, Err(ZoneError::Credential { .. })));
}
