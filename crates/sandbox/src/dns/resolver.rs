//! A caching resolver that follows delegations, with negative caching (RFC 2308).

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hickory_proto::op::{Edns, Message, OpCode, Query, ResponseCode};
use hickory_proto::rr::{Name, RData, Record, RecordType};

use super::wire::{self, Answers, ask};
use crate::SandboxError;
use crate::listen::Stop;

/// The most names in the cache; when it is full it is emptied.
const MOST_CACHED: usize = 10_000;
/// The most referrals that are followed for one question, and the most aliases.
const MOST_REFERRALS: usize = 8;
const MOST_ALIASES: usize = 8;
/// The longest that an answer is kept.
const LONGEST: Duration = Duration::from_secs(3600);

/// The resolver. It asks the parent first and knows no other root.
pub(crate) struct Resolver {
    parent: SocketAddr,
    port: u16,
    cache: Mutex<HashMap<(Name, RecordType), Cached>>,
}

#[derive(Clone)]
struct Cached {
    code: ResponseCode,
    answers: Vec<Record>,
    authorities: Vec<Record>,
    until: Instant,
}

impl Resolver {
    /// `port` is where the servers of delegations are asked, which carry none.
    pub(crate) fn new(parent: SocketAddr, port: u16) -> Arc<Resolver> {
        Arc::new(Resolver { parent, port, cache: Mutex::default() })
    }

    async fn resolve(&self, owner: &Name, record_type: RecordType) -> Option<Cached> {
        let mut owner = owner.clone();
        let mut chain = Vec::new();
        for _ in 0..MOST_ALIASES {
            let mut found = self.look_up(&owner, record_type).await?;
            let next = found.answers.iter().find_map(|record| match &record.data {
                RData::CNAME(target) if record_type != RecordType::CNAME && record.name.to_lowercase() == owner => {
                    Some(target.0.to_lowercase())
                }
                _ => None,
            });
            let complete = found.answers.iter().any(|record| record.record_type() == record_type);
            chain.append(&mut found.answers);
            match next {
                Some(next) if !complete => owner = next,
                _ => return Some(Cached { answers: chain, ..found }),
            }
        }
        None
    }

    /// Looks one name up, from the cache or by following referrals from the parent.
    async fn look_up(&self, owner: &Name, record_type: RecordType) -> Option<Cached> {
        let key = (owner.clone(), record_type);
        let cached = self.cache.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
        if let Some(mut cached) = cached.filter(|cached| cached.until > Instant::now()) {
            let left = u32::try_from((cached.until - Instant::now()).as_secs()).unwrap_or(0);
            for record in cached.answers.iter_mut().chain(&mut cached.authorities) {
                record.ttl = record.ttl.min(left);
            }
            return Some(cached);
        }
        let mut servers = vec![self.parent];
        for _ in 0..MOST_REFERRALS {
            let answer = self.ask_any(&servers, owner, record_type).await?;
            let referral: Vec<SocketAddr> = answer
                .additionals
                .iter()
                .filter_map(|record| match &record.data {
                    RData::A(address) => Some(SocketAddr::new(IpAddr::V4(address.0), self.port)),
                    _ => None,
                })
                .collect();
            if !answer.metadata.authoritative && answer.answers.is_empty() && !referral.is_empty() {
                servers = referral;
                continue;
            }
            return Some(self.keep(key, &answer));
        }
        None
    }

    async fn ask_any(&self, servers: &[SocketAddr], owner: &Name, record_type: RecordType) -> Option<Message> {
        for server in servers {
            let mut question = Message::query();
            question.metadata.op_code = OpCode::Query;
            question.metadata.recursion_desired = false;
            let mut edns = Edns::new();
            edns.set_max_payload(4096).set_version(0);
            question.set_edns(edns);
            question.add_query(Query::query(owner.clone(), record_type));
            if let Some(answer) = ask(*server, &question).await
                && matches!(answer.metadata.response_code, ResponseCode::NoError | ResponseCode::NXDomain)
            {
                return Some(answer);
            }
        }
        None
    }

    fn keep(&self, key: (Name, RecordType), answer: &Message) -> Cached {
        let negative = answer.authorities.iter().find_map(|record| match &record.data {
            RData::SOA(soa) => Some(record.ttl.min(soa.minimum)),
            _ => None,
        });
        let shortest = answer.answers.iter().map(|record| record.ttl).min();
        let seconds = shortest.or(negative).unwrap_or(0);
        let kept = Cached {
            code: answer.metadata.response_code,
            answers: answer.answers.clone(),
            authorities: answer
                .authorities
                .iter()
                .filter(|record| record.record_type() == RecordType::SOA)
                .cloned()
                .collect(),
            until: Instant::now() + Duration::from_secs(u64::from(seconds)).min(LONGEST),
        };
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if cache.len() >= MOST_CACHED {
            cache.clear();
        }
        cache.insert(key, kept.clone());
        kept
    }
}

impl Answers for Resolver {
    async fn answer(&self, raw: Vec<u8>) -> Option<Vec<u8>> {
        let question = Message::from_vec(&raw).ok()?;
        let mut answer = Message::response(question.metadata.id, question.metadata.op_code);
        answer.metadata.recursion_desired = question.metadata.recursion_desired;
        answer.metadata.recursion_available = true;
        if question.edns.is_some() {
            answer.set_edns(Edns::new());
        }
        let query = question.queries.first().filter(|_| question.metadata.op_code == OpCode::Query);
        let Some(query) = query else {
            answer.metadata.response_code = ResponseCode::NotImp;
            return answer.to_vec().ok();
        };
        answer.add_query(query.clone());
        match self.resolve(&query.name().to_lowercase(), query.query_type()).await {
            None => answer.metadata.response_code = ResponseCode::ServFail,
            Some(found) => {
                answer.metadata.response_code = found.code;
                answer.add_answers(found.answers);
                answer.add_authorities(found.authorities);
            }
        }
        answer.to_vec().ok()
    }
}

pub(crate) async fn serve(resolver: Arc<Resolver>, address: SocketAddr, stop: &Stop) -> Result<(), SandboxError> {
    wire::serve("the resolver", resolver, address, stop).await
}
