//! An authoritative server, perhaps one that takes updates.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use hickory_proto::op::{Edns, Message, MessageType, OpCode, ResponseCode};
use hickory_proto::rr::rdata::{CAA, CNAME};
use hickory_proto::rr::{Name, RData, RecordType, TSigner};

use super::wire::{self, Answers};
use super::zone::{Found, Zone, name};
use super::{tsig, update};
use crate::SandboxError;
use crate::listen::Stop;

/// The most aliases that are followed within a zone.
const MOST_ALIASES: usize = 8;

/// An authoritative server.
pub struct DnsServer {
    zones: Mutex<Vec<Zone>>,
    pub(crate) updates: Option<Updates>,
    /// The key that its questions may be signed with, and that zones are transferred to.
    key: Option<TSigner>,
    /// While it is frozen: the zones that came, as they were last.
    withheld: Mutex<Option<Vec<Zone>>>,
    silent: AtomicBool,
}

/// How a server takes updates.
pub(crate) struct Updates {
    /// The server that follows.
    pub(crate) follower: Arc<DnsServer>,
    /// How long it takes to.
    pub(crate) lag: Duration,
}

impl DnsServer {
    pub(crate) fn new(zones: Vec<Zone>, key: Option<TSigner>, updates: Option<Updates>) -> Arc<DnsServer> {
        Arc::new(DnsServer {
            zones: Mutex::new(zones),
            updates,
            key,
            withheld: Mutex::default(),
            silent: AtomicBool::new(false),
        })
    }

    /// Makes the server stop following changes; or follow all again, those that it missed too.
    pub fn freeze(&self, frozen: bool) {
        if frozen {
            self.withheld().get_or_insert_default();
        } else {
            let missed = self.withheld().take();
            missed.into_iter().flatten().for_each(|zone| self.transfer(zone));
        }
    }

    /// Makes the server stop answering, or answer again.
    pub fn silence(&self, silent: bool) {
        self.silent.store(silent, Ordering::SeqCst);
    }

    /// Adds a record by hand, as somebody else would, here and nowhere else.
    pub fn add_alias(&self, owner: &str, target: &str) {
        let (owner, target) = (name(owner), name(target));
        self.change(&owner, |zone| zone.add(owner.clone(), 300, RData::CNAME(CNAME(target))));
    }

    /// Adds a record by hand; says whether a zone of this server is where it belongs.
    pub(crate) fn add(&self, owner: &str, data: &RData) -> bool {
        let owner = name(owner);
        let is_here = {
            let zones = self.zones();
            best(&zones, &owner).is_some_and(|zone| zone.is_own(&owner))
        };
        if is_here {
            self.change(&owner, |zone| zone.add(owner.clone(), 300, data.clone()));
        }
        is_here
    }

    /// Adds a CAA record by hand, here and nowhere else.
    pub fn add_caa(&self, owner: &str, tag: &str, value: &str) {
        let owner = name(owner);
        let mut data = CAA::new_issue(false, None, Vec::new());
        data.tag = tag.to_owned();
        data.value = value.as_bytes().to_vec();
        self.change(&owner, |zone| zone.add(owner.clone(), 60, RData::CAA(data)));
    }

    /// Adds an address record by hand, here and nowhere else.
    pub fn add_address(&self, owner: &str, address: std::net::IpAddr) {
        let host = owner.to_owned();
        self.change(&name(owner), |zone| zone.add_address(&host, 300, address));
    }

    /// Deletes all records of a name and type by hand, here and nowhere else.
    pub fn delete(&self, owner: &str, record_type: &str) {
        let owner = name(owner);
        if let Ok(record_type) = record_type.parse::<RecordType>() {
            self.change(&owner, |zone| {
                if let Some(sets) = zone.sets.get_mut(&owner) {
                    sets.remove(&record_type);
                }
                zone.sets.retain(|_, sets| !sets.is_empty());
            });
        }
    }

    /// Says whether a name has records of its own.
    pub fn has_name(&self, owner: &str) -> bool {
        let owner = name(owner);
        let zones = self.zones();
        best(&zones, &owner).is_some_and(|zone| zone.sets.contains_key(&owner))
    }

    /// Returns the text of every TXT record at a name.
    pub fn texts(&self, owner: &str) -> Vec<String> {
        let owner = name(owner);
        let zones = self.zones();
        let Some(zone) = best(&zones, &owner) else { return Vec::new() };
        zone.records(&owner, RecordType::TXT).iter().map(|record| record.data.to_string()).collect()
    }

    fn change(&self, owner: &Name, change: impl FnOnce(&mut Zone)) {
        let mut zones = self.zones();
        if let Some(zone) = best_mut(&mut zones, owner) {
            change(zone);
            zone.raise_serial();
        }
    }

    pub(crate) fn zones(&self) -> MutexGuard<'_, Vec<Zone>> {
        self.zones.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn withheld(&self) -> MutexGuard<'_, Option<Vec<Zone>>> {
        self.withheld.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes over a zone as its primary has it.
    fn transfer(&self, changed: Zone) {
        if let Some(withheld) = self.withheld().as_mut() {
            match withheld.iter_mut().find(|zone| zone.name == changed.name) {
                Some(zone) => zone.follow(changed),
                None => withheld.push(changed),
            }
        } else if let Some(zone) = self.zones().iter_mut().find(|zone| zone.name == changed.name) {
            zone.follow(changed);
        }
    }

    fn query(&self, question: &Message) -> Message {
        let mut answer = Message::response(question.metadata.id, OpCode::Query);
        answer.metadata.recursion_desired = question.metadata.recursion_desired;
        if question.edns.is_some() {
            let mut edns = Edns::new();
            edns.set_max_payload(1232).set_version(0);
            answer.set_edns(edns);
        }
        let [query] = question.queries.as_slice() else {
            answer.metadata.response_code = ResponseCode::FormErr;
            return answer;
        };
        answer.add_query(query.clone());
        let mut owner = query.name().to_lowercase();
        let zones = self.zones();
        let Some(zone) = best(&zones, &owner) else {
            answer.metadata.response_code = ResponseCode::Refused;
            return answer;
        };
        answer.metadata.authoritative = true;
        for _ in 0..MOST_ALIASES {
            match zone.find(&owner, query.query_type()) {
                Found::Records(records) => {
                    let next = records.iter().find_map(|record| match &record.data {
                        RData::CNAME(target) if query.query_type() != RecordType::CNAME => {
                            Some(target.0.to_lowercase())
                        }
                        _ => None,
                    });
                    answer.add_answers(records);
                    match next.filter(|next| zone.name.zone_of(next)) {
                        Some(next) => owner = next,
                        None => break,
                    }
                    continue;
                }
                Found::Referral(servers, glue) => {
                    answer.metadata.authoritative = !answer.answers.is_empty();
                    answer.add_authorities(servers);
                    answer.add_additionals(glue);
                }
                Found::NoData => answer.add_authorities(zone.soa()).metadata.response_code = ResponseCode::NoError,
                Found::NoName => answer.add_authorities(zone.soa()).metadata.response_code = ResponseCode::NXDomain,
            }
            break;
        }
        answer
    }

    /// Answers a question for all of a zone (RFC 5936), in one message: the zones of the sandbox are small.
    fn whole_zone(&self, question: &Message) -> Option<Message> {
        let [query] = question.queries.as_slice() else { return None };
        if query.query_type() != RecordType::AXFR {
            return None;
        }
        let mut answer = Message::response(question.metadata.id, OpCode::Query);
        answer.add_query(query.clone());
        let apex = query.name().to_lowercase();
        let zones = self.zones();
        let Some((zone, soa)) = zones.iter().find(|zone| zone.name == apex).and_then(|zone| Some((zone, zone.soa()?)))
        else {
            answer.metadata.response_code = ResponseCode::NotAuth;
            return Some(answer);
        };
        answer.metadata.authoritative = true;
        answer.add_answer(soa.clone());
        for (owner, sets) in &zone.sets {
            for record_type in sets.keys().filter(|record_type| **record_type != RecordType::SOA) {
                answer.add_answers(zone.records(owner, *record_type));
            }
        }
        answer.add_answer(soa);
        Some(answer)
    }

    /// Carries an update out, and lets the follower know.
    pub(crate) fn apply(&self, message: &Message) -> ResponseCode {
        let mut zones = self.zones();
        let code = match message.queries.as_slice() {
            [zone] if zone.query_type() == RecordType::SOA => {
                let apex = zone.name().to_lowercase();
                match zones.iter_mut().find(|zone| zone.name == apex) {
                    Some(zone) => update::apply(zone, message).map(|()| zone.clone()),
                    None => Err(ResponseCode::NotAuth),
                }
            }
            _ => Err(ResponseCode::FormErr),
        };
        drop(zones);
        match code {
            Err(code) => code,
            Ok(changed) => {
                if let Some(updates) = &self.updates {
                    let (follower, lag) = (updates.follower.clone(), updates.lag);
                    tokio::spawn(async move {
                        tokio::time::sleep(lag).await;
                        follower.transfer(changed);
                    });
                }
                ResponseCode::NoError
            }
        }
    }
}

impl Answers for DnsServer {
    async fn answer(&self, raw: Vec<u8>) -> Option<Vec<u8>> {
        if self.silent.load(Ordering::SeqCst) {
            return None;
        }
        let question = Message::from_vec(&raw).ok()?;
        if question.metadata.message_type != MessageType::Query {
            return None;
        }
        match question.metadata.op_code {
            OpCode::Query if let (Some(key), Some(_)) = (&self.key, question.signature()) => {
                tsig::answer(Some(key), &question, &raw, || match self.whole_zone(&question) {
                    Some(zone) => zone,
                    None => self.query(&question),
                })
            }
            OpCode::Query => self.query(&question).to_vec().ok(),
            OpCode::Update if self.updates.is_some() => tsig::answer(self.key.as_ref(), &question, &raw, || {
                let mut answer = Message::response(question.metadata.id, OpCode::Update);
                answer.metadata.response_code = self.apply(&question);
                answer
            }),
            op_code => Message::error_msg(question.metadata.id, op_code, ResponseCode::NotImp).to_vec().ok(),
        }
    }
}

/// The zone with the longest apex that a name lies in.
fn best<'z>(zones: &'z [Zone], owner: &Name) -> Option<&'z Zone> {
    zones.iter().filter(|zone| zone.name.zone_of(owner)).max_by_key(|zone| zone.name.num_labels())
}

fn best_mut<'z>(zones: &'z mut [Zone], owner: &Name) -> Option<&'z mut Zone> {
    zones.iter_mut().filter(|zone| zone.name.zone_of(owner)).max_by_key(|zone| zone.name.num_labels())
}

pub(crate) async fn serve(server: Arc<DnsServer>, address: SocketAddr, stop: &Stop) -> Result<(), SandboxError> {
    wire::serve("a DNS server", server, address, stop).await
}
