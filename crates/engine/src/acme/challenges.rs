//! The custodian of challenge records: where they belong, put there, waited for, and cleared.
//!
//! Every record is stored before it is put into a zone and forgotten only once no server gives
//! it. Whatever an order comes to, its records are deleted at once where that works, and
//! cleared for certain at the end of the run, or of a later one.

use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use futures::future::join_all;
use futures::{StreamExt as _, TryStreamExt as _, stream};
use pindrel_core::certificates::acme::order::ChallengeRecord;
use pindrel_core::desired::{CertificateId, ZoneId};
use pindrel_core::judging::facts::{ChallengeTarget, Unreachable};
use pindrel_core::judging::findings::{
    Again, Cause, CertificateCause, ChallengeFault, Code, Finding, Report, ZoneCause, servers_in_words,
};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::{PinState, judge_zone};
use pindrel_core::names::name::{DnsName, Hostname, in_words};
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{ZoneChange, ZoneRecord};
use pindrel_state::{ChallengeRow, Claim, OrderRow};

use crate::context::Context;
use crate::context::progress::{Backoff, Wait, seconds_from};
use crate::failure::{EngineError, state_failed};
use crate::home::hostnames::Hostnames;
use crate::observe::alias::AliasObserver;
use crate::observe::survey::Surveyor;
use crate::observe::zone::ZoneObserver;

/// How many challenge values one name has at most, unless a single order needs more. So many fit, with an alias before
/// them, into the 512 octets that every implementation takes over UDP (RFC 1035 §4.2.1): one authority was seen not
/// to look beyond those. Some name servers limit the number of records that a name may have.
const MOST_VALUES: usize = 6;
/// How long the servers of a zone may take to stop giving a challenge record.
const CLEAR: Duration = Duration::from_secs(60);
/// The pause from which on a person is told that this is waited for.
const TOLD: Duration = Duration::from_millis(500);

/// The challenge records of one order on their way to every server.
pub(crate) struct Publication {
    /// The servers that do not give all records yet, with those they lack.
    left: Vec<(SocketAddr, Vec<ZoneRecord>)>,
    /// How many there are in all.
    servers: usize,
    /// When the records were put into their zones.
    made: Duration,
    /// How long to wait at least after that.
    least: Duration,
}

/// A server with the records that it lacks, and why where it does not answer.
type Look = ((SocketAddr, Vec<ZoneRecord>), Option<Unreachable>);

/// How many names of one certificate are looked at side by side.
pub(crate) const LOOKUPS_AT_ONCE: usize = 16;

/// Challenge records: where they belong, and putting them there and taking them away.
pub(crate) struct Challenges {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) surveyor: Arc<Surveyor>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Challenges {
    /// Finds where the challenge record of a name belongs: found once a run.
    async fn target(&self, name: &DnsName) -> Result<ChallengeTarget, Finding> {
        if let Some(target) = self.context.known().challenge_targets.get(name) {
            return Ok(target.clone());
        }
        let zone = self.context.desired.zone_at(name);
        let resolvers = zone.map_or_else(Vec::new, |zone| self.zones.resolvers(zone));
        self.zones.know_all().await?;
        let servers_of = |at: &DnsName| self.context.desired.zone_at(at).map(|zone| self.zones.servers(zone));
        let owner = self.context.drivers.lookups().challenge_owner(name, &servers_of, &resolvers).await;
        let owner = owner.map_err(|error| {
            let again = match error {
                pindrel_dns::challenge::PlaceError::Unseen { .. } => Again::Now,
                _ => Again::Person,
            };
            Finding::reported(Report::new(Code::ChallengeMisplaced, error.to_string(), error.remedy()).again(again))
        })?;
        let zone = self.context.desired.zone_at(&owner);
        let zone = zone.ok_or_else(|| misplaced(&owner, ChallengeFault::OutsideManifest { owner: owner.clone() }))?;
        let target = ChallengeTarget { owner, zone };
        // Somebody else may lead it elsewhere at any moment.
        if !self.context.desired.is_handed_off(zone) {
            self.context.known().challenge_targets.insert(name.clone(), target.clone());
        }
        Ok(target)
    }

    /// What is waited for before a certificate is ordered: challenge names that somebody else leads to a zone
    /// that Pindrel changes.
    pub(crate) async fn await_names(&self, id: CertificateId) -> Result<Option<Wait>, Finding> {
        let names = &self.context.desired.certificate(id).names;
        let zone = |name: &Hostname| self.context.desired.zone_at(&name.challenge_name());
        if !names.iter().any(|name| zone(name).is_some_and(|zone| self.context.desired.is_handed_off(zone))) {
            return Ok(None);
        }
        let targets = self.targets(id).await?;
        let mut awaited = targets.iter().filter(|(_, target)| self.context.desired.is_handed_off(target.zone));
        Ok(awaited.find_map(|(hostname, target)| {
            let (zone, challenge) = (&self.context.desired.zone(target.zone).name, hostname.challenge_name());
            let wanted = self.context.desired.challenge_delegation(&challenge)?;
            Some(Wait {
                until: None,
                topic: "handoff",
                what: format!("somebody else to make {challenge} an alias of {wanted} (pindrel handoff {hostname})"),
                within: None,
                finding: misplaced(
                    zone,
                    ChallengeFault::Awaited { hostname: hostname.clone(), challenge, target: wanted },
                ),
            })
        }))
    }

    /// Where the challenge records of a certificate belong, for each of its names.
    pub(crate) async fn targets(&self, id: CertificateId) -> Result<Vec<(Hostname, ChallengeTarget)>, Finding> {
        let targets = stream::iter(self.context.desired.certificate(id).names.clone())
            .map(|name| async move {
                let target = self.target(&name.challenge_name()).await;
                target.map(|target| (name, target))
            })
            .buffered(LOOKUPS_AT_ONCE);
        targets.try_collect().await
    }

    /// Refuses a zone whose challenge records an authority would not see.
    pub(crate) async fn check_zone(&self, target: &ChallengeTarget) -> Result<(), Finding> {
        self.zones.know(target.zone).await?;
        let zone = self.context.desired.zone(target.zone);
        let report = self.context.zone_fact(target.zone).map(|fact| judge_zone(zone, &fact));
        let blocked = report.filter(|report| report.state == PinState::Blocked);
        let finding = blocked.and_then(|report| report.findings.into_iter().next());
        match finding.as_ref().map(Finding::cause) {
            Some(Cause::Zone(cause)) => {
                let because = Box::new(cause.clone());
                Err(misplaced(&zone.name, ChallengeFault::Hidden { because, owner: target.owner.clone() }))
            }
            _ => Ok(()),
        }
    }

    /// Puts the challenge records of an order into their zones, once, and looks whether every
    /// authoritative server gives them; `None` once all do.
    pub(crate) async fn publish(
        &self,
        row: &OrderRow,
        records: &[ChallengeRecord],
        publication: &mut Option<Publication>,
        claim: &Claim,
    ) -> Result<Option<Wait>, Finding> {
        let made = match publication {
            Some(made) => made,
            None => {
                let shared = self.shared_challenge_names(records).await?;
                // One order after another, so that each sees the values of those before.
                let mut turns = Vec::with_capacity(shared.len());
                for target in &shared {
                    turns.push(self.context.claim_in_time(&format!("challenge {}", target.owner)).await?);
                }
                let put = async {
                    match self.await_room(&shared, records).await? {
                        Some(wait) => Ok(Err(wait)),
                        None => self.put(row, records, claim).await.map(Ok),
                    }
                };
                let put: Result<Result<Publication, Wait>, Finding> = put.await;
                for turn in turns {
                    turn.release().await;
                }
                match put? {
                    Ok(made) => publication.insert(made),
                    Err(wait) => return Ok(Some(wait)),
                }
            }
        };
        let is_urgent = match self.context.desired.certificate_named(&row.certificate) {
            Some(id) => {
                self.context.held_certificate(id).is_some_and(|held| held.is_near_its_end(self.context.clock.now()))
            }
            None => false,
        };
        if let Some(wait) = self.look_for(made, is_urgent).await {
            return Ok(Some(wait));
        }
        let elapsed = self.context.clock.elapsed().saturating_sub(made.made);
        if let Some(left) = made.least.checked_sub(elapsed).filter(|left| !left.is_zero()) {
            let secs = i64::try_from(left.as_secs()).unwrap_or(i64::MAX).saturating_add(1);
            return Ok(Some(Wait {
                until: Some(seconds_from(self.context.clock.now(), secs)),
                topic: "least wait",
                what: format!("{} s to pass since the challenge records were made", made.least.as_secs()),
                within: None,
                finding: Finding::certificate(
                    &row.certificate,
                    CertificateCause::ChallengesTooYoung { least_secs: made.least.as_secs() },
                ),
            }));
        }
        Ok(None)
    }

    /// The names where challenges of other orders may stand as well: those that challenge names are aliases of.
    async fn shared_challenge_names(&self, records: &[ChallengeRecord]) -> Result<Vec<ChallengeTarget>, Finding> {
        let mut shared = BTreeMap::new();
        for record in records {
            let target = self.target(&record.name).await?;
            if target.owner != record.name {
                shared.insert(target.owner.clone(), target);
            }
        }
        // In one order everywhere: nobody waits for somebody who waits for them.
        Ok(shared.into_values().collect())
    }

    /// What is waited for before more values are put at a name that has many; those of orders that have ended go first.
    async fn await_room(
        &self,
        shared: &[ChallengeTarget],
        records: &[ChallengeRecord],
    ) -> Result<Option<Wait>, Finding> {
        let own: BTreeSet<&str> = records.iter().map(|record| record.text.as_str()).collect();
        for ChallengeTarget { owner, zone } in shared {
            let mut others = self.zones.texts_at(*zone, owner).await.unwrap_or_default();
            others.retain(|text| !own.contains(text.as_str()));
            let is_full = |others: &BTreeSet<String>| !others.is_empty() && others.len() + own.len() > MOST_VALUES;
            if is_full(&others) {
                let rows = self.context.state.challenges(None).await.map_err(state_failed)?.into_iter();
                let ended =
                    rows.map(|row| row.record).filter(|record| record.name == *owner && others.contains(&record.text));
                let ended: Vec<ZoneRecord> = ended.map(|record| record.in_zone(Ttl::CHALLENGE)).collect();
                if !ended.is_empty() {
                    let driver = self.zones.driver(*zone, None).await?;
                    let gone = driver.change(&ZoneChange::Delete(ended)).await;
                    gone.map_err(|error| error.finding(Pin::Certificate))?;
                    others = self.zones.texts_at(*zone, owner).await.unwrap_or_default();
                    others.retain(|text| !own.contains(text.as_str()));
                }
            }
            if is_full(&others) {
                return Ok(Some(Wait {
                    until: None,
                    topic: "challenge",
                    what: format!("orders before to be done, whose challenge records are at {owner}"),
                    within: None,
                    finding: misplaced(owner, ChallengeFault::NameFull { owner: owner.clone(), records: others.len() }),
                }));
            }
        }
        Ok(None)
    }

    async fn put(&self, row: &OrderRow, records: &[ChallengeRecord], claim: &Claim) -> Result<Publication, Finding> {
        let mut zones: BTreeMap<ZoneId, Vec<ChallengeRecord>> = BTreeMap::new();
        for record in records {
            let ChallengeTarget { owner, zone } = self.target(&record.name).await?;
            zones.entry(zone).or_default().push(ChallengeRecord { name: owner, text: record.text.clone() });
        }
        for (zone, records) in &zones {
            let owners: BTreeSet<&DnsName> = records.iter().map(|record| &record.name).collect();
            for owner in owners {
                self.keep_answered(*zone, owner, claim).await?;
            }
            let name = &self.context.desired.zone(*zone).name;
            let rows: Vec<ChallengeRow> =
                records.iter().map(|record| ChallengeRow { zone: name.clone(), record: record.clone() }).collect();
            self.context.state.record_challenges(claim, row.id, &rows).await.map_err(state_failed)?;
        }
        let least = zones.keys().map(|zone| self.context.desired.zone(*zone).least_wait).max().unwrap_or_default();
        // Each to its end, also where another fails: a change that is under way must not come
        // after the clearing.
        let puts = zones.into_iter().map(async |(zone, records)| {
            let servers = self.zones.servers(zone);
            let ttl = self.context.desired.zone(zone).challenge_ttl;
            let records: Vec<ZoneRecord> = records.iter().map(|record| record.in_zone(ttl)).collect();
            let driver = self.context.drivers.zone(self.context.desired.zone(zone), &servers)?;
            let put = driver.change(&ZoneChange::Add(records.clone())).await;
            put.map_err(|error| error.finding(Pin::Certificate))?;
            Ok::<_, Finding>(servers.into_iter().map(move |server| (server, records.clone())))
        });
        let put = async { join_all(puts).await.into_iter().collect::<Result<Vec<_>, Finding>>() };
        let put = self.context.journalled("challenge-put", &row.certificate, &in_words(&row.names), put).await?;
        let left: Vec<_> = put.into_iter().flatten().collect();
        Ok(Publication { servers: left.len(), left, made: self.context.clock.elapsed(), least })
    }

    /// Looks which servers still lack a record. Where it is urgent, one that is down is not waited for while others
    /// have it.
    async fn look_for(&self, publication: &mut Publication, is_urgent: bool) -> Option<Wait> {
        let looks = std::mem::take(&mut publication.left).into_iter().map(|(server, records)| async move {
            match self.context.drivers.lookups().lacking(server, &records).await {
                Ok(lacking) => ((server, lacking), None),
                Err(why) => ((server, records), Some(why)),
            }
        });
        let mut looks = join_all(looks).await;
        let is_left = |((_, lacking), _): &Look| !lacking.is_empty();
        let is_down = |(_, why): &Look| why.is_some();
        let (left, down) =
            (looks.iter().filter(|look| is_left(look)).count(), looks.iter().filter(|look| is_down(look)).count());
        if is_urgent && down > 0 && left == down && left < publication.servers {
            let (silent, answering): (Vec<Look>, Vec<Look>) = looks.into_iter().partition(is_down);
            looks = answering;
            let silent: Vec<_> = silent.into_iter().map(|((server, _), why)| (server, why)).collect();
            let silent = servers_in_words(&silent);
            self.context.note(format!("{silent} is not waited for: the certificate is near its end"));
        }
        // A server may lack records of several zones.
        let mut servers: BTreeMap<SocketAddr, Option<Unreachable>> = BTreeMap::new();
        publication.left = Vec::new();
        for ((server, lacking), why) in looks.into_iter().filter(is_left) {
            servers.insert(server, why);
            publication.left.push((server, lacking));
        }
        let (_, lacking) = publication.left.first()?;
        let owner = lacking[0].owner.clone();
        let servers: Vec<_> = servers.into_iter().collect();
        Some(Wait {
            until: None,
            topic: "challenge",
            what: format!("{} to return the challenge record", servers_in_words(&servers)),
            within: Some(self.context.bounds.patience),
            finding: misplaced(
                &owner.clone(),
                ChallengeFault::NotReturned { owner, servers, after_secs: self.context.bounds.patience.as_secs() },
            ),
        })
    }

    /// Deletes an order's challenge records; that they are gone from every server is checked
    /// at the end of the run, which also tells what fails here.
    pub(crate) async fn remove(&self, row: &OrderRow) {
        if let Err(finding) = self.try_to_remove_challenges(row).await {
            tracing::warn!(certificate = row.certificate, why = finding.says(), "challenge records not cleared yet");
        }
    }

    async fn try_to_remove_challenges(&self, row: &OrderRow) -> Result<(), Finding> {
        let mut zones: BTreeMap<DnsName, Vec<ZoneRecord>> = BTreeMap::new();
        for ChallengeRow { zone, record } in self.context.state.challenges(Some(row.id)).await.map_err(state_failed)? {
            zones.entry(zone).or_default().push(record.in_zone(Ttl::CHALLENGE));
        }
        for (zone, records) in zones {
            self.context
                .journalled("challenge-clear", &row.certificate, zone.as_str(), async {
                    let Some(id) = self.context.desired.zone_named(&zone) else { return Ok(()) };
                    let driver = self.context.drivers.zone(self.context.desired.zone(id), &self.zones.servers(id))?;
                    let deleted = driver.change(&ZoneChange::Delete(records)).await;
                    deleted.map_err(|error| error.finding(Pin::Certificate))
                })
                .await?;
        }
        Ok(())
    }

    /// Clears the challenge records of all orders that have ended, by exact value, and
    /// waits until no server gives them.
    pub(crate) async fn clear_records(&self) -> Result<(), EngineError> {
        let mut zones: BTreeMap<DnsName, Vec<ChallengeRow>> = BTreeMap::new();
        for row in self.context.state.challenges(None).await? {
            zones.entry(row.zone.clone()).or_default().push(row);
        }
        for (zone, rows) in zones {
            if let Err(finding) = self.clear_zone(&zone, rows).await {
                self.context.note(format!(
                    "challenge records remain in {zone}: {}. {}",
                    finding.says(),
                    finding.remedy()
                ));
            }
        }
        Ok(())
    }

    async fn clear_zone(&self, zone: &DnsName, rows: Vec<ChallengeRow>) -> Result<(), Finding> {
        let id = self.context.desired.zone_named(zone).ok_or_else(|| misplaced(zone, ChallengeFault::ZoneGone))?;
        if self.context.desired.is_handed_off(id) {
            // Whoever made them may let them be: the authority asks for others next time.
            return self.context.state.forget_challenges(&rows).await.map_err(state_failed);
        }
        self.zones.load(id).await?;
        let mut working = self.context.waits.work(self.context.clock.as_ref());
        let servers = self.zones.servers(id);
        let driver = self.context.drivers.zone(self.context.desired.zone(id), &servers)?;
        let records = |rows: &[ChallengeRow]| -> Vec<ZoneRecord> {
            rows.iter().map(|row| row.record.in_zone(Ttl::CHALLENGE)).collect()
        };
        let deleted = driver.change(&ZoneChange::Delete(records(&rows))).await;
        deleted.map_err(|error| error.finding(Pin::Certificate))?;
        let within = CLEAR.min(self.context.bounds.patience);
        let mut pauses = Backoff::begin(self.context.clock.elapsed());
        let (mut left, mut is_told) = (rows, false);
        loop {
            let asked = records(&left);
            let looks = servers.iter().map(|server| self.context.drivers.lookups().remaining(*server, &asked));
            let looks = join_all(looks).await;
            let is_gone = |row: &ChallengeRow| {
                let record = row.record.in_zone(Ttl::CHALLENGE);
                looks.iter().all(|look| look.as_ref().is_ok_and(|remaining| !remaining.contains(&record)))
            };
            let (gone, remaining): (Vec<_>, Vec<_>) = left.into_iter().partition(is_gone);
            self.context.state.forget_challenges(&gone).await.map_err(state_failed)?;
            if remaining.is_empty() {
                return Ok(());
            }
            let Some(pause) = pauses.next(within, self.context.clock.elapsed()) else {
                let owner = remaining[0].record.name.clone();
                return Err(misplaced(zone, ChallengeFault::StillReturned { owner }));
            };
            if pause >= TOLD && !is_told {
                is_told = true;
                self.context.note(format!(
                    "waiting until every server of {zone} has dropped the challenge records, {} s at most",
                    within.as_secs()
                ));
            }
            drop(working);
            self.context.waits.pause(self.context.clock.as_ref(), pause).await;
            working = self.context.waits.work(self.context.clock.as_ref());
            left = remaining;
        }
    }
}

/// Why a challenge record cannot be placed or seen, in or below a zone.
pub(super) fn misplaced(zone: &DnsName, fault: ChallengeFault) -> Finding {
    Finding::zone(zone, ZoneCause::Challenge(fault))
}
