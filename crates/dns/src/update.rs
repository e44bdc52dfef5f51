//! Changing a zone by dynamic update (RFC 2136), signed with TSIG (RFC 8945).
//!
//! Tried on a real server: adding a CNAME beside an address record answers NOERROR and
//! changes nothing, and adding a TXT value with another TTL changes the TTL of its
//! neighbours. So every change names exactly what it expects, and the server is read
//! again after every update and every time-out.

use std::collections::{BTreeSet, HashSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use hickory_proto::op::{Message, OpCode, Query, ResponseCode, UpdateMessage as _};
use hickory_proto::rr::rdata::tsig::{TsigAlgorithm as WireAlgorithm, TsigError};
use hickory_proto::rr::rdata::{A, AAAA, CNAME, HTTPS, NULL, SVCB, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType as WireType, TSigner};
use hickory_proto::serialize::binary::{BinDecodable as _, BinDecoder};
use jiff::Timestamp;
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::zones::records::{
    NameChange, RecordData, RecordSet, RecordType, ZoneChange, ZoneRecord, in_words, same_data,
};
use pindrel_core::zones::rights::RightsView;
use pindrel_core::zones::zone_data::{NameKey, TypeCode, ZoneData};

use crate::came_back::malformed;
use crate::driver::{TriedRights, ZoneDriver};
use crate::handed_off::HandedOff;
use crate::lines::{Repeat, over_tcp};
use crate::lookup::{self, Hidden};
use crate::present::{Present, present};
use crate::sets::{SetChange, is_data};
use crate::transfer::{TransferError, look_up_by, transfer, transfer_since};
use crate::update_error::{FUDGE_SECS, UpdateError};
use crate::wire::{mnemonic, wire_name, wire_type};
use crate::zone_error::ZoneError;

/// The longest string of a TXT record (RFC 1035 §3.3.14).
const MAX_STRING: usize = 255;
/// How many records one message changes: even with the longest names they stay
/// within the 64 KiB of a message over TCP (RFC 1035 §4.2.2).
const MOST_IN_MESSAGE: usize = 150;
/// How many octets of records go into one message, and how many a record takes beside its data at most.
const MOST_OCTETS_IN_MESSAGE: usize = 60_000;
const ROOM_OF_NAME: usize = 270;

/// The driver for servers that take dynamic updates.
pub struct Rfc2136 {
    zone: DnsName,
    server: SocketAddr,
    key: DnsName,
    signer: TSigner,
    /// How long a transfer may take.
    within: Duration,
}

impl Rfc2136 {
    /// Makes a driver that updates `zone` at `server`, signing with the key of that
    /// name and secret; a transfer of the zone takes no longer than `within`.
    ///
    /// # Errors
    /// [`UpdateError::BadKey`].
    pub fn new(
        zone: DnsName,
        server: SocketAddr,
        key: DnsName,
        algorithm: TsigAlgorithm,
        secret: Vec<u8>,
        within: Duration,
    ) -> Result<Rfc2136, UpdateError> {
        let algorithm = match algorithm {
            TsigAlgorithm::HmacSha256 => WireAlgorithm::HmacSha256,
            TsigAlgorithm::HmacSha384 => WireAlgorithm::HmacSha384,
            TsigAlgorithm::HmacSha512 => WireAlgorithm::HmacSha512,
        };
        let signer = TSigner::new(secret, algorithm, wire_name(&key), FUDGE_SECS)
            .map_err(|_| UpdateError::BadKey(key.clone()))?;
        Ok(Rfc2136 { zone, server, key, signer, within })
    }

    pub(crate) fn zone_name(&self) -> &DnsName {
        &self.zone
    }

    /// Deletes a record that is not there, in a zone that need not be the driver's own.
    pub(crate) async fn delete_nothing(&self, zone: &DnsName, owner: &DnsName, data: RData) -> Result<(), UpdateError> {
        self.send(owner, message(zone, Vec::new(), vec![deleted(owner, data)])).await
    }

    fn message(&self, prerequisites: Vec<Record>, updates: Vec<Record>) -> Message {
        message(&self.zone, prerequisites, updates)
    }

    /// Sends an update and reads the response code; says nothing about the effect.
    async fn send(&self, owner: &DnsName, message: Message) -> Result<(), UpdateError> {
        let answer = self.exchange(message, Repeat::Never).await?;
        self.read_code(owner, answer.metadata.response_code)
    }

    /// Sends a message signed, and returns the response if that is signed as well; a refusal need not be, for it brings
    /// nothing that could be believed.
    async fn exchange(&self, mut message: Message, repeat: Repeat) -> Result<Message, UpdateError> {
        let unreachable = |why| UpdateError::Unreachable { server: self.server, zone: self.zone.clone(), why };
        let now = Timestamp::now().as_second();
        let signed = self.signer.sign_message(&message, u64::try_from(now).unwrap_or(0));
        let (signature, verifier) = signed.map_err(|_| UpdateError::BadKey(self.key.clone()))?;
        message.set_signature(signature);
        let bytes = message.to_vec().map_err(|_| unreachable(malformed()))?;
        let raw = over_tcp(self.server, &bytes, repeat).await.map_err(unreachable)?;
        let answer = Message::from_vec(&raw).map_err(|_| unreachable(malformed()))?;
        if answer.metadata.id != message.metadata.id {
            return Err(unreachable(malformed()));
        }
        self.read_signature_error(&answer)?;
        let unsigned = || UpdateError::Unsigned { server: self.server, key: self.key.clone() };
        let code = answer.metadata.response_code;
        let tsig = answer.signature.as_ref();
        match (tsig, verifier) {
            // The library subtracts the fudge from the time, so a forged time of nought
            // must not reach it.
            (Some(tsig), Some(mut verifier)) if tsig.data.time >= u64::from(tsig.data.fudge) => {
                verifier.verify(&raw).map_err(|_| unsigned())?;
                if tsig.data.error == Some(TsigError::BadTime) {
                    // Signed it is, and the server's time stands in the other data, 48 bits (RFC 8945 §5.2.3).
                    let time = tsig.data.other.iter().take(6).fold(0i64, |time, byte| (time << 8) | i64::from(*byte));
                    return Err(UpdateError::WrongTime { server: self.server, skew_secs: time - now });
                }
            }
            (None, _) if code != ResponseCode::NoError => {}
            _ => return Err(unsigned()),
        }
        Ok(answer)
    }

    /// Reads what the server has at some names, in signed responses alone: whoever could forge others would decide over
    /// what is changed.
    async fn look_up(&self, names: &[DnsName]) -> Result<ZoneData, UpdateError> {
        let ask = |name: DnsName, wire_type| async move {
            let mut question = Message::query();
            question.metadata.recursion_desired = false;
            question.add_query(Query::query(wire_name(&name), wire_type));
            let answer = self.exchange(question.clone(), Repeat::Allowed).await?;
            let is_answer = answer.queries.is_empty() || answer.queries == question.queries;
            if is_answer { Ok(answer) } else { Err(self.unreachable(malformed())) }
        };
        look_up_by(&self.zone, names, ask, |why| self.unreachable(why)).await
    }

    /// What a server says of the signature with an answer that it cannot sign itself (RFC 8945 §5.3.2).
    fn read_signature_error(&self, answer: &Message) -> Result<(), UpdateError> {
        let Some(tsig) = &answer.signature else { return Ok(()) };
        let (server, key) = (self.server, self.key.clone());
        match &tsig.data.error {
            Some(TsigError::BadKey) => Err(UpdateError::UnknownKey { server, key }),
            Some(TsigError::BadSig) => Err(UpdateError::WrongSecret { server, key }),
            Some(TsigError::BadTrunc) => {
                let meaning = "Let the server accept whole MACs of this algorithm";
                let code = "BADTRUNC".into();
                Err(UpdateError::Refused { server, zone: self.zone.clone(), code, meaning })
            }
            _ => Ok(()),
        }
    }

    fn read_code(&self, owner: &DnsName, code: ResponseCode) -> Result<(), UpdateError> {
        let server = self.server;
        let meaning = match code {
            ResponseCode::NoError => return Ok(()),
            ResponseCode::YXDomain | ResponseCode::YXRRSet | ResponseCode::NXRRSet | ResponseCode::NXDomain => {
                return Err(UpdateError::Changed { server, owner: owner.clone(), code: mnemonic(code) });
            }
            ResponseCode::Refused => "Grant the TSIG key the right to update this name on the server",
            ResponseCode::NotAuth => "Name a server that is authoritative for the zone first in servers",
            ResponseCode::NotZone => "Name the zone that this name is really in",
            ResponseCode::NotImp => "Enable dynamic update on the server, or name another one first in servers",
            ResponseCode::ServFail => {
                "Check the server's log for why it failed; where a name has a hundred records of a type, see whether the server limits how many it may have"
            }
            ResponseCode::FormErr => "Check the server's log for what it could not read",
            _ => "Check the server's log for why it refused",
        };
        Err(UpdateError::Refused { server, zone: self.zone.clone(), code: mnemonic(code), meaning })
    }

    /// Sends an update and looks whether it had its effect. After a time-out the
    /// server may or may not have carried it out, so what it gives decides.
    async fn send_and_read(&self, owner: &DnsName, message: Message, effect: Effect<'_>) -> Result<(), UpdateError> {
        let sent = self.send(owner, message).await;
        if let Err(error) = &sent
            && !matches!(error, UpdateError::Unreachable { .. })
        {
            return sent;
        }
        match (self.lacking(effect).await?, sent) {
            (None, _) => Ok(()),
            (Some(_), Err(error)) => Err(error),
            (Some(has), Ok(())) => Err(UpdateError::WithoutEffect { server: self.server, owner: owner.clone(), has }),
        }
    }

    /// Returns what the server has instead of the effect, or `None` when it has it.
    async fn lacking(&self, effect: Effect<'_>) -> Result<Option<String>, UpdateError> {
        Ok(match effect {
            Effect::Present(records) => {
                let found = self.present(records).await?;
                let all = records.iter().all(|record| found.has(record));
                (!all).then(|| "not all of the records".into())
            }
            Effect::Gone(records) => {
                let found = self.present(records).await?;
                records.iter().any(|record| found.has(record)).then(|| "a record still".into())
            }
            Effect::Name(change) => {
                let view = lookup::alias(&[self.server], &change.owner, change.place).await;
                let gives = view.servers.into_iter().next().map_or(Ok(Vec::new()), |server| server.gives);
                let gives = gives.map_err(|why| self.unreachable(why))?;
                (!same_data(&gives, &change.wanted)).then(|| in_words(&gives))
            }
        })
    }

    fn unreachable(&self, why: Unreachable) -> UpdateError {
        UpdateError::Unreachable { server: self.server, zone: self.zone.clone(), why }
    }

    async fn present(&self, records: &[ZoneRecord]) -> Result<Present, UpdateError> {
        present(self.server, records).await.map_err(|why| self.unreachable(why))
    }
}

/// An update of a zone.
fn message(zone: &DnsName, prerequisites: Vec<Record>, updates: Vec<Record>) -> Message {
    let mut message = Message::query();
    message.metadata.op_code = OpCode::Update;
    message.metadata.recursion_desired = false;
    message.add_zone(Query::query(wire_name(zone), WireType::SOA));
    message.add_pre_requisites(prerequisites);
    message.add_updates(updates);
    message
}

/// What an update is to bring about.
enum Effect<'e> {
    Present(&'e [ZoneRecord]),
    Gone(&'e [ZoneRecord]),
    Name(&'e NameChange),
}

impl Rfc2136 {
    /// Makes one change; see [`ZoneDriver::change`].
    ///
    /// # Errors
    /// [`UpdateError`].
    pub async fn apply(&self, change: &ZoneChange) -> Result<(), UpdateError> {
        // Below a zone cut or a DNAME it would be accepted, and seen by nobody.
        let owners: BTreeSet<&DnsName> = match change {
            ZoneChange::Add(records) => records.iter().map(|record| &record.owner).collect(),
            ZoneChange::Delete(_) => BTreeSet::new(),
            ZoneChange::Replace(change) => BTreeSet::from([&change.owner]),
        };
        for owner in owners {
            let hidden =
                lookup::hidden_by(self.server, &self.zone, owner).await.map_err(|why| self.unreachable(why))?;
            let (zone, owner) = (self.zone.clone(), owner.clone());
            match hidden {
                Some(Hidden::Delegated(cut)) => return Err(UpdateError::Delegated { zone, owner, cut }),
                Some(Hidden::Redirected(dname)) => return Err(UpdateError::Redirected { zone, owner, dname }),
                None => {}
            }
        }
        match change {
            ZoneChange::Add(records) => self.add(records).await,
            ZoneChange::Delete(records) => self.delete(records).await,
            ZoneChange::Replace(change) => self.replace(change).await,
        }
    }

    async fn add(&self, records: &[ZoneRecord]) -> Result<(), UpdateError> {
        let found = self.present(records).await?;
        let mut from_wildcard: HashSet<&DnsName> = HashSet::new();
        for record in records.iter().filter(|record| found.ttl(record).is_some()) {
            let (owner, record_type) = (&record.owner, record.data.record_type());
            let is =
                lookup::is_synthesised(self.server, owner, record_type).await.map_err(|why| self.unreachable(why))?;
            if is {
                from_wildcard.insert(owner);
            }
        }
        let missing: Vec<ZoneRecord> = records.iter().filter(|record| !found.has(record)).cloned().collect();
        for part in missing.chunks(MOST_IN_MESSAGE) {
            let add = |record: &ZoneRecord| {
                // Another TTL would change that of the neighbours in the set; a wildcard's are none.
                let neighbours = found.ttl(record).filter(|_| !from_wildcard.contains(&record.owner));
                let ttl = neighbours.unwrap_or(record.ttl);
                Some(Record::from_rdata(wire_name(&record.owner), ttl.as_secs(), wire_data(&record.data)?))
            };
            let message = self.message(Vec::new(), part.iter().filter_map(add).collect());
            self.send_and_read(&part[0].owner, message, Effect::Present(part)).await?;
        }
        Ok(())
    }

    async fn delete(&self, records: &[ZoneRecord]) -> Result<(), UpdateError> {
        let present = self.present(records).await?;
        let found: Vec<ZoneRecord> = records.iter().filter(|record| present.has(record)).cloned().collect();
        for part in found.chunks(MOST_IN_MESSAGE) {
            let delete = |record: &ZoneRecord| Some(deleted(&record.owner, wire_data(&record.data)?));
            let message = self.message(Vec::new(), part.iter().filter_map(delete).collect());
            self.send_and_read(&part[0].owner, message, Effect::Gone(part)).await?;
        }
        Ok(())
    }

    /// The data of a set as it is on the server, octet by octet: what is shown of it may stand for several.
    async fn exact(&self, owner: &DnsName, set: &RecordSet) -> Result<Vec<RData>, UpdateError> {
        if let Some(data) = set.data().iter().map(wire_data).collect::<Option<Vec<RData>>>()
            && set.record_type() != RecordType::Txt
        {
            return Ok(data);
        }
        let code = TypeCode::from(set.record_type());
        let now = self.look_up(std::slice::from_ref(owner)).await?;
        let found: Vec<&[u8]> =
            now.at(&NameKey::from(owner)).filter(|entry| entry.code == code).map(|entry| entry.data).collect();
        let is_expected = |wire: &&[u8]| set.data().iter().any(|data| is_data(data, code, wire));
        if found.is_empty() || !found.iter().all(is_expected) {
            let code = "it has other data now".into();
            return Err(UpdateError::Changed { server: self.server, owner: owner.clone(), code });
        }
        let raw = |wire: &[u8]| RData::Unknown { code: WireType::from(code.0), rdata: NULL::with(wire.to_vec()) };
        Ok(found.into_iter().map(raw).collect())
    }

    async fn replace(&self, change: &NameChange) -> Result<(), UpdateError> {
        let owner = &change.owner;
        let mut prerequisites = Vec::new();
        let mut updates = Vec::new();
        for set in &change.expected {
            for data in self.exact(owner, set).await? {
                prerequisites.push(Record::from_rdata(wire_name(owner), 0, data.clone()));
                updates.push(deleted(owner, data));
            }
        }
        if change.expected.is_empty() && !change.place.is_apex() {
            prerequisites.push(absent(owner, WireType::ANY));
        }
        for set in &change.wanted {
            let expected = change.expected.iter().any(|expected| expected.record_type() == set.record_type());
            if !expected && change.place.is_apex() {
                prerequisites.push(absent(owner, wire_type(set.record_type())));
            }
            let data = set.data().iter().filter_map(wire_data);
            updates.extend(data.map(|data| Record::from_rdata(wire_name(owner), set.ttl().as_secs(), data)));
        }
        self.send_and_read(owner, self.message(prerequisites, updates), Effect::Name(change)).await
    }
}

#[async_trait]
impl ZoneDriver for Rfc2136 {
    fn zone(&self) -> &DnsName {
        &self.zone
    }

    async fn change(&self, change: &ZoneChange) -> Result<(), ZoneError> {
        Ok(self.apply(change).await?)
    }

    async fn rights(&self, tried: &TriedRights<'_>) -> Result<RightsView, ZoneError> {
        Ok(self.try_rights(tried.needed, tried.others, tried.servers).await?)
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        let transferred = transfer(self.server, &self.zone, Some(&self.signer), self.within).await;
        transferred.map_err(TransferError::into_zone_error)
    }

    fn unsigned(&self) -> Option<Arc<dyn ZoneDriver>> {
        Some(Arc::new(HandedOff::new(self.zone.clone(), self.server, self.within)))
    }

    async fn read_again(&self, before: &ZoneData) -> Result<ZoneData, ZoneError> {
        match transfer_since(self.server, before, &self.zone, Some(&self.signer), self.within).await {
            Ok(zone) => Ok(zone),
            // Not every server tells differences, and not to everybody.
            Err(error) => {
                tracing::debug!(zone = %self.zone, %error, "read as a whole");
                self.read().await
            }
        }
    }

    async fn read_names(&self, names: &[DnsName]) -> Result<ZoneData, ZoneError> {
        Ok(self.look_up(names).await?)
    }

    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        for part in parts(changes) {
            let (prerequisites, updates) = part.iter().map(set_records).fold(
                (Vec::new(), Vec::new()),
                |(mut all_prerequisites, mut all_updates), (prerequisites, updates)| {
                    all_prerequisites.extend(prerequisites);
                    all_updates.extend(updates);
                    (all_prerequisites, all_updates)
                },
            );
            let first = part[0].owner.to_dns_name().unwrap_or_else(|| self.zone.clone());
            // What a time-out left undone is found by the comparison that follows.
            self.send(&first, self.message(prerequisites, updates)).await?;
        }
        Ok(())
    }
}

/// Sets that fit into a message each.
fn parts(changes: &[SetChange]) -> Vec<&[SetChange]> {
    let size = |change: &SetChange| -> usize {
        let of = |data: &Vec<Vec<u8>>| data.iter().map(|data| data.len() + ROOM_OF_NAME).sum::<usize>();
        ROOM_OF_NAME + of(&change.expected) * 2 + of(&change.wanted)
    };
    let (mut parts, mut begin, mut taken) = (Vec::new(), 0, 0);
    for (at, change) in changes.iter().enumerate() {
        let size = size(change);
        if at > begin && taken + size > MOST_OCTETS_IN_MESSAGE {
            parts.push(&changes[begin..at]);
            (begin, taken) = (at, 0);
        }
        taken += size;
    }
    if begin < changes.len() {
        parts.push(&changes[begin..]);
    }
    parts
}

/// The prerequisites and the updates for one set.
fn set_records(change: &SetChange) -> (Vec<Record>, Vec<Record>) {
    let mut wire = Vec::new();
    change.owner.push_wire(&mut wire);
    let owner = Name::read(&mut BinDecoder::new(&wire)).unwrap_or_else(|_| Name::root());
    let code = WireType::from(change.code.0);
    let raw = |data: &[u8]| RData::Unknown { code, rdata: NULL::with(data.to_vec()) };
    let mut prerequisites: Vec<Record> =
        change.expected.iter().map(|data| Record::from_rdata(owner.clone(), 0, raw(data))).collect();
    if change.expected.is_empty() {
        let mut absent = Record::update0(owner.clone(), 0, code).into_record_of_rdata();
        absent.dns_class = DNSClass::NONE;
        prerequisites.push(absent);
    }
    // The old set goes first, as a whole: beside it a new record would be given its TTL, or be passed over where it
    // is a CNAME (RFC 2136 §3.4.2.2). At the apex NS records do not go as a set (§3.4.2.3).
    let mut updates: Vec<Record> = Vec::with_capacity(change.expected.len() + change.wanted.len());
    if change.code == TypeCode::NS {
        updates.extend(change.expected.iter().map(|data| {
            let mut gone = Record::from_rdata(owner.clone(), 0, raw(data));
            gone.dns_class = DNSClass::NONE;
            gone
        }));
    } else if !change.expected.is_empty() {
        let mut gone = Record::update0(owner.clone(), 0, code).into_record_of_rdata();
        gone.dns_class = DNSClass::ANY;
        updates.push(gone);
    }
    updates.extend(change.wanted.iter().map(|data| Record::from_rdata(owner.clone(), change.ttl, raw(data))));
    (prerequisites, updates)
}

fn text(text: &str) -> RData {
    let parts: Vec<&[u8]> = text.as_bytes().chunks(MAX_STRING).collect();
    RData::TXT(TXT::from_bytes(parts))
}

/// The data on the wire, for the types that Pindrel writes.
fn wire_data(data: &RecordData) -> Option<RData> {
    match data {
        RecordData::A(address) => Some(RData::A(A(*address))),
        RecordData::Aaaa(address) => Some(RData::AAAA(AAAA(*address))),
        RecordData::Cname(target) => Some(RData::CNAME(CNAME(wire_name(target)))),
        RecordData::Txt(content) => Some(text(content)),
        RecordData::HttpsAlias(target) => Some(RData::HTTPS(HTTPS(SVCB::new(0, wire_name(target), Vec::new())))),
        // Only a server that resolves it itself has that type.
        RecordData::Alias(_) | RecordData::Other(..) => None,
    }
}

/// Deletes one record by exact value (RFC 2136 §2.5.4).
fn deleted(owner: &DnsName, data: RData) -> Record {
    let mut record = Record::from_rdata(wire_name(owner), 0, data);
    record.dns_class = DNSClass::NONE;
    record
}

/// Nothing of this type stands there, or with ANY nothing at all (RFC 2136 §2.4.3, §2.4.5).
fn absent(owner: &DnsName, record_type: WireType) -> Record {
    let name: Name = wire_name(owner);
    let mut record = Record::update0(name, 0, record_type).into_record_of_rdata();
    record.dns_class = DNSClass::NONE;
    record
}
