//! Endpoints and bindings, as the endpoint protocol (`docs/endpoint-protocol.md`)
//! describes them.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize};

use crate::names::name::DnsName;
use crate::zones::records::{RecordData, RecordSet};

mod binding;

pub use binding::{
    AskedRecord, AskedType, Binding, ClientCertificates, ClientNeed, Deployment, IssuedCertificate, KeepRecord,
    OriginConnection, OriginScheme, PlatformReply,
};

/// What an endpoint is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum EndpointKind {
    /// An API gateway.
    Gateway,
    /// A CDN distribution.
    Distribution,
    /// A load-balanced endpoint.
    Balancer,
}

impl fmt::Display for EndpointKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            EndpointKind::Gateway => "gateway",
            EndpointKind::Distribution => "distribution",
            EndpointKind::Balancer => "balancer",
        })
    }
}

impl FromStr for EndpointKind {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "gateway" => Ok(EndpointKind::Gateway),
            "distribution" => Ok(EndpointKind::Distribution),
            "balancer" => Ok(EndpointKind::Balancer),
            _ => Err(format!("\"{text}\" is not a kind of endpoint")),
        }
    }
}

/// A path prefix of a hostname and the service behind it.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Route {
    /// The path prefix, with its slash.
    pub prefix: String,
    /// The service that answers there.
    pub service: String,
    /// The release of it; the platform's default when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<String>,
}

impl Route {
    /// Says whether its prefix lies under another one.
    pub fn is_under(&self, prefix: &str) -> bool {
        is_under(&self.prefix, prefix)
    }
}

/// Says whether a path lies under a prefix, which ends where a segment of the path does. Of several, the
/// longest decides.
pub fn is_under(path: &str, prefix: &str) -> bool {
    let path = path.split('?').next().unwrap_or(path);
    let rest = path.strip_prefix(prefix.trim_end_matches('/'));
    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// The lowest TLS version that a binding accepts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum TlsVersion {
    #[serde(rename = "1.2")]
    V1_2,
    #[serde(rename = "1.3")]
    V1_3,
}

impl TlsVersion {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            TlsVersion::V1_2 => "1.2",
            TlsVersion::V1_3 => "1.3",
        }
    }
}

impl FromStr for TlsVersion {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "1.2" => Ok(TlsVersion::V1_2),
            "1.3" => Ok(TlsVersion::V1_3),
            _ => Err(format!("\"{text}\" is not a supported TLS version")),
        }
    }
}

/// An endpoint as its platform lists it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EndpointInfo {
    /// The platform's id.
    pub id: String,
    /// What it is.
    pub kind: EndpointKind,
    /// Where it runs.
    pub site: String,
    /// The generated name that aliases point at; without one they are its addresses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default_name: Option<DnsName>,
    /// Its addresses, for a flattened apex and for direct connections.
    pub addresses: Vec<IpAddr>,
    /// The port that it serves TLS on.
    #[serde(default = "https_port")]
    pub port: u16,
    /// The site whose certificate store it takes certificates from.
    pub certificate_site: String,
    /// Whether it takes custom hostnames, and if not, why.
    #[serde(default)]
    pub custom_hostnames: CustomHostnames,
    /// How much of what is bounded is used there.
    #[serde(default, skip_serializing_if = "Quotas::is_empty")]
    pub quotas: Quotas,
    /// What it can do beyond the least, and what it cannot.
    #[serde(default, skip_serializing_if = "Offers::is_usual")]
    pub offers: Offers,
    /// Whether each hostname gets a target of its own, which is known once it is bound.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own_targets: bool,
    /// Whether it binds a hostname only once its alias leads there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub alias_first: bool,
    /// Where its default name leads clients; `None` where no resolver says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub leads: Option<NameLeads>,
    /// How long a binding takes as a rule until it is in force, in seconds, where the platform says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deploys_in_seconds: Option<u32>,
}

/// Where a name leads clients.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NameLeads {
    /// To these addresses.
    To(Vec<IpAddr>),
    /// To none: it has no address, or does not exist at all.
    Nowhere {
        /// Whether it exists.
        exists: bool,
    },
}

/// What an endpoint can do for a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Offers {
    /// Routes to several services.
    pub routes: bool,
    /// Redirects to another hostname.
    pub redirects: bool,
    /// The TLS versions that can be the lowest; those that are not known here are left out.
    #[serde(deserialize_with = "known_versions")]
    pub minimum_tls: Vec<TlsVersion>,
    /// Clients are asked for certificates.
    pub client_certificates: bool,
    /// A default document, and how it speaks to its origin.
    pub origin: bool,
    /// It issues certificates itself.
    pub issued_certificates: bool,
}

impl Default for Offers {
    fn default() -> Self {
        Offers {
            routes: true,
            redirects: true,
            minimum_tls: vec![TlsVersion::V1_2, TlsVersion::V1_3],
            client_certificates: false,
            origin: false,
            issued_certificates: false,
        }
    }
}

impl Offers {
    fn is_usual(&self) -> bool {
        *self == Offers::default()
    }

    /// Returns what a binding asks for that is not offered, as the end of "it does not offer".
    pub fn lacking(&self, binding: &Binding) -> Option<String> {
        let lacks = [
            (!self.routes && !binding.routes.is_empty(), "routes"),
            (!self.redirects && binding.redirect_to.is_some(), "redirects"),
            (!self.client_certificates && binding.client_certificates.is_some(), "client certificates"),
            (!self.origin && binding.default_document.is_some(), "a default document"),
            (!self.origin && binding.origin.is_some(), "settings for its origin"),
            (!self.issued_certificates && binding.certificate.is_none(), "certificates that it issues itself"),
        ];
        let lacked = lacks.into_iter().find_map(|(lacks, what)| lacks.then(|| what.to_owned()));
        let version = binding.minimum_tls;
        let tls = || {
            (!self.minimum_tls.contains(&version)).then(|| format!("TLS {} as the lowest version", version.as_str()))
        };
        lacked.or_else(tls)
    }
}

impl EndpointInfo {
    /// Returns an endpoint of which nothing special is said, with a certificate store of its own site.
    pub fn plain(id: &str, kind: EndpointKind, site: &str, addresses: Vec<IpAddr>) -> EndpointInfo {
        EndpointInfo {
            id: id.to_owned(),
            kind,
            site: site.to_owned(),
            default_name: None,
            addresses,
            port: https_port(),
            certificate_site: site.to_owned(),
            custom_hostnames: CustomHostnames::default(),
            quotas: Quotas::default(),
            offers: Offers::default(),
            own_targets: false,
            alias_first: false,
            leads: None,
            deploys_in_seconds: None,
        }
    }

    /// Returns the addresses that its default name leads to, as far as a resolver says.
    pub fn led_to(&self) -> &[IpAddr] {
        match &self.leads {
            Some(NameLeads::To(addresses)) => addresses,
            _ => &[],
        }
    }

    /// Returns those of them that are not listed.
    pub fn led_beside(&self) -> impl Iterator<Item = IpAddr> {
        self.led_to().iter().copied().filter(|address| !self.addresses.contains(address))
    }

    /// Returns what it can do beyond the usual, and what it cannot, in words.
    pub fn particulars(&self) -> Vec<&'static str> {
        let Offers { routes, redirects, minimum_tls, client_certificates, origin, issued_certificates } = &self.offers;
        let all = [
            (!routes, "no routes"),
            (!redirects, "no redirects"),
            (!minimum_tls.contains(&TlsVersion::V1_3), "no TLS 1.3 alone"),
            (*client_certificates, "client certificates"),
            (*origin, "origin settings"),
            (*issued_certificates, "issues certificates"),
            (self.own_targets, "a target for each hostname"),
            (self.alias_first, "wants the alias first"),
        ];
        all.into_iter().filter_map(|(holds, word)| holds.then_some(word)).collect()
    }

    /// Says whether some alias records lead to it; `target` is the name that the hostname has of its own there.
    pub fn is_led_to(&self, sets: &[RecordSet], target: Option<&DnsName>) -> bool {
        sets.iter().flat_map(RecordSet::data).any(|data| match data {
            RecordData::Cname(name) | RecordData::Alias(name) | RecordData::HttpsAlias(name) => {
                [self.default_name.as_ref(), target].contains(&Some(name))
            }
            data => data.address().is_some_and(|address| self.addresses.contains(&address)),
        })
    }
}

fn known_versions<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<TlsVersion>, D::Error> {
    let words = Vec::<String>::deserialize(deserializer)?;
    Ok(words.iter().filter_map(|word| word.parse().ok()).collect())
}

/// What a platform bounds at an endpoint, as far as it says.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quotas {
    /// Custom hostnames bound there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hostnames: Option<Quota>,
    /// Certificates in the store that it takes certificates from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificates: Option<Quota>,
}

impl Quotas {
    fn is_empty(&self) -> bool {
        *self == Quotas::default()
    }
}

/// How many of something there are, and may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Quota {
    /// How many there are.
    pub used: u64,
    /// How many there may be.
    pub most: u64,
}

impl Quota {
    /// Says whether one more is refused.
    pub fn is_reached(self) -> bool {
        self.used >= self.most
    }
}

/// Whether an endpoint takes custom hostnames.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CustomHostnames {
    /// Whether it does.
    pub allowed: bool,
    /// Why not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

impl Default for CustomHostnames {
    fn default() -> Self {
        CustomHostnames { allowed: true, reason: None }
    }
}

fn https_port() -> u16 {
    443
}
