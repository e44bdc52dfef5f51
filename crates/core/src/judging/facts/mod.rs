//! What drivers saw in the world, and when.
//!
//! A fact is raw: it says what answered what, not whether that is right. Judging is
//! done in [`crate::judging::pins`], so that the same fact is judged anew when the manifest
//! changes.

mod certificate;
mod failure;
mod knowledge;
mod ownership;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::endpoints::endpoint::{AskedRecord, Binding, Deployment, EndpointInfo, PlatformReply};
use crate::endpoints::expectation::Expectation;
use crate::names::name::DnsName;
use crate::values::{Fingerprint, Serial};
use crate::zones::records::{RecordSet, same_data};
use crate::zones::resolver::ResolverAddress;

pub use certificate::{HeldCertificate, OrderedTerms, Origin, ReplaceReason};
pub use failure::{Lameness, Unreachable, Unresolved, Untrusted};
pub use knowledge::{ChallengeTarget, Drained, HostnameKnowledge, Knowledge, Retiring, RetiringId};
pub use ownership::{AliasChange, EndpointKey, FormerAlias, Ownership, Written};

/// One observation with the time at which it was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fact<T> {
    /// When it was seen.
    pub seen: Timestamp,
    /// What was seen.
    pub value: T,
}

/// Says whether something seen at `seen` is less than `max_age_secs` old at `now`, so that
/// with 0 nothing is. What was seen in the future (a clock was set back) is not fresh.
pub fn is_fresh(seen: Timestamp, now: Timestamp, max_age_secs: u64) -> bool {
    let age = now.as_second() - seen.as_second();
    u64::try_from(age).is_ok_and(|age| age < max_age_secs)
}

/// A zone: its delegation and each of its servers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ZoneView {
    /// What the zone above says.
    pub delegation: DelegationView,
    /// Each authoritative server, the one for updates first.
    pub servers: Vec<ServerView>,
    /// For a zone that the parent calls signed: whether a validating resolver
    /// accepts it; `None` when it is not signed or no resolver says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub validates: Option<bool>,
    /// The servers of the zone above that say something else of its delegation.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parents_differing: Vec<SocketAddr>,
    /// The names in its NS set that are aliases (RFC 2181 §10.3).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub aliased_servers: Vec<DnsName>,
    /// The servers that answer over UDP and not over TCP (RFC 7766 §5), with why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without_tcp: Vec<(SocketAddr, Unreachable)>,
    /// Its servers that lie in it, which nobody finds without their addresses in the zone above.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub servers_within: Vec<ServerWithin>,
    /// Its keys and signatures, where the zone above calls it signed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed: Option<SignedView>,
    /// Who has marked it, where the manifest wants it marked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub marker: Option<Marker>,
}

/// Who has marked a zone as the one whose hostnames they hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Marker {
    /// Nobody.
    Absent,
    /// This installation.
    Own,
    /// These others.
    Others(Vec<String>),
}

/// A server of a zone that lies in the zone itself, with its addresses as both zones have them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct ServerWithin {
    /// The server.
    pub name: DnsName,
    /// Its addresses in the zone above, sorted (RFC 1034 §4.2.1, RFC 9471); `None` where that zone does not name it, or
    /// did not refer to it.
    pub glue: Option<Vec<IpAddr>>,
    /// Its addresses in the zone, sorted; none as well where no server says.
    pub own: Vec<IpAddr>,
}

impl ServerWithin {
    /// Says whether the zone above gives it an address that the zone itself does not. A family that the zone above leaves
    /// out is its own business.
    pub fn has_stale_glue(&self) -> bool {
        let is_stale = |glue: &Vec<IpAddr>| glue.iter().any(|address| !self.own.contains(address));
        !self.own.is_empty() && self.glue.as_ref().is_some_and(is_stale)
    }

    /// Says whether the zone above names it without an address, so that nobody finds it.
    pub fn lacks_glue(&self) -> bool {
        self.glue.as_ref().is_some_and(Vec::is_empty)
    }
}

/// The keys and signatures of a signed zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SignedView {
    /// The servers whose keys no DS record of the zone above matches (RFC 4035 §5).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without_key: Vec<SocketAddr>,
    /// When the first signature on each server ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub ends: Vec<(SocketAddr, Timestamp)>,
}

impl ZoneView {
    /// What is seen of a zone that is not signed and of which nothing is odd.
    pub fn plain(delegation: DelegationView, servers: Vec<ServerView>) -> ZoneView {
        ZoneView {
            delegation,
            servers,
            validates: None,
            parents_differing: Vec::new(),
            aliased_servers: Vec::new(),
            without_tcp: Vec::new(),
            servers_within: Vec::new(),
            signed: None,
            marker: None,
        }
    }

    /// Says whether the server that takes changes serves the zone.
    pub fn is_first_serving(&self) -> bool {
        matches!(self.servers.first(), Some(ServerView { status: ServerStatus::Serves { .. }, .. }))
    }

    /// Returns the NS set that the zone's own servers give, by the first that serves it.
    pub fn own_name_servers(&self) -> Option<&[DnsName]> {
        self.servers.iter().find_map(|server| match &server.status {
            ServerStatus::Serves { name_servers, .. } => Some(name_servers.as_slice()),
            _ => None,
        })
    }

    /// Returns the servers that can be asked from here. Where this machine has no route to any address
    /// of a family, IPv6 mostly, those are left out while a server of the other family serves.
    pub fn servers_in_reach(&self) -> impl Iterator<Item = &ServerView> {
        let has_no_route =
            |server: &ServerView| matches!(server.status, ServerStatus::Unreachable { why: Unreachable::NoRoute });
        let is_out = move |server: &ServerView| {
            let family = server.server.is_ipv6();
            let of_family = |other: &&ServerView| other.server.is_ipv6() == family;
            self.servers.iter().filter(of_family).all(has_no_route)
                && self.servers.iter().any(|other| matches!(other.status, ServerStatus::Serves { .. }))
        };
        self.servers.iter().filter(move |server| !is_out(server))
    }
}

/// What the zone above says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum DelegationView {
    /// The zone is delegated.
    Delegated {
        /// The server of the zone above that said so.
        by: SocketAddr,
        /// The NS names, sorted.
        name_servers: Vec<DnsName>,
        /// Their addresses, as far as known, sorted.
        addresses: Vec<IpAddr>,
    },
    /// The zone above does not know the zone.
    Missing {
        /// The server of the zone above that said so.
        by: SocketAddr,
    },
    /// The servers that were asked serve the zone itself, and not the one above.
    AskedBelow {
        /// Those servers.
        servers: Vec<SocketAddr>,
    },
    /// No server of the zone above answered.
    Unreachable {
        /// Why.
        why: Unreachable,
    },
}

/// One authoritative server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServerView {
    /// Its address.
    pub server: SocketAddr,
    /// How it serves the zone.
    pub status: ServerStatus,
}

/// How an authoritative server serves its zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum ServerStatus {
    /// It serves the zone.
    Serves {
        /// The SOA's serial.
        serial: Serial,
        /// The NS names, sorted.
        name_servers: Vec<DnsName>,
    },
    /// It answers, but not with authority.
    Lame {
        /// What it answers instead.
        how: Lameness,
    },
    /// It does not answer.
    Unreachable {
        /// Why.
        why: Unreachable,
    },
}

/// An endpoint in its platform's list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum EndpointView {
    /// It is there.
    Listed(Box<EndpointInfo>),
    /// The platform does not have it.
    NotListed {
        /// The ids that it has, at most twenty.
        known: Vec<String>,
    },
    /// The platform takes no request with this token.
    Refused {
        /// The HTTP status.
        status: u16,
        /// What the platform said.
        detail: String,
    },
    /// The platform does not answer.
    Unreachable {
        /// Why.
        why: Unreachable,
        /// What it listed before.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        before: Option<Box<EndpointInfo>>,
    },
}

impl EndpointView {
    /// Returns what is known of the endpoint: what its platform lists, or did before it stopped answering.
    pub fn info(&self) -> Option<&EndpointInfo> {
        match self {
            EndpointView::Listed(info) => Some(info),
            EndpointView::Unreachable { before, .. } => before.as_deref(),
            EndpointView::NotListed { .. } | EndpointView::Refused { .. } => None,
        }
    }
}

/// What the endpoint knows of a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum BindingView {
    /// Nothing.
    Absent,
    /// A binding.
    Present {
        /// What it says.
        binding: Binding,
        /// How far it has got.
        deployment: Deployment,
        /// What else the platform says of it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        reply: Option<Box<PlatformReply>>,
        /// The records that the platform asks for and that a server does not return.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        lacking: Vec<AskedRecord>,
        /// What a direct connection with the hostname as SNI was served.
        served: ServedView,
    },
    /// Somebody else configures the endpoint, and only what it serves can be seen.
    Unmanaged {
        /// What a direct connection with the hostname as SNI was served.
        served: ServedView,
    },
    /// The platform does not say.
    Unreachable {
        /// Why.
        why: Unreachable,
    },
}

/// What a direct connection to the endpoint was served.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum ServedView {
    /// A certificate.
    Certificate {
        /// Of the leaf.
        sha256: Fingerprint,
        /// How sample requests were answered at each address; none where the certificate is not the one
        /// that is held, or where the hostname's alias leads there already.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        samples: Vec<SampleAnswer>,
        /// Where the hostname takes TLS 1.3 alone: the status with which a client of TLS 1.2 was answered,
        /// which should be none.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        tls12_status: Option<u16>,
        /// How the endpoint answers under its default name, where a sample was not answered as expected.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        default_name: Option<Box<SampleOutcome>>,
    },
    /// No TLS connection could be made.
    Failed {
        /// The address; `None` where the platform lists none.
        address: Option<SocketAddr>,
        /// Why.
        why: Unreachable,
    },
    /// Nobody has tried.
    NotTried,
}

impl ServedView {
    /// A certificate, of which nothing else was asked.
    pub fn certificate(sha256: Fingerprint) -> ServedView {
        ServedView::Certificate { sha256, samples: Vec::new(), tls12_status: None, default_name: None }
    }

    /// Returns the address at which no connection could be made.
    pub fn failed_at(&self) -> Option<SocketAddr> {
        match self {
            ServedView::Failed { address, .. } => *address,
            ServedView::Certificate { .. } | ServedView::NotTried => None,
        }
    }
}

/// The address and alias records of a hostname on each authoritative server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AliasView {
    /// Each server with what it gives, the one for updates first.
    pub servers: Vec<ServerRecords>,
    /// The wildcard that gives the same as the hostname: where the hostname has no records of its
    /// own, it is what answers (RFC 4592 §3.3.1).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wildcard: Option<DnsName>,
    /// Where a DNAME record stands above the hostname: what is given is made from it, and nothing can
    /// stand at the hostname itself (RFC 6672 §2.4).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dname: Option<DnsName>,
    /// The target of the alias, where it does not exist.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dangling: Option<DnsName>,
    /// How whatever the records of somebody else lead to answers under the hostname, whoever may vouch for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leads: Option<SampleAnswer>,
    /// Since when at least the records of somebody else are as they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<Timestamp>,
    /// What in the zone leads to the hostname, and so to the records of somebody else; as far as the zone can be read.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub dependents: Vec<Dependent>,
}

/// A record set that leads to a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct Dependent {
    /// The name that it stands at.
    pub owner: String,
    /// Its type, as in `MX`.
    pub record_type: String,
}

impl AliasView {
    /// What servers give, and nothing more is known of it.
    pub fn of(servers: Vec<ServerRecords>) -> AliasView {
        AliasView {
            servers,
            wildcard: None,
            dname: None,
            dangling: None,
            leads: None,
            since: None,
            dependents: Vec::new(),
        }
    }

    /// Says whether the server that takes changes answers.
    pub fn is_first_answering(&self) -> bool {
        self.servers.first().is_some_and(|first| first.gives.is_ok())
    }

    /// Returns what the server that takes changes gives; nothing where it does not answer.
    pub fn first_gives(&self) -> Vec<RecordSet> {
        self.servers.first().and_then(|server| server.gives.clone().ok()).unwrap_or_default()
    }

    /// Returns the servers that answer, and give something else than just this data.
    pub fn behind(&self, wanted: &[RecordSet]) -> impl Iterator<Item = &ServerRecords> {
        self.servers.iter().filter(|server| server.gives.as_ref().is_ok_and(|gives| !same_data(gives, wanted)))
    }

    /// Returns the first server that does not answer, and why.
    pub fn silent(&self) -> Option<(SocketAddr, &Unreachable)> {
        self.servers.iter().find_map(|server| Some((server.server, server.gives.as_ref().err()?)))
    }

    /// Returns the servers that do not give just this data, or do not answer.
    pub fn lagging(&self, wanted: &[RecordSet]) -> impl Iterator<Item = &ServerRecords> {
        self.servers.iter().filter(|server| !server.gives.as_ref().is_ok_and(|gives| same_data(gives, wanted)))
    }
}

/// What one server gives for a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct ServerRecords {
    /// Its address.
    pub server: SocketAddr,
    /// The sets, or why there is no answer.
    pub gives: Result<Vec<RecordSet>, Unreachable>,
}

/// What clients get through each resolver.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AnswerView {
    /// One for each resolver.
    pub through: Vec<ResolverAnswer>,
}

/// What a client that uses one resolver gets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResolverAnswer {
    /// The resolver.
    pub resolver: ResolverAddress,
    /// What the client gets.
    pub outcome: ClientOutcome,
    /// What a client without a certificate gets, where a certificate was shown for the outcome.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub without_certificate: Option<ClientOutcome>,
}

/// How a sample request was answered, at one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct SampleAnswer {
    /// The address.
    pub address: SocketAddr,
    /// What was asked for, and what is expected.
    pub sample: Expectation,
    /// What came.
    pub outcome: SampleOutcome,
}

/// What came of a sample request over TLS.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum SampleOutcome {
    /// An HTTP response.
    Answered {
        /// The HTTP status.
        status: u16,
        /// The `Location` header.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        location: Option<String>,
        /// What was looked for in the body.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        body: Option<BodyView>,
    },
    /// No connection, a certificate that does not verify, or no HTTP response.
    Failed {
        /// Why.
        why: String,
    },
}

impl SampleOutcome {
    /// Says in what an answer differs from what is expected of it, as the end of "PLACE …".
    pub fn difference(&self, expected: &Expectation) -> Option<String> {
        match self {
            SampleOutcome::Failed { why } => Some(format!("is not answered: {why}")),
            SampleOutcome::Answered { status, .. } if !(expected.status.0..=expected.status.1).contains(status) => {
                let (low, high) = expected.status;
                let wanted = if low == high { low.to_string() } else { format!("{low} to {high}") };
                Some(format!("returned status {status}, not {wanted}"))
            }
            SampleOutcome::Answered { body, .. } => {
                let text = expected.body.as_ref()?;
                let found = body.as_ref().is_some_and(|body| body.text == *text && body.found);
                (!found).then(|| format!("does not contain the expected text \"{text}\""))
            }
        }
    }
}

impl BindingView {
    /// Returns what the platform says of a binding besides.
    pub fn reply(&self) -> Option<&PlatformReply> {
        match self {
            BindingView::Present { reply, .. } => reply.as_deref(),
            _ => None,
        }
    }
}

/// How far a client gets, up to the first thing that fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum ClientOutcome {
    /// The resolver returns no address.
    Unresolved {
        /// What it returns instead.
        why: Unresolved,
        /// For how many seconds the resolver may keep that answer.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        for_secs: Option<u32>,
    },
    /// The resolver returns addresses that are not the endpoint's: an earlier answer that it keeps,
    /// or records of someone else.
    Elsewhere {
        /// The first of them that is not the endpoint's.
        address: IpAddr,
        /// For how many seconds the resolver may keep that answer.
        for_secs: u32,
    },
    /// No connection, or no TLS.
    NotConnected {
        /// The address that was tried.
        address: SocketAddr,
        /// Why.
        why: Unreachable,
    },
    /// A certificate that does not verify.
    Unverified {
        /// The address.
        address: SocketAddr,
        /// Of the leaf, where one was served.
        sha256: Option<Fingerprint>,
        /// Why.
        why: Untrusted,
    },
    /// An HTTP answer over verified TLS.
    Answered {
        /// The address.
        address: SocketAddr,
        /// Of the leaf.
        sha256: Fingerprint,
        /// The HTTP status.
        status: u16,
        /// The `Location` header.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        location: Option<String>,
        /// What was looked for in the body.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        body: Option<BodyView>,
        /// How sample requests to single routes were answered.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        samples: Vec<SampleAnswer>,
    },
    /// TLS was verified, but no HTTP answer came.
    NoAnswer {
        /// The address.
        address: SocketAddr,
        /// Of the leaf.
        sha256: Fingerprint,
        /// Why.
        why: Unreachable,
    },
}

/// What was looked for in the body of an answer. The body itself is not kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct BodyView {
    /// The text that was looked for.
    pub text: String,
    /// Whether the part of the body that was read contains it.
    pub found: bool,
}

impl BodyView {
    /// Looks for `text` in `body`.
    pub fn look(body: &[u8], text: &str) -> BodyView {
        let found = text.is_empty() || body.windows(text.len()).any(|window| window == text.as_bytes());
        BodyView { text: text.to_owned(), found }
    }
}

/// All that was seen of one hostname itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostnameFacts {
    /// What each endpoint knows of it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub bindings: BTreeMap<EndpointKey, Fact<BindingView>>,
    /// What the zone's servers give.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alias: Option<Fact<AliasView>>,
    /// What clients get.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<Fact<AnswerView>>,
}

impl HostnameFacts {
    /// Takes over what was seen later.
    pub fn take_later(&mut self, other: HostnameFacts) {
        let HostnameFacts { bindings, alias, answer } = other;
        for (key, fact) in bindings {
            if self.bindings.get(&key).is_none_or(|own| own.seen < fact.seen) {
                self.bindings.insert(key, fact);
            }
        }
        take_later(&mut self.alias, alias);
        take_later(&mut self.answer, answer);
    }

    /// Takes over what the zone's servers gave where that was seen later.
    pub fn take_later_alias(&mut self, other: Option<Fact<AliasView>>) {
        take_later(&mut self.alias, other);
    }
}

fn take_later<T>(own: &mut Option<Fact<T>>, other: Option<Fact<T>>) {
    if let Some(other) = other
        && own.as_ref().is_none_or(|own| own.seen < other.seen)
    {
        *own = Some(other);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + secs).unwrap()
    }

    #[test]
    fn what_was_seen_is_fresh_for_less_than_the_age_allowed() {
        // Its age and the age allowed, in seconds.
        for (age, allowed, fresh) in [(0, 1, true), (59, 60, true), (60, 60, false), (0, 0, false), (7, 0, false)] {
            assert_eq!(is_fresh(at(0), at(age), allowed), fresh, "{age} s old, {allowed} s allowed");
        }
        assert!(!is_fresh(at(10), at(0), 60), "a clock that was set back makes nothing fresh");
        assert!(!is_fresh(Timestamp::MIN, Timestamp::MAX, 60) && !is_fresh(Timestamp::MAX, Timestamp::MIN, u64::MAX));
    }
}
