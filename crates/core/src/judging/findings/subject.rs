//! What findings are about, and how it is named in words.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::{Cause, Finding};
use crate::desired::WantedCertificate;
use crate::names::name::{DnsName, Hostname};

/// What stands for a name in a sentence about several.
const EACH: &str = "each";

/// What a finding is about.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// A hostname.
    Hostname(Hostname),
    /// A hostname at an endpoint, named as in the manifest.
    Binding {
        /// The hostname.
        hostname: Hostname,
        /// The endpoint.
        endpoint: String,
    },
    /// A zone.
    Zone(DnsName),
    /// A certificate.
    Certificate(CertificateName),
    /// An endpoint, named as in the manifest.
    Endpoint(String),
    /// An authority, named as in the manifest or by its directory.
    Authority(String),
    /// This machine.
    Machine,
}

/// How a certificate is named: in the manifest, and by what it is for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct CertificateName {
    /// Its name in the manifest.
    pub name: String,
    /// The first of its names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<Hostname>,
    /// How many others it has.
    #[serde(default)]
    pub others: usize,
}

impl From<&WantedCertificate> for CertificateName {
    fn from(wanted: &WantedCertificate) -> CertificateName {
        let others = wanted.names.len().saturating_sub(1);
        CertificateName { name: wanted.name.clone(), first: wanted.names.first().cloned(), others }
    }
}

/// A certificate of which the name alone is known.
impl From<&str> for CertificateName {
    fn from(name: &str) -> CertificateName {
        CertificateName { name: name.to_owned(), first: None, others: 0 }
    }
}

impl From<&String> for CertificateName {
    fn from(name: &String) -> CertificateName {
        name.as_str().into()
    }
}

impl Subject {
    /// The names that findings about it have in their words.
    pub(super) fn names(&self) -> [Option<&str>; 2] {
        match self {
            Subject::Hostname(hostname) => [Some(hostname.as_str()), None],
            Subject::Binding { hostname, endpoint } => [Some(hostname.as_str()), Some(endpoint)],
            Subject::Zone(name) => [Some(name.as_str()), None],
            Subject::Certificate(own) => [Some(&own.name), own.first.as_ref().map(Hostname::as_str)],
            Subject::Endpoint(name) | Subject::Authority(name) => [Some(name), None],
            Subject::Machine => [None, None],
        }
    }
}

/// What findings about different things must share to be reported as one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Alike<'f> {
    kind: std::mem::Discriminant<Subject>,
    names: [Option<&'f str>; 2],
    others: usize,
    cause: &'f Cause,
}

impl<'f> Alike<'f> {
    pub(super) fn new(finding: &'f Finding, name: &str) -> Alike<'f> {
        let others = match finding.subject() {
            Subject::Certificate(own) => own.others,
            _ => 0,
        };
        Alike {
            kind: std::mem::discriminant(finding.subject()),
            names: match finding.cause().names_its_subject() {
                true => finding.subject().names().map(|own| own.filter(|own| *own != name)),
                false => [None, None],
            },
            others,
            cause: finding.cause(),
        }
    }
}

/// How the subject of a finding is named in its words: by its name, or as "each" where several are reported as one.
#[derive(Debug, Clone, Copy)]
pub(super) struct Naming<'n> {
    pub(super) subject: &'n Subject,
    /// The name that stands for each of several.
    pub(super) each: Option<&'n str>,
}

impl<'n> Naming<'n> {
    fn name(self, text: &'n str, placeholder: &'static str) -> Name<'n> {
        Name { text, placeholder, is_each: self.each == Some(text) }
    }

    fn first(self, placeholder: &'static str) -> Name<'n> {
        let [first, _] = self.subject.names();
        self.name(first.unwrap_or("it"), placeholder)
    }

    pub(super) fn hostname(self) -> Name<'n> {
        self.first("HOSTNAME")
    }

    pub(super) fn zone(self) -> Name<'n> {
        self.first("ZONE")
    }

    pub(super) fn authority(self) -> Name<'n> {
        self.first("AUTHORITY")
    }

    /// The endpoint, of a finding about one or about a binding there.
    pub(super) fn endpoint(self) -> Name<'n> {
        match self.subject {
            Subject::Binding { endpoint, .. } => self.name(endpoint, "ENDPOINT"),
            _ => self.first("ENDPOINT"),
        }
    }

    /// The name of a certificate in the manifest.
    pub(super) fn certificate(self) -> Name<'n> {
        self.first("NAME")
    }

    /// A certificate in a sentence: by its name, or by its only hostname where that is its name.
    pub(super) fn certificate_named(self) -> String {
        match self.subject {
            Subject::Certificate(CertificateName { name, first: Some(first), .. }) if first.as_str() == name => {
                format!("of {}", self.name(name, "NAME"))
            }
            _ => format!("\"{}\"", self.certificate()),
        }
    }

    /// What a certificate is for.
    pub(super) fn certificate_names(self) -> String {
        match self.subject {
            Subject::Certificate(CertificateName { first: Some(first), others, .. }) => {
                let first = self.name(first.as_str(), "HOSTNAME");
                match others {
                    0 => first.to_string(),
                    1 => format!("{first} (+1 name)"),
                    others => format!("{first} (+{others} names)"),
                }
            }
            _ => self.certificate().to_string(),
        }
    }
}

/// A name in a sentence.
#[derive(Debug, Clone, Copy)]
pub(super) struct Name<'n> {
    text: &'n str,
    placeholder: &'static str,
    is_each: bool,
}

impl<'n> Name<'n> {
    /// The name where something is to be typed.
    pub(super) fn typed(self) -> &'n str {
        if self.is_each { self.placeholder } else { self.text }
    }
}

impl fmt::Display for Name<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.is_each { EACH } else { self.text })
    }
}
