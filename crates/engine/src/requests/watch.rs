//! Watching a change of records until every server and every resolver has it.

use std::time::Duration;

use futures::future::join_all;
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{HostnameId, ZoneId};
use pindrel_core::judging::findings::{AliasCause, Finding, ZoneCause};
use pindrel_core::judging::pins::Known;
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::propagation::{Reached, ServerAnswer, Spread};
use pindrel_core::zones::records::{RecordData, RecordSet};
use pindrel_core::zones::resolver::ResolverAddress;
use pindrel_dns::spread::Watched;

use crate::failure::internal;
use crate::requests::zones::ZoneRequests;

/// How often servers are asked, and resolvers.
const PACE: Duration = Duration::from_secs(1);

/// What is watched.
#[derive(Debug, Clone)]
pub struct WatchRequest {
    /// The zone.
    pub zone: ZoneId,
    /// The name.
    pub owner: DnsName,
    /// Which of its records.
    pub watched: Watched,
    /// What they shall be; what the server gives that takes changes where absent.
    pub wanted: Option<Vec<RecordSet>>,
    /// For how long caches may keep what was before, where that is known.
    pub old_ttl: Option<Ttl>,
    /// Since when every server has it, where that is known.
    pub everywhere: Option<Timestamp>,
    /// The resolvers; those of the zone where there are none.
    pub resolvers: Vec<ResolverAddress>,
}

impl ZoneRequests {
    /// Returns what is to be watched for a hostname: its alias as the manifest wants it.
    ///
    /// # Errors
    /// A [`Finding`] where it is not known yet where its alias leads.
    pub async fn watch_of(&self, id: HostnameId) -> Result<WatchRequest, Finding> {
        let wanted = self.context.desired.hostname(id);
        self.surveyor.survey_stale(&[id]).await.map_err(|error| internal(error.to_string()))?;
        let known = self.context.known();
        let about = Known::about(&self.context.desired, &known, id);
        let unknown = || Finding::alias(&wanted.hostname, AliasCause::TargetUnknown);
        let sets = about.wanted_alias().ok_or_else(unknown)?;
        // What the zone's server resolves itself is seen as addresses only.
        let is_resolved = sets.iter().flat_map(RecordSet::data).any(|data| matches!(data, RecordData::Alias(_)));
        let former = about.ownership.and_then(|own| own.former_alias);
        Ok(WatchRequest {
            zone: wanted.zone,
            owner: wanted.hostname.owner(),
            watched: Watched::Alias(about.alias_place()),
            wanted: (!is_resolved).then_some(sets),
            old_ttl: former.map(|former| former.ttl),
            everywhere: former.and_then(|former| former.gone),
            resolvers: Vec::new(),
        })
    }

    /// Watches until every server and every resolver has it, or who does not has something else, or the patience of
    /// the run is over; `on` sees each state.
    ///
    /// # Errors
    /// A [`Finding`] where the zone has no server, or the one that takes changes does not answer at first.
    pub async fn watch(&self, order: &WatchRequest, mut on: impl FnMut(&Spread)) -> Result<Spread, Finding> {
        let zone = &self.context.desired.zone(order.zone).name;
        self.zones.know(order.zone).await.map_err(|error| internal(error.to_string()))?;
        let servers = self.zones.servers(order.zone);
        let roots = self.context.desired.zone(order.zone).resolver_roots.as_ref();
        let resolvers = if order.resolvers.is_empty() {
            self.zones.resolvers(order.zone)
        } else {
            order.resolvers.iter().map(|resolver| resolver.clone().with_roots(roots)).collect()
        };
        let Some(first) = servers.first().copied() else {
            return Err(Finding::zone(zone, ZoneCause::NoServerKnown));
        };
        let lookups = self.context.drivers.lookups();
        let ask = async |server| lookups.watch_server(server, zone, &order.owner, order.watched).await;
        let at_first = ask(first).await;
        let (wanted, present) = match (&order.wanted, &at_first) {
            (Some(wanted), ServerAnswer::Gives { sets, .. }) => (wanted.clone(), !sets.is_empty()),
            (Some(wanted), ServerAnswer::Silent(_)) => (wanted.clone(), true),
            (None, ServerAnswer::Gives { sets, .. }) => (sets.clone(), true),
            (None, ServerAnswer::Silent(why)) => {
                let unseen = ZoneCause::RecordsUnseen { owner: order.owner.clone(), server: first, why: why.clone() };
                return Err(Finding::zone(zone, unseen));
            }
        };
        let negative = if present { None } else { lookups.negative_ttl(first, zone).await };
        let old_ttl = order.old_ttl.max(negative);
        let mut spread = Spread::new(wanted, &servers, &resolvers, old_ttl, order.everywhere);
        let begun = self.context.clock.elapsed();
        loop {
            // The first one before the others: they are judged by its serial.
            spread.server_said(0, ask(first).await, self.context.clock.now());
            let others = join_all(servers[1..].iter().map(|server| ask(*server))).await;
            for (index, answer) in others.into_iter().enumerate() {
                spread.server_said(index + 1, answer, self.context.clock.now());
            }
            if spread.is_everywhere() {
                let wanted = spread.wanted().to_vec();
                let asked = join_all(
                    resolvers
                        .iter()
                        .map(|resolver| lookups.watch_resolver(resolver, &order.owner, order.watched, &wanted)),
                );
                for (index, answer) in asked.await.into_iter().enumerate() {
                    spread.resolver_said(index, answer, self.context.clock.now());
                }
            }
            on(&spread);
            let left = self.context.bounds.patience.saturating_sub(self.context.clock.elapsed().saturating_sub(begun));
            if spread.is_done() || left.is_zero() || is_stuck(&spread) {
                return Ok(spread);
            }
            self.context.clock.sleep(PACE.min(left)).await;
        }
    }
}

/// Says whether those that do not have it will not get it: they have something else.
fn is_stuck(spread: &Spread) -> bool {
    let all = || spread.servers.iter().chain(&spread.resolvers).map(|peer| &peer.reached);
    let servers_left = spread.servers.iter().filter(|peer| peer.reached != Reached::Has).count();
    let is_over = |reached: &Reached| {
        matches!(reached, Reached::Has | Reached::Wrong { .. })
            // Not asked while a server lacks it, and that server may never get it.
            || (servers_left > 0 && *reached == Reached::NotAsked)
    };
    all().all(is_over) && all().any(|reached| matches!(reached, Reached::Wrong { .. }))
}

/// Returns how far away a time is, in whole seconds.
pub fn seconds_until(at: Timestamp, now: Timestamp) -> i64 {
    at.duration_since(now).max(SignedDuration::ZERO).as_secs()
}
