//! Where a challenge record belongs: `_acme-challenge` may be an alias into another zone, over
//! several hops (RFC 8555 §8.4, RFC 1034 §3.6.2).

use std::net::SocketAddr;

use hickory_proto::rr::{RData, RecordType as WireType};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{RecordData, RecordSet, RecordType};

use crate::lookup;
use crate::resolver::Resolver;
use crate::wire::{Ask, core_name};

/// The most aliases that are followed from one name.
const MOST_HOPS: usize = 8;
/// Why no place for a challenge record was found.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// The aliases form a loop.
    #[error("the CNAME records from {start} form a loop: {}", path(.names))]
    Loop {
        /// Where they start.
        start: DnsName,
        /// The names on the way.
        names: Vec<DnsName>,
    },
    /// More aliases than any authority follows.
    #[error("more than {MOST_HOPS} CNAME records follow one another from {start}")]
    TooLong {
        /// Where they start.
        start: DnsName,
    },
    /// The last name lies in no zone that can be changed.
    #[error("{start} is an alias of {end}, which is not in any zone of the manifest")]
    DeadEnd {
        /// Where they start.
        start: DnsName,
        /// Where they end.
        end: DnsName,
    },
    /// A server on the way does not answer.
    #[error("the CNAME record of {name} cannot be looked up: {why}")]
    Unseen {
        /// The name.
        name: DnsName,
        /// Why.
        why: Unreachable,
    },
}

impl PlaceError {
    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            PlaceError::Loop { .. } | PlaceError::TooLong { .. } => "Correct these CNAME records".into(),
            PlaceError::DeadEnd { end, .. } => {
                format!("Add the zone of {end} to the manifest, or correct the CNAME record")
            }
            PlaceError::Unseen { .. } => "Make sure that the zone's servers answer".into(),
        }
    }
}

fn path(names: &[DnsName]) -> String {
    names.iter().map(DnsName::as_str).collect::<Vec<_>>().join(" → ")
}

/// Gives the servers of the manifest's zone that a name lies in, if any.
pub type ServersOf<'f> = dyn for<'n> Fn(&'n DnsName) -> Option<Vec<SocketAddr>> + Send + Sync + 'f;

/// Returns where the record for `start` belongs. `servers_of` gives the servers of the
/// manifest's zone that a name lies in, if any.
///
/// # Errors
/// [`PlaceError`].
pub async fn place(start: &DnsName, servers_of: &ServersOf<'_>, resolvers: &[Resolver]) -> Result<DnsName, PlaceError> {
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
            return Err(PlaceError::Loop { start: start.clone(), names });
        }
        // The first name is no hop.
        if names.len() > MOST_HOPS + 1 {
            return Err(PlaceError::TooLong { start: start.clone() });
        }
        at = next;
    }
}

/// The target of an alias, as the first server that answers says.
async fn alias(owner: &DnsName, servers: &[SocketAddr]) -> Result<Option<DnsName>, Unreachable> {
    let mut failed = Unreachable::NoneKnown;
    for server in servers {
        match alias_at(*server, owner).await {
            Ok(target) => return Ok(target),
            Err(error) => failed = error,
        }
    }
    Err(failed)
}

async fn alias_at(server: SocketAddr, owner: &DnsName) -> Result<Option<DnsName>, Unreachable> {
    let found = lookup::records_of_name(server, owner, RecordType::Cname).await?;
    let target = found.sets.iter().flatten().flat_map(RecordSet::data).find_map(|data| match data {
        RecordData::Cname(target) => Some(target.clone()),
        _ => None,
    });
    // Below a DNAME nothing can be made: validation follows it.
    if target.is_none() || found.dname.is_some() {
        return Ok(target);
    }
    // What a wildcard gives vanishes as soon as the record is made at the name itself.
    let is_synthesised = lookup::is_synthesised(server, owner, RecordType::Cname).await?;
    Ok(target.filter(|_| !is_synthesised))
}

async fn alias_through(owner: &DnsName, resolvers: &[Resolver]) -> Result<Option<DnsName>, Unreachable> {
    let mut failed = Unreachable::NoneKnown;
    for resolver in resolvers {
        match resolver.ask(owner, WireType::CNAME, Ask::default()).await {
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
