//! Looking CAA records up as an authority does: from the name upwards to the root
//! (RFC 8659 §3).

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{RData, RecordType as WireType};
use pindrel_core::certificates::caa::{CaaRecord, CaaSet};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use tokio::sync::OnceCell;

use crate::resolver::Resolver;
use crate::wire::{Ask, ask, core_name, first_of, mnemonic};

/// Where questions about a name go.
#[derive(Debug, Clone, Copy)]
pub struct Servers<'s> {
    /// The apex of the zone that the name lies in.
    pub apex: &'s DnsName,
    /// The zone's authoritative servers. They are asked for names within the zone: a
    /// resolver would keep in mind that a name does not exist yet.
    pub zone: &'s [SocketAddr],
    /// Servers of the zone above; resolvers are asked for all else.
    pub parents: &'s [SocketAddr],
}

/// What was found from a name upwards.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CaaLookup {
    /// The set that counts, if there is any.
    pub set: Option<CaaSet>,
    /// The nearest name outside the zone at which nobody says whether there are records; an authority
    /// refuses where it does not learn it either (RFC 8659 §3).
    pub unseen: Option<(DnsName, Unreachable)>,
}

/// What stands at one name; outside the zone it may remain unknown.
type Seen = Result<Vec<CaaRecord>, Unreachable>;

/// What was found at each name: names that lie beside each other have the same ones above
/// them, and each is asked for once.
#[derive(Debug, Default)]
pub struct CaaCache(Mutex<HashMap<DnsName, Arc<OnceCell<Seen>>>>);

impl CaaCache {
    /// Looks for the set that counts for a name.
    ///
    /// # Errors
    /// [`Unreachable`] when the zone's own servers do not say: an authority would refuse.
    pub async fn look_up(
        &self,
        name: &DnsName,
        servers: Servers<'_>,
        resolvers: &[Resolver],
    ) -> Result<CaaLookup, Unreachable> {
        let (mut at, mut unseen) = (Some(name.clone()), None);
        while let Some(owner) = at {
            let found = self.at(&owner);
            let records = found
                .get_or_try_init(async || {
                    if owner.is_within(servers.apex) {
                        within(&owner, servers, resolvers).await
                    } else {
                        Ok(above(&owner, servers, resolvers).await)
                    }
                })
                .await?;
            match records {
                Ok(records) if records.is_empty() => {}
                Ok(records) => {
                    let set = Some(CaaSet { owner, records: records.clone() });
                    return Ok(CaaLookup { set, unseen });
                }
                Err(why) => {
                    unseen.get_or_insert_with(|| (owner.clone(), why.clone()));
                }
            }
            at = owner.parent();
        }
        Ok(CaaLookup { set: None, unseen })
    }

    fn at(&self, owner: &DnsName) -> Arc<OnceCell<Seen>> {
        let mut found = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Arc::clone(found.entry(owner.clone()).or_default())
    }
}

async fn within(owner: &DnsName, servers: Servers<'_>, resolvers: &[Resolver]) -> Result<Seen, Unreachable> {
    let answer = first_of(answers(servers.zone, owner)).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => {}
        code => return Err(Unreachable::Code { code: mnemonic(code) }),
    }
    let found = records(&answer);
    // An alias leads out of the zone: the records of its target count (RFC 8659 §3).
    let target = answer.answers.iter().rev().find_map(|record| match &record.data {
        RData::CNAME(target) => core_name(&target.0),
        _ => None,
    });
    match target {
        Some(target) if found.is_empty() && !target.is_within(servers.apex) => {
            Ok(through_resolvers(&target, resolvers).await)
        }
        _ => Ok(Ok(found)),
    }
}

async fn above(owner: &DnsName, servers: Servers<'_>, resolvers: &[Resolver]) -> Seen {
    let from_parent = first_of(answers(servers.parents, owner)).await;
    match from_parent {
        Ok(answer) if answer.metadata.authoritative => Ok(records(&answer)),
        _ => through_resolvers(owner, resolvers).await,
    }
}

async fn through_resolvers(owner: &DnsName, resolvers: &[Resolver]) -> Seen {
    let asked = resolvers.iter().map(|resolver| resolver.ask(owner, WireType::CAA, Ask::default()));
    let answer = first_of(asked).await?;
    match answer.metadata.response_code {
        ResponseCode::NoError | ResponseCode::NXDomain => Ok(records(&answer)),
        code => Err(Unreachable::Code { code: mnemonic(code) }),
    }
}

fn answers(
    servers: &[SocketAddr],
    owner: &DnsName,
) -> impl Iterator<Item = impl Future<Output = Result<Message, Unreachable>>> {
    servers.iter().map(move |server| ask(*server, owner, WireType::CAA, Ask::default()))
}

fn records(answer: &Message) -> Vec<CaaRecord> {
    let found = answer.answers.iter().filter_map(|record| match &record.data {
        RData::CAA(caa) => Some(CaaRecord {
            critical: caa.issuer_critical,
            tag: caa.tag.to_ascii_lowercase(),
            value: String::from_utf8_lossy(&caa.value).into_owned(),
        }),
        _ => None,
    });
    found.collect()
}
