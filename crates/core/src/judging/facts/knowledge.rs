//! All that one pass knows of the world: what pins are judged by and plans are made of.

use std::collections::{HashMap, HashSet};

use jiff::Timestamp;

use super::{EndpointView, Fact, HeldCertificate, HostnameFacts, Ownership, ZoneView};
use crate::certificates::delivery::Undelivered;
use crate::desired::{AuthorityId, CertificateId, CheckId, EndpointId, HostnameId, ZoneId};
use crate::endpoints::endpoint::EndpointInfo;
use crate::health::policy::Choice;
use crate::health::{CheckRecord, Verdict};
use crate::judging::findings::Finding;
use crate::names::name::{DnsName, Hostname};

/// What is known of one hostname itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostnameKnowledge {
    /// What was seen.
    pub facts: HostnameFacts,
    /// What Pindrel wrote.
    pub ownership: Ownership,
}

impl HostnameKnowledge {
    /// Takes over what is stored by now: what was written, and what was seen later.
    pub fn catch_up(&mut self, stored: HostnameKnowledge) {
        self.ownership = stored.ownership;
        self.facts.take_later(stored.facts);
    }
}

/// A place in [`Knowledge::retiring`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RetiringId(pub u32);

/// A hostname that the manifest no longer names and that is being taken away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Retiring {
    /// The hostname.
    pub hostname: Hostname,
    /// The zone of the manifest that it lies in, if any.
    pub zone: Option<ZoneId>,
    /// What is known of it.
    pub known: HostnameKnowledge,
}

/// Where the challenge record of a name belongs (RFC 8555 §8.4; a CNAME at
/// `_acme-challenge` delegates it).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChallengeTarget {
    /// The name at the end of all aliases.
    pub owner: DnsName,
    /// The zone that it lies in.
    pub zone: ZoneId,
}

/// All that is known, by what it is about. What is missing has not been looked at.
#[derive(Debug, Clone, Default)]
pub struct Knowledge {
    /// What was seen of each zone.
    pub zones: HashMap<ZoneId, Fact<ZoneView>>,
    /// What was seen of each endpoint.
    pub endpoints: HashMap<EndpointId, Fact<EndpointView>>,
    /// The certificates; `None` where it is known that there is none.
    pub certificates: HashMap<CertificateId, Option<HeldCertificate>>,
    /// What is still to be done for each certificate outside of Pindrel.
    pub undelivered: HashMap<CertificateId, Undelivered>,
    /// What was seen of each hostname.
    pub hostnames: HashMap<HostnameId, HostnameKnowledge>,
    /// The authorities where an account is open.
    pub accounts: HashSet<AuthorityId>,
    /// For each certificate whose set-up is not proven yet, the one of the same set-up that
    /// proves it for all.
    pub unproven: HashMap<CertificateId, CertificateId>,
    /// Until when an authority takes no order for a certificate, and what it said.
    pub holds: HashMap<CertificateId, (Timestamp, Finding)>,
    /// Where challenge records belong, by the challenge name.
    pub challenge_targets: HashMap<DnsName, ChallengeTarget>,
    /// The hostnames that are being taken away.
    pub retiring: Vec<Retiring>,
    /// What the alias of each hostname with several endpoints should give, as was decided last.
    pub choices: HashMap<HostnameId, Choice>,
    /// What was concluded about each health check.
    pub verdicts: HashMap<CheckId, CheckRecord>,
    /// The endpoints that somebody has taken out of answers.
    pub drained: HashMap<EndpointId, Drained>,
}

/// That somebody has taken an endpoint out of answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drained {
    /// Until when; until it is released where nobody said.
    pub until: Option<Timestamp>,
    /// Why.
    pub because: String,
}

impl Knowledge {
    /// Returns a hostname that is being taken away.
    pub fn retiring(&self, id: RetiringId) -> &Retiring {
        &self.retiring[id.0 as usize]
    }

    /// Returns what a platform lists of an endpoint, or did before it stopped answering.
    pub fn endpoint_info(&self, id: EndpointId) -> Option<&EndpointInfo> {
        self.endpoints.get(&id)?.value.info()
    }

    /// Returns the verdict of a check.
    pub fn verdict(&self, id: CheckId) -> Verdict {
        self.verdicts.get(&id).map_or(Verdict::Unknown, |record| record.verdict)
    }

    /// Says whether somebody has taken an endpoint out of answers.
    pub fn is_drained(&self, id: EndpointId, now: Timestamp) -> bool {
        self.drained.get(&id).is_some_and(|held| held.until.is_none_or(|until| now < until))
    }

    /// Returns the certificate that is held, if any is known.
    pub fn certificate(&self, id: CertificateId) -> Option<&HeldCertificate> {
        self.certificates.get(&id)?.as_ref()
    }
}
