//! What can be wrong with an authority, or with the account there.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::subject::Naming;
use super::words::{Words, listed};
use super::{Again, Code, Judged};
use crate::judging::facts::Unreachable;
use crate::names::name::{DnsName, Hostname};

/// What is wrong with an authority.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AuthorityCause {
    /// It limits how often it is asked.
    RateLimited {
        /// Until when.
        until: Timestamp,
        /// What it said.
        said: String,
    },
    /// A limit in the manifest would be passed.
    LimitReached {
        /// The limit, as in `50 certificates in 7 days`.
        limit: String,
        /// Of what; empty where there is one for all.
        of: String,
        /// How many are spent.
        spent: usize,
        /// How many are reserved for renewals, of which this is none.
        reserved: u32,
        /// When one more is allowed.
        until: Timestamp,
    },
    /// A limit of the manifest takes fewer certificates than are to be ordered.
    LimitAhead {
        /// The limit, in words.
        limit: String,
        /// What it counts for; empty for the account.
        of: String,
        /// How many are spent.
        spent: usize,
        /// How many are reserved for renewals.
        reserved: u32,
        /// How many new ones are to be ordered.
        planned: usize,
        /// How many of them it takes now.
        taken: usize,
        /// When one more is allowed beyond these.
        until: Timestamp,
    },
    /// It does not offer a certificate profile.
    ProfileNotOffered {
        /// The profile.
        profile: String,
        /// Those that it offers.
        offered: Vec<String>,
    },
    /// CAA records cannot be looked up, so it would not issue.
    CaaUnseen {
        /// Of which name.
        name: String,
        /// Why.
        why: Unreachable,
    },
    /// CAA records of a name above cannot be looked up: an authority that cannot either would not issue.
    CaaUncertain {
        /// Of which name.
        owner: DnsName,
        /// Why.
        why: Unreachable,
    },
    /// Whether CAA records allow it is not known: it does not say how it is called there.
    CaaUnnamed {
        /// Where the records stand.
        owner: DnsName,
        /// Whom they allow.
        allowed: String,
    },
    /// CAA records forbid it to issue.
    CaaForbids {
        /// For which name.
        hostname: Hostname,
        /// How, as in `pki.example 0 issue "other.example" …`.
        barred: String,
        /// Where the records stand.
        owner: DnsName,
        /// How the authority is called there; `None` where it does not say.
        identity: Option<String>,
    },
    /// An account with another key is open.
    OtherAccountKey,
    /// It does not accept the external account key.
    ExternalKeyRefused {
        /// What it said.
        said: String,
    },
    /// It opens accounts only with an external account key.
    ExternalKeyMissing,
    /// There is no account, or none that is open.
    NoAccount {
        /// Whether there was one.
        closed: bool,
    },
}

/// How much of a limit is spent, as the end of a clause.
fn spent_in_words(of: &str, spent: usize, reserved: u32) -> String {
    let of = if of.is_empty() { String::new() } else { format!(" ({of})") };
    let kept = match reserved {
        0 => String::new(),
        reserved => format!("; {reserved} of them are reserved for renewals"),
    };
    format!("{of}, and {spent} are spent{kept}")
}

impl AuthorityCause {
    pub(super) fn judged(&self) -> Judged {
        match self {
            AuthorityCause::RateLimited { until, .. } => Judged::of(Code::RateLimited).again(Again::At(*until)),
            AuthorityCause::LimitReached { until, .. } | AuthorityCause::LimitAhead { until, .. } => {
                Judged::of(Code::LimitReached).again(Again::At(*until))
            }
            AuthorityCause::ProfileNotOffered { .. } => Judged::of(Code::ProfileNotOffered),
            AuthorityCause::CaaUnseen { .. } => Judged::of(Code::CaaForbids).again(Again::Now),
            AuthorityCause::CaaUncertain { .. } | AuthorityCause::CaaUnnamed { .. } => Judged::of(Code::CaaUncertain),
            AuthorityCause::CaaForbids { .. } => Judged::of(Code::CaaForbids),
            AuthorityCause::OtherAccountKey | AuthorityCause::ExternalKeyRefused { .. } => {
                Judged::of(Code::AuthorityRefuses)
            }
            AuthorityCause::ExternalKeyMissing | AuthorityCause::NoAccount { .. } => Judged::of(Code::AccountMissing),
        }
    }

    pub(super) fn words(&self, naming: Naming<'_>) -> Words {
        let authority = naming.authority();
        match self {
            AuthorityCause::RateLimited { until, said } => Words::new(
                format!("{authority} is rate-limiting this account until {until:.0}"),
                format!("Wait until {until:.0}, or raise the limit at the authority"),
            )
            .seen([format!("the authority said: \"{said}\"")]),
            AuthorityCause::LimitReached { limit, of, spent, reserved, until } => {
                let spent = spent_in_words(of, *spent, *reserved);
                Words::new(
                    format!("[authority.{authority}] allows {limit}{spent}"),
                    format!("Wait until {until:.0}, or raise the limit in the manifest if the authority allows more"),
                )
            }
            AuthorityCause::LimitAhead { limit, of, spent, reserved, planned, taken, until } => {
                let spent = spent_in_words(of, *spent, *reserved);
                Words::new(
                    format!(
                        "[authority.{authority}] allows {limit}{spent}: {taken} of {planned} new certificates can be ordered now"
                    ),
                    format!(
                        "The others wait until {until:.0} at least: cover more names with one certificate, such as a wildcard, or raise the limit in the manifest if the authority allows more"
                    ),
                )
            }
            AuthorityCause::ProfileNotOffered { profile, offered } => {
                let remedy = if offered.is_empty() {
                    "Remove profile: it offers none at all".to_owned()
                } else {
                    format!("Choose one that it offers: {}", listed(offered))
                };
                Words::new(format!("{authority} does not offer the profile \"{profile}\""), remedy)
            }
            AuthorityCause::CaaUnseen { name, why } => Words::new(
                format!("the CAA records of {name} cannot be looked up ({why}), so an authority would not issue"),
                "Make sure that the zone's servers answer",
            ),
            AuthorityCause::CaaUncertain { owner, why } => Words::new(
                format!(
                    "the CAA records of {owner} cannot be looked up ({why}): an authority that cannot either will not issue"
                ),
                format!("Make sure that the servers of {owner} answer"),
            ),
            AuthorityCause::CaaUnnamed { owner, allowed } => Words::new(
                format!(
                    "the CAA records of {owner} allow {allowed}, and {authority} does not say which name it goes by"
                ),
                format!(
                    "Write in [authority.{}], as its documentation says: caa_identities = [\"IDENTITY\"]",
                    authority.typed()
                ),
            ),
            AuthorityCause::CaaForbids { hostname, barred, owner, identity } => {
                let identity = identity.as_deref().unwrap_or("IDENTITY");
                let tag = if hostname.is_wildcard() { "issuewild" } else { "issue" };
                Words::new(
                    format!("no certificate can be issued for {hostname}: {barred}"),
                    format!("Add to {owner}: CAA 0 {tag} \"{identity}\"; or choose another authority"),
                )
            }
            AuthorityCause::OtherAccountKey => Words::new(
                format!("an account with another key already exists at {authority}"),
                "Change its key with: pindrel account change-key, or close it first",
            ),
            AuthorityCause::ExternalKeyRefused { said } => Words::new(
                format!("{authority} does not accept the external account key: {said}"),
                format!("Check id, secret and algorithm of external_account_key in [authority.{}]", authority.typed()),
            ),
            AuthorityCause::ExternalKeyMissing => Words::new(
                format!("{authority} opens accounts only with an external account key"),
                format!("Write external_account_key in [authority.{}]", authority.typed()),
            ),
            AuthorityCause::NoAccount { closed: true } => Words::new(
                format!("there is no open account at {authority}"),
                format!("Open one with: pindrel account register {}", authority.typed()),
            ),
            AuthorityCause::NoAccount { closed: false } => {
                Words::new(format!("there is no account at {authority}"), "Open one with: pindrel account register")
            }
        }
    }
}
