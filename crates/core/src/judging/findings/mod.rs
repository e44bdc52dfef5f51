//! Findings: diagnosed causes, as data until somebody reads them.
//!
//! A [`Finding`] is a cause and what it is about. Its code, its pin and whether trying again helps follow from the
//! cause; the sentence, the evidence and the remedy are made here, at the moment of output. Each file holds the causes
//! of one kind of thing, with their words.

mod alias;
mod answer;
mod authority;
mod binding;
mod certificate;
mod code;
mod endpoint;
mod leftover;
mod machine;
mod report;
mod subject;
mod words;
mod zone;

use std::sync::Arc;

use serde::{Deserialize, Serialize, Serializer};

pub use alias::{AliasCause, Found, lagging_in_words};
pub use answer::{AnswerCause, Sample, asked_for};
pub use authority::AuthorityCause;
pub use binding::{BindingCause, DefaultNameAnswer, Got, SampleDifference};
pub use certificate::{CertificateCause, Differs, Renewal};
pub use code::{Again, Code};
pub use endpoint::{Carrier, EndpointCause, TokenPlace};
pub use leftover::{LeftPart, LeftoverCause, NotUndone};
pub use machine::{FileFault, MachineCause};
pub use report::Report;
pub use subject::{Alike, CertificateName, Subject};
pub use words::Words;
pub use zone::{ChallengeFault, ZoneCause, servers_in_words};

use crate::judging::pin::Pin;
use crate::names::name::{DnsName, Hostname};
use subject::Naming;

/// One diagnosed cause of one thing; what is the same for many is shared by them.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Finding(Arc<Diagnosis>);

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Diagnosis {
    subject: Subject,
    cause: Cause,
}

/// What is wrong, with all that is known of it. Causes of a kind belong to a [`Subject`] of that kind: [`Finding`]s are
/// made of both at once.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// Of a zone.
    Zone(ZoneCause),
    /// Of a certificate.
    Certificate(CertificateCause),
    /// Of an authority, or of the account there.
    Authority(AuthorityCause),
    /// Of an endpoint, whatever hostname is bound there.
    Endpoint(EndpointCause),
    /// Of a hostname at an endpoint.
    Binding(BindingCause),
    /// Of the alias of a hostname.
    Alias(AliasCause),
    /// Of what clients get.
    Answer(AnswerCause),
    /// Of what is left of a hostname that the manifest no longer names.
    Leftover(LeftoverCause),
    /// Of this machine and what Pindrel keeps there.
    Machine(MachineCause),
    /// What a peer, or a part that speaks to one, puts into words itself.
    Reported(Report),
}

impl Cause {
    /// Says whether its words name what it is about. Endpoints of one platform that does not answer are one to whoever
    /// reads of it.
    fn names_its_subject(&self) -> bool {
        !matches!(self, Cause::Endpoint(EndpointCause::PlatformUnreachable { .. }))
    }
}

/// Code, pin and what may help, as they follow from a cause.
struct Judged {
    code: Code,
    pin: Pin,
    again: Again,
}

impl Judged {
    /// As such a finding usually is.
    fn of(code: Code) -> Judged {
        Judged { code, pin: code.pin(), again: code.again() }
    }

    fn on(self, pin: Pin) -> Judged {
        Judged { pin, ..self }
    }

    fn again(self, again: Again) -> Judged {
        Judged { again, ..self }
    }
}

impl Finding {
    fn new(subject: Subject, cause: Cause) -> Finding {
        Finding(Arc::new(Diagnosis { subject, cause }))
    }

    /// Returns what is wrong with a zone.
    pub fn zone(name: &DnsName, cause: ZoneCause) -> Finding {
        Finding::new(Subject::Zone(name.clone()), Cause::Zone(cause))
    }

    /// Returns what is wrong with a certificate.
    pub fn certificate(name: impl Into<CertificateName>, cause: CertificateCause) -> Finding {
        Finding::new(Subject::Certificate(name.into()), Cause::Certificate(cause))
    }

    /// Returns what is wrong with an authority, named as in the manifest, or by its directory.
    pub fn authority(name: impl Into<String>, cause: AuthorityCause) -> Finding {
        Finding::new(Subject::Authority(name.into()), Cause::Authority(cause))
    }

    /// Returns what is wrong with an endpoint, named as in the manifest.
    pub fn endpoint(name: impl Into<String>, cause: EndpointCause) -> Finding {
        Finding::new(Subject::Endpoint(name.into()), Cause::Endpoint(cause))
    }

    /// Returns what is wrong with a hostname at an endpoint, named as in the manifest.
    pub fn binding(hostname: &Hostname, endpoint: impl Into<String>, cause: BindingCause) -> Finding {
        let subject = Subject::Binding { hostname: hostname.clone(), endpoint: endpoint.into() };
        Finding::new(subject, Cause::Binding(cause))
    }

    /// Returns what is wrong with the alias of a hostname.
    pub fn alias(hostname: &Hostname, cause: AliasCause) -> Finding {
        Finding::new(Subject::Hostname(hostname.clone()), Cause::Alias(cause))
    }

    /// Returns what is wrong with what clients get.
    pub fn answer(hostname: &Hostname, cause: AnswerCause) -> Finding {
        Finding::new(Subject::Hostname(hostname.clone()), Cause::Answer(cause))
    }

    /// Returns what is left of a hostname.
    pub fn leftover(hostname: &Hostname, cause: LeftoverCause) -> Finding {
        Finding::new(Subject::Hostname(hostname.clone()), Cause::Leftover(cause))
    }

    /// Returns what is wrong on this machine.
    pub fn machine(cause: MachineCause) -> Finding {
        Finding::new(Subject::Machine, Cause::Machine(cause))
    }

    /// Returns what a peer reports about something.
    pub fn reported(report: Report) -> Finding {
        Finding::new(Subject::Machine, Cause::Reported(report))
    }

    /// Says about whom a peer's report is: where its words name that, they are the same for others.
    #[must_use]
    pub fn about(self, subject: Subject) -> Finding {
        match self.cause() {
            Cause::Reported(report) => {
                let report = report.clone().about(&subject);
                Finding::new(subject, Cause::Reported(report))
            }
            _ => self,
        }
    }

    /// Returns a fault of Pindrel's own.
    pub fn internal(what: impl Into<String>) -> Finding {
        Finding::machine(MachineCause::Internal { what: what.into() })
    }

    /// Returns what it is about.
    pub fn subject(&self) -> &Subject {
        &self.0.subject
    }

    /// Returns what is wrong.
    pub fn cause(&self) -> &Cause {
        &self.0.cause
    }

    /// Says whether the same thing is wrong with the same, whatever was seen of it this time.
    pub fn is_same(&self, other: &Finding) -> bool {
        self.subject() == other.subject() && self.code() == other.code()
    }

    fn judged(&self) -> Judged {
        match self.cause() {
            Cause::Zone(cause) => cause.judged(),
            Cause::Certificate(cause) => cause.judged(),
            Cause::Authority(cause) => cause.judged(),
            Cause::Endpoint(cause) => cause.judged(),
            Cause::Binding(cause) => cause.judged(),
            Cause::Alias(cause) => cause.judged(),
            Cause::Answer(cause) => cause.judged(),
            Cause::Leftover(cause) => cause.judged(),
            Cause::Machine(cause) => cause.judged(),
            Cause::Reported(report) => report.judged(),
        }
    }

    /// Returns its kind.
    pub fn code(&self) -> Code {
        self.judged().code
    }

    /// Returns the pin that it loosens.
    pub fn pin(&self) -> Pin {
        self.judged().pin
    }

    /// Returns whether trying again helps.
    pub fn again(&self) -> Again {
        self.judged().again
    }

    /// Returns what is wrong, what was seen and what to do, in words.
    pub fn words(&self) -> Words {
        self.words_in(Naming { subject: self.subject(), each: None })
    }

    /// Returns the same as it reads of several things, of which `name` is one.
    pub fn words_of_each(&self, name: &str) -> Words {
        self.words_in(Naming { subject: self.subject(), each: Some(name) })
    }

    fn words_in(&self, naming: Naming<'_>) -> Words {
        match self.cause() {
            Cause::Zone(cause) => cause.words(naming),
            Cause::Certificate(cause) => cause.words(naming),
            Cause::Authority(cause) => cause.words(naming),
            Cause::Endpoint(cause) => cause.words(naming),
            Cause::Binding(cause) => cause.words(naming),
            Cause::Alias(cause) => cause.words(naming),
            Cause::Answer(cause) => cause.words(naming),
            Cause::Leftover(cause) => cause.words(naming),
            Cause::Machine(cause) => cause.words(),
            Cause::Reported(report) => report.words(naming),
        }
    }

    /// Returns the sentence alone.
    pub fn says(&self) -> String {
        self.words().says
    }

    /// Returns the remedy alone.
    pub fn remedy(&self) -> String {
        self.words().remedy
    }

    /// Returns what makes it the same as what is found of others: its cause and what it is about, but for `name`.
    pub fn alike(&self, name: &str) -> Alike<'_> {
        Alike::new(self, name)
    }
}

/// A finding as it is written out, and as programs read it (`docs/findings.md`).
#[derive(Serialize, Deserialize)]
struct Rendered {
    code: Code,
    pin: Pin,
    says: String,
    evidence: Vec<String>,
    remedy: String,
    again: Again,
}

impl From<&Finding> for Rendered {
    fn from(finding: &Finding) -> Rendered {
        let (Judged { code, pin, again }, Words { says, evidence, remedy, .. }) = (finding.judged(), finding.words());
        Rendered { code, pin, says, evidence, remedy, again }
    }
}

impl Serialize for Finding {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        Rendered::from(self).serialize(serializer)
    }
}

/// A finding in the state: with its words for versions that know no causes, or not this one.
#[derive(Serialize, Deserialize)]
pub struct StoredFinding {
    #[serde(flatten)]
    rendered: Rendered,
    #[serde(default)]
    subject: serde_json::Value,
    #[serde(default)]
    cause: serde_json::Value,
}

impl From<&Finding> for StoredFinding {
    fn from(finding: &Finding) -> StoredFinding {
        let value = |value: Result<serde_json::Value, serde_json::Error>| value.unwrap_or_default();
        StoredFinding {
            rendered: Rendered::from(finding),
            subject: value(serde_json::to_value(finding.subject())),
            cause: value(serde_json::to_value(finding.cause())),
        }
    }
}

impl From<StoredFinding> for Finding {
    fn from(stored: StoredFinding) -> Finding {
        let StoredFinding { rendered, subject, cause } = stored;
        if let (Ok(subject), Ok(cause)) = (serde_json::from_value(subject), serde_json::from_value(cause)) {
            return Finding::new(subject, cause);
        }
        let Rendered { code, pin, says, evidence, remedy, again } = rendered;
        Finding::reported(Report::new(code, says, remedy).on(pin).seen(evidence).again(again))
    }
}

#[cfg(test)]
mod tests;
