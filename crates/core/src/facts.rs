//! What drivers saw in the world, and when.
//!
//! A fact is raw: it says what answered what, not whether that is right. Judging is
//! done in [`crate::pins`], so that the same fact is judged anew when the manifest
//! changes.

use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::endpoint::{Binding, Deployment, EndpointInfo};
use crate::name::{DnsName, Hostname};
use crate::records::RecordSet;
use crate::renewal::{RenewalRule, RenewalWindow, due_at};
use crate::values::{Fingerprint, KeyKind, Serial};

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

/// Why something could not be looked at; a part of a sentence such as
/// "connection refused".
pub type Unreachable = String;

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
    /// What it says about the zone.
    pub says: ServerSays,
}

/// What an authoritative server says about its zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum ServerSays {
    /// It serves the zone.
    Serves {
        /// The SOA's serial.
        serial: Serial,
        /// The NS names, sorted.
        name_servers: Vec<DnsName>,
    },
    /// It answers, but not with authority.
    Lame {
        /// The response code, or that the answer was no authoritative one.
        how: String,
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
    Listed(EndpointInfo),
    /// The platform does not have it.
    NotListed {
        /// The ids that it has, at most twenty.
        known: Vec<String>,
    },
    /// The platform takes no request with this token.
    Refused {
        /// What it said.
        why: String,
    },
    /// The platform does not answer.
    Unreachable {
        /// Why.
        why: Unreachable,
    },
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
    },
    /// No TLS connection came about.
    Nothing {
        /// Why.
        why: String,
    },
    /// Nobody has tried.
    NotTried,
}

/// The address and alias records of a hostname on each authoritative server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AliasView {
    /// Each server with what it gives, the one for updates first.
    pub servers: Vec<ServerRecords>,
}

/// What one server gives for a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ServerRecords {
    /// Its address.
    pub server: SocketAddr,
    /// The sets, or why there is no answer.
    pub gives: Result<Vec<RecordSet>, Unreachable>,
}

/// What one resolver after the other leads a client to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AnswerView {
    /// One for each resolver.
    pub through: Vec<ResolverAnswer>,
}

/// What a client that uses one resolver meets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResolverAnswer {
    /// The resolver.
    pub resolver: SocketAddr,
    /// What came of it.
    pub met: Met,
}

/// What a client meets, up to the first thing that fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Met {
    /// The resolver gives no address.
    Unresolved {
        /// The response code, or that there is no address.
        why: String,
        /// For how many seconds the resolver may go on saying so.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        for_secs: Option<u32>,
    },
    /// No connection, or no TLS.
    NotConnected {
        /// The address that was tried.
        address: SocketAddr,
        /// Why.
        why: String,
    },
    /// A certificate that does not verify.
    Unverified {
        /// The address.
        address: SocketAddr,
        /// Of the leaf, where one was served.
        sha256: Option<Fingerprint>,
        /// Why.
        why: String,
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
        /// Whether the body holds the expected text; `None` when none is expected.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        body_as_expected: Option<bool>,
    },
    /// TLS was verified, but no HTTP answer came.
    NoAnswer {
        /// The address.
        address: SocketAddr,
        /// Of the leaf.
        sha256: Fingerprint,
        /// Why.
        why: String,
    },
}

/// All that was seen of one hostname itself.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostnameFacts {
    /// What the endpoint knows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub binding: Option<Fact<BindingView>>,
    /// What the zone's servers give.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub alias: Option<Fact<AliasView>>,
    /// What clients meet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub answer: Option<Fact<AnswerView>>,
}

/// What Pindrel made for a hostname, and so may change again.
///
/// An intention is kept before anything is written and becomes what was made once it
/// is verified, so that a run which was stopped in between knows its own work again.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ours {
    /// The alias records as Pindrel last wrote them; empty when it wrote none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alias: Vec<RecordSet>,
    /// The alias records that Pindrel is about to write.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alias_intended: Vec<RecordSet>,
    /// Whether Pindrel made the binding.
    #[serde(default)]
    pub binding: bool,
    /// The binding that Pindrel is about to write.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub binding_intended: Option<Binding>,
}

impl Ours {
    /// Says whether Pindrel made these alias records.
    pub fn made_alias(&self, sets: &[RecordSet]) -> bool {
        let is = |own: &[RecordSet]| !own.is_empty() && crate::records::same_data(own, sets);
        is(&self.alias) || is(&self.alias_intended)
    }

    /// Says whether Pindrel made this binding.
    pub fn made_binding(&self, binding: &Binding) -> bool {
        self.binding || self.binding_intended.as_ref() == Some(binding)
    }
}

/// Who issues a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// An authority, over ACME.
    #[default]
    Authority,
    /// Somebody else: it is bought, and brought in.
    Elsewhere,
    /// Nobody: it is self-signed, for a first bring-up.
    #[serde(rename = "self")]
    SelfSigned,
}

impl Origin {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Origin::Authority => "authority",
            Origin::Elsewhere => "elsewhere",
            Origin::SelfSigned => "self",
        }
    }
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for Origin {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all = [Origin::Authority, Origin::Elsewhere, Origin::SelfSigned];
        let found = all.into_iter().find(|origin| origin.as_str() == text);
        found.ok_or_else(|| format!("\"{text}\" issues no certificates"))
    }
}

/// Why a certificate is replaced whose key must not be used again.
pub const KEY_COMPROMISED: &str = "its key was compromised";

/// A certificate that Pindrel holds the key of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The names it covers.
    pub names: Vec<Hostname>,
    /// Who issued it.
    pub origin: Origin,
    /// The directory URL of the authority that issued it; empty for any other origin.
    pub authority: String,
    /// The kind of its key; `None` for a bought one of another kind.
    pub key: Option<KeyKind>,
    /// From when it is valid.
    pub not_before: Timestamp,
    /// Until when it is valid.
    pub not_after: Timestamp,
    /// The name by which its authority gives renewal information (RFC 9773 §4.1).
    pub renewal_id: Option<String>,
    /// What the authority advised last.
    pub window: Option<RenewalWindow>,
    /// Why it is to be replaced at once: it was revoked, or somebody asked for it.
    pub replace: Option<String>,
}

impl HeldCertificate {
    /// Returns when it is due.
    pub fn due_at(&self, rule: RenewalRule) -> Timestamp {
        match self.replace {
            Some(_) => self.not_before,
            None => due_at(self.sha256, self.not_before, self.not_after, self.window.as_ref(), rule),
        }
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

    #[test]
    fn a_certificate_that_is_to_be_replaced_is_due_from_its_start() {
        let mut held = HeldCertificate {
            sha256: Fingerprint::from_digest([7; 32]),
            names: vec!["api.larkfield.example".parse().unwrap()],
            origin: Origin::Authority,
            authority: "https://127.0.0.1:4430/directory".into(),
            key: Some(KeyKind::default()),
            not_before: at(0),
            not_after: at(90 * 86_400),
            renewal_id: None,
            window: None,
            replace: None,
        };
        let due = held.due_at(RenewalRule::Before(std::time::Duration::from_secs(30 * 86_400)));
        assert!((at(59 * 86_400)..=at(60 * 86_400)).contains(&due), "{due}");
        held.replace = Some(KEY_COMPROMISED.into());
        assert_eq!(held.due_at(RenewalRule::Share), at(0));
    }

    #[test]
    fn the_words_for_who_issues_are_read_as_they_are_written() {
        for origin in [Origin::Authority, Origin::Elsewhere, Origin::SelfSigned] {
            assert_eq!(origin.to_string().parse(), Ok(origin));
        }
        assert!("nobody".parse::<Origin>().is_err());
    }
}
