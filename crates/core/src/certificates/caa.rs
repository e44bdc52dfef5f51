//! Who may issue for a name: CAA records (RFC 8659, RFC 8657).

use crate::names::name::DnsName;

/// One CAA record (RFC 8659 §4.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CaaRecord {
    /// Whether who does not know the tag must not issue.
    pub critical: bool,
    /// The tag, such as `issue`, in lower case.
    pub tag: String,
    /// The value.
    pub value: String,
}

/// The set that counts for a name: the one nearest above it (RFC 8659 §3).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CaaSet {
    /// Where it stands.
    pub owner: DnsName,
    /// Its records.
    pub records: Vec<CaaRecord>,
}

/// Who asks to issue, and how.
#[derive(Debug, Clone, Copy)]
pub struct Asking<'a> {
    /// The names by which the authority is called in CAA records; from its directory.
    pub identities: &'a [String],
    /// Whether the name is a wildcard.
    pub wildcard: bool,
    /// The account's URL (RFC 8657 §3), once there is one.
    pub account: Option<&'a str>,
    /// The way of validating (RFC 8657 §4), such as `dns-01`.
    pub method: &'a str,
}

/// What a set says of an authority that it does not bar.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Permission {
    /// It may issue.
    Given,
    /// It may, if it is one of these: it does not say how it is called.
    Unknown {
        /// Whom the records allow.
        allowed: String,
    },
}

/// Why a set bars an authority.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Barred {
    /// No record names the authority.
    #[error("the CAA records of {owner} allow {allowed}, not {authority}")]
    Others {
        /// Where the records stand.
        owner: DnsName,
        /// Whom they allow.
        allowed: String,
        /// Who asks.
        authority: String,
    },
    /// The authority is named for another account.
    #[error("the CAA records of {owner} allow {authority} for another account only ({account})")]
    OtherAccount {
        /// Where the records stand.
        owner: DnsName,
        /// Who asks.
        authority: String,
        /// The account that they allow.
        account: String,
    },
    /// The authority is named for another way of validating.
    #[error("the CAA records of {owner} allow {authority} to validate by {methods} only")]
    OtherMethod {
        /// Where the records stand.
        owner: DnsName,
        /// Who asks.
        authority: String,
        /// The ways that they allow.
        methods: String,
    },
    /// A record that must be understood is not known to any authority.
    #[error(
        "{owner} has a critical CAA record with the tag \"{tag}\", so no authority that does not know it may issue"
    )]
    Critical {
        /// Where the records stand.
        owner: DnsName,
        /// The tag.
        tag: String,
    },
}

impl CaaSet {
    /// Says whether the set lets an authority issue.
    ///
    /// # Errors
    /// [`Barred`] says why not.
    pub fn permits(&self, asking: Asking<'_>) -> Result<Permission, Barred> {
        let owner = || self.owner.clone();
        if let Some(odd) = self.records.iter().find(|record| record.critical && !is_known(&record.tag)) {
            return Err(Barred::Critical { owner: owner(), tag: odd.tag.clone() });
        }
        let tagged = |tag: &'static str| self.records.iter().filter(move |record| record.tag == tag);
        let tag = if asking.wildcard && tagged("issuewild").next().is_some() { "issuewild" } else { "issue" };
        let properties: Vec<Issuer<'_>> = tagged(tag).map(|record| Issuer::read(&record.value)).collect();
        if properties.is_empty() {
            return Ok(Permission::Given);
        }
        let mut named: Vec<&str> =
            properties.iter().map(|issuer| issuer.domain).filter(|domain| !domain.is_empty()).collect();
        named.dedup();
        // Of an authority that does not say how it is called, no more is known than that nobody may issue.
        if asking.identities.is_empty() && !named.is_empty() {
            return Ok(Permission::Unknown { allowed: named.join(", ") });
        }
        let authority = || match asking.identities {
            [] => "any authority".to_owned(),
            identities => identities.join(" or "),
        };
        let own: Vec<&Issuer<'_>> =
            properties.iter().filter(|issuer| asking.identities.iter().any(|own| issuer.is(own))).collect();
        if own.is_empty() {
            let allowed = if named.is_empty() { "nobody".into() } else { named.join(", ") };
            return Err(Barred::Others { owner: owner(), allowed, authority: authority() });
        }
        let mut barred = None;
        for issuer in own {
            match issuer.accepts(asking) {
                Ok(()) => return Ok(Permission::Given),
                Err(Unfit::Account(account)) => {
                    barred = Some(Barred::OtherAccount { owner: owner(), authority: authority(), account });
                }
                Err(Unfit::Method(methods)) => {
                    barred = Some(Barred::OtherMethod { owner: owner(), authority: authority(), methods });
                }
            }
        }
        barred.map_or(Ok(Permission::Given), Err)
    }
}

fn is_known(tag: &str) -> bool {
    matches!(tag, "issue" | "issuewild" | "iodef" | "issuemail" | "contactemail" | "contactphone")
}

/// What may stand around the parts of a value (WSP of RFC 5234).
const BLANKS: [char; 2] = [' ', '\t'];

/// The value of an `issue` property (RFC 8659 §4.2).
struct Issuer<'v> {
    domain: &'v str,
    parameters: Vec<(&'v str, &'v str)>,
}

enum Unfit {
    Account(String),
    Method(String),
}

impl<'v> Issuer<'v> {
    /// Reads a value; one that is malformed names nobody (RFC 8659 §4.2).
    fn read(value: &'v str) -> Issuer<'v> {
        Issuer::parse(value).unwrap_or(Issuer { domain: "", parameters: Vec::new() })
    }

    fn parse(value: &'v str) -> Option<Issuer<'v>> {
        let (domain, rest) = value.split_once(';').unwrap_or((value, ""));
        let domain = domain.trim_matches(BLANKS).trim_end_matches('.');
        let is_label = |label: &str| {
            let ends_plain = !label.starts_with('-') && !label.ends_with('-');
            !label.is_empty() && ends_plain && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
        };
        if !domain.is_empty() && !domain.split('.').all(is_label) {
            return None;
        }
        if rest.trim_matches(BLANKS).is_empty() {
            return Some(Issuer { domain, parameters: Vec::new() });
        }
        let parameter = |part: &'v str| {
            let (key, value) = part.trim_matches(BLANKS).split_once('=')?;
            let (key, value) = (key.trim_end_matches(BLANKS), value.trim_start_matches(BLANKS));
            (is_label(key) && value.bytes().all(|byte| byte.is_ascii_graphic())).then_some((key, value))
        };
        Some(Issuer { domain, parameters: rest.split(';').map(parameter).collect::<Option<_>>()? })
    }

    fn is(&self, identity: &str) -> bool {
        !self.domain.is_empty() && self.domain.eq_ignore_ascii_case(identity.trim_end_matches('.'))
    }

    fn accepts(&self, asking: Asking<'_>) -> Result<(), Unfit> {
        for (key, value) in &self.parameters {
            // An account that does not exist yet cannot be the one named.
            if key.eq_ignore_ascii_case("accounturi") && asking.account != Some(*value) {
                return Err(Unfit::Account((*value).to_owned()));
            }
            if key.eq_ignore_ascii_case("validationmethods")
                && !value.split(',').any(|method| method.trim().eq_ignore_ascii_case(asking.method))
            {
                return Err(Unfit::Method((*value).to_owned()));
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set(records: &[&str]) -> CaaSet {
        let record = |text: &&str| {
            let (tag, value) = text.split_once(' ').unwrap();
            let (critical, tag) = tag.strip_prefix('!').map_or((false, tag), |tag| (true, tag));
            CaaRecord { critical, tag: tag.into(), value: value.into() }
        };
        CaaSet { owner: "larkfield.example".parse().unwrap(), records: records.iter().map(record).collect() }
    }

    #[test]
    fn a_set_is_read_as_the_authority_will() {
        let account = "https://ca.example/account/7";
        // Records, whether a wildcard is asked for, and what comes of it.
        let table: &[(&[&str], bool, &str)] = &[
            (&["iodef mailto:tls@larkfield.example"], false, "ok"),
            (&["issue ca.example"], false, "ok"),
            (&["issue CA.Example. ; accounturi=https://ca.example/account/7"], false, "ok"),
            (&["issue ca.example; validationmethods=http-01,DNS-01"], true, "ok"),
            (&["issue other.example", "issue ca.example"], false, "ok"),
            (&["issue other.example"], false, "allow other.example, not ca.example"),
            (&["issue ;"], false, "allow nobody"),
            (&["issue ca.example", "issuewild ;"], true, "allow nobody"),
            (&["issue ca.example", "issuewild ;"], false, "ok"),
            (&["issue ca.example; accounturi=https://ca.example/account/8"], false, "another account"),
            (&["issue ca.example; validationmethods=http-01"], false, "validate by http-01 only"),
            (&["issue ca.example", "!tomorrow x"], false, "critical CAA record"),
            (&["issue ca.example", "tomorrow x"], false, "ok"),
            (&["issue ca.example", "!iodef mailto:tls@larkfield.example"], false, "ok"),
            // Only wildcards are spoken of (RFC 8659 §4.3).
            (&["issuewild other.example"], false, "ok"),
            (&["issuewild other.example"], true, "allow other.example"),
            (&["issue other.example", "issuewild ca.example"], true, "ok"),
            (&["issue other.example", "issuewild ca.example"], false, "allow other.example"),
            // One record that fits is enough.
            (&["issue ca.example; accounturi=https://ca.example/account/8", "issue ca.example"], false, "ok"),
            (
                &["issue ca.example; accounturi=https://ca.example/account/7; validationmethods=http-01"],
                false,
                "validate by http-01 only",
            ),
            (&["issue ca.example.other.example"], false, "not ca.example"),
            (&["issue "], false, "allow nobody"),
            // What is malformed names nobody (RFC 8659 §4.2).
            (&["issue ca.example accounturi=https://ca.example/account/7"], false, "allow nobody"),
            (&["issue ca.example; accounturi"], false, "allow nobody"),
            (&["issue ca.example; validationmethods=dns-01;"], false, "allow nobody"),
            (&["issue -ca.example"], false, "allow nobody"),
            (&["issue ca.example ;\t"], false, "ok"),
        ];
        for (records, wildcard, expected) in table {
            let identities = ["ca.example".to_owned()];
            let asking =
                Asking { identities: &identities, wildcard: *wildcard, account: Some(account), method: "dns-01" };
            let said = set(records).permits(asking).map_or_else(|barred| barred.to_string(), |_| "ok".into());
            assert!(said.contains(expected), "{records:?}: {said}");
        }
        // Who has no account yet cannot be the one that is named.
        let named = set(&["issue ca.example; accounturi=https://ca.example/account/7"]);
        let identities = ["other.example".to_owned(), "ca.example".to_owned()];
        let asking = Asking { identities: &identities, wildcard: false, account: None, method: "dns-01" };
        assert!(matches!(named.permits(asking), Err(Barred::OtherAccount { .. })));
        assert_eq!(set(&[]).permits(asking), Ok(Permission::Given));
        // An authority that does not say how it is called may be the one that is named; where nobody is,
        // it may not issue either.
        let unnamed = Asking { identities: &[], ..asking };
        assert_eq!(named.permits(unnamed), Ok(Permission::Unknown { allowed: "ca.example".into() }));
        let barred = set(&["issue ;"]).permits(unnamed).unwrap_err().to_string();
        assert_eq!(barred, "the CAA records of larkfield.example allow nobody, not any authority");
    }

    proptest::proptest! {
        /// Whatever stands in a zone is read without a panic, and a set that names nobody
        /// of ours never lets us issue.
        #[test]
        fn no_value_opens_what_is_barred(values in proptest::collection::vec("[ -~]{0,40}", 1..4), wildcard in proptest::bool::ANY) {
            let records: Vec<String> = values.iter().map(|value| format!("issue {value}")).collect();
            let texts: Vec<&str> = records.iter().map(String::as_str).collect();
            let identities = ["ca.never-named.example".to_owned()];
            let asking = Asking { identities: &identities, wildcard, account: None, method: "dns-01" };
            proptest::prop_assert!(set(&texts).permits(asking).is_err());
        }
    }
}
