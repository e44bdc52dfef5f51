//! Certificates that Pindrel holds the key of.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::certificates::renewal::{RenewalRule, RenewalWindow, due_at};
use crate::names::name::Hostname;
use crate::values::{Fingerprint, KeyKind};

/// Who issues a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// An authority, over ACME.
    #[default]
    Authority,
    /// Another issuer: it is imported.
    Elsewhere,
    /// Nobody: it is self-signed, for a first bring-up.
    #[serde(rename = "self")]
    SelfSigned,
    /// The platform of the endpoint, which keeps the key.
    Platform,
}

impl Origin {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Origin::Authority => "authority",
            Origin::Elsewhere => "elsewhere",
            Origin::SelfSigned => "self",
            Origin::Platform => "platform",
        }
    }
}

impl fmt::Display for Origin {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for Origin {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let all = [Origin::Authority, Origin::Elsewhere, Origin::SelfSigned, Origin::Platform];
        let found = all.into_iter().find(|origin| origin.as_str() == text);
        found.ok_or_else(|| format!("\"{text}\" is not an issuer of certificates"))
    }
}

/// Why a certificate is replaced before it is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Hash)]
#[serde(rename_all = "kebab-case")]
pub enum ReplaceReason {
    /// Somebody asked for it (`cert renew`), at this time.
    Requested(Timestamp),
    /// It was revoked.
    Revoked,
    /// Its key was compromised: the next one never has the same key.
    KeyCompromised,
}

/// What was asked for beside names and key when a certificate was ordered.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderedTerms {
    /// The profile.
    pub profile: Option<String>,
    /// The root that its chain should lead to.
    pub chain_root: Option<String>,
}

/// A certificate that Pindrel holds the key of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The names it covers.
    pub names: Vec<Hostname>,
    /// Who issued it.
    pub origin: Origin,
    /// The directory URL of the authority that issued it; empty for any other origin.
    pub authority: String,
    /// The kind of its key; `None` for an imported one of another kind.
    pub key: Option<KeyKind>,
    /// From when it is valid.
    pub not_before: Timestamp,
    /// Until when it is valid.
    pub not_after: Timestamp,
    /// The name by which its authority gives renewal information (RFC 9773 §4.1).
    pub renewal_id: Option<String>,
    /// What the authority advised last.
    pub window: Option<RenewalWindow>,
    /// Why it is replaced before it is due.
    pub replace: Option<ReplaceReason>,
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
    /// What was asked for, where that is known.
    pub ordered: Option<OrderedTerms>,
}

impl HeldCertificate {
    /// Says whether less than a tenth of its life is left: then it is renewed although not all is as it should be.
    pub fn is_near_its_end(&self, now: Timestamp) -> bool {
        let life = self.not_after.as_second() - self.not_before.as_second();
        (self.not_after.as_second() - now.as_second()).saturating_mul(10) < life
    }

    /// Returns when it is due.
    pub fn due_at(&self, rule: RenewalRule) -> Timestamp {
        match self.replace {
            Some(_) => self.not_before,
            None => due_at(self.sha256, self.not_before, self.not_after, self.window.as_ref(), rule),
        }
    }
}

#[cfg(test)]
impl HeldCertificate {
    /// One that an authority has issued for a name, as tests need it.
    pub(crate) fn issued(sha256: Fingerprint, name: Hostname, valid: std::ops::Range<Timestamp>) -> HeldCertificate {
        HeldCertificate {
            sha256,
            names: vec![name],
            origin: Origin::Authority,
            authority: "https://authority.example/directory".into(),
            key: Some(KeyKind::EcdsaP256),
            not_before: valid.start,
            not_after: valid.end,
            renewal_id: None,
            window: None,
            replace: None,
            revoked: None,
            ordered: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + secs).unwrap()
    }

    #[test]
    fn a_certificate_that_is_to_be_replaced_is_due_from_its_start() {
        let name = "api.larkfield.example".parse().unwrap();
        let mut held = HeldCertificate::issued(Fingerprint::from_digest([7; 32]), name, at(0)..at(90 * 86_400));
        let due = held.due_at(RenewalRule::Before(std::time::Duration::from_secs(30 * 86_400)));
        assert!((at(59 * 86_400)..=at(60 * 86_400)).contains(&due), "{due}");
        held.replace = Some(ReplaceReason::KeyCompromised);
        assert_eq!(held.due_at(RenewalRule::Share), at(0));
    }

    #[test]
    fn the_words_for_who_issues_are_read_as_they_are_written() {
        for origin in [Origin::Authority, Origin::Elsewhere, Origin::SelfSigned] {
            assert_eq!(origin.to_string().parse(), Ok(origin));
        }
        assert!("nobody".parse::<Origin>().is_err());
    }
}
