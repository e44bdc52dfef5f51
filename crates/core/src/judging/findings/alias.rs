//! What can be wrong with the alias of a hostname.

use std::net::SocketAddr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::binding::wait_for_caches;
use super::subject::Naming;
use super::words::{Words, all_of};
use super::{Again, Code, Judged};
use crate::judging::facts::{AliasView, Dependent, SampleAnswer, SampleOutcome, ServerRecords, Unreachable};
use crate::judging::pin::Pin;
use crate::names::name::DnsName;
use crate::zones::records::{RecordSet, RecordType, in_words};

/// The most record sets that are named as leading to records of others.
const MOST_DEPENDENTS: usize = 5;

/// What is wrong with the alias of a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AliasCause {
    /// There is none yet.
    Missing {
        /// The wildcard that answers for it.
        wildcard: Option<DnsName>,
    },
    /// It leads elsewhere.
    Differs(Found),
    /// It does not have the TTL that the manifest says.
    OtherTtl,
    /// Records of others stand in its place, which the manifest says may go.
    Replaces(Found),
    /// Records of others stand in its place.
    Conflict {
        /// What stands there.
        found: Found,
        /// The types that would have to go.
        types: Vec<RecordType>,
    },
    /// Records stand in its place that Pindrel does not look for.
    ConflictHidden,
    /// It is not Pindrel's, and leads to a name that does not exist.
    Dangling {
        /// The name.
        target: DnsName,
        /// What stands there.
        found: Found,
    },
    /// A DNAME record leads all below it elsewhere.
    Redirected {
        /// Where that stands.
        dname: DnsName,
        /// What is given.
        present: Vec<RecordSet>,
    },
    /// Whoever edits the zone has not made it yet.
    Awaited {
        /// The zone.
        zone: DnsName,
        /// What is there.
        present: Vec<RecordSet>,
        /// What is wanted.
        wanted: Vec<RecordSet>,
    },
    /// Whoever edits the zone has not removed it yet.
    RemovalAwaited {
        /// The zone.
        zone: DnsName,
        /// What is there.
        present: String,
    },
    /// A server that is needed does not say what it gives.
    Unseen {
        /// The server, with why; `None` where none is known.
        server: Option<(SocketAddr, Unreachable)>,
    },
    /// Servers give another one yet.
    Lagging(Vec<ServerRecords>),
    /// Servers give the old TTL yet.
    TtlLagging {
        /// Which.
        servers: Vec<SocketAddr>,
    },
    /// Servers gave another one until the patience was over.
    StillLagging(Vec<ServerRecords>),
    /// Its low TTL is not on every server.
    LowTtlLagging,
    /// A server still gives one that was removed.
    StillReturned {
        /// The server.
        by: SocketAddr,
    },
    /// It had a longer TTL, which caches may still count down.
    LongTtlCached {
        /// Until when, where that is known.
        until: Option<Timestamp>,
    },
    /// The endpoint is ready, and it is held back as asked for.
    HeldBack {
        /// The endpoint.
        endpoint: String,
        /// A line that looks at the endpoint, where its address is known.
        look: Option<String>,
    },
    /// Where it is to lead is not known.
    TargetUnknown,
}

/// Records that stand in the place of an alias.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Found {
    present: Vec<RecordSet>,
    wanted: Vec<RecordSet>,
    /// Since when it has been so at least.
    since: Option<Timestamp>,
    /// What answers where they lead.
    leads: Option<SampleAnswer>,
    /// What leads to them in the zone: the first, and how many more.
    dependents: Vec<Dependent>,
    more_dependents: usize,
}

impl Found {
    /// What the server that takes changes gives.
    pub fn new(view: &AliasView, present: &[RecordSet], wanted: &[RecordSet]) -> Found {
        let dependents: Vec<Dependent> = view.dependents.iter().take(MOST_DEPENDENTS).cloned().collect();
        Found {
            present: present.to_vec(),
            wanted: wanted.to_vec(),
            since: view.since,
            leads: view.leads.clone(),
            more_dependents: view.dependents.len() - dependents.len(),
            dependents,
        }
    }

    fn evidence(&self) -> Vec<String> {
        let mut evidence = vec![present(&self.present), format!("wanted: {}", in_words(&self.wanted))];
        evidence.extend(self.since.map(|since| format!("it has been so since {since:.0} at least")));
        evidence.extend(self.leads.as_ref().map(leads));
        if !self.dependents.is_empty() {
            let named: Vec<String> =
                self.dependents.iter().map(|one| format!("{} of {}", one.record_type, one.owner)).collect();
            let more = match self.more_dependents {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            evidence.push(format!("what leads to it in the zone: {}{more}", named.join(", ")));
        }
        evidence
    }
}

/// What is there, with its TTL: how long caches keep it once it is gone.
fn present(sets: &[RecordSet]) -> String {
    let ttl = sets.iter().map(RecordSet::ttl).max();
    let ttl = ttl.map_or_else(String::new, |ttl| format!(", TTL {} s", ttl.as_secs()));
    format!("present: {}{ttl}", in_words(sets))
}

/// What answers where the records of somebody else lead.
fn leads(answer: &SampleAnswer) -> String {
    match &answer.outcome {
        SampleOutcome::Answered { status, .. } => format!("{} answers there with status {status}", answer.address),
        SampleOutcome::Failed { why } => format!("{} does not answer there: {why}", answer.address),
    }
}

/// Servers that lag, each with what it gives, or why it does not answer.
pub fn lagging_in_words<'s>(servers: impl IntoIterator<Item = &'s ServerRecords>) -> String {
    let named: Vec<String> = servers
        .into_iter()
        .map(|server| match &server.gives {
            Ok(gives) => format!("{} (it returns {})", server.server, in_words(gives)),
            Err(why) => format!("{} ({why})", server.server),
        })
        .collect();
    all_of(&named)
}

impl AliasCause {
    pub(super) fn judged(&self) -> Judged {
        match self {
            AliasCause::Missing { .. } => Judged::of(Code::AliasMissing),
            AliasCause::Differs(_) | AliasCause::OtherTtl => Judged::of(Code::AliasDiffers),
            AliasCause::Replaces(_) => Judged::of(Code::AliasReplaces),
            AliasCause::Conflict { .. } | AliasCause::ConflictHidden => Judged::of(Code::AliasConflict),
            AliasCause::Dangling { .. } => Judged::of(Code::AliasDangling),
            AliasCause::Redirected { .. } => Judged::of(Code::AliasRedirected),
            AliasCause::Awaited { .. } | AliasCause::RemovalAwaited { .. } => Judged::of(Code::AliasAwaited),
            AliasCause::Unseen { .. } => Judged::of(Code::ServerUnreachable).on(Pin::Alias),
            AliasCause::Lagging(_)
            | AliasCause::TtlLagging { .. }
            | AliasCause::StillLagging(_)
            | AliasCause::LowTtlLagging
            | AliasCause::StillReturned { .. } => Judged::of(Code::AliasLagging),
            AliasCause::LongTtlCached { until } => {
                Judged::of(Code::AliasLagging).again(until.map_or(Again::Now, Again::At))
            }
            AliasCause::HeldBack { .. } => Judged::of(Code::AliasHeldBack),
            AliasCause::TargetUnknown => Judged::of(Code::PlatformUnreachable),
        }
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let hostname = naming.hostname();
        match self {
            AliasCause::Missing { wildcard } => {
                let says = match wildcard {
                    None => format!("{hostname} has no alias record yet"),
                    Some(wildcard) => {
                        format!("{hostname} has no alias record of its own yet: {wildcard} answers for it")
                    }
                };
                Words::new(says, "Run settle: it creates the record")
            }
            AliasCause::Differs(found) => {
                Words::new(format!("the alias of {hostname} points elsewhere"), "Run settle: it corrects the record")
                    .seen(found.evidence())
            }
            AliasCause::OtherTtl => Words::new(
                format!("the alias of {hostname} does not have the TTL that the manifest says"),
                "Run settle: it corrects the record",
            ),
            AliasCause::Replaces(found) => Words::new(
                format!(
                    "{hostname} has records of others, which the manifest says may go: {}",
                    in_words(&found.present)
                ),
                "Run settle: it replaces them",
            )
            .seen(found.evidence()),
            AliasCause::Conflict { found, types } => {
                let types: Vec<String> = types.iter().map(|kind| format!("\"{kind}\"")).collect();
                let typed = hostname.typed();
                Words::new(
                    format!("{hostname} has records that Pindrel did not create: {}", in_words(&found.present)),
                    format!(
                        "Once nobody needs them, write replace = [{}] in [hostname.\"{typed}\"]; if they are yours, take them over with: pindrel adopt alias {typed}",
                        types.join(", ")
                    ),
                )
                .seen(found.evidence())
            }
            AliasCause::ConflictHidden => Words::new(
                format!(
                    "{hostname} has records of a type that cannot stand beside an alias, and that Pindrel does not look for"
                ),
                format!("Find them with: dig {} ANY; delete them, or let the name be", hostname.typed()),
            ),
            AliasCause::Dangling { target, found } => Words::new(
                format!(
                    "{hostname} is an alias of {target}, which does not exist: whoever gets that name gets its traffic"
                ),
                format!(
                    "Delete that record; or run: pindrel adopt alias {}, and then settle, which points it at the endpoint",
                    hostname.typed()
                ),
            )
            .seen(found.evidence()),
            AliasCause::Redirected { dname, present: given } => Words::new(
                format!(
                    "{hostname} can have no alias record: the DNAME record of {dname} leads all below it elsewhere, here to {}",
                    in_words(given)
                ),
                format!("Delete that DNAME record once nobody needs it, or choose a hostname outside {dname}"),
            )
            .seen([present(given)]),
            AliasCause::Awaited { zone, present, wanted } => Words::new(
                format!("whoever edits {zone} has not pointed {hostname} at its endpoint yet"),
                format!("Send them what is to be made, as listed by: pindrel handoff {}", hostname.typed()),
            )
            .seen([format!("present: {}", in_words(present)), format!("wanted: {}", in_words(wanted))]),
            AliasCause::RemovalAwaited { zone, present } => Words::new(
                format!("whoever edits {zone} has not removed the alias of {hostname} yet"),
                format!("Ask them to delete: {} {present}", hostname.typed()),
            ),
            AliasCause::Unseen { server: Some((server, why)) } => Words::new(
                format!("{server} did not return the records of {hostname}: {why}"),
                format!("Start that server, or allow UDP and TCP {} from this host to it", server.port()),
            ),
            AliasCause::Unseen { server: None } => Words::new(
                format!("the records of {hostname} cannot be looked up"),
                "Make sure that the zone's servers answer",
            ),
            AliasCause::Lagging(servers) => {
                let gives = |server: &ServerRecords| in_words(server.gives.as_deref().unwrap_or_default());
                Words::new(
                    format!("the alias of {hostname} has not propagated to every server yet"),
                    "Wait until the zone is transferred: settle waits for it",
                )
                .seen(servers.iter().map(|server| format!("{} returns {}", server.server, gives(server))))
            }
            AliasCause::TtlLagging { servers } => Words::new(
                format!("the TTL of the alias of {hostname} has not propagated to every server yet"),
                "Wait until the zone is transferred: settle waits for it",
            )
            .seen(servers.iter().map(|server| format!("{server} returns the old TTL"))),
            AliasCause::StillLagging(servers) => Words::new(
                format!("the alias of {hostname} has still not propagated to {}", lagging_in_words(servers)),
                "Check why that server does not transfer the zone",
            ),
            AliasCause::LowTtlLagging => Words::new(
                format!("the low TTL of the alias of {hostname} has not propagated to every server yet"),
                "Check why that server does not transfer the zone",
            ),
            AliasCause::StillReturned { by } => Words::new(
                format!("the alias of {hostname} is still returned by {by}"),
                "Check why that server does not transfer the zone",
            ),
            AliasCause::LongTtlCached { until } => Words::new(
                format!("the alias of {hostname} had a longer TTL, which caches may still count down"),
                wait_for_caches(*until),
            ),
            AliasCause::HeldBack { endpoint, look } => {
                let remedy = look.as_ref().map_or_else(
                    || "Run settle".to_owned(),
                    |look| format!("Look with: {look}; then run settle"),
                );
                Words::new(
                    format!("the alias of {hostname} is held back until you have looked at {endpoint}"),
                    remedy,
                )
            }
            AliasCause::TargetUnknown => Words::new(
                format!("where {hostname} is to lead is not known yet: its endpoint was not reached"),
                format!(
                    "Run settle, or name what is waited for: pindrel zone watch {} --type A --value …",
                    hostname.typed()
                ),
            ),
        }
    }
}
