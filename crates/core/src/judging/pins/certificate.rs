//! `certificate`: valid, not due, covering the names, from where the manifest says, and
//! where it should be.

use jiff::{SignedDuration, Timestamp};

use super::{Known, PinReport, PinState};
use crate::certificates::delivery::Undelivered;
use crate::desired::{Desired, WantedCertificate};
use crate::endpoints::endpoint::Deployment;
use crate::judging::facts::{BindingView, HeldCertificate, Origin, ServedView};
use crate::judging::findings::{BindingCause, CertificateCause, Differs, Finding, Got, Renewal};
use crate::names::name::Hostname;

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
    let finding = |cause| Finding::binding(hostname, endpoint, cause);
    let awaited = |bound| {
        let state = if bound { PinState::Working } else { PinState::Loose };
        PinReport::new(state, seen, "none yet").because(finding(BindingCause::NoCertificate { bound }))
    };
    let BindingView::Present { deployment, served, .. } = &fact.value else {
        return match &fact.value {
            BindingView::Unreachable { .. } => PinReport::new(PinState::Unknown, seen, "platform unreachable"),
            _ => awaited(false),
        };
    };
    let issued = known.issued();
    let sha256 = match (issued, served) {
        (Some(issued), _) => issued.sha256,
        (None, ServedView::Certificate { sha256, .. }) if *deployment == Deployment::Deployed => *sha256,
        _ => return awaited(true),
    };
    let expires = issued.map(|issued| issued.not_after);
    let report =
        |state, detail: String| PinReport { expires, sha256: Some(sha256), ..PinReport::new(state, seen, detail) };
    match expires {
        Some(end) if end.duration_since(now) < LATE => {
            let not_renewed = BindingCause::NotRenewed { ends: end, expired: now >= end };
            report(PinState::Blocked, "not renewed by the platform".into()).because(finding(not_renewed))
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
        let (by, state) = self.renewal();
        if let Some(what) = self.difference(held) {
            let differs = CertificateCause::Differs { what, by };
            return report(state, "not the wanted one".into()).because(self.finding(differs));
        }
        if now >= held.not_after {
            let expired = CertificateCause::Expired { days: days_between(held.not_after, now), by };
            return report(state, "expired".into()).because(self.finding(expired));
        }
        if let Some(why) = held.replace {
            let replaced = CertificateCause::Replaced { why, by };
            return report(state, "must be replaced".into()).because(self.finding(replaced));
        }
        if let Some(at) = held.revoked {
            let revoked = CertificateCause::Revoked { at };
            return report(PinState::Blocked, "revoked".into()).because(self.finding(revoked));
        }
        if now >= held.due_at(self.wanted.terms.renewal) {
            let due = CertificateCause::Due { days, by };
            return report(state, format!("due, {days} days left")).because(self.finding(due));
        }
        if let Some(cause) = self.undelivered.and_then(not_delivered) {
            let detail = format!("{days} days left, not delivered");
            return report(PinState::Loose, detail).because(self.finding(cause));
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
        let (by, state) = self.renewal();
        PinReport::new(state, Some(now), "none yet").because(self.finding(CertificateCause::Missing(by)))
    }

    fn finding(&self, cause: CertificateCause) -> Finding {
        Finding::certificate(self.wanted, cause)
    }

    /// In what the certificate differs from the manifest, if it does.
    fn difference(&self, held: &HeldCertificate) -> Option<Differs> {
        let wanted = self.wanted;
        let covered = |name: &Hostname| held.names.iter().any(|own| own == name || own.covers(name));
        let lacking: Vec<Hostname> = wanted.names.iter().filter(|name| !covered(name)).cloned().collect();
        if !lacking.is_empty() {
            return Some(Differs::Lacks(lacking));
        }
        // One that was made for names which are no longer wanted would go on vouching for them.
        let unwanted: Vec<Hostname> = held.names.iter().filter(|name| !wanted.names.contains(name)).cloned().collect();
        if held.origin != Origin::Elsewhere && !unwanted.is_empty() {
            return Some(Differs::Unwanted(unwanted));
        }
        let issued_by = wanted.terms.issued_by;
        match (wanted.authority.map(|authority| self.desired.authority(authority)), held.origin) {
            // One that was bought is taken over, and renewed over ACME when it is due.
            (Some(_), Origin::Elsewhere) => {}
            (Some(authority), Origin::Authority) if held.authority == authority.directory.as_str() => {}
            (Some(authority), _) => return Some(Differs::OtherAuthority(authority.name.clone())),
            (None, origin) if origin != issued_by => {
                return Some(Differs::OtherOrigin { is: origin, wanted: issued_by });
            }
            (None, _) => {}
        }
        if let (Some(ordered), Some(authority)) = (&held.ordered, wanted.authority) {
            let terms = wanted.ordered_terms(self.desired.authority(authority));
            let pairs =
                [("profile", &ordered.profile, &terms.profile), ("root", &ordered.chain_root, &terms.chain_root)];
            if let Some((what, is, wanted)) = pairs.into_iter().find(|(_, is, wanted)| is != wanted) {
                return Some(Differs::OtherTerms { what: what.to_owned(), is: is.clone(), wanted: wanted.clone() });
            }
        }
        let own_key = held.origin != Origin::Elsewhere;
        (own_key && held.key != Some(wanted.terms.key)).then(|| Differs::OtherKey(wanted.terms.key.to_string()))
    }

    /// Who makes the next one, and how the pin stands until then.
    fn renewal(&self) -> (Renewal, PinState) {
        match self.wanted.terms.issued_by {
            Origin::Authority | Origin::SelfSigned | Origin::Platform => (Renewal::Settle, PinState::Loose),
            Origin::Elsewhere => (Renewal::Person, PinState::Blocked),
        }
    }
}

fn not_delivered(undelivered: &Undelivered) -> Option<CertificateCause> {
    if !undelivered.files.is_empty() {
        return Some(CertificateCause::Undelivered { files: undelivered.files.clone() });
    }
    let mut listeners = undelivered.listeners.iter().filter(|_| undelivered.commands.is_empty());
    if let Some((address, served)) = listeners.next() {
        let got = match served {
            // Its address is the listener's.
            ServedView::Failed { why, .. } => Got::Nothing { address: None, why: why.clone() },
            served => Got::from(served),
        };
        let others = listeners.map(|(address, _)| address.to_string()).collect();
        return Some(CertificateCause::NotServed { address: address.to_string(), got, others });
    }
    let (command, said) = undelivered.commands.first()?;
    Some(CertificateCause::Command { command: command.clone(), said: said.clone() })
}

/// The whole days from `from` to `until`.
fn days_between(from: Timestamp, until: Timestamp) -> i64 {
    (until.as_second() - from.as_second()) / 86_400
}
