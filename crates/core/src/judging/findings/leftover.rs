//! What can be left of a hostname that the manifest no longer names.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::subject::Naming;
use super::words::Words;
use super::{Again, Code, Judged};
use crate::judging::facts::EndpointKey;
use crate::text::display_text::series;

/// What is wrong with a hostname that the manifest no longer names, or did not.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftoverCause {
    /// Something of it is still there.
    StillThere {
        /// What; at least one.
        parts: Vec<LeftPart>,
        /// Whether it is being taken away.
        retiring: bool,
        /// Until when caches give its alias, where that is waited for.
        until: Option<Timestamp>,
    },
    /// It has an alias, of which nothing is recorded.
    NotOurs {
        /// What is given.
        gives: String,
    },
    /// It is not in any zone of the manifest, so its alias cannot be removed.
    NoZone,
    /// It is bound at an endpoint that is not in the manifest.
    EndpointGone {
        /// Which.
        at: EndpointKey,
    },
    /// A run that changed it cannot be undone.
    NotUndone(NotUndone),
}

/// A part of what is left.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftPart {
    /// Its alias.
    Alias {
        /// What is given; `None` where its zone is not in the manifest.
        gives: Option<String>,
    },
    /// Its binding.
    Binding {
        /// At which endpoint.
        endpoint: String,
        /// What it is; `None` where that endpoint is not in the manifest.
        is: Option<String>,
    },
    /// Its certificate.
    Certificate,
}

/// Why a hostname cannot be brought back to what it was.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NotUndone {
    /// It was at an endpoint that is not in the manifest.
    EndpointGone(EndpointKey),
    /// Its alias, in words, led to no endpoint that is known.
    AliasUnknown(String),
    /// It is not in any zone of the manifest.
    NoZone,
    /// Under which label a wildcard was asked is not recorded.
    LabelUnrecorded,
    /// Which authority issued its certificate is not recorded.
    AuthorityUnrecorded,
    /// The roots for client certificates that it had are not there.
    ClientRootsGone,
}

impl LeftPart {
    fn named(&self) -> String {
        match self {
            LeftPart::Alias { .. } => "its alias".to_owned(),
            LeftPart::Binding { endpoint, .. } => format!("its binding at {endpoint}"),
            LeftPart::Certificate => "its certificate".to_owned(),
        }
    }

    fn evidence(&self) -> Option<String> {
        match self {
            LeftPart::Alias { gives: Some(gives) } => Some(format!("alias: {gives}")),
            LeftPart::Alias { gives: None } => {
                Some("its zone is not in the manifest, so its alias cannot be looked up".to_owned())
            }
            LeftPart::Binding { endpoint, is } => {
                let is = is.as_deref().unwrap_or("its endpoint is not in the manifest, so it cannot be looked up");
                Some(format!("binding at {endpoint}: {is}"))
            }
            LeftPart::Certificate => None,
        }
    }
}

impl LeftoverCause {
    pub(super) fn judged(&self) -> Judged {
        let judged = Judged::of(Code::LeftOver);
        match self {
            LeftoverCause::StillThere { until: Some(until), .. } => judged.again(Again::At(*until)),
            _ => judged,
        }
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let hostname = naming.hostname();
        match self {
            LeftoverCause::StillThere { parts, retiring, until } => {
                let named: Vec<String> = parts.iter().map(LeftPart::named).collect();
                let (there, are) = (series(&named, " and "), if parts.len() == 1 { "is" } else { "are" });
                let (says, remedy) = match (retiring, until) {
                    (true, Some(until)) => (
                        format!("{hostname} is being retired: {there} {are} still there until {until:.0}"),
                        format!("Wait until {until:.0}, when caches have forgotten its alias: a later settle goes on"),
                    ),
                    (true, None) => (
                        format!("{hostname} is being retired, and {there} {are} still there"),
                        "Run settle: it goes on".to_owned(),
                    ),
                    (false, _) => (
                        format!("{hostname} is no longer in the manifest, but {there} {are} still there"),
                        format!("Take it away with: pindrel retire {}; or put the hostname back", hostname.typed()),
                    ),
                };
                Words::new(says, remedy).seen(parts.iter().filter_map(LeftPart::evidence))
            }
            LeftoverCause::NotOurs { gives } => Words::new(
                format!("{hostname} is still {gives}, a record that Pindrel did not create"),
                format!(
                    "Delete it by hand; or put the hostname back into the manifest, take the record over with pindrel adopt alias {}, and retire the hostname then",
                    hostname.typed()
                ),
            ),
            LeftoverCause::NoZone => Words::new(
                format!("{hostname} is not in any zone of the manifest, so its alias cannot be removed"),
                format!(
                    "Put its zone back into the manifest; or delete its alias by hand, then run: pindrel retire --forget {}",
                    hostname.typed()
                ),
            ),
            LeftoverCause::EndpointGone { at } => Words::new(
                format!("{hostname} is bound at {at}, which is not in the manifest"),
                format!(
                    "Put that endpoint back into the manifest; or delete the binding there, then run: pindrel retire --forget {}",
                    hostname.typed()
                ),
            ),
            LeftoverCause::NotUndone(NotUndone::EndpointGone(at)) => Words::new(
                format!("{hostname} was at {at}, which is not in the manifest"),
                "Put that endpoint back into the manifest, then undo the run again",
            ),
            LeftoverCause::NotUndone(NotUndone::AliasUnknown(alias)) => Words::new(
                format!("the alias of {hostname} was {alias}, which leads to no endpoint of the manifest"),
                "Put that endpoint back into the manifest, then undo the run again",
            ),
            LeftoverCause::NotUndone(NotUndone::NoZone) => Words::new(
                format!("{hostname} is not in any zone of the manifest"),
                "Put its zone back into the manifest, then undo the run again",
            ),
            LeftoverCause::NotUndone(NotUndone::LabelUnrecorded) => Words::new(
                format!("under which label {hostname} was asked is not recorded"),
                "Put it back into the manifest, then run settle",
            ),
            LeftoverCause::NotUndone(NotUndone::AuthorityUnrecorded) => Words::new(
                format!("which authority issued the certificate of {hostname} is not recorded"),
                "Put the hostname back into the manifest, then run settle",
            ),
            LeftoverCause::NotUndone(NotUndone::ClientRootsGone) => Words::new(
                format!("the roots for client certificates that {hostname} had before are not there"),
                "Put that file back, then undo the run again",
            ),
        }
    }
}
