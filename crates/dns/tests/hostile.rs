//! Name servers, resolvers and programs that would do harm: they drip, they never end, they answer in another's name,
//! they lead elsewhere, and they repeat what they were sent.

#![allow(clippy::unwrap_used, reason = "what cannot be set up fails the test")]

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use hickory_proto::op::{Message, MessageType, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{A, NS, SOA, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::zones::resolver::{EncryptedResolver, ResolverAddress};
use pindrel_dns::lookup::{self, Resolved};
use pindrel_dns::transfer::{TransferError, transfer};
use pindrel_dns::zone_files::read;
use pindrel_dns::{PowerDns, Resolver, Rfc2136, ZoneDriver as _, ZoneError, discover};
use pindrel_testkit::{ScriptedServer, answer, udp_and_tcp};
use rcgen::{CertificateParams, KeyPair};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpListener;

/// What bounds a wait in all is far shorter than this.
const FAR_TOO_LONG: Duration = Duration::from_secs(20);

fn zone() -> DnsName {
    "larkfield.example".parse().unwrap()
}

fn name(text: &str) -> Name {
    let mut name = Name::from_ascii(text).unwrap();
    name.set_fqdn(true);
    name
}

fn soa() -> Record {
    let soa = SOA::new(name("ns1.larkfield.example"), name("hostmaster.larkfield.example"), 7, 60, 5, 86_400, 5);
    Record::from_rdata(name("larkfield.example"), 60, RData::SOA(soa))
}

fn address(owner: &str, address: [u8; 4]) -> Record {
    Record::from_rdata(name(owner), 60, RData::A(A(address.into())))
}

fn reply(question: &Message, answers: Vec<Record>) -> Message {
    let mut reply = Message::response(question.metadata.id, question.metadata.op_code);
    reply.metadata.authoritative = true;
    reply.add_queries(question.queries.clone());
    reply.add_answers(answers);
    reply
}

fn framed(message: &Message) -> Vec<u8> {
    let raw = message.to_vec().unwrap();
    [&(raw.len() as u16).to_be_bytes()[..], &raw].concat()
}

/// What a server answers over TCP: the octets, one piece after another, with a pause before each.
type Pieces = Box<dyn Iterator<Item = Vec<u8>> + Send>;

/// A server with the same port for both: over UDP it answers as `udp` says, over TCP it writes what `tcp` says.
async fn server(
    udp: impl Fn(&Message) -> Message + Send + Sync + 'static,
    tcp: impl Fn(&Message) -> (Duration, Pieces) + Send + Sync + 'static,
) -> SocketAddr {
    let (socket, listener) = udp_and_tcp().await;
    let address = socket.local_addr().unwrap();
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
            let Ok(question) = Message::from_vec(&buffer[..length]) else { continue };
            let _ = socket.send_to(&udp(&question).to_vec().unwrap(), client).await;
        }
    });
    let tcp = Arc::new(tcp);
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let tcp = tcp.clone();
            tokio::spawn(async move {
                while let Ok(length) = stream.read_u16().await {
                    let mut raw = vec![0; usize::from(length)];
                    stream.read_exact(&mut raw).await?;
                    let (pause, pieces) = tcp(&Message::from_vec(&raw).unwrap());
                    for piece in pieces {
                        tokio::time::sleep(pause).await;
                        stream.write_all(&piece).await?;
                    }
                }
                Ok::<(), std::io::Error>(())
            });
        }
    });
    address
}

/// An answer that comes octet by octet, each well before anybody stops waiting for it.
fn dripping(message: &Message) -> (Duration, Pieces) {
    (Duration::from_millis(300), Box::new(framed(message).into_iter().map(|octet| vec![octet])))
}

fn cut(question: &Message) -> Message {
    let mut cut = reply(question, Vec::new());
    cut.metadata.truncation = true;
    cut
}

#[tokio::test]
async fn a_transfer_that_drips_is_left_when_its_time_is_over() {
    let drip = |question: &Message| {
        let first = framed(&reply(question, vec![soa()]));
        let question = question.clone();
        let more = (0..)
            .map(move |n| framed(&reply(&question, vec![address(&format!("h{n}.larkfield.example"), [192, 0, 2, 7])])));
        (Duration::from_millis(100), Box::new(std::iter::once(first).chain(more)) as Pieces)
    };
    let server = server(cut, drip).await;
    let begun = Instant::now();
    let error = transfer(server, &zone(), None, Duration::from_secs(1)).await.unwrap_err();
    assert!(begun.elapsed() < FAR_TOO_LONG, "{:?}", begun.elapsed());
    let TransferError::CutShort { records: 2.., why: Unreachable::TimedOut { .. }, .. } = error else {
        panic!("{error}");
    };
}

#[tokio::test]
async fn a_transfer_without_an_end_is_left_at_its_bound() {
    let endless = |question: &Message| {
        let first = framed(&reply(question, vec![soa()]));
        let text = TXT::new(vec!["x".repeat(255); 200]);
        let record = Record::from_rdata(name("x.larkfield.example"), 60, RData::TXT(text));
        let more = framed(&reply(question, vec![record]));
        (Duration::ZERO, Box::new(std::iter::once(first).chain(std::iter::repeat(more))) as Pieces)
    };
    let server = server(cut, endless).await;
    let error = transfer(server, &zone(), None, Duration::from_secs(300)).await.unwrap_err();
    assert!(matches!(error, TransferError::TooLong { .. }), "{error}");
}

#[tokio::test]
async fn an_answer_that_drips_is_none_over_tcp_and_over_tls() {
    let records = |question: &Message| reply(question, vec![address("larkfield.example", [192, 0, 2, 7]); 20]);
    let server = server(cut, move |question| dripping(&records(question))).await;
    let begun = Instant::now();
    let answered = lookup::records(server, &zone(), pindrel_core::zones::records::RecordType::A).await;
    assert!(matches!(answered, Err(Unreachable::TimedOut { .. })), "{answered:?}");
    assert!(begun.elapsed() < FAR_TOO_LONG, "{:?}", begun.elapsed());

    let key = KeyPair::generate().unwrap();
    let made = CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap().self_signed(&key).unwrap();
    let config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![made.der().clone()], PrivateKeyDer::try_from(key.serialize_der()).unwrap())
        .unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let mut stream = acceptor.accept(stream).await?;
                while let Ok(length) = stream.read_u16().await {
                    let mut raw = vec![0; usize::from(length)];
                    stream.read_exact(&mut raw).await?;
                    let (pause, pieces) = dripping(&records(&Message::from_vec(&raw).unwrap()));
                    for piece in pieces {
                        tokio::time::sleep(pause).await;
                        stream.write_all(&piece).await?;
                        stream.flush().await?;
                    }
                }
                Ok::<(), std::io::Error>(())
            });
        }
    });
    let ResolverAddress::Encrypted(own) = format!("tls://127.0.0.1:{port}").parse().unwrap() else {
        panic!("it is encrypted");
    };
    let resolver = Resolver::encrypted(&own as &EncryptedResolver, vec![anchor(made.der())], None);
    let begun = Instant::now();
    let resolved = lookup::resolve(&resolver, &zone()).await;
    assert!(matches!(resolved, Resolved::Nothing { .. }), "{resolved:?}");
    assert!(begun.elapsed() < FAR_TOO_LONG, "{:?}", begun.elapsed());
}

fn anchor(der: &CertificateDer<'_>) -> rustls::pki_types::TrustAnchor<'static> {
    webpki::anchor_from_trusted_cert(der).unwrap().to_owned()
}

/// A server that refuses whoever signs, and answers everybody else: what it says unsigned is nothing.
#[tokio::test]
async fn with_a_key_nothing_unsigned_counts() {
    let asked = Arc::new(Mutex::new(Vec::new()));
    let seen = asked.clone();
    let downgrading = move |question: &Message| {
        let wanted = question.queries.first().map(|query| query.query_type());
        seen.lock().unwrap().push((question.metadata.op_code, wanted, question.signature.is_some()));
        let forged = match wanted {
            Some(RecordType::AXFR) if question.signature.is_some() => {
                let mut refused = reply(question, Vec::new());
                refused.metadata.response_code = ResponseCode::Refused;
                refused
            }
            Some(RecordType::AXFR) => {
                reply(question, vec![soa(), address("forged.larkfield.example", [192, 0, 2, 66]), soa()])
            }
            _ => reply(question, vec![address("api.larkfield.example", [192, 0, 2, 66])]),
        };
        (Duration::ZERO, Box::new(std::iter::once(framed(&forged))) as Pieces)
    };
    let server = server(cut, downgrading).await;
    let key = "pindrel.".parse().unwrap();
    let within = Duration::from_secs(10);
    let driver = Rfc2136::new(zone(), server, key, TsigAlgorithm::HmacSha256, vec![7; 32], within).unwrap();
    let error = driver.read().await.unwrap_err();
    assert!(matches!(error, ZoneError::Refused { .. }), "{error:?}");
    let error = driver.read_names(&["api.larkfield.example".parse().unwrap()]).await.unwrap_err();
    assert!(matches!(error, ZoneError::Credential { .. }) && error.to_string().contains("not signed"), "{error:?}");
    let asked = asked.lock().unwrap();
    assert!(asked.iter().all(|(op_code, _, signed)| *op_code == OpCode::Query && *signed), "{asked:?}");
}

/// Whoever names servers leads nobody to what is this machine's own.
#[tokio::test]
async fn glue_leads_to_no_metadata_service() {
    let referral = |question: &Message| {
        let mut referral = Message::response(question.metadata.id, OpCode::Query);
        referral.metadata.message_type = MessageType::Response;
        referral.add_queries(question.queries.clone());
        for (server, octets) in [("ns1", [169, 254, 169, 254]), ("ns2", [127, 0, 0, 77]), ("ns3", [100, 100, 100, 200])]
        {
            let server = format!("{server}.larkfield.example");
            referral.add_authority(Record::from_rdata(name("larkfield.example"), 60, RData::NS(NS(name(&server)))));
            referral.add_additional(address(&server, octets));
        }
        referral
    };
    let parent = server(referral, move |question| {
        (Duration::ZERO, Box::new(std::iter::once(framed(&referral(question)))) as Pieces)
    })
    .await;
    let view = discover::zone(&zone(), &[], &[parent], &[]).await;
    let asked: Vec<IpAddr> = view.servers.iter().map(|server| server.server.ip()).collect();
    assert_eq!(asked, [IpAddr::from([127, 0, 0, 77])], "{view:?}");
}

const API_KEY: &str = "the-key-of-the-whole-server-4711";

/// What a server's API says is bounded by the zone, and the key that it was sent never comes back.
#[tokio::test]
async fn an_api_says_nothing_of_other_zones_and_nothing_of_the_key() {
    let outside = r#"{"name":"larkfield.example.","rrsets":[{"name":"www.elsewhere.example.","type":"A","ttl":60,
        "records":[{"content":"192.0.2.66","disabled":false}]}]}"#;
    let echo = |request: &pindrel_testkit::Received| {
        serde_json::json!({ "error": format!("bad request\u{1b}[2J: {:?}", request.headers) }).to_string()
    };
    let driver = |server: &ScriptedServer| {
        let url = format!("https://localhost:{}/", server.address.port()).parse().unwrap();
        PowerDns::new(zone(), url, API_KEY.to_owned().into(), Some(server.root_pem.as_bytes())).unwrap()
    };
    let stranger = ScriptedServer::start(&["localhost"], move |_, _| answer(200, &[], outside)).await;
    let error = driver(&stranger).read().await.unwrap_err();
    assert!(error.to_string().contains("www.elsewhere.example. does not lie in larkfield.example."), "{error}");
    let echoing = ScriptedServer::start(&["localhost"], move |_, request| answer(500, &[], &echo(request))).await;
    let error = format!("{:?}", driver(&echoing).read().await.unwrap_err());
    assert!(error.contains("status 500") && error.contains('…'), "{error}");
    assert!(!error.contains(API_KEY) && !error.contains("u{1b}"), "{error}");
}

/// A zone file includes regular zone files of its own folder, or of the one that is allowed; nothing else is opened,
/// and of what is no zone file not a word is shown.
#[test]
fn a_zone_file_includes_zone_files_of_its_own_folder_alone() {
    let folder = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        path
    };
    let secret = "c2VhbGluZyBrZXkgb2YgbGFya2ZpZWxkIGFuZCBub2JvZHkgZWxzZQ==";
    write("zones/more.zone", "more 1h A 192.0.2.7\n");
    write("zones/sealing.key", &format!("{secret}\n"));
    write("zones/settings.env", &format!("API_KEY={secret}\nother A 192.0.2.8\nTOKEN {secret}\n"));
    write("other/common.zone", "common 1h A 192.0.2.8\n");
    std::os::unix::fs::symlink(folder.path().join("other/common.zone"), folder.path().join("zones/link.zone")).unwrap();
    nix::unistd::mkfifo(&folder.path().join("zones/pipe.zone"), nix::sys::stat::Mode::S_IRWXU).unwrap();
    for (included, says) in [
        ("more.zone", None),
        ("./../zones/more.zone", None),
        ("pipe.zone", Some("is not a regular file")),
        ("/dev/zero", Some("lies outside the folder")),
        ("/proc/self/environ", Some("lies outside the folder")),
        ("../other/common.zone", Some("lies outside the folder")),
        ("link.zone", Some("lies outside the folder")),
        ("sealing.key", Some("it is no zone file")),
        ("settings.env", Some("it is no zone file")),
        ("none.zone", Some("there is no such file")),
        ("common.zone", Some("there is no such file")),
    ] {
        let text = format!("@ 1h IN SOA ns1 hostmaster 7 1h 10m 4w 5m\n@ 1h NS ns1\n$INCLUDE {included}\n");
        let path = write("zones/larkfield.example.zone", &text);
        let origin = (&zone()).into();
        let files = read(&path, &origin, None, None).unwrap();
        let shown = format!("{:?}", files.mistakes);
        assert!(!shown.contains(&secret[..12]), "{included}: {shown}");
        match says {
            None => assert!(files.mistakes.is_empty() && files.zone.len() == 3, "{included}: {shown}"),
            Some(says) => {
                assert!(files.mistakes.len() == 1 && files.mistakes[0].place.line == 3, "{included}: {shown}");
                assert!(files.mistakes[0].says.contains(says), "{included}: {shown}");
            }
        }
        let allowed = read(&path, &origin, None, Some(&folder.path().join("other"))).unwrap();
        let is_of_other = included.contains("common") || included.contains("link");
        assert_eq!(allowed.mistakes.is_empty(), says.is_none() || is_of_other, "{included}: {:?}", allowed.mistakes);
    }
    // The file itself, too, is none that anybody would be waited for.
    let error = read(&folder.path().join("zones/pipe.zone"), &(&zone()).into(), None, None).unwrap_err();
    assert!(error.to_string().contains("not a regular file"), "{error}");
}
