//! What can be wrong with a certificate.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::binding::Got;
use super::subject::Naming;
use super::words::{Words, listed};
use super::{Again, Code, Judged};
use crate::judging::facts::{Origin, ReplaceReason};
use crate::names::name::Hostname;

/// What is wrong with a certificate.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CertificateCause {
    /// There is none yet.
    Missing(Renewal),
    /// It is not the one that the manifest wants.
    Differs {
        /// In what.
        what: Differs,
        /// Who makes another.
        by: Renewal,
    },
    /// It has expired.
    Expired {
        /// How many whole days ago.
        days: i64,
        /// Who makes another.
        by: Renewal,
    },
    /// It must be replaced.
    Replaced {
        /// Why.
        why: ReplaceReason,
        /// Who makes another.
        by: Renewal,
    },
    /// It was revoked, and is not replaced, as asked for.
    Revoked {
        /// When.
        at: Timestamp,
    },
    /// It is due for renewal.
    Due {
        /// How many whole days it is valid.
        days: i64,
        /// Who makes another.
        by: Renewal,
    },
    /// Files do not contain it.
    Undelivered {
        /// The files, each as it is shown.
        files: Vec<String>,
    },
    /// Listeners serve another.
    NotServed {
        /// The first.
        address: String,
        /// What it serves.
        got: Got,
        /// The others.
        others: Vec<String>,
    },
    /// A command that follows it failed, or has not run.
    Command {
        /// The command.
        command: String,
        /// What it said, where it failed.
        said: Option<String>,
    },
    /// The program of a command that follows it is not there.
    ProgramMissing {
        /// The command.
        command: String,
    },
    /// What follows it was tried, and failed.
    AfterDelivery {
        /// Each failure.
        failures: Vec<String>,
    },
    /// A PKCS#12 file needs a password, and none was given.
    PasswordMissing,
    /// It is issued elsewhere, so nothing can be ordered or signed for it.
    IssuedElsewhere {
        /// Whether it is to be imported; else a request for it is to be made.
        import: bool,
    },
    /// The manifest and the state know none of that name.
    Unknown,
    /// No former certificate of it, or several, have a fingerprint that begins so.
    FormerUnclear {
        /// How it begins.
        fingerprint: String,
        /// Whether several have.
        several: bool,
    },
    /// Who could revoke it is not known.
    IssuerUnknown {
        /// Where it is from.
        origin: Origin,
    },
    /// Its revocation needs an authority that the manifest has no longer.
    RevokerGone {
        /// The authority's directory.
        directory: String,
    },
    /// Files that were given have no key for it.
    ImportWithoutKey,
    /// What stands in the state of it is corrupt.
    Corrupt {
        /// How.
        why: String,
    },
    /// Its challenge records have not been there for as long as the manifest says.
    ChallengesTooYoung {
        /// How long they have to be there, in seconds.
        least_secs: u64,
    },
    /// Its authority is still working on the order.
    OrderProcessing {
        /// The authority's directory.
        authority: String,
        /// What the order is for.
        names: Vec<Hostname>,
    },
    /// What was issued cannot be used.
    IssuedUnusable {
        /// The authority, as in the manifest.
        authority: String,
        /// What the order was for.
        names: Vec<Hostname>,
        /// Why.
        why: String,
    },
}

/// Who makes the next certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Renewal {
    /// `settle`.
    Settle,
    /// A person, elsewhere.
    Person,
}

impl Renewal {
    fn code(self, code: Code) -> Code {
        if self == Renewal::Person { Code::CertificateAwaited } else { code }
    }

    fn remedy(self, does: &str, naming: Naming<'_>) -> String {
        let name = naming.certificate().typed();
        match self {
            Renewal::Settle => format!("Run settle: it {does}"),
            Renewal::Person => format!(
                "Make a signing request with: pindrel cert request {name}; then import the issued certificate with: pindrel cert import {name} FILES"
            ),
        }
    }
}

/// In what a certificate differs from the manifest.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Differs {
    /// It does not cover these names.
    Lacks(Vec<Hostname>),
    /// It covers these, which are no longer wanted.
    Unwanted(Vec<Hostname>),
    /// It is not from this authority of the manifest.
    OtherAuthority(String),
    /// It is from elsewhere than the manifest says.
    OtherOrigin {
        /// Where it is from.
        is: Origin,
        /// Where it should be from.
        wanted: Origin,
    },
    /// It was ordered on other terms.
    OtherTerms {
        /// Which, as in `profile`.
        what: String,
        /// What it was ordered with; `None` for the authority's usual.
        is: Option<String>,
        /// What the manifest wants.
        wanted: Option<String>,
    },
    /// Its key is of another kind than this.
    OtherKey(String),
}

impl CertificateCause {
    pub(super) fn judged(&self) -> Judged {
        match self {
            CertificateCause::Missing(by) => Judged::of(by.code(Code::CertificateMissing)),
            CertificateCause::Differs { .. } => Judged::of(Code::CertificateDiffers),
            CertificateCause::Expired { .. } => Judged::of(Code::CertificateExpired),
            CertificateCause::Replaced { .. } => Judged::of(Code::CertificateReplaced),
            CertificateCause::Revoked { .. } => Judged::of(Code::CertificateRevoked),
            CertificateCause::Due { by, .. } => Judged::of(by.code(Code::CertificateDue)),
            CertificateCause::Undelivered { .. } => Judged::of(Code::CertificateUndelivered),
            CertificateCause::NotServed { .. } => Judged::of(Code::ServedCertificateDiffers),
            CertificateCause::Command { .. }
            | CertificateCause::ProgramMissing { .. }
            | CertificateCause::AfterDelivery { .. } => Judged::of(Code::CommandFailed),
            CertificateCause::PasswordMissing => Judged::of(Code::DeliveryFailed),
            CertificateCause::IssuedElsewhere { .. } => Judged::of(Code::CertificateAwaited),
            CertificateCause::Unknown | CertificateCause::FormerUnclear { .. } => Judged::of(Code::CertificateMissing),
            CertificateCause::IssuerUnknown { .. } => Judged::of(Code::AuthorityRefuses),
            CertificateCause::RevokerGone { .. } => Judged::of(Code::AuthorityRefuses).again(Again::WhenChanged),
            CertificateCause::ImportWithoutKey => Judged::of(Code::ImportRefused),
            CertificateCause::IssuedUnusable { .. } => Judged::of(Code::IssuedUnusable),
            CertificateCause::Corrupt { .. } => Judged::of(Code::StateUnusable),
            CertificateCause::ChallengesTooYoung { .. } => Judged::of(Code::ChallengeLagging),
            CertificateCause::OrderProcessing { .. } => Judged::of(Code::OrderFailed),
        }
        .on_certificate()
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let (named, name) = (naming.certificate_named(), naming.certificate());
        match self {
            CertificateCause::Missing(by) => Words::new(
                format!("there is no certificate for {} yet", naming.certificate_names()),
                by.remedy("issues one", naming),
            ),
            CertificateCause::Differs { what, by } => {
                Words::new(format!("the certificate {named} {}", what.words()), by.remedy("issues a new one", naming))
            }
            CertificateCause::Expired { days, by } => Words::new(
                format!("the certificate {named} expired {days} days ago"),
                by.remedy("issues a new one", naming),
            ),
            CertificateCause::Replaced { why, by } => {
                let says = match why {
                    ReplaceReason::Requested(at) => format!(
                        "a renewal of the certificate {named} was requested at {at:.0} and has not succeeded yet"
                    ),
                    ReplaceReason::Revoked => format!("the certificate {named} was revoked"),
                    ReplaceReason::KeyCompromised => format!("the key of the certificate {named} was compromised"),
                };
                Words::new(says, by.remedy("issues a new one", naming))
            }
            CertificateCause::Revoked { at } => Words::new(
                format!("the certificate {named} was revoked at {at:.0} and is not replaced, as asked for"),
                format!("Replace it with: pindrel cert renew {}", name.typed()),
            ),
            CertificateCause::Due { days, by } => Words::new(
                format!("the certificate {named} has {days} days left and is due for renewal"),
                by.remedy("renews it", naming),
            ),
            CertificateCause::Undelivered { files } => Words::new(
                format!("{} does not contain the certificate {named}", files.first().map_or("a file", String::as_str)),
                "Run settle: it writes the file",
            )
            .seen(files.iter().skip(1).cloned()),
            CertificateCause::NotServed { address, got, others } => {
                let says = match got {
                    Got::Certificate(_) => format!("{address} {got}, not the certificate {named}"),
                    Got::Nothing { why, .. } => {
                        format!("{address} serves no certificate: {why}; it should serve the certificate {named}")
                    }
                    Got::NotAsked => format!("whether {address} serves the certificate {named} was not asked"),
                };
                Words::settle_or(says, "check that this server reads the delivered files").seen(others.iter().cloned())
            }
            CertificateCause::Command { command, said } => {
                let says = match said {
                    Some(said) => {
                        format!("the command `{command}` failed after the certificate {named} was delivered: {said}")
                    }
                    None => format!("the command `{command}` has not run since the certificate {named} was delivered"),
                };
                Words::new(says, "Run settle: it runs the command again")
            }
            CertificateCause::ProgramMissing { command } => Words::new(
                format!("the command `{command}` of the certificate {named} cannot be run: there is no such program"),
                format!("Install the program, or correct after in [certificate.{name}]"),
            ),
            CertificateCause::AfterDelivery { failures } => Words::new(
                format!("the certificate \"{name}\" was delivered, but {}", failures.join("; and ")),
                "Correct what the command reports; the next settle runs it again",
            ),
            CertificateCause::PasswordMissing => {
                Words::new("a PKCS#12 file needs a password", "Give one with --password env:NAME or file:PATH")
            }
            CertificateCause::IssuedElsewhere { import } => {
                let remedy = if *import {
                    format!("Import it with: pindrel cert import {} FILES", name.typed())
                } else {
                    format!("Make a signing request with: pindrel cert request {}", name.typed())
                };
                Words::new(format!("the certificate \"{name}\" is issued elsewhere"), remedy)
            }
            CertificateCause::Unknown => {
                Words::new(format!("there is no certificate \"{name}\""), "List the names with: pindrel cert list")
            }
            CertificateCause::FormerUnclear { fingerprint, several: false } => Words::new(
                format!("\"{name}\" has had no certificate whose fingerprint begins with {fingerprint}"),
                format!("List them with: pindrel cert show {}", name.typed()),
            ),
            CertificateCause::FormerUnclear { fingerprint, several: true } => Words::new(
                format!("several former certificates of \"{name}\" have fingerprints that begin with {fingerprint}"),
                "Write more of its digits",
            ),
            CertificateCause::IssuerUnknown { origin: Origin::SelfSigned } => Words::new(
                format!("the certificate \"{name}\" is self-signed, so nobody can revoke it"),
                "Replace it with: pindrel cert renew",
            ),
            CertificateCause::IssuerUnknown { .. } => Words::new(
                format!("the certificate \"{name}\" was imported, and the state does not know who issued it"),
                "Name the authority that issued it with --authority, or have it revoked where it was bought",
            ),
            CertificateCause::RevokerGone { directory } => Words::new(
                format!("the manifest has no authority with the directory {directory}"),
                "Put the authority back into the manifest until the revocation is done",
            ),
            CertificateCause::ImportWithoutKey => Words::new(
                format!("no private key for \"{name}\" is among the files or in the state"),
                "Add the file of the private key",
            ),
            CertificateCause::Corrupt { why } => Words::new(
                format!("the certificate \"{name}\" in the state is corrupt: {why}"),
                "Restore the state from its backup",
            ),
            CertificateCause::ChallengesTooYoung { least_secs } => {
                Words::new(format!("the challenge records are younger than {least_secs} s"), "Run settle later")
            }
            CertificateCause::OrderProcessing { authority, names } => Words::new(
                format!("{authority} is still processing the order for {}", listed(names)),
                "Run settle later: it continues the same order",
            ),
            CertificateCause::IssuedUnusable { authority, names, why } => Words::new(
                format!("the certificate that {authority} issued for {} cannot be used: {why}", listed(names)),
                "Check that issued_roots names the authority's roots; otherwise report it to the authority",
            ),
        }
    }
}

impl Judged {
    /// Reports it at the certificate's pin, although its code usually belongs to another.
    fn on_certificate(self) -> Judged {
        self.on(crate::judging::pin::Pin::Certificate)
    }
}

impl Differs {
    fn words(&self) -> String {
        match self {
            Differs::Lacks(names) => format!("does not cover {}", listed(names)),
            Differs::Unwanted(names) => format!("covers {}, which is no longer wanted", listed(names)),
            Differs::OtherAuthority(name) => format!("is not from [authority.{name}]"),
            Differs::OtherOrigin { is, wanted } => format!("is issued by \"{is}\", not \"{wanted}\""),
            Differs::OtherTerms { what, is, wanted } => {
                let quoted = |text: &Option<String>| {
                    let usual = || format!("the authority's usual {what}");
                    text.as_ref().map_or_else(usual, |text| format!("the {what} \"{text}\""))
                };
                format!("was ordered with {}, and the manifest wants {}", quoted(is), quoted(wanted))
            }
            Differs::OtherKey(wanted) => format!("does not have a key of the kind {wanted}"),
        }
    }
}
