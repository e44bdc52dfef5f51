//! Findings: diagnosed causes with their evidence and their remedy.

use serde::{Deserialize, Serialize};

use crate::pins::Pin;
use crate::said::one_line;

macro_rules! codes {
    ($($(#[doc = $doc:literal])+ $variant:ident = $word:literal,)+) => {
        /// The stable word of a kind of finding; each is explained in `docs/findings.md`.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        pub enum Code {
            $($(#[doc = $doc])+ #[serde(rename = $word)] $variant,)+
        }

        impl Code {
            /// All codes, pin by pin.
            pub const ALL: &'static [Code] = &[$(Code::$variant),+];

            /// Returns the word.
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Code::$variant => $word,)+
                }
            }
        }
    };
}

codes! {
    /// The zone above does not delegate the zone.
    DelegationMissing = "delegation-missing",
    /// The delegation names other servers than the zone does.
    DelegationDiffers = "delegation-differs",
    /// The servers of the zone above do not answer.
    ParentUnreachable = "parent-unreachable",
    /// A server of the zone does not answer.
    ServerUnreachable = "server-unreachable",
    /// A server answers without authority for the zone.
    ServerLame = "server-lame",
    /// The zone's servers name different servers.
    ServersDiffer = "servers-differ",
    /// The zone is signed and does not validate.
    ZoneBogus = "zone-bogus",
    /// No certificate covers the name yet.
    CertificateMissing = "certificate-missing",
    /// The certificate is due for renewal.
    CertificateDue = "certificate-due",
    /// The certificate has expired.
    CertificateExpired = "certificate-expired",
    /// The certificate is from another authority, or covers other names, than the manifest says.
    CertificateDiffers = "certificate-differs",
    /// The certificate was revoked, or a new one was asked for.
    CertificateReplaced = "certificate-replaced",
    /// A certificate that is bought elsewhere is not there, or ends soon.
    CertificateAwaited = "certificate-awaited",
    /// The certificate is not in all the files that it should be in.
    CertificateUndelivered = "certificate-undelivered",
    /// A command that should follow the certificate has not ended well.
    CommandFailed = "command-failed",
    /// The platform does not answer.
    PlatformUnreachable = "platform-unreachable",
    /// The platform does not take the token.
    PlatformRefuses = "platform-refuses",
    /// The platform has no such endpoint.
    EndpointUnknown = "endpoint-unknown",
    /// The endpoint takes no custom hostnames.
    CustomHostnamesRefused = "custom-hostnames-refused",
    /// The endpoint does not know the hostname.
    BindingMissing = "binding-missing",
    /// The binding is not the wanted one.
    BindingDiffers = "binding-differs",
    /// A binding that Pindrel did not make stands in the way.
    BindingForeign = "binding-foreign",
    /// The platform is still deploying the binding.
    BindingDeploying = "binding-deploying",
    /// The platform gave the binding up.
    BindingFailed = "binding-failed",
    /// The endpoint serves another certificate than it was given.
    ServedCertificateDiffers = "served-certificate-differs",
    /// The alias record is absent.
    AliasMissing = "alias-missing",
    /// The alias record points elsewhere.
    AliasDiffers = "alias-differs",
    /// A record that Pindrel did not make stands in the alias's place.
    AliasConflict = "alias-conflict",
    /// Not every server gives the alias record yet.
    AliasLagging = "alias-lagging",
    /// A resolver gives no address.
    AnswerUnresolved = "answer-unresolved",
    /// No connection to what the name resolves to.
    AnswerUnreachable = "answer-unreachable",
    /// The certificate that a client is served does not verify.
    AnswerUnverified = "answer-unverified",
    /// A client is served another certificate.
    AnswerStale = "answer-stale",
    /// The HTTP answer is not the expected one.
    AnswerUnexpected = "answer-unexpected",
}

impl Code {
    /// Says whether the cause is that something could not be reached: no step is begun
    /// while it lasts, and the run counts as failed.
    pub fn is_outage(self) -> bool {
        matches!(self, Code::ServerUnreachable | Code::PlatformUnreachable | Code::PlatformRefuses)
    }
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}

/// One diagnosed cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Its kind.
    pub code: Code,
    /// The pin that it loosens.
    pub pin: Pin,
    /// What is wrong, as one sentence.
    pub says: String,
    /// What was seen.
    pub evidence: Vec<String>,
    /// What to do.
    pub remedy: String,
}

impl Finding {
    /// Makes a finding without evidence.
    pub fn new(code: Code, pin: Pin, says: impl Into<String>, remedy: impl Into<String>) -> Self {
        Finding { code, pin, says: one_line(says), evidence: Vec::new(), remedy: one_line(remedy) }
    }

    /// Adds what was seen.
    #[must_use]
    pub fn seen(mut self, evidence: impl IntoIterator<Item = String>) -> Self {
        self.evidence.extend(evidence.into_iter().map(one_line));
        self
    }
}
