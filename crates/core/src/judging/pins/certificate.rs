//! `certificate`: valid, not due, covering the names, from where the manifest says, and
//! where it should be.

use jiff::{SignedDuration, Timestamp};

use super::{Known, Pin, PinReport, PinState};
use crate::certificates::delivery::Undelivered;
use crate::desired::{Desired, WantedCertificate};
use crate::endpoints::endpoint::Deployment;
use crate::judging::facts::{BindingView, HeldCertificate, Origin, ReplaceReason, ServedView};
use crate::judging::findings::{Again, Code, Finding};

/// What a certificate is judged by.
pub(super) struct Judging<'j> {
    pub(super) desired: &'j Desired,
    pub(super) wanted: &'j WantedCertificate,
    pub(super) held: Option<&'j HeldCertificate>,
    pub(super) undelivered: Option<&'j Undelivered>,
}

const ISSUED_BY_PLATFORM: &str = "issued by the platform";
/// How near its end a certificate of a platform is told: the platform should have renewed it.
const LATE: SignedDuration = SignedDuration::from_hours(72);

/// Judges a certificate that the platform of a hostname's endpoint issues and renews.
pub(super) fn judge_issued(known: Known<'_>, now: Timestamp) -> PinReport {
    let Some(fact) = known.binding else { return PinReport::not_looked_at() };
    let (hostname, endpoint) = (&known.wanted.hostname, &known.desired.endpoint(known.at).name);
    let seen = Some(fact.seen);
    let awaited = |state, code| {
        let says = format!("{endpoint} has issued no certificate for {hostname} yet");
        let finding = Finding::new(code, Pin::Certificate, says, "Run settle: it binds the hostname and waits");
        PinReport::new(state, seen, "none yet").because(finding)
    };
    let BindingView::Present { deployment, served, .. } = &fact.value else {
        return match &fact.value {
            BindingView::Unreachable { .. } => PinReport::new(PinState::Unknown, seen, "platform unreachable"),
            _ => awaited(PinState::Loose, Code::CertificateMissing),
        };
    };
    let issued = known.issued();
    let sha256 = match (issued, served) {
        (Some(issued), _) => issued.sha256,
        (None, ServedView::Certificate { sha256, .. }) if *deployment == Deployment::Deployed => *sha256,
        _ => return awaited(PinState::Working, Code::PlatformCertificateAwaited),
    };
    let expires = issued.map(|issued| issued.not_after);
    let report =
        |state, detail: String| PinReport { expires, sha256: Some(sha256), ..PinReport::new(state, seen, detail) };
    match expires {
        Some(end) if end.duration_since(now) < LATE => {
            let (code, ends) = if now >= end {
                (Code::CertificateExpired, format!("expired at {end:.0}"))
            } else {
                (Code::CertificateDue, format!("expires at {end:.0}"))
            };
            let says = format!("the certificate that {endpoint} has issued for {hostname} {ends}, and is not renewed");
            let remedy = "Check on the platform why it does not renew it; its validation records must be there";
            let finding = Finding::new(code, Pin::Certificate, says, remedy).again(Again::Person);
            report(PinState::Blocked, "not renewed by the platform".into()).because(finding)
        }
        Some(end) => report(PinState::Held, format!("{} days left, {ISSUED_BY_PLATFORM}", days_between(now, end))),
        None => report(PinState::Held, ISSUED_BY_PLATFORM.into()),
    }
}

impl Judging<'_> {
    pub(super) fn judge(&self, now: Timestamp) -> PinReport {
        // It is judged by what each hostname's endpoint has.
        if self.wanted.terms.issued_by == Origin::Platform {
            return PinReport::new(PinState::Held, Some(now), ISSUED_BY_PLATFORM);
        }
        let Some(held) = self.held else { return self.missing(now) };
        let report = |state, detail: String| PinReport {
            expires: Some(held.not_after),
            renew_at: Some(held.due_at(self.wanted.terms.renewal)),
            sha256: Some(held.sha256),
            ..PinReport::new(state, Some(now), detail)
        };
        let days = days_between(now, held.not_after);
        if let Some(says) = self.difference(held) {
            let (state, remedy) = self.remedy("issues a new one");
            let finding = Finding::new(Code::CertificateDiffers, Pin::Certificate, says, remedy);
            return report(state, "not the wanted one".into()).because(finding);
        }
        if now >= held.not_after {
            let ago = days_between(held.not_after, now);
            let says = format!("the certificate {} expired {ago} days ago", self.named());
            let (state, remedy) = self.remedy("issues a new one");
            let finding = Finding::new(Code::CertificateExpired, Pin::Certificate, says, remedy);
            return report(state, "expired".into()).because(finding);
        }
        if let Some(why) = &held.replace {
            let says = match why {
                ReplaceReason::Requested(at) => {
                    format!(
                        "a renewal of the certificate {} was requested at {at:.0} and has not succeeded yet",
                        self.named()
                    )
                }
                ReplaceReason::Revoked => format!("the certificate {} was revoked", self.named()),
                ReplaceReason::KeyCompromised => {
                    format!("the key of the certificate {} was compromised", self.named())
                }
            };
            let (state, remedy) = self.remedy("issues a new one");
            let finding = Finding::new(Code::CertificateReplaced, Pin::Certificate, says, remedy);
            return report(state, "must be replaced".into()).because(finding);
        }
        if let Some(at) = held.revoked {
            let says =
                format!("the certificate {} was revoked at {at:.0} and is not replaced, as asked for", self.named());
            let remedy = format!("Replace it with: pindrel cert renew {}", self.wanted.name);
            let finding = Finding::new(Code::CertificateRevoked, Pin::Certificate, says, remedy);
            return report(PinState::Blocked, "revoked".into()).because(finding);
        }
        if now >= held.due_at(self.wanted.terms.renewal) {
            let says = format!("the certificate {} has {days} days left and is due for renewal", self.named());
            let (state, remedy) = self.remedy("renews it");
            let code = if state == PinState::Blocked { Code::CertificateAwaited } else { Code::CertificateDue };
            let finding = Finding::new(code, Pin::Certificate, says, remedy);
            return report(state, format!("due, {days} days left")).because(finding);
        }
        if let Some(finding) = self.undelivered.and_then(|undelivered| self.not_delivered(undelivered)) {
            return report(PinState::Loose, format!("{days} days left, not delivered")).because(finding);
        }
        let origin = match held.origin {
            Origin::Authority => "",
            Origin::Elsewhere => ", issued elsewhere",
            Origin::SelfSigned => ", self-signed",
            Origin::Platform => ", issued by the platform",
        };
        // What no listener was asked for is not called served.
        let terms = &self.wanted.terms;
        let unverified = terms.is_delivered() && terms.served_at.is_empty();
        let delivered = if unverified { ", delivered, not verified" } else { "" };
        report(PinState::Held, format!("{days} days left{origin}{delivered}"))
    }

    fn missing(&self, now: Timestamp) -> PinReport {
        let says = format!("there is no certificate for {} yet", self.names());
        let (state, remedy) = self.remedy("issues one");
        let code = if state == PinState::Blocked { Code::CertificateAwaited } else { Code::CertificateMissing };
        let finding = Finding::new(code, Pin::Certificate, says, remedy);
        PinReport::new(state, Some(now), "none yet").because(finding)
    }

    /// In what the certificate differs from the manifest, if it does.
    fn difference(&self, held: &HeldCertificate) -> Option<String> {
        let wanted = self.wanted;
        let covered = |name| held.names.iter().any(|own| own == name || own.covers(name));
        let lacking: Vec<&str> = wanted.names.iter().filter(|name| !covered(name)).map(|name| name.as_str()).collect();
        if !lacking.is_empty() {
            return Some(format!("the certificate {} does not cover {}", self.named(), lacking.join(", ")));
        }
        // One that was made for names which are no longer wanted would go on vouching for them.
        let unwanted: Vec<&str> =
            held.names.iter().filter(|name| !wanted.names.contains(name)).map(|name| name.as_str()).collect();
        if held.origin != Origin::Elsewhere && !unwanted.is_empty() {
            let unwanted = unwanted.join(", ");
            return Some(format!("the certificate {} covers {unwanted}, which is no longer wanted", self.named()));
        }
        let issued_by = wanted.terms.issued_by;
        match (wanted.authority.map(|authority| self.desired.authority(authority)), held.origin) {
            // One that was bought is taken over, and renewed over ACME when it is due.
            (Some(_), Origin::Elsewhere) => {}
            (Some(authority), Origin::Authority) if held.authority == authority.directory.as_str() => {}
            (Some(authority), _) => {
                return Some(format!("the certificate {} is not from [authority.{}]", self.named(), authority.name));
            }
            (None, origin) if origin != issued_by => {
                return Some(format!(
                    "the certificate {} is issued by \"{origin}\", not \"{issued_by}\"",
                    self.named()
                ));
            }
            (None, _) => {}
        }
        if let (Some(ordered), Some(authority)) = (&held.ordered, wanted.authority) {
            let terms = wanted.ordered_terms(self.desired.authority(authority));
            let pairs =
                [("profile", &ordered.profile, &terms.profile), ("root", &ordered.chain_root, &terms.chain_root)];
            if let Some((what, was, now)) = pairs.into_iter().find(|(_, was, now)| was != now) {
                let quoted = |text: &Option<String>| {
                    text.as_ref().map_or_else(
                        || format!("the authority's usual {what}"),
                        |text| format!("the {what} \"{text}\""),
                    )
                };
                let (was, now) = (quoted(was), quoted(now));
                return Some(format!(
                    "the certificate {} was ordered with {was}, and the manifest wants {now}",
                    self.named()
                ));
            }
        }
        let own_key = held.origin != Origin::Elsewhere;
        (own_key && held.key != Some(wanted.terms.key))
            .then(|| format!("the certificate {} does not have a key of the kind {}", self.named(), wanted.terms.key))
    }

    fn not_delivered(&self, undelivered: &Undelivered) -> Option<Finding> {
        if let Some(file) = undelivered.files.first() {
            let says = format!("{file} does not contain the certificate {}", self.named());
            let finding =
                Finding::new(Code::CertificateUndelivered, Pin::Certificate, says, "Run settle: it writes the file");
            return Some(finding.seen(undelivered.files.iter().skip(1).cloned()));
        }
        if let Some((address, served)) = undelivered.listeners.first().filter(|_| undelivered.commands.is_empty()) {
            let got = match served {
                ServedView::Certificate { sha256, .. } => format!("serves certificate {}…", sha256.short()),
                ServedView::Failed { why, .. } => format!("serves none: {why}"),
                ServedView::NotTried => "was not asked".to_owned(),
            };
            let says = format!("{address} {got}, not the certificate {}", self.named());
            let remedy = "Run settle; if that does not help, check that this server reads the delivered files";
            let others = undelivered.listeners.iter().skip(1).map(|(address, _)| address.to_string());
            let finding = Finding::new(Code::ServedCertificateDiffers, Pin::Certificate, says, remedy);
            return Some(finding.seen(others));
        }
        let (command, said) = undelivered.commands.first()?;
        let says = match said {
            Some(said) => {
                format!("the command `{command}` failed after the certificate {} was delivered: {said}", self.named())
            }
            None => format!("the command `{command}` has not run since the certificate {} was delivered", self.named()),
        };
        Some(Finding::new(Code::CommandFailed, Pin::Certificate, says, "Run settle: it runs the command again"))
    }

    /// Whose task it is, and what to do.
    fn remedy(&self, does: &str) -> (PinState, String) {
        match self.wanted.terms.issued_by {
            Origin::Authority | Origin::SelfSigned | Origin::Platform => {
                (PinState::Loose, format!("Run settle: it {does}"))
            }
            Origin::Elsewhere => {
                let name = &self.wanted.name;
                let remedy = format!(
                    "Make a signing request with: pindrel cert request {name}; then import the issued certificate with: pindrel cert import {name} FILES"
                );
                (PinState::Blocked, remedy)
            }
        }
    }

    fn names(&self) -> String {
        self.wanted.names.first().map_or_else(String::new, |first| match self.wanted.names.len() {
            1 => first.to_string(),
            more => format!("{first} and {} more", more - 1),
        })
    }

    fn named(&self) -> String {
        match self.wanted.names.first() {
            Some(first) if first.as_str() == self.wanted.name => format!("of {first}"),
            _ => format!("\"{}\"", self.wanted.name),
        }
    }
}

/// The whole days from `from` to `until`.
fn days_between(from: Timestamp, until: Timestamp) -> i64 {
    (until.as_second() - from.as_second()) / 86_400
}
