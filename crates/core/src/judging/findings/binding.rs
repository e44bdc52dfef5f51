//! What can be wrong with a hostname at an endpoint.

use std::fmt;
use std::net::SocketAddr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::answer::Sample;
use super::subject::{Name, Naming};
use super::words::{Words, all_of};
use super::{Again, Code, Judged};
use crate::endpoints::endpoint::AskedRecord;
use crate::judging::facts::{EndpointKey, SampleOutcome, ServedView, Unreachable};
use crate::judging::pin::Pin;
use crate::names::name::DnsName;
use crate::values::Fingerprint;

/// What is wrong with a hostname at an endpoint.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BindingCause {
    /// The endpoint has no binding of it.
    Missing,
    /// The platform did not return the binding.
    Unseen {
        /// Why.
        why: Unreachable,
    },
    /// The endpoint cannot do what the manifest asks for.
    NotOffered {
        /// What.
        lacked: String,
    },
    /// The endpoint, or the store that it takes certificates from, is full.
    QuotaReached {
        /// The store, where it is that.
        store: Option<String>,
        /// How many it takes.
        most: u64,
        /// How many it has.
        used: u64,
    },
    /// An endpoint that somebody else configures does not serve the certificate.
    NotServed {
        /// What it serves.
        got: Got,
    },
    /// The endpoint serves another certificate than it was given.
    ServesOther {
        /// What it was given.
        given: String,
        /// What it serves.
        got: Got,
    },
    /// The default name of the endpoint leads to an address that does not serve the certificate.
    NameLeadsElsewhere {
        /// The name.
        name: DnsName,
        /// The address.
        address: SocketAddr,
        /// What it serves instead.
        why: Unreachable,
    },
    /// The endpoint does not serve it, and why is not known.
    NotInForce,
    /// The endpoint answers clients of TLS 1.2.
    OldTls {
        /// With which HTTP status.
        status: u16,
    },
    /// The endpoint serves the certificate, and does not answer as expected.
    AnswersOtherwise {
        /// Each sample that differs; at least one.
        samples: Vec<SampleDifference>,
        /// How it answers under its default name, where that was asked.
        default_name: Option<DefaultNameAnswer>,
    },
    /// A binding that Pindrel did not create stands there.
    Foreign {
        /// In what it differs; `None` where it came in the meantime.
        difference: Option<String>,
    },
    /// The binding is not the wanted one.
    Differs {
        /// In what.
        difference: String,
    },
    /// The platform took the binding, and changed it.
    ChangedByPlatform,
    /// A record that the platform asks for is missing.
    RecordMissing(AskedRecord),
    /// A record that the platform asks for is somebody else's to make.
    RecordAwaited {
        /// Its name.
        name: DnsName,
    },
    /// Servers do not return a record that the platform asks for.
    RecordLagging {
        /// Its name.
        name: DnsName,
        /// The servers.
        servers: Vec<SocketAddr>,
    },
    /// A record that the platform asks for is not made.
    RecordMisplaced {
        /// The record.
        record: AskedRecord,
        /// Why.
        why: String,
    },
    /// A record that the platform asked for is no longer needed.
    RecordLeft {
        /// Its name.
        name: DnsName,
    },
    /// The platform is still deploying it.
    Deploying {
        /// Whether a step waits for that in this run.
        waited: bool,
    },
    /// The platform failed to deploy it.
    DeployFailed {
        /// Why, as it says.
        reason: String,
        /// Whether it was tried in this run.
        tried: bool,
    },
    /// The platform has issued no certificate yet.
    NoCertificate {
        /// Whether the hostname is bound; else that comes first.
        bound: bool,
    },
    /// The platform does not renew the certificate that it has issued.
    NotRenewed {
        /// When it ends.
        ends: Timestamp,
        /// Whether it has ended.
        expired: bool,
    },
    /// The hostname has moved, and is still bound here.
    Former {
        /// Until when caches give the old alias; `None` where they do no longer.
        until: Option<Timestamp>,
    },
    /// The hostname has moved, and is still bound at an endpoint that is no longer in the manifest.
    FormerGone {
        /// Which.
        at: EndpointKey,
    },
    /// It stays bound here until caches have forgotten its old alias.
    BoundForCaches {
        /// Until when, where that is known.
        until: Option<Timestamp>,
    },
    /// The platform took the removal, and has the binding still.
    NotRemoved,
    /// The hostname leads here again, so that nothing is removed.
    LeadsHere {
        /// What servers give for it.
        records: String,
    },
    /// A server does not say whether the hostname still leads here.
    LeadUnseen {
        /// The server.
        server: SocketAddr,
        /// Why.
        why: Unreachable,
    },
}

/// What a direct connection was served.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Got {
    /// A certificate.
    Certificate(Fingerprint),
    /// None.
    Nothing {
        /// At which address, where that says more.
        address: Option<SocketAddr>,
        /// Why.
        why: Unreachable,
    },
    /// Nobody asked.
    NotAsked,
}

impl From<&ServedView> for Got {
    fn from(served: &ServedView) -> Got {
        match served {
            ServedView::Certificate { sha256, .. } => Got::Certificate(*sha256),
            ServedView::Failed { address, why } => Got::Nothing { address: *address, why: why.clone() },
            ServedView::NotTried => Got::NotAsked,
        }
    }
}

/// As the end of a sentence.
impl fmt::Display for Got {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Got::Certificate(sha256) => write!(f, "serves certificate {}…", sha256.short()),
            Got::Nothing { address: Some(address), why } => write!(f, "serves none at {address}: {why}"),
            Got::Nothing { address: None, why } => write!(f, "serves none: {why}"),
            Got::NotAsked => f.write_str("was not asked"),
        }
    }
}

/// A sample request that was not answered as expected.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct SampleDifference {
    /// The request.
    pub sample: Sample,
    /// The address that was asked.
    pub address: SocketAddr,
    /// In what it differs, as the end of a sentence.
    pub difference: String,
}

/// How an endpoint answers under its default name.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DefaultNameAnswer {
    /// With a status.
    Status(u16),
    /// Not at all.
    None {
        /// Why.
        why: String,
    },
}

impl From<&SampleOutcome> for DefaultNameAnswer {
    fn from(outcome: &SampleOutcome) -> DefaultNameAnswer {
        match outcome {
            SampleOutcome::Answered { status, .. } => DefaultNameAnswer::Status(*status),
            SampleOutcome::Failed { why } => DefaultNameAnswer::None { why: why.clone() },
        }
    }
}

impl BindingCause {
    pub(super) fn judged(&self) -> Judged {
        match self {
            BindingCause::Missing => Judged::of(Code::BindingMissing),
            BindingCause::Unseen { .. } => Judged::of(Code::PlatformUnreachable),
            BindingCause::NotOffered { .. } => Judged::of(Code::NotOffered),
            BindingCause::QuotaReached { .. } => Judged::of(Code::QuotaReached),
            BindingCause::NotServed { .. } | BindingCause::ServesOther { .. } | BindingCause::NotInForce => {
                Judged::of(Code::ServedCertificateDiffers)
            }
            BindingCause::NameLeadsElsewhere { .. } => Judged::of(Code::DefaultNameElsewhere),
            BindingCause::OldTls { .. } => Judged::of(Code::OldTlsServed),
            BindingCause::AnswersOtherwise { .. } => Judged::of(Code::ServedAnswerDiffers),
            BindingCause::Foreign { .. } => Judged::of(Code::BindingForeign),
            BindingCause::Differs { .. } | BindingCause::ChangedByPlatform => Judged::of(Code::BindingDiffers),
            BindingCause::RecordMissing(_)
            | BindingCause::RecordAwaited { .. }
            | BindingCause::RecordLagging { .. } => Judged::of(Code::AskedRecordMissing),
            BindingCause::RecordMisplaced { .. } => Judged::of(Code::AskedRecordMisplaced),
            BindingCause::RecordLeft { .. } => Judged::of(Code::AskedRecordLeft),
            BindingCause::Deploying { .. } => Judged::of(Code::BindingDeploying),
            BindingCause::DeployFailed { .. } => Judged::of(Code::BindingFailed),
            BindingCause::NoCertificate { bound: false } => Judged::of(Code::CertificateMissing),
            BindingCause::NoCertificate { bound: true } => Judged::of(Code::PlatformCertificateAwaited),
            BindingCause::NotRenewed { expired, .. } => {
                let code = if *expired { Code::CertificateExpired } else { Code::CertificateDue };
                Judged::of(code).again(Again::Person)
            }
            BindingCause::Former { until } => {
                let judged = Judged::of(Code::FormerBinding);
                let again = until.map_or(judged.again, Again::At);
                judged.again(again)
            }
            BindingCause::FormerGone { .. } => Judged::of(Code::FormerBinding).again(Again::Person),
            BindingCause::BoundForCaches { until } => {
                Judged::of(Code::FormerBinding).again(until.map_or(Again::Now, Again::At))
            }
            BindingCause::NotRemoved => Judged::of(Code::FormerBinding),
            BindingCause::LeadsHere { .. } => Judged::of(Code::AliasDiffers),
            BindingCause::LeadUnseen { .. } => Judged::of(Code::ServerUnreachable).on(Pin::Alias),
        }
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let (hostname, endpoint) = (naming.hostname(), naming.endpoint());
        match self {
            BindingCause::Missing => Words::new(
                format!("the endpoint {endpoint} has no binding of {hostname}"),
                "Run settle: it creates the binding",
            ),
            BindingCause::Unseen { why } => Words::new(
                format!("the platform of {endpoint} did not return the binding of {hostname}: {why}"),
                "Wait until it is reachable again",
            ),
            BindingCause::NotOffered { lacked } => Words::new(
                format!("the endpoint {endpoint} does not offer {lacked}, which {hostname} needs"),
                "Remove that from the manifest, or choose an endpoint that offers it",
            ),
            BindingCause::QuotaReached { store, most, used } => {
                let what = match store {
                    None => format!("the endpoint {endpoint} takes"),
                    Some(store) => format!("the certificate store of {store}, which {endpoint} uses, takes"),
                };
                Words::new(
                    format!("{what} no more than {most}, and has {used}: {hostname} cannot be bound"),
                    "Raise the quota at the platform, or remove what is no longer used there",
                )
            }
            BindingCause::NotServed { got } => Words::new(
                format!("{endpoint} does not serve the certificate of {hostname}: it {got}"),
                format!(
                    "Deliver the certificate to files that {endpoint} reads, with a command in `after` that makes it read them"
                ),
            ),
            BindingCause::ServesOther { given, got } => Words::settle_or(
                format!("{endpoint} was given {given} for {hostname} but {got}"),
                "reload the endpoint or ask its platform",
            ),
            BindingCause::NameLeadsElsewhere { name, address, why } => Words::new(
                format!(
                    "{name}, which the alias of {hostname} is to point at, leads to {address}, which does not serve the certificate of {hostname}: {why}"
                ),
                format!("Correct the default name of [endpoint.{endpoint}], or the addresses that it has"),
            ),
            BindingCause::NotInForce => Words::new(format!("{endpoint} does not serve {hostname}"), "Run settle"),
            BindingCause::OldTls { status } => Words::settle_or(
                format!("{endpoint} answers clients with TLS 1.2 for {hostname}, with status {status}"),
                "set TLS 1.3 as the lowest version on the platform",
            ),
            BindingCause::AnswersOtherwise { samples, default_name } => {
                answers_otherwise(naming, samples, default_name.as_ref())
            }
            BindingCause::Foreign { difference } => {
                let says = match difference {
                    Some(difference) => format!(
                        "{endpoint} has a binding of {hostname} that Pindrel did not create; it differs in {difference}"
                    ),
                    None => format!("{hostname} was bound at {endpoint} by someone else in the meantime"),
                };
                Words::new(says, foreign_remedy(hostname.typed()))
            }
            BindingCause::Differs { difference } => Words::new(
                format!("the binding of {hostname} at {endpoint} differs in {difference}"),
                "Run settle: it corrects the binding",
            ),
            BindingCause::ChangedByPlatform => Words::new(
                format!("{endpoint} accepted the binding of {hostname} but changed it"),
                "Check on the platform what it changed",
            ),
            BindingCause::RecordMissing(record) => Words::new(
                format!("{endpoint} asks for the record {}, which is missing", asked_in_words(record)),
                "Run settle: it makes the record",
            ),
            BindingCause::RecordAwaited { name } => Words::new(
                format!("{endpoint} asks for a record at {name}, which somebody else makes"),
                format!("Send them what is to be made, as listed by: pindrel handoff {}", hostname.typed()),
            ),
            BindingCause::RecordLagging { name, servers } => Words::new(
                format!("{endpoint} asks for a record at {name}, which {} does not return yet", all_of(servers)),
                "Check why that server does not transfer the zone",
            ),
            BindingCause::RecordMisplaced { record, why } => Words::new(
                format!("{endpoint} asks for the record {}, which is not made: {why}", asked_in_words(record)),
                "Make that record by hand where it is right, or ask the platform why it wants it there",
            ),
            BindingCause::RecordLeft { name } => Words::new(
                format!("the record that {endpoint} asked for at {name} is no longer needed"),
                "Run settle: it removes the record",
            ),
            BindingCause::Deploying { waited } => Words::new(
                format!("{endpoint} is still deploying {hostname}"),
                if *waited { "Run settle later: it continues to wait" } else { "Wait: settle waits for it" },
            ),
            BindingCause::DeployFailed { reason, tried } => Words::new(
                format!("{endpoint} failed to deploy {hostname}: {reason}"),
                if *tried { "Check on the platform why it failed" } else { "Run settle: it tries again" },
            ),
            BindingCause::NoCertificate { .. } => Words::new(
                format!("{endpoint} has issued no certificate for {hostname} yet"),
                "Run settle: it binds the hostname and waits",
            ),
            BindingCause::NotRenewed { ends, expired } => {
                let ends = if *expired { format!("expired at {ends:.0}") } else { format!("expires at {ends:.0}") };
                Words::new(
                    format!("the certificate that {endpoint} has issued for {hostname} {ends}, and is not renewed"),
                    "Check on the platform why it does not renew it; its validation records must be there",
                )
            }
            BindingCause::Former { until: Some(until) } => Words::new(
                format!("{hostname} has moved, and is bound at {endpoint} until caches have forgotten its old alias"),
                format!("Wait until {until:.0}: the next settle after that removes the binding"),
            ),
            BindingCause::Former { until: None } => Words::new(
                format!("{hostname} has moved, and is still bound at {endpoint}"),
                "Run settle: it removes the binding",
            ),
            BindingCause::FormerGone { at } => Words::new(
                format!("{hostname} is still bound at {at}, which is no longer in the manifest"),
                format!(
                    "Put that endpoint back into the manifest until the binding is removed; or delete it there, then run: pindrel retire --forget {}",
                    hostname.typed()
                ),
            ),
            BindingCause::BoundForCaches { until } => Words::new(
                format!("{hostname} stays bound at {endpoint} until caches have forgotten its old alias"),
                wait_for_caches(*until),
            ),
            BindingCause::NotRemoved => Words::new(
                format!("{endpoint} took the removal of {hostname}, and has its binding still"),
                "Check on the platform why it stays",
            ),
            BindingCause::LeadsHere { records } => Words::new(
                format!("{hostname} leads to {endpoint} again: {records}"),
                "Run settle: it looks again before it removes anything",
            ),
            BindingCause::LeadUnseen { server, why } => Words::new(
                format!("{server} does not say whether {hostname} still leads to {endpoint}: {why}"),
                "Start that server, or take it out of the NS records of the zone",
            ),
        }
    }
}

/// What to do until caches have forgotten an alias.
pub(super) fn wait_for_caches(until: Option<Timestamp>) -> String {
    let until = until.map_or_else(String::new, |until| format!(" until {until:.0}"));
    format!("Wait{until}: a later settle goes on")
}

/// What to do about a binding that Pindrel did not create.
fn foreign_remedy(hostname: &str) -> String {
    format!(
        "If it is yours, take it over with: pindrel adopt binding {hostname}; else remove it on the platform once nobody needs it"
    )
}

fn asked_in_words(record: &AskedRecord) -> String {
    format!("{} {} {:?}", record.name, record.record_type, record.value)
}

fn answers_otherwise(
    naming: Naming<'_>,
    samples: &[SampleDifference],
    default_name: Option<&DefaultNameAnswer>,
) -> Words {
    let (hostname, endpoint): (Name<'_>, Name<'_>) = (naming.hostname(), naming.endpoint());
    let shown =
        |one: &SampleDifference| format!("{} at {}: {}", one.sample.in_words(hostname), one.address, one.difference);
    let (under, remedy) = match default_name {
        Some(DefaultNameAnswer::None { why }) => (
            Some(format!("under its default name it does not answer either: {why}")),
            "Check the service behind the endpoint; the alias stays where it is until then",
        ),
        Some(DefaultNameAnswer::Status(status @ 500..)) => (
            Some(format!("under its default name it answers with status {status} too")),
            "Check the service behind the endpoint; the alias stays where it is until then",
        ),
        Some(DefaultNameAnswer::Status(status)) => (
            Some(format!("under its default name it answers with status {status}")),
            "Check the routes and the expectation in the manifest; the alias stays where it is until then",
        ),
        None => (None, "Check the routes, the expectation in the manifest, and the service behind it"),
    };
    let first = samples.first().map_or_else(String::new, shown);
    Words::new(format!("{endpoint} does not answer for {hostname} as expected: {first}"), remedy)
        .seen(samples.iter().skip(1).map(shown).chain(under))
}
