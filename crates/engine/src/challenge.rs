//! Challenge records: where they belong, put there, waited for, and taken out again.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use futures::future::join_all;
use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::acme::order::ChallengeRecord;
use pindrel_core::desired::{CertificateId, ZoneId};
use pindrel_core::name::{DnsName, Hostname};
use pindrel_core::pins::{PinState, judge_zone};
use pindrel_dns::challenge;
use pindrel_state::{ChallengeRow, Moment, OrderRow};

use crate::carry::{Pace, names};
use crate::error::{EngineError, StepFailure};
use crate::{Engine, Event, LOOKUPS_AT_ONCE};

/// How long the servers of a zone may take to give up a challenge record.
const CLEAR_PATIENCE: Duration = Duration::from_secs(60);

/// Where the challenge records of a name belong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Place {
    /// The name, at the end of all aliases.
    pub(crate) owner: DnsName,
    /// The zone that it lies in.
    pub(crate) zone: ZoneId,
}

impl Engine {
    fn zone_at(&self, name: &DnsName) -> Option<ZoneId> {
        let zones = self.desired.zones.iter().zip(0u32..).filter(|(zone, _)| name.is_within(&zone.name));
        zones.max_by_key(|(zone, _)| zone.name.as_str().len()).map(|(_, id)| ZoneId(id))
    }

    /// Finds where the challenge record of a name belongs: found once a run.
    pub(crate) async fn challenge_place(&self, name: &DnsName) -> Result<Place, StepFailure> {
        if let Some(place) = self.memory().places.get(name) {
            return Ok(place.clone());
        }
        let zone = self.zone_at(name);
        let resolvers = zone.map_or(&[][..], |zone| self.world.resolvers(&self.desired, zone));
        self.zones_known.get_or_try_init(async || self.know_zones().await).await?;
        let servers_of = |at: &DnsName| self.zone_at(at).map(|zone| self.zone_servers(zone));
        let owner = challenge::place(name, servers_of, resolvers)
            .await
            .map_err(|error| StepFailure::new(error.to_string(), error.remedy()))?;
        let zone = self.zone_at(&owner).ok_or_else(|| {
            StepFailure::new(format!("{owner} lies in no zone of the manifest"), "add its zone to the manifest")
        })?;
        let place = Place { owner, zone };
        self.memory().places.insert(name.clone(), place.clone());
        Ok(place)
    }

    /// Makes sure that the servers of every zone are known, where the manifest names none.
    async fn know_zones(&self) -> Result<(), EngineError> {
        for (zone, id) in self.desired.zones.iter().zip(0u32..).filter(|(zone, _)| zone.servers.is_empty()) {
            tracing::debug!(zone = %zone.name, "looking for its servers");
            self.know_zone(ZoneId(id)).await?;
        }
        Ok(())
    }

    async fn know_zone(&self, id: ZoneId) -> Result<(), EngineError> {
        let known = self.memory().zones.contains_key(&id);
        if known { Ok(()) } else { self.look_at_zone(id).await }
    }

    /// Says why the zone that a challenge record goes into is of no use, if it is none:
    /// the authority would not see what is written there.
    pub(crate) async fn check_challenge_zone(&self, place: &Place) -> Result<(), StepFailure> {
        self.know_zone(place.zone).await?;
        let zone = self.desired.zone(place.zone);
        let report = self.memory().zones.get(&place.zone).map(|fact| judge_zone(zone, &fact.value));
        let blocked = report.filter(|report| report.state == PinState::Blocked);
        match blocked.and_then(|report| report.findings.into_iter().next()) {
            Some(finding) => {
                let says =
                    format!("{}, so an authority would not see the challenge record {}", finding.says, place.owner);
                Err(StepFailure::new(says, finding.remedy))
            }
            None => Ok(()),
        }
    }

    /// Puts the challenge records into their zones, and waits until every
    /// authoritative server gives them.
    pub(crate) async fn publish(
        &self,
        hostname: &Hostname,
        row: &OrderRow,
        records: &[ChallengeRecord],
    ) -> Result<(), StepFailure> {
        let mut zones: BTreeMap<ZoneId, Vec<ChallengeRecord>> = BTreeMap::new();
        for record in records {
            let Place { owner, zone } = self.challenge_place(&record.name).await?;
            zones.entry(zone).or_default().push(ChallengeRecord { name: owner, text: record.text.clone() });
        }
        for (zone, records) in &zones {
            let name = &self.desired.zone(*zone).name;
            let rows: Vec<ChallengeRow> =
                records.iter().map(|record| ChallengeRow { zone: name.clone(), record: record.clone() }).collect();
            self.state.note_challenge_records(row.id, &rows)?;
        }
        self.journal(Moment::Begun, "challenge-put", row.certificate.clone(), names(&row.names))?;
        let made = Instant::now();
        // Each to its end, also where another fails: an update that is under way must not
        // come after the clearing.
        let puts = zones.iter().map(async |(zone, records)| {
            let servers = self.zone_servers(*zone);
            self.world.zone_driver(&self.desired, *zone, &servers)?.add_challenges(records).await?;
            Ok::<_, StepFailure>(servers.into_iter().map(|server| (server, records.iter().collect())))
        });
        let put: Vec<_> = join_all(puts).await.into_iter().collect::<Result<_, _>>()?;
        self.await_challenges(hostname, put.into_iter().flatten().collect()).await?;
        let least = zones.keys().map(|zone| self.desired.zone(*zone).least_wait).max().unwrap_or_default();
        if let Some(left) = least.checked_sub(made.elapsed()).filter(|left| !left.is_zero()) {
            self.tell_waiting(hostname, "issue", format!("the least wait of {} s to be over", least.as_secs()));
            self.waits.sleep(left).await;
        }
        self.journal(Moment::Ended, "challenge-put", row.certificate.clone(), names(&row.names))
    }

    /// Waits until every server gives each of its records, naming who lags.
    async fn await_challenges(
        &self,
        hostname: &Hostname,
        mut left: Vec<(SocketAddr, Vec<&ChallengeRecord>)>,
    ) -> Result<(), StepFailure> {
        let mut pace = Pace::new(self.transfer_patience);
        loop {
            let looks = left.into_iter().map(|(server, records)| async move {
                match challenge::lacking(server, &records).await {
                    Ok(lacking) => ((server, lacking), server.to_string()),
                    Err(error) => ((server, records), format!("{server} ({error})")),
                }
            });
            let lagging = join_all(looks).await.into_iter().filter(|((_, lacking), _)| !lacking.is_empty());
            let why: Vec<String>;
            (left, why) = lagging.unzip();
            let Some((_, lacking)) = left.first() else { return Ok(()) };
            let Some(wait) = pace.next() else {
                return Err(StepFailure::new(
                    format!("{} never gave the challenge record {}", why.join(" and "), lacking[0].name),
                    "see why that server does not transfer the zone, then run settle again",
                ));
            };
            self.tell_waiting(hostname, "issue", format!("{} to give the challenge record", why.join(" and ")));
            self.waits.sleep(wait).await;
        }
    }

    /// Takes an order's challenge records out of their zones; that they are gone from
    /// every server is seen to at the end of the run.
    pub(crate) async fn take_back(&self, row: &OrderRow) -> Result<(), StepFailure> {
        let mut zones: BTreeMap<DnsName, Vec<ChallengeRecord>> = BTreeMap::new();
        for standing in self.state.standing_challenge_records(Some(row.id))? {
            zones.entry(standing.zone).or_default().push(standing.record);
        }
        for (zone, records) in zones {
            self.journal(Moment::Begun, "challenge-clear", row.certificate.clone(), zone.to_string())?;
            if let Some(id) = self.zone_named(&zone) {
                let servers = self.zone_servers(id);
                let driver = self.world.zone_driver(&self.desired, id, &servers)?;
                // A failure here harms nothing yet: the end of the run tries again and tells.
                if let Err(error) = driver.delete_challenges(&records).await {
                    tracing::warn!(%zone, %error, "challenge records not cleared yet");
                }
            }
            self.journal(Moment::Ended, "challenge-clear", row.certificate.clone(), zone.to_string())?;
        }
        Ok(())
    }

    fn zone_named(&self, name: &DnsName) -> Option<ZoneId> {
        self.desired.zones.iter().position(|zone| zone.name == *name).map(|index| ZoneId(index as u32))
    }

    /// Clears the challenge records of all orders that have ended, by exact value, and
    /// waits until no server gives them any more.
    pub(crate) async fn clear_leftovers(&self) -> Result<(), EngineError> {
        let mut zones: BTreeMap<DnsName, Vec<ChallengeRow>> = BTreeMap::new();
        for row in self.state.standing_challenge_records(None)? {
            zones.entry(row.zone.clone()).or_default().push(row);
        }
        for (zone, rows) in zones {
            if let Err(failure) = self.clear_zone(&zone, &rows).await {
                let says = format!("challenge records of {zone} are still to be cleared: {}", failure.says);
                self.listener.on(Event::Note { says });
            }
        }
        Ok(())
    }

    async fn clear_zone(&self, zone: &DnsName, rows: &[ChallengeRow]) -> Result<(), StepFailure> {
        let id = self
            .zone_named(zone)
            .ok_or_else(|| StepFailure::new("the zone is not in the manifest any more", "add it"))?;
        let known = self.memory().zones.contains_key(&id);
        if !known && let Some(fact) = self.state.zone(zone)? {
            self.memory().zones.insert(id, fact);
        }
        let _working = self.waits.work();
        let servers = self.zone_servers(id);
        let driver = self.world.zone_driver(&self.desired, id, &servers)?;
        let records: Vec<ChallengeRecord> = rows.iter().map(|row| row.record.clone()).collect();
        driver.delete_challenges(&records).await?;
        let mut pace = Pace::new(CLEAR_PATIENCE);
        let mut left: Vec<&ChallengeRow> = rows.iter().collect();
        loop {
            let looks = servers.iter().map(|server| challenge::standing(*server, left.iter().map(|row| &row.record)));
            let looks = join_all(looks).await;
            let gone = |row: &&ChallengeRow| {
                looks.iter().all(|look| look.as_ref().is_ok_and(|standing| !standing.has(&row.record)))
            };
            let (gone, standing): (Vec<_>, Vec<_>) = left.into_iter().partition(gone);
            self.state.forget_challenge_records(&gone)?;
            if standing.is_empty() {
                return Ok(());
            }
            let wait = pace.next().ok_or_else(|| {
                let says = format!("a server still gives {}", standing[0].record.name);
                StepFailure::new(says, "run settle again")
            })?;
            self.waits.sleep(wait).await;
            left = standing;
        }
    }

    /// The place of each name of a certificate, each once.
    pub(crate) async fn challenge_places(&self, id: CertificateId) -> Result<Vec<(Hostname, Place)>, StepFailure> {
        let places = stream::iter(self.desired.certificate(id).names.clone())
            .map(|name| async move {
                let place = self.challenge_place(&name.challenge_name()).await;
                place.map(|place| (name, place))
            })
            .buffered(LOOKUPS_AT_ONCE);
        places.try_collect().await
    }
}
