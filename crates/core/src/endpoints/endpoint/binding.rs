//! Bindings: what an endpoint is given for a hostname, and what its platform says of it.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use serde::{Deserialize, Deserializer, Serialize};

use super::{Route, TlsVersion};
use crate::names::name::{DnsName, Hostname};
use crate::values::{Fingerprint, Ttl};
use crate::zones::records::{RecordData, ZoneRecord};

/// An endpoint's knowledge of a hostname.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Binding {
    /// The certificate in the site's store; none where the platform issues it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<Fingerprint>,
    /// The routes, in the manifest's order.
    #[serde(default, deserialize_with = "null_as_empty")]
    pub routes: Vec<Route>,
    /// The primary name that every request is redirected to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub redirect_to: Option<Hostname>,
    /// The lowest TLS version for clients.
    pub minimum_tls: TlsVersion,
    /// What clients must show.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client_certificates: Option<Box<ClientCertificates>>,
    /// What is served for the root, such as `index.html`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default_document: Option<String>,
    /// How the endpoint speaks to its origin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<Box<OriginConnection>>,
}

impl Binding {
    /// Returns a binding of which nothing special is wanted.
    pub fn plain(certificate: Option<Fingerprint>) -> Binding {
        Binding {
            certificate,
            routes: Vec::new(),
            redirect_to: None,
            minimum_tls: TlsVersion::V1_2,
            client_certificates: None,
            default_document: None,
            origin: None,
        }
    }

    /// Returns the certificate in words, for a line of text.
    pub fn certificate_in_words(&self) -> String {
        self.certificate.map_or_else(
            || "a certificate of the platform".to_owned(),
            |sha256| format!("certificate {}…", sha256.short()),
        )
    }
}

/// Client certificates that a hostname asks for (RFC 8446 §4.3.2).
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct ClientCertificates {
    /// The trust bundle where they must end: SHA-256 of its PEM text.
    pub roots: Fingerprint,
    /// Whether a client without one is refused.
    pub need: ClientNeed,
}

/// Whether a client must show a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ClientNeed {
    /// A client without one is served all the same.
    Optional,
    /// A client without one is refused.
    Required,
}

impl ClientNeed {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            ClientNeed::Optional => "optional",
            ClientNeed::Required => "required",
        }
    }
}

impl FromStr for ClientNeed {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "optional" => Ok(ClientNeed::Optional),
            "required" => Ok(ClientNeed::Required),
            _ => Err(format!("\"{text}\" is neither \"required\" nor \"optional\"")),
        }
    }
}

/// How an endpoint speaks to its origin.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct OriginConnection {
    /// Over HTTP or HTTPS.
    pub scheme: OriginScheme,
    /// Whether its certificate is verified.
    pub verify: bool,
    /// The name that is verified and sent as SNI; the origin's own unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_name: Option<Hostname>,
}

/// The scheme of an origin's URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum OriginScheme {
    Http,
    Https,
}

impl OriginScheme {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            OriginScheme::Http => "http",
            OriginScheme::Https => "https",
        }
    }
}

impl FromStr for OriginScheme {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "http" => Ok(OriginScheme::Http),
            "https" => Ok(OriginScheme::Https),
            _ => Err(format!("\"{text}\" is neither \"http\" nor \"https\"")),
        }
    }
}

/// What a platform says of a binding besides what it was given.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlatformReply {
    /// The name that this hostname's alias points at, where it has one of its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<DnsName>,
    /// The records that it asks for: to prove whose the hostname is, or to validate a certificate.
    #[serde(default, deserialize_with = "null_as_empty", skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<AskedRecord>,
    /// The certificate that it has issued.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub issued: Option<IssuedCertificate>,
}

impl PlatformReply {
    /// Returns it as it is kept; `None` where it says nothing.
    pub fn told(&self) -> Option<Box<PlatformReply>> {
        (*self != PlatformReply::default()).then(|| Box::new(self.clone()))
    }
}

/// What is written as null is as good as absent.
fn null_as_empty<'de, D: Deserializer<'de>, T: Deserialize<'de>>(deserializer: D) -> Result<Vec<T>, D::Error> {
    Ok(Option::deserialize(deserializer)?.unwrap_or_default())
}

/// A record that a platform asks for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct AskedRecord {
    /// Its name.
    pub name: DnsName,
    /// Its type.
    #[serde(rename = "type")]
    pub record_type: AskedType,
    /// What it holds: the text of a TXT record, the target of a CNAME.
    pub value: String,
    /// How long it is needed.
    #[serde(default)]
    pub keep: KeepRecord,
}

/// The type of a record that a platform may ask for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum AskedType {
    Txt,
    Cname,
}

/// How long a platform needs a record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum KeepRecord {
    /// Until the binding is deployed.
    UntilDeployed,
    /// As long as the hostname is bound: it validates by it again.
    #[default]
    WhileBound,
}

/// The most characters of a TXT record that a platform asks for.
const LONGEST_TEXT: usize = 2_000;

impl fmt::Display for AskedType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            AskedType::Txt => "TXT",
            AskedType::Cname => "CNAME",
        })
    }
}

impl AskedRecord {
    /// Returns it as a record of a zone; `None` where its value is none of that type.
    pub fn record(&self) -> Option<ZoneRecord> {
        let data = match self.record_type {
            AskedType::Txt => {
                let fits = self.value.len() <= LONGEST_TEXT && !self.value.chars().any(char::is_control);
                RecordData::Txt(fits.then(|| self.value.clone())?)
            }
            AskedType::Cname => RecordData::Cname(self.value.parse().ok()?),
        };
        Some(ZoneRecord { owner: self.name.clone(), ttl: Ttl::MINUTE, data })
    }
}

/// A certificate that a platform has issued.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IssuedCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// Until when it is valid.
    pub not_after: Timestamp,
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
