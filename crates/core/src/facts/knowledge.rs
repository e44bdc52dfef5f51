//! All that one pass knows of the world: what pins are judged by and plans are made of.

use std::collections::{HashMap, HashSet};

use super::{EndpointView, Fact, HeldCertificate, HostnameFacts, Ownership, ZoneView};
use crate::delivery::Undelivered;
use crate::desired::{AuthorityId, CertificateId, EndpointId, HostnameId, ZoneId};
use crate::findings::Finding;
use crate::name::{DnsName, Hostname};

/// What is known of one hostname itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HostnameKnowledge {
    /// What was seen.
    pub facts: HostnameFacts,
    /// What Pindrel wrote.
    pub ownership: Ownership,
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
    pub holds: HashMap<CertificateId, (jiff::Timestamp, Finding)>,
    /// Where challenge records belong, by the challenge name.
    pub challenge_targets: HashMap<DnsName, ChallengeTarget>,
    /// The hostnames that are being taken away.
    pub retiring: Vec<Retiring>,
}

impl Knowledge {
    /// Returns a hostname that is being taken away.
    pub fn retiring(&self, id: RetiringId) -> &Retiring {
        &self.retiring[id.0 as usize]
    }

    /// Returns the certificate that is held, if any is known.
    pub fn certificate(&self, id: CertificateId) -> Option<&HeldCertificate> {
        self.certificates.get(&id)?.as_ref()
    }
}
