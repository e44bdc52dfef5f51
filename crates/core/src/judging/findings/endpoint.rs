//! What can be wrong with an endpoint, whatever hostname is bound there.

use serde::{Deserialize, Serialize};

use super::subject::Naming;
use super::words::{Words, listed};
use super::{Code, Judged};
use crate::desired::{Endpoint, EndpointDriver, ProgramPlatform};
use crate::endpoints::endpoint::EndpointKind;
use crate::endpoints::unready::Unready;
use crate::judging::facts::Unreachable;
use crate::judging::pin::Pin;
use crate::names::name::{DnsName, Hostname};

/// What is wrong with an endpoint.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EndpointCause {
    /// It accepts no custom hostnames.
    CustomHostnamesRefused {
        /// Why, as its platform says.
        reason: Option<String>,
    },
    /// Its platform lists no such endpoint.
    NotListed {
        /// The platform.
        platform: String,
        /// The id in the manifest.
        id: String,
        /// The ids that it lists, as far as they are known.
        known: Vec<String>,
    },
    /// The platform does not accept the token.
    TokenRefused {
        /// The platform.
        platform: String,
        /// The HTTP status.
        status: u16,
        /// What it said.
        said: String,
        /// Where the token is.
        token: TokenPlace,
    },
    /// The platform does not answer.
    PlatformUnreachable {
        /// The platform.
        platform: String,
        /// Why.
        why: Unreachable,
        /// How it is spoken to.
        by: Carrier,
    },
    /// Its platform was not asked, since something on this machine is missing.
    NotAsked {
        /// What is missing, in one sentence.
        why: String,
    },
    /// Its default name, which aliases point at, leads nowhere.
    NameLeadsNowhere {
        /// The name.
        name: DnsName,
        /// Whether it exists, without an address.
        exists: bool,
    },
    /// The manifest has no endpoint of that name.
    NotInManifest {
        /// Those that it has.
        known: Vec<String>,
    },
    /// The token may do more than is needed.
    TokenTooWide {
        /// What it may do, as in `may bind at every endpoint of the platform`.
        may: String,
    },
    /// Its server, on this machine, is not ready.
    Unready(Unready),
    /// Its platform calls it otherwise than the manifest does.
    KindDiffers {
        /// What the manifest says that it is.
        manifest: EndpointKind,
        /// What the platform says.
        platform: EndpointKind,
    },
    /// It does not speak the endpoint protocol, which is to be tried.
    NoProtocol,
    /// A hostname with which it is to be tried is bound there.
    TrialBound {
        /// The hostname.
        hostname: Hostname,
    },
}

/// Where the token of a platform is.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TokenPlace {
    /// Where the manifest says.
    Secret(String),
    /// With the program that speaks for the platform.
    Program,
    /// Nowhere: the endpoint is configured on this machine.
    None,
}

impl From<&EndpointDriver> for TokenPlace {
    fn from(driver: &EndpointDriver) -> TokenPlace {
        match driver {
            EndpointDriver::Http(http) => TokenPlace::Secret(http.token.to_string()),
            EndpointDriver::Program(ProgramPlatform { token: Some(token), .. }) => {
                TokenPlace::Secret(token.to_string())
            }
            EndpointDriver::Program(_) => TokenPlace::Program,
            _ => TokenPlace::None,
        }
    }
}

/// How a platform is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Carrier {
    /// By its socket.
    Socket,
    /// By a program.
    Program,
    /// By its folder.
    Folder,
    /// By its URL.
    Url,
}

impl EndpointCause {
    /// Says that the platform of an endpoint does not answer.
    pub fn unreachable(endpoint: &Endpoint, why: &Unreachable) -> EndpointCause {
        if let Unreachable::NotAsked { detail } = why {
            return EndpointCause::NotAsked { why: detail.clone() };
        }
        let by = match &endpoint.driver {
            EndpointDriver::Haproxy(_) => Carrier::Socket,
            EndpointDriver::Program(_) => Carrier::Program,
            EndpointDriver::Nginx(_) => Carrier::Folder,
            _ => Carrier::Url,
        };
        EndpointCause::PlatformUnreachable { platform: endpoint.platform(), why: why.clone(), by }
    }

    pub(super) fn judged(&self) -> Judged {
        Judged::of(match self {
            EndpointCause::CustomHostnamesRefused { .. } => Code::CustomHostnamesRefused,
            EndpointCause::NotListed { .. } | EndpointCause::NotInManifest { .. } => Code::EndpointUnknown,
            EndpointCause::TokenRefused { .. } | EndpointCause::NoProtocol | EndpointCause::TrialBound { .. } => {
                Code::PlatformRefuses
            }
            EndpointCause::PlatformUnreachable { .. } => Code::PlatformUnreachable,
            EndpointCause::NotAsked { .. } => Code::SecretUnreadable,
            EndpointCause::NameLeadsNowhere { .. } => Code::DefaultNameDangling,
            EndpointCause::TokenTooWide { .. } => Code::RightsTooWide,
            EndpointCause::KindDiffers { .. } => Code::KindDiffers,
            EndpointCause::Unready(_) => Code::EndpointUnready,
        })
        .on(Pin::Binding)
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let name = naming.endpoint();
        match self {
            EndpointCause::CustomHostnamesRefused { reason } => {
                let reason = reason.as_deref().unwrap_or("its platform states no reason");
                Words::new(
                    format!("the endpoint {name} does not accept custom hostnames: {reason}"),
                    "Change the plan or the settings of the endpoint, or choose another endpoint",
                )
            }
            EndpointCause::NotListed { platform, id, known } => {
                let known = if known.is_empty() { String::new() } else { format!(": {}", listed(known)) };
                Words::new(
                    format!("the platform at {platform} has no endpoint \"{id}\""),
                    format!("Set the id of [endpoint.{}] to one that the platform lists{known}", name.typed()),
                )
            }
            EndpointCause::NotAsked { why } => Words::new(
                format!("the endpoint {name} was not looked at: {why}"),
                "Put the secret or the file where the manifest says",
            ),
            EndpointCause::TokenRefused { platform, status, said, token } => {
                let remedy = match token {
                    TokenPlace::Secret(place) => format!("Put a valid token at {place}"),
                    TokenPlace::Program => "Give the program what it signs in with".to_owned(),
                    TokenPlace::None => "Configure the endpoint where it is configured".to_owned(),
                };
                let says =
                    format!("the platform at {platform} refused the token of [endpoint.{name}] (status {status})");
                Words::new(says, remedy).seen([format!("the platform said: {said}")])
            }
            EndpointCause::PlatformUnreachable { platform, why, by } => Words::new(
                format!("the platform at {platform} does not answer: {why}"),
                match by {
                    Carrier::Socket => "Start the load balancer, or correct its socket",
                    Carrier::Program => "Correct what the program reports, or its command line",
                    Carrier::Folder => "Make sure that its folder can be read",
                    Carrier::Url => "Wait until it is reachable again, or correct its url",
                },
            ),
            EndpointCause::NameLeadsNowhere { name: led, exists } => {
                let what = if *exists { "has no address" } else { "does not exist" };
                Words::new(
                    format!("{led}, which aliases to {name} point at, {what}"),
                    format!("Correct the default name of [endpoint.{}], or give that name its addresses", name.typed()),
                )
            }
            EndpointCause::NotInManifest { known } => Words::new(
                format!("the manifest has no endpoint \"{name}\""),
                format!("Name one of: {}", listed(known)),
            ),
            EndpointCause::TokenTooWide { may } => Words::new(
                format!("the token of [endpoint.{name}] {may}"),
                "Have the platform issue one that may bind at this endpoint alone",
            ),
            EndpointCause::Unready(unready) => {
                Words::new(format!("the endpoint {name} is not ready: {unready}"), unready.remedy())
            }
            EndpointCause::KindDiffers { manifest, platform } => Words::new(
                format!("the manifest says that {name} is a {manifest}, and its platform that it is a {platform}"),
                format!("Write kind = \"{platform}\" under [endpoint.{name}]"),
            ),
            EndpointCause::NoProtocol => Words::new(
                format!("[endpoint.{name}] does not speak the endpoint protocol"),
                "Name an endpoint whose driver is \"http\" or \"program\"",
            ),
            EndpointCause::TrialBound { hostname } => Words::new(
                format!("{hostname} is bound at {name}"),
                "Name a hostname that nobody uses: it is bound for the trial and taken away",
            ),
        }
    }
}
