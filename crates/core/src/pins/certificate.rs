//! `certificate`: valid, not due, covering the name, from the wanted authority.

use jiff::Timestamp;

use super::{Known, Pin, PinReport, PinState};
use crate::findings::{Code, Finding};

pub(super) fn judge(known: Known<'_>, now: Timestamp) -> PinReport {
    let wanted = known.desired.certificate(known.wanted.certificate);
    let authority = known.desired.authority(wanted.authority);
    let hostname = &known.wanted.hostname;
    let Some(held) = known.certificate else {
        let says = format!("no certificate covers {hostname} yet");
        let finding = Finding::new(Code::CertificateMissing, Pin::Certificate, says, "run settle: it issues one");
        return PinReport::new(PinState::Loose, Some(now), "none yet").because(finding);
    };
    let describe = |state, detail: String| PinReport {
        expires: Some(held.not_after),
        renew_at: Some(held.renew_at()),
        sha256: Some(held.sha256),
        ..PinReport::new(state, Some(now), detail)
    };
    let lacking: Vec<&str> =
        wanted.names.iter().filter(|name| !held.names.contains(name)).map(|name| name.as_str()).collect();
    if held.authority != authority.directory.as_str() || !lacking.is_empty() {
        let says = if lacking.is_empty() {
            format!("the certificate of {hostname} is from another authority than [authority.{}]", authority.name)
        } else {
            format!("the certificate \"{}\" does not cover {}", wanted.name, lacking.join(", "))
        };
        let finding = Finding::new(Code::CertificateDiffers, Pin::Certificate, says, "run settle: it issues a new one");
        return describe(PinState::Loose, "not the wanted one".into()).because(finding);
    }
    let days = days_between(now, held.not_after);
    if now >= held.not_after {
        let says = format!("the certificate of {hostname} expired {} days ago", days_between(held.not_after, now));
        let finding = Finding::new(Code::CertificateExpired, Pin::Certificate, says, "run settle: it issues a new one");
        return describe(PinState::Loose, "expired".into()).because(finding);
    }
    if now >= held.renew_at() {
        let says = format!("the certificate of {hostname} has {days} days left and is due");
        let finding = Finding::new(Code::CertificateDue, Pin::Certificate, says, "run settle: it renews it");
        return describe(PinState::Loose, format!("due, {days} days left")).because(finding);
    }
    describe(PinState::Held, format!("{days} days left"))
}

/// The whole days from `from` to `until`.
fn days_between(from: Timestamp, until: Timestamp) -> i64 {
    (until.as_second() - from.as_second()) / 86_400
}
