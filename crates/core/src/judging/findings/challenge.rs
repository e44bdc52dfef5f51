//! Why a challenge record cannot be placed or seen.

use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

use super::subject::Naming;
use super::words::{Words, all_of};
use super::{Again, Code, Judged, ZoneCause};
use crate::judging::facts::Unreachable;
use crate::names::name::{DnsName, Hostname};
use crate::zones::records::{RecordSet, in_words};

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

impl ChallengeFault {
    pub(super) fn judged(&self) -> Judged {
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

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
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
