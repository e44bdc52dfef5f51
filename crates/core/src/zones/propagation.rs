//! How a change of records spreads: which servers have it, what resolvers still answer, and until when.
//!
//! Whoever looks tells a [`Spread`] what came back; what follows from that is worked out here. "Not there yet" and
//! "wrong" are different states: the one ends by itself, the other does not.

use std::net::SocketAddr;

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::judging::facts::{Unreachable, Unresolved};
use crate::values::{Serial, Ttl};
use crate::zones::records::{RecordSet, in_words, same_data};
use crate::zones::resolver::ResolverAddress;

/// How often a resolver must answer with the change: one that serves stale data answers once more with the old
/// (RFC 8767 §5).
const ANSWERS_NEEDED: u32 = 2;
/// How often a server must give something else beside a serial that is no older: records and serial are asked for one
/// after the other.
const LOOKS_NEEDED: u32 = 2;

/// What an authoritative server said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ServerAnswer {
    /// It gave this, with its serial.
    Gives {
        /// The sets of the types that are watched.
        sets: Vec<RecordSet>,
        /// Of the zone's SOA record.
        serial: Option<Serial>,
    },
    /// Nothing.
    Silent(Unreachable),
}

/// What a resolver said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ResolverAnswer {
    /// It gave this, and may go on giving it for so many seconds.
    Gives {
        /// The sets at the name itself.
        sets: Vec<RecordSet>,
        /// The rest of their TTL.
        for_secs: u32,
    },
    /// There is nothing, which it may keep for so many seconds (RFC 2308 §5).
    Nothing {
        /// What is missing.
        why: Unresolved,
        /// For how long.
        for_secs: Option<u32>,
    },
    /// It did not answer.
    Silent(Unreachable),
}

/// How far one server or resolver is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum Reached {
    /// It was not asked: a resolver is asked for a change only once every server has it, or it would keep what was
    /// before for another TTL.
    NotAsked,
    /// It has the change.
    Has,
    /// It has what was before, and will follow.
    NotYet {
        /// What it gives.
        gives: String,
        /// Until when it may, where that is known.
        until: Option<Timestamp>,
    },
    /// It has something else, which will not change by itself.
    Wrong {
        /// What it gives.
        gives: String,
    },
    /// It does not answer.
    Silent {
        /// Why.
        why: String,
    },
}

/// A server or a resolver with how far it is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Peer {
    /// Its address, or the URL of a resolver over TLS or HTTPS.
    pub address: String,
    /// How far it is.
    #[serde(flatten)]
    pub reached: Reached,
    /// How often in a row it gave what it gives now; of a resolver that should have forgotten it, how often since.
    #[serde(skip)]
    times: u32,
    /// Of a resolver: when what was before should be forgotten.
    #[serde(skip)]
    due: Option<Timestamp>,
}

/// A change on its way.
#[derive(Debug, Clone)]
pub struct Spread {
    wanted: Vec<RecordSet>,
    /// The servers; the one that takes changes first.
    pub servers: Vec<Peer>,
    /// The resolvers.
    pub resolvers: Vec<Peer>,
    serial: Option<Serial>,
    /// How long a cache may keep what was before: the longest that was noted or seen.
    old_ttl: Option<Ttl>,
    /// When every server was seen to have it.
    everywhere: Option<Timestamp>,
    /// Until when a resolver said that it keeps an older answer.
    kept_until: Option<Timestamp>,
}

fn peers(addresses: &[impl ToString]) -> Vec<Peer> {
    let peer = |address: String| Peer { address, reached: Reached::NotAsked, times: 0, due: None };
    addresses.iter().map(|address| peer(address.to_string())).collect()
}

impl Spread {
    /// Begins to watch. `old_ttl` is for how long caches may keep what was before, where that was noted: the TTL of
    /// the old records, or where there were none, the lesser of the SOA record's TTL and minimum (RFC 2308 §3).
    /// `everywhere` is since when every server has it, where that is known.
    pub fn new(
        wanted: Vec<RecordSet>,
        servers: &[SocketAddr],
        resolvers: &[ResolverAddress],
        old_ttl: Option<Ttl>,
        everywhere: Option<Timestamp>,
    ) -> Spread {
        let (servers, resolvers) = (peers(servers), peers(resolvers));
        Spread { wanted, servers, resolvers, serial: None, old_ttl, everywhere, kept_until: None }
    }

    /// What is to be there.
    pub fn wanted(&self) -> &[RecordSet] {
        &self.wanted
    }

    /// Notes what a server said; the one that takes changes is asked before the others.
    pub fn server_said(&mut self, index: usize, answer: ServerAnswer, now: Timestamp) {
        let first_has = self.servers.first().is_some_and(|first| first.reached == Reached::Has);
        let Some(peer) = self.servers.get_mut(index) else { return };
        let before = std::mem::replace(&mut peer.reached, Reached::NotAsked);
        peer.reached = match answer {
            ServerAnswer::Silent(why) => Reached::Silent { why: why.to_string() },
            ServerAnswer::Gives { sets, serial } => {
                if index == 0 {
                    self.serial = serial;
                }
                if same_data(&sets, &self.wanted) {
                    Reached::Has
                } else {
                    let seen = sets.iter().map(RecordSet::ttl).max();
                    self.old_ttl = self.old_ttl.max(seen);
                    let gives = in_words(&sets);
                    // One that does not transfer from the first may count its serials otherwise; then nothing can be
                    // said of it, and it is waited for.
                    let is_no_older = match (serial, self.serial) {
                        (Some(own), Some(first)) => own >= first,
                        _ => false,
                    };
                    let same = matches!(&before, Reached::Wrong { gives: old } | Reached::NotYet { gives: old, .. } if *old == gives);
                    peer.times = if same { peer.times + 1 } else { 1 };
                    if index > 0 && first_has && is_no_older && peer.times >= LOOKS_NEEDED {
                        Reached::Wrong { gives }
                    } else {
                        Reached::NotYet { gives, until: None }
                    }
                }
            }
        };
        let all = self.servers.iter().all(|peer| peer.reached == Reached::Has);
        if !all {
            self.everywhere = None;
        } else if self.everywhere.is_none() {
            self.everywhere = Some(now);
        }
    }

    /// Notes what a resolver said; it is asked only once [`Spread::is_everywhere`].
    pub fn resolver_said(&mut self, index: usize, answer: ResolverAnswer, now: Timestamp) {
        let kept = |secs: u32| now.checked_add(SignedDuration::from_secs(i64::from(secs) + 1)).unwrap_or(now);
        let (gives, until) = match answer {
            ResolverAnswer::Silent(why) => {
                if let Some(peer) = self.resolvers.get_mut(index) {
                    (peer.reached, peer.times) = (Reached::Silent { why: why.to_string() }, 0);
                }
                return;
            }
            ResolverAnswer::Gives { sets, .. } if same_data(&sets, &self.wanted) => {
                if let Some(peer) = self.resolvers.get_mut(index) {
                    peer.times = if peer.reached == Reached::Has { peer.times + 1 } else { 1 };
                    (peer.reached, peer.due) = (Reached::Has, None);
                }
                return;
            }
            ResolverAnswer::Gives { sets, for_secs } => (in_words(&sets), Some(kept(for_secs))),
            ResolverAnswer::Nothing { why, for_secs } => (why.to_string(), for_secs.map(kept)),
        };
        self.kept_until = self.kept_until.max(until);
        let computed = self.computed_end();
        let Some(peer) = self.resolvers.get_mut(index) else { return };
        let due = peer.due.or(until).or(computed);
        let is_over = due.is_some_and(|due| due < now);
        peer.times = match peer.reached {
            Reached::NotYet { .. } | Reached::Wrong { .. } if is_over => peer.times + 1,
            _ => 0,
        };
        peer.due = due;
        // One that serves stale data gives it once more, and asks for new data meanwhile.
        let is_wrong = peer.times > LOOKS_NEEDED;
        peer.reached = if is_wrong { Reached::Wrong { gives } } else { Reached::NotYet { gives, until } };
    }

    /// Says whether every server has the change, so that resolvers may be asked.
    pub fn is_everywhere(&self) -> bool {
        self.everywhere.is_some()
    }

    /// Says whether every server has it, and every resolver in as many answers as are needed.
    pub fn is_done(&self) -> bool {
        let has = |peer: &Peer| peer.reached == Reached::Has && peer.times >= ANSWERS_NEEDED;
        self.is_everywhere() && self.resolvers.iter().all(has)
    }

    /// Returns who is still waited for.
    pub fn waiting_for(&self) -> Vec<&str> {
        let servers = self.servers.iter().filter(|peer| peer.reached != Reached::Has);
        let resolvers =
            self.resolvers.iter().filter(|peer| peer.reached != Reached::Has || peer.times < ANSWERS_NEEDED);
        servers.chain(resolvers).map(|peer| peer.address.as_str()).collect()
    }

    /// Returns who has something else, which does not change by itself.
    pub fn wrong(&self) -> impl Iterator<Item = &Peer> {
        self.servers.iter().chain(&self.resolvers).filter(|peer| matches!(peer.reached, Reached::Wrong { .. }))
    }

    /// When the last cache has forgotten what was before, by what was noted; counted from when the last server changed.
    fn computed_end(&self) -> Option<Timestamp> {
        let kept = SignedDuration::from_secs(i64::from(self.old_ttl?.as_secs()) + 1);
        self.everywhere?.checked_add(kept).ok()
    }

    /// Returns when the last cache has forgotten what was before; unknown until every server has the change. An answer
    /// that is kept for longer lengthens it.
    pub fn until(&self) -> Option<Timestamp> {
        self.computed_end().max(self.kept_until).filter(|_| self.is_everywhere())
    }

    /// Returns for how long a cache may keep what was before, where that is known.
    pub fn old_ttl(&self) -> Option<Ttl> {
        self.old_ttl
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zones::records::RecordData;

    const START: i64 = 1_800_000_000;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(START + second).unwrap()
    }

    fn address(last: u8) -> SocketAddr {
        SocketAddr::from(([192, 0, 2, last], 53))
    }

    fn a(last: u8) -> Vec<RecordSet> {
        RecordSet::group([(Ttl::MINUTE, RecordData::A([192, 0, 2, last].into()))])
    }

    fn gives(sets: Vec<RecordSet>, serial: u32) -> ServerAnswer {
        ServerAnswer::Gives { sets, serial: Some(Serial(serial)) }
    }

    fn cached(sets: Vec<RecordSet>, for_secs: u32) -> ResolverAnswer {
        ResolverAnswer::Gives { sets, for_secs }
    }

    fn spread(old: Option<Ttl>) -> Spread {
        Spread::new(a(9), &[address(1), address(2)], &[address(5).into()], old, None)
    }

    #[test]
    fn a_server_that_lags_is_waited_for_and_one_with_the_newest_serial_is_wrong() {
        let mut spread = spread(None);
        spread.server_said(0, gives(a(7), 4), at(0));
        spread.server_said(1, gives(a(7), 4), at(0));
        assert!(matches!(spread.servers[1].reached, Reached::NotYet { .. }), "nobody has it yet");
        for second in 1..9 {
            spread.server_said(0, gives(a(9), 5), at(second));
            spread.server_said(1, gives(a(7), 4), at(second));
            assert!(matches!(spread.servers[1].reached, Reached::NotYet { .. }), "it has an older serial");
            assert_eq!((spread.is_everywhere(), spread.until()), (false, None));
        }
        // Records and serial are asked for one after the other: once may be a coincidence.
        spread.server_said(1, gives(a(8), 5), at(10));
        assert!(matches!(spread.servers[1].reached, Reached::NotYet { .. }));
        spread.server_said(1, gives(a(8), 5), at(11));
        assert_eq!(spread.servers[1].reached, Reached::Wrong { gives: "A 192.0.2.8".into() });
        assert_eq!(spread.wrong().map(|peer| peer.address.as_str()).collect::<Vec<_>>(), [address(2).to_string()]);
        spread.server_said(1, ServerAnswer::Silent(Unreachable::Refused), at(12));
        assert!(matches!(spread.servers[1].reached, Reached::Silent { .. }));
        // The end counts from when the last server changed, by the longest TTL that was seen.
        spread.server_said(1, gives(a(9), 6), at(20));
        assert_eq!(spread.until(), Some(at(20 + 61)));
        assert_eq!(spread.waiting_for(), [address(5).to_string()]);
        // It goes back: then nothing is known again.
        spread.server_said(1, gives(a(7), 4), at(30));
        assert_eq!((spread.is_everywhere(), spread.until()), (false, None));
    }

    #[test]
    fn a_resolver_is_done_after_two_answers_and_wrong_only_after_its_time() {
        let both = |spread: &mut Spread, second| {
            spread.server_said(0, gives(a(9), 5), at(second));
            spread.server_said(1, gives(a(9), 5), at(second));
        };
        let mut spread = spread(Some(Ttl::MINUTE));
        both(&mut spread, 0);
        spread.resolver_said(0, cached(a(7), 90), at(1));
        assert_eq!(spread.until(), Some(at(92)), "an answer with more TTL lengthens it");
        for second in 2..=91 {
            spread.resolver_said(0, cached(a(7), u32::try_from(91 - second).unwrap()), at(second));
            assert!(matches!(spread.resolvers[0].reached, Reached::NotYet { .. }), "{second}");
        }
        // It serves stale data once more, then the new.
        spread.resolver_said(0, cached(a(7), 30), at(93));
        assert!(matches!(spread.resolvers[0].reached, Reached::NotYet { .. }));
        spread.resolver_said(0, cached(a(9), 60), at(94));
        assert!(!spread.is_done(), "once is not enough");
        spread.resolver_said(0, cached(a(9), 59), at(95));
        assert!(spread.is_done() && spread.waiting_for().is_empty());
        // One that goes on with it has it from somewhere else.
        spread.resolver_said(0, ResolverAnswer::Nothing { why: Unresolved::NoSuchName, for_secs: Some(5) }, at(100));
        for second in 101..107 {
            spread.resolver_said(
                0,
                ResolverAnswer::Nothing { why: Unresolved::NoSuchName, for_secs: Some(5) },
                at(second),
            );
            assert!(matches!(spread.resolvers[0].reached, Reached::NotYet { .. }), "{second}");
        }
        for second in 107..111 {
            spread.resolver_said(
                0,
                ResolverAnswer::Nothing { why: Unresolved::NoSuchName, for_secs: Some(5) },
                at(second),
            );
        }
        assert!(matches!(spread.resolvers[0].reached, Reached::Wrong { .. }), "{:?}", spread.resolvers[0]);
        assert!(!spread.is_done());
    }
}
