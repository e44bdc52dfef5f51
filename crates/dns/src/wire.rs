//! One question, one answer: UDP first, TCP when the answer is cut or does not come (RFC 7766).

use std::net::SocketAddr;
use std::time::Duration;

use hickory_proto::op::{Edns, Message, OpCode, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType as WireType};
use hickory_proto::serialize::binary::{BinEncodable as _, BinEncoder};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{RecordData, RecordType};
use pindrel_core::zones::zone_data::{TypeCode, rdata};
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::came_back::{answers, io, malformed, timed_out};
use crate::lines::{Repeat, over_tcp};
use crate::sockets::Socket;

/// How long each try over UDP waits.
const UDP_TRIES: [Duration; 2] = [Duration::from_millis(700), Duration::from_millis(1500)];
/// How long a server that left them unanswered has to answer over TCP.
const LAST_TRY: Duration = Duration::from_secs(3);
/// How long a question takes in all, however it is asked: a server that drips its answer is as one that is silent.
const IN_ALL: Duration = Duration::from_secs(6);
/// How many questions this process has under way at once: each holds a socket.
static QUESTIONS: Semaphore = Semaphore::const_new(128);
/// What fits through nearly every path without fragments (RFC 9715 §3.2).
const UDP_PAYLOAD: u16 = 1232;

/// A response code as RFC 1035 and 2136 write it.
pub(crate) fn mnemonic(code: ResponseCode) -> String {
    match code {
        ResponseCode::NoError => "NOERROR".into(),
        ResponseCode::FormErr => "FORMERR".into(),
        ResponseCode::ServFail => "SERVFAIL".into(),
        ResponseCode::NXDomain => "NXDOMAIN".into(),
        ResponseCode::NotImp => "NOTIMP".into(),
        ResponseCode::Refused => "REFUSED".into(),
        ResponseCode::YXDomain => "YXDOMAIN".into(),
        ResponseCode::YXRRSet => "YXRRSET".into(),
        ResponseCode::NXRRSet => "NXRRSET".into(),
        ResponseCode::NotAuth => "NOTAUTH".into(),
        ResponseCode::NotZone => "NOTZONE".into(),
        other => format!("the response code {}", u16::from(other)),
    }
}

/// How a question is asked.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Ask {
    /// Recursion is desired (a resolver is asked).
    pub recursion: bool,
    /// Signatures are wanted, and their verdict.
    pub dnssec: bool,
    /// The resolver shall not validate.
    pub checking_disabled: bool,
}

pub(crate) fn wire_name(name: &DnsName) -> Name {
    // Every `DnsName` keeps RFC 1035's limits, so this cannot fail. By labels: the text of some is refused.
    let mut wire = Name::from_labels(name.as_str().split('.').map(str::as_bytes)).unwrap_or_else(|_| Name::root());
    wire.set_fqdn(true);
    wire
}

pub(crate) fn core_name(name: &Name) -> Option<DnsName> {
    // Label by label: as a text some octets are escaped that may well stand in a name.
    let labels: Vec<&str> = name.iter().map(std::str::from_utf8).collect::<Result<_, _>>().ok()?;
    labels.iter().all(|label| !label.contains('.')).then(|| labels.join(".").parse().ok())?
}

pub(crate) fn wire_type(record_type: RecordType) -> WireType {
    match record_type {
        RecordType::A => WireType::A,
        RecordType::Aaaa => WireType::AAAA,
        RecordType::Cname => WireType::CNAME,
        RecordType::Txt => WireType::TXT,
        RecordType::Mx => WireType::MX,
        RecordType::Ns => WireType::NS,
        RecordType::Srv => WireType::SRV,
        RecordType::Caa => WireType::CAA,
        RecordType::Https => WireType::HTTPS,
        RecordType::Svcb => WireType::SVCB,
        RecordType::Alias => WireType::from(TypeCode::ALIAS.0),
    }
}

pub(crate) fn core_data(data: &RData, record_type: RecordType) -> Option<RecordData> {
    Some(match data {
        RData::A(address) => RecordData::A(address.0),
        RData::AAAA(address) => RecordData::Aaaa(address.0),
        RData::CNAME(target) => RecordData::Cname(core_name(&target.0)?),
        RData::TXT(text) => {
            let bytes: Vec<u8> = text.txt_data.iter().flat_map(|part| part.iter().copied()).collect();
            RecordData::Txt(String::from_utf8_lossy(&bytes).into_owned())
        }
        other => {
            let mut wire = Vec::new();
            other.emit(&mut BinEncoder::new(&mut wire)).ok()?;
            let code = TypeCode::from(record_type);
            let mut canonical = Vec::with_capacity(wire.len());
            rdata::canonical(code, &wire, &mut canonical);
            RecordData::from_wire(record_type, &canonical)?
        }
    })
}

/// A question; with EDNS where that is wanted (RFC 6891).
fn question(name: &DnsName, wire_type: WireType, how: Ask, extended: bool) -> Message {
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Query;
    message.metadata.recursion_desired = how.recursion;
    message.metadata.checking_disabled = how.checking_disabled;
    message.metadata.authentic_data = how.dnssec;
    message.add_query(Query::query(wire_name(name), wire_type));
    if extended {
        let mut edns = Edns::new();
        edns.set_max_payload(UDP_PAYLOAD).set_version(0).set_dnssec_ok(how.dnssec);
        message.set_edns(edns);
    }
    message
}

/// Says whether this is what a server answers that knows nothing of EDNS (RFC 6891 §7).
fn knows_no_edns(answer: &Message) -> bool {
    matches!(answer.metadata.response_code, ResponseCode::FormErr | ResponseCode::NotImp)
}

/// Asks one server one question.
pub(crate) async fn ask(
    server: SocketAddr,
    name: &DnsName,
    wire_type: WireType,
    how: Ask,
) -> Result<Message, Unreachable> {
    // Never closed, so this cannot fail.
    let _turn = QUESTIONS.acquire().await.map_err(|_| malformed())?;
    in_all(async {
        match exchange(server, &question(name, wire_type, how, true)).await {
            Ok(answer) if knows_no_edns(&answer) => exchange(server, &question(name, wire_type, how, false)).await,
            answer => answer,
        }
    })
    .await
}

/// Bounds what a question takes with all its tries.
async fn in_all(asking: impl Future<Output = Result<Message, Unreachable>>) -> Result<Message, Unreachable> {
    timeout(IN_ALL, asking).await.unwrap_or_else(|_| Err(timed_out(IN_ALL)))
}

/// Returns the first answer, each asked for only where the one before failed.
pub(crate) async fn first_of<A>(
    questions: impl Iterator<Item = impl Future<Output = Result<A, Unreachable>>>,
) -> Result<A, Unreachable> {
    let mut failed = Unreachable::NoneKnown;
    for question in questions {
        match question.await {
            Ok(answer) => return Ok(answer),
            Err(error) => failed = error,
        }
    }
    Err(failed)
}

/// Asks one question over a connection that carries messages whole.
pub(crate) async fn converse<F: Future<Output = Result<Vec<u8>, Unreachable>> + Send>(
    name: &DnsName,
    wire_type: WireType,
    how: Ask,
    send: impl Fn(Vec<u8>) -> F,
) -> Result<Message, Unreachable> {
    let _turn = QUESTIONS.acquire().await.map_err(|_| malformed())?;
    in_all(async {
        let mut answered = Err(malformed());
        for extended in [true, false] {
            let message = question(name, wire_type, how, extended);
            let raw = send(message.to_vec().map_err(|_| malformed())?).await?;
            answered = read_answer(&raw, &message);
            if !answered.as_ref().is_ok_and(knows_no_edns) {
                break;
            }
        }
        answered
    })
    .await
}

/// Asks one server one question over TCP alone.
pub(crate) async fn ask_over_tcp(
    server: SocketAddr,
    name: &DnsName,
    wire_type: WireType,
) -> Result<Message, Unreachable> {
    let send = |bytes: Vec<u8>| async move { over_tcp(server, &bytes, Repeat::Allowed).await };
    converse(name, wire_type, Ask::default(), send).await
}

/// Reads what came back for a question.
fn read_answer(raw: &[u8], question: &Message) -> Result<Message, Unreachable> {
    Message::from_vec(raw).ok().filter(|answer| answers(answer, question)).ok_or_else(malformed)
}

/// Sends a question over UDP, and over TCP where that is needed.
async fn exchange(server: SocketAddr, message: &Message) -> Result<Message, Unreachable> {
    let bytes = message.to_vec().map_err(|_| malformed())?;
    let over_tcp = || over_tcp(server, &bytes, Repeat::Allowed);
    let raw = match over_udp(server, message, &bytes).await {
        Ok(answer) if !answer.metadata.truncation => return Ok(answer),
        Ok(_) => over_tcp().await?,
        // A server that limits how often it answers drops what comes over UDP, where the sender may be
        // forged (RFC 7766 §5 lets a client begin with TCP).
        Err(Unreachable::Refused) => over_tcp().await?,
        Err(Unreachable::TimedOut { after_ms }) => match timeout(LAST_TRY, over_tcp()).await {
            Ok(Ok(raw)) => raw,
            _ => return Err(timed_out(Duration::from_millis(after_ms) + LAST_TRY)),
        },
        Err(why) => return Err(why),
    };
    read_answer(&raw, message)
}

async fn over_udp(server: SocketAddr, question: &Message, bytes: &[u8]) -> Result<Message, Unreachable> {
    let (mut waited, mut kept) = (Duration::ZERO, Socket::kept(server));
    for patience in UDP_TRIES {
        // Another socket, and so another port, for each try: an answer to the one before cannot slip in.
        let mut socket = match kept.take() {
            Some(socket) => socket,
            None => Socket::new(server).await?,
        };
        let mut asked = timeout(patience, socket.ask(question, bytes)).await;
        if socket.is_old() && matches!(asked, Ok(Err(_))) {
            socket = Socket::new(server).await?;
            asked = timeout(patience, socket.ask(question, bytes)).await;
        }
        match asked {
            Ok(Ok(answer)) => {
                socket.keep(server);
                return Ok(answer);
            }
            Ok(Err(error)) => return Err(io(&error)),
            Err(_) => waited += patience,
        }
    }
    Err(timed_out(waited))
}
