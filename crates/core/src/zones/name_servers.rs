//! A zone that is about to be served by others: what caches keep of the old servers, and the keys of both
//! (RFC 6781 §4.3.5).

use serde::{Deserialize, Serialize};

use crate::names::name::DnsName;

/// What is known of a change of name servers before it is made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct NameServerChange {
    /// The zone.
    #[serde(skip)]
    pub zone: DnsName,
    /// The NS set at the new server: what the zone above is to have.
    pub name_servers: Vec<DnsName>,
    /// What caches keep that leads to the old servers.
    pub kept: Vec<Kept>,
    /// The keys of both, where the zone above calls the zone signed.
    pub keys: Option<KeysOfBoth>,
}

/// Records that lead to the old servers, and for how long caches keep them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Kept {
    /// Which they are.
    pub records: KeptRecords,
    /// Their TTL in seconds.
    pub ttl: u32,
}

/// Which records caches keep.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptRecords {
    /// The NS set in the zone above.
    NsAbove,
    /// The NS set in the zone itself.
    NsOwn,
    /// The addresses of the servers in the zone above.
    Glue,
    /// The DS set in the zone above.
    Ds,
}

impl KeptRecords {
    /// Returns what they are called in a sentence.
    pub fn in_words(self) -> &'static str {
        match self {
            KeptRecords::NsAbove => "the NS set of the zone above",
            KeptRecords::NsOwn => "the zone's own NS set",
            KeptRecords::Glue => "the glue",
            KeptRecords::Ds => "the DS set",
        }
    }
}

/// The keys of a signed zone on its old and its new server.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Hash, Deserialize)]
pub struct KeysOfBoth {
    /// Whether a DS record of the zone above matches a key of the new server.
    pub new_matches_ds: bool,
    /// The tags of keys that only the old server has.
    pub missing_at_new: Vec<u16>,
    /// The tags of keys that only the new server has.
    pub missing_at_old: Vec<u16>,
}

impl NameServerChange {
    /// Returns what caches keep for longest: so long the old servers have to go on serving once the delegation has
    /// changed.
    pub fn longest_kept(&self) -> Option<Kept> {
        // Of several the first, which says most.
        self.kept.iter().copied().rev().max_by_key(|kept| kept.ttl)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_old_servers_are_needed_for_as_long_as_caches_keep_what_leads_to_them() {
        let zone: DnsName = "larkfield.example".parse().unwrap();
        let change = |kept| NameServerChange { zone: zone.clone(), name_servers: Vec::new(), kept, keys: None };
        let kept = [(KeptRecords::NsAbove, 3_600), (KeptRecords::Ds, 86_400), (KeptRecords::Glue, 60)];
        let longest = change(kept.map(|(records, ttl)| Kept { records, ttl }).to_vec()).longest_kept();
        assert_eq!(longest, Some(Kept { records: KeptRecords::Ds, ttl: 86_400 }));
        assert_eq!(change(Vec::new()).longest_kept(), None);
    }
}
