//! What may be spent at an authority: limits, and what was spent already.
//!
//! An authority locks out who fails or orders too much. The manifest says its limits;
//! every spending is kept with its time, and an attempt that would pass a limit is not
//! made. A part of each limit is kept for renewals.

use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use jiff::{SignedDuration, Timestamp};

use crate::names::name::Hostname;

/// The longest span that a limit may look back: older spendings are forgotten.
pub const LONGEST_WITHIN_SECS: u64 = 60 * 86_400;

/// What is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Spending {
    /// A validation that the authority made and that failed.
    FailedValidation,
    /// An order.
    Order,
    /// A certificate.
    Certificate,
}

/// For what it is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Per {
    /// For each name, a wildcard counting as its base name.
    Hostname,
    /// For each registered domain: one label below a public suffix.
    RegisteredDomain,
    /// For each exact set of names.
    Names,
    /// For the account as a whole.
    Account,
}

impl Spending {
    /// All kinds.
    pub const ALL: [Spending; 3] = [Spending::FailedValidation, Spending::Order, Spending::Certificate];

    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Spending::FailedValidation => "failed-validation",
            Spending::Order => "order",
            Spending::Certificate => "certificate",
        }
    }
}

impl Per {
    /// All kinds.
    pub const ALL: [Per; 4] = [Per::Hostname, Per::RegisteredDomain, Per::Names, Per::Account];

    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            Per::Hostname => "hostname",
            Per::RegisteredDomain => "registered-domain",
            Per::Names => "names",
            Per::Account => "account",
        }
    }

    /// Returns what an order for `names` counts for, each once.
    pub fn subjects(self, names: &[Hostname]) -> Vec<String> {
        let each: BTreeSet<String> = match self {
            Per::Hostname => names.iter().map(|name| name.base().to_owned()).collect(),
            Per::RegisteredDomain => names.iter().map(|name| registered_domain(name).to_owned()).collect(),
            Per::Names => {
                let sorted: BTreeSet<&str> = names.iter().map(Hostname::as_str).collect();
                [sorted.into_iter().collect::<Vec<_>>().join(" ")].into()
            }
            Per::Account => [String::new()].into(),
        };
        each.into_iter().collect()
    }
}

/// Returns the registered domain that a name lies in: one label below a public suffix.
pub fn registered_domain(name: &Hostname) -> &str {
    psl::domain_str(name.base()).unwrap_or(name.base())
}

macro_rules! word {
    ($type:ty, $what:literal) => {
        impl FromStr for $type {
            type Err = String;

            fn from_str(text: &str) -> Result<Self, String> {
                let found = Self::ALL.into_iter().find(|kind| kind.as_str() == text);
                found.ok_or_else(|| format!("\"{text}\" does not name what {}", $what))
            }
        }

        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(self.as_str())
            }
        }
    };
}
word!(Spending, "a limit counts");
word!(Per, "a limit counts for");

/// One limit of an authority.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Limit {
    /// How many there may be.
    pub count: u32,
    /// Of what.
    pub of: Spending,
    /// For what.
    pub per: Per,
    /// Within how many seconds.
    pub within_secs: u64,
    /// How many of them only renewals may use.
    pub reserve: u32,
}

impl Limit {
    /// Returns how many more may be spent now without the reserve for renewals.
    pub fn left(&self, spent: &[Timestamp], now: Timestamp) -> usize {
        self.allowed(false).saturating_sub(self.counted(spent, now).len())
    }

    /// Returns since when what was spent counts at `now`.
    pub fn since(&self, now: Timestamp) -> Timestamp {
        now.checked_sub(self.within()).unwrap_or(Timestamp::MIN)
    }

    /// How many there may be; a renewal may use what is reserved.
    fn allowed(&self, renewal: bool) -> usize {
        let reserve = if renewal { 0 } else { self.reserve };
        usize::try_from(self.count.saturating_sub(reserve).max(1)).unwrap_or(usize::MAX)
    }

    /// Returns the times that count at `now`, sorted. What lies in the future (a clock was set back) counts too.
    fn counted(&self, spent: &[Timestamp], now: Timestamp) -> Vec<Timestamp> {
        let since = self.since(now);
        let mut counted: Vec<Timestamp> = spent.iter().copied().filter(|at| *at > since).collect();
        counted.sort_unstable();
        counted
    }

    fn within(&self) -> SignedDuration {
        SignedDuration::from_secs(i64::try_from(self.within_secs).unwrap_or(i64::MAX))
    }

    /// Returns when one more may be spent, if not at once. `spent` holds the times of
    /// what was spent already, in any order; those too old count for nothing.
    pub fn may_go_on(&self, spent: &[Timestamp], renewal: bool, now: Timestamp) -> Option<Timestamp> {
        let allowed = self.allowed(renewal);
        if spent.len() < allowed {
            return None;
        }
        let counted = self.counted(spent, now);
        let over = counted.len().checked_sub(allowed)?;
        counted[over].checked_add(self.within()).ok()
    }
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let what = match self.of {
            Spending::FailedValidation => "failed validations",
            Spending::Order => "orders",
            Spending::Certificate => "certificates",
        };
        let of = match self.per {
            Per::Hostname => "for a hostname",
            Per::RegisteredDomain => "for a registered domain",
            Per::Names => "for the same names",
            Per::Account => "for the account",
        };
        let span = SignedDuration::from_secs(i64::try_from(self.within_secs).unwrap_or(i64::MAX));
        let (number, unit) = match span.as_secs() {
            secs if secs % 86_400 == 0 => (secs / 86_400, "days"),
            secs if secs % 3600 == 0 => (secs / 3600, "hours"),
            secs if secs % 60 == 0 => (secs / 60, "minutes"),
            secs => (secs, "seconds"),
        };
        let counted = |word: &'static str, one: bool| if one { word.trim_end_matches('s') } else { word };
        let (what, unit) = (counted(what, self.count == 1), counted(unit, number == 1));
        write!(f, "{} {what} {of} within {number} {unit}", self.count)
    }
}

/// Returns how much of a limit only renewals may use, unless the manifest says: a tenth.
pub fn default_reserve(of: Spending, count: u32) -> u32 {
    match of {
        Spending::FailedValidation => 0,
        Spending::Order | Spending::Certificate => count / 10,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + secs).unwrap()
    }

    const LIMIT: Limit = Limit { count: 4, of: Spending::Order, per: Per::Account, within_secs: 3600, reserve: 1 };

    #[test]
    fn a_limit_opens_again_when_its_oldest_spending_is_old_enough() {
        let spent = [at(0), at(10), at(20)];
        assert_eq!(LIMIT.may_go_on(&spent, true, at(100)), None);
        assert_eq!(LIMIT.may_go_on(&spent, false, at(100)), Some(at(3600)), "the fourth is kept for renewals");
        assert_eq!(LIMIT.may_go_on(&spent, false, at(3600)), None);
        let set_back = LIMIT.may_go_on(&spent, false, at(-86_400));
        assert_eq!(set_back, Some(at(3600)), "a clock that is set back opens nothing");
    }

    #[test]
    fn a_limit_is_told_in_the_largest_unit_that_fits() {
        let table = [
            (Limit { within_secs: 3600, ..LIMIT }, "4 orders for the account within 1 hour"),
            (Limit { within_secs: 10_800, per: Per::Names, ..LIMIT }, "4 orders for the same names within 3 hours"),
            (
                Limit { within_secs: 604_800, of: Spending::Certificate, per: Per::RegisteredDomain, ..LIMIT },
                "4 certificates for a registered domain within 7 days",
            ),
            (
                Limit { count: 1, within_secs: 86_400, of: Spending::FailedValidation, per: Per::Hostname, reserve: 0 },
                "1 failed validation for a hostname within 1 day",
            ),
            (Limit { within_secs: 5_400, ..LIMIT }, "4 orders for the account within 90 minutes"),
            (Limit { within_secs: 61, ..LIMIT }, "4 orders for the account within 61 seconds"),
        ];
        for (limit, says) in table {
            assert_eq!(limit.to_string(), says);
        }
    }

    #[test]
    fn an_order_counts_for_each_of_its_domains_once() {
        let names: Vec<Hostname> =
            ["*.stations.larkfield.example", "stations.larkfield.example", "api.larkfield.example"]
                .map(|name| name.parse().unwrap())
                .into();
        assert_eq!(Per::Hostname.subjects(&names), ["api.larkfield.example", "stations.larkfield.example"]);
        assert_eq!(Per::RegisteredDomain.subjects(&names), ["larkfield.example"]);
        assert_eq!(Per::Names.subjects(&names).len(), 1);
    }

    proptest! {
        /// Whoever waits as told never has more than the limit within any span.
        #[test]
        fn who_waits_as_told_never_passes_the_limit(gaps in proptest::collection::vec(0i64..2000, 1..60), renewal: bool) {
            let mut now = at(0);
            let mut spent: Vec<Timestamp> = Vec::new();
            for gap in gaps {
                now = now.checked_add(SignedDuration::from_secs(gap)).unwrap();
                while let Some(until) = LIMIT.may_go_on(&spent, renewal, now) {
                    prop_assert!(until > now);
                    now = until;
                }
                spent.push(now);
                let recent = spent.iter().filter(|at| now.as_second() - at.as_second() < 3600).count();
                prop_assert!(recent <= 4);
            }
        }
    }
}
