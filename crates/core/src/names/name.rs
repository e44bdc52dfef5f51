//! DNS names as types: any owner name, and the hostnames that Pindrel holds.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The longest name in presentation form without the final dot (RFC 1035 §2.3.4).
const MAX_NAME: usize = 253;
/// The longest label, in octets (RFC 1035 §2.3.4).
const MAX_LABEL: usize = 63;

/// Why a text is not the name it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NameError {
    /// Nothing was given.
    #[error("the name is empty")]
    Empty,
    /// The whole name is longer than RFC 1035 allows.
    #[error("the name has {0} characters; 253 are allowed")]
    TooLong(usize),
    /// Two dots in a row, or one at the start.
    #[error("a label is empty (two dots in a row, or a dot at the start)")]
    EmptyLabel,
    /// One label is longer than 63 octets.
    #[error("the label \"{0}\" has more than 63 characters")]
    LabelTooLong(String),
    /// A character that no name of this kind may hold.
    #[error("the character {0:?} is not allowed in a name")]
    BadCharacter(char),
    /// A label starts or ends with a hyphen.
    #[error("the label \"{0}\" starts or ends with a hyphen")]
    HyphenAtEdge(String),
    /// A `*` anywhere but as the whole first label.
    #[error("a wildcard is a single \"*.\" at the start of the name")]
    MisplacedWildcard,
    /// One label only: nothing that an authority would certify.
    #[error("\"{0}\" has only one label; a full name such as api.larkfield.example is needed")]
    SingleLabel(String),
    /// An IP address where a name is needed.
    #[error("\"{0}\" is an address, not a name")]
    Address(String),
    /// A URL where a name is needed.
    #[error("\"{0}\" is a URL; only its host belongs here")]
    Url(String),
    /// Not valid under IDNA (RFC 5891).
    #[error("\"{0}\" is not a valid internationalised name")]
    Idna(String),
}

/// An absolute DNS name in lower case without the final dot, such as an owner name.
///
/// Underscores are allowed, as in `_acme-challenge.api.larkfield.example`, and a
/// `*` as the whole first label.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct DnsName(Arc<str>);

impl DnsName {
    /// Returns the name as text, without the final dot.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the name above this one, or `None` for a single label.
    pub fn parent(&self) -> Option<DnsName> {
        self.0.split_once('.').map(|(_, rest)| DnsName(rest.into()))
    }

    /// Says whether this name is `zone` or lies below it.
    pub fn is_within(&self, zone: &DnsName) -> bool {
        is_within(&self.0, &zone.0)
    }

    /// Returns the name of `label` directly below this one.
    ///
    /// # Errors
    /// When the label or the whole name breaks a rule of RFC 1035.
    pub fn below(&self, label: &str) -> Result<DnsName, NameError> {
        format!("{label}.{self}").parse()
    }
}

impl FromStr for DnsName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let text = text.strip_suffix('.').unwrap_or(text);
        check_length(text)?;
        for (position, label) in text.split('.').enumerate() {
            check_label(label)?;
            if label.contains('*') && (position > 0 || label != "*") {
                return Err(NameError::MisplacedWildcard);
            }
            let odd = |c: &char| !(c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '*'));
            if let Some(bad) = label.chars().find(odd) {
                return Err(NameError::BadCharacter(bad));
            }
        }
        Ok(DnsName(lower(text)))
    }
}

/// A custom name to be held in place: letters, digits and hyphens (RFC 1123 §2.1),
/// at least two labels, in lower case, perhaps a wildcard (`*.` in front).
///
/// Internationalised names are kept as A-labels (RFC 5890).
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Hostname(Arc<str>);

impl Hostname {
    /// Returns the name as text, without the final dot.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Says whether the first label is `*`.
    pub fn is_wildcard(&self) -> bool {
        self.0.starts_with("*.")
    }

    /// Returns the name that an ACME identifier's challenge stands under: the name
    /// itself, or what a wildcard is a wildcard of.
    pub fn base(&self) -> &str {
        self.0.strip_prefix("*.").unwrap_or(&self.0)
    }

    /// Returns where the dns-01 record of this name belongs (RFC 8555 §8.4).
    pub fn challenge_name(&self) -> DnsName {
        DnsName(format!("_acme-challenge.{}", self.base()).into())
    }

    /// Returns the owner name of this hostname's records.
    pub fn owner(&self) -> DnsName {
        DnsName(self.0.clone())
    }

    /// Says whether this name is `zone` or lies below it.
    pub fn is_within(&self, zone: &DnsName) -> bool {
        is_within(self.base(), &zone.0)
    }

    /// Says whether a certificate with this name covers `other` (RFC 9525 §6.3: a
    /// wildcard stands for exactly one label).
    pub fn covers(&self, other: &Hostname) -> bool {
        if self == other {
            return true;
        }
        self.is_wildcard()
            && !other.is_wildcard()
            && other.0.split_once('.').is_some_and(|(_, rest)| rest == self.base())
    }

    /// Returns the name that a connection asks for: the name itself, or for a
    /// wildcard the name with `label` in the place of the `*`.
    ///
    /// # Errors
    /// When the label breaks a rule.
    pub fn probed_as(&self, label: &str) -> Result<Hostname, NameError> {
        if self.is_wildcard() { format!("{label}.{}", self.base()).parse() } else { Ok(self.clone()) }
    }
}

impl FromStr for Hostname {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        if text.contains("://") || text.contains('/') {
            return Err(NameError::Url(text.into()));
        }
        let text = text.strip_suffix('.').unwrap_or(text);
        if text.parse::<std::net::IpAddr>().is_ok() {
            return Err(NameError::Address(text.into()));
        }
        if text.is_ascii() {
            return Hostname::from_ascii(text);
        }
        let (star, base) = text.strip_prefix("*.").map_or(("", text), |base| ("*.", base));
        let ascii = idna::domain_to_ascii_strict(base).map_err(|_| NameError::Idna(text.into()))?;
        Hostname::from_ascii(&format!("{star}{ascii}"))
    }
}

impl Hostname {
    fn from_ascii(text: &str) -> Result<Self, NameError> {
        check_length(text)?;
        let base = text.strip_prefix("*.").unwrap_or(text);
        let mut labels = 0;
        for label in base.split('.') {
            check_label(label)?;
            if label.contains('*') {
                return Err(NameError::MisplacedWildcard);
            }
            if let Some(bad) = label.chars().find(|c| !(c.is_ascii_alphanumeric() || *c == '-')) {
                return Err(NameError::BadCharacter(bad));
            }
            if label.starts_with('-') || label.ends_with('-') {
                return Err(NameError::HyphenAtEdge(label.into()));
            }
            labels += 1;
        }
        if labels < 2 {
            return Err(NameError::SingleLabel(text.into()));
        }
        Ok(Hostname(lower(text)))
    }
}

fn lower(text: &str) -> Arc<str> {
    if text.bytes().any(|b| b.is_ascii_uppercase()) { text.to_ascii_lowercase().into() } else { text.into() }
}

fn check_length(text: &str) -> Result<(), NameError> {
    match text.len() {
        0 => Err(NameError::Empty),
        n if n > MAX_NAME => Err(NameError::TooLong(n)),
        _ => Ok(()),
    }
}

fn check_label(label: &str) -> Result<(), NameError> {
    match label.len() {
        0 => Err(NameError::EmptyLabel),
        n if n > MAX_LABEL => Err(NameError::LabelTooLong(label.into())),
        _ => Ok(()),
    }
}

fn is_within(name: &str, zone: &str) -> bool {
    name.strip_suffix(zone).is_some_and(|rest| rest.is_empty() || rest.ends_with('.'))
}

macro_rules! as_text {
    ($type:ty) => {
        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }

        impl fmt::Debug for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Debug::fmt(&self.0, f)
            }
        }

        impl Serialize for $type {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(&self.0)
            }
        }

        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}
as_text!(DnsName);
as_text!(Hostname);

/// Writes hostnames for a sentence.
pub fn in_words(hostnames: &[Hostname]) -> String {
    hostnames.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn rejects_what_is_no_hostname() {
        let long_label = "a".repeat(64);
        let table: &[(&str, NameError)] = &[
            ("", NameError::Empty),
            (".", NameError::Empty),
            ("larkfield", NameError::SingleLabel("larkfield".into())),
            ("*.example", NameError::SingleLabel("*.example".into())),
            ("api..larkfield.example", NameError::EmptyLabel),
            ("api_1.larkfield.example", NameError::BadCharacter('_')),
            ("api larkfield.example", NameError::BadCharacter(' ')),
            ("-api.larkfield.example", NameError::HyphenAtEdge("-api".into())),
            ("api.*.larkfield.example", NameError::MisplacedWildcard),
            ("*.*.larkfield.example", NameError::MisplacedWildcard),
            ("127.0.0.1", NameError::Address("127.0.0.1".into())),
            ("https://api.larkfield.example/", NameError::Url("https://api.larkfield.example/".into())),
        ];
        for (text, expected) in table {
            assert_eq!(text.parse::<Hostname>().as_ref(), Err(expected), "{text}");
        }
        assert_eq!(
            format!("{long_label}.example").parse::<Hostname>(),
            Err(NameError::LabelTooLong(long_label.clone()))
        );
        let too_long = [&long_label[..60]; 5].join(".");
        assert_eq!(too_long.parse::<Hostname>(), Err(NameError::TooLong(304)));
    }

    #[test]
    fn a_wildcard_stands_for_exactly_one_label() {
        let name = |text: &str| text.parse::<Hostname>().unwrap();
        let wildcard = name("*.stations.larkfield.example");
        for (other, covered) in [
            ("lowell.stations.larkfield.example", true),
            ("*.stations.larkfield.example", true),
            ("stations.larkfield.example", false),
            ("a.b.stations.larkfield.example", false),
            ("otherstations.larkfield.example", false),
        ] {
            assert_eq!(wildcard.covers(&name(other)), covered, "{other}");
        }
    }

    #[test]
    fn a_name_is_not_within_a_zone_that_only_ends_alike() {
        let zone: DnsName = "field.example".parse().unwrap();
        assert!(!"larkfield.example".parse::<Hostname>().unwrap().is_within(&zone));
        assert!("lark.field.example".parse::<Hostname>().unwrap().is_within(&zone));
    }

    #[test]
    fn internationalised_names_become_a_labels() {
        let name: Hostname = "sternwärte.larkfield.example".parse().unwrap();
        assert_eq!(name.as_str(), "xn--sternwrte-02a.larkfield.example");
    }

    proptest! {
        #[test]
        fn any_text_parses_or_is_refused_and_what_parses_round_trips(text in "\\PC{0,80}|[a-zA-Z0-9.*_-]{1,80}") {
            if let Ok(name) = text.parse::<Hostname>() {
                prop_assert_eq!(name.to_string().parse::<Hostname>().unwrap(), name.clone());
                prop_assert_eq!(name.as_str().to_ascii_lowercase(), name.as_str());
            }
            if let Ok(name) = text.parse::<DnsName>() {
                prop_assert_eq!(name.to_string().parse::<DnsName>().unwrap(), name);
            }
        }
    }
}
