//! Whole zones: transferred from a real server and from ones that break the rules, changed by sets, and read from files.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::SocketAddr;
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hickory_proto::op::{Message, MessageType, ResponseCode};
use hickory_proto::rr::rdata::tsig::TsigAlgorithm as WireAlgorithm;
use hickory_proto::rr::rdata::{A, NS, SOA};
use hickory_proto::rr::{Name, RData, Record, TSigner};
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::zones::zone_data::{Compared, NameKey, Place, TypeCode, ZoneBuilder, ZoneData, compare};
use pindrel_core::zones::zone_file::write_zone;
use pindrel_dns::transfer::{look_up, transfer, transfer_since};
use pindrel_dns::zone_files::{named_after, read};
use pindrel_dns::{Rfc2136, SetChange, ZoneDriver as _, ZoneError};
use pindrel_sandbox::{TSIG_NAME, ZONE};
use pindrel_testkit::{RealOptions, RealWorld, TSIG_SECRET};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

/// How long a transfer may take.
const WITHIN: Duration = Duration::from_secs(30);

fn key(text: &str) -> NameKey {
    NameKey::parse(text.as_bytes(), &NameKey::root()).unwrap()
}

fn signer() -> TSigner {
    let secret = STANDARD.decode(TSIG_SECRET).unwrap();
    TSigner::new(secret, WireAlgorithm::HmacSha256, Name::from_ascii(TSIG_NAME).unwrap(), 300).unwrap()
}

fn data(zone: &ZoneData, name: &str, code: TypeCode) -> Vec<String> {
    let name = key(name);
    let own = zone.at(&name).filter(|entry| entry.code == code);
    own.map(|entry| entry.presentation()).collect()
}

fn written(zone: &ZoneData) -> String {
    let mut text = String::new();
    write_zone(zone, &mut text).unwrap();
    text
}

/// A zone is read again by what has changed in it, over any number of versions, and is the same as if read whole.
#[tokio::test]
async fn a_real_server_tells_what_has_changed_since_a_zone_was_read() {
    let test = "a_real_server_tells_what_has_changed_since_a_zone_was_read";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let (zone, secret) = (ZONE.parse().unwrap(), STANDARD.decode(TSIG_SECRET).unwrap());
    let driver =
        Rfc2136::new(zone, world.primary, TSIG_NAME.parse().unwrap(), TsigAlgorithm::HmacSha256, secret, WITHIN)
            .unwrap();
    let since = async |before: &ZoneData| {
        transfer_since(world.primary, before, &ZONE.parse().unwrap(), Some(&signer()), WITHIN).await
    };
    let set = |label: &str, code, ttl, expected: &[&[u8]], wanted: &[&[u8]]| {
        let octets = |data: &[&[u8]]| data.iter().map(|data| data.to_vec()).collect();
        let owner = key(&format!("{label}.{ZONE}"));
        SetChange { owner, code, ttl, expected: octets(expected), wanted: octets(wanted) }
    };
    // A server that has little to tell tells the whole.
    let many: Vec<Vec<u8>> = (0..90).map(|last| vec![192, 0, 2, last]).collect();
    let many: Vec<&[u8]> = many.iter().map(Vec::as_slice).collect();
    driver.change_sets(&[set("many", TypeCode::A, 60, &[], &many)]).await.unwrap();
    let before = driver.read().await.unwrap();
    assert_eq!(written(&since(&before).await.unwrap()), written(&before), "nothing has changed");
    world.update("later", "TXT", "first");
    world.update("later", "TXT", "second");
    world.update("gone", "A", "192.0.2.9");
    let middle = driver.read().await.unwrap();
    // Gone, of another TTL, new; and what is gone comes back.
    let changes = [
        set("gone", TypeCode::A, 0, &[&[192, 0, 2, 9]], &[]),
        set("later", TypeCode::TXT, 30, &[b"\x05first", b"\x06second"], &[b"\x05first"]),
        set("new", TypeCode::A, 60, &[], &[&[192, 0, 2, 7], &[192, 0, 2, 8]]),
    ];
    driver.change_sets(&changes).await.unwrap();
    world.update("gone", "A", "192.0.2.9");
    let whole = written(&driver.read().await.unwrap());
    for from in [&before, &middle] {
        assert_eq!(written(&since(from).await.unwrap()), whole);
    }
    // What never was is not built upon: the whole is read instead.
    let mut other = ZoneBuilder::default();
    for entry in middle.entries().filter(|entry| entry.code != TypeCode::A) {
        other.add(&entry.owner(), entry.code, entry.ttl, entry.data, Place::default()).unwrap();
    }
    let other = other.finish(Some(key(ZONE)));
    let refused = since(&other).await.unwrap_err();
    assert!(refused.to_string().contains("does not fit the zone"), "{refused}");
    assert_eq!(written(&driver.read_again(&other).await.unwrap()), whole);
}

#[tokio::test]
async fn a_real_server_transfers_its_zone_and_takes_whole_sets() {
    let test = "a_real_server_transfers_its_zone_and_takes_whole_sets";
    let Some(world) = RealWorld::start(test, RealOptions::default()).await else { return };
    let zone = ZONE.parse().unwrap();
    let secret = STANDARD.decode(TSIG_SECRET).unwrap();
    let driver =
        Rfc2136::new(zone, world.primary, TSIG_NAME.parse().unwrap(), TsigAlgorithm::HmacSha256, secret, WITHIN)
            .unwrap();
    let before = driver.read().await.unwrap();
    assert_eq!(data(&before, ZONE, TypeCode::SOA).len(), 1);
    // Types that Pindrel knows, one that it knows only by its number, odd names, and a set of many records.
    let text = |lines: &str| {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), format!("$TTL 60\n{lines}")).unwrap();
        let files = read(file.path(), &key(ZONE), Some(key(ZONE)), None).unwrap();
        assert_eq!(files.mistakes, []);
        files.zone
    };
    let many: String = (0..90).map(|n| format!("many A 10.0.0.{n}\n")).collect();
    let wanted = text(&format!(
        "mx MX 10 Mail.{ZONE}.\nmail A 192.0.2.25\ncaa CAA 0 issue \"authority.example\"\nodd TYPE65400 \\# 3 010203\n\
         txt TXT \"a b\" \"\\200\\\"\"\nx\\.y TXT x\nsvc HTTPS 1 . alpn=h2 port=8443\n{many}"
    ));
    let changes: Vec<SetChange> = compare(&ZoneData::default(), &wanted, Compared { all: false, ttls: true })
        .into_iter()
        .map(|one| SetChange {
            owner: one.name,
            code: one.code,
            expected: Vec::new(),
            ttl: 60,
            wanted: one.right.into_iter().map(|record| record.data).collect(),
        })
        .collect();
    assert_eq!(changes.len(), 8);
    driver.change_sets(&changes).await.unwrap();
    let after = driver.read().await.unwrap();
    let new: Vec<_> = compare(&before, &after, Compared { all: false, ttls: true });
    assert!(new.iter().all(|one| one.left.is_empty()) && new.len() == 8, "{new:?}");
    assert_eq!(compare(&after, &wanted, Compared::default()).iter().filter(|one| !one.right.is_empty()).count(), 0);
    // Written and read again it is the same zone, and an independent tool accepts it.
    let mut written = String::new();
    write_zone(&after, &mut written).unwrap();
    let file = tempfile::NamedTempFile::with_suffix(".zone").unwrap();
    std::fs::write(file.path(), &written).unwrap();
    let again = read(file.path(), &key(ZONE), None, None).unwrap();
    assert_eq!(compare(&after, &again.zone, Compared { all: true, ttls: true }), []);
    let checked = std::process::Command::new("named-checkzone").arg("-q").arg(ZONE).arg(file.path()).status().unwrap();
    assert!(checked.success(), "{written}");
    // What is there already is somebody else's: nothing is changed.
    let error = driver.change_sets(&changes[..1]).await.unwrap_err();
    assert!(matches!(error, ZoneError::Changed { .. }), "{error}");
    // This server holds no more than a hundred records of one type at a name, and only its log says so.
    let set = (0..120).map(|n| vec![10, 1, 0, n]).collect();
    let over =
        SetChange { owner: key("more.larkfield.example"), code: TypeCode::A, expected: vec![], ttl: 60, wanted: set };
    let error = driver.change_sets(&[over]).await.unwrap_err();
    assert!(matches!(&error, ZoneError::Refused { remedy, .. } if remedy.contains("limits how many")), "{error:?}");
    // Name by name the same is seen.
    let names = ["mx.larkfield.example".parse().unwrap(), "nobody.larkfield.example".parse().unwrap()];
    let part = look_up(world.primary, &ZONE.parse().unwrap(), &names).await.unwrap();
    assert_eq!(data(&part, "mx.larkfield.example", TypeCode::MX), ["10 mail.larkfield.example."]);
    // It transfers by address as well; a wrong secret is told as that.
    let zone = ZONE.parse().unwrap();
    assert_eq!(transfer(world.primary, &zone, None, WITHIN).await.unwrap().len(), after.len());
    let wrong =
        TSigner::new(vec![7; 32], WireAlgorithm::HmacSha256, Name::from_ascii(TSIG_NAME).unwrap(), 300).unwrap();
    let refused = transfer(world.primary, &zone, Some(&wrong), WITHIN).await.unwrap_err();
    assert!(refused.to_string().contains("BADSIG"), "{refused}");
}

/// How a server answers a transfer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    Whole,
    /// Signed in the first and the last message only (RFC 8945 §5.3.1).
    SparselySigned,
    LastUnsigned,
    OneForged,
    NeverSigned,
    CutShort,
    WithoutEnd,
    OtherId,
    OtherSerial,
    NoSoaFirst,
    Garbage,
}

/// The next question to a server over TCP.
async fn asked(listener: &TcpListener) -> (TcpStream, Message) {
    let (mut stream, _) = listener.accept().await.unwrap();
    let length = stream.read_u16().await.unwrap();
    let mut question = vec![0; usize::from(length)];
    stream.read_exact(&mut question).await.unwrap();
    (stream, Message::from_vec(&question).unwrap())
}

/// A server that transfers a zone of thirty records in messages of ten.
async fn serving(way: Way) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let (mut stream, question) = asked(&listener).await;
        let name = |label: &str| Name::from_ascii(format!("{label}{ZONE}.")).unwrap();
        let soa = |serial| {
            let soa = SOA::new(name("ns1."), name("h."), serial, 3_600, 900, 604_800, 300);
            Record::from_rdata(name(""), 60, RData::SOA(soa))
        };
        let mut records = vec![soa(1), Record::from_rdata(name(""), 60, RData::NS(NS(name("ns1."))))];
        records.extend((0..28).map(|n| {
            Record::from_rdata(name(&format!("h{n}.")), 60, RData::A(A(std::net::Ipv4Addr::new(192, 0, 2, n))))
        }));
        match way {
            Way::WithoutEnd => {}
            Way::OtherSerial => records.push(soa(2)),
            Way::NoSoaFirst => drop(records.remove(0)),
            _ => records.push(soa(1)),
        }
        let parts: Vec<&[Record]> = records.chunks(10).collect();
        let mut last = question.signature.as_ref().map(|signature| signature.data.mac.to_vec()).unwrap_or_default();
        let mut unsigned: Vec<u8> = Vec::new();
        for (number, part) in parts.iter().enumerate() {
            if way == Way::CutShort && number == 2 {
                return;
            }
            let mut message = Message::new(question.metadata.id, MessageType::Response, question.metadata.op_code);
            message.metadata.response_code = ResponseCode::NoError;
            message.add_answers(part.iter().cloned());
            if way == Way::OtherId && number == 1 {
                message.metadata.id = message.metadata.id.wrapping_add(1);
            }
            let is_last = number + 1 == parts.len();
            let is_signed = match way {
                Way::SparselySigned => number == 0 || is_last,
                Way::LastUnsigned => !is_last,
                Way::NeverSigned => false,
                _ => true,
            };
            let mut raw = message.to_vec().unwrap();
            if is_signed && question.signature.is_some() {
                raw = signed(&raw, &mut last, &mut unsigned, number == 0, way == Way::OneForged && number == 1);
            } else {
                unsigned.extend_from_slice(&raw);
            }
            if way == Way::Garbage && number == 1 {
                raw = vec![0xff; 40];
            }
            stream.write_u16(raw.len() as u16).await.unwrap();
            stream.write_all(&raw).await.unwrap();
        }
        // A client that waits for more is told that there is none.
        let _ = stream.shutdown().await;
    });
    address
}

/// Adds a TSIG record to a message, by what RFC 8945 §5.3.1 says is signed.
fn signed(raw: &[u8], last: &mut Vec<u8>, unsigned: &mut Vec<u8>, is_first: bool, is_forged: bool) -> Vec<u8> {
    let now = jiff::Timestamp::now().as_second() as u64;
    let time = [&now.to_be_bytes()[2..], &300_u16.to_be_bytes()].concat();
    let names: Vec<u8> = {
        let mut wire = Vec::new();
        key(TSIG_NAME).push_wire(&mut wire);
        wire
    };
    let mut algorithm = Vec::new();
    key("hmac-sha256").push_wire(&mut algorithm);
    let mut covered = [&(last.len() as u16).to_be_bytes()[..], last, unsigned, raw].concat();
    unsigned.clear();
    if is_first {
        covered.extend([&names[..], &[0, 255, 0, 0, 0, 0], &algorithm, &time, &[0, 0, 0, 0]].concat());
    } else {
        covered.extend(&time);
    }
    let mut mac = signer().sign(&covered).unwrap();
    last.clone_from(&mac);
    if is_forged {
        mac[0] ^= 1;
    }
    let id = &raw[..2];
    let rdata = [&algorithm[..], &time, &(mac.len() as u16).to_be_bytes(), &mac, id, &[0, 0, 0, 0]].concat();
    let record = [&names[..], &[0, 250, 0, 255, 0, 0, 0, 0], &(rdata.len() as u16).to_be_bytes(), &rdata].concat();
    let mut message = [raw, &record].concat();
    message[11] += 1;
    message
}

#[tokio::test]
async fn a_transfer_that_is_not_whole_and_signed_counts_for_nothing() {
    let zone = ZONE.parse().unwrap();
    let signer = signer();
    for (way, signed, expected) in [
        (Way::Whole, true, ""),
        (Way::Whole, false, ""),
        (Way::SparselySigned, true, ""),
        (Way::LastUnsigned, true, "is not signed with the TSIG key"),
        (Way::OneForged, true, "is not signed with the TSIG key"),
        (Way::NeverSigned, true, "is not signed with the TSIG key"),
        (Way::CutShort, true, "was cut short after 20 records"),
        (Way::CutShort, false, "was cut short after 20 records"),
        (Way::WithoutEnd, false, "was cut short after 30 records"),
        (Way::OtherId, true, "answers another question"),
        (Way::OtherSerial, false, "it changed meanwhile"),
        (Way::NoSoaFirst, false, "before the SOA record"),
        (Way::Garbage, false, "cannot be read"),
    ] {
        let server = serving(way).await;
        match transfer(server, &zone, signed.then_some(&signer), WITHIN).await {
            Ok(zone) => assert!(expected.is_empty() && zone.len() == 30, "{way:?}: {}", zone.len()),
            Err(error) => {
                let says = error.to_string();
                assert!(!expected.is_empty() && says.contains(expected), "{way:?}: {says}");
                assert!(!error.remedy().is_empty());
            }
        }
    }
}

#[test]
fn files_that_include_others_are_read_to_their_bounds() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
    write(
        "db.larkfield.example",
        "$TTL 60\n@ SOA ns1 h 1 2 3 9 5\n@ NS ns1\n$INCLUDE hosts/all.txt hosts\nns1 A 192.0.2.1\n",
    );
    std::fs::create_dir(folder.path().join("hosts")).unwrap();
    write("hosts/all.txt", "a A 192.0.2.2\n$ORIGIN deep\nb A 192.0.2.3\nc CNMAE x\n");
    let path = folder.path().join("db.larkfield.example");
    let origin = named_after(&path).unwrap();
    let files = read(&path, &origin, None, None).unwrap();
    assert_eq!(data(&files.zone, "a.hosts.larkfield.example", TypeCode::A), ["192.0.2.2"]);
    assert_eq!(data(&files.zone, "b.deep.hosts.larkfield.example", TypeCode::A), ["192.0.2.3"]);
    assert_eq!(data(&files.zone, "ns1.larkfield.example", TypeCode::A), ["192.0.2.1"], "its origin is its own again");
    let [mistake] = &files.mistakes[..] else { panic!("{:?}", files.mistakes) };
    assert_eq!((mistake.place, mistake.column), (Place { file: 1, line: 4 }, 3));
    assert!(files.files[1].ends_with("hosts/all.txt"));
    // One that includes itself, one that is not there, and one without lines.
    write("loop.example", "$TTL 60\n$INCLUDE loop.example\n$INCLUDE nothing\n");
    let files = read(&folder.path().join("loop.example"), &key("loop.example"), None, None).unwrap();
    assert!(files.mistakes.iter().any(|mistake| mistake.says.contains("does a file include itself?")));
    assert!(
        files.mistakes.iter().any(|mistake| mistake.says.contains("nothing cannot be included: there is no such file"))
    );
    assert!(files.files.len() <= 100);
    write("endless", &"x".repeat(3 << 20));
    let files = read(&folder.path().join("endless"), &key("larkfield.example"), None, None).unwrap();
    assert!(
        files.mistakes.len() == 1 && files.mistakes[0].says.contains("longer than 512 KiB"),
        "{:?}",
        files.mistakes
    );
    for (name, zone) in
        [("larkfield.example.zone", Some("larkfield.example.")), ("x.db", None), ("notes.md", Some("notes.md."))]
    {
        assert_eq!(named_after(name.as_ref()).map(|zone| zone.to_string()).as_deref(), zone, "{name}");
    }
}

/// A server that answers one request for a transfer with these records, in messages of `chunk`.
async fn telling(records: Vec<Record>, chunk: usize) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let (mut stream, question) = asked(&listener).await;
        let known = question.authorities.first().map(|soa| soa.record_type());
        assert_eq!(known, Some(hickory_proto::rr::RecordType::SOA), "what is known stands in the question");
        for part in records.chunks(chunk) {
            let mut message = Message::new(question.metadata.id, MessageType::Response, question.metadata.op_code);
            message.add_answers(part.iter().cloned());
            let raw = message.to_vec().unwrap();
            stream.write_u16(raw.len() as u16).await.unwrap();
            stream.write_all(&raw).await.unwrap();
        }
        let _ = stream.shutdown().await;
    });
    address
}

/// What a server may tell of the changes since serial 1 of a zone with one address (RFC 1995 §4), and what breaks it.
#[tokio::test]
async fn changes_are_taken_where_they_follow_one_another_and_fit_what_was_read() {
    let name = |label: &str| Name::from_ascii(format!("{label}{ZONE}.")).unwrap();
    let soa = |serial| {
        let soa = SOA::new(name("ns1."), name("h."), serial, 3_600, 900, 604_800, 300);
        Record::from_rdata(name(""), 60, RData::SOA(soa))
    };
    let a =
        |label: &str, last| Record::from_rdata(name(label), 60, RData::A(A(std::net::Ipv4Addr::new(192, 0, 2, last))));
    let foreign = Record::from_rdata(
        Name::from_ascii("elsewhere.test.").unwrap(),
        60,
        RData::A(A(std::net::Ipv4Addr::new(192, 0, 2, 66))),
    );
    let before = {
        let mut builder = ZoneBuilder::default();
        let mut data = Vec::new();
        for part in ["ns1", "h"] {
            key(&format!("{part}.{ZONE}")).push_wire(&mut data);
        }
        data.extend([1_u32, 3_600, 900, 604_800, 300].iter().flat_map(|number| number.to_be_bytes()));
        builder.add(&key(ZONE), TypeCode::SOA, 60, &data, Place::default()).unwrap();
        builder.add(&key(&format!("a.{ZONE}")), TypeCode::A, 60, &[192, 0, 2, 1], Place::default()).unwrap();
        builder.finish(Some(key(ZONE)))
    };
    let addresses = |zone: &ZoneData| -> Vec<String> {
        zone.entries()
            .filter(|entry| entry.code == TypeCode::A)
            .map(|entry| format!("{} {}", entry.owner(), entry.presentation()))
            .collect()
    };
    let one = format!("a.{ZONE}. 192.0.2.1");
    type Expected<'e> = Result<(u32, Vec<&'e str>), &'e str>;
    let (b2, a3) = (format!("b.{ZONE}. 192.0.2.2"), format!("a.{ZONE}. 192.0.2.3"));
    let table: Vec<(&str, Vec<Record>, Expected<'_>)> = vec![
        ("nothing new", vec![soa(1)], Ok((1, vec![&one]))),
        ("one version", vec![soa(2), soa(1), soa(2), a("b.", 2), soa(2)], Ok((2, vec![&one, &b2]))),
        (
            "two versions, and what came goes again",
            vec![
                soa(3),
                soa(1),
                a("a.", 1),
                soa(2),
                a("b.", 2),
                a("c.", 4),
                soa(2),
                a("c.", 4),
                soa(3),
                a("a.", 3),
                soa(3),
            ],
            Ok((3, vec![&a3, &b2])),
        ),
        ("the whole instead", vec![soa(9), a("b.", 2), soa(9)], Ok((9, vec![&b2]))),
        ("an empty zone", vec![soa(9), soa(9)], Ok((9, vec![]))),
        ("what lies elsewhere", vec![soa(2), soa(1), soa(2), a("b.", 2), foreign, soa(2)], Ok((2, vec![&one, &b2]))),
        ("gone without having been", vec![soa(2), soa(1), a("x.", 1), soa(2), soa(2)], Err("does not fit")),
        ("come twice", vec![soa(2), soa(1), soa(2), a("a.", 1), soa(2)], Err("does not fit")),
        (
            "from another version",
            vec![soa(5), soa(1), soa(2), a("b.", 2), soa(4), soa(5), soa(5)],
            Err("do not follow one another"),
        ),
        ("without its end", vec![soa(2), soa(1), soa(2), a("b.", 2)], Err("was cut short after 4 records")),
        ("no SOA first", vec![a("b.", 2), soa(2)], Err("do not follow one another")),
    ];
    for (what, records, expected) in table {
        for chunk in [1, 100] {
            let server = telling(records.clone(), chunk).await;
            let found = transfer_since(server, &before, &ZONE.parse().unwrap(), None, WITHIN).await;
            match (&expected, found) {
                (Ok((serial, wanted)), Ok(zone)) => {
                    assert_eq!(
                        (zone.serial().map(|serial| serial.0), addresses(&zone)),
                        (Some(*serial), wanted.iter().map(|text| (*text).to_owned()).collect()),
                        "{what}"
                    );
                }
                (Err(says), Err(error)) => assert!(error.to_string().contains(says), "{what}: {error}"),
                (expected, found) => panic!("{what}: {found:?}, not {expected:?}"),
            }
        }
    }
}
