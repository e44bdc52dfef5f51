//! Moving a hostname from one endpoint to another, so that no request fails: the new endpoint is ready
//! before the alias leads there, and the old one stays as long as a cache may lead to it.

use jiff::Timestamp;

use crate::desired::{Desired, EndpointId, WantedHostname};
use crate::judging::facts::{AliasView, EndpointKey, Ownership};
use crate::values::Ttl;
use crate::zones::records::RecordSet;

/// The TTL of an alias while its hostname moves: what is wrong with the new endpoint can be taken back
/// within a minute.
pub const MOVING_TTL: Ttl = Ttl::MINUTE;

/// Returns the endpoints where Pindrel has bound a hostname and where the manifest no longer wants it.
pub fn former_endpoints<'k>(
    desired: &'k Desired,
    wanted: &'k WantedHostname,
    ownership: &'k Ownership,
) -> impl Iterator<Item = &'k EndpointKey> {
    let is_wanted = |key: &EndpointKey| wanted.endpoints().any(|id| desired.endpoint(id).key() == *key);
    ownership.bindings.keys().filter(move |key| !key.is_unrecorded() && !is_wanted(key))
}

/// The same, as far as the manifest still names them.
pub fn former_endpoint_ids(desired: &Desired, wanted: &WantedHostname, ownership: &Ownership) -> Vec<EndpointId> {
    former_endpoints(desired, wanted, ownership).filter_map(|key| desired.endpoint_at(key)).collect()
}

/// Returns the TTL that the alias should have now.
pub fn alias_ttl(desired: &Desired, wanted: &WantedHostname, ownership: Option<&Ownership>) -> Ttl {
    let moves = ownership.is_some_and(|own| !former_endpoint_ids(desired, wanted, own).is_empty());
    if moves { wanted.ttl.min(MOVING_TTL) } else { wanted.ttl }
}

/// Returns the longest TTL that any server gives an alias.
pub fn longest_ttl(view: &AliasView) -> Option<Ttl> {
    let sets = view.servers.iter().filter_map(|server| server.gives.as_ref().ok()).flatten();
    sets.map(RecordSet::ttl).max()
}

/// Says whether an alias that is about to move is cached for no longer than [`MOVING_TTL`].
pub fn has_low_ttl(view: &AliasView, ownership: &Ownership, now: Timestamp) -> bool {
    let is_low = longest_ttl(view).is_none_or(|ttl| ttl <= MOVING_TTL);
    let is_cached = ownership.former_alias.is_some_and(|former| {
        former.lowered && former.ttl > MOVING_TTL && former.forgotten_at().is_none_or(|at| now < at)
    });
    is_low && !is_cached
}

#[cfg(test)]
mod tests {
    use std::net::SocketAddr;

    use jiff::SignedDuration;
    use proptest::prelude::*;

    use super::*;
    use crate::desired::{HostnameId, SMALL_MANIFEST, resolved};
    use crate::judging::facts::{FormerAlias, ServerRecords, Unreachable};
    use crate::values::Fingerprint;
    use crate::zones::records::RecordData;

    fn ttl(secs: u32) -> Ttl {
        Ttl::try_from(secs).unwrap()
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_800_000_000 + second).unwrap()
    }

    /// An alias as servers give it: its TTL at each, or no answer.
    fn view(ttls: &[Option<u32>]) -> AliasView {
        let servers = ttls.iter().enumerate().map(|(n, secs)| {
            let target = || RecordData::Cname("gw.north.edge.test.".parse().unwrap());
            ServerRecords {
                server: SocketAddr::from(([192, 0, 2, u8::try_from(n).unwrap()], 53)),
                gives: secs
                    .map(|secs| RecordSet::group([(ttl(secs), target())]))
                    .ok_or(Unreachable::TimedOut { after_ms: 1 }),
            }
        });
        AliasView::of(servers.collect())
    }

    #[test]
    fn an_alias_moves_once_no_server_and_no_cache_has_a_long_ttl() {
        let lowered = |ttl_before, gone| FormerAlias { ttl: ttl(ttl_before), gone, lowered: true };
        let table = [
            (&[Some(60), Some(60)][..], None, 0, true),
            (&[Some(600), Some(60)], None, 0, false),
            (&[Some(60), None], None, 0, true),
            (&[], None, 0, true),
            // Lowered, and not seen on every server yet.
            (&[Some(60)], Some(lowered(600, None)), 9_999, false),
            (&[Some(60)], Some(lowered(600, Some(at(0)))), 600, false),
            (&[Some(60)], Some(lowered(600, Some(at(0)))), 601, true),
            (&[Some(60)], Some(lowered(30, None)), 0, true),
            // It led elsewhere before: that is waited for when the old binding goes.
            (&[Some(60)], Some(FormerAlias { lowered: false, ..lowered(600, None) }), 0, true),
        ];
        for (n, (servers, former_alias, now, expected)) in table.into_iter().enumerate() {
            let ownership = Ownership { former_alias, ..Ownership::default() };
            assert_eq!(has_low_ttl(&view(servers), &ownership, at(now)), expected, "row {n}");
        }
        assert_eq!(longest_ttl(&view(&[Some(60), None, Some(3_600)])), Some(ttl(3_600)));
        assert_eq!(longest_ttl(&view(&[None])), None);
    }

    /// One endpoint more, and a hostname at the first.
    const MORE: &str = "[endpoint.shop]\nkind = \"gateway\"\ndriver = \"program\"\n\
                        program = [\"python3\", \"adapter.py\"]\n\
                        [hostname.\"api.larkfield.example\"]\nendpoint = \"catalogue\"\nttl = \"10m\"\n";

    /// A hostname moves from wherever it was bound, as long as the manifest names that place, whatever it
    /// is called there.
    #[test]
    fn a_hostname_moves_from_the_places_where_it_was_bound() {
        let manifest = format!("{SMALL_MANIFEST}{MORE}");
        let before = resolved(&manifest);
        let moved = manifest.replace("endpoint = \"catalogue\"", "endpoint = \"shop\"");
        let renamed = manifest
            .replace("[endpoint.catalogue]", "[endpoint.survey]\nid = \"catalogue\"")
            .replace("endpoint = \"catalogue\"", "endpoint = \"survey\"");
        let elsewhere = moved.replace("https://platform.example", "https://other.example");
        let shorter = moved.replace("10m", "30s");
        let other_words = manifest.replace("\"python3\", ", "\"python3.11\", ");
        let [catalogue, shop] = [0, 1].map(|n| before.endpoint(EndpointId(n)).key());
        let table: [(&str, &[&EndpointKey], usize, usize, u32); 8] = [
            (&manifest, &[], 0, 0, 600),
            (&manifest, &[&catalogue], 0, 0, 600),
            (&moved, &[&catalogue], 1, 1, 60),
            (&moved, &[&catalogue, &shop], 1, 1, 60),
            (&shorter, &[&catalogue], 1, 1, 30),
            // Another name for the same endpoint, and another command line, are no move.
            (&renamed, &[&catalogue], 0, 0, 600),
            (&other_words, &[&catalogue], 0, 0, 600),
            // A platform that the manifest no longer names cannot be asked to unbind.
            (&elsewhere, &[&catalogue], 1, 0, 600),
        ];
        for (n, (text, bound_at, former, reachable, secs)) in table.into_iter().enumerate() {
            let desired = resolved(text);
            let wanted = desired.hostname(HostnameId(0));
            let mut own = Ownership::default();
            for key in bound_at.iter().copied().chain([&EndpointKey::unrecorded()]) {
                own.adopt_binding(
                    key.clone(),
                    wanted.binding(&desired, wanted.first_endpoint(), Some(Fingerprint::of(b"leaf"))),
                );
            }
            assert_eq!(former_endpoints(&desired, wanted, &own).count(), former, "row {n}");
            assert_eq!(former_endpoint_ids(&desired, wanted, &own).len(), reachable, "row {n}");
            assert_eq!(alias_ttl(&desired, wanted, Some(&own)), ttl(secs), "row {n}");
            assert_eq!(alias_ttl(&desired, wanted, None), wanted.ttl, "row {n}");
        }
    }

    proptest! {
        /// However often an alias is replaced, none of those before it is forgotten too early.
        #[test]
        fn no_former_alias_is_forgotten_before_its_ttl_is_over(
            changes in prop::collection::vec((1_u32..90_000, 0_i64..2_000, any::<bool>()), 1..8),
        ) {
            let (mut own, mut now, mut kept_until) = (Ownership::default(), 0, Vec::new());
            for (secs, passed, seen_gone) in changes {
                now += passed;
                own.replace_alias(ttl(secs), false, at(now));
                kept_until.push(at(now) + SignedDuration::from_secs(i64::from(secs)));
                if seen_gone {
                    own.alias_gone(at(now));
                }
            }
            own.alias_gone(at(now));
            let forgotten = own.former_alias.and_then(|former| former.forgotten_at()).unwrap();
            for until in kept_until {
                prop_assert!(forgotten > until, "{forgotten} {until}");
            }
        }
    }
}
