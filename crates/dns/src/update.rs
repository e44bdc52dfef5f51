//! Changing a zone by dynamic update (RFC 2136), signed with TSIG (RFC 8945).
//!
//! Tried on a real server: adding a CNAME beside an address record answers NOERROR and
//! changes nothing, and adding a TXT value with another TTL changes the TTL of its
//! neighbours. So every change names exactly what it expects, and the server is read
//! again after every update and every time-out.

use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;

use hickory_proto::op::{Message, OpCode, Query, ResponseCode, UpdateMessage as _};
use hickory_proto::rr::rdata::tsig::{TsigAlgorithm as WireAlgorithm, TsigError};
use hickory_proto::rr::rdata::{A, AAAA, CNAME, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType as WireType, TSigner};
use jiff::Timestamp;
use pindrel_core::acme::order::ChallengeRecord;
use pindrel_core::name::DnsName;
use pindrel_core::records::{AliasChange, RecordData, in_words, same_data};
use pindrel_core::values::TsigAlgorithm;
use pindrel_core::values::Ttl;

use crate::challenge::{self, Standing};
use crate::lookup;
use crate::wire::{LookupError, over_tcp, wire_name, wire_type};

/// How far the clocks of both sides may differ, in seconds (RFC 8945 §10).
const FUDGE_SECS: u16 = 300;
/// The longest string of a TXT record (RFC 1035 §3.3.14).
const MAX_STRING: usize = 255;
/// How many challenge records one message changes: even with the longest names they stay
/// within the 64 KiB of a message over TCP (RFC 1035 §4.2.2).
const MOST_IN_MESSAGE: usize = 150;

/// A pending answer of a driver.
pub type Answer<'d> = Pin<Box<dyn Future<Output = Result<(), UpdateError>> + Send + 'd>>;

/// Changes one zone. Every change is verified by reading the server that took it;
/// doing it twice is the same as doing it once.
pub trait ZoneDriver: Send + Sync {
    /// Adds challenge records by exact value.
    fn add_challenges<'d>(&'d self, records: &'d [ChallengeRecord]) -> Answer<'d>;
    /// Deletes challenge records by exact value.
    fn delete_challenges<'d>(&'d self, records: &'d [ChallengeRecord]) -> Answer<'d>;
    /// Changes an alias, if exactly what is expected stands there.
    fn change_alias<'d>(&'d self, change: &'d AliasChange) -> Answer<'d>;
}

/// Why a zone was not changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum UpdateError {
    /// The server could not be reached or read.
    #[error("{server} does not take updates of {zone}: {why}")]
    Unreachable {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// Why.
        why: LookupError,
    },
    /// The server refused the update.
    #[error("{server} refuses to update {zone}: {code}")]
    Refused {
        /// The server.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
        /// The response code.
        code: String,
        /// What the code means here.
        meaning: &'static str,
    },
    /// The server does not know the key.
    #[error("{server} does not know the TSIG key {key} (BADKEY)")]
    UnknownKey {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The secret is another one.
    #[error("{server} has another secret for the TSIG key {key} (BADSIG)")]
    WrongSecret {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The clocks differ too much.
    #[error(
        "the clock of {server} differs from this machine's by {skew_secs} s, and TSIG allows {FUDGE_SECS} s (BADTIME)"
    )]
    WrongTime {
        /// The server.
        server: SocketAddr,
        /// By how much the server is ahead.
        skew_secs: i64,
    },
    /// Something changed between looking and updating.
    #[error("the records of {owner} on {server} changed while Pindrel was at work ({code})")]
    Changed {
        /// The server.
        server: SocketAddr,
        /// The name.
        owner: DnsName,
        /// The response code.
        code: String,
    },
    /// The answer is not signed as it should be.
    #[error("the answer of {server} is not signed with the TSIG key {key}")]
    Unsigned {
        /// The server.
        server: SocketAddr,
        /// The key's name.
        key: DnsName,
    },
    /// The server said that all is well, and nothing changed.
    #[error("{server} accepted an update of {owner} but does not give it: it has {has}")]
    WithoutEffect {
        /// The server.
        server: SocketAddr,
        /// The name.
        owner: DnsName,
        /// What it has instead.
        has: String,
    },
    /// The key cannot be used.
    #[error("the secret of the TSIG key {0} cannot be used")]
    BadKey(DnsName),
}

impl UpdateError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            UpdateError::Unreachable { server, .. } => {
                format!("start {server} or open the way to it, then run settle again")
            }
            UpdateError::Refused { meaning, .. } => (*meaning).into(),
            UpdateError::UnknownKey { key, .. } => {
                format!("configure the key {key} on the server, or correct tsig.name in the manifest")
            }
            UpdateError::WrongSecret { key, .. } => format!("give the same secret for {key} here and on the server"),
            UpdateError::WrongTime { .. } => "set both clocks by the same time source".into(),
            UpdateError::Changed { .. } => "run settle again: it looks anew before it changes anything".into(),
            UpdateError::Unsigned { .. } => {
                "see whether something between here and the server changes DNS messages".into()
            }
            UpdateError::WithoutEffect { .. } => "see in the server's log why it left the update out".into(),
            UpdateError::BadKey(key) => {
                format!("put the base64 secret of {key}, and nothing else, where the manifest says")
            }
        }
    }
}

/// The driver for servers that take dynamic updates.
pub struct Rfc2136 {
    zone: DnsName,
    server: SocketAddr,
    key: DnsName,
    signer: TSigner,
}

impl Rfc2136 {
    /// Makes a driver that updates `zone` at `server`, signing with the key of that
    /// name and secret.
    ///
    /// # Errors
    /// [`UpdateError::BadKey`].
    pub fn new(
        zone: DnsName,
        server: SocketAddr,
        key: DnsName,
        algorithm: TsigAlgorithm,
        secret: Vec<u8>,
    ) -> Result<Rfc2136, UpdateError> {
        let algorithm = match algorithm {
            TsigAlgorithm::HmacSha256 => WireAlgorithm::HmacSha256,
            TsigAlgorithm::HmacSha384 => WireAlgorithm::HmacSha384,
            TsigAlgorithm::HmacSha512 => WireAlgorithm::HmacSha512,
        };
        let signer = TSigner::new(secret, algorithm, wire_name(&key), FUDGE_SECS)
            .map_err(|_| UpdateError::BadKey(key.clone()))?;
        Ok(Rfc2136 { zone, server, key, signer })
    }

    fn message(&self, prerequisites: Vec<Record>, updates: Vec<Record>) -> Message {
        let mut message = Message::query();
        message.metadata.op_code = OpCode::Update;
        message.metadata.recursion_desired = false;
        message.add_zone(Query::query(wire_name(&self.zone), WireType::SOA));
        message.add_pre_requisites(prerequisites);
        message.add_updates(updates);
        message
    }

    /// Sends an update and reads the response code; says nothing about the effect.
    async fn send(&self, owner: &DnsName, mut message: Message) -> Result<(), UpdateError> {
        let unreachable = |why| UpdateError::Unreachable { server: self.server, zone: self.zone.clone(), why };
        let now = Timestamp::now().as_second();
        let signed = self.signer.sign_message(&message, u64::try_from(now).unwrap_or(0));
        let (signature, verifier) = signed.map_err(|_| UpdateError::BadKey(self.key.clone()))?;
        message.set_signature(signature);
        let bytes = message.to_vec().map_err(|_| unreachable(LookupError::Malformed))?;
        let raw = over_tcp(self.server, &bytes).await.map_err(unreachable)?;
        let answer = Message::from_vec(&raw).map_err(|_| unreachable(LookupError::Malformed))?;
        if answer.metadata.id != message.metadata.id {
            return Err(unreachable(LookupError::Malformed));
        }
        self.read_signature_error(&answer, now)?;
        let unsigned = || UpdateError::Unsigned { server: self.server, key: self.key.clone() };
        let code = answer.metadata.response_code;
        let tsig = answer.signature.as_ref();
        match (tsig, verifier) {
            // The library subtracts the fudge from the time, so a forged time of nought
            // must not reach it.
            (Some(tsig), Some(mut verifier)) if tsig.data.time >= u64::from(tsig.data.fudge) => {
                verifier.verify(&raw).map_err(|_| unsigned())?;
            }
            // A refusal need not be signed: it changes nothing here.
            (None, _) if code != ResponseCode::NoError => {}
            _ => return Err(unsigned()),
        }
        self.read_code(owner, code)
    }

    fn read_signature_error(&self, answer: &Message, now: i64) -> Result<(), UpdateError> {
        let Some(tsig) = &answer.signature else { return Ok(()) };
        let (server, key) = (self.server, self.key.clone());
        match &tsig.data.error {
            Some(TsigError::BadKey) => Err(UpdateError::UnknownKey { server, key }),
            Some(TsigError::BadSig) => Err(UpdateError::WrongSecret { server, key }),
            Some(TsigError::BadTime) => {
                // The server's time stands in the other data, 48 bits (RFC 8945 §5.2.3).
                let time = tsig.data.other.iter().fold(0i64, |time, byte| (time << 8) | i64::from(*byte));
                Err(UpdateError::WrongTime { server, skew_secs: time - now })
            }
            _ => Ok(()),
        }
    }

    fn read_code(&self, owner: &DnsName, code: ResponseCode) -> Result<(), UpdateError> {
        let server = self.server;
        let meaning = match code {
            ResponseCode::NoError => return Ok(()),
            ResponseCode::YXDomain | ResponseCode::YXRRSet | ResponseCode::NXRRSet | ResponseCode::NXDomain => {
                return Err(UpdateError::Changed { server, owner: owner.clone(), code: code.to_str().to_owned() });
            }
            ResponseCode::Refused => "grant the TSIG key the right to update this name on the server",
            ResponseCode::NotAuth => "name a server that is authoritative for the zone first in servers",
            ResponseCode::NotZone => "name the zone that this name really lies in",
            ResponseCode::NotImp => "switch dynamic update on at the server, or name another one first in servers",
            ResponseCode::ServFail => "see in the server's log why it failed, then run settle again",
            ResponseCode::FormErr => "see in the server's log what it could not read",
            _ => "see in the server's log why it refused",
        };
        Err(UpdateError::Refused { server, zone: self.zone.clone(), code: code.to_str().to_owned(), meaning })
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
            Effect::Standing(records) => {
                let standing = self.standing(records).await?;
                let all = records.iter().all(|record| standing.has(record));
                (!all).then(|| "not all of the TXT values".into())
            }
            Effect::Gone(records) => {
                let standing = self.standing(records).await?;
                records.iter().any(|record| standing.has(record)).then(|| "a TXT value still".into())
            }
            Effect::Alias(change) => {
                let view = lookup::alias(&[self.server], &change.owner, change.at_apex).await;
                let gives = view.servers.into_iter().next().map_or(Ok(Vec::new()), |server| server.gives);
                let gives = gives.map_err(|why| UpdateError::Unreachable {
                    server: self.server,
                    zone: self.zone.clone(),
                    why: LookupError::Unreachable(why),
                })?;
                (!same_data(&gives, &change.wanted)).then(|| in_words(&gives))
            }
        })
    }

    async fn standing(&self, records: &[ChallengeRecord]) -> Result<Standing, UpdateError> {
        let standing = challenge::standing(self.server, records).await;
        standing.map_err(|why| UpdateError::Unreachable { server: self.server, zone: self.zone.clone(), why })
    }
}

/// What an update is to bring about.
enum Effect<'e> {
    Standing(&'e [ChallengeRecord]),
    Gone(&'e [ChallengeRecord]),
    Alias(&'e AliasChange),
}

impl ZoneDriver for Rfc2136 {
    fn add_challenges<'d>(&'d self, records: &'d [ChallengeRecord]) -> Answer<'d> {
        Box::pin(async move {
            let standing = self.standing(records).await?;
            let missing: Vec<ChallengeRecord> =
                records.iter().filter(|record| !standing.has(record)).cloned().collect();
            for part in missing.chunks(MOST_IN_MESSAGE) {
                let add = |record: &ChallengeRecord| {
                    let ttl = standing.ttl(&record.name).unwrap_or(Ttl::MINUTE);
                    Record::from_rdata(wire_name(&record.name), ttl.as_secs(), text(&record.text))
                };
                let message = self.message(Vec::new(), part.iter().map(add).collect());
                self.send_and_read(&part[0].name, message, Effect::Standing(part)).await?;
            }
            Ok(())
        })
    }

    fn delete_challenges<'d>(&'d self, records: &'d [ChallengeRecord]) -> Answer<'d> {
        Box::pin(async move {
            let standing = self.standing(records).await?;
            let found: Vec<ChallengeRecord> = records.iter().filter(|record| standing.has(record)).cloned().collect();
            for part in found.chunks(MOST_IN_MESSAGE) {
                let delete = |record: &ChallengeRecord| deleted(&record.name, text(&record.text));
                let message = self.message(Vec::new(), part.iter().map(delete).collect());
                self.send_and_read(&part[0].name, message, Effect::Gone(part)).await?;
            }
            Ok(())
        })
    }

    fn change_alias<'d>(&'d self, change: &'d AliasChange) -> Answer<'d> {
        Box::pin(async move {
            let owner = &change.owner;
            let mut prerequisites = Vec::new();
            let mut updates = Vec::new();
            for set in &change.expected {
                for data in set.data().iter().filter_map(wire_data) {
                    prerequisites.push(Record::from_rdata(wire_name(owner), 0, data.clone()));
                    updates.push(deleted(owner, data));
                }
            }
            if change.expected.is_empty() && !change.at_apex {
                prerequisites.push(absent(owner, WireType::ANY));
            }
            for set in &change.wanted {
                let expected = change.expected.iter().any(|expected| expected.record_type() == set.record_type());
                if !expected && change.at_apex {
                    prerequisites.push(absent(owner, wire_type(set.record_type())));
                }
                let data = set.data().iter().filter_map(wire_data);
                updates.extend(data.map(|data| Record::from_rdata(wire_name(owner), set.ttl().as_secs(), data)));
            }
            self.send_and_read(owner, self.message(prerequisites, updates), Effect::Alias(change)).await
        })
    }
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
        RecordData::Other(..) => None,
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
