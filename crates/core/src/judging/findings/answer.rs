//! What can be wrong with what clients get.

use std::net::{IpAddr, SocketAddr};

use serde::{Deserialize, Serialize};

use super::subject::{Name, Naming};
use super::words::Words;
use super::{Code, Judged};
use crate::desired::WantedHostname;
use crate::endpoints::expectation::{Expectation, SampleMethod};
use crate::judging::facts::{Unreachable, Unresolved, Untrusted};
use crate::values::Fingerprint;

/// What is wrong with what clients get. Of a wildcard, `asked` is the name that was asked for it.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerCause {
    /// A resolver returns no address.
    Unresolved {
        /// The resolver.
        resolver: String,
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// What it returns instead.
        why: Unresolved,
        /// For how many seconds it may keep that.
        for_secs: Option<u32>,
    },
    /// A resolver returns an address that is not the endpoint's.
    Elsewhere {
        /// The resolver.
        resolver: String,
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// The address.
        address: IpAddr,
        /// The endpoint, as in the manifest.
        endpoint: String,
        /// For how many seconds it may keep that.
        for_secs: u32,
    },
    /// What the name resolves to cannot be connected to.
    NotConnected {
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// The address.
        address: SocketAddr,
        /// Why.
        why: Unreachable,
    },
    /// The certificate does not verify.
    Unverified {
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// The address.
        address: SocketAddr,
        /// Why.
        why: Untrusted,
    },
    /// No HTTP response came.
    NoResponse {
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// The address.
        address: SocketAddr,
        /// Why.
        why: Unreachable,
    },
    /// Clients are served another certificate than the current one.
    Stale {
        /// What was asked for, where that is another name.
        asked: Option<String>,
        /// The address.
        address: SocketAddr,
        /// What is served.
        served: Fingerprint,
        /// The current one.
        current: Fingerprint,
    },
    /// The HTTP answer is not the expected one.
    Unexpected {
        /// The request.
        sample: Sample,
        /// In what it differs, as the end of a sentence.
        difference: String,
    },
    /// Clients are answered without the certificate that they must show.
    CertificateNotRequired {
        /// The request.
        sample: Sample,
        /// The HTTP status.
        status: u16,
    },
    /// No resolver is known to ask.
    NoResolver,
    /// Something could not be checked, and why is not known.
    NotChecked,
}

/// A sample request.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Sample {
    /// What was asked for, where that is another name than the hostname.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<String>,
    /// The method.
    pub method: SampleMethod,
    /// The path.
    pub path: String,
}

impl Sample {
    /// A sample request of a hostname.
    pub fn of(wanted: &WantedHostname, sample: &Expectation) -> Sample {
        Sample { asked: asked_for(wanted), method: sample.method, path: sample.path.clone() }
    }

    pub(super) fn in_words(&self, hostname: Name<'_>) -> String {
        let method = if self.method == SampleMethod::Get { String::new() } else { format!("{} ", self.method) };
        format!("{method}https://{}{}", asked(self.asked.as_ref(), hostname), self.path)
    }
}

/// The name that is asked for a hostname, where it is another one.
pub fn asked_for(wanted: &WantedHostname) -> Option<String> {
    let asked = wanted.probed_as.as_str();
    (asked != wanted.hostname.as_str()).then(|| asked.to_owned())
}

fn asked(other: Option<&String>, hostname: Name<'_>) -> String {
    other.cloned().unwrap_or_else(|| hostname.to_string())
}

impl AnswerCause {
    pub(super) fn judged(&self) -> Judged {
        Judged::of(match self {
            AnswerCause::Unresolved { .. } | AnswerCause::NoResolver | AnswerCause::NotChecked => {
                Code::AnswerUnresolved
            }
            AnswerCause::Elsewhere { .. } | AnswerCause::Stale { .. } => Code::AnswerStale,
            AnswerCause::NotConnected { .. } => Code::AnswerUnreachable,
            AnswerCause::Unverified { .. } => Code::AnswerUnverified,
            AnswerCause::NoResponse { .. } | AnswerCause::Unexpected { .. } => Code::AnswerUnexpected,
            AnswerCause::CertificateNotRequired { .. } => Code::ClientCertificateNotRequired,
        })
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let hostname = naming.hostname();
        let named = |other: &Option<String>| asked(other.as_ref(), hostname);
        match self {
            AnswerCause::Unresolved { resolver, asked, why, for_secs } => {
                let until = for_secs.map_or(String::new(), |secs| format!(", and may cache that for {secs} s"));
                Words::new(
                    format!("the resolver {resolver} returned no address for {}: {why}{until}", named(asked)),
                    match for_secs {
                        Some(_) => "Wait until the cached answer expires",
                        None => "Make sure that this resolver can reach the zone's servers and their parents",
                    },
                )
            }
            AnswerCause::Elsewhere { resolver, asked, address, endpoint, for_secs } => Words::new(
                format!(
                    "the resolver {resolver} returns {address} for {}, which is not an address of {endpoint}, and may keep that for {for_secs} s",
                    named(asked)
                ),
                "Wait until the cached answer expires",
            ),
            AnswerCause::NotConnected { asked, address, why } => Words::new(
                format!("{} resolves to {address}, which cannot be connected to: {why}", named(asked)),
                "Check that the endpoint runs and accepts connections from here",
            ),
            AnswerCause::Unverified { asked, address, why: why @ Untrusted::Expired } => Words::settle_or(
                format!("clients do not accept the certificate of {} at {address}: {why}", named(asked)),
                "reload the endpoint",
            ),
            AnswerCause::Unverified { asked, address, why } => Words::new(
                format!("clients do not accept the certificate of {} at {address}: {why}", named(asked)),
                match why {
                    Untrusted::NotYetValid => "Check the clocks of this machine and of whoever issued it",
                    Untrusted::Revoked => "Replace it with: pindrel cert renew; then reload the endpoint",
                    Untrusted::OtherName => "Check that the name resolves to the right endpoint",
                    Untrusted::OfAuthority => "Have the endpoint serve the certificate that was issued for the name",
                    Untrusted::Expired
                    | Untrusted::UnknownIssuer
                    | Untrusted::NoRoots { .. }
                    | Untrusted::Other { .. } => {
                        "Check that the name resolves to the right endpoint and that issued_roots names the right roots"
                    }
                },
            ),
            AnswerCause::NoResponse { asked, address, why } => Words::new(
                format!("{} at {address} returned no HTTP response: {why}", named(asked)),
                "Check the logs of the service behind the endpoint",
            ),
            AnswerCause::Stale { asked, address, served, current } => Words::settle_or(
                format!(
                    "clients of {} get certificate {}… at {address}, not the current {}…",
                    named(asked),
                    served.short(),
                    current.short()
                ),
                "reload the endpoint",
            ),
            AnswerCause::Unexpected { sample, difference } => Words::new(
                format!("{} {difference}", sample.in_words(hostname)),
                "Check the routes, the expectation in the manifest, and the logs of the service",
            ),
            AnswerCause::CertificateNotRequired { sample, status } => Words::settle_or(
                format!("{} answers clients without a certificate, with status {status}", sample.in_words(hostname)),
                "check on the platform why it asks for none",
            ),
            AnswerCause::NoResolver => Words::new(
                format!("no resolver is known to look up {hostname}"),
                "Name resolvers in the zone's table of the manifest",
            ),
            AnswerCause::NotChecked => Words::new("not all of it could be checked", "Run settle"),
        }
    }
}
