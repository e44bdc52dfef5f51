//! Where a challenge record belongs, and whether it stands there: `_acme-challenge` may be
//! an alias that leads into another zone, over several hops (RFC 8555 §8.4, RFC 1034 §3.6.2).

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;

use futures::{StreamExt as _, TryStreamExt as _, stream};
use hickory_proto::rr::{RData, RecordType as WireType};
use pindrel_core::acme::order::ChallengeRecord;
use pindrel_core::name::DnsName;
use pindrel_core::records::{RecordData, RecordSet, RecordType};
use pindrel_core::values::Ttl;

use crate::lookup;
use crate::wire::{Ask, LookupError, ask, core_name};

/// The most aliases that are followed from one name.
const MOST_HOPS: usize = 8;
/// How many questions about challenge records one server is asked at once.
const QUESTIONS_AT_ONCE: usize = 16;

/// What a server gives at the names of challenge records.
#[derive(Debug, Clone)]
pub struct Standing(HashMap<DnsName, Vec<RecordSet>>);

impl Standing {
    /// Says whether the record is there.
    pub fn has(&self, record: &ChallengeRecord) -> bool {
        let wanted = RecordData::Txt(record.text.clone());
        self.0.get(&record.name).is_some_and(|sets| sets.iter().flat_map(RecordSet::data).any(|data| *data == wanted))
    }

    /// The TTL of the texts at a name, where there are any.
    pub(crate) fn ttl(&self, name: &DnsName) -> Option<Ttl> {
        self.0.get(name)?.first().map(RecordSet::ttl)
    }
}

/// Looks for challenge records at an authoritative server: each name is asked for once,
/// several side by side.
///
/// # Errors
/// [`LookupError`], the first that is met.
pub async fn standing(
    server: SocketAddr,
    records: impl IntoIterator<Item = &ChallengeRecord>,
) -> Result<Standing, LookupError> {
    let names: BTreeSet<DnsName> = records.into_iter().map(|record| record.name.clone()).collect();
    let looks = stream::iter(names)
        .map(|name| async move { lookup::records(server, &name, RecordType::Txt).await.map(|sets| (name, sets)) })
        .buffer_unordered(QUESTIONS_AT_ONCE);
    Ok(Standing(looks.try_collect().await?))
}

/// Returns those of the records that an authoritative server does not give yet. A server
/// takes a change of a zone over as a whole, so one that lacks the first record is not
/// asked for the others.
///
/// # Errors
/// [`LookupError`].
pub async fn lacking<'r>(
    server: SocketAddr,
    records: &[&'r ChallengeRecord],
) -> Result<Vec<&'r ChallengeRecord>, LookupError> {
    let first = &records[..records.len().min(1)];
    let mut standing = standing(server, first.iter().copied()).await?;
    if first.iter().all(|record| standing.has(record)) {
        standing = self::standing(server, records.iter().copied()).await?;
    }
    Ok(records.iter().copied().filter(|record| !standing.has(record)).collect())
}

/// Why no place for a challenge record was found.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// The aliases lead in a circle.
    #[error("the aliases from {start} lead in a circle: {}", path(.names))]
    Circle {
        /// Where they start.
        start: DnsName,
        /// The names on the way.
        names: Vec<DnsName>,
    },
    /// More aliases than any authority follows.
    #[error("more than {MOST_HOPS} aliases lead on from {start}")]
    TooLong {
        /// Where they start.
        start: DnsName,
    },
    /// The last name lies in no zone that can be changed.
    #[error("{start} is an alias that ends at {end}, which lies in no zone of the manifest")]
    DeadEnd {
        /// Where they start.
        start: DnsName,
        /// Where they end.
        end: DnsName,
    },
    /// A server on the way does not answer.
    #[error("whether {name} is an alias cannot be seen: {why}")]
    Unseen {
        /// The name.
        name: DnsName,
        /// Why.
        why: LookupError,
    },
}

impl PlaceError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            PlaceError::Circle { .. } | PlaceError::TooLong { .. } => "correct these CNAME records".into(),
            PlaceError::DeadEnd { end, .. } => {
                format!("add the zone of {end} to the manifest, or correct the CNAME record")
            }
            PlaceError::Unseen { .. } => "see that the zone's servers answer, then run settle again".into(),
        }
    }
}

fn path(names: &[DnsName]) -> String {
    names.iter().map(DnsName::as_str).collect::<Vec<_>>().join(" → ")
}

/// Returns where the record for `start` belongs. `servers_of` gives the servers of the
/// manifest's zone that a name lies in, if any.
///
/// # Errors
/// [`PlaceError`].
pub async fn place(
    start: &DnsName,
    servers_of: impl Fn(&DnsName) -> Option<Vec<SocketAddr>>,
    resolvers: &[SocketAddr],
) -> Result<DnsName, PlaceError> {
    let mut names = vec![start.clone()];
    let mut at = start.clone();
    loop {
        let unseen = |why| PlaceError::Unseen { name: at.clone(), why };
        let next = match servers_of(&at) {
            Some(servers) => match alias(&at, &servers).await.map_err(unseen)? {
                Some(next) => next,
                None => return Ok(at),
            },
            None => match alias_through(&at, resolvers).await.map_err(unseen)? {
                Some(next) => next,
                None => return Err(PlaceError::DeadEnd { start: start.clone(), end: at }),
            },
        };
        let seen = names.contains(&next);
        names.push(next.clone());
        if seen {
            return Err(PlaceError::Circle { start: start.clone(), names });
        }
        if names.len() > MOST_HOPS {
            return Err(PlaceError::TooLong { start: start.clone() });
        }
        at = next;
    }
}

/// The target of an alias, as the first server that answers says.
async fn alias(owner: &DnsName, servers: &[SocketAddr]) -> Result<Option<DnsName>, LookupError> {
    let mut failed = LookupError::Unreachable("no server is known".into());
    for server in servers {
        match alias_at(*server, owner).await {
            Ok(target) => return Ok(target),
            Err(error) => failed = error,
        }
    }
    Err(failed)
}

async fn alias_at(server: SocketAddr, owner: &DnsName) -> Result<Option<DnsName>, LookupError> {
    let target = cname(server, owner).await?;
    let Some(target) = target else { return Ok(None) };
    // What a wildcard gives vanishes as soon as the record is made at the name itself.
    let wildcard = owner.parent().and_then(|parent| parent.below("*").ok());
    match wildcard {
        Some(wildcard) if cname(server, &wildcard).await?.as_ref() == Some(&target) => Ok(None),
        _ => Ok(Some(target)),
    }
}

async fn cname(server: SocketAddr, owner: &DnsName) -> Result<Option<DnsName>, LookupError> {
    let sets = lookup::records(server, owner, RecordType::Cname).await?;
    let mut data = sets.iter().flat_map(|set| set.data());
    Ok(data.find_map(|data| match data {
        RecordData::Cname(target) => Some(target.clone()),
        _ => None,
    }))
}

async fn alias_through(owner: &DnsName, resolvers: &[SocketAddr]) -> Result<Option<DnsName>, LookupError> {
    let mut failed = LookupError::Unreachable("no resolver is known".into());
    for resolver in resolvers {
        match ask(*resolver, owner, WireType::CNAME, Ask { recursion: true, ..Ask::default() }).await {
            Ok(answer) => {
                let own = answer.answers.iter().filter(|record| core_name(&record.name).as_ref() == Some(owner));
                let mut targets = own.filter_map(|record| match &record.data {
                    RData::CNAME(target) => core_name(&target.0),
                    _ => None,
                });
                return Ok(targets.next());
            }
            Err(error) => failed = error,
        }
    }
    Err(failed)
}
