//! Reading a zone by transfer, whole (AXFR, RFC 5936) or what has changed in it (IXFR, RFC 1995), signed with TSIG where a key is known (RFC 8945 §5.3.1).

use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::time::Duration;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use hickory_proto::op::{Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::rdata::NULL;
use hickory_proto::rr::rdata::name::{CNAME, NS, PTR};
use hickory_proto::rr::rdata::tsig::{TsigError, signed_bitmessage_to_buf};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType as WireType, TSigner};
use hickory_proto::serialize::binary::{BinEncodable as _, BinEncoder};
use jiff::Timestamp;
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Serial;
use pindrel_core::zones::rights::Beyond;
use pindrel_core::zones::zone_data::{
    DoesNotFit, Increment, NameKey, Place, TypeCode, ZoneBuilder, ZoneData, ZoneTooLarge, rdata,
};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout_at};

use crate::came_back::{io, malformed, timed_out};
use crate::lines::{CONNECT, connect};
use crate::wire::{Ask, ask, core_name, mnemonic, wire_name};
use crate::zone_error::ZoneError;

/// How many servers are asked at once whether they transfer a zone to anybody.
const TRIES_AT_ONCE: usize = 8;
/// How long the next message of a transfer is waited for.
const NEXT_MESSAGE: Duration = Duration::from_secs(20);
/// The most that is read of a zone, in bytes.
const MOST_BYTES: usize = 256 << 20;
/// How many messages may follow one another without a signature (RFC 8945 §5.3.1).
const MOST_UNSIGNED: usize = 99;

/// Why a zone was not transferred. Nothing of it is kept then.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TransferError {
    /// The server could not be reached or read.
    #[error("{server} cannot be asked to transfer {zone}: {why}")]
    Unreachable {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// Why.
        why: Unreachable,
    },
    /// The server does not transfer the zone to this host or key.
    #[error("{server} refuses to transfer {zone}: {code}")]
    Refused {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// The response code, or the error of TSIG.
        code: String,
    },
    /// The transfer ended before its closing SOA record.
    #[error("the transfer of {zone} from {server} was cut short after {records} records: {why}")]
    CutShort {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// How many records had come.
        records: usize,
        /// Why it ended.
        why: Unreachable,
    },
    /// A message is not signed as it should be.
    #[error("a message in the transfer of {zone} from {server} is not signed with the TSIG key of the manifest")]
    Unsigned {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
    },
    /// What came is not one zone from its SOA record to its SOA record.
    #[error("{server} returned something other than the zone {zone}: {what}")]
    NotTheZone {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// What came.
        what: String,
    },
    /// More came than is read of any zone.
    #[error("{server} sent more than {} MiB for the zone {zone}", MOST_BYTES >> 20)]
    TooLong {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
    },
    /// The zone is too large to be held.
    #[error("{0}")]
    TooLarge(#[from] ZoneTooLarge),
}

impl TransferError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            TransferError::Unreachable { server, .. } => format!("Start {server}, or allow TCP from this host to it"),
            TransferError::Refused { .. } => "Allow the TSIG key of the zone to transfer it on that server".into(),
            TransferError::CutShort { .. } => "Check the server's log for why it ended the transfer".into(),
            TransferError::Unsigned { .. } => {
                "Check whether a middlebox between here and the server changes DNS messages".into()
            }
            TransferError::NotTheZone { .. } | TransferError::TooLong { .. } => {
                "Check what the server serves under that name".into()
            }
            TransferError::TooLarge(_) => "Compare zone files of a part of it".into(),
        }
    }

    /// Returns what it is to whoever reads a zone by whatever driver.
    pub(crate) fn into_zone_error(self) -> ZoneError {
        let (says, remedy) = (self.to_string(), self.remedy());
        match self {
            TransferError::Refused { .. } => ZoneError::Refused { says, remedy },
            TransferError::Unsigned { .. } => ZoneError::Credential { says, remedy },
            _ => ZoneError::Unreachable { says, remedy },
        }
    }
}

/// Transfers a whole zone within a time.
///
/// # Errors
/// [`TransferError`]; a transfer that is not whole counts for nothing.
pub async fn transfer(
    server: SocketAddr,
    zone: &DnsName,
    key: Option<&TSigner>,
    within: Duration,
) -> Result<ZoneData, TransferError> {
    let mut taking = Taking::new(server, zone);
    let request = Request { server, zone, key, within };
    request.receive(WireType::AXFR, None, |records| taking.take(records)).await?;
    Ok(taking.builder.finish(Some(taking.apex)))
}

/// Transfers what has changed in a zone since it was read (IXFR, RFC 1995); a server that cannot tell sends the whole.
///
/// # Errors
/// [`TransferError`]; a transfer that is not whole, or does not fit what was read, counts for nothing.
pub async fn transfer_since(
    server: SocketAddr,
    before: &ZoneData,
    zone: &DnsName,
    key: Option<&TSigner>,
    within: Duration,
) -> Result<ZoneData, TransferError> {
    let mut catching = Catching::new(server, zone, before);
    let soa = before.soa().ok_or_else(|| catching.whole.not_the_zone("a zone that had no SOA record"))?;
    let request = Request { server, zone, key, within };
    request.receive(WireType::IXFR, Some(soa.data), |records| catching.take(records)).await?;
    catching.into_zone()
}

/// A zone that is asked for.
struct Request<'r> {
    server: SocketAddr,
    zone: &'r DnsName,
    key: Option<&'r TSigner>,
    /// How long all of it may take.
    within: Duration,
}

impl Request<'_> {
    /// Asks for a transfer and hands on the records of each message, until `take` says that the zone is whole.
    async fn receive(
        &self,
        wire_type: WireType,
        known: Option<&[u8]>,
        mut take: impl FnMut(&[Record]) -> Result<bool, TransferError>,
    ) -> Result<(), TransferError> {
        let Request { server, zone, key, within } = *self;
        let end = Instant::now() + within;
        let unreachable = |why| TransferError::Unreachable { server, zone: zone.clone(), why };
        let not_the_zone = |what: &str| TransferError::NotTheZone { server, zone: zone.clone(), what: what.into() };
        let mut message = Message::query();
        message.metadata.op_code = OpCode::Query;
        message.metadata.recursion_desired = false;
        message.add_query(Query::query(wire_name(zone), wire_type));
        // What is known already stands in the authority section (RFC 1995 §3).
        message.add_authorities(known.map(|data| {
            let data = RData::Unknown { code: WireType::SOA, rdata: NULL::with(data.to_vec()) };
            Record::from_rdata(wire_name(zone), 0, data)
        }));
        let now = Timestamp::now().as_second();
        let mut chain = None;
        if let Some(key) = key {
            let signed = key.sign_message(&message, u64::try_from(now).unwrap_or(0));
            let (signature, _) = signed.map_err(|_| unreachable(malformed()))?;
            chain = Some(Chain::new(key, signature.data.mac.to_vec(), now));
            message.set_signature(signature);
        }
        let bytes = message.to_vec().map_err(|_| unreachable(malformed()))?;
        let connected = timeout_at(end, connect(server)).await.unwrap_or_else(|_| Err(timed_out(within)));
        let mut stream = connected.map_err(unreachable)?;
        let mut framed = u16::try_from(bytes.len()).unwrap_or(0).to_be_bytes().to_vec();
        framed.extend_from_slice(&bytes);
        stream.write_all(&framed).await.map_err(|error| unreachable(io(&error)))?;
        let (mut raw, mut records, mut bytes) = (Vec::new(), 0, 0);
        loop {
            if let Err(why) = next_message(&mut stream, &mut raw, end).await {
                return Err(match records {
                    0 => unreachable(why),
                    records => TransferError::CutShort { server, zone: zone.clone(), records, why },
                });
            }
            bytes += raw.len();
            if bytes > MOST_BYTES {
                return Err(TransferError::TooLong { server, zone: zone.clone() });
            }
            let answer = Message::from_vec(&raw).map_err(|_| not_the_zone("a message that cannot be read"))?;
            if answer.metadata.id != message.metadata.id || answer.metadata.message_type != MessageType::Response {
                return Err(not_the_zone("a message that answers another question"));
            }
            refusal(&answer).map_or(Ok(()), |code| Err(TransferError::Refused { server, zone: zone.clone(), code }))?;
            if answer.answers.is_empty() {
                // As servers answer that transfer the zone to others only.
                return Err(TransferError::Refused {
                    server,
                    zone: zone.clone(),
                    code: "a response without records".into(),
                });
            }
            records += answer.answers.len();
            let is_whole = take(&answer.answers)?;
            if let Some(chain) = &mut chain
                && !chain.accepts(&raw, &answer, is_whole)
            {
                return Err(TransferError::Unsigned { server, zone: zone.clone() });
            }
            if is_whole {
                return Ok(());
            }
        }
    }
}

/// Those of some servers that transfer a zone without a key.
pub(crate) async fn open_transfers(zone: &DnsName, servers: &[SocketAddr]) -> BTreeSet<Beyond> {
    let asked = servers.iter().copied();
    let asked = asked.map(|server| async move { (server, is_open(server, zone).await) });
    let asked: Vec<(SocketAddr, bool)> = stream::iter(asked).buffered(TRIES_AT_ONCE).collect().await;
    asked.into_iter().filter(|(_, open)| *open).map(|(server, _)| Beyond::Transfer(server)).collect()
}

/// Says whether a server begins to transfer a zone to somebody without a key; no more than its first message is read.
async fn is_open(server: SocketAddr, zone: &DnsName) -> bool {
    let mut message = Message::query();
    message.metadata.recursion_desired = false;
    message.add_query(Query::query(wire_name(zone), WireType::AXFR));
    let answered = async {
        let bytes = message.to_vec().ok()?;
        let mut stream = connect(server).await.ok()?;
        stream.write_all(&u16::try_from(bytes.len()).ok()?.to_be_bytes()).await.ok()?;
        stream.write_all(&bytes).await.ok()?;
        let mut raw = Vec::new();
        next_message(&mut stream, &mut raw, Instant::now() + CONNECT).await.ok()?;
        let answer = Message::from_vec(&raw).ok()?;
        let is_soa = |record: &Record| record.record_type() == WireType::SOA;
        Some(answer.metadata.id == message.metadata.id && answer.answers.first().is_some_and(is_soa))
    };
    answered.await.unwrap_or(false)
}

/// Reads the next message; waits for it no longer than until `end`.
async fn next_message(stream: &mut TcpStream, raw: &mut Vec<u8>, end: Instant) -> Result<(), Unreachable> {
    let begun = Instant::now();
    let read = async {
        let mut length = [0; 2];
        stream.read_exact(&mut length).await?;
        raw.resize(usize::from(u16::from_be_bytes(length)), 0);
        stream.read_exact(raw).await.map(|_| ())
    };
    match timeout_at(end.min(begun + NEXT_MESSAGE), read).await {
        Ok(read) => read.map_err(|error| io(&error)),
        Err(_) => Err(timed_out(begun.elapsed())),
    }
}

/// Why a server does not transfer the zone, out of its answer.
fn refusal(answer: &Message) -> Option<String> {
    if let Some(error) = answer.signature.as_ref().and_then(|signature| signature.data.error.as_ref()) {
        return Some(match error {
            TsigError::BadKey => "it does not know the TSIG key (BADKEY)".into(),
            TsigError::BadSig => "it has another secret for the TSIG key (BADSIG)".into(),
            TsigError::BadTime => "its clock differs too much from this machine's (BADTIME)".into(),
            other => format!("TSIG error {}", u16::from(*other)),
        });
    }
    let code = answer.metadata.response_code;
    (code != ResponseCode::NoError).then(|| mnemonic(code))
}

/// The records as they come.
struct Taking<'z> {
    server: SocketAddr,
    zone: &'z DnsName,
    apex: NameKey,
    builder: ZoneBuilder,
    /// The SOA record that begins the transfer, and ends it (RFC 5936 §2.2).
    soa: Option<Vec<u8>>,
}

impl<'z> Taking<'z> {
    fn new(server: SocketAddr, zone: &'z DnsName) -> Taking<'z> {
        Taking { server, zone, apex: NameKey::from(zone), builder: ZoneBuilder::default(), soa: None }
    }

    fn not_the_zone(&self, what: impl Into<String>) -> TransferError {
        TransferError::NotTheZone { server: self.server, zone: self.zone.clone(), what: what.into() }
    }

    /// Takes the records of one message; says whether the zone is whole.
    fn take(&mut self, records: &[Record]) -> Result<bool, TransferError> {
        for (position, record) in records.iter().enumerate() {
            let (owner, code, data) = self.read(record)?;
            if self.is_soa(&owner, code) {
                match &self.soa {
                    None => self.soa = Some(data.clone()),
                    Some(first) if *first == data && position + 1 == records.len() => return Ok(true),
                    Some(_) => {
                        return Err(self.not_the_zone("an SOA record in the midst of the zone: it changed meanwhile"));
                    }
                }
            }
            if self.soa.is_none() {
                return Err(self.not_the_zone(format!("a record of {owner} before the SOA record")));
            }
            if self.is_of_zone(&owner, record) {
                names_of(record).for_each(|name| spell(&mut self.builder, name));
                self.builder.add(&owner, code, record.ttl, &data, Place::default())?;
            }
        }
        Ok(false)
    }

    fn is_soa(&self, owner: &NameKey, code: TypeCode) -> bool {
        code == TypeCode::SOA && *owner == self.apex
    }

    /// What lies elsewhere is glue of other zones, or forged (RFC 5936 §3.1).
    fn is_of_zone(&self, owner: &NameKey, record: &Record) -> bool {
        owner.is_within(&self.apex) && record.dns_class == DNSClass::IN
    }

    fn read(&self, record: &Record) -> Result<(NameKey, TypeCode, Vec<u8>), TransferError> {
        let mut wire = Vec::new();
        let name = record.name.to_lowercase().emit(&mut BinEncoder::new(&mut wire));
        name.map_err(|_| self.not_the_zone("a name"))?;
        let Some((owner, _)) = NameKey::from_wire(&wire) else { return Err(self.not_the_zone("a name")) };
        let code = TypeCode(u16::from(record.record_type()));
        let data = data_of(record, code).ok_or_else(|| self.not_the_zone(format!("no data of {code}")))?;
        Ok((owner, code, data))
    }
}

/// What an incremental transfer is about to tell.
enum Telling {
    /// Its first record, the SOA record of the zone as it is now.
    Now,
    /// Whether the differences come, or the whole zone.
    Form(Box<Record>),
    /// Records that are gone since a serial.
    Deleted,
    /// Records that came with this serial.
    Added(Serial),
    /// The whole zone.
    Whole,
    /// Nothing has changed.
    Nothing,
}

/// The changes of a zone as they come: from one version to the next, the records that are gone between two SOA
/// records, then those that came (RFC 1995 §4).
struct Catching<'z> {
    /// What the records are taken into where the server sends the whole.
    whole: Taking<'z>,
    increment: Increment<'z>,
    telling: Telling,
    /// The data of the SOA record that ends the transfer.
    last: Vec<u8>,
    /// The serial that the next difference begins with.
    serial: Serial,
}

impl<'z> Catching<'z> {
    fn new(server: SocketAddr, zone: &'z DnsName, before: &'z ZoneData) -> Catching<'z> {
        let serial = before.serial().unwrap_or(Serial(0));
        let (whole, increment) = (Taking::new(server, zone), Increment::of(before));
        Catching { whole, increment, telling: Telling::Now, last: Vec::new(), serial }
    }

    fn take(&mut self, records: &[Record]) -> Result<bool, TransferError> {
        for (position, record) in records.iter().enumerate() {
            if matches!(self.telling, Telling::Whole) {
                return self.whole.take(&records[position..]);
            }
            if self.take_one(record)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn take_one(&mut self, record: &Record) -> Result<bool, TransferError> {
        let (owner, code, data) = self.whole.read(record)?;
        let serial = self.whole.is_soa(&owner, code).then(|| rdata::soa_serial(&data)).flatten();
        let unfit = |error: DoesNotFit| self.whole.not_the_zone(error.to_string());
        match (&self.telling, serial) {
            (Telling::Now, Some(serial)) => {
                self.last = data;
                if serial == self.serial {
                    self.telling = Telling::Nothing;
                    return Ok(true);
                }
                self.telling = Telling::Form(Box::new(record.clone()));
            }
            (Telling::Form(_), Some(serial)) if serial == self.serial && data != self.last => {
                self.increment.delete(owner, code, data).map_err(unfit)?;
                self.telling = Telling::Deleted;
            }
            (Telling::Form(first), _) => {
                let first = first.clone();
                self.telling = Telling::Whole;
                return Ok(self.whole.take(&[*first])? || self.whole.take(std::slice::from_ref(record))?);
            }
            (Telling::Deleted, Some(serial)) => {
                self.increment.add(owner, code, record.ttl, data).map_err(unfit)?;
                self.telling = Telling::Added(serial);
            }
            (Telling::Deleted, None) if self.whole.is_of_zone(&owner, record) => {
                self.increment.delete(owner, code, data).map_err(unfit)?;
            }
            (Telling::Added(now), Some(_)) if data == self.last && serial == Some(*now) => return Ok(true),
            (Telling::Added(now), Some(serial)) if serial == *now => {
                self.increment.delete(owner, code, data).map_err(unfit)?;
                self.telling = Telling::Deleted;
            }
            (Telling::Added(_), None) if self.whole.is_of_zone(&owner, record) => {
                self.increment.add(owner, code, record.ttl, data).map_err(unfit)?;
            }
            (Telling::Deleted | Telling::Added(_), None) => {}
            _ => return Err(self.whole.not_the_zone("differences that do not follow one another")),
        }
        Ok(false)
    }

    fn into_zone(self) -> Result<ZoneData, TransferError> {
        Ok(match self.telling {
            Telling::Whole => self.whole.builder.finish(Some(self.whole.apex)),
            _ => self.increment.into_zone()?,
        })
    }
}

/// The data of a record as the core compares it: without compression, names in lower case.
fn data_of(record: &Record, code: TypeCode) -> Option<Vec<u8>> {
    let mut octets = Vec::new();
    let mut encoder = BinEncoder::new(&mut octets);
    encoder.set_canonical_form(true);
    record.data.emit(&mut encoder).ok()?;
    let mut data = Vec::with_capacity(octets.len());
    rdata::canonical(code, &octets, &mut data);
    Some(data)
}

/// The names in a record: its own, and where it leads.
fn names_of(record: &Record) -> impl Iterator<Item = &Name> {
    let (first, second) = match &record.data {
        RData::CNAME(CNAME(name)) | RData::NS(NS(name)) | RData::PTR(PTR(name)) => (Some(name), None),
        RData::MX(mx) => (Some(&mx.exchange), None),
        RData::SRV(srv) => (Some(&srv.target), None),
        RData::SOA(soa) => (Some(&soa.mname), Some(&soa.rname)),
        _ => (None, None),
    };
    [Some(&record.name), first, second].into_iter().flatten()
}

/// Keeps how a name is spelled that is not all in lower case.
fn spell(builder: &mut ZoneBuilder, name: &Name) {
    if name.iter().flatten().any(u8::is_ascii_uppercase) {
        builder.spell(&name.to_ascii());
    }
}

/// The signatures of a transfer: each covers all messages since the one before (RFC 8945 §5.3.1).
struct Chain<'k> {
    key: &'k TSigner,
    last: Vec<u8>,
    mac_length: usize,
    is_first: bool,
    unsigned: Vec<u8>,
    unsigned_count: usize,
    now: i64,
}

impl<'k> Chain<'k> {
    fn new(key: &'k TSigner, request: Vec<u8>, now: i64) -> Chain<'k> {
        let mac_length = request.len();
        Chain { key, last: request, mac_length, is_first: true, unsigned: Vec::new(), unsigned_count: 0, now }
    }

    fn accepts(&mut self, raw: &[u8], message: &Message, is_last: bool) -> bool {
        let Some(signature) = &message.signature else {
            self.unsigned.extend_from_slice(raw);
            self.unsigned_count += 1;
            return !self.is_first && !is_last && self.unsigned_count <= MOST_UNSIGNED;
        };
        let tsig = &signature.data;
        let is_of_key = signature.name == *self.key.signer_name() && tsig.algorithm == *self.key.algorithm();
        let time = i64::try_from(tsig.time).unwrap_or(i64::MAX);
        let is_timely = time.abs_diff(self.now) <= u64::from(tsig.fudge) + 24 * 3_600;
        let is_fresh = !self.is_first || time.abs_diff(self.now) <= u64::from(tsig.fudge);
        // The request was signed with the same algorithm, and in full.
        let is_full = tsig.mac.len() >= self.mac_length;
        let Ok((signed, _)) = signed_bitmessage_to_buf(raw, None, self.is_first) else { return false };
        let mut covered = u16::try_from(self.last.len()).unwrap_or(0).to_be_bytes().to_vec();
        covered.extend_from_slice(&self.last);
        covered.append(&mut self.unsigned);
        covered.extend_from_slice(&signed);
        if !(is_of_key && is_timely && is_fresh && is_full) || self.key.verify(&covered, &tsig.mac).is_err() {
            return false;
        }
        self.last = tsig.mac.to_vec();
        (self.is_first, self.unsigned_count) = (false, 0);
        true
    }
}

/// Takes some messages as those of a transfer, whole and of what has changed since `before`.
#[cfg(feature = "hostile")]
pub(crate) fn take_any(zone: &DnsName, before: &ZoneData, messages: &[Message]) {
    let server = SocketAddr::from(([192, 0, 2, 53], 53));
    let within = |data: ZoneData| data.entries().all(|entry| entry.owner().is_within(data.apex()));
    let mut taking = Taking::new(server, zone);
    if messages.iter().any(|message| matches!(taking.take(&message.answers), Ok(true) | Err(_))) {
        assert!(within(taking.builder.finish(Some(taking.apex))));
    }
    let mut catching = Catching::new(server, zone, before);
    if messages.iter().any(|message| matches!(catching.take(&message.answers), Ok(true) | Err(_))) {
        assert!(catching.into_zone().is_ok_and(within));
    }
}

/// The types that are asked for where a zone is looked at name by name.
const LOOKED_FOR: [WireType; 14] = [
    WireType::SOA,
    WireType::NS,
    WireType::A,
    WireType::AAAA,
    WireType::CNAME,
    WireType::DNAME,
    WireType::MX,
    WireType::TXT,
    WireType::SRV,
    WireType::CAA,
    WireType::DS,
    WireType::HTTPS,
    WireType::SVCB,
    WireType::TLSA,
];
/// How many questions are under way at once.
const QUESTIONS_AT_ONCE: usize = 16;

/// Reads what a server has at some names, where it transfers the zone to nobody: a view of a part, of the types that
/// zones mostly hold.
///
/// # Errors
/// [`Unreachable`], the first that is met.
pub async fn look_up(server: SocketAddr, zone: &DnsName, names: &[DnsName]) -> Result<ZoneData, Unreachable> {
    let ask = |name, code| async move { ask(server, &name, code, Ask::default()).await };
    look_up_by(zone, names, ask, |why| why).await
}

/// The same, by whoever asks the server.
pub(crate) async fn look_up_by<F: Future<Output = Result<Message, E>>, E>(
    zone: &DnsName,
    names: &[DnsName],
    ask: impl Fn(DnsName, WireType) -> F,
    unreachable: impl Fn(Unreachable) -> E,
) -> Result<ZoneData, E> {
    let questions: Vec<(DnsName, WireType)> =
        names.iter().flat_map(|name| LOOKED_FOR.map(|code| (name.clone(), code))).collect();
    let ask = &ask;
    let answers: Vec<((DnsName, WireType), Message)> = stream::iter(questions)
        .map(|question| async move { Ok((question.clone(), ask(question.0, question.1).await?)) })
        .buffered(QUESTIONS_AT_ONCE)
        .try_collect()
        .await?;
    let mut builder = ZoneBuilder::default();
    for ((name, code), answer) in &answers {
        match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {}
            code => return Err(unreachable(Unreachable::Code { code: mnemonic(code) })),
        }
        let own = answer.answers.iter().filter(|record| record.record_type() == *code);
        for record in own.filter(|record| core_name(&record.name).as_ref() == Some(name)) {
            let code = TypeCode(u16::from(*code));
            let data = data_of(record, code).ok_or_else(|| unreachable(malformed()))?;
            let added = builder.add(&NameKey::from(name), code, record.ttl, &data, Place::default());
            added.map_err(|_| unreachable(malformed()))?;
        }
    }
    Ok(builder.finish(Some(NameKey::from(zone))))
}
