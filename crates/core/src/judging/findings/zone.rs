//! What can be wrong with a zone.

use std::net::{IpAddr, SocketAddr};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::subject::Naming;
use super::words::{Words, all_of, listed};
use super::{Again, Code, Judged};
use crate::judging::facts::{Lameness, ServerWithin, Unreachable};
use crate::names::name::{DnsName, Hostname};
use crate::zones::name_servers::KeysOfBoth;
use crate::zones::records::{RecordSet, in_words};
use crate::zones::rights::{Beyond, Right};

/// The most records that are listed which a credential may not change.
const MOST_RIGHTS: usize = 5;

/// What is wrong with a zone.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ZoneCause {
    /// It has no marker yet, and the manifest wants one.
    Unmarked,
    /// Other installations have marked it.
    MarkedByOthers {
        /// Where the marker stands.
        owner: Option<DnsName>,
        /// What they wrote.
        others: Vec<String>,
    },
    /// It was marked, and its server does not return the marker.
    MarkerNotReturned,
    /// No server of it is known.
    NoServerKnown,
    /// Servers do not answer.
    ServersSilent {
        /// Each with why.
        silent: Vec<(SocketAddr, Unreachable)>,
        /// Whether the zone itself knows nothing of their addresses: they stand in the zone above alone.
        is_stale_glue: bool,
    },
    /// The server that takes changes does not say what stands at a name.
    RecordsUnseen {
        /// The name.
        owner: DnsName,
        /// The server.
        server: SocketAddr,
        /// Why.
        why: Unreachable,
    },
    /// The delegation names other servers than the zone itself.
    DelegationDiffers {
        /// The server of the zone above.
        by: SocketAddr,
        /// What it names.
        delegated: Vec<DnsName>,
        /// What the zone names.
        own: Vec<DnsName>,
        /// The addresses in the delegation.
        addresses: Vec<IpAddr>,
    },
    /// It is not delegated.
    NotDelegated {
        /// The server of the zone above.
        by: SocketAddr,
    },
    /// The servers of the zone above do not answer.
    ParentsSilent {
        /// Why.
        why: Unreachable,
    },
    /// These servers were asked as those of the zone above, and serve the zone itself alone.
    ParentsBelow(Vec<SocketAddr>),
    /// Servers answer without authority.
    ServersLame(Vec<(SocketAddr, Lameness)>),
    /// Servers return different NS sets.
    ServersDiffer(Vec<(SocketAddr, Vec<DnsName>)>),
    /// Its signatures do not validate.
    Bogus,
    /// No DS record matches a key of these servers.
    KeysUnmatched(Vec<SocketAddr>),
    /// Signatures have ended, on each server.
    SignaturesEnded(Vec<(SocketAddr, Timestamp)>),
    /// Signatures end soon, on each server.
    SignaturesEnding(Vec<(SocketAddr, Timestamp)>),
    /// These servers of the zone above say something else of the delegation.
    ParentsDiffer(Vec<SocketAddr>),
    /// These names in the NS set are aliases.
    ServersAliased(Vec<DnsName>),
    /// The zone above has other addresses of servers.
    GlueDiffers(Vec<ServerWithin>),
    /// The zone above names servers that lie in the zone without their addresses.
    GlueMissing {
        /// The servers.
        servers: Vec<ServerWithin>,
        /// Whether it names no others, so that nobody finds the zone.
        is_all: bool,
    },
    /// No server that the zone is delegated to answers for it; others do.
    DelegationDead(Vec<(SocketAddr, String)>),
    /// Servers answer over UDP alone.
    WithoutTcp(Vec<(SocketAddr, Unreachable)>),
    /// The credential may not change records that the manifest needs.
    RightsMissing {
        /// How the credential is named.
        credential: String,
        /// The first of them, each with what the server answered.
        lacking: Vec<(Right, String)>,
        /// How many it may not change besides.
        more: usize,
    },
    /// The credential may do more than is needed.
    RightsTooWide {
        /// How the credential is named.
        credential: String,
        /// What it may do.
        beyond: Beyond,
    },
    /// Servers transfer the zone to whoever asks.
    TransferOpen(Vec<SocketAddr>),
    /// The old and the new server of a signed zone do not have the keys of both.
    KeysNotShared(KeysOfBoth),
    /// A change of its name servers cannot be looked at.
    ChangeUnseen {
        /// Why; `None` where no server is known.
        why: Option<Unreachable>,
    },
    /// An import was accepted, and record sets are otherwise all the same.
    ImportWithoutEffect {
        /// How many.
        differing: usize,
        /// The first, as in `www A`.
        first: String,
    },
    /// Somebody else edits it, and it was named as one that Pindrel changes.
    HandedOff,
    /// A challenge record cannot be where an authority would look for it.
    Challenge(ChallengeFault),
}

/// Why a challenge record cannot be placed or seen.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChallengeFault {
    /// An authority would not see it, for what is wrong with the zone.
    Hidden {
        /// What is wrong.
        because: Box<ZoneCause>,
        /// Where it would stand.
        owner: DnsName,
    },
    /// Whoever edits the zone has not led the challenge name elsewhere yet.
    Awaited {
        /// Whose certificate.
        hostname: Hostname,
        /// The challenge name.
        challenge: DnsName,
        /// Where it is to lead.
        target: DnsName,
    },
    /// Its name is not in any zone of the manifest.
    OutsideManifest {
        /// The name.
        owner: DnsName,
    },
    /// The zone is no longer in the manifest, and records are still there.
    ZoneGone,
    /// It would take a name off the wildcard that answers it.
    WildcardHidden {
        /// The wildcard.
        wildcard: DnsName,
        /// The name.
        name: DnsName,
        /// What the wildcard gives.
        records: Vec<RecordSet>,
    },
    /// Too many others are at its name.
    NameFull {
        /// The name.
        owner: DnsName,
        /// How many.
        records: usize,
    },
    /// Servers do not return it.
    NotReturned {
        /// Its name.
        owner: DnsName,
        /// The servers, each with why where it does not answer.
        servers: Vec<(SocketAddr, Option<Unreachable>)>,
        /// For how long it was waited for, in seconds.
        after_secs: u64,
    },
    /// A server still returns one that was deleted.
    StillReturned {
        /// Its name.
        owner: DnsName,
    },
}

/// A server, with why it does not answer.
pub(super) fn because((server, why): &(SocketAddr, Unreachable)) -> String {
    format!("{server}: {why}")
}

impl ZoneCause {
    /// Says that servers are silent.
    pub fn silent(
        silent: impl Iterator<Item = (SocketAddr, Unreachable)>,
        within: &[ServerWithin],
    ) -> Option<ZoneCause> {
        let silent: Vec<(SocketAddr, Unreachable)> = silent.collect();
        let is_stale = |server: &SocketAddr| {
            let is_glue = |one: &ServerWithin| one.glue.as_ref().is_some_and(|glue| glue.contains(&server.ip()));
            within.iter().any(|one| one.has_stale_glue() && is_glue(one) && !one.own.contains(&server.ip()))
        };
        let is_stale_glue = silent.iter().all(|(server, _)| is_stale(server));
        (!silent.is_empty()).then_some(ZoneCause::ServersSilent { silent, is_stale_glue })
    }

    /// Says that a credential may not change records.
    pub fn rights_missing(credential: String, lacking: &[(Right, String)]) -> Option<ZoneCause> {
        let first: Vec<(Right, String)> = lacking.iter().take(MOST_RIGHTS).cloned().collect();
        let more = lacking.len() - first.len();
        (!lacking.is_empty()).then_some(ZoneCause::RightsMissing { credential, lacking: first, more })
    }

    pub(super) fn judged(&self) -> Judged {
        Judged::of(match self {
            ZoneCause::Unmarked => Code::ZoneUnmarked,
            ZoneCause::MarkedByOthers { .. } => Code::ZoneMarkedByOther,
            ZoneCause::NoServerKnown
            | ZoneCause::ServersSilent { .. }
            | ZoneCause::RecordsUnseen { .. }
            | ZoneCause::ChangeUnseen { .. } => Code::ServerUnreachable,
            ZoneCause::DelegationDiffers { .. } => Code::DelegationDiffers,
            ZoneCause::NotDelegated { .. } => Code::DelegationMissing,
            ZoneCause::ParentsSilent { .. } | ZoneCause::ParentsBelow(_) => Code::ParentUnreachable,
            ZoneCause::ServersLame(_) => Code::ServerLame,
            ZoneCause::ServersDiffer(_) => Code::ServersDiffer,
            ZoneCause::Bogus => Code::ZoneBogus,
            ZoneCause::KeysUnmatched(_) => Code::KeysUnmatched,
            ZoneCause::SignaturesEnded(_) | ZoneCause::SignaturesEnding(_) => Code::SignaturesEnding,
            ZoneCause::ParentsDiffer(_) => Code::ParentsDiffer,
            ZoneCause::ServersAliased(_) => Code::NameServerAliased,
            ZoneCause::GlueDiffers(_) => Code::GlueDiffers,
            ZoneCause::GlueMissing { .. } => Code::GlueMissing,
            ZoneCause::DelegationDead(_) => Code::DelegationDead,
            ZoneCause::WithoutTcp(_) => Code::ServerWithoutTcp,
            ZoneCause::RightsMissing { .. } => Code::RightMissing,
            ZoneCause::RightsTooWide { .. } => Code::RightsTooWide,
            ZoneCause::TransferOpen(_) => Code::TransferOpen,
            ZoneCause::KeysNotShared(_) => Code::KeysNotShared,
            ZoneCause::MarkerNotReturned | ZoneCause::ImportWithoutEffect { .. } => Code::UpdateWithoutEffect,
            ZoneCause::HandedOff => Code::UpdateRefused,
            ZoneCause::Challenge(fault) => return fault.judged(),
        })
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let zone = naming.zone();
        match self {
            ZoneCause::Unmarked => {
                Words::new(format!("the zone {zone} has no marker yet"), "Run settle: it adds the marker")
            }
            ZoneCause::MarkedByOthers { owner, others } => {
                let owner = owner.as_ref().map_or_else(String::new, |owner| format!(" of {owner}"));
                Words::new(
                    format!("another installation of Pindrel has marked the zone {zone} as its own"),
                    format!(
                        "Make sure that no hostname is held by both; once the other installation is gone, delete the TXT record{owner}"
                    ),
                )
                .seen(others.iter().cloned())
            }
            ZoneCause::MarkerNotReturned => Words::new(
                format!("the zone {zone} was marked, and its server does not return the marker"),
                "Check the server's log for why",
            ),
            ZoneCause::NoServerKnown => Words::new(
                format!("no server of the zone {zone} is known"),
                "Name its servers in the manifest, or have the zone delegated",
            ),
            ZoneCause::ServersSilent { silent, is_stale_glue } => {
                let servers: Vec<SocketAddr> = silent.iter().map(|(server, _)| *server).collect();
                let verb = if servers.len() > 1 { "do" } else { "does" };
                let remedy = if *is_stale_glue {
                    "At the registrar, correct the glue records: no server of the zone has that address any longer"
                } else {
                    "Start that server, or allow UDP and TCP from this host to it"
                };
                Words::new(format!("{} of the zone {zone} {verb} not answer", all_of(&servers)), remedy)
                    .seen(silent.iter().map(because))
            }
            ZoneCause::RecordsUnseen { owner, server, why } => Words::new(
                format!("{server} did not return the records of {owner}: {why}"),
                "Make sure that the zone's servers answer",
            ),
            ZoneCause::DelegationDiffers { by, delegated, own, addresses } => Words::new(
                format!("the delegation of {zone} names other servers than the zone's own NS set"),
                format!("At the registrar, delegate {} to {}", zone.typed(), listed(own)),
            )
            .seen([
                format!("delegated to {} (according to {by})", listed(delegated)),
                format!("NS set of the zone: {}", listed(own)),
                format!("addresses in the delegation: {}", listed(addresses)),
            ]),
            ZoneCause::NotDelegated { by } => Words::new(
                format!("{zone} is not delegated"),
                format!("At the registrar, delegate {} to its name servers", zone.typed()),
            )
            .seen([format!("{by} returned no delegation of {zone}")]),
            ZoneCause::ParentsSilent { why: Unreachable::NoneKnown } => Words::new(
                format!("no server of the zone above {zone} is found from here, so its delegation cannot be checked"),
                format!("Name parents in [zone.\"{}\"], or resolvers that find them", zone.typed()),
            ),
            ZoneCause::ParentsSilent { why } => Words::new(
                format!("the parent servers of {zone} do not answer, so its delegation cannot be checked"),
                format!("Name reachable parents in [zone.\"{}\"], or try again", zone.typed()),
            )
            .seen([why.to_string()]),
            ZoneCause::ParentsBelow(servers) => Words::new(
                format!(
                    "the delegation of {zone} cannot be checked: {} {} {zone} itself, and not the zone above",
                    all_of(servers),
                    if servers.len() > 1 { "serve" } else { "serves" }
                ),
                format!("Name servers of the zone above as parents in [zone.\"{}\"], or leave parents out", zone.typed()),
            ),
            ZoneCause::ServersLame(lame) => Words::new(
                format!("a server named for {zone} is not authoritative for it"),
                format!("Load {} on that server, or remove it from the zone's NS set and its delegation", zone.typed()),
            )
            .seen(lame.iter().map(|(server, how)| format!("{server}: {how}"))),
            ZoneCause::ServersDiffer(said) => Words::new(
                format!("the servers of {zone} return different NS sets"),
                "Make sure that all servers transfer the zone from the same primary",
            )
            .seen(said.iter().map(|(server, names)| format!("{server}: {}", listed(names)))),
            ZoneCause::Bogus => Words::new(
                format!("{zone} is signed, but its signatures do not validate"),
                "Sign the zone again, or make the DS records in the parent zone match its keys",
            ),
            ZoneCause::KeysUnmatched(servers) => Words::new(
                format!("no DS record of {zone} in the zone above matches a key that {} has", listed(servers)),
                "Enter the DS records of the zone's present keys at the registrar, or put the old key back",
            ),
            ZoneCause::SignaturesEnded(ends) => ending(format!("signatures of {zone} have ended"), ends),
            ZoneCause::SignaturesEnding(ends) => ending(format!("signatures of {zone} end soon"), ends),
            ZoneCause::ParentsDiffer(servers) => Words::new(
                format!("servers of the zone above say different things of the delegation of {zone}"),
                "Ask the registrar why: clients get either answer",
            )
            .seen(servers.iter().map(|server| format!("{server} says something else"))),
            ZoneCause::ServersAliased(names) => Words::new(
                format!("{zone} names a server by an alias: {}", listed(names)),
                "Name the server by a name that has addresses of its own (RFC 2181 §10.3)",
            ),
            ZoneCause::GlueMissing { servers, is_all } => {
                let names: Vec<&DnsName> = servers.iter().map(|one| &one.name).collect();
                let effect = if *is_all { ", so nobody finds the zone" } else { "" };
                let glue = servers.iter().map(|one| match &one.own[..] {
                    [] => format!("{} (it has no address in the zone either: add one)", one.name),
                    own => format!("{} ({})", one.name, listed(own)),
                });
                Words::new(
                    format!("{zone} is delegated to {} without glue records{effect}", listed(&names)),
                    format!("At the registrar, add the addresses of {}", listed(&glue.collect::<Vec<_>>())),
                )
            }
            ZoneCause::DelegationDead(servers) => Words::new(
                format!("no server that {zone} is delegated to answers for it, so nobody can resolve its names"),
                format!(
                    "Start those servers, or delegate {} to servers that serve it, at the registrar",
                    zone.typed()
                ),
            )
            .seen(servers.iter().map(|(server, why)| format!("{server}: {why}"))),
            ZoneCause::GlueDiffers(stale) => {
                let names: Vec<&DnsName> = stale.iter().map(|one| &one.name).collect();
                Words::new(
                    format!("the zone above has other addresses of {} than {zone} itself", listed(&names)),
                    "At the registrar, correct the glue records: clients that do not know the zone yet go there",
                )
                .seen(stale.iter().map(|one| {
                    let glue = one.glue.as_deref().unwrap_or_default();
                    format!("{}: {} in the zone above, {} in the zone", one.name, listed(glue), listed(&one.own))
                }))
            }
            ZoneCause::WithoutTcp(servers) => Words::new(
                format!("a server of {zone} answers over UDP and not over TCP"),
                "Open TCP at that server: long answers and transfers need it (RFC 7766)",
            )
            .seen(servers.iter().map(because)),
            ZoneCause::RightsMissing { credential, lacking, more } => {
                let named: Vec<String> =
                    lacking.iter().map(|(right, _)| format!("{} of {}", right.record_type, right.owner)).collect();
                let more = if *more == 0 { String::new() } else { format!(" and {more} more") };
                Words::new(
                    format!("{credential} may not change {}{more} in the zone {zone}", listed(&named)),
                    "Grant it these records on the zone's server, or delegate the challenge names to a zone that it may change",
                )
                .seen(lacking.iter().map(|(right, code)| format!("{} {}: {code}", right.owner, right.record_type)))
            }
            ZoneCause::RightsTooWide { credential, beyond } => too_wide(zone, credential, beyond),
            ZoneCause::TransferOpen(servers) => {
                let verb = if servers.len() == 1 { "transfers" } else { "transfer" };
                Words::new(
                    format!("{} {verb} the whole zone {zone} to whoever asks", all_of(servers)),
                    "Allow transfers on the server to a TSIG key or to the secondaries alone",
                )
            }
            ZoneCause::KeysNotShared(keys) => Words::new(
                format!("{zone} is signed, and its old and its new server do not have the keys of both"),
                "Publish the keys of each on the other, and DS records for both above; or take the DS records away and wait out their TTL first",
            )
            .seen(lacking_keys(keys)),
            ZoneCause::ChangeUnseen { why } => {
                let why = why.as_ref().map_or_else(|| "none of its servers is known".to_owned(), ToString::to_string);
                Words::new(
                    format!("a change of the name servers of {zone} cannot be looked at: {why}"),
                    "Make sure that both servers answer for the zone",
                )
            }
            ZoneCause::ImportWithoutEffect { differing, first } => Words::new(
                format!(
                    "the server accepted the update of {zone} but returns {differing} of its record sets otherwise: {first}"
                ),
                "Check the server's log for why it ignored the update; the same command shows what is missing",
            ),
            ZoneCause::HandedOff => Words::new(
                format!("{zone} is edited by somebody else (driver = \"none\")"),
                "Name a zone that Pindrel changes",
            ),
            ZoneCause::Challenge(fault) => fault.words(naming),
        }
    }
}

fn ending(says: String, ends: &[(SocketAddr, Timestamp)]) -> Words {
    Words::new(says, "Have the zone signed again, and check why that has not happened by itself")
        .seen(ends.iter().map(|(server, at)| format!("{server}: {at:.0}")))
}

fn too_wide(zone: super::subject::Name<'_>, credential: &str, beyond: &Beyond) -> Words {
    match beyond {
        Beyond::AnyName => Words::new(
            format!("{credential} may change every name of {zone}, and Pindrel needs only those of the manifest"),
            "Restrict it on the server to these names and types; docs/zones.md shows how",
        ),
        Beyond::Apex(types) => Words::new(
            format!(
                "{credential} may change the {} records of {zone} itself: whoever has it takes over the zone",
                all_of(types)
            ),
            "Restrict it on the server to the names and types of the manifest",
        ),
        Beyond::Zone(other) => Words::new(
            format!("{credential} of {zone} may also change the zone {other}"),
            "Use a key of its own for each zone, so that one that leaks spoils one",
        ),
        Beyond::Server(zones) => Words::new(
            format!("{credential} may change all {zones} zones of that server, and its settings"),
            "Let only this host reach the API, or use the driver \"rfc2136\" with a key for this zone alone",
        ),
        Beyond::Transfer(server) => Words::new(
            format!("{server} transfers the whole zone {zone} to whoever asks"),
            "Allow transfers on the server to a TSIG key or to the secondaries alone",
        ),
    }
}

fn lacking_keys(keys: &KeysOfBoth) -> Vec<String> {
    let unmatched =
        (!keys.new_matches_ds).then(|| "no DS record of the zone above matches a key of the new server".to_owned());
    let lacking = [(&keys.missing_at_new, "new"), (&keys.missing_at_old, "old")].into_iter();
    let lacking = lacking.filter(|(tags, _)| !tags.is_empty());
    unmatched
        .into_iter()
        .chain(lacking.map(|(tags, whose)| format!("the {whose} server lacks the keys {}", listed(tags))))
        .collect()
}

impl ChallengeFault {
    fn judged(&self) -> Judged {
        match self {
            ChallengeFault::Hidden { because, .. } => because.judged(),
            ChallengeFault::Awaited { .. } => Judged::of(Code::ChallengeAwaited),
            ChallengeFault::OutsideManifest { .. }
            | ChallengeFault::ZoneGone
            | ChallengeFault::WildcardHidden { .. } => Judged::of(Code::ChallengeMisplaced),
            ChallengeFault::NameFull { .. } => Judged::of(Code::ChallengeLagging).again(Again::Now),
            ChallengeFault::NotReturned { .. } | ChallengeFault::StillReturned { .. } => {
                Judged::of(Code::ChallengeLagging)
            }
        }
    }

    fn words(&self, naming: Naming<'_>) -> Words {
        match self {
            ChallengeFault::Hidden { because, owner } => {
                let words = because.words(naming);
                let says = format!("{}, so an authority would not see the challenge record {owner}", words.says);
                Words::new(says, words.remedy).seen(words.evidence)
            }
            ChallengeFault::Awaited { hostname, challenge, target } => Words::new(
                format!("whoever edits {} has not made {challenge} an alias of {target} yet", naming.zone()),
                format!("Send them what is to be made, as listed by: pindrel handoff {hostname}"),
            ),
            ChallengeFault::OutsideManifest { owner } => {
                Words::new(format!("{owner} is not in any zone of the manifest"), "Add its zone to the manifest")
            }
            ChallengeFault::ZoneGone => Words::new(
                "the zone is no longer in the manifest",
                "Add the zone to the manifest, or delete them by hand",
            ),
            ChallengeFault::WildcardHidden { wildcard, name, records } => Words::new(
                format!("{wildcard} answers {name}, and would no longer once a challenge record stands below it"),
                format!("Give {name} records of its own, as the wildcard has them: {}", in_words(records)),
            ),
            ChallengeFault::NameFull { owner, records } => Words::new(
                format!("{owner} has {records} TXT records, and name servers limit how many it may have"),
                "Wait until the orders before are done, or delegate challenge names to several names",
            ),
            ChallengeFault::NotReturned { owner, servers, after_secs } => {
                let after = match after_secs {
                    secs @ 120.. => format!("{} min", secs / 60),
                    secs => format!("{secs} s"),
                };
                Words::new(
                    format!("{} still did not return the TXT record {owner} after {after}", servers_in_words(servers)),
                    "Check why that server does not transfer the zone",
                )
            }
            ChallengeFault::StillReturned { owner } => {
                Words::new(format!("a server still returns {owner}"), "The next settle clears them")
            }
        }
    }
}

/// Servers that are waited for, each with why where it does not answer.
pub fn servers_in_words(servers: &[(SocketAddr, Option<Unreachable>)]) -> String {
    let named: Vec<String> = servers
        .iter()
        .map(|(server, why)| why.as_ref().map_or_else(|| server.to_string(), |why| format!("{server} ({why})")))
        .collect();
    all_of(&named)
}
