//! What follows from what is known of a change of name servers.

use crate::judging::findings::{Finding, ZoneCause};
use crate::zones::name_servers::NameServerChange;

/// Says why a change would make a signed zone bogus. A validating resolver may have the keys of the one and an answer of
/// the other: each needs the keys of both, and the zone above a DS record for each (RFC 6781 §4.3.5).
pub fn hindrance(change: &NameServerChange) -> Option<Finding> {
    let keys = change.keys.as_ref()?;
    let is_shared = keys.new_matches_ds && keys.missing_at_new.is_empty() && keys.missing_at_old.is_empty();
    (!is_shared).then(|| Finding::zone(&change.zone, ZoneCause::KeysNotShared(keys.clone())))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zones::name_servers::KeysOfBoth;

    #[test]
    fn a_signed_zone_changes_only_with_the_keys_of_both() {
        let zone: crate::names::name::DnsName = "larkfield.example".parse().unwrap();
        let change = |keys| NameServerChange { zone: zone.clone(), name_servers: Vec::new(), kept: Vec::new(), keys };
        let both = KeysOfBoth { new_matches_ds: true, ..KeysOfBoth::default() };
        for (keys, expected) in [
            (None, 0),
            (Some(both.clone()), 0),
            (Some(KeysOfBoth { new_matches_ds: false, ..both.clone() }), 1),
            (Some(KeysOfBoth { missing_at_new: vec![1], missing_at_old: vec![2, 3], ..both }), 2),
        ] {
            let found = hindrance(&change(keys.clone()));
            assert_eq!(found.map_or(0, |finding| finding.words().evidence.len()), expected, "{keys:?}");
        }
    }
}
