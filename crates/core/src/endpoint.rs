//! Endpoints and bindings, as the endpoint protocol (`docs/endpoint-protocol.md`)
//! describes them.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::name::{DnsName, Hostname};
use crate::records::{RecordData, RecordSet};
use crate::values::Fingerprint;

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
}

impl EndpointInfo {
    /// Says whether some alias records lead to it.
    pub fn is_led_to(&self, sets: &[RecordSet]) -> bool {
        sets.iter().flat_map(RecordSet::data).any(|data| match data {
            RecordData::Cname(target) => Some(target) == self.default_name.as_ref(),
            RecordData::A(address) => self.addresses.contains(&IpAddr::V4(*address)),
            RecordData::Aaaa(address) => self.addresses.contains(&IpAddr::V6(*address)),
            _ => false,
        })
    }
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

/// An endpoint's knowledge of a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Binding {
    /// The certificate in the site's store.
    pub certificate: Fingerprint,
    /// The routes, in the manifest's order.
    #[serde(default)]
    pub routes: Vec<Route>,
    /// The primary name that every request is redirected to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub redirect_to: Option<Hostname>,
    /// The lowest TLS version for clients.
    pub minimum_tls: TlsVersion,
}

/// How far the platform has got with a binding.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "state")]
pub enum Deployment {
    /// Not yet in force everywhere.
    Deploying,
    /// In force.
    Deployed,
    /// Given up by the platform.
    Failed {
        /// What the platform says about it.
        #[serde(default)]
        reason: String,
    },
}
